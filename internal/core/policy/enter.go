package policy

import (
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/reason"
)

// Subject is who asks to enter, by what is known of them at the time.
type Subject struct {
	Person        int64             // 0 for somebody who has no account
	Groups        []federation.Name // that they are in themselves
	Organisations []federation.Name
	UserType      string                   // how they are marked, by somebody who is trusted for it
	Provider      federation.Name          // that they came by
	Context       string                   // how they signed in there, in the gate's words
	At            time.Time                // when
	Entered       time.Time                // when they entered by it; zero for now
	Network       string                   // of their browser: an address, of IPv6 the /64; "" if there is none
	in            map[federation.Name]bool // all groups that they are in: those that their own ones lie in, too
	own           map[federation.Name]bool
	net           netip.Prefix
}

// Judged is a rule that was looked at, and why it is about somebody or not.
type Judged struct {
	Rule  *federation.Rule
	About bool
	Why   string // of a rule that is not: the first condition that does not hold
}

// Entry is what the rules say.
type Entry struct {
	Outcome federation.Outcome
	Rule    *federation.Rule // that decided; nil if the default did
	Reasons reason.Reasons
}

// Say labels the sentence that a rule has for whoever it denies.
const Say = "Say"

// Enter decides by the rules whether somebody may enter an application now: the first that is about them
// decides, else the application's default. What it gives for a step-up is what is to be asked for; one that the
// sign-in fulfils lets in.
func Enter(snap *federation.Snapshot, app *federation.Application, s Subject, now time.Time) (Entry, error) {
	around := s.within(snap)
	book := snap.Book(app.Name)
	for _, i := range book.For(s.Person, s.Groups, around, s.Organisations) {
		r := book.Rules[i]
		if s.under(snap, r, now) == nil {
			return decided(snap, app, r, s, now)
		}
	}
	var e Entry
	if app.Everyone == federation.EveryoneNo {
		e.Outcome = federation.Deny
		return e, finding.New(finding.AccessNobody, finding.Fact("Application", app.Name))
	}
	e.Outcome = federation.Allow
	e.Reasons.Add(reason.AccessEverybody)
	return e, nil
}

// decided is what a rule that is about somebody comes to.
func decided(snap *federation.Snapshot, app *federation.Application, r *federation.Rule, s Subject, now time.Time) (Entry, error) {
	e := Entry{Outcome: r.Then, Rule: r}
	if r.Then == federation.StepUp && s.strong(snap, r, now) {
		e.Outcome = federation.Allow
	}
	if e.Outcome == federation.Deny {
		said := []finding.Evidence{finding.Fact("Rule", string(r.Name)+": "+r.Title), finding.Fact("Application", app.Name)}
		if r.Say != "" {
			said = append(said, finding.Fact(Say, r.Say))
		}
		return e, finding.New(finding.AccessDenied, said...)
	}
	e.Reasons.Add(reason.AccessRule, string(e.Outcome), string(r.Name), r.Title)
	return e, nil
}

// strong reports whether a sign-in is as strong and as fresh as a step-up asks for.
func (s Subject) strong(snap *federation.Snapshot, r *federation.Rule, now time.Time) bool {
	if r.Context != "" && !snap.Gate.Contexts.Satisfies(federation.CompareMinimum, []string{r.Context}, s.Context) {
		return false
	}
	if !s.Entered.IsZero() {
		now = s.Entered // nobody can be asked any more: it was fresh enough then
	}
	return r.MaxAge == 0 || !s.At.IsZero() && now.Sub(s.At) <= r.MaxAge+snap.Gate.Skew
}

// Judge goes through all rules that are looked at for an application, in their order, and tells of each why it is
// about somebody or not.
func Judge(snap *federation.Snapshot, app *federation.Application, s Subject, now time.Time) (out []Judged) {
	s.within(snap)
	for _, r := range snap.Book(app.Name).Rules {
		j := Judged{Rule: r, About: true}
		if why := s.under(snap, r, now); why != nil {
			j.About, j.Why = false, why()
		}
		out = append(out, j)
	}
	return out
}

// within finds all groups that somebody is in, and reads what rules are held against.
func (s *Subject) within(snap *federation.Snapshot) []federation.Name {
	around := snap.Around(s.Groups)
	s.in, s.own = make(map[federation.Name]bool, len(around)), make(map[federation.Name]bool, len(s.Groups))
	for _, g := range around {
		s.in[g] = true
	}
	for _, g := range s.Groups {
		s.own[g] = true
	}
	if a, err := netip.ParseAddr(s.Network); err == nil {
		s.net = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen())
	} else if s.net, err = netip.ParsePrefix(s.Network); err != nil {
		s.net = netip.Prefix{}
	}
	return around
}

