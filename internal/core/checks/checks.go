package checks

import (
	"cmp"
	"fmt"
	"maps"
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
	"innergate.example/innergate/internal/core/xmlsec"
)

// How long ahead an end is told of.
const (
	certificateAhead = 30 * 24 * time.Hour
	metadataAhead    = 7 * 24 * time.Hour
)

// Own is implemented by sides that have checks of their protocol's own.
type Own interface {
	// Checks adds what it finds on a record, which it is the side of.
	Checks(c *Checker, r federation.Record, l *List)
}

// Checker checks the records of one snapshot at one time.
type Checker struct {
	Snap *federation.Snapshot
	Now  time.Time
	// Arrived is what providers sent lately, as far as that is known; see Mapping.
	Arrived map[federation.Name]Arrived
	// Kept is what is kept with people and lets nobody in.
	Kept Kept
	all  func() *overview
	mu   sync.Mutex
	kept map[string]any
}

// overview is what checks across records look things up in.
type overview struct {
	near map[string][]known // by identity, reduced to what must not be the only difference
	keys map[string]string  // whose a key is, by its fingerprint: providers that serve untied applications
	gate map[string]string  // the gate's own
}

type known struct {
	kind                federation.Kind
	name, identity, key string
}

// New makes a checker.
func New(snap *federation.Snapshot, now time.Time) *Checker {
	c := &Checker{Snap: snap, Now: now, kept: map[string]any{}}
	c.all = sync.OnceValue(c.survey)
	return c
}

// Once gives what is the same for all records of the snapshot, made when it is
// first asked for.
func Once[T any](c *Checker, what string, make func() T) T {
	c.mu.Lock()
	defer c.mu.Unlock()
	if v, ok := c.kept[what]; ok {
		return v.(T)
	}
	v := make()
	c.kept[what] = v
	return v
}

func (c *Checker) survey() *overview {
	o := &overview{near: map[string][]known{}, keys: map[string]string{}, gate: map[string]string{}}
	for purpose, set := range c.Snap.Gate.Keys {
		for _, p := range set.All() {
			o.gate[p.Certificate.Fingerprint()] = c.Snap.Gate.Does(purpose)
		}
	}
	note := func(r federation.Record) {
		k := known{r.Kind(), string(r.Basic().Name), r.Part().Identity(), federation.KeyOf(r.Part())}
		if k.identity != "" {
			o.near[reduced(k.identity)] = append(o.near[reduced(k.identity)], k)
		}
	}
	for _, p := range c.Snap.Providers() {
		note(p)
		if c.passes(p) {
			for _, k := range p.Side.Keys() {
				o.keys[k.Certificate.Fingerprint()] = string(p.Name)
			}
		}
	}
	for _, a := range c.Snap.Applications() {
		note(a)
	}
	return o
}

// Record gives the findings on a record, and on the way from an application to
// the providers that serve it, worst first.
func (c *Checker) Record(r federation.Record) []*finding.Finding {
	l := &List{side: r.Kind().Side(), Now: c.Now}
	side := r.Part()
	l.missing(federation.Lacking(side.Missing()))
	l.intake(r.Basic())
	c.pilot(l, r)
	c.identity(l, r)
	l.addresses(side.Endpoints(), c.onLoopback())
	if a, ok := r.(*federation.Application); ok {
		l.hosts(a)
		c.spoken(l, a)
		c.way(l, a)
		if a.Attended() {
			c.access(l, a)
			c.roles(l, a)
		}
		if a.Side.OwnKeys() {
			l.ownKeys("app/"+string(a.Name), a.Keys)
		}
	}
	if p, ok := r.(*federation.Provider); ok {
		c.unused(l, p)
	}
	c.mapping(l, r)
	if own, ok := side.(Own); ok {
		own.Checks(c, r, l)
	}
	return Sort(l.all)
}

// BothSides looks for keys of an application that the providers which serve it
// have as well.
func (c *Checker) BothSides(l *List, a *federation.Application) {
	whose := c.all().keys
	if p, tied := c.Snap.Provider(a.Provider); tied {
		whose = map[string]string{}
		for _, k := range p.Side.Keys() {
			whose[k.Certificate.Fingerprint()] = string(p.Name)
		}
	}
	for _, k := range a.Side.Keys() {
		if name, ok := whose[k.Certificate.Fingerprint()]; ok {
			l.Once(finding.New(finding.CertificateBothSides, finding.Fact("Also on record for", "the provider "+name),
				fingerprint(k.Certificate)))
		}
	}
}

