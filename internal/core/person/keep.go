package person

import (
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"maps"
	"slices"
	"time"
)

// knowing gives a profile with the values that are kept with the person, where this
// sign-in did not bring others.
func knowing(p profile.Profile, who Person) profile.Profile {
	for _, v := range who.Values {
		if len(profile.Find(p.Attributes, v.Name)) == 0 {
			p.Attributes = append(slices.Clip(p.Attributes), v.primaryFirst())
		}
	}
	return p
}

// PutValues keeps with the person what a sign-in brought. What of before came by the same
// provider and is not among Names goes, if it comes no more.
type PutValues struct {
	From   federation.ID
	Values []KeptValue // as they came; when they are kept is when they are stored
	Names  []string
}

// lastingNames are those of attributes that stay with people whom a provider brought them of,
// though a sign-in does not bring them.
func lastingNames(p *federation.Provider) []string {
	_, names := p.Mapping().Lasting(nil)
	for _, u := range p.Updates() {
		if u.How != federation.UpdateFollow {
			names = append(names, u.Name)
		}
	}
	return names
}

// staying is a person without what a sign-in by a provider no longer keeps with them: what they
// came with before counts no more, from the change of the record on.
func staying(p *federation.Provider, who Person) Person {
	names := lastingNames(p)
	who.Values = slices.DeleteFunc(slices.Clone(who.Values), func(v KeptValue) bool {
		return v.From == p.ID && v.Name != profile.AttributeUserType &&
			!slices.ContainsFunc(names, func(n string) bool { return named(n)(v.Attribute) })
	})
	return who
}

// bring has an attribute kept as the provider brings it.
func (k *PutValues) bring(p *federation.Provider, in profile.Profile, a profile.Attribute) {
	k.lay(KeptValue{Attribute: a, From: p.ID, Proofs: brought(p, in, a.Name, a.Values)})
}

// lay puts a value in place of that of the same attribute.
func (k *PutValues) lay(v KeptValue) {
	k.Values = append(slices.DeleteFunc(k.Values, func(o KeptValue) bool { return named(v.Name)(o.Attribute) }), v)
}

// What is kept of one attribute at a sign-in is bounded: octets of a value, and values.
const (
	longestKept = 2000
	mostKept    = 500
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

// Over lays them over what is kept already; changed tells whether that is other now. A value
// that was proved before stays proved, whoever brings it now.
func (k PutValues) Over(stored []KeptValue, now time.Time) (out []KeptValue, changed bool) {
	fresh := slices.Clone(k.Values)
	for i := range fresh {
		fresh[i].At = now.UTC()
		for _, v := range stored {
			if named(v.Name)(fresh[i].Attribute) {
				fresh[i].Proofs, fresh[i].Marks = fresh[i].proofsWith(v), fresh[i].marksWith(v)
			}
		}
	}
	for _, v := range stored {
		at := slices.IndexFunc(fresh, func(f KeptValue) bool { return named(v.Name)(f.Attribute) })
		switch {
		case at >= 0 && fresh[at].like(v):
			out = append(out, v)
			fresh = slices.Delete(fresh, at, at+1)
		case at >= 0, v.From == k.From && !slices.ContainsFunc(k.Names,
			func(n string) bool { return named(n)(v.Attribute) }):
			changed = true
		default:
			out = append(out, v)
		}
	}
	return append(out, fresh...), changed || len(fresh) > 0
}

// proofsWith are the proofs of the values, with those that they had where they have none.
func (k KeptValue) proofsWith(had KeptValue) []Proof {
	out := make([]Proof, len(k.Attribute.Values))
	for i, v := range k.Attribute.Values {
		if out[i] = k.Proof(i); out[i] == NoProof {
			out[i] = had.ProvedBy(v.String())
		}
	}
	return out
}

// like reports whether a value is kept so already, whenever it was.
func (k KeptValue) like(w KeptValue) bool {
	return k.Name == w.Name && k.From == w.From && slices.Equal(k.Attribute.Values, w.Attribute.Values) &&
		slices.Equal(k.proofsWith(KeptValue{}), w.proofsWith(KeptValue{})) && slices.Equal(k.marksWith(KeptValue{}),
		w.marksWith(KeptValue{}))
}

// Typed lays values over those that are kept, by attribute; one without values is taken
// away. What is the same already stays, with its source; unless it is unproved, it is proved
// by now. unproved names what a list marks so: an attribute, or NAME=VALUE for one of its
// values.
func Typed(stored []KeptValue, from federation.ID, values map[string][]string, unproved []string,
	now time.Time) []KeptValue {
	var out []KeptValue
	fresh := map[string]KeptValue{}
	for name, vs := range values {
		one := KeptValue{Attribute: profile.Attribute{Name: name, Values: profile.Texts(vs...)}, From: from,
			At: now.UTC()}
		for _, v := range vs {
			by := ByEngineer
			if slices.Contains(unproved, name) || slices.Contains(unproved, name+"="+v) {
				by = NoProof
			}
			one.Proofs = append(one.Proofs, by)
		}
		fresh[name] = one
	}
	for _, v := range stored {
		at := ""
		for name := range values {
			if named(name)(v.Attribute) {
				at = name
			}
		}
		one, said := fresh[at]
		switch {
		case at == "":
			out = append(out, v)
		case !said:
		case !slices.Equal(v.Attribute.Values, one.Attribute.Values):
			one.Marks = one.marksWith(v)
			fresh[at] = one
		default:
			v.Proofs = v.proofsWith(one)
			out = append(out, v)
			delete(fresh, at)
		}
	}
	for _, name := range slices.Sorted(maps.Keys(fresh)) {
		if len(fresh[name].Attribute.Values) > 0 {
			out = append(out, fresh[name])
		}
	}
	return out
}
