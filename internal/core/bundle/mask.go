package bundle

import (
	"cmp"
	"encoding/json"
	"fmt"
	"html"
	"maps"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/trace"
)

// Technical are names in messages whose values say nothing of a person, as protocols give them; all other values may.
type Technical map[string]bool

// shortest is what is looked for in texts, in octets: less would be found by chance.
const shortest = 3

var address = regexp.MustCompile(`[\p{L}\p{N}._%+'-]+@[\p{L}\p{N}.-]+[\p{L}\p{N}]`)

// Mask gives the bundle without values of people: what messages say that is not technical, whom the application was
// told of, names, addresses of e-mail and of networks. Settings keep what is no address of e-mail.
func (b Bundle) Mask(t Technical, more ...string) (Bundle, error) {
	found, kept := map[string]bool{}, t.addresses(b)
	note := func(v string) {
		if v = strings.TrimSpace(v); len(v) >= shortest && !kept[v] {
			found[v] = true
		}
	}
	for _, v := range more {
		note(v)
	}
	for _, s := range b.SignIns {
		note(s.Person)
		for _, word := range strings.Fields(s.Person) {
			note(word)
		}
		for _, st := range s.Steps {
			t.messages(st, note)
		}
	}
	if r := b.Rehearsal; r != nil {
		for _, v := range r.Told {
			note(v.Value)
		}
		if r.Verdict != nil {
			for _, l := range r.Verdict.Lines {
				personal(l.Expected, l.Value, l.Came, note)
			}
		}
	}
	out := b
	m := &masker{found: found, masks: map[string]string{}}
	m.order()
	err := m.all(&out)
	out.Masked = true
	return out, err
}

// addresses are those that stand where technical values stand, or in settings: that a person's message has them, too,
// tells nothing of the person.
func (t Technical) addresses(b Bundle) map[string]bool {
	out := map[string]bool{b.Gate: true}
	add := func(v string) {
		if strings.Contains(v, "://") && !strings.Contains(v, "@") {
			out[v] = true
		}
	}
	for _, r := range b.Records {
		for _, v := range slices.Concat(r.Values, r.Given) {
			for _, word := range strings.Fields(v.Value) {
				add(word)
			}
		}
	}
	for _, s := range b.SignIns {
		for _, st := range s.Steps {
			add(st.Address)
			for _, v := range trace.Flat(st.Message) {
				if t.keeps(v.Label) {
					add(v.Value)
				}
			}
		}
	}
	return out
}

// personal notes what a line of a verdict says of a person.
func personal(expected, value, came string, note func(string)) {
	if !strings.HasPrefix(expected, "name ") && !strings.HasPrefix(expected, "attribute ") {
		return
	}
	note(value)
	for _, v := range strings.Split(came, ", ") {
		if v != "not told" && v != "nothing" && v != "told empty" {
			note(v)
		}
	}
}

// messages notes what a step says of a person.
func (t Technical) messages(st RecordedStep, note func(string)) {
	values := trace.Flat(st.Message)
	for _, v := range values {
		if !t.keeps(v.Label) {
			note(v.Value)
		}
	}
	for _, v := range st.Values {
		if !t.keeps(v.Label) {
			note(v.Value)
		}
	}
}

// keeps reports whether the value at a path of a message is technical.
func (t Technical) keeps(path string) bool {
	at := strings.LastIndex(path, " › ")
	name := path
	if at >= 0 {
		name = path[at+len(" › "):]
	}
	if name, is := strings.CutPrefix(name, "@"); is {
		return name != "Address" && name != "DNSName"
	}
	return t[name]
}

type masker struct {
	found  map[string]bool
	sorted []string
	masks  map[string]string
}

// order has longer values replaced before those that are a part of them.
func (m *masker) order() {
	m.sorted = slices.SortedFunc(maps.Keys(m.found), func(a, b string) int {
		return cmp.Or(cmp.Compare(len(b), len(a)), cmp.Compare(a, b))
	})
}

// of is the mask of a value.
func (m *masker) of(value string) string {
	if m.masks[value] == "" {
		m.masks[value] = fmt.Sprintf("[masked %d]", len(m.masks)+1)
	}
	return m.masks[value]
}

// text masks what is of a person in a text, also as XML, JSON and addresses write it.
func (m *masker) text(s string) string {
	for _, v := range m.sorted {
		for _, form := range []string{v, html.EscapeString(v), quoted(v), url.QueryEscape(v), url.PathEscape(v)} {
			if strings.Contains(s, form) {
				s = strings.ReplaceAll(s, form, m.of(v))
			}
		}
	}
	return address.ReplaceAllStringFunc(s, m.of)
}

func quoted(s string) string {
	octets, err := json.Marshal(s)
	if err != nil || len(octets) < 2 {
		return s
	}
	return string(octets[1 : len(octets)-1])
}

// all masks a bundle. What is set keeps its words, and loses addresses of e-mail alone.
func (m *masker) all(b *Bundle) error {
	records, line := b.Records, b.TimeLine
	b.Records, b.TimeLine = nil, nil
	octets, err := json.Marshal(b)
	if err != nil {
		return err
	}
	var tree any
	if err := json.Unmarshal(octets, &tree); err != nil {
		return err
	}
	if octets, err = json.Marshal(m.within(tree, "")); err != nil {
		return err
	}
	*b = Bundle{}
	if err := json.Unmarshal(octets, b); err != nil {
		return err
	}
	b.Records = slices.Clone(records)
	for i, r := range b.Records {
		b.Records[i].Values, b.Records[i].Given = m.addresses(r.Values), m.addresses(r.Given)
	}
	b.TimeLine = slices.Clone(line)
	for i, l := range line {
		b.TimeLine[i].Who, b.TimeLine[i].What = m.operator(l.Who), address.ReplaceAllStringFunc(l.What, m.of)
	}
	return nil
}

// operator masks who made a change; what the gate does by itself keeps its name.
func (m *masker) operator(who string) string {
	if strings.HasPrefix(who, "the ") || strings.HasPrefix(who, "a ") || who == "" || who == "demo" {
		return who
	}
	return m.of(who)
}

func (m *masker) addresses(in []federation.Value) []federation.Value {
	out := slices.Clone(in)
	for i, v := range out {
		out[i].Value = address.ReplaceAllStringFunc(v.Value, m.of)
	}
	return out
}

// plain are members whose texts are names of the bundle itself.
var plain = map[string]bool{"kind": true, "of": true, "gate": true, "version": true, "code": true, "severity": true,
	"side": true, "reference": true, "result": true, "state": true, "from": true, "to": true, "began": true, "started": true,
	"symptom": true, "application": true, "provider": true, "remedy": true}

func (m *masker) within(v any, member string) any {
	switch v := v.(type) {
	case string:
		if plain[member] {
			return v
		}
		return m.text(v)
	case []any:
		for i := range v {
			v[i] = m.within(v[i], member)
		}
	case map[string]any:
		for _, name := range slices.Sorted(maps.Keys(v)) { // masks are numbered in one order
			v[name] = m.within(v[name], name)
		}
	}
	return v
}
