package trace

import (
	"fmt"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"slices"
	"strings"
)

// Remedy is a single change that lets somebody in who was refused.
type Remedy struct {
	Kind    string // RemedyNone and so on
	Says    string // in words
	Command string // that makes it, "" for none
}

// Kinds of remedies, the smallest first.
const (
	RemedyNone       = "none"       // nothing is to be done: by the configuration of now they enter
	RemedyAdmission  = "admission"  // the person is admitted by name
	RemedyRole       = "role"       // the person is given a role
	RemedyMembership = "membership" // the person becomes a member of a group
	RemedyRule       = "rule"       // the rule that decided goes
	RemedySetting    = "setting"    // whoever nothing else is about enters
)

// Bounds of remedies: how many groups are tried, and how many remedies are told.
const (
	mostTried = 40
	mostTold  = 6
)

// Remedies are the single changes each of which, run through the recorded turn in which somebody was refused entry,
// lets them in: the smallest first. None if the turn was not such a refusal. As gives what is kept of a person by now.
func Remedies(snap *federation.Snapshot, in Entry, as func(id int64) (person.Person, error)) ([]Remedy, error) {
	app, there := snap.Application(in.Decided.App)
	if !there || !crossing.OfEntry(&finding.Finding{Code: in.Decided.Finding}) ||
		in.Decided.Finding == finding.PersonDisabled {
		return nil, nil
	}
	r := remedying{snap: snap, in: in, app: app}
	t := run(snap, in)
	if r.person = t.Person.ID; r.person != 0 {
		now, err := as(r.person)
		if err != nil {
			return nil, err
		}
		r.in = r.with(func(p *person.Person) { p.Admitted, p.Members = now.Admitted, now.Members })
		t = run(snap, r.in)
	}
	if in = r.in; r.enters(t) {
		return []Remedy{{RemedyNone, "By the configuration of now they enter.", ""}}, nil
	}
	if r.person != 0 {
		r.byPerson()
	}
	if rule := t.Entry.Rule; rule != nil {
		if o, is := snap.Object(federation.Ref{Kind: federation.KindRule, Name: rule.Name}); is &&
			r.enters(run(snap.Lacking(o), in)) {
			r.add(RemedyRule, fmt.Sprintf("Remove the rule %s: %s, or exempt them from it.", rule.Name, rule.Title),
				"innergate object remove rule/"+string(rule.Name))
		}
	}
	if open := *app; app.Everyone == federation.EveryoneNo {
		open.Everyone = federation.EveryoneYes
		if r.enters(run(snap.With(&open), in)) {
			r.add(RemedySetting, "Let everyone in about whom nothing else is said.",
				fmt.Sprintf("innergate app admit %s --everyone", app.Name))
		}
	}
	return r.out[:min(len(r.out), mostTold)], nil
}

// remedying looks for what lets somebody in.
type remedying struct {
	snap   *federation.Snapshot
	in     Entry
	app    *federation.Application
	person int64
	out    []Remedy
}

func (r *remedying) add(kind, says, command string) {
	r.out = append(r.out, Remedy{kind, says, command})
}

// enters reports whether a turn lets somebody in, or asks them for more.
func (r *remedying) enters(t crossing.Turn) bool {
	return t.Finding == nil && t.Entry.By != "" && t.Entry.Outcome != federation.Deny
}

// with is the recorded turn, had the person been other.
func (r *remedying) with(change func(p *person.Person)) Entry {
	in := r.in
	in.People, in.Having = map[string]person.Person{}, map[string][]person.Person{}
	for key, p := range r.in.People {
		if p.ID == r.person {
			change(&p)
		}
		in.People[key] = p
	}
	for key, some := range r.in.Having {
		some = slices.Clone(some)
		for i := range some {
			if some[i].ID == r.person {
				change(&some[i])
			}
		}
		in.Having[key] = some
	}
	return in
}

// byPerson tries an admission, each role, and membership of each group of which something is said.
func (r *remedying) byPerson() {
	admitted := r.with(func(p *person.Person) {
		p.Admitted = append(slices.Clone(p.Admitted),
			person.Admitted{App: r.app.ID})
	})
	if r.enters(run(r.snap, admitted)) {
		r.add(RemedyAdmission, fmt.Sprintf("Admit person %d by name.", r.person),
			fmt.Sprintf("innergate app admit %s --person %d", r.app.Name, r.person))
	}
	book := r.snap.Book(r.app.Name)
	var groups []federation.Name
	for _, role := range book.Roles {
		groups = append(groups, role.Groups...)
		if o, is := r.snap.Object(federation.Ref{Kind: federation.KindRole, Name: role.Name}); is && len(r.out) < mostTold {
			if given, err := holding(o.(*federation.Plain), r.person); err == nil && r.enters(run(r.snap.With(given), r.in)) {
				r.add(RemedyRole, fmt.Sprintf("Give person %d the role %s.", r.person, role.As),
					fmt.Sprintf("innergate role put %s people=%s", role.Name, numbersWith(role.People, r.person)))
			}
		}
	}
	for _, rule := range book.Rules {
		if rule.Then != federation.Deny {
			groups = append(groups, rule.Groups...)
		}
	}
	groups = append(groups, r.app.Admissions.Groups()...)
	slices.Sort(groups)
	groups = slices.Compact(groups)
	for _, g := range groups[:min(len(groups), mostTried)] {
		joined := r.with(func(p *person.Person) {
			p.Members = append(slices.Clone(p.Members), person.Membership{Kind: federation.KindGroup, Name: g,
				Source: person.FromHand})
		})
		if len(r.out) < mostTold && r.enters(run(r.snap, joined)) {
			r.add(RemedyMembership, fmt.Sprintf("Make person %d a member of %s.", r.person, g),
				fmt.Sprintf("innergate person set %d --join group/%s", r.person, g))
		}
	}
}

// holding is a role that names somebody, too.
func holding(p *federation.Plain, person int64) (federation.Object, error) {
	named, err := federation.PeopleOf(p)
	if err != nil {
		return nil, err
	}
	list := []any{}
	for _, n := range append(named, person) {
		list = append(list, fmt.Sprint(n))
	}
	return p.Apply(federation.Settings{"people": list})
}

func numbersWith(all []int64, more int64) string {
	var words []string
	for _, n := range append(slices.Clone(all), more) {
		words = append(words, fmt.Sprint(n))
	}
	return strings.Join(words, "|")
}
