package federation

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"
	"unicode"
)

// KindRole is the kind of roles.
const KindRole Kind = "role"

// Role is what somebody is in one application, and what is sent for it. Whoever is named holds it, by themselves or by
// a group or organisation of theirs, and whoever its rule is about.
type Role struct {
	Name, App Name
	As        string // by which it is asked for, and that lists show
	Title     string
	Order     int
	Values    []string // sent for it

	People        []int64
	Groups        []Name
	Organisations []Name
	Rule          *Rule // whoever it is about holds it, too; nil for none

	Revision int
	Broken   bool // it cannot be read any more: nobody holds it
}

// Bounds of a role.
const (
	mostRoleValues  = 50
	longestRole     = 100
	mostRolesOfApp  = 500
	longestRoleText = 1000
)

// Roles describes them.
var Roles = &Description{Kind: KindRole, Check: checkRole, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200, Text: "What people read, like Line controller"},
	{Name: "application", Label: "Application", Type: Named, Refers: KindApplication, Most: 63, Text: "Whose role it is"},
	{Name: "role", Label: "Name in the application", Type: OneLine, Most: longestRole,
		Text:    "By which it is asked for at a sign-in, and lists show it, like controller",
		Default: "the short name of the object"},
	{Name: "order", Label: "Place", Type: OneLine, Most: 6,
		Text: "Where one role alone is sent, the lowest that somebody holds, like 10", Default: "0"},
	{Name: "values", Label: "Values that are sent for it", Type: Values, Group: GroupThen, Most: longestRoleText,
		Text: "What a release mapping sends for it (source role), letter by letter as the application knows it"},
	{Name: "people", Label: "Single people", Type: Values, Group: GroupWho, Most: 20,
		Text: "Numbers of accounts that hold it"},
	{Name: "groups", Label: "Groups", Type: Values, Refers: KindGroup, Group: GroupWho, Most: 63,
		Text: "Their people hold it. Of nested groups the nearest that a role of the application names counts alone"},
	{Name: "organisations", Label: "Organisations", Type: Values, Refers: KindOrganisation, Group: GroupWho, Most: 63,
		Text: "Their people hold it"},
	{Name: "userTypes", Label: "By rule: user types", Type: Values, Group: GroupWho, Most: 100,
		Text: "Whoever is marked as one of these holds it, too; with providers or a condition all must hold"},
	{Name: "providers", Label: "By rule: providers", Type: Values, Refers: KindProvider, Group: GroupWho, Most: 63,
		Text: "Whoever came by one of these holds it, too"},
	{Name: "when", Label: "By rule: condition on attributes", Type: OneLine, Group: GroupWho, Most: 4000,
		Text: "Whoever fulfils this expression in CEL holds it, too, like attributes.department.exists(d, d == 'depot'); only values that are proved count"},
}}

// RoleOf reads a role. The error is a SettingError.
func RoleOf(p *Plain) (*Role, error) {
	in := saidBy(p)
	s := in.Settings
	r := &Role{Name: p.Name, App: Name(in.text("application")), As: cmp.Or(in.text("role"), string(p.Name)),
		Title:  in.text("title"),
		Values: listOf[string](s, "values"), Groups: listOf[Name](s, "groups"), Organisations: listOf[Name](s,
			"organisations"),
		Order: in.place(), People: in.people(), Revision: p.Revision}
	by := &Rule{Name: p.Name, Title: r.Title, UserTypes: listOf[string](s, "userTypes"),
		Providers: listOf[Name](s, "providers"),
		When:      in.text("when"), when: in.condition("when")}
	if !by.Everybody() {
		r.Rule = by
	}
	return r, in.err
}

