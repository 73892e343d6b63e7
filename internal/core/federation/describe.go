package federation

import (
	"encoding/json"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// Value is one value of a record under the name people know it by. Labels come
// more than once where a record has several of a kind.
type Value struct {
	Label string `json:"label"`
	Value string `json:"value"`
	// Of an address: by which binding, in short, with what index, and whether it is
	// the default.
	Binding string `json:"binding,omitempty"`
	Index   int    `json:"index,omitempty"`
	Default bool   `json:"default,omitempty"`
	Touches Touch  `json:"-"`
}

// Name is the label, with the binding of an address.
func (v Value) Name() string { return named(v.Label, v.Binding) }

func named(label, binding string) string {
	if binding == "" {
		return label
	}
	return label + " by " + binding
}

// place says in words what is told of an address beside itself.
func (v Value) place() string {
	s := fmt.Sprintf(", index %d", v.Index)
	if v.Default {
		s += ", default"
	}
	return s
}

// Touch is a kind of value that no document should change unnoticed.
type Touch string

// What a change may touch.
const (
	TouchIdentity Touch = "identity"
	TouchKey      Touch = "key"
	TouchAddress  Touch = "address"
	// TouchAlgorithm is what messages are signed with.
	TouchAlgorithm Touch = "algorithm"
)

// describe gives everything a record says, the other side's values first.
func describe(r Record) []Value {
	out := r.Part().Describe()
	in := r.Basic().Intake
	if in.Source != "" {
		out = append(out, Value{Label: "Metadata from", Value: in.Source})
	}
	if !in.ValidUntil.IsZero() {
		out = append(out, Value{Label: "validUntil", Value: in.ValidUntil.UTC().Format("2006-01-02 15:04:05Z")})
	}
	var walk func(v reflect.Value)
	walk = func(v reflect.Value) {
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.Anonymous {
				walk(v.Field(i))
			} else if m, is := v.Field(i).Interface().(profile.Mapping); is {
				out = append(out, RuleValues(f.Tag.Get("json"), m)...)
			} else if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); true {
				out = append(out, Value{Label: name, Value: fmt.Sprint(v.Field(i).Interface())})
			}
		}
	}
	for _, part := range append(r.settings(), r.Part().Settings()) {
		walk(reflect.Indirect(reflect.ValueOf(part)))
	}
	return out
}

// RuleValues describe a mapping, one by one.
func RuleValues(tag string, m profile.Mapping) (out []Value) {
	name, _, _ := strings.Cut(tag, ",")
	for _, r := range m.Rules {
		octets, err := json.Marshal(r)
		if err != nil {
			panic(err) // rules are texts
		}
		out = append(out, Value{Label: name, Value: string(octets)})
	}
	if !m.IsZero() && m.Rest {
		out = append(out, Value{Label: name, Value: "the rest unchanged"})
	}
	return out
}

// Difference is a value before and after a change; one of both is empty where a
// value came or went.
type Difference struct {
	Label   string `json:"label"`
	Binding string `json:"binding,omitempty"` // of an address
	Before  string `json:"before,omitempty"`
	After   string `json:"after,omitempty"`
	// Touches says that the change is one of identity, keys or addresses.
	Touches Touch `json:"-"`
}

// Name is the label, with the binding of an address.
func (d Difference) Name() string { return named(d.Label, d.Binding) }

// Differences compares two descriptions. Values under the same label are
// compared as sets; those that differ are paired in their order.
func Differences(before, after []Value) []Difference {
	out := []Difference{}
	type group struct{ gone, come []Value }
	groups := map[string]*group{}
	var names []string
	note := func(from, other []Value, to func(*group) *[]Value) {
		for _, v := range from {
			if v.Value == "" || slices.Contains(other, v) {
				continue
			}
			g := groups[v.Name()]
			if g == nil {
				g = &group{}
				groups[v.Name()], names = g, append(names, v.Name())
			}
			*to(g) = append(*to(g), v)
		}
	}
	note(before, after, func(g *group) *[]Value { return &g.gone })
	note(after, before, func(g *group) *[]Value { return &g.come })
	for _, n := range names {
		g := groups[n]
		for i := range max(len(g.gone), len(g.come)) {
			var d Difference
			if i < len(g.gone) {
				v := g.gone[i]
				d = Difference{Label: v.Label, Binding: v.Binding, Before: v.Value, Touches: v.Touches}
			}
			if i < len(g.come) {
				v := g.come[i]
				d.Label, d.Binding, d.After, d.Touches = v.Label, v.Binding, v.Value, v.Touches
			}
			if d.Before == d.After { // only its place differs
				d.Before, d.After = d.Before+g.gone[i].place(), d.After+g.come[i].place()
			}
			out = append(out, d)
		}
	}
	return out
}

var changed = map[Touch]finding.Code{TouchIdentity: finding.ChangedEntityID, TouchKey: finding.ChangedKey,
	TouchAddress: finding.ChangedAddress, TouchAlgorithm: finding.ChangedAlgorithm}

// Changed gives a finding for a change of entity ID, of keys and of addresses;
// none if a difference touches none of them.
func Changed(ds []Difference) []*finding.Finding {
	evidence := map[finding.Code][]finding.Evidence{}
	for _, d := range ds {
		code, ok := changed[d.Touches]
		if !ok || d.Touches == TouchIdentity && d.Before == "" {
			continue // the first identity is no other than before
		}
		e := finding.Compare(d.Name(), d.Before, d.After)
		if d.Before == "" {
			e = finding.Fact(d.Name()+", new", d.After)
		}
		evidence[code] = append(evidence[code], e)
	}
	var out []*finding.Finding
	for _, code := range []finding.Code{finding.ChangedEntityID, finding.ChangedKey, finding.ChangedAddress,
		finding.ChangedAlgorithm} {
		if evidence[code] != nil {
			out = append(out, finding.New(code, evidence[code]...))
		}
	}
	return out
}

// Labelled pairs labels with values and leaves out what is empty.
func Labelled(pairs ...string) (out []Value) {
	for i := 0; i+1 < len(pairs); i += 2 {
		if pairs[i+1] != "" {
			out = append(out, Value{Label: pairs[i], Value: pairs[i+1]})
		}
	}
	return out
}