// identity compares with all other records.
func (c *Checker) identity(l *List, r federation.Record) {
	id := r.Part().Identity()
	if id == "" {
		return
	}
	if g := &c.Snap.Gate; r.Kind() == federation.KindProvider && (id == g.Base || g.Base != "" &&
		strings.HasPrefix(id, g.Base+"/") ||
		slices.Contains(slices.Collect(maps.Values(g.Own)), id)) {
		l.Add(finding.New(finding.ProviderIsGate, finding.Fact("Identity", id)))
	}
	for _, o := range c.all().near[reduced(id)] {
		switch {
		case o.kind == r.Kind() && o.name == string(r.Basic().Name):
		case o.identity != id:
			l.Add(finding.New(finding.EntityIDNear, finding.Compare(federation.IdentityWord(r.Part())+" of the "+string(o.kind)+
				" "+o.name, o.identity,
				id), finding.Fact("They differ by", Nearness(o.identity, id))))
		case o.kind == r.Kind() && o.key == federation.KeyOf(r.Part()):
			l.Add(finding.New(finding.EntityIDTwice, finding.Fact(federation.IdentityWord(r.Part()), id),
				finding.Fact("Also on record as",
					string(o.kind)+" "+o.name)))
		}
	}
}

// Keys looks at every key of a record, and at whose it is; with strict, dates
// of certificates that sign count.
func (c *Checker) Keys(l *List, ks []federation.Key, strict bool) {
	for _, k := range byKey(ks) {
		cert := k.Certificate
		use := finding.Fact("For", cmp.Or(k.Use, "signing and encryption"))
		signs := k.Use != "encryption"
		for _, f := range cert.Findings(l.Now) {
			if strict && signs && f.Code == finding.CertificateExpired {
				f = finding.New(finding.CertificatePast, f.Evidence...)
			}
			l.Add(f.With(use))
		}
		if bits := keys.RSABits(cert.Public); bits > 0 && bits < 2048 {
			l.Add(finding.New(finding.KeyWeak, finding.Fact("Key", cert.Describe()), use, fingerprint(cert)))
		}
		if what, ours := c.all().gate[cert.Fingerprint()]; ours {
			l.Add(finding.New(finding.CertificateOfGate, finding.Fact("Also on record for",
				"the gate itself, which "+what+" with it"), use, fingerprint(cert)))
		}
		if cert.X509 != nil {
			l.certificate(cert, use, strict && signs)
		}
	}
}

// byKey gives each key once, with all its uses.
func byKey(ks []federation.Key) (out []federation.Key) {
	for _, k := range ks {
		at := slices.IndexFunc(out, func(o federation.Key) bool {
			return o.Certificate.Fingerprint() == k.Certificate.Fingerprint() &&
				o.Certificate.SHA256() == k.Certificate.SHA256()
		})
		if at < 0 {
			out = append(out, k)
		} else if out[at].Use != k.Use {
			out[at].Use = ""
		}
	}
	return out
}

// certificate looks at what stands in a certificate.
func (l *List) certificate(cert keys.Certificate, use finding.Evidence, strict bool) {
	x := cert.X509
	switch {
	case l.Now.Before(x.NotBefore):
		l.Add(finding.New(finding.CertificateNotYet, finding.Fact("Not before", x.NotBefore.UTC().Format(time.RFC3339)),
			use, fingerprint(cert)))
	case l.Now.Before(x.NotAfter) && x.NotAfter.Sub(l.Now) < certificateAhead:
		l.Add(finding.New(finding.CertificateExpiring, finding.Fact("Not after", x.NotAfter.UTC().Format(time.RFC3339)),
			l.left(x.NotAfter), use, fingerprint(cert)))
	}
	if cert.Authority() {
		l.Add(finding.New(finding.CertificateCA, finding.Fact("Subject", x.Subject.String()),
			finding.Fact("Key usage", "signs certificates, not messages"), use, fingerprint(cert)))
	}
	if !cert.SignedWithSHA1() {
		return
	}
	trust := "by key: the certificate is self-signed, so nobody checks a chain"
	if x.Issuer.String() != x.Subject.String() {
		trust = "the gate trusts by key; the other side may check the chain to " + x.Issuer.String()
	}
	if strict {
		trust += "; strictCertificates looks at the dates only"
	}
	l.Add(finding.New(finding.CertificateSHA1, finding.Fact("Signature algorithm", x.SignatureAlgorithm.String()),
		finding.Fact("Kind of trust", trust), use, fingerprint(cert)))
}

// left tells how many days are left.
func (l *List) left(until time.Time) finding.Evidence {
	return finding.Passing("Days left", fmt.Sprint(int(until.Sub(l.Now).Hours()/24)))
}

func fingerprint(c keys.Certificate) finding.Evidence {
	if c.DER == nil {
		return finding.Fact("Key SHA-256", c.Fingerprint())
	}
	return finding.Fact("SHA-256", c.SHA256())
}

// List gathers the findings on one record.
type List struct {
	side finding.Side
	Now  time.Time
	all  []*finding.Finding
}

// Add adds a finding.
func (l *List) Add(f *finding.Finding) { l.all = append(l.all, f.From(l.side)) }