// checkRole sees whether a role can be so, beside the others of its application.
func checkRole(after *Snapshot, p *Plain) error {
	r, err := RoleOf(p)
	if err != nil {
		return err
	}
	odd := func(c rune) bool { return !unicode.IsPrint(c) || unicode.IsSpace(c) }
	switch {
	case r.App == "":
		return &SettingError{"application", errors.New("it is empty; say whose role it is")}
	case r.Title == "":
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	case strings.ContainsFunc(r.As, odd):
		return &SettingError{"role",
			fmt.Errorf("%q has white space or characters that do not print; write it like line-controller", r.As)}
	case len(r.Values) == 0:
		return &SettingError{"values", errors.New("there is none; give what the application knows the role by")}
	case len(r.Values) > mostRoleValues:
		return &SettingError{"values", fmt.Errorf("there are %d; a role has at most %d", len(r.Values), mostRoleValues)}
	}
	for i, v := range r.Values {
		switch {
		case strings.TrimSpace(v) != v || v == "":
			return &SettingError{"values",
				fmt.Errorf("%q is empty, or begins or ends with a space, which the other side would compare; leave it out", v)}
		case strings.ContainsFunc(v, func(c rune) bool { return c < 0x20 || c == 0x7f }):
			return &SettingError{"values", fmt.Errorf("%q has control characters; leave them out", v)}
		case slices.Contains(r.Values[:i], v):
			return &SettingError{"values", fmt.Errorf("%q stands there twice; leave one", v)}
		}
	}
	for _, a := range after.Applications() {
		if a.DefaultRole == r.Name && a.Name != r.App {
			return &SettingError{"application",
				fmt.Errorf("it is the default role of %s (setting defaultRole); name another one there first", a.Name)}
		}
	}
	others := after.Book(r.App).Roles
	if len(others) > mostRolesOfApp {
		return &SettingError{"application", fmt.Errorf("it has %d roles; an application has at most %d", len(others),
			mostRolesOfApp)}
	}
	for _, o := range others {
		if o.Name != r.Name && o.As == r.As {
			return &SettingError{"role", fmt.Errorf("the role %s of %s has the name %q already; give another one", o.Name,
				r.App, r.As)}
		}
	}
	return nil
}

// CheckDefaultRole sees that the default role of an application is one of its own.
func (s *Snapshot) CheckDefaultRole(r Record) error {
	a, is := r.(*Application)
	if !is || a.DefaultRole == "" {
		return nil
	}
	if role, there := s.Role(a.DefaultRole); there && role.App != a.Name {
		return &SettingError{"defaultRole", fmt.Errorf("%s is a role of %s; name one of this application", role.Name,
			role.App)}
	}
	return nil
}

// roster finds the roles of an application by whom they name first: roles by their place.
type roster struct {
	person    map[int64][]int
	group, of map[Name][]int
	ruled     []int
}

// cast puts roles in their order and finds them by whom they name.
func (b *Book) cast(roles []*Role) {
	b.Roles = roles
	slices.SortFunc(b.Roles, func(x, y *Role) int {
		return cmp.Or(x.Order-y.Order,
			strings.Compare(string(x.Name), string(y.Name)))
	})
	b.roster = roster{person: map[int64][]int{}, group: map[Name][]int{}, of: map[Name][]int{}}
	for i, r := range b.Roles {
		b.Mark += fmt.Sprintf("role %s@%d ", r.Name, r.Revision)
		if r.Broken {
			continue
		}
		b.Units = b.Units || len(r.Groups)+len(r.Organisations) > 0 || r.Rule != nil
		for _, n := range r.People {
			b.roster.person[n] = append(b.roster.person[n], i)
		}
		for _, g := range r.Groups {
			b.roster.group[g] = append(b.roster.group[g], i)
		}
		for _, o := range r.Organisations {
			b.roster.of[o] = append(b.roster.of[o], i)
		}
		if r.Rule != nil {
			b.roster.ruled = append(b.roster.ruled, i)
		}
	}
}

// Role finds a role by its name in the application.
func (b *Book) Role(as string) (*Role, bool) {
	i := slices.IndexFunc(b.Roles, func(r *Role) bool { return r.As == as })
	if i < 0 {
		return nil, false
	}
	return b.Roles[i], true
}

