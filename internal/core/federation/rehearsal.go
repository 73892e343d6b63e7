package federation

import (
	"cmp"
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/nearword"
)

// KindRehearsal is the kind of rehearsals.
const KindRehearsal Kind = "rehearsal"

// Sides on which a rehearsal starts.
const (
	StartApplication = "application"
	StartGate        = "gate"
	StartProvider    = "provider"
)

// Rehearsals describes saved sign-in tests.
var Rehearsals = &Description{Kind: KindRehearsal, Check: checkRehearsal, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200,
		Text: "What is rehearsed, like A driver enters from the roster"},
	{Name: "application", Label: "Application", Type: Named, Refers: KindApplication, Most: 63,
		Text: "What somebody signs in to"},
	{Name: "provider", Label: "Provider", Type: Named, Refers: KindProvider, Most: 63, Text: "By which they come",
		Default: "as the rules decide"},
	{Name: "start", Label: "Starts at", Type: OneOf, Choices: []string{StartGate, StartApplication, StartProvider},
		Words: map[string]string{StartGate: "the gate", StartApplication: "the application",
			StartProvider: "the provider"},
		Default: "gate",
		Text:    "Which side begins: the application is opened and asks itself, the gate starts as a portal does, or the provider sends an answer that nobody asked for"},
	{Name: "force", Label: "Sign in afresh", Type: Switch, Group: GroupWish,
		Text: "The provider is asked not to let a session of before do"},
	{Name: "passive", Label: "Without asking anything", Type: Switch, Group: GroupWish,
		Text: "Of a start at the gate: nobody is shown a page"},
	{Name: "context", Label: "Sign in at least as strongly as", Type: OneLine, Most: 1000, Group: GroupWish,
		Text: "Of a start at the gate: an authentication context of the ranking"},
	{Name: "role", Label: "Role that is asked for", Type: OneLine, Most: 63, Group: GroupWish,
		Text: "Of a start at the gate: one of the application's"},
	{Name: "expect", Label: "Expected", Type: Values, Most: 2000,
		Text: "One a line: entered; refused; refused by FINDING-CODE; refused by rule NAME; name is VALUE; name matches PATTERN; " +
			"attribute NAME is VALUE (exactly those that lines name), has VALUE, matches PATTERN, present or absent; " +
			"role is NAME; person is NUMBER; within 30s",
		Default: "entered"},
	{Name: "notes", Label: "Notes", Type: Lines, Most: 20000, Text: "Why it is rehearsed so"},
}}

// GroupWish groups what a rehearsal wishes.
const GroupWish = "What is wished"

// RehearsalPlan is a rehearsal as it was saved.
type RehearsalPlan struct {
	Name           Name
	Title          string
	App, Provider  Name
	Start          string
	Force, Passive bool
	Context, Role  string
	Expect         []Expectation
	Revision       int
	Added          time.Time
}

// RehearsalOf reads a rehearsal. The error is a SettingError.
func RehearsalOf(p *Plain) (*RehearsalPlan, error) {
	in := saidBy(p)
	out := &RehearsalPlan{Name: p.Name, Title: in.text("title"), App: Name(in.text("application")),
		Provider: Name(in.text("provider")), Start: cmp.Or(in.text("start"), StartGate), Force: in.is("force"),
		Passive: in.is("passive"), Context: in.text("context"), Role: in.text("role"), Revision: p.Revision, Added: p.Added}
	var err error
	out.Expect, err = ParseExpectations(listOf[string](in.Settings, "expect"))
	in.bad("expect", err)
	return out, in.err
}

// mostRehearsals bounds how many there are of one application.
const mostRehearsals = 200

// checkRehearsal sees whether a rehearsal can be so, and whether what it expects can ever hold.
func checkRehearsal(after *Snapshot, p *Plain) error {
	r, err := RehearsalOf(p)
	if err != nil {
		return err
	}
	app, there := after.Application(r.App)
	switch {
	case r.App == "":
		return &SettingError{"application", errors.New("it is empty; say what somebody signs in to")}
	case !there:
		return &SettingError{"application", fmt.Errorf("there is no application %q", r.App)}
	case r.Title == "":
		return &SettingError{"title", errors.New("the title is empty; say what is rehearsed")}
	case len(after.RehearsalsOf(r.App)) > mostRehearsals:
		return &SettingError{"application", fmt.Errorf("there are more than %d rehearsals of it", mostRehearsals)}
	case app.Provider != "" && r.Provider != "" && app.Provider != r.Provider:
		return &SettingError{"provider",
			fmt.Errorf("the application is tied to %s: nobody comes by %s; leave it empty, or set provider of the application",
				app.Provider, r.Provider)}
	case r.Start == StartProvider && r.Provider == "" && app.Provider == "":
		return &SettingError{"provider", errors.New("a rehearsal that starts at the provider has to name it")}
	case r.Start == StartApplication && (r.Passive || r.Context != "" || r.Role != ""):
		return &SettingError{"start",
			errors.New("an application that starts says itself what it wishes; leave out passive, context and role")}
	}
	return checkExpected(after, r)
}

// checkExpected sees that roles and rules which are expected are there.
func checkExpected(after *Snapshot, r *RehearsalPlan) error {
	roles := []string{}
	for _, one := range after.Book(r.App).Roles {
		roles = append(roles, one.As)
	}
	role := func(field, name string) error {
		if slices.Contains(roles, name) {
			return nil
		}
		err := fmt.Errorf("%s has no role %q", r.App, name)
		if near := nearword.Of(name, roles); near != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, near)
		}
		return &SettingError{field, err}
	}
	if r.Role != "" {
		if err := role("role", r.Role); err != nil {
			return err
		}
	}
	for _, e := range r.Expect {
		switch {
		case e.Of == "role":
			if err := role("expect", e.Value); err != nil {
				return err
			}
		case e.Rule() != "":
			if rule, there := after.Rule(e.Rule()); !there || rule.App != "" && rule.App != r.App {
				return &SettingError{"expect", fmt.Errorf("there is no access rule %q that is about %s", e.Rule(), r.App)}
			}
		}
	}
	return nil
}

// Rehearsal finds a rehearsal by name.
func (s *Snapshot) Rehearsal(n Name) (*RehearsalPlan, bool) {
	p, is := s.others[Ref{KindRehearsal, n}].(*Plain)
	if !is {
		return nil, false
	}
	r, err := RehearsalOf(p)
	return r, err == nil
}

// AllRehearsals are those there are, by name.
func (s *Snapshot) AllRehearsals() (out []*RehearsalPlan) {
	for ref := range s.others {
		if r, there := s.Rehearsal(ref.Name); there && ref.Kind == KindRehearsal {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *RehearsalPlan) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// RehearsalsOf are those of an application, by name.
func (s *Snapshot) RehearsalsOf(app Name) []*RehearsalPlan {
	return slices.DeleteFunc(s.AllRehearsals(), func(r *RehearsalPlan) bool { return r.App != app })
}
