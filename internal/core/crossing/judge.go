package crossing

import (
	"cmp"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// The decisions here stand for themselves, without a crossing: whoever refreshes
// a token, lets a request through or simulates takes the same ones.

// Proves holds a provider's word against a wish; a session's and a new answer's
// are judged alike. asked is when the provider was asked for it, zero if it was
// there before. The wish is the effective one, its contexts in the gate's words.
func Proves(g *federation.Gate, w Wish, a *Authentication, asked, now time.Time) (reason.Reasons, error) {
	var reasons reason.Reasons
	if w.Force {
		if asked.IsZero() || a.At.Before(asked.Add(-g.Skew)) {
			return reasons, finding.New(finding.AuthnTooOld, finding.Fact("Signed in at", stamp(a.At)),
				finding.Fact("Asked for at", stamp(asked)))
		}
		reasons.Add(reason.ProofFresh, stamp(a.At))
	}
	if w.MaxAge > 0 && !young(w.MaxAge, a.At, asked, g.Skew, now) {
		return reasons, finding.New(finding.AuthnTooOld, finding.Fact("Signed in at", stamp(a.At)),
			finding.Fact("At most", w.MaxAge.String()))
	}
	if w.Timed && a.At.IsZero() {
		return reasons, finding.New(finding.AuthnTimeMissing, finding.Fact("Provider", string(a.Provider)))
	}
	if len(w.Contexts) > 0 && !w.Voluntary {
		if !g.Contexts.Satisfies(w.Comparison, w.Contexts, a.Context) {
			want := strings.Join(w.Contexts, " or ")
			if w.Comparison != federation.CompareExact {
				want = w.Comparison + ": " + want
			}
			return reasons, finding.New(finding.ContextOther, finding.Compare("Context", want, a.Context))
		}
		reasons.Add(reason.ProofContext, a.Context)
	}
	return reasons, nil
}

// young reports whether somebody signed in at most so long ago (OpenID Connect Core §3.1.2.1).
// A session's word is judged by the gate's own clock, exactly. An answer that was just asked
// for by such a request tells the time of another clock: the difference of clocks does not
// count against it, and one that was given to the request is fresh.
func young(most time.Duration, at, asked time.Time, skew time.Duration, now time.Time) bool {
	if asked.IsZero() {
		return now.Sub(at) <= most
	}
	return now.Sub(at) <= most+skew || !at.Before(asked.Add(-skew))
}

func stamp(t time.Time) string {
	if t.IsZero() {
		return "never"
	}
	return t.UTC().Format(time.RFC3339)
}

// insufficient says why a session does not do, once Proves refused it.
func insufficient(w Wish, a *Authentication, f *finding.Finding) reason.Reason {
	switch {
	case f.Code == finding.ContextOther:
		return reason.New(reason.SessionContext, a.Context)
	case w.Force:
		return reason.New(reason.SessionForced)
	}
	return reason.New(reason.SessionAge, stamp(a.At))
}

// Intake turns what the provider said into a profile. A mandatory value that is missing
// is a finding.
func Intake(p *federation.Provider, a *Answer) (profile.Profile, reason.Reasons, error) {
	who, rules, err := intake(p, a)
	if p.Mapping().IsZero() {
		return who, reason.Reasons{reason.New(reason.IntakeUnchanged)}, nil
	}
	return who, worked(rules, reason.IntakeMapped, reason.IntakeRule), err
}

func intake(p *federation.Provider, a *Answer) (profile.Profile, []profile.Worked, error) {
	who := profile.PassThrough(a.Subject, a.Attributes)
	if p.Mapping().IsZero() {
		return who, nil, nil
	}
	out, err := p.Mapping().Run(who, profile.Intake, true)
	who.Attributes = out.Attributes
	switch {
	case err != nil || out.Subject == nil:
	case out.Several:
		err = finding.New(finding.IdentifierSeveral, finding.Fact("Provider", string(p.Name)))
	case len(out.Subject.Value) > longestName:
		err = finding.New(finding.IdentifierSeveral, finding.Fact("Octets", strconv.Itoa(len(out.Subject.Value))))
	default: // whoever it is said to be, within the tenant of who said it
		who.Subject.Value, who.Subject.Format, who.Subject.Transient = out.Subject.Value, out.Subject.Format, false
	}
	return who, out.Worked, err
}

// longestName bounds what people are recognised by, in octets.
const longestName = 1024

// Recognised is the link key by which a provider's word has somebody recognised; "" if it
// does not last.
func Recognised(p *federation.Provider, a *Answer) string {
	who, _, err := intake(p, a)
	if err != nil {
		return ""
	}
	return person.LinkKey(p.ID, who.Subject)
}

// worked are the reasons for what rules made: how many did, and each that did not, or
// that left something out.
func worked(rules []profile.Worked, whole, one reason.Code) reason.Reasons {
	var some reason.Reasons
	made := 0
	for _, w := range rules {
		if w.Outcome == profile.Applied || w.Outcome == profile.Defaulted {
			made++
		}
		if w.Outcome != profile.Applied || len(w.Without) > 0 {
			some.Add(one, strconv.Itoa(w.Rule), w.String())
		}
	}
	return append(reason.Reasons{reason.New(whole, strconv.Itoa(made), strconv.Itoa(len(rules)))}, some...)
}

// Kept is a provider's word as it is kept with a session: without attributes that the
// intake does not read.
func Kept(p *federation.Provider, a *Answer) *Answer {
	read := p.Mapping().Sources()
	if read == "" || a.Read == read {
		return a
	}
	out := *a
	out.Read, out.Attributes = read, nil
	for _, attribute := range a.Attributes {
		if p.Mapping().Reads(attribute) {
			out.Attributes = append(out.Attributes, attribute)
		}
	}
	if flag := profile.Find(a.Attributes, profile.ClaimEmailVerified); len(profile.Find(out.Attributes,
		profile.ClaimEmail)) > 0 {
		out.Attributes = profile.Put(out.Attributes, profile.ClaimEmailVerified, flag) // it belongs to the address
	}
	return &out
}

// Entrant is who wants to enter an application, and from where.
type Entrant struct {
	App     *federation.Application
	Stands  *person.Standing // who they are
	Proofs  []Authentication
	Network string // of the browser
	Role    string // that was asked for or chosen

	known *policy.Subject // as rules about every application see them, where it was made before
}

// Subject is who rules are asked about.
func (e Entrant) Subject() policy.Subject {
	if e.known != nil {
		return e.at(*e.known)
	}
	members := e.Stands.Members()
	s := policy.Subject{Person: e.Stands.Person.ID, Groups: person.UnitsOf(federation.KindGroup, members),
		Organisations: person.UnitsOf(federation.KindOrganisation, members), Network: e.Network, UserType: e.Stands.Mark(),
		Role: e.Role, Proved: e.Stands.Proved}
	if n := len(e.Proofs); n > 0 {
		last := e.Proofs[n-1]
		s.Provider, s.Context, s.At, s.Entered = last.Provider, last.Context, last.At, last.Entered
	}
	return e.at(s)
}

// at is somebody at the application that they want to enter.
func (e Entrant) at(s policy.Subject) policy.Subject {
	s.Role = e.Role
	for _, a := range e.Stands.Person.Admitted {
		if e.App != nil && a.App == e.App.ID {
			s.Admitted = &federation.Admission{Until: a.Until}
		}
	}
	return s
}

// everywhere makes what rules see of somebody once, for many applications.
func (e Entrant) everywhere(snap *federation.Snapshot) Entrant {
	e.App, e.known = nil, nil
	s := policy.Read(snap, e.Subject())
	e.known = &s
	return e
}

// coming is what provider selection is asked about somebody who is known by now: their own addresses that are proved,
// not one that was typed.
func (e Entrant) coming(snap *federation.Snapshot, by *federation.Provider) policy.Asking {
	s := e.Subject()
	a := policy.Asking{Network: e.Network, Known: &s, Whole: true}
	if len(snap.Ways(e.App.Name).Rules) == 0 {
		return a // an address alone sends nobody elsewhere
	}
	for _, address := range e.Stands.Addresses() {
		a.Address = cmp.Or(a.Address, address)
		if domain, ok := profile.Domain(profile.DomainOf(address)); ok && by != nil &&
			slices.Contains(snap.ProvidersAt(domain), by.Name) {
			a.Address = address // of several that of the way by which they came
			break
		}
	}
	return a
}

// Admit decides whether somebody may enter, now, by what providers vouch for and by the rules. It needs no
// crossing. What has to be asked for first is the rule of a step-up; nobody is let in by it.
func Admit(snap *federation.Snapshot, e Entrant, now time.Time) (policy.Entry, error) {
	none := policy.Entry{Outcome: federation.Deny}
	s := e.Subject()
	by, err := policy.OpenTo(snap, e.App, &s, now)
	if err != nil {
		return none, err
	}
	if who := e.Stands.Person; who.Disabled {
		return none, finding.New(finding.PersonDisabled, finding.Fact("Person", strconv.FormatInt(who.ID, 10)))
	}
	words := make([]policy.Passing, len(e.Proofs))
	for i, p := range e.Proofs {
		words[i] = p.Passing
	}
	if err := policy.Passed(e.App, words); err != nil {
		return none, err
	}
	entry, err := policy.Enter(snap, e.App, s, now)
	if by != "" {
		entry.Reasons = append(reason.Reasons{reason.New(reason.PilotOf, string(e.App.Name), by)}, entry.Reasons...)
	}
	return entry, err
}

// tooWeak is the refusal of a sign-in that is not what a rule asks for.
func tooWeak(r *federation.Rule, a Authentication) error {
	said := []finding.Evidence{finding.Fact("Rule", string(r.Name)+": "+r.Title)}
	if r.Context != "" {
		said = append(said, finding.Compare("Context", "at least "+r.Context, a.Context))
	}
	if r.MaxAge > 0 {
		said = append(said, finding.Compare("Signed in at", "at most "+r.MaxAge.String()+" ago", stamp(a.At)))
	}
	return finding.New(finding.AccessStepUp, said...)
}

// namings are the reasons for each kind of name.
var namings = map[profile.Kind]reason.Code{profile.Given: reason.NameGiven, profile.Bare: reason.NameBare,
	profile.Mail: reason.NameMail, profile.Lasting: reason.NameLasting, profile.Passing: reason.NamePassing}

// release makes what the application is told about somebody, by the name it wants.
func release(app *federation.Application, p profile.Profile, who person.Person, want profile.Wanted) (profile.Released,
	[]profile.Worked, error) {
	// Without rules an application is told what the provider said. What the gate knows
	// beside is told where scopes ask for it, as rules do.
	out := profile.Mapped{Attributes: p.Said()}
	if Of(app.Side).Consenting != nil {
		out.Attributes = p.Attributes
	}
	if m := app.Mapping(); !m.IsZero() {
		var err error
		if out, err = m.Run(p, profile.Release, true); err != nil {
			return profile.Released{}, out.Worked, err
		}
	}
	n, cause := p.Renamed(out.Subject).Name(want, who.Subject)
	if cause != "" {
		return profile.Released{}, out.Worked, finding.New(finding.NameIDPolicyUnmet, finding.Fact("Format", want.Word),
			finding.Fact("Cause", cause))
	}
	return profile.Released{Name: n, Attributes: out.Attributes}, out.Worked, nil
}

// Renewal is somebody who goes on by what a provider said earlier: a token is
// refreshed, or shown.
type Renewal struct {
	App    *federation.Application
	Word   *Answer
	Person int64                    // whom it was about; 0 for somebody who is known in one session only
	People map[string]person.Person // those looked up so far
	// Rehearsed says that it was given in a rehearsal, which makes nobody on record a link: they are known by their
	// number. Numbered is who that is, nil as long as it was not looked up.
	Rehearsed bool
	Numbered  *person.Person
}

// Renew decides, by the configuration of now, whether somebody may still be told
// of: their provider and the application let people pass, they are still the person
// of then, and may enter. It gives what is told of them, under the name of then.
func Renew(snap *federation.Snapshot, r Renewal, now time.Time) (profile.Released, *Lacks, error) {
	var none profile.Released
	if err := policy.Open(r.App, now); err != nil {
		return none, nil, err
	}
	p, ok := snap.Provider(r.Word.Provider)
	if !ok || !p.Is(r.Word.Provider, r.Word.ProviderID) {
		return none, nil, finding.New(finding.GrantUnlinked, finding.Fact("Provider removed", string(r.Word.Provider)))
	}
	if err := policy.Open(p, now); err != nil {
		return none, nil, err
	}
	if err := policy.Still(r.App, p, now); err != nil {
		return none, nil, err
	}
	who, _, err := Intake(p, r.Word)
	if err != nil {
		return none, nil, err
	}
	them, _, need := person.Match(p, who, r.People)
	if need != nil {
		return none, lookUp(need, r.App.ID), nil
	}
	if them.ID == 0 && r.Rehearsed && r.Person != 0 {
		if r.Numbered == nil {
			return none, Lack(ByNumber{Person: r.Person, For: r.App.ID}), nil
		}
		them = *r.Numbered
	}
	if them.ID != r.Person {
		return none, nil, finding.New(finding.GrantUnlinked, finding.Fact("Name", r.Word.Subject.Value))
	}
	e := Entrant{App: r.App, Stands: person.Stand(snap, p, who, them, nil),
		Proofs:  []Authentication{r.Word.Authentication},
		Network: r.Word.Network, Role: r.Word.Role}
	s := e.Subject()
	if _, err := policy.OpenTo(snap, p, &s, now); err != nil {
		return none, nil, err
	}
	entry, err := Admit(snap, e, now)
	if err == nil && entry.Outcome == federation.StepUp {
		err = tooWeak(entry.Rule, r.Word.Authentication)
	}
	if err != nil {
		return none, nil, err
	}
	released, _, err := release(r.App, e.Stands.Known().As(entry.RoleValues()), them, profile.Wanted{Kind: profile.Bare})
	return released, nil, err
}

// Expected sees that a released name is that of the person whom a wish names, if
// it names one (SAML core §3.4.1, §3.3.4).
func Expected(g *federation.Gate, w Wish, n profile.Name, who person.Person) error {
	if w.Subject == "" {
		return nil
	}
	got := n.Value
	if n.Derived() {
		if who.Identifier == "" && who.ID != 0 {
			return nil // run again, without what names are derived from
		}
		got = Derive(g.Pairwise, who.Identifier, n.For)
	}
	if n.Kind == profile.Passing || who.ID == 0 && n.Derived() || got != w.Subject {
		return finding.New(finding.SubjectOther, finding.Fact("Subject", w.Subject))
	}
	return nil
}

// Derive gives the lasting name of a person for one application: stable, opaque,
// and of no use to compare people across applications (SAML core §8.3.7, OpenID
// Connect Core §8.1).
func Derive(secret []byte, person, application string) string {
	mac := hmac.New(sha256.New, secret)
	mac.Write([]byte(person + "\x1f" + application))
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(mac.Sum(nil)[:20]))
}
