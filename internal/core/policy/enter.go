package policy

import (
	"cmp"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/expression"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// Subject is who asks to enter, by what is known of them at the time.
type Subject struct {
	Person        int64             // 0 for somebody who has no account
	Groups        []federation.Name // that they are in themselves
	Organisations []federation.Name
	UserType      string                // how they are marked, by somebody who is trusted for it
	Provider      federation.Name       // that they came by
	Context       string                // how they signed in there, in the gate's words
	At            time.Time             // when
	Entered       time.Time             // when they entered by it; zero for now
	Network       string                // of their browser: an address, of IPv6 the /64; "" if there is none
	Admitted      *federation.Admission // to the application, by their own name; nil if nobody said so
	Role          string                // name of the one that was asked for or chosen, "" for none
	Proved        func() Proved         // their attributes, as far as a rule asks for them; nil for none
	proved        *Proved
	unproved      []string            // attributes that a rule asked for and that have values nobody vouches for
	in            federation.GroupSet // all groups that they are in: those that their own ones lie in, too
	net           netip.Prefix
	around        []federation.Name    // all groups that they are in, by name
	read          *federation.Snapshot // of which that was read
}

// Proved is what conditions on attributes see of somebody: values that somebody vouches for who is trusted for it.
type Proved struct {
	Subject string // the provider's name for them
	Values  map[string][]any
	Left    []string // attributes that have values nobody vouches for
}

// By is what a decision rests on.
type By string

// What decides.
const (
	ByRule      By = "rule"
	ByAdmission By = "admission"
	ByDefault   By = "default" // the application's setting everyone
)

// Judged is a rule, the admissions or the default that was looked at, and why it is about somebody or not.
type Judged struct {
	By    By
	Rule  *federation.Rule // of a rule
	Says  string           // read aloud
	Then  federation.Outcome
	About bool
	Why   string // of what is not about them: the first condition that does not hold
}

// Entry is what is decided, and by what.
type Entry struct {
	Outcome federation.Outcome
	By      By
	Rule    *federation.Rule // that decided, of a rule
	Unit    federation.Name  // whose admission decided; "" for the person's own
	Reasons reason.Reasons

	Held  []Holding          // all roles that they hold
	Roles []*federation.Role // that they enter with
	Pick  bool               // of these they choose one
}

// Ground says what a decision rests on: "rule NAME", "admission GROUP", "admission" for the person's own, "default",
// or
// "" where neither rules nor admissions were asked.
func (e Entry) Ground() string {
	name := e.Unit
	if e.Rule != nil {
		name = e.Rule.Name
	}
	return strings.TrimSpace(string(e.By) + " " + string(name))
}

// Say labels the sentence that a rule has for whoever it denies.
const Say = "Say"

// Enter decides whether somebody may enter an application now: by the first rule that is about them, by their
// admission, which stands between the application's rules and those of the gate, else by the application's
// default. What it gives for a step-up is what is to be asked for; one that the sign-in fulfils lets in. Whoever
// enters does so with the roles that they hold, and not at all as what they do not.
func Enter(snap *federation.Snapshot, app *federation.Application, s Subject, now time.Time) (Entry, error) {
	e, err := mayEnter(snap, app, &s, now)
	if err != nil || len(snap.Book(app.Name).Roles) == 0 && s.Role == "" && !app.RoleNeeded {
		return e, err
	}
	return as(snap, app, &s, e, now)
}

func mayEnter(snap *federation.Snapshot, app *federation.Application, s *Subject, now time.Time) (Entry, error) {
	around := s.within(snap)
	book := snap.Book(app.Name)
	admitted := false
	for _, i := range book.For(federation.Somebody{Person: s.Person, Groups: s.Groups, Around: around,
		Organisations: s.Organisations, UserType: s.UserType, Provider: s.Provider, Network: s.net}) {
		if i >= book.Last && !admitted {
			admitted = true
			if e, said, err := s.admission(snap, app, book, now); said {
				return e, err
			}
		}
		r := book.Rules[i]
		lacks, err := s.under(snap, r, now)
		if err != nil {
			return s.failed(app, r, err)
		}
		if lacks == allHold {
			return decided(snap, app, r, *s, now)
		}
	}
	if !admitted {
		if e, said, err := s.admission(snap, app, book, now); said {
			return e, err
		}
	}
	e := Entry{By: ByDefault, Reasons: s.left()}
	if app.Everyone == federation.EveryoneNo {
		e.Outcome = federation.Deny
		return e, finding.New(finding.AccessNobody, finding.Fact("Application", app.Name))
	}
	e.Outcome = federation.Allow
	e.Reasons.Add(reason.AccessEverybody)
	return e, nil
}

// Unguarded reports whether nothing is said of who may enter an application: no provider that people have to come by,
// no rule, no admission, and everyone may.
func Unguarded(snap *federation.Snapshot, app *federation.Application) bool {
	return app.Provider == "" && !app.RoleNeeded && app.Everyone != federation.EveryoneNo && !snap.Book(app.Name).Says()
}

// admission is what is said of somebody by name: of themselves, else of the nearest of their groups.
func (s *Subject) admission(snap *federation.Snapshot, app *federation.Application, book *federation.Book,
	now time.Time) (Entry, bool, error) {
	e := Entry{Outcome: federation.Allow, By: ByAdmission, Reasons: s.left()}
	if s.Admitted != nil && s.Admitted.Holds(now) {
		e.Reasons.Add(reason.AccessAdmitted, "the person by name"+ending(*s.Admitted))
		return e, true, nil
	}
	from, said, ok := book.Nearest(snap, s.Groups, s.in, now)
	if !ok {
		return e, false, nil
	}
	if e.Unit = from; said.Out {
		e.Outcome = federation.Deny
		return e, true, finding.New(finding.AccessKeptOut, finding.Fact("Group", from),
			finding.Fact("Application", app.Name))
	}
	e.Reasons.Add(reason.AccessAdmitted, "the group "+string(from)+ending(said))
	return e, true, nil
}

// ending says until when somebody is admitted.
func ending(a federation.Admission) string {
	if a.Until.IsZero() {
		return ""
	}
	return ", until " + until(a.Until)
}

// left are the reasons for values that were left out of conditions.
func (s *Subject) left() (out reason.Reasons) {
	if len(s.unproved) > 0 {
		out.Add(reason.AccessUnproved, strings.Join(s.unproved, ", "))
	}
	return out
}

// failed is the refusal by a rule whose condition cannot be run.
func (s *Subject) failed(app *federation.Application, r *federation.Rule, err error) (Entry, error) {
	e := Entry{Outcome: federation.Deny, By: ByRule, Rule: r, Reasons: s.left()}
	return e, finding.New(finding.AccessDenied, finding.Fact("Rule", string(r.Name)+": "+r.Title),
		finding.Fact("Application", app.Name),
		finding.Fact("Its condition cannot be evaluated", err.Error()))
}

// decided is what a rule that is about somebody comes to.
func decided(snap *federation.Snapshot, app *federation.Application, r *federation.Rule, s Subject,
	now time.Time) (Entry, error) {
	e := Entry{Outcome: r.Then, By: ByRule, Rule: r, Reasons: s.left()}
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

// Judge goes through all that is looked at for an application, in its order, and tells of each why it is about
// somebody or not: rules, admissions, the default. The first that is about them is what Enter decides by.
func Judge(snap *federation.Snapshot, app *federation.Application, s Subject, now time.Time) (out []Judged) {
	s.within(snap)
	book := snap.Book(app.Name)
	for i, r := range book.Rules {
		if i == book.Last {
			out = append(out, s.judgedAdmission(snap, app, book, now))
		}
		j := Judged{By: ByRule, Rule: r, Says: Sentence(r), Then: r.Then, About: true}
		switch lacks, err := s.under(snap, r, now); {
		case err != nil:
			j.Then, j.Why = federation.Deny, "its condition cannot be evaluated: "+err.Error()
		case lacks != allHold:
			j.About, j.Why = false, s.why(lacks, r)
		}
		out = append(out, j)
	}
	if book.Last == len(book.Rules) {
		out = append(out, s.judgedAdmission(snap, app, book, now))
	}
	last := Judged{By: ByDefault, Then: federation.Allow, About: true, Says: "Whoever nothing else is about enters."}
	if app.Everyone == federation.EveryoneNo {
		last.Then, last.Says = federation.Deny, "Whoever nothing else is about does not enter."
	}
	return append(out, last)
}

func (s *Subject) judgedAdmission(snap *federation.Snapshot, app *federation.Application, book *federation.Book,
	now time.Time) Judged {
	e, said, _ := s.admission(snap, app, book, now)
	j := Judged{By: ByAdmission, Then: e.Outcome, About: said, Says: "Whoever is admitted by name enters."}
	switch {
	case said && e.Unit == "":
		j.Says = "The person is admitted by name" + ending(*s.Admitted) + "."
	case said && e.Outcome == federation.Deny:
		j.Says = "The group " + string(e.Unit) + " is kept out."
	case said:
		_, a, _ := book.Nearest(snap, s.Groups, s.in, now)
		j.Says = "The group " + string(e.Unit) + " is admitted" + ending(a) + "."
	case s.Admitted != nil:
		j.Why = "the person's admission has ended at " + s.Admitted.Until.UTC().Format(time.RFC3339)
	default:
		j.Why = "neither the person nor one of their groups is admitted by name"
	}
	return j
}

// within finds all groups that somebody is in, and reads what rules are held against.
func (s *Subject) within(snap *federation.Snapshot) []federation.Name {
	if s.read == snap {
		return s.around
	}
	around, in := snap.Surround(s.Groups)
	s.in, s.around, s.read = in, around, snap
	if a, err := netip.ParseAddr(s.Network); err == nil {
		s.net = netip.PrefixFrom(a.Unmap(), a.Unmap().BitLen())
	} else if s.net, err = netip.ParsePrefix(s.Network); err != nil {
		s.net = netip.Prefix{}
	}
	return around
}

// Read finds what is asked about somebody again and again: all groups that they are in, and their network.
func Read(snap *federation.Snapshot, s Subject) Subject {
	s.within(snap)
	return s
}

// Around are all groups that somebody is in, those that their own ones lie in, too.
func (s *Subject) Around(snap *federation.Snapshot) []federation.Name { return s.within(snap) }

// About reports whether a rule is about somebody now. One whose condition cannot be evaluated is about nobody.
func About(snap *federation.Snapshot, r *federation.Rule, s Subject, now time.Time) bool {
	s.within(snap)
	lacks, err := s.under(snap, r, now)
	return err == nil && lacks == allHold
}

// condition is the first one of a rule that does not hold.
type condition int

const (
	allHold condition = iota
	isEarly
	hasEnded
	otherPeople
	otherGroups
	otherOrganisations
	otherUserType
	otherProvider
	otherNetwork
	weakerContext
	otherValues
)

// under finds the first condition of a rule that does not hold; allHold if the rule is about somebody. The error is
// that of a condition that cannot be evaluated.
func (s *Subject) under(snap *federation.Snapshot, r *federation.Rule, now time.Time) (condition, error) {
	if c := s.plainly(snap, r, now); c != allHold || r.When == "" || r.Broken {
		return c, nil
	}
	if s.proved == nil {
		s.proved = &Proved{}
		if s.Proved != nil {
			*s.proved = s.Proved()
		}
		if s.proved.Values == nil {
			s.proved.Values = map[string][]any{}
		}
	}
	for _, name := range s.unvouched(r) {
		if !slices.Contains(s.unproved, name) {
			s.unproved = append(s.unproved, name)
		}
	}
	is, err := r.True(expression.Facts{Subject: s.proved.Subject, Attributes: s.proved.Values})
	if is || err != nil {
		return allHold, err
	}
	return otherValues, nil
}

// unvouched are the attributes that a rule reads and that have values nobody vouches for.
func (s *Subject) unvouched(r *federation.Rule) (out []string) {
	if len(s.proved.Left) == 0 {
		return nil
	}
	for _, name := range r.Reads() {
		if slices.Contains(s.proved.Left, profile.Word(name)) {
			out = append(out, name)
		}
	}
	return out
}

// why tells in words that a condition of a rule does not hold.
func (s *Subject) why(c condition, r *federation.Rule) string {
	switch c {
	case isEarly:
		return "it holds from " + r.From.UTC().Format(time.RFC3339)
	case hasEnded:
		return "it has ended at " + r.Until.UTC().Format(time.RFC3339)
	case otherPeople:
		return "it is about other people"
	case otherGroups:
		return "not in " + names(r.Groups)
	case otherOrganisations:
		return "not of " + names(r.Organisations)
	case otherUserType:
		if s.UserType == "" {
			return "not marked as " + strings.Join(r.UserTypes, " or ")
		}
		return "marked as " + s.UserType + ", not as " + strings.Join(r.UserTypes, " or ")
	case otherProvider:
		return "comes by " + cmp.Or(string(s.Provider), "no provider that is known") + ", not by " + names(r.Providers)
	case otherNetwork:
		return cmp.Or(s.Network, "an unknown address") + " is not in " + prefixes(r.Networks)
	case weakerContext:
		return "signed in with " + cmp.Or(s.Context, "no known context") + ", which is weaker than " +
			strings.Join(r.Contexts, " or ")
	}
	said := "the condition on attributes does not hold"
	for _, name := range r.Reads() {
		said += fmt.Sprintf("; %s is %s", name, listed(s.proved.Values[name]))
	}
	if left := s.unvouched(r); len(left) > 0 {
		said += "; values of " + strings.Join(left, ", ") + " that nobody vouches for do not count"
	}
	return said
}

// listed writes values for people.
func listed(values []any) string {
	words := make([]string, len(values))
	for i, v := range values {
		words[i] = fmt.Sprint(v)
	}
	return cmp.Or(strings.Join(words, " and "), "without a value")
}

// plainly finds the first condition of a rule, without that on attributes, that does not hold.
func (s *Subject) plainly(snap *federation.Snapshot, r *federation.Rule, now time.Time) condition {
	switch {
	case !r.From.IsZero() && now.Before(r.From):
		return isEarly
	case !r.Until.IsZero() && !now.Before(r.Until):
		return hasEnded
	case len(r.People) > 0 && !slices.Contains(r.People, s.Person):
		return otherPeople
	case len(r.Groups) > 0 && !slices.ContainsFunc(r.Groups, func(g federation.Name) bool {
		return s.in.Has(g) && (!r.Alone || slices.Contains(s.Groups, g))
	}):
		return otherGroups
	case len(r.Organisations) > 0 && !common(r.Organisations, s.Organisations):
		return otherOrganisations
	case len(r.UserTypes) > 0 && !slices.Contains(r.UserTypes, s.UserType):
		return otherUserType
	case len(r.Providers) > 0 && !slices.Contains(r.Providers, s.Provider):
		return otherProvider
	case r.Broken:
		return allHold
	case len(r.Networks) > 0 && !slices.ContainsFunc(r.Networks, s.inside):
		return otherNetwork
	case len(r.Contexts) > 0 && !slices.ContainsFunc(r.Contexts, func(c string) bool {
		return snap.Gate.Contexts.Satisfies(federation.CompareMinimum, []string{c}, s.Context)
	}):
		return weakerContext
	}
	return allHold
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

func numbers(all []int64) string {
	words := make([]string, len(all))
	for i, n := range all {
		words[i] = strconv.FormatInt(n, 10)
	}
	return strings.Join(words, " or ")
}

// conditions read aloud whom a rule is about.
func conditions(r *federation.Rule) (who []string) {
	add := func(is bool, words string) {
		if is {
			who = append(who, words)
		}
	}
	add(len(r.People) > 0, "is person "+numbers(r.People))
	add(len(r.Groups) > 0, "is in "+names(r.Groups)+map[bool]string{true: " itself"}[r.Alone])
	add(len(r.Organisations) > 0, "belongs to "+names(r.Organisations))
	add(len(r.UserTypes) > 0, "is marked as "+strings.Join(r.UserTypes, " or "))
	add(len(r.Providers) > 0, "comes by "+names(r.Providers))
	add(len(r.Networks) > 0, "is in the network "+prefixes(r.Networks))
	add(len(r.Contexts) > 0, "signed in as strongly as "+strings.Join(r.Contexts, " or "))
	add(r.When != "", "fulfils "+r.When)
	return who
}

// Sentence reads a rule aloud.
func Sentence(r *federation.Rule) string {
	who := conditions(r)
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
		out += ", until " + until(r.Until)
	}
	return out + "."
}

// until writes an end: of a day, where it is that of one.
func until(t time.Time) string {
	if u := t.UTC(); u.Equal(u.Truncate(24 * time.Hour)) {
		return "the end of " + u.AddDate(0, 0, -1).Format(time.DateOnly)
	}
	return moment(t)
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