// under finds the first condition of a rule that does not hold; nil if the rule is about somebody. What is
// returned tells why.
func (s *Subject) under(snap *federation.Snapshot, r *federation.Rule, now time.Time) func() string {
	groups := s.in
	if r.Alone {
		groups = s.own
	}
	switch {
	case now.Before(r.From):
		return func() string { return "it holds from " + r.From.UTC().Format(time.RFC3339) }
	case !r.Holds(now):
		return func() string { return "it has ended at " + r.Until.UTC().Format(time.RFC3339) }
	case len(r.People) > 0 && !slices.Contains(r.People, s.Person):
		return func() string { return "it is about other people" }
	case len(r.Groups) > 0 && !slices.ContainsFunc(r.Groups, func(g federation.Name) bool { return groups[g] }):
		return func() string { return "not in " + names(r.Groups) }
	case len(r.Organisations) > 0 && !common(r.Organisations, s.Organisations):
		return func() string { return "not of " + names(r.Organisations) }
	case len(r.UserTypes) > 0 && !slices.Contains(r.UserTypes, s.UserType):
		return func() string {
			return "marked as " + orNone(s.UserType) + ", not as " + strings.Join(r.UserTypes, " or ")
		}
	case len(r.Providers) > 0 && !slices.Contains(r.Providers, s.Provider):
		return func() string { return "comes by " + orNone(string(s.Provider)) + ", not by " + names(r.Providers) }
	case r.Broken:
		return nil
	case len(r.Networks) > 0 && !slices.ContainsFunc(r.Networks, s.inside):
		return func() string { return orNone(s.Network) + " is not in " + prefixes(r.Networks) }
	case len(r.Contexts) > 0 && !slices.ContainsFunc(r.Contexts, func(c string) bool {
		return snap.Gate.Contexts.Satisfies(federation.CompareMinimum, []string{c}, s.Context)
	}):
		return func() string {
			return "signed in with " + orNone(s.Context) + ", which is weaker than " + strings.Join(r.Contexts, " or ")
		}
	}
	return nil
}

func orNone(text string) string {
	if text == "" {
		return "nothing known"
	}
	return text
}

func common(a, b []federation.Name) bool {
	return slices.ContainsFunc(a, func(n federation.Name) bool { return slices.Contains(b, n) })
}

// inside reports whether the network of the browser, as the gate keeps it, lies in another.
func (s *Subject) inside(x netip.Prefix) bool {
	return s.net.IsValid() && x.Contains(s.net.Addr()) && x.Bits() <= s.net.Bits()
}

func prefixes(all []netip.Prefix) string {
	words := make([]string, len(all))
	for i, p := range all {
		words[i] = p.String()
	}
	return strings.Join(words, " or ")
}

func names(all []federation.Name) string {
	words := make([]string, len(all))
	for i, n := range all {
		words[i] = string(n)
	}
	return strings.Join(words, " or ")
}

// Sentence reads a rule aloud.
func Sentence(r *federation.Rule) string {
	var who []string
	add := func(is bool, words string) {
		if is {
			who = append(who, words)
		}
	}
	people := make([]string, len(r.People))
	for i, n := range r.People {
		people[i] = strconv.FormatInt(n, 10)
	}
	add(len(people) > 0, "is person "+strings.Join(people, " or "))
	add(len(r.Groups) > 0, "is in "+names(r.Groups)+map[bool]string{true: " itself"}[r.Alone])
	add(len(r.Organisations) > 0, "belongs to "+names(r.Organisations))
	add(len(r.UserTypes) > 0, "is marked as "+strings.Join(r.UserTypes, " or "))
	add(len(r.Providers) > 0, "comes by "+names(r.Providers))
	add(len(r.Networks) > 0, "is in the network "+prefixes(r.Networks))
	add(len(r.Contexts) > 0, "signed in as strongly as "+strings.Join(r.Contexts, " or "))
	subject := "Everybody"
	if len(who) > 0 {
		subject = "Whoever " + strings.Join(who, " and ")
	}
	out := subject + map[federation.Outcome]string{federation.Allow: " enters", federation.Deny: " does not enter",
		federation.StepUp: " signs in more strongly first"}[r.Then]
	if r.Then == federation.StepUp && r.Context == "" {
		out = subject + " signs in afresh first"
	}
	if r.Context != "" {
		out += ", as strongly as " + r.Context
	}
	if r.MaxAge > 0 {
		out += fmt.Sprintf(", if they signed in more than %s ago", ago(r.MaxAge))
	}
	if !r.From.IsZero() {
		out += ", from " + moment(r.From)
	}
	if !r.Until.IsZero() {
		if u := r.Until.UTC(); u.Equal(u.Truncate(24 * time.Hour)) {
			out += ", until the end of " + u.AddDate(0, 0, -1).Format(time.DateOnly)
		} else {
			out += ", until " + moment(u)
		}
	}
	return out + "."
}

// moment writes a moment, or a day from whose beginning on something holds.
func moment(t time.Time) string {
	if t = t.UTC(); t.Equal(t.Truncate(24 * time.Hour)) {
		return t.Format(time.DateOnly)
	}
	return t.Format(time.RFC3339)
}

// ago is a time in its largest unit.
func ago(d time.Duration) string {
	for _, u := range []struct {
		of   time.Duration
		word string
	}{{24 * time.Hour, "day"}, {time.Hour, "hour"}} {
		if n := d / u.of; n > 0 && d%u.of == 0 {
			if n == 1 {
				return "1 " + u.word
			}
			return fmt.Sprintf("%d %ss", n, u.word)
		}
	}
	return fmt.Sprintf("%d minutes", d/time.Minute)
}
