package federation

import (
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/profile"
)

// PortalName is what the gate's own portal is called where applications are: no record can be called so.
const PortalName Name = ".portal"

// KindPortal is the kind of the one object that says how the portal is.
const KindPortal Kind = "portal"

// portalObject is its short name.
const portalObject Name = "portal"

// mostSections bounds the sections of the portal that are put in an order.
const mostSections = 200

// PortalSettings describes how the portal is.
var PortalSettings = &Description{Kind: KindPortal, Always: portalObject, Check: checkPortal, Settings: []Setting{
	{Name: "straight", Label: "Whoever has one application alone goes straight there", Type: Switch},
	{Name: "offers", Label: "What people may ask for is shown", Type: Switch,
		Text: "Below their applications people see those that they may not enter and may ask for (setting askForEntry of the application)"},
	{Name: "notYet", Label: "What is not open yet is shown", Type: Switch,
		Text: "Applications that open by themselves at a moment (setting nextAt) are shown with it"},
	{Name: "sections", Label: "Order of the sections", Type: Values, Most: 60,
		Text: "Sections of the portal (setting portalSection of applications) in the order in which they are shown; others come behind, by name"},
	{Name: "editable", Label: "What people may change themselves", Type: Values, Most: 100,
		Text: "Attributes of the profile that people may change on their own page, like displayName; an e-mail address is proved by a mailed code. " +
			"One by which it is decided who somebody is, what they enter or as what, is refused"},
}}

// Portal says how the portal is.
type Portal struct {
	Straight, Offers, NotYet bool
	Sections                 []string
	Editable                 []string
}

// Portal is how that of the gate is.
func (s *Snapshot) Portal() Portal {
	p, is := s.others[Ref{KindPortal, portalObject}].(*Plain)
	if !is {
		return Portal{}
	}
	return portalOf(p)
}

func portalOf(p *Plain) Portal {
	in := saidBy(p)
	return Portal{Straight: in.is("straight"), Offers: in.is("offers"), NotYet: in.is("notYet"),
		Sections: listOf[string](in.Settings, "sections"),
		Editable: listOf[string](in.Settings, "editable")}
}

// checkPortal sees whether the portal can be so.
func checkPortal(after *Snapshot, p *Plain) error {
	if p.Name != portalObject {
		return &SettingError{"name", fmt.Errorf("there is one alone, %s; change that", portalObject)}
	}
	is := portalOf(p)
	if len(is.Sections) > mostSections {
		return &SettingError{"sections", fmt.Errorf("there are %d; give at most %d", len(is.Sections), mostSections)}
	}
	for i, section := range is.Sections {
		if slices.Contains(is.Sections[:i], section) {
			return &SettingError{"sections", fmt.Errorf("%q stands there twice; leave one", section)}
		}
	}
	for _, name := range is.Editable {
		if strings.TrimSpace(name) != name || name == "" {
			return &SettingError{"editable", fmt.Errorf("%q is no name of an attribute; write it like displayName", name)}
		}
		if why := after.Decides(name); why != "" {
			return &SettingError{"editable", fmt.Errorf("people cannot change %s themselves: %s", name, why)}
		}
	}
	return nil
}

// Changeable are the attributes that people may change themselves, by their one name in the profile: those by which
// something is decided by now are none of them.
func (s *Snapshot) Changeable() (out []string) {
	for _, name := range s.Portal().Editable {
		if s.Decides(name) == "" {
			out = append(out, profile.Word(name))
		}
	}
	return out
}

// Decides says by what an attribute decides who somebody is, what they enter or as what, in words; "" for by nothing.
func (s *Snapshot) Decides(attribute string) string {
	name := profile.Word(attribute)
	switch name {
	case "userName", "id", "externalId", "groups", "userType", "active", "roles", "entitlements", "organization",
		"email_verified":
		return "it says who somebody is, or what they belong to"
	}
	if profile.Means(attribute, profile.ClaimEmail) {
		for _, u := range s.Units(KindOrganisation) {
			if len(u.Domains) > 0 {
				return "people land in the organisation " + string(u.Name) + " by its domain"
			}
		}
		if len(s.DomainsOf()) > 0 {
			return "its domain tells by which provider people come"
		}
	}
	reads := func(r *Rule) bool {
		return r != nil && slices.ContainsFunc(r.Reads(), func(n string) bool { return profile.Word(n) == name })
	}
	for _, r := range s.Rules() {
		if reads(r) {
			return "the access rule " + string(r.Name) + " reads it"
		}
	}
	for _, r := range s.AllRoles() {
		if reads(r.Rule) {
			return "the role " + string(r.Name) + " reads it"
		}
	}
	for _, p := range s.Starts() {
		if reads(p.Seen) {
			return "the starting point " + string(p.Name) + " reads it"
		}
	}
	for _, p := range s.Providers() {
		if slices.ContainsFunc(p.By(), func(n string) bool { return profile.Word(n) == name }) {
			return "people of " + string(p.Name) + " are found by it (matchBy)"
		}
	}
	return ""
}

// portalPlace reads the place of an application among the tiles, 0 for none. The error is a SettingError.
func (a *Application) portalPlace() (int, error) {
	in := said{Settings: Settings{"order": a.PortalPlace}}
	n := in.place()
	if in.err != nil {
		return 0, &SettingError{"portalPlace", fmt.Errorf("%q is no place; give a whole number, like 10",
			strings.TrimSpace(a.PortalPlace))}
	}
	return n, nil
}

// Place is that of the application among the tiles of its section: those that have one come first, the lowest before
// others; 0 for none.
func (a *Application) Place() int {
	n, _ := a.portalPlace() // it was looked at when it was saved
	return n
}
