package federation

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/expression"
	"innergate.example/innergate/internal/core/listed"
)

// KindRule is the kind of access rules.
const KindRule Kind = "rule"

// Outcome is what a rule has become of those whom it is about.
type Outcome string

// Outcomes.
const (
	Allow  Outcome = "allow"
	Deny   Outcome = "deny"
	StepUp Outcome = "step-up" // a stronger or fresher sign-in is asked for first
)

// Rule says what becomes of somebody who wants to enter an application. All conditions that it has must hold;
// of each, one of those named is enough. A rule without conditions is about everybody.
type Rule struct {
	Name, App Name // App is "" for a rule of the gate
	Title     string
	Order     int // among the rules of one application, or of the gate: the lowest first
	Then      Outcome
	Say       string // to a person who is denied

	People        []int64
	Groups        []Name
	Alone         bool // of groups: members of themselves alone, not of those that lie in them
	Organisations []Name
	UserTypes     []string
	Providers     []Name
	Networks      []netip.Prefix
	Contexts      []string // they came by one that is as strong at least
	When          string   // an expression over attributes, of which proved values count

	Context string        // of a step-up: as strong as this at least, "" for any
	MaxAge  time.Duration // of a step-up: a sign-in no older, 0 for any

	From, Until time.Time // when it holds; zero for always

	Revision int
	when     *expression.Expression
	Broken   bool // it cannot be read any more: whoever it may be about does not enter
}

// Holds reports whether a rule holds at a time.
func (r *Rule) Holds(now time.Time) bool {
	return !now.Before(r.From) && (r.Until.IsZero() || now.Before(r.Until))
}

// Everybody reports whether a rule is about everybody, for good.
func (r *Rule) Everybody() bool {
	return !r.Broken && len(r.People)+len(r.Groups)+len(r.Organisations)+len(r.UserTypes)+len(r.Providers)+len(r.Networks)+len(r.Contexts) == 0 &&
		r.When == "" && r.From.IsZero() && r.Until.IsZero()
}

// AccessRules describes access rules.
var AccessRules = &Description{Kind: KindRule, Check: checkRule, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200, Text: "What people read, like Drivers enter"},
	{Name: "application", Label: "Application", Type: Named, Refers: KindApplication, Most: 63,
		Text: "Whose rule it is", Default: "every application"},
	{Name: "order", Label: "Place", Type: OneLine, Most: 6,
		Text:    "Place among the rules of the application, or of the gate: the lowest is looked at first, like 10",
		Default: "0"},
	{Name: "then", Label: "What becomes of them", Type: OneOf, Choices: []string{"allow", "deny", "step-up"},
		Words: map[string]string{"allow": "they enter", "deny": "they do not enter",
			"step-up": "they sign in more strongly, or afresh, first"},
		Text: "What becomes of those whom it is about"},
	{Name: "groups", Label: "Groups", Type: Values, Refers: KindGroup, Group: GroupWho, Most: 63,
		Text: "They are in one of these, or in one that lies in it"},
	{Name: "alone", Label: "Of the groups, their own members alone", Type: Switch, Group: GroupWho},
	{Name: "organisations", Label: "Organisations", Type: Values, Refers: KindOrganisation, Group: GroupWho, Most: 63,
		Text: "They belong to one of these"},
	{Name: "userTypes", Label: "User types", Type: Values, Group: GroupWho, Most: 100,
		Text: "They are marked as one of these by an engineer, a list, a group, an organisation or a provider's record or rules; " +
			"what a provider says of its own accord does not count"},
	{Name: "people", Label: "Single people", Type: Values, Group: GroupWho, Most: 20, Text: "Numbers of accounts"},
	{Name: "providers", Label: "Providers", Type: Values, Refers: KindProvider, Group: GroupWho, Most: 63,
		Text: "They came by one of these"},
	{Name: "networks", Label: "Networks", Type: Values, Group: GroupWho, Most: 50,
		Text: "Their browser is in one of these, like 192.0.2.0/24 or 2001:db8::/48; of IPv6 no finer than /64, which is what the gate keeps"},
	{Name: "contexts", Label: "Authentication contexts", Type: Values, Group: GroupWho, Most: 1000,
		Text: "They signed in as strongly as one of these at least, by the ranking of contexts"},
	{Name: "when", Label: "Condition on attributes", Type: OneLine, Group: GroupWho, Most: 4000,
		Text: "Expression in CEL over attributes of the profile, like attributes.department.exists(d, d == 'depot'); only values that are proved count, " +
			"an attribute without any is an empty list, and an expression that fails denies"},
	{Name: "say", Label: "What they read if they do not enter", Type: OneLine, Most: 300, Group: GroupThen,
		Text: "One sentence for those who are denied, like Ask the depot lead to be let in"},
	{Name: "context", Label: "Sign in at least as strongly as", Type: OneLine, Most: 1000, Group: GroupThen,
		Text: "Of step-up: an authentication context of the ranking"},
	{Name: "maxAge", Label: "Sign in no longer ago than", Type: Duration, Most: 20, Group: GroupThen,
		Text: "Of step-up: like 30m"},
	{Name: "from", Label: "Holds from", Type: Day, Most: 25, Group: GroupWhen,
		Text: "Day, like 2027-01-31, or moment, like 2027-01-31T12:00:00Z", Default: "at once"},
	{Name: "until", Label: "Holds until", Type: Day, Most: 25, Group: GroupWhen,
		Text: "Day to whose end (UTC) it holds, or moment", Default: "for good"},
}}

