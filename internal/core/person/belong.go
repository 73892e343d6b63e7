package person

import (
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Sources of what is known of people, beside IDs of providers.
const (
	FromHand   federation.ID = "@hand"   // somebody typed it
	FromImport federation.ID = "@import" // it came in a file
	FromPerson federation.ID = "@person" // they were asked for it
)

// Membership is that somebody belongs to a group or an organisation.
type Membership struct {
	Kind   federation.Kind `json:"kind"`
	Name   federation.Name `json:"name"`
	Source federation.ID   `json:"source"` // a provider, or one of the sources
}

// Unit is where it is.
func (m Membership) Unit() federation.Ref { return federation.Ref{Kind: m.Kind, Name: m.Name} }

// Admitted is that somebody was admitted to an application by name.
type Admitted struct {
	App   federation.ID `json:"app"`
	Until time.Time     `json:"until,omitzero"` // zero for good
}

// Given is a value that the person said when they were asked.
type Given struct {
	Name     string `json:"name"`
	Value    string `json:"value"`
	Verified bool   `json:"verified,omitempty"` // by a mailed code
}

// of are the units of a kind that memberships name, each once.
func UnitsOf(k federation.Kind, all []Membership) (out []federation.Name) {
	for _, m := range all {
		if m.Kind == k && !slices.Contains(out, m.Name) {
			out = append(out, m.Name)
		}
	}
	return out
}

// addValues adds names to the values of an attribute, each once.
func addValues(attributes []profile.Attribute, name string, more []federation.Name) []profile.Attribute {
	values := slices.Clone(profile.Find(attributes, name))
	for _, n := range more {
		if v := profile.TextOf(string(n)); !slices.Contains(values, v) {
			values = append(values, v)
		}
	}
	return profile.Put(attributes, name, values)
}

// attested says that an e-mail address is verified, where the gate had the person prove it
// or a provider said so with it, and no other one is in the profile. What a provider says of
// its own address says nothing of another one.
func attested(attributes []profile.Attribute, in profile.Profile, who Person, given []Given) []profile.Attribute {
	mails := profile.Find(attributes, profile.ClaimEmail)
	if !slices.Equal(mails, profile.Find(in.Attributes, profile.ClaimEmail)) {
		attributes = profile.Put(attributes, profile.ClaimEmailVerified, nil)
	}
	if len(mails) != 1 {
		return attributes
	}
	address := mails[0].String()
	said := slices.ContainsFunc(who.Values, func(k KeptValue) bool {
		return profile.Means(k.Name, profile.ClaimEmail) && k.ProvedBy(address) == ByFlag
	})
	if said || mailed(address, who, given) {
		return profile.Put(attributes, profile.ClaimEmailVerified, []profile.Value{profile.BooleanOf(true)})
	}
	return attributes
}

// unproved reports whether a provider brings e-mail addresses of which nothing proves one,
// where people are asked to prove theirs.
func unproved(p *federation.Provider, in profile.Profile, who Person, given []Given) bool {
	mails := profile.Find(in.Attributes, profile.ClaimEmail)
	return len(mails) > 0 && asksProof(p, profile.ClaimEmail) && !slices.ContainsFunc(mails, func(v profile.Value) bool {
		return addressProof(p, in, who, given, v.String()) != NoProof
	})
}

// provedOnly are the attributes with those e-mail addresses alone that are proved, where
// people are asked to prove theirs: those that came, else those that are kept.
func provedOnly(p *federation.Provider, in profile.Profile, who Person, given []Given) []profile.Attribute {
	mails := profile.Find(in.Attributes, profile.ClaimEmail)
	some := slices.DeleteFunc(slices.Clone(mails), func(v profile.Value) bool {
		return addressProof(p, in, who, given, v.String()) == NoProof
	})
	switch {
	case len(some) == len(mails):
		return in.Attributes
	case len(some) == 0:
		some = keptProved(who)
	}
	return profile.Put(in.Attributes, profile.ClaimEmail, some)
}

// Landed is the source of memberships in groups where an organisation's people land: no
// later sign-in takes them away.
const Landed federation.ID = "@organisation"

// landing is the organisation of whoever comes by a provider: that of the provider, else
// that of the domain of an address, if the person proves it now, or the provider is trusted
// for it: it stands for the domain, or people are matched by the addresses that it verifies.
func landing(snap *federation.Snapshot, p *federation.Provider, in profile.Profile, given []Given) *federation.Unit {
	if o, ok := snap.OwnerOf(p.Name); ok {
		return o
	}
	matched := slices.ContainsFunc(p.By(), func(name string) bool { return profile.Means(name, profile.ClaimEmail) })
	var addresses []string
	for _, v := range profile.Find(in.Attributes, profile.ClaimEmail) {
		switch by := Brought(p, in, profile.ClaimEmail, v.String()); {
		case by == ByDomain, by == ByFlag && matched:
			addresses = append(addresses, v.String())
		}
	}
	for _, g := range given {
		if g.Verified {
			addresses = append(addresses, g.Value)
		}
	}
	for _, address := range addresses {
		if o, ok := snap.OrganisationAt(profile.DomainOf(address)); ok {
			return o
		}
	}
	return nil
}

// mostGroups is how many groups the values of one sign-in stand for.
const mostGroups = 500

// groupsSaid are the groups that a provider's values stand for.
func groupsSaid(snap *federation.Snapshot, p *federation.Provider, in profile.Profile) (out []federation.Name) {
	for _, v := range profile.Find(in.Attributes, profile.AttributeGroups) {
		name := federation.Name("")
		if g, ok := snap.GroupCalled(v.String()); ok {
			name = g.Name
		} else if p.GroupValues == federation.GroupsCreate {
			name = newGroup(snap, v.String())
		}
		if name != "" && !slices.Contains(out, name) && len(out) < mostGroups {
			out = append(out, name)
		}
	}
	return out
}

// unknownGroups notes the values of groups of a provider that mean nothing here, where they would make members; nil
// for none. What they are near to is told to whoever reads it: checks.Nearest.
func GroupsNotKnown(snap *federation.Snapshot, p *federation.Provider, in profile.Profile) *finding.Finding {
	if p.GroupValues != federation.GroupsKnown {
		return nil
	}
	values := UnknownGroups(snap, in)
	if len(values) == 0 {
		return nil
	}
	f := finding.New(finding.GroupValueUnknown)
	for _, v := range values[:min(len(values), mostUnknown)] {
		f = f.With(finding.Fact("Value", finding.Clip(v)))
	}
	if more := len(values) - mostUnknown; more > 0 {
		f = f.With(finding.Fact("And more", strconv.Itoa(more)))
	}
	return f
}

// mostUnknown is how many values that mean nothing one finding names.
const mostUnknown = 5

// UnknownGroups are the values of groups that no group is called by.
func UnknownGroups(snap *federation.Snapshot, in profile.Profile) (out []string) {
	for _, v := range profile.Find(in.Attributes, profile.AttributeGroups) {
		if _, known := snap.GroupCalled(v.String()); !known && !slices.Contains(out, v.String()) && len(out) < mostGroups {
			out = append(out, v.String())
		}
	}
	return out
}

// newGroup is the short name of the group that is to be made for a value, "" if nothing of
// it can be one, another group has it, or there are too many: nobody is kept out by that.
func newGroup(snap *federation.Snapshot, value string) federation.Name {
	g := groupFor(value)
	if _, taken := snap.Unit(federation.KindGroup, g.Name); taken || g.Name == "" ||
		len(snap.Units(federation.KindGroup)) >= federation.MostUnits || snap.CheckUnit(&g) != nil {
		return ""
	}
	return g.Name
}

// longestTitle is that of a group that is made, in octets.
const longestTitle = 200

// groupFor is the group for a value, which it knows again where its name is another.
func groupFor(value string) federation.Unit {
	g := federation.Unit{Kind: federation.KindGroup, Name: federation.Name(federation.NearName(value)), Title: value}
	if len(value) > longestTitle {
		g.Title = strings.ToValidUTF8(value[:longestTitle-len("…")], "") + "…"
	}
	if string(g.Name) != value {
		g.Values = []string{value}
	}
	return g
}

// Wanting are the groups that are to be made for the values of a sign-in.
func Wanting(snap *federation.Snapshot, p *federation.Provider, in profile.Profile) (out []federation.Unit) {
	if p.GroupValues != federation.GroupsCreate {
		return nil
	}
	said := groupsSaid(snap, p, in)
	for _, v := range profile.Find(in.Attributes, profile.AttributeGroups) {
		g := groupFor(v.String())
		if _, known := snap.GroupCalled(v.String()); known || !slices.Contains(said, g.Name) ||
			slices.ContainsFunc(out, func(x federation.Unit) bool { return x.Name == g.Name }) {
			continue
		}
		out = append(out, g)
	}
	return out
}

// marks reports whether a rule of a provider's intake says how its people are marked.
func marks(p *federation.Provider) bool {
	return p != nil && slices.ContainsFunc(p.Mapping().Rules, func(r profile.Rule) bool {
		return profile.Word(r.To.Name) == profile.AttributeUserType && !r.Omit
	})
}

// Marked is how somebody is marked (userType, RFC 7643 §4.1.1): as a rule of the intake says,
// as was typed or imported, else as the nearest of their groups does, their organisation, or
// the provider's record; what a provider says of its own accord counts last. "" is not at all.
func Marked(snap *federation.Snapshot, p *federation.Provider, in profile.Profile, kept []KeptValue,
	members []Membership) string {
	said := profile.Find(in.Attributes, profile.AttributeUserType)
	if len(said) > 0 && marks(p) {
		return said[0].String()
	}
	for _, k := range kept {
		if k.Name == profile.AttributeUserType && len(k.Attribute.Values) > 0 &&
			(k.From == FromHand || k.From == FromImport) {
			return k.Attribute.Values[0].String()
		}
	}
	for _, g := range snap.Around(UnitsOf(federation.KindGroup, members)) {
		if x, ok := snap.Unit(federation.KindGroup, g); ok && x.UserType != "" {
			return x.UserType
		}
	}
	for _, o := range UnitsOf(federation.KindOrganisation, members) {
		if x, ok := snap.Unit(federation.KindOrganisation, o); ok && x.UserType != "" {
			return x.UserType
		}
	}
	if p != nil && p.UserType != "" {
		return p.UserType
	}
	if len(said) > 0 {
		return said[0].String()
	}
	return ""
}
