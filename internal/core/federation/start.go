package federation

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
)

// KindStart is the kind of starting points.
const KindStart Kind = "start"

// Bounds of starting points: octets of a landing value, and how many one application has.
const (
	longestLanding = 4096
	mostStarts     = 1000
)

// Start is one of several places in an application where a start at the gate may land.
type Start struct {
	Name, App   Name
	Title, Text string
	Target      string // what the application is told to land at, as the engineer wrote it
	Role        Name   // with which people enter there, "" for as they are
	Order       int
	Seen        *Rule // whom it is shown to, nil for whoever enters

	Revision int
	Broken   bool // it cannot be read any more: nobody is shown it
}

// Landing says what the landing value of a starting point is towards an application.
type Landing interface {
	// Lands sees whether an engineer's landing value can be told it, in words for them.
	Lands(target string) error
}

// StartingPoints describes them.
var StartingPoints = &Description{Kind: KindStart, Check: checkStart, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200, Text: "What people read, like My shifts today"},
	{Name: "application", Label: "Application", Type: Named, Refers: KindApplication, Most: 63,
		Text: "Whose starting point it is"},
	{Name: "description", Label: "Description", Type: OneLine, Most: 300, Text: "What people read below the title"},
	{Name: "target", Label: "Landing value", Type: OneLine, Most: longestLanding,
		Text: "What the application is told to land at, as it is: as RelayState any text; as target_link_uri, or of a link, an address"},
	{Name: "order", Label: "Place", Type: OneLine, Most: 6,
		Text: "Place among the starting points of the application, the lowest first, like 10", Default: "0"},
	{Name: "role", Label: "As what", Type: Named, Refers: KindRole, Most: 63,
		Text: "Short name of the role with which people enter there; whoever does not hold it is not shown the starting point"},
	{Name: "groups", Label: "Shown to groups", Type: Values, Refers: KindGroup, Group: GroupWho, Most: 63,
		Text: "They are in one of these, or in one that lies in it; with nothing said here everybody is shown it who enters the application"},
	{Name: "organisations", Label: "Shown to organisations", Type: Values, Refers: KindOrganisation, Group: GroupWho,
		Most: 63, Text: "They belong to one of these"},
	{Name: "userTypes", Label: "Shown to user types", Type: Values, Group: GroupWho, Most: 100,
		Text: "They are marked as one of these"},
	{Name: "people", Label: "Shown to single people", Type: Values, Group: GroupWho, Most: 20,
		Text: "Numbers of accounts"},
	{Name: "networks", Label: "Shown in networks", Type: Values, Group: GroupWho, Most: 50,
		Text: "Their browser is in one of these, like 192.0.2.0/24"},
	{Name: "when", Label: "Shown under a condition", Type: OneLine, Group: GroupWho, Most: 4000,
		Text: "Expression in CEL over attributes, like attributes.department.exists(d, d == 'depot'); only values that are proved count"},
}}

// StartOf reads a starting point. The error is a SettingError.
func StartOf(p *Plain) (*Start, error) {
	in := saidBy(p)
	s := in.Settings
	target, _ := s["target"].(string)
	out := &Start{Name: p.Name, App: Name(in.text("application")), Title: in.text("title"), Text: in.text("description"),
		Target: target,
		Role:   Name(in.text("role")), Order: in.place(), Revision: p.Revision}
	seen := &Rule{Name: p.Name, Title: out.Title, Groups: listOf[Name](s, "groups"),
		Organisations: listOf[Name](s, "organisations"),
		UserTypes:     listOf[string](s, "userTypes"), People: in.people(), When: in.text("when"),
		when: in.condition("when")}
	for _, t := range listOf[string](s, "networks") {
		n, err := network(t)
		seen.Networks = append(seen.Networks, n)
		in.bad("networks", err)
	}
	if !seen.Everybody() {
		out.Seen = seen
	}
	return out, in.err
}

// checkStart sees whether a starting point can be so.
func checkStart(after *Snapshot, p *Plain) error {
	s, err := StartOf(p)
	if err != nil {
		return err
	}
	switch {
	case s.App == "":
		return &SettingError{"application", errors.New("it is empty; say whose starting point it is")}
	case s.Title == "":
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	case len(s.Target) > longestLanding:
		return &SettingError{"target", fmt.Errorf("it has %d octets; an application is told at most %d", len(s.Target),
			longestLanding)}
	}
	if s.Role != "" {
		if r, there := after.Role(s.Role); there && r.App != s.App {
			return &SettingError{"role", fmt.Errorf("%s is a role of %s; name one of %s", s.Role, r.App, s.App)}
		}
	}
	if n := len(after.StartsOf(s.App)); n > mostStarts {
		return &SettingError{"application", fmt.Errorf("it has %d starting points; an application has at most %d", n,
			mostStarts)}
	}
	a, there := after.Application(s.App)
	if there && s.Target != "" {
		side := a.Side.Can().Landing
		if side == nil {
			return &SettingError{"target", fmt.Errorf("%s cannot be told where to land; leave it empty", s.App)}
		}
		if err := side.Lands(s.Target); err != nil {
			return &SettingError{"target", err}
		}
	}
	return nil
}

// Starts are all starting points, by name.
func (s *Snapshot) Starts() []*Start {
	return slices.SortedFunc(maps.Values(s.starts.read), func(a, b *Start) int { return cmp.Compare(a.Name, b.Name) })
}

// StartsOf are those of an application, in their order. The slice is shared and not to be changed.
func (s *Snapshot) StartsOf(app Name) []*Start { return s.starts.of[app] }

// Start finds a starting point by name.
func (s *Snapshot) Start(n Name) (*Start, bool) {
	p, is := s.others[Ref{KindStart, n}].(*Plain)
	return s.starts.read[p], is && s.starts.read[p] != nil
}

// starts are starting points as they were read, and by application.
type starts struct {
	read map[*Plain]*Start
	of   map[Name][]*Start
}

func (s *Snapshot) readStarts() {
	out := starts{map[*Plain]*Start{}, map[Name][]*Start{}}
	for r, o := range s.others {
		p, is := o.(*Plain)
		if r.Kind != KindStart || !is {
			continue
		}
		start := s.starts.read[p]
		if start == nil {
			var err error
			start, err = StartOf(p)
			start.Broken = err != nil
		}
		out.read[p] = start
		out.of[start.App] = append(out.of[start.App], start)
	}
	for _, all := range out.of {
		slices.SortFunc(all, func(x, y *Start) int {
			return cmp.Or(x.Order-y.Order,
				strings.Compare(string(x.Name), string(y.Name)))
		})
	}
	s.starts = out
}