// Groups of the settings of rules on forms.
const (
	GroupWho  = "Whom it is about"
	GroupThen = "What follows"
	GroupWhen = "When it holds"
)

// RuleOf reads a rule. The error is a SettingError.
func RuleOf(p *Plain) (*Rule, error) {
	in := saidBy(p)
	s := in.Settings
	r := &Rule{Name: p.Name, App: Name(in.text("application")), Title: in.text("title"), Then: Outcome(in.text("then")),
		Say:     in.text("say"),
		Context: in.text("context"), Contexts: listOf[string](s, "contexts"), UserTypes: listOf[string](s, "userTypes"),
		Groups:        listOf[Name](s, "groups"),
		Organisations: listOf[Name](s, "organisations"), Providers: listOf[Name](s, "providers"), Alone: in.is("alone"),
		When:  in.text("when"),
		Order: in.place(), People: in.people(), when: in.condition("when")}
	for _, t := range listOf[string](s, "networks") {
		n, err := network(t)
		r.Networks = append(r.Networks, n)
		in.bad("networks", err)
	}
	if t := in.text("maxAge"); t != "" {
		d, err := time.ParseDuration(t)
		if r.MaxAge = d; err != nil || d < time.Minute || d > 30*24*time.Hour {
			in.bad("maxAge", fmt.Errorf("%q is no time that is taken; give one from 1m to 720h, like 30m", t))
		}
	}
	var err error
	r.From, err = moment(in.text("from"), 0)
	in.bad("from", err)
	r.Until, err = moment(in.text("until"), 24*time.Hour)
	in.bad("until", err)
	return r, in.err
}

// Reads are the attributes that the condition of a rule names.
func (r *Rule) Reads() []string {
	if r.when == nil {
		return nil
	}
	return r.when.Reads
}

// True runs the condition of a rule. An attribute that it names and that is not there is an empty list.
func (r *Rule) True(f expression.Facts) (bool, error) {
	if r.when == nil {
		return r.When == "", nil
	}
	for _, name := range r.when.Reads {
		if _, there := f.Attributes[name]; !there {
			f.Attributes[name] = []any{}
		}
	}
	return r.when.True(f)
}

func listOf[T ~string](s Settings, name string) (out []T) {
	all, _ := s[name].([]any)
	for _, v := range all {
		if text, is := v.(string); is {
			out = append(out, T(text))
		}
	}
	return out
}

// network reads a network range. What the gate does not keep of an address cannot be judged.
func network(text string) (netip.Prefix, error) {
	p, err := netip.ParsePrefix(text)
	if a, bare := netip.ParseAddr(text); err != nil && bare == nil && a.Is4() {
		p, err = netip.PrefixFrom(a, 32), nil
	}
	switch {
	case err != nil:
		return p, fmt.Errorf("%q is no network; write it like 192.0.2.0/24 or 2001:db8::/48", text)
	case p.Addr().Is4In6():
		return p, fmt.Errorf("%q is IPv4 written as IPv6; write it like 192.0.2.0/24", text)
	case p.Addr().Zone() != "" || p.Masked() != p:
		return p, fmt.Errorf("%q has bits behind its length; write %s", text, p.Masked())
	case p.Addr().Is6() && p.Bits() > 64:
		return p, fmt.Errorf("%q is finer than /64, and of IPv6 the gate keeps no more; write %s", text,
			netip.PrefixFrom(p.Addr(), 64).Masked())
	}
	return p, nil
}

// moment reads a day or a moment; a day counts from its beginning, or to the end of so long after.
func moment(text string, after time.Duration) (time.Time, error) {
	if text == "" {
		return time.Time{}, nil
	}
	if t, err := time.Parse(time.DateOnly, text); err == nil {
		return t.Add(after), nil
	}
	t, err := time.Parse(time.RFC3339, text)
	if err != nil {
		return t, fmt.Errorf("%q is neither a day nor a moment; write it like 2027-01-31 or 2027-01-31T12:00:00Z", text)
	}
	return t, nil
}

