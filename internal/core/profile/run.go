package profile

import (
	"cmp"
	"encoding/json"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/expression"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Compiled is a mapping that is ready to run. It never changes.
type Compiled struct {
	rest    bool
	rules   []rule
	reads   map[string]bool
	sources string
	whole   bool // an expression reads more than it names
}

type rule struct {
	Rule
	when      *expression.Expression   // nil for always
	values    []*expression.Expression // of each source, nil for those of another kind
	paths     [][]string               // of each source
	do        []doing
	otherwise []Value
}

// read reports whether a rule reads an attribute.
func (c *Compiled) read(a Attribute) bool {
	if c.whole || c.reads[a.Name] || a.Friendly != "" && c.reads[a.Friendly] {
		return true
	}
	for _, r := range c.rules {
		for _, p := range r.paths {
			if len(p) > 1 && p[0] == a.Name {
				return true
			}
		}
	}
	return false
}

// Outcome is what a rule came to.
type Outcome string

// Outcomes.
const (
	Applied   Outcome = "applied"
	Defaulted Outcome = "default" // nothing came of the sources
	Absent    Outcome = "absent"  // none of the sources has a value
	Emptied   Outcome = "emptied" // a step left nothing
	TooMuch   Outcome = "too much"
	Unmet     Outcome = "unmet" // its condition does not hold
)

// Worked is what one rule did.
type Worked struct {
	Rule    int     `json:"rule"` // from 1
	To      string  `json:"to"`
	Outcome Outcome `json:"outcome"`
	Source  string  `json:"source,omitempty"` // that had the values
	Took    []Value `json:"took,omitempty"`
	Made    []Value `json:"made,omitempty"`
	Step    int     `json:"step,omitempty"` // that left nothing, from 1; 0 for the type
	// Without are values that were left out, each with the cause.
	Without []string `json:"without,omitempty"`
}

// String says it for people.
func (w Worked) String() string {
	switch w.Outcome {
	case Applied:
		return fmt.Sprintf("%s is made of %s", w.To, w.Source)
	case Defaulted:
		return w.To + " takes its default"
	case Absent:
		return w.To + " is not made: no source has a value"
	case Unmet:
		return w.To + " is not made: its condition does not hold"
	case TooMuch:
		return w.To + " is not made: its values are too many, or too long"
	}
	if w.Step == 0 {
		return fmt.Sprintf("%s is not made: no value of %s can be told", w.To, w.Source)
	}
	return fmt.Sprintf("%s is not made: step %d left nothing of %s", w.To, w.Step, w.Source)
}

// ran is what a step makes.
type ran struct {
	values  []Value
	without []string
	told    bool // what is left out is to be said
	much    bool
	octets  int
	left    *int64 // of what all patterns of a mapping may cost
}

// budget is what the patterns of all rules may cost in one run: instructions times octets.
// What somebody sends in earnest costs a thousandth of it.
const budget = 1 << 26

// spend takes from the budget; false if it is used up.
func (r *ran) spend(n int64) bool {
	if *r.left -= n; *r.left < 0 {
		r.much = true
	}
	return !r.much
}

// add takes values on; false if they become too many.
func (r *ran) add(vs ...Value) bool {
	for _, v := range vs {
		r.octets += len(v.text)
		if len(r.values) >= mostValues || len(v.text) > longest || r.octets > 16*longest {
			r.much = true
			return false
		}
		r.values = append(r.values, v)
	}
	return true
}

// mostSaid is how many of the values that are left out are named, by a rule.
const mostSaid = 20

// leaves notes a value that is left out.
func (r *ran) leaves(v Value, cause string) {
	if r.told && len(r.without) < mostSaid {
		r.without = append(r.without, fmt.Sprintf("%.80q %s", v.text, cause))
	}
}

// Mapped is what a mapping made.
type Mapped struct {
	Attributes []Attribute
	Subject    *Subject // nil if no rule makes it
	Several    bool     // the rule for it made more than one value
	Worked     []Worked // where it was to be told
}

func (c *Compiled) run(p Profile, way Way, tell bool) (out Mapped, err error) {
	in := index(p)
	out.Attributes = make([]Attribute, 0, len(c.rules))
	if tell {
		out.Worked = make([]Worked, 0, len(c.rules))
	}
	for i := range c.rules {
		r := &c.rules[i]
		values, w := r.run(&in, tell)
		if tell {
			w.Rule, w.To = i+1, r.To.String()
			out.Worked = append(out.Worked, w)
		}
		switch {
		case w.Outcome == Unmet:
		case len(values) == 0 && r.Mandatory:
			return out, missing{r, i + 1, w, way}.of(p)
		case len(values) == 0:
		case r.To.Subject:
			out.Subject, out.Several = &Subject{Value: values[0].text, Format: r.To.Format}, len(values) > 1
		default:
			out.Attributes = append(out.Attributes, Attribute{Name: r.To.Name, Format: r.To.Format, Friendly: r.To.Friendly,
				Values: values, Ruled: way == Release})
		}
	}
	if c.rest {
		out.Attributes = append(out.Attributes, c.others(p)...)
	}
	return out, nil
}

// others are the attributes that no rule reads or makes.
func (c *Compiled) others(p Profile) (out []Attribute) {
	for _, a := range p.Attributes {
		made := slices.ContainsFunc(c.rules, func(r rule) bool { return r.To.Name == a.Name })
		if !made && !c.read(a) {
			out = append(out, a)
		}
	}
	return out
}

// missing is a mandatory rule that made nothing.
type missing struct {
	*rule
	at  int
	w   Worked
	way Way
}

// of says that somebody lacks what they must have.
func (m missing) of(p Profile) error {
	r, w := m.rule, m.w
	names, sources := []string{}, []string{}
	for _, a := range p.Attributes {
		names = append(names, a.Name)
	}
	for _, s := range r.From {
		sources = append(sources, s.String())
	}
	arrived := strings.Join(names, ", ")
	if arrived == "" {
		arrived = "none"
	}
	code := finding.AttributeMissing
	if m.way == Release {
		code = finding.ReleaseMissing
	}
	f := finding.New(code, finding.Fact("Mandatory", r.To.String()), finding.Fact("Rule", fmt.Sprint(m.at)),
		finding.Fact("Looked for", strings.Join(sources, ", ")), finding.Fact("Attributes there", arrived))
	if w.Outcome == Emptied || w.Outcome == TooMuch {
		f = f.With(finding.Fact("Cause", w.String()))
	}
	for _, s := range r.From {
		if near := nearword.Of(s.Attribute, names); near != "" && near != s.Attribute {
			return f.With(finding.Fact("Nearest", near))
		}
	}
	return f
}

// run is one rule.
func (r *rule) run(in *indexed, tell bool) ([]Value, Worked) {
	w := Worked{Outcome: Applied}
	if r.when != nil && !r.holds(in, &w, tell) {
		return nil, w
	}
	values := r.sources(in, &w, tell)
	if tell {
		w.Took = values
	}
	if len(values) == 0 {
		w.Outcome = Absent
		return r.fallen(w)
	}
	for i, do := range r.do {
		out := &in.out // of one step after the other
		*out = ran{told: tell, values: in.room(len(values)), left: &in.left}
		do(values, out)
		if w.Without = append(w.Without, out.without...); out.much {
			w.Outcome, w.Step = TooMuch, i+1
			return nil, w
		}
		if values = out.values; len(values) == 0 {
			w.Outcome, w.Step = Emptied, i+1
			return r.fallen(w)
		}
	}
	if values = r.fits(values, &w, tell); len(values) == 0 {
		w.Outcome = Emptied
		return r.fallen(w)
	}
	if tell {
		w.Made = values
	}
	return values, w
}

// holds reports whether a rule's condition does. One that cannot be answered does not.
func (r *rule) holds(in *indexed, w *Worked, tell bool) bool {
	is, err := r.when.True(in.known())
	if is && err == nil {
		return true
	}
	if w.Outcome = Unmet; err != nil && tell {
		w.Without = append(w.Without, "the condition cannot be answered: "+err.Error())
	}
	return false
}

// fallen takes the default.
func (r *rule) fallen(w Worked) ([]Value, Worked) {
	if len(r.otherwise) > 0 {
		w.Outcome, w.Made = Defaulted, r.otherwise
	}
	return r.otherwise, w
}

// fits are the values that can be told: not empty, and of the type that is wanted.
func (r *rule) fits(in []Value, w *Worked, tell bool) []Value {
	if r.To.Type == "" && !slices.ContainsFunc(in, silent) {
		return in
	}
	out := ran{told: tell, values: make([]Value, 0, len(in))}
	for _, v := range in {
		as, ok := v.as(cmp.Or(r.To.Type, v.Type()))
		switch {
		case silent(v):
			out.leaves(v, "is empty")
		case !ok:
			out.leaves(v, "is no "+string(r.To.Type))
		default:
			out.values = append(out.values, as)
		}
	}
	w.Without = append(w.Without, out.without...)
	return out.values
}

// says reports whether a value says something, silent whether it does not.
func says(v Value) bool   { return v.text != "" }
func silent(v Value) bool { return v.text == "" }

// sources gives the values that a rule begins with.
func (r *rule) sources(in *indexed, w *Worked, tell bool) (values []Value) {
	for i, s := range r.From {
		var got []Value
		var err error
		if e := r.values[i]; e == nil {
			got = in.of(s, r.paths[i])
		} else if got, err = in.calculated(e); err != nil && tell {
			w.Without = append(w.Without, fmt.Sprintf("%s cannot be worked out: %v", s, err))
		}
		if !slices.ContainsFunc(got, says) {
			continue
		}
		if !r.All {
			w.Source = s.String()
			return got
		}
		if w.Source != "" {
			w.Source += ", "
		}
		w.Source += s.String()
		values = append(values[:len(values):len(values)], got...)
	}
	return values
}

// indexed are somebody's attributes, by name and friendly name.
type indexed struct {
	subject Value
	roles   []Value
	list    []Attribute
	by      map[string]int
	format  string
	facts   *expression.Facts // made when an expression first wants them
	slab    []Value           // of which steps take room, many at once
	left    int64             // of the budget
	out     ran               // what a step makes
}

// room is for n values, more only at a cost of its own.
func (in *indexed) room(n int) []Value {
	if n > 64 {
		return nil
	}
	if len(in.slab) < n {
		in.slab = make([]Value, 64)
	}
	out := in.slab[:0:n]
	in.slab = in.slab[n:]
	return out
}

func index(p Profile) indexed {
	in := indexed{left: budget, subject: TextOf(p.Subject.Value), format: p.Subject.Format, list: p.Attributes,
		roles: Texts(p.Roles...),
		by:    make(map[string]int, len(p.Attributes))}
	for i := len(p.Attributes) - 1; i >= 0; i-- {
		if a := &p.Attributes[i]; a.Friendly != "" {
			in.by[a.Friendly] = i
		}
	}
	for i := len(p.Attributes) - 1; i >= 0; i-- { // a name goes before a friendly one
		in.by[p.Attributes[i].Name] = i
	}
	return in
}

// of are the values of a source; an attribute without any counts as none.
func (in *indexed) of(s Source, path []string) []Value {
	switch {
	case s.Subject && in.subject.text == "":
		return nil
	case s.Subject:
		return []Value{in.subject}
	case s.Role:
		return in.roles
	case s.Constant != "":
		return []Value{TextOf(s.Constant)}
	case s.Format != "":
		return in.formatted(s)
	}
	if i, ok := in.by[s.Attribute]; ok {
		return in.list[i].Values
	}
	if len(path) < 2 {
		return nil
	}
	if i, ok := in.by[path[0]]; ok {
		return inside(in.list[i].Values, path[1:])
	}
	return nil
}

func (in *indexed) formatted(s Source) []Value {
	for _, a := range in.list {
		if a.Format == s.Format && (a.Name == s.Attribute || a.Friendly == s.Attribute) {
			return a.Values
		}
	}
	return nil
}

// inside are the members of structures that a path leads to. A list there is several
// values.
func inside(values []Value, path []string) (out []Value) {
	for _, v := range values {
		if v.Type() != Structure {
			continue
		}
		at := json.RawMessage(v.text)
		for _, name := range path {
			var members map[string]json.RawMessage
			if json.Unmarshal(at, &members) != nil {
				at = nil
				break
			}
			at = members[name]
		}
		out = append(out, read(at)...)
	}
	return out
}

// read are the values of JSON; null is none.
func read(data json.RawMessage) (out []Value) {
	var list []json.RawMessage
	if len(data) > 0 && data[0] == '[' && json.Unmarshal(data, &list) == nil {
		for _, one := range list {
			if len(one) > 0 && one[0] != '[' {
				out = append(out, read(one)...)
			}
		}
		return out
	}
	if len(data) > 0 && data[0] == '{' {
		if v, err := StructureOf(data); err == nil {
			out = append(out, v)
		}
		return out
	}
	var v Value
	if string(data) != "null" && json.Unmarshal(data, &v) == nil {
		out = append(out, v)
	}
	return out
}
