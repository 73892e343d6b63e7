package checks

import (
	"cmp"
	"fmt"
	"net"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"golang.org/x/net/publicsuffix"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// How long ahead an end is told of.
const (
	certificateAhead = 30 * 24 * time.Hour
	metadataAhead    = 7 * 24 * time.Hour
)

// Checker checks the records of one snapshot at one time.
type Checker struct {
	snap *federation.Snapshot
	now  time.Time
	all  func() *overview
}

// overview is what checks across records look things up in.
type overview struct {
	near    map[string][]record // by entity ID, reduced to what must not be the only difference
	keys    map[string]string   // whose a key is, by its fingerprint: providers that serve untied applications
	gate    map[string]string   // the gate's own
	formats map[string]bool     // NameID formats that some enabled provider offers
	open    bool                // some enabled provider names no format at all
}

type record struct{ kind, name, entityID string }

// New makes a checker.
func New(snap *federation.Snapshot, now time.Time) *Checker {
	c := &Checker{snap: snap, now: now}
	c.all = sync.OnceValue(c.survey)
	return c
}

func (c *Checker) survey() *overview {
	o := &overview{near: map[string][]record{}, keys: map[string]string{}, gate: map[string]string{}, formats: map[string]bool{}}
	g := &c.snap.Gate
	for what, set := range map[string]federation.KeySet{"signs answers": g.IDPKeys, "signs requests": g.SPKeys, "is encrypted to": g.EncKeys} {
		for _, p := range set.All() {
			if p != nil {
				o.gate[p.Certificate.Fingerprint()] = what
			}
		}
	}
	for _, p := range c.snap.Providers() {
		r := record{"provider", string(p.Name), p.EntityID()}
		o.near[reduced(r.entityID)] = append(o.near[reduced(r.entityID)], r)
		if !p.Enabled {
			continue
		}
		for _, k := range p.SAML.IDP.Keys {
			o.keys[k.Certificate.Fingerprint()] = string(p.Name)
		}
		o.open = o.open || len(p.SAML.IDP.NameIDFormats) == 0
		for _, f := range p.SAML.IDP.NameIDFormats {
			o.formats[f] = true
		}
	}
	for _, a := range c.snap.Applications() {
		r := record{"application", string(a.Name), a.EntityID()}
		o.near[reduced(r.entityID)] = append(o.near[reduced(r.entityID)], r)
	}
	return o
}

// Provider gives the findings on a provider, worst first.
func (c *Checker) Provider(p *federation.Provider) []*finding.Finding {
	l := list{side: finding.Provider, now: c.now}
	idp := p.SAML.IDP
	l.missing(idp.Missing())
	l.intake(p.SAML.Intake)
	c.entityID(&l, record{"provider", string(p.Name), idp.EntityID}, false)
	l.addresses("SingleSignOnService", idp.SSO)
	binding := map[string]string{"redirect": saml.BindingRedirect, "post": saml.BindingPOST}[p.RequestBinding]
	if _, ok := idp.SSOBy(binding); !ok && len(idp.SSO) > 0 {
		l.add(finding.New(finding.BindingNoneCommon, finding.Compare("SingleSignOnService", cmp.Or(short(binding), "HTTP-Redirect or HTTP-POST"), bindings(idp.SSO))))
	}
	if p.UseArtifact && len(idp.Artifact) == 0 {
		l.add(finding.New(finding.BindingNoneCommon, finding.Compare("ArtifactResolutionService", "HTTP-Artifact, as useArtifact asks", "none")))
	}
	if p.AskNameIDFormat != "" && len(idp.NameIDFormats) > 0 && !offers(idp.NameIDFormats, p.AskNameIDFormat) {
		l.add(finding.New(finding.NameIDNoneCommon, finding.Compare("NameIDFormat", p.AskNameIDFormat, strings.Join(idp.NameIDFormats, ", "))))
	}
	l.algorithms(idp.Algorithms, p.AllowSHA1)
	c.keys(&l, idp.Keys, p.StrictCertificates)
	return l.sorted()
}

// Application gives the findings on an application and on the way from it to the
// providers that serve it, worst first.
func (c *Checker) Application(a *federation.Application) []*finding.Finding {
	l := list{side: finding.Application, now: c.now}
	sp := a.SAML.SP
	l.missing(sp.Missing())
	l.intake(a.SAML.Intake)
	c.entityID(&l, record{"application", string(a.Name), sp.EntityID}, a.OwnFace)
	l.addresses("AssertionConsumerService", sp.ACS)
	l.hosts(a)
	switch _, byPOST := sp.DefaultACS(); {
	case byPOST || len(sp.ACS) == 0:
	case !slices.ContainsFunc(sp.ACS, func(e saml.Endpoint) bool { return e.Binding != saml.BindingArtifact }):
		l.add(finding.New(finding.ArtifactOnly, finding.Fact("AssertionConsumerService", sp.ACS[0].Location)))
	default:
		l.add(finding.New(finding.BindingNoneCommon, finding.Compare("AssertionConsumerService", "HTTP-POST", bindings(sp.ACS))))
	}
	if a.OnlyOwnStarts && a.OwnStart == "" {
		f := finding.New(finding.OwnStartMissing)
		if sp.Start != "" {
			f = f.With(finding.Fact("RequestInitiator in its metadata", sp.Start))
		}
		l.add(f)
	}
	if sp.AuthnRequestsSigned && len(saml.SigningKeys(sp.Keys)) == 0 {
		l.add(finding.New(finding.RequestsSignedNoKey))
	}
	if a.RequireSignedRequests && !sp.AuthnRequestsSigned {
		l.add(finding.New(finding.RequestsUnsigned, finding.Compare("AuthnRequestsSigned", "true", "false")))
	}
	if sp.WantAssertionsSigned && a.Sign == federation.SignResponse {
		l.add(finding.New(finding.AssertionUnsigned, finding.Fact("sign", a.Sign)))
	}
	l.encryption(a)
	l.algorithms(sp.Algorithms, a.AllowSHA1)
	c.keys(&l, sp.Keys, false)
	c.across(&l, a)
	return l.sorted()
}

// across looks at the application together with the providers that serve it.
func (c *Checker) across(l *list, a *federation.Application) {
	want := a.SAML.SP.NameIDFormats
	if a.NameIDFormat != "" {
		want = []string{a.NameIDFormat}
	}
	p, tied := c.snap.Provider(a.Provider)
	whose := c.all().keys
	var offered []string
	open := c.all().open
	if tied {
		offered, open = p.SAML.IDP.NameIDFormats, len(p.SAML.IDP.NameIDFormats) == 0
		whose = map[string]string{}
		for _, k := range p.SAML.IDP.Keys {
			whose[k.Certificate.Fingerprint()] = string(p.Name)
		}
	} else {
		for f := range c.all().formats {
			offered = append(offered, f)
		}
		slices.Sort(offered)
	}
	can := func(format string) bool {
		switch format {
		case saml.FormatPersistent, saml.FormatTransient, saml.FormatUnspecified: // the gate makes these itself
			return true
		}
		return open || offers(offered, format)
	}
	if len(want) > 0 && !slices.ContainsFunc(want, can) {
		l.add(finding.New(finding.NameIDNoneCommon, finding.Compare("NameIDFormat", strings.Join(want, ", "), strings.Join(offered, ", "))))
	}
	for _, k := range a.SAML.SP.Keys {
		if name, ok := whose[k.Certificate.Fingerprint()]; ok {
			l.once(finding.New(finding.CertificateBothSides, finding.Fact("Also on record for", "the provider "+name), fingerprint(k.Certificate)))
		}
	}
}

func offers(formats []string, format string) bool {
	return slices.Contains(formats, format) || slices.Contains(formats, saml.FormatUnspecified)
}

// entityID compares with all other records.
func (c *Checker) entityID(l *list, r record, ownFace bool) {
	if r.entityID == "" {
		return
	}
	for _, o := range c.all().near[reduced(r.entityID)] {
		switch {
		case o.kind == r.kind && o.name == r.name:
		case o.entityID != r.entityID:
			l.add(finding.New(finding.EntityIDNear, finding.Compare("Entity ID of the "+o.kind+" "+o.name, o.entityID, r.entityID), finding.Fact("They differ by", Nearness(o.entityID, r.entityID))))
		case o.kind == r.kind:
			l.add(finding.New(finding.EntityIDTwice, finding.Fact("Entity ID", r.entityID), finding.Fact("Also on record as", o.kind+" "+o.name)))
		}
	}
}

// keys looks at every key, and at whose it is.
func (c *Checker) keys(l *list, ks []saml.Key, strict bool) {
	for _, k := range ks {
		cert := k.Certificate
		for _, f := range cert.Findings(l.now) {
			if strict && f.Code == finding.CertificateExpired {
				f = finding.New(finding.CertificatePast, f.Evidence...)
			}
			l.once(f)
		}
		if bits := keys.RSABits(cert.Public); bits > 0 && bits < 2048 {
			l.once(finding.New(finding.KeyWeak, finding.Fact("Key", cert.Describe()), fingerprint(cert)))
		}
		if what, ours := c.all().gate[cert.Fingerprint()]; ours {
			l.once(finding.New(finding.CertificateBothSides, finding.Fact("Also on record for", "the gate itself, which "+what+" with it"), fingerprint(cert)))
		}
		x := cert.X509
		if x == nil {
			continue
		}
		switch {
		case l.now.Before(x.NotBefore):
			l.once(finding.New(finding.CertificateNotYet, finding.Fact("Not before", x.NotBefore.UTC().Format(time.RFC3339)), fingerprint(cert)))
		case l.now.Before(x.NotAfter) && x.NotAfter.Sub(l.now) < certificateAhead:
			l.once(finding.New(finding.CertificateExpiring, finding.Fact("Not after", x.NotAfter.UTC().Format(time.RFC3339)), finding.Fact("Days left", fmt.Sprint(int(x.NotAfter.Sub(l.now).Hours()/24))), fingerprint(cert)))
		}
		if cert.Authority() {
			l.once(finding.New(finding.CertificateCA, finding.Fact("Subject", x.Subject.String()), finding.Fact("Key usage", "signs certificates, not messages"), fingerprint(cert)))
		}
		if cert.SignedWithSHA1() {
			trust := "by key: the certificate is self-signed, so nobody checks a chain"
			if x.Issuer.String() != x.Subject.String() {
				trust = "the gate trusts by key; the other side may check the chain to " + x.Issuer.String()
			}
			if strict {
				trust += "; strictCertificates looks at the dates only"
			}
			l.once(finding.New(finding.CertificateSHA1, finding.Fact("Signature algorithm", x.SignatureAlgorithm.String()), finding.Fact("Kind of trust", trust), fingerprint(cert)))
		}
	}
}

func fingerprint(c keys.Certificate) finding.Evidence {
	if c.DER == nil {
		return finding.Fact("Key SHA-256", c.Fingerprint())
	}
	return finding.Fact("SHA-256", c.SHA256())
}

// list gathers the findings on one record.
type list struct {
	side finding.Side
	now  time.Time
	all  []*finding.Finding
}

func (l *list) add(f *finding.Finding) { l.all = append(l.all, f.From(l.side)) }

// once leaves out what was said of the same thing before: one certificate often
// stands for signing and encryption.
func (l *list) once(f *finding.Finding) {
	if !slices.ContainsFunc(l.all, func(o *finding.Finding) bool { return o.Code == f.Code && slices.Equal(o.Evidence, f.Evidence) }) {
		l.add(f)
	}
}

var weight = map[finding.Severity]int{finding.Error: 0, finding.Warning: 1, finding.Note: 2}

func (l *list) sorted() []*finding.Finding { return Sort(l.all) }

// Sort puts findings in order, the worst first.
func Sort(fs []*finding.Finding) []*finding.Finding {
	slices.SortStableFunc(fs, func(a, b *finding.Finding) int { return weight[a.Severity] - weight[b.Severity] })
	return fs
}

func (l *list) missing(what []string) {
	if len(what) > 0 {
		l.add(finding.New(finding.DraftIncomplete, finding.Fact("Missing, from the "+string(l.side)+"'s administrator", strings.Join(what, "; "))))
	}
}

// intake looks at how the document came in.
func (l *list) intake(in federation.Intake) {
	if in.Written != "" {
		l.add(finding.New(finding.EntityIDNear, finding.Compare("Entity ID as written", strings.TrimSpace(in.Written), visible(in.Written)), finding.Fact("They differ by", "white space")))
	}
	switch left := in.ValidUntil.Sub(l.now); {
	case in.ValidUntil.IsZero():
	case left <= 0:
		l.add(finding.New(finding.MetadataExpired, finding.Fact("validUntil", in.ValidUntil.UTC().Format(time.RFC3339))))
	case left < metadataAhead:
		l.add(finding.New(finding.MetadataExpiring, finding.Fact("validUntil", in.ValidUntil.UTC().Format(time.RFC3339)), finding.Fact("Days left", fmt.Sprint(int(left.Hours()/24)))))
	}
	if xmlsec.RestsOnSHA1(in.SignatureMethod) || xmlsec.RestsOnSHA1(in.DigestMethod) {
		l.add(finding.New(finding.MetadataSHA1, finding.Fact("SignatureMethod", in.SignatureMethod), finding.Fact("DigestMethod", in.DigestMethod)))
	}
}

func visible(s string) string {
	return strings.NewReplacer(" ", "␠", "\t", "␉", "\n", "␊", "\r", "␍", "\u00a0", "⍽").Replace(s)
}

// addresses looks at endpoints each and in pairs.
func (l *list) addresses(label string, es []saml.Endpoint) {
	for i, e := range es {
		u, err := url.Parse(e.Location)
		if err != nil {
			continue
		}
		if u.Scheme == "http" && !loopback(u.Hostname()) {
			l.once(finding.New(finding.AddressPlain, finding.Compare(label, "https"+strings.TrimPrefix(e.Location, "http"), e.Location)))
		}
		for _, o := range es[:i] {
			if how := Nearness(o.Location, e.Location); how != "" {
				l.once(finding.New(finding.AddressNear, finding.Compare(label, o.Location, e.Location), finding.Fact("They differ by", how)))
			}
		}
	}
}

// hosts looks for addresses at hosts that the application is not known to own.
func (l *list) hosts(a *federation.Application) {
	var own []string
	if u, err := url.Parse(a.SAML.SP.EntityID); err == nil && u.Hostname() != "" {
		own = append(own, u.Hostname())
	}
	if u, err := url.Parse(a.OwnStart); err == nil && u.Hostname() != "" {
		own = append(own, u.Hostname())
	}
	named := strings.Fields(a.OwnHosts)
	own = append(own, named...)
	if len(own) == 0 {
		return
	}
	for _, e := range a.SAML.SP.ACS {
		u, err := url.Parse(e.Location)
		if err != nil || loopback(u.Hostname()) || slices.ContainsFunc(own, func(host string) bool { return sameOwner(host, u.Hostname()) }) {
			continue
		}
		f := finding.New(finding.AddressForeign, finding.Fact("AssertionConsumerService", e.Location), finding.Fact("Hosts it is known to own", strings.Join(own, ", ")))
		if len(named) > 0 {
			f.Severity = finding.Error
		}
		l.once(f)
	}
}

// sameOwner reports whether two hosts lie under one registrable domain.
func sameOwner(a, b string) bool {
	a, b = strings.ToLower(a), strings.ToLower(b)
	if a == b {
		return true
	}
	da, errA := publicsuffix.EffectiveTLDPlusOne(a)
	db, errB := publicsuffix.EffectiveTLDPlusOne(b)
	return errA == nil && errB == nil && da == db
}

func loopback(host string) bool {
	ip := net.ParseIP(host)
	return host == "localhost" || ip != nil && ip.IsLoopback()
}

// algorithms looks at what the metadata announces: SHA-1 only, for signatures or
// for digests.
func (l *list) algorithms(announced []string, allowed bool) {
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
		l.add(f)
	}
}

func (l *list) encryption(a *federation.Application) {
	if !a.Encrypt {
		return
	}
	ks := a.SAML.SP.EncryptionKeys()
	if len(ks) == 0 {
		l.add(finding.New(finding.EncryptionNoKey))
		return
	}
	if ms := ks[0].Methods; len(ms) > 0 && !xmlsec.CanEncrypt(ms) {
		l.add(finding.New(finding.EncryptionNoneCommon, finding.Compare("EncryptionMethod", strings.Join(xmlsec.EncryptionMethods(), ", "), strings.Join(ms, ", "))))
	}
}

func bindings(es []saml.Endpoint) string {
	var out []string
	for _, e := range es {
		out = append(out, short(e.Binding))
	}
	return strings.Join(slices.Compact(out), ", ")
}

func short(urn string) string { return urn[strings.LastIndex(urn, ":")+1:] }