// checkRule sees whether a rule can be so.
func checkRule(after *Snapshot, p *Plain) error {
	r, err := RuleOf(p)
	if err != nil {
		return err
	}
	ranked := func(context string) error {
		if _, ok := after.Gate.Contexts.rank(context); !ok {
			return fmt.Errorf("%q has no rank, so nothing is known to be as strong; give it one (innergate context set)",
				context)
		}
		return nil
	}
	for _, c := range r.Contexts {
		if err := ranked(c); err != nil {
			return &SettingError{"contexts", err}
		}
	}
	switch {
	case r.Then == "":
		return &SettingError{"then", errors.New("say what becomes of them: allow, deny or step-up")}
	case r.Title == "":
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	case !r.Until.IsZero() && !r.From.Before(r.Until):
		return &SettingError{"until", errors.New("it ends before it begins")}
	case r.Then == StepUp && r.Context == "" && r.MaxAge == 0:
		return &SettingError{"context", errors.New("a step-up asks for something: give a context, or maxAge")}
	case r.Then != StepUp && (r.Context != "" || r.MaxAge != 0):
		return &SettingError{"context",
			errors.New("only a step-up asks for a context or an age; contexts says how they came")}
	case r.Then != Deny && r.Say != "":
		return &SettingError{"say", errors.New("only those who are denied read a sentence")}
	case r.Alone && len(r.Groups) == 0:
		return &SettingError{"alone", errors.New("it says something of groups, and none is named")}
	}
	if r.Context != "" {
		if err := ranked(r.Context); err != nil {
			return &SettingError{"context", err}
		}
	}
	return nil
}

// Book is the rules that are looked at for one application, in their order, and where to find those that
// can be about somebody.
type Book struct {
	Rules []*Rule
	Mark  string // which rules, at which revisions
	Units bool   // some ask for groups, organisations, or how people are marked
	first
	Last   int // the place of the first rule behind the admissions
	admits map[Name]Admission

	Roles  []*Role // of the application, in their order
	roster roster
}

// Says reports whether something is said of who enters.
func (b *Book) Says() bool { return len(b.Rules)+len(b.admits) > 0 }

// first are rules by what they ask for first, each by its place.
type first struct {
	byPerson                           map[int64][]int
	byGroup, byAlone, byOf, byProvider map[Name][]int
	byType                             map[string][]int
	byNetwork                          map[netip.Prefix][]int
	widths                             []netip.Prefix // of networks, one of each family and width
	any                                []int
}

// Somebody is what is known of a person by which rules are found that can be about them.
type Somebody struct {
	Person        int64
	Groups        []Name // that they are in themselves
	Around        []Name // all that they are in
	Organisations []Name
	UserType      string
	Provider      Name
	Network       netip.Prefix
}

