package samlside

import (
	"cmp"
	"crypto/rsa"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Checks looks at what only SAML providers have.
func (p *Provider) Checks(c *checks.Checker, r federation.Record, l *checks.List) {
	idp := p.IDP
	binding, _ := p.binding()
	if _, ok := idp.SSOBy(binding); !ok && len(idp.SSO) > 0 {
		l.Add(finding.New(finding.BindingNoneCommon,
			finding.Compare(labelSSO, cmp.Or(short(binding), "HTTP-Redirect or HTTP-POST"), bindings(idp.SSO))))
	}
	if p.UseArtifact && len(idp.Artifact) == 0 {
		l.Add(finding.New(finding.BindingNoneCommon, finding.Compare(labelArtifact, "HTTP-Artifact, as useArtifact asks",
			"none")))
	}
	if p.AskNameIDFormat != "" && len(idp.NameIDFormats) > 0 && !offers(idp.NameIDFormats, p.AskNameIDFormat) {
		l.Add(finding.New(finding.NameIDNoneCommon, finding.Compare("NameIDFormat", p.AskNameIDFormat,
			strings.Join(texts(idp.NameIDFormats), ", "))))
	}
	algorithms(l, idp.Algorithms, p.AllowSHA1)
	exceptions(l, map[string]bool{"allowSHA1": p.AllowSHA1, "allowCBC": p.AllowCBC})
	moving(l, r.Basic(), p.FormerEntityID, p.face(&c.Snap.Gate).EntityID)
	if told := p.Address; told != "" && told != rebased(c.Snap.Gate.Base, told) {
		l.Add(finding.New(finding.BaseChanged, finding.Compare("Assertion consumer service, as it was given out", told,
			rebased(c.Snap.Gate.Base, told))))
	}
	c.Keys(l, p.Keys(), p.StrictCertificates)
}

// Checks looks at what only SAML applications have, and at the way from one to
// the providers that serve it.
func (a *Application) Checks(c *checks.Checker, r federation.Record, l *checks.List) {
	app, sp := r.(*federation.Application), a.SP
	switch e, usable := sp.DefaultACS(); {
	case usable && e.Binding == saml.BindingArtifact:
		f := finding.New(finding.ArtifactOnly, finding.Fact(labelACS, e.Location))
		if len(saml.SigningKeys(sp.Keys)) == 0 {
			f = f.With(finding.Fact("Signing key on record", "none: nobody can tell its ArtifactResolve from a stranger's"))
			f.Severity = finding.Error
		}
		l.Add(f)
	case usable || len(sp.ACS) == 0:
	default:
		l.Add(finding.New(finding.BindingNoneCommon, finding.Compare(labelACS, "HTTP-POST or HTTP-Artifact",
			bindings(sp.ACS))))
	}
	if app.OnlyOwnStarts && app.OwnStart == "" {
		f := finding.New(finding.OwnStartMissing)
		if sp.Start != "" {
			f = f.With(finding.Fact("RequestInitiator in its metadata", sp.Start))
		}
		l.Add(f)
	}
	if sp.AuthnRequestsSigned && len(saml.SigningKeys(sp.Keys)) == 0 {
		l.Add(finding.New(finding.RequestsSignedNoKey))
	}
	if a.RequireSignedRequests && !sp.AuthnRequestsSigned {
		l.Add(finding.New(finding.RequestsUnsigned, finding.Compare("AuthnRequestsSigned", "true", "false")))
	}
	if sp.WantAssertionsSigned && a.Sign == SignResponse {
		l.Add(finding.New(finding.AssertionUnsigned, finding.Fact("sign", a.Sign)))
	}
	a.cheaper(c, app, l)
	a.encryption(l)
	algorithms(l, sp.Algorithms, a.AllowSHA1)
	exceptions(l, map[string]bool{"allowSHA1": a.AllowSHA1})
	if a.OwnFace {
		moving(l, r.Basic(), a.FormerEntityID, a.OwnEntityID)
	}
	c.Keys(l, a.Keys(), false)
	a.formats(c, app, l)
	c.BothSides(l, app)
}

// offered are the NameID formats of providers; open if one names none.
type offered struct {
	formats []saml.NameIDFormat
	open    bool
}

func (o *offered) add(p *federation.Provider) {
	side, ok := p.Side.(*Provider)
	if !ok || len(side.IDP.NameIDFormats) == 0 {
		o.open = true // nothing is known of what it names people by
		return
	}
	o.formats = append(o.formats, side.IDP.NameIDFormats...)
}

// formats sees whether a NameID format that the application wants can be had.
func (a *Application) formats(c *checks.Checker, r *federation.Application, l *checks.List) {
	want := a.SP.NameIDFormats
	if a.NameIDFormat != "" {
		want = []saml.NameIDFormat{a.NameIDFormat}
	}
	o := checks.Once(c, "NameID formats", func() offered {
		var all offered
		for _, p := range c.Snap.Providers() {
			if phase, _ := p.PhaseAt(c.Now); phase.Passes() {
				all.add(p)
			}
		}
		slices.Sort(all.formats)
		all.formats = slices.Compact(all.formats)
		return all
	})
	if p, tied := c.Snap.Provider(r.Provider); tied {
		o = offered{}
		o.add(p)
	}
	can := func(format saml.NameIDFormat) bool {
		switch format {
		case saml.FormatPersistent, saml.FormatTransient, saml.FormatUnspecified: // the gate makes these itself
			return true
		}
		return o.open || offers(o.formats, format)
	}
	if len(want) > 0 && !slices.ContainsFunc(want, can) {
		l.Add(finding.New(finding.NameIDNoneCommon, finding.Compare("NameIDFormat", strings.Join(texts(want), ", "),
			strings.Join(texts(o.formats), ", "))))
	}
}

func offers(formats []saml.NameIDFormat, format saml.NameIDFormat) bool {
	return slices.Contains(formats, format) || slices.Contains(formats, saml.FormatUnspecified)
}

// cheaper tells where answers are signed by RSA though the metadata announces that ECDSA is verified.
func (a *Application) cheaper(c *checks.Checker, r *federation.Application, l *checks.List) {
	_, announced := a.VerifiesEC()
	_, set := a.face(&c.Snap.Gate, r, a.byShared())
	if !announced || set.Current == nil {
		return
	}
	if _, is := set.Current.Certificate.Public.(*rsa.PublicKey); is {
		l.Add(finding.New(finding.ECDSAAnnounced, finding.Fact("SigningMethod", xmlsec.ECDSASHA256),
			finding.Fact("Signed by", set.Current.Certificate.Describe())))
	}
}

// algorithms looks at what the metadata announces: SHA-1 only, for signatures or
// for digests.
func algorithms(l *checks.List, announced []string, allowed bool) {
	var signatures, digests []string
	for _, m := range announced {
		if xmlsec.IsSignatureMethod(m) {
			signatures = append(signatures, m)
		} else if xmlsec.IsDigestMethod(m) {
			digests = append(digests, m)
		}
	}
	for label, ms := range map[string][]string{"SigningMethod": signatures, "DigestMethod": digests} {
		if len(ms) == 0 || slices.ContainsFunc(ms, func(m string) bool { return !xmlsec.RestsOnSHA1(m) }) {
			continue
		}
		f := finding.New(finding.AlgorithmsSHA1, finding.Fact(label, strings.Join(ms, ", ")))
		if allowed {
			f.Severity = finding.Warning
		}
		l.Add(f)
	}
}

// moving tells that the other side has to change the gate's entity ID, and whom to
// tell.
func moving(l *checks.List, b *federation.Basics, former, now saml.EntityID) {
	if former == "" || former == now {
		return
	}
	l.Add(finding.New(finding.EntityIDMoving, finding.Compare("Entity ID of the gate", now, former),
		finding.Fact("To be told", cmp.Or(b.Contact, "its administrator (no contact is noted)"))))
}

// exceptions tells of those that are in force.
func exceptions(l *checks.List, settings map[string]bool) {
	for _, name := range slices.Sorted(maps.Keys(settings)) {
		if settings[name] {
			l.Add(finding.New(finding.ExceptionInForce, finding.Fact("Setting", name)))
		}
	}
}

func (a *Application) encryption(l *checks.List) {
	if !a.Encrypt {
		return
	}
	ks := a.SP.EncryptionKeys()
	if len(ks) == 0 {
		l.Add(finding.New(finding.EncryptionNoKey))
		return
	}
	if ms := ks[0].Methods; len(ms) > 0 && !xmlsec.CanEncrypt(ms) {
		l.Add(finding.New(finding.EncryptionNoneCommon, finding.Compare("EncryptionMethod",
			strings.Join(xmlsec.EncryptionMethods(), ", "), strings.Join(ms, ", "))))
	}
}

func bindings(es []saml.Endpoint) string {
	var out []string
	for _, e := range es {
		out = append(out, short(e.Binding))
	}
	return strings.Join(slices.Compact(out), ", ")
}

// as are identifiers of another type.
func as[U, T ~string](in []T) (out []U) {
	for _, x := range in {
		out = append(out, U(x))
	}
	return out
}

// texts are identifiers as they are written.
func texts[T ~string](in []T) []string { return as[string](in) }

func short(urn string) string { return urn[strings.LastIndex(urn, ":")+1:] }