// Holder is by what somebody holds a role.
type Holder struct {
	How string // HeldByName and so on, "" for not at all
	Of  Name   // the group or organisation
}

// How somebody holds a role.
const (
	HeldByName         = "by name"
	HeldByGroup        = "group"
	HeldByOrganisation = "organisation"
	HeldByRule         = "by rule"
	HeldByDefault      = "default"
)

// String says it for people.
func (h Holder) String() string {
	if h.Of == "" {
		return h.How
	}
	return h.How + " " + string(h.Of)
}

// Cast tells of each role, by its place, by what somebody is named, and gives the places of those that have a rule. Of
// each of their groups the nearest around it that a role names counts, itself first.
func (b *Book) Cast(s *Snapshot, person int64, groups, organisations []Name) (named []Holder, ruled []int) {
	named = make([]Holder, len(b.Roles))
	give := func(places []int, how string, of Name) {
		for _, i := range places {
			if named[i].How == "" {
				named[i] = Holder{how, of}
			}
		}
	}
	give(b.roster.person[person], HeldByName, "")
	if len(b.roster.group) > 0 {
		var around map[Name]bool // groups that were looked at for another one
		for _, g := range groups {
			for at := g; at != ""; {
				if places := b.roster.group[at]; len(places) > 0 {
					give(places, HeldByGroup, at)
					break
				}
				u, there := s.Unit(KindGroup, at)
				if !there || around[u.Inside] {
					break
				}
				if around == nil {
					around = map[Name]bool{}
				}
				around[u.Inside], at = true, u.Inside
			}
		}
	}
	for _, o := range organisations {
		give(b.roster.of[o], HeldByOrganisation, o)
	}
	return named, b.roster.ruled
}

// PeopleOf are the numbers of people whom an access rule, a role or a starting point names. The error is a
// SettingError.
func PeopleOf(p *Plain) ([]int64, error) {
	switch p.Ref().Kind {
	case KindRole:
		r, err := RoleOf(p)
		return r.People, err
	case KindStart:
		s, err := StartOf(p)
		if s.Seen == nil {
			return nil, err
		}
		return s.Seen.People, err
	}
	r, err := RuleOf(p)
	return r.People, err
}

// AllRoles are the roles of all applications, by name.
func (s *Snapshot) AllRoles() []*Role {
	return slices.SortedFunc(maps.Values(s.roles), func(a, b *Role) int { return cmp.Compare(a.Name, b.Name) })
}

// StartsNaming are the starting points that name a person.
func (s *Snapshot) StartsNaming(person int64) (out []Name) {
	for _, p := range s.Starts() {
		if p.Seen != nil && slices.Contains(p.Seen.People, person) {
			out = append(out, p.Name)
		}
	}
	return out
}

// RolesOf are the roles that name a person.
func (s *Snapshot) RolesOf(person int64) (out []Name) {
	for _, r := range s.roles {
		if slices.Contains(r.People, person) {
			out = append(out, r.Name)
		}
	}
	slices.Sort(out)
	return out
}

// readRoles gathers the roles by application.
func (s *Snapshot) readRoles() map[Name][]*Role {
	read, of := map[*Plain]*Role{}, map[Name][]*Role{}
	for r, o := range s.others {
		p, is := o.(*Plain)
		if r.Kind != KindRole || !is {
			continue
		}
		role := s.roles[p]
		if role == nil {
			var err error
			role, err = RoleOf(p)
			role.Broken = err != nil
		}
		read[p] = role
		of[role.App] = append(of[role.App], role)
	}
	s.roles = read
	return of
}

// Role finds a role by the short name of its object.
func (s *Snapshot) Role(n Name) (*Role, bool) {
	p, is := s.others[Ref{KindRole, n}].(*Plain)
	return s.roles[p], is && s.roles[p] != nil
}
