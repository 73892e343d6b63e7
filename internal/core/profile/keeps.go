package profile

import (
	"fmt"
	"innergate.example/innergate/internal/core/listed"
)

// Detail is what traces keep of an attribute's values. The zero Detail is all of them.
type Detail int

// Ways to keep values, each stricter than the one before.
const (
	DetailFull   Detail = iota
	DetailHashed        // only whether two are the same
	DetailOff           // only that there was one
)

var details = map[string]Detail{"full": DetailFull, "hashed": DetailHashed, "off": DetailOff}

// Details says what traces keep of an attribute: full, hashed or off; * stands for all attributes that are
// not named. In a line it is NAME=HOW, and a space in a name is %20.
type Details listed.Pairs

// DetailForm is how it is written in a line.
var DetailForm = listed.Form{Sign: "=", Last: true, Escaped: true}

// MarshalJSON writes an object.
func (k Details) MarshalJSON() ([]byte, error) { return DetailForm.Marshal(listed.Pairs(k)) }

// UnmarshalJSON reads an object, or a line.
func (k *Details) UnmarshalJSON(octets []byte) error {
	pairs, err := DetailForm.Unmarshal(octets)
	*k = Details(pairs)
	return err
}

// Parse reads it.
func (k Details) Parse() (map[string]Detail, error) {
	out := map[string]Detail{}
	for _, p := range k {
		keep, ok := details[p.Value]
		switch {
		case p.Name == "" || p.Value == "":
			return nil, fmt.Errorf("%q is not NAME=VALUE; write it like mail=hashed", DetailForm.Line(listed.Pairs{p}))
		case !ok:
			return nil, fmt.Errorf("%q is no way to keep values; use full, hashed or off", p.Value)
		}
		if _, twice := out[p.Name]; twice {
			return nil, fmt.Errorf("%s is named twice; name it once", p.Name)
		}
		out[p.Name] = keep
	}
	return out, nil
}

// DetailOf gives what is kept of an attribute by its name: as it is named, or one that means
// the same, else what stands for all.
func DetailOf(by map[string]Detail, name string) Detail {
	if k, ok := by[name]; ok {
		return k
	}
	if s := Known(name, ""); s != nil {
		most, some := DetailFull, false
		for other, k := range by {
			if other != "*" && Known(other, "") == s {
				most, some = max(most, k), true
			}
		}
		if some {
			return most
		}
	}
	return by["*"]
}

// Through gives what is kept of what a mapping makes, where it is said what is kept of
// what it reads: the strictest of its sources.
func (m Mapping) Through(under func(name string) Detail, strictest Detail) func(name string) Detail {
	if m.IsZero() || m.compiled == nil {
		return under
	}
	return func(name string) Detail {
		most, made := DetailFull, false
		for i := range m.compiled.rules {
			r := &m.compiled.rules[i]
			if r.To.Name != name && r.To.Friendly != name {
				continue
			}
			made = true
			for j, s := range r.From {
				if s.Attribute != "" {
					most = max(most, under(s.Attribute))
				}
				e := r.values[j]
				if e == nil {
					continue
				}
				if e.Everything {
					most = max(most, strictest)
				}
				for _, read := range e.Reads {
					most = max(most, under(read))
				}
			}
		}
		if !made && m.Rest {
			return under(name)
		}
		return most
	}
}
