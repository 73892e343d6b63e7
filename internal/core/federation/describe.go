package federation

import (
	"fmt"
	"reflect"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// Value is one value of a record under the name people know it by. Labels come
// more than once where a record has several of a kind.
type Value struct {
	Label   string `json:"label"`
	Value   string `json:"value"`
	Touches Touch  `json:"-"`
}

// Touch is a kind of value that no document should change unnoticed.
type Touch string

// What a change may touch.
const (
	TouchIdentity Touch = "identity"
	TouchKey      Touch = "key"
	TouchAddress  Touch = "address"
)

// Describe gives everything a record says, the other side's values first.
func Describe(r Record) []Value {
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

// Difference is a value before and after a change; one of both is empty where a
// value came or went.
type Difference struct {
	Label  string `json:"label"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	// Touches says that the change is one of identity, keys or addresses.
	Touches Touch `json:"-"`
}

// Differences compares two descriptions. Values under the same label are
// compared as sets; those that differ are paired in their order.
func Differences(before, after []Value) []Difference {
	out := []Difference{}
	var labels []string
	gone, come, touches := map[string][]string{}, map[string][]string{}, map[string]Touch{}
	has := func(vs []Value, v Value) bool {
		for _, w := range vs {
			if w == v {
				return true
			}
		}
		return false
	}
	note := func(m map[string][]string, from, other []Value) {
		for _, v := range from {
			if v.Value == "" || has(other, v) {
				continue
			}
			if gone[v.Label] == nil && come[v.Label] == nil {
				labels = append(labels, v.Label)
			}
			m[v.Label], touches[v.Label] = append(m[v.Label], v.Value), v.Touches
		}
	}
	note(gone, before, after)
	note(come, after, before)
	for _, l := range labels {
		for i := range max(len(gone[l]), len(come[l])) {
			d := Difference{Label: l, Touches: touches[l]}
			if i < len(gone[l]) {
				d.Before = gone[l][i]
			}
			if i < len(come[l]) {
				d.After = come[l][i]
			}
			out = append(out, d)
		}
	}
	return out
}

var changed = map[Touch]finding.Code{TouchIdentity: finding.ChangedEntityID, TouchKey: finding.ChangedKey,
	TouchAddress: finding.ChangedAddress}

// Changed gives a finding for a change of entity ID, of keys and of addresses;
// none if a difference touches none of them.
func Changed(ds []Difference) []*finding.Finding {
	evidence := map[finding.Code][]finding.Evidence{}
	for _, d := range ds {
		code, ok := changed[d.Touches]
		if !ok {
			continue
		}
		e := finding.Compare(d.Label, d.Before, d.After)
		if d.Before == "" {
			e = finding.Fact(d.Label+", new", d.After)
		}
		evidence[code] = append(evidence[code], e)
	}
	var out []*finding.Finding
	for _, code := range []finding.Code{finding.ChangedEntityID, finding.ChangedKey, finding.ChangedAddress} {
		if evidence[code] != nil {
			out = append(out, finding.New(code, evidence[code]...))
		}
	}
	return out
}