// Once leaves out what was said of the same thing before: one certificate often
// stands for signing and encryption.
func (l *List) Once(f *finding.Finding) {
	if !slices.ContainsFunc(l.all, func(o *finding.Finding) bool {
		return o.Code == f.Code && slices.Equal(o.Evidence, f.Evidence)
	}) {
		l.Add(f)
	}
}

// Sort puts findings in order, the worst first.
func Sort(fs []*finding.Finding) []*finding.Finding {
	slices.SortStableFunc(fs, func(a, b *finding.Finding) int { return a.Severity.Compare(b.Severity) })
	return fs
}

func (l *List) missing(what []string) {
	if len(what) > 0 {
		l.Add(finding.New(finding.DraftIncomplete, finding.Fact("Missing, from the "+string(l.side)+"'s administrator",
			strings.Join(what, "; "))))
	}
}

// intake looks at how the document came in.
func (l *List) intake(b *federation.Basics) {
	in := b.Intake
	if in.Written != "" {
		l.Add(finding.New(finding.ValueTrimmed, finding.Compare("Entity ID", strings.TrimSpace(in.Written),
			visible(in.Written))))
	}
	for _, t := range in.Trimmed {
		f := finding.New(finding.ValueTrimmed, finding.Compare(t.Label, strings.TrimSpace(t.Written), visible(t.Written)))
		if t.Typed {
			f.Severity, f.Side, f.Remedy = finding.Note, finding.Gate, "Nothing is to be done if it was only pasted so."
		}
		l.Add(f)
	}
	if in.SignedBy != "" && !in.Verified && b.TrustKey == "" && in.Aggregate() == "" {
		l.Add(finding.New(finding.MetadataUnvouched, finding.Fact("Signed by", in.SignedBy)))
	}
	switch left := in.ValidUntil.Sub(l.Now); {
	case in.ValidUntil.IsZero():
	case left <= 0:
		effect := "go on; strictValidity would stop them"
		if b.StrictValidity {
			effect = "stopped, by strictValidity"
		}
		l.Add(finding.New(finding.MetadataExpired, finding.Fact("validUntil", in.ValidUntil.UTC().Format(time.RFC3339)),
			finding.Fact("Sign-ins", effect)))
	case left < metadataAhead:
		l.Add(finding.New(finding.MetadataExpiring, finding.Fact("validUntil", in.ValidUntil.UTC().Format(time.RFC3339)),
			l.left(in.ValidUntil)))
	}
	if xmlsec.RestsOnSHA1(in.SignatureMethod) || xmlsec.RestsOnSHA1(in.DigestMethod) {
		l.Add(finding.New(finding.MetadataSHA1, finding.Fact("SignatureMethod", in.SignatureMethod),
			finding.Fact("DigestMethod", in.DigestMethod)))
	}
}

func visible(s string) string {
	return strings.NewReplacer(" ", "␠", "\t", "␉", "\n", "␊", "\r", "␍", "\u00a0", "⍽").Replace(s)
}

// addresses looks at endpoints each and in pairs.
func (l *List) addresses(es []federation.Endpoint, here bool) {
	for i, e := range es {
		label := e.Use
		u, err := url.Parse(e.Location)
		if err != nil {
			continue
		}
		if u.Scheme == "http" && !loopback(u.Hostname()) {
			l.Once(finding.New(finding.AddressPlain, finding.Compare(label, "https"+strings.TrimPrefix(e.Location, "http"),
				e.Location)))
		}
		if loopback(u.Hostname()) && !here {
			l.Once(finding.New(finding.AddressLoopback, finding.Fact(label, e.Location)))
		}
		for _, o := range es[:i] {
			if o.Use != e.Use {
				continue
			}
			if how := Nearness(o.Location, e.Location); how != "" {
				l.Once(finding.New(finding.AddressNear, finding.Compare(label, o.Location, e.Location),
					finding.Fact("They differ by", how)))
			}
		}
	}
}

// hosts looks for addresses at hosts that the application is not known to own.
func (l *List) hosts(a *federation.Application) {
	var own []string
	if u, err := url.Parse(a.Identity()); err == nil && u.Hostname() != "" {
		own = append(own, u.Hostname())
	}
	if u, err := url.Parse(a.OwnStart); err == nil && u.Hostname() != "" {
		own = append(own, u.Hostname())
	}
	named := slices.Clone(a.OwnHosts)
	own = append(own, named...)
	if len(own) == 0 {
		return
	}
	for _, e := range a.Side.Endpoints() {
		u, err := url.Parse(e.Location)
		if err != nil || loopback(u.Hostname()) ||
			slices.ContainsFunc(own, func(host string) bool { return sameOwner(host, u.Hostname()) }) {
			continue
		}
		f := finding.New(finding.AddressForeign, finding.Fact(e.Use, e.Location), finding.Fact("Hosts it is known to own",
			strings.Join(own, ", ")))
		if len(named) > 0 {
			f.Severity = finding.Error
		}
		l.Once(f)
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
