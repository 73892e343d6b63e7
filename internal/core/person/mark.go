package person

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/profile"
)

// Mark says more of one of several values of an attribute (RFC 7643 §2.4): of what type it is, and whether it is the
// one that is meant where there is room for one alone.
type Mark struct {
	Type    string `json:"type,omitempty"`
	Primary bool   `json:"primary,omitempty"`
}

// ValueMark is the mark of a value.
type ValueMark struct {
	Attribute, Value string
	Mark
}

// markable are the attributes whose values have a type, and of which one may be primary (RFC 7643 §4.1.2).
var markable = []string{"emails", "phoneNumbers", "ims", "photos", "addresses"}

// longestType bounds a type, in octets.
const longestType = 40

// Check sees whether there can be such a mark.
func (m ValueMark) Check() error {
	switch {
	case !slices.Contains(markable, profile.Word(m.Attribute)):
		return fmt.Errorf("values of %.50q have no type, and none is primary; %s have", m.Attribute,
			strings.Join(markable, ", "))
	case m.Mark == Mark{}:
		return errors.New("it says nothing; give a type, or primary")
	case len(m.Type) > longestType || strings.ContainsFunc(m.Type, func(r rune) bool {
		return r <= ' ' ||
			strings.ContainsRune(":+,|=", r)
	}):
		return fmt.Errorf("%.50q is no type; write a word like work or home", m.Type)
	}
	return nil
}

// MarkOf reads a mark as it is written in a line: emails=ada@wrenmoor.example:work+primary.
func MarkOf(text string) (m ValueMark, err error) {
	name, rest, is := strings.Cut(text, "=")
	at := strings.LastIndex(rest, ":")
	if !is || name == "" || at < 1 {
		return m, fmt.Errorf("%.100q is no mark; write it like emails=ada@wrenmoor.example:work+primary", text)
	}
	m.Attribute, m.Value = name, rest[:at]
	for w := range strings.SplitSeq(rest[at+1:], "+") {
		switch w = strings.TrimSpace(w); {
		case w == "primary":
			m.Primary = true
		case m.Type == "":
			m.Type = w
		default:
			return m, fmt.Errorf("%.100q has two types", text)
		}
	}
	return m, m.Check()
}

// String is the mark in a line.
func (m ValueMark) String() string {
	words := []string{}
	if m.Type != "" {
		words = append(words, m.Type)
	}
	if m.Primary {
		words = append(words, "primary")
	}
	return m.Attribute + "=" + m.Value + ":" + strings.Join(words, "+")
}

// Mark is that of a value, by its place.
func (k KeptValue) Mark(at int) Mark {
	if at < len(k.Marks) {
		return k.Marks[at]
	}
	return Mark{}
}

// marksWith are the marks of the values, with those that the same values had.
func (k KeptValue) marksWith(had KeptValue) (out []Mark) {
	any := false
	for i, v := range k.Attribute.Values {
		m := k.Mark(i)
		if at := slices.IndexFunc(had.Attribute.Values,
			func(w profile.Value) bool { return w.String() == v.String() }); at >= 0 && m == (Mark{}) {
			m = had.Mark(at)
		}
		out, any = append(out, m), any || m != Mark{}
	}
	if !any {
		return nil
	}
	return out
}

// marked lays marks over those of kept values: of several values of one attribute at most one is primary.
func marked(kept []KeptValue, marks []ValueMark) ([]KeptValue, error) {
	for _, m := range marks {
		i := slices.IndexFunc(kept, func(k KeptValue) bool { return named(m.Attribute)(k.Attribute) })
		at := -1
		if i >= 0 {
			at = slices.IndexFunc(kept[i].Attribute.Values, func(v profile.Value) bool { return v.String() == m.Value })
		}
		if at < 0 {
			return nil, &RefusedError{Field: "marks", Cause: fmt.Errorf("%s has no value %.100q that is kept", m.Attribute,
				m.Value)}
		}
		kept = slices.Clone(kept)
		all := make([]Mark, len(kept[i].Attribute.Values))
		for p := range all {
			all[p] = kept[i].Mark(p)
			all[p].Primary = all[p].Primary && !m.Primary
		}
		all[at] = m.Mark
		kept[i].Marks = all
	}
	return kept, nil
}

// primaryFirst are the values of what is kept, the primary one before the others.
func (k KeptValue) primaryFirst() profile.Attribute {
	for i := range k.Attribute.Values {
		if i > 0 && k.Mark(i).Primary {
			a := k.Attribute
			a.Values = append([]profile.Value{a.Values[i]}, slices.Delete(slices.Clone(a.Values), i, i+1)...)
			return a
		}
	}
	return k.Attribute
}
