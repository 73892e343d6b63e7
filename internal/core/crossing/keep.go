package crossing

import (
	"maps"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// KeptValue is an attribute that is kept with a person.
type KeptValue struct {
	profile.Attribute
	From     federation.ID `json:"from"` // the provider that it came by, or one of the sources
	At       time.Time     `json:"at"`
	Verified bool          `json:"verified,omitempty"` // the person proved it by a mailed code
}

// Knowing gives a profile with the values that are kept with the person, where this
// sign-in did not bring others.
func Knowing(p profile.Profile, who Person) profile.Profile {
	for _, v := range who.Values {
		if len(profile.Find(p.Attributes, v.Name)) == 0 {
			p.Attributes = append(slices.Clip(p.Attributes), v.Attribute)
		}
	}
	return p
}

// PutValues keeps with the person what a sign-in brought. What of before came by the same
// provider and is not among Names goes, if it comes no more.
type PutValues struct {
	From   federation.ID
	Values []profile.Attribute
	Names  []string
	Proved []string // those of Values that the person proved
	Said   []Given  // what they were asked for
}

// Updating is what a sign-in keeps with the person: what rules keep, what the provider's
// record says, what they were asked for, and how they are marked.
func Updating(snap *federation.Snapshot, p *federation.Provider, in profile.Profile, who Person, given []Given) PutValues {
	put := PutValues{From: p.ID, Said: given}
	put.Values, put.Names = p.Mapping().Lasting(in.Attributes)
	for _, u := range p.Updates() {
		if u.How != federation.UpdateFollow {
			put.Names = append(put.Names, u.Name)
		}
		values := keepable(profile.Find(in.Attributes, u.Name))
		mail := profile.Means(u.Name, profile.ClaimEmail)
		if len(values) == 0 || u.How == federation.UpdateOnce && keeps(who, u.Name) ||
			mail && unproved(p, in, who, given) && provedMail(who) != nil {
			continue
		}
		put.Values = slices.DeleteFunc(put.Values, named(u.Name))
		put.Values = append(put.Values, profile.Attribute{Name: u.Name, Values: values})
		if mail && len(values) == 1 && proved(values[0].String(), who, given) {
			put.Proved = append(put.Proved, u.Name)
		}
	}
	for _, g := range given {
		put.Values = slices.DeleteFunc(put.Values, named(g.Name))
	}
	put.Values = slices.DeleteFunc(put.Values, named(profile.AttributeUserType))
	mark := Marked(snap, p, in, who.Values, Belonging(snap, p, in, who, given))
	typed := slices.ContainsFunc(who.Values, func(k KeptValue) bool {
		return k.Name == profile.AttributeUserType && (k.From == FromHand || k.From == FromImport)
	})
	if mark != "" && !typed {
		put.Values = append(put.Values, profile.Attribute{Name: profile.AttributeUserType, Values: profile.Texts(mark)})
	}
	return put
}

// What is kept of one attribute at a sign-in is bounded: octets of a value, and values.
const (
	longestKept = 2000
	mostKept    = 100
)

// keepable are those values that are not too long, and not too many.
func keepable(values []profile.Value) []profile.Value {
	values = slices.DeleteFunc(slices.Clone(values), func(v profile.Value) bool { return len(v.String()) > longestKept })
	return values[:min(len(values), mostKept)]
}

func named(name string) func(profile.Attribute) bool {
	return func(a profile.Attribute) bool { return profile.Word(a.Name) == profile.Word(name) }
}

func keeps(who Person, name string) bool {
	return slices.ContainsFunc(who.Values, func(k KeptValue) bool { return named(name)(k.Attribute) })
}

// Over lays them over what is kept already; changed tells whether that is other now.
func (k PutValues) Over(stored []KeptValue, now time.Time) (out []KeptValue, changed bool) {
	fresh := k.fresh(now)
	for _, v := range stored {
		at := slices.IndexFunc(fresh, func(f KeptValue) bool { return named(v.Name)(f.Attribute) })
		switch {
		case at >= 0 && fresh[at].like(v):
			out = append(out, v)
			fresh = slices.Delete(fresh, at, at+1)
		case at >= 0, v.From == k.From && !slices.ContainsFunc(k.Names, func(n string) bool { return named(n)(v.Attribute) }):
			changed = true
		default:
			out = append(out, v)
		}
	}
	return append(out, fresh...), changed || len(fresh) > 0
}

// fresh are the values as they would be kept.
func (k PutValues) fresh(now time.Time) (out []KeptValue) {
	for _, a := range k.Values {
		out = append(out, KeptValue{Attribute: a, From: k.From, At: now.UTC(), Verified: slices.Contains(k.Proved, a.Name)})
	}
	for _, g := range k.Said {
		out = append(out, KeptValue{Attribute: profile.Attribute{Name: g.Name, Values: profile.Texts(g.Value)}, From: FromPerson,
			At: now.UTC(), Verified: g.Verified})
	}
	return out
}

// like reports whether a value is kept so already, whenever it was.
func (v KeptValue) like(w KeptValue) bool {
	return v.Name == w.Name && v.From == w.From && v.Verified == w.Verified && slices.Equal(v.Attribute.Values, w.Attribute.Values)
}

// Typed lays values over those that are kept, by attribute; one without values is taken
// away. What is the same already stays, with its source.
func Typed(stored []KeptValue, from federation.ID, values map[string][]string, now time.Time) []KeptValue {
	out := slices.DeleteFunc(slices.Clone(stored), func(v KeptValue) bool {
		for name, vs := range values {
			if named(name)(v.Attribute) {
				return !slices.Equal(v.Attribute.Values, profile.Texts(vs...))
			}
		}
		return false
	})
	for _, name := range slices.Sorted(maps.Keys(values)) {
		vs := values[name]
		if len(vs) == 0 || slices.ContainsFunc(out, func(v KeptValue) bool { return named(name)(v.Attribute) }) {
			continue
		}
		out = append(out, KeptValue{Attribute: profile.Attribute{Name: name, Values: profile.Texts(vs...)}, From: from, At: now.UTC()})
	}
	return out
}