// For gives the places of rules that can be about somebody: in their order, each once.
func (b *Book) For(k Somebody) []int {
	out := append(make([]int, 0, len(b.any)+32), b.any...)
	out = append(out, b.byPerson[k.Person]...)
	out = found(out, b.byGroup, k.Around)
	out = found(out, b.byAlone, k.Groups)
	out = found(out, b.byOf, k.Organisations)
	out = append(out, b.byType[k.UserType]...)
	out = append(out, b.byProvider[k.Provider]...)
	for _, w := range b.widths {
		if !k.Network.IsValid() || w.Addr().Is4() != k.Network.Addr().Is4() || w.Bits() > k.Network.Bits() {
			continue
		}
		if around, err := k.Network.Addr().Prefix(w.Bits()); err == nil {
			out = append(out, b.byNetwork[around]...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

func found(out []int, by map[Name][]int, names []Name) []int {
	if len(by) == 0 {
		return out
	}
	for _, n := range names {
		out = append(out, by[n]...)
	}
	return out
}

// put finds a rule by what it asks for first.
func (f *first) put(r *Rule, at int) {
	switch {
	case len(r.People) > 0:
		f.byPerson = under(f.byPerson, r.People, at)
	case len(r.Groups) > 0 && r.Alone:
		f.byAlone = under(f.byAlone, r.Groups, at)
	case len(r.Groups) > 0:
		f.byGroup = under(f.byGroup, r.Groups, at)
	case len(r.Organisations) > 0:
		f.byOf = under(f.byOf, r.Organisations, at)
	case len(r.UserTypes) > 0:
		f.byType = under(f.byType, r.UserTypes, at)
	case len(r.Providers) > 0:
		f.byProvider = under(f.byProvider, r.Providers, at)
	case len(r.Networks) > 0 && !r.Broken: // of a broken one they may not be all
		masked := make([]netip.Prefix, len(r.Networks))
		for i, n := range r.Networks {
			masked[i] = n.Masked()
			if !slices.ContainsFunc(f.widths, func(w netip.Prefix) bool {
				return w.Addr().Is4() == n.Addr().Is4() && w.Bits() == n.Bits()
			}) {
				f.widths = append(f.widths, masked[i])
			}
		}
		f.byNetwork = under(f.byNetwork, masked, at)
	default:
		f.any = append(f.any, at)
	}
}

func under[K comparable](by map[K][]int, all []K, at int) map[K][]int {
	if by == nil {
		by = map[K][]int{}
	}
	for _, k := range all {
		by[k] = append(by[k], at)
	}
	return by
}

// newBook puts rules in their order and finds them by what they ask for first.
func newBook(rules []*Rule) *Book {
	b := &Book{}
	place := func(r *Rule) int { // denials of the gate, the application's own, others of the gate
		switch {
		case r.App != "":
			return 1
		case r.Then == Deny:
			return 0
		}
		return 2
	}
	b.Rules = rules
	slices.SortFunc(b.Rules, func(x, y *Rule) int {
		return cmp.Or(place(x)-place(y), x.Order-y.Order, strings.Compare(string(x.Name), string(y.Name)))
	})
	var mark strings.Builder
	for i, r := range b.Rules {
		fmt.Fprintf(&mark, "%s@%d ", r.Name, r.Revision)
		b.Units = b.Units || len(r.Groups)+len(r.Organisations)+len(r.UserTypes) > 0
		b.put(r, i)
	}
	b.Mark = mark.String()
	b.Last = len(b.Rules)
	if i := slices.IndexFunc(b.Rules, func(r *Rule) bool { return place(r) == 2 }); i >= 0 {
		b.Last = i
	}
	return b
}

// admit has groups admitted, or kept out, by name.
func (b *Book) admit(a Admissions) {
	b.admits, _ = a.Read() // they were looked at when they were saved
	b.Units = b.Units || len(b.admits) > 0
	b.Mark += admitting.Line(listed.Pairs(a))
}

// readRules gathers the rules and admissions by application; "" is for those that have none of their own.
func (s *Snapshot) readRules() {
	of := map[Name][]*Rule{"": nil} // by application, "" those of the gate
	for name, a := range s.apps {
		if len(a.Admissions) > 0 {
			of[name] = nil
		}
	}
	read := make(map[*Plain]*Rule, len(s.rules))
	for r, o := range s.others {
		p, is := o.(*Plain)
		if r.Kind != KindRule || !is {
			continue
		}
		rule := s.rules[p]
		if rule == nil {
			var err error
			if rule, err = RuleOf(p); err != nil {
				// One that an earlier build took and that cannot be read denies those whom it may be about.
				rule.Then, rule.Say, rule.Broken = Deny, "", true
			}
			rule.Revision = p.Revision
		}
		read[p] = rule
		of[rule.App] = append(of[rule.App], rule)
	}
	roles := s.readRoles()
	for app := range roles {
		of[app] = of[app] // a book of its own
	}
	s.rules, s.books = read, map[Name]*Book{}
	for app, own := range of {
		if app != "" {
			own = append(own, of[""]...)
		}
		s.books[app] = newBook(own)
		s.books[app].cast(roles[app])
		if a, there := s.apps[app]; there {
			s.books[app].admit(a.Admissions)
		}
	}
}

// Enters reports whether entry to an application is decided by the same rules, over the same groups and
// organisations, in two snapshots.
func (s *Snapshot) Enters(app Name, other *Snapshot) bool {
	a, b := s.Book(app), other.Book(app)
	return a.Mark == b.Mark && (s.units == other.units || !a.Units)
}

// Rules are all access rules, by name.
func (s *Snapshot) Rules() []*Rule {
	return slices.SortedFunc(maps.Values(s.rules), func(a, b *Rule) int { return cmp.Compare(a.Name, b.Name) })
}

// NamedBy are the access rules that name a person.
func (s *Snapshot) NamedBy(person int64) (out []Name) {
	for _, r := range s.Rules() {
		if slices.Contains(r.People, person) {
			out = append(out, r.Name)
		}
	}
	return out
}

// Rule finds an access rule by name.
func (s *Snapshot) Rule(n Name) (*Rule, bool) {
	p, is := s.others[Ref{KindRule, n}].(*Plain)
	return s.rules[p], is && s.rules[p] != nil
}

// Book gives the rules that are looked at for an application.
func (s *Snapshot) Book(app Name) *Book {
	if b, own := s.books[app]; own {
		return b
	}
	if b := s.books[""]; b != nil {
		return b
	}
	return &Book{}
}
