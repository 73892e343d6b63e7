package trace

import (
	"bytes"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/base32"
	"encoding/json"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"regexp"
	"slices"
	"strconv"
	"strings"
)

// Veil takes out of what is recorded the values that traces are not to keep: those that
// the provider's and the application's setting traceValues name, and what rules make of
// them. Names of people, by which traces are found, stay.
type Veil struct {
	snap           *federation.Snapshot
	sides          []crossing.Covering
	received, told func(name string) profile.Detail
	kept           map[string]profile.Detail // of what is kept with the person, from other sign-ins too
	secret         []byte
	words          map[string]bool // that were taken out, to be looked for in the rest
	phrases        []string        // likewise, those that are more than a word
	names          map[string]bool // of the person: these stay
}

// NewVeil is nil where everything is kept.
func NewVeil(snap *federation.Snapshot, app, provider string) *Veil {
	var out map[string]profile.Detail
	var release profile.Mapping
	a, ok := snap.Application(federation.Name(app))
	if ok {
		out, _ = a.TraceValues.Parse() // it was read before it was saved
		release = a.Mapping()
	}
	if len(out) == 0 && !slices.ContainsFunc(snap.Providers(), func(p *federation.Provider) bool {
		return len(p.TraceValues) > 0 // a session holds words of several
	}) {
		return nil
	}
	v := &Veil{snap: snap, secret: snap.Gate.Pairwise, kept: map[string]profile.Detail{}, words: map[string]bool{},
		names: map[string]bool{}}
	p, _ := snap.Provider(federation.Name(provider))
	received, made, strictest := detailsOf(p)
	for _, k := range out {
		strictest = max(strictest, k)
	}
	v.received = received
	if ok {
		v.coveredBy(crossing.Of(a.Side).Covering)
	}
	if p != nil {
		v.coveredBy(crossing.Of(p.Side).Covering)
	}
	released := release.Through(func(name string) profile.Detail { return max(made(name), v.kept[name]) }, strictest)
	v.told = func(name string) profile.Detail { return max(released(name), profile.DetailOf(out, name)) }
	return v
}

// coveredBy has messages covered as a side finds values in them.
func (v *Veil) coveredBy(side crossing.Covering) {
	if side != nil {
		v.sides = append(v.sides, side)
	}
}

// detailsOf is what is kept of what a provider says, and of what its intake makes of it.
func detailsOf(p *federation.Provider) (received, made func(name string) profile.Detail, strictest profile.Detail) {
	if p == nil {
		all := func(string) profile.Detail { return profile.DetailFull }
		return all, all, profile.DetailFull
	}
	by, _ := p.TraceValues.Parse() // it was read before it was saved
	for _, k := range by {
		strictest = max(strictest, k)
	}
	received = func(name string) profile.Detail { return profile.DetailOf(by, name) }
	return received, p.Mapping().Through(received, strictest), strictest
}

// notKept stands in place of a value.
const notKept = "(not kept)"

// cover gives what is kept in place of a text.
func (v *Veil) cover(text string, how profile.Detail) string {
	if how == profile.DetailFull {
		return text
	}
	if covered.MatchString(text) || text == notKept {
		return text // it was recorded before
	}
	if len(text) >= shortest {
		v.note(text)
	}
	if how == profile.DetailOff {
		return notKept
	}
	mac := hmac.New(sha256.New, append([]byte("trace value\x1f"), v.secret...))
	mac.Write([]byte(text))
	return "hashed:" + strings.ToLower(base32.StdEncoding.EncodeToString(mac.Sum(nil)[:10]))
}

// Covered reports whether a value that was recorded is not the one that came.
func Covered(text string) bool { return text == notKept || covered.MatchString(text) }

// covered is how a hashed value looks.
var covered = regexp.MustCompile(`^hashed:[a-z2-7]{16}$`)

// Named says by which names somebody is known, which are told and found as ever, also
// where an attribute has the same value.
func (v *Veil) Named(names ...string) {
	if v == nil {
		return
	}
	for _, n := range names {
		v.names[n] = true
	}
}

// mostPhrases bounds what each text of a trace is searched for.
const mostPhrases = 100

// note keeps what was taken out. Words are looked up, so that there can be many.
func (v *Veil) note(text string) {
	switch {
	case v.names[text]:
	case strings.IndexFunc(text, between) < 0:
		v.words[text] = true
	case len(v.phrases) < mostPhrases && !slices.Contains(v.phrases, text):
		v.phrases = append(v.phrases, text)
	}
}

// between reports whether a character stands between words.
func between(r rune) bool { return strings.ContainsRune(" \t\r\n\"'<>&,;=()[]{}", r) }

// shortest is how long a value is that is looked for in the rest of a trace, in octets:
// shorter ones stand everywhere.
const shortest = 4

func (v *Veil) attributes(in []profile.Attribute, keep func(string) profile.Detail) (out []profile.Attribute,
	names []string) {
	for _, a := range in {
		how := max(keep(a.Name), keep(a.Friendly))
		if a.Friendly == "" {
			how = keep(a.Name)
		}
		if how != profile.DetailFull {
			values := make([]profile.Value, len(a.Values))
			for i, x := range a.Values {
				values[i] = profile.TextOf(v.cover(x.String(), how))
			}
			a.Values = values
			names = append(names, a.Name)
			if a.Friendly != "" {
				names = append(names, a.Friendly)
			}
		}
		out = append(out, a)
	}
	return out, names
}

func (v *Veil) answer(a *crossing.Answer) *crossing.Answer {
	if a == nil {
		return nil
	}
	b := *a
	p, _ := v.snap.Provider(a.Provider)
	received, _, _ := detailsOf(p)
	var names []string
	if b.Attributes, names = v.attributes(a.Attributes, received); len(names) > 0 {
		b.Veiled = names
	}
	return &b
}

// typedIn covers addresses and user names that somebody typed before any provider was known: as the strictest of them
// says, and the application. Their domains, which decide where people go, stay.
func (v *Veil) typedIn(e *Entry) {
	for _, at := range []*string{&e.Typed, &e.Before.Typed} {
		typed := *at
		i := strings.LastIndexByte(typed, '@')
		name := "emails"
		if i < 0 {
			i, name = len(typed), "userName"
		}
		how := v.told(name)
		for _, p := range v.snap.Providers() {
			received, _, _ := detailsOf(p)
			how = max(how, received(name))
		}
		if typed == "" || how == profile.DetailFull {
			continue
		}
		v.note(typed)
		*at = v.cover(typed[:i], how) + typed[i:]
		key := func(address string) string {
			return person.Sought{Attribute: profile.Word("emails"), Value: profile.Key("emails", address)}.String()
		}
		if people, looked := e.Having[key(typed)]; looked {
			delete(e.Having, key(typed)) // a map of the entry's own
			e.Having[key(*at)] = people
		}
	}
}

// Entry covers what a turn was decided on. It comes before the steps, which are searched
// for what was found here.
func (v *Veil) Entry(e Entry) Entry {
	if v == nil {
		return e
	}
	for _, a := range heard(e) {
		v.Named(a.Subject.Value)
	}
	if e.Decided.Released != nil {
		v.Named(e.Decided.Released.Name.Value)
	}
	v.typedIn(&e)
	e.People = v.people(e.People)
	having := map[string][]person.Person{}
	for key, people := range e.Having {
		of := map[string]person.Person{}
		for i, p := range people {
			of[strconv.Itoa(i)] = p
		}
		of = v.people(of)
		covered := make([]person.Person, len(people))
		for i := range people {
			covered[i] = of[strconv.Itoa(i)]
		}
		delete(e.Having, key) // a map of the entry's own
		if name, value, _ := strings.Cut(key, "\x1f"); v.received(name) != profile.DetailFull {
			v.note(value)
			key = person.Sought{Attribute: name, Value: notKept}.String()
		}
		having[key] = covered
	}
	if e.Having != nil {
		e.Having = having
	}
	e.Before.Given, e.Given = v.given(e.Before.Given), v.given(e.Given)
	e.Before.Legs = slices.Clone(e.Before.Legs)
	for i, l := range e.Before.Legs {
		e.Before.Legs[i].Word = v.answer(l.Word)
	}
	if e.Before.Proof != nil {
		proof := *e.Before.Proof
		proof.Address = v.cover(proof.Address, v.received(proof.Name))
		e.Before.Proof = &proof
	}
	if e.Gave != nil {
		gave := *e.Gave
		gave.Values = map[string]string{}
		for name, value := range e.Gave.Values {
			gave.Values[name] = v.cover(value, v.received(name))
		}
		e.Gave = &gave
	}
	if e.Told != nil && e.Told.Answer != nil {
		told := *e.Told
		told.Answer = v.answer(told.Answer)
		e.Told = &told
	}
	if e.Session != nil {
		s := *e.Session
		s.Proofs = slices.Clone(s.Proofs)
		for i := range s.Proofs {
			s.Proofs[i] = *v.answer(&s.Proofs[i])
		}
		e.Session = &s
	}
	if r := e.Decided.Released; r != nil {
		b := *r
		b.Attributes, _ = v.attributes(r.Attributes, v.told)
		e.Decided.Released = &b
	}
	e.Decided.Sent = v.values(e.Decided.Sent)
	return e
}

// given covers what a person said when they were asked.
func (v *Veil) given(in []person.Given) []person.Given {
	out := slices.Clone(in)
	for i, g := range out {
		out[i].Value = v.cover(g.Value, v.received(g.Name))
	}
	return out
}

func (v *Veil) people(in map[string]person.Person) map[string]person.Person {
	out := map[string]person.Person{}
	for key, p := range in {
		p.Values = slices.Clone(p.Values)
		for i, x := range p.Values {
			made := v.madeBy(x.From)
			v.kept[x.Name] = max(v.kept[x.Name], made(x.Name))
			covered, _ := v.attributes([]profile.Attribute{x.Attribute}, made)
			p.Values[i].Attribute = covered[0]
		}
		out[key] = p
	}
	return out
}

// Delivered gives what an application was told of somebody without the values that are not to be kept whole: people
// see on their own page that they were told.
func (v *Veil) Delivered(told []crossing.Delivered, who person.Person) []crossing.Delivered {
	if v == nil {
		return told
	}
	v.people(map[string]person.Person{"": who}) // what is kept with them counts, too
	out := slices.Clone(told)
	for i, d := range out {
		how := v.told(d.Name)
		if d.Friendly != "" {
			how = max(how, v.told(d.Friendly))
		}
		if how != profile.DetailFull {
			out[i].Values = profile.Texts(notKept)
		}
	}
	return out
}

// madeBy is what is kept of what the intake of a provider makes.
func (v *Veil) madeBy(id federation.ID) func(name string) profile.Detail {
	for _, p := range v.snap.Providers() {
		if p.ID == id {
			_, made, _ := detailsOf(p)
			return made
		}
	}
	return v.received
}

// Step covers what is shown of a turn.
func (v *Veil) Step(s crossing.TraceStep) crossing.TraceStep {
	if v == nil {
		return s
	}
	octets := v.message(s.Octets)
	if octets != s.Octets || v.holds(s.Raw) {
		if s.Raw != "" {
			s.Raw = notKept
		}
	} else {
		s.Raw = v.inText(s.Raw)
	}
	s.Octets = v.without(octets)
	s.Values = v.values(s.Values)
	s.Checks = slices.Clone(s.Checks)
	for i, c := range s.Checks {
		s.Checks[i].Finding, s.Checks[i].Found = v.finding(c.Finding), v.labelled(c.What, c.Found)
	}
	s.Finding = v.finding(s.Finding)
	return s
}

func (v *Veil) finding(f *finding.Finding) *finding.Finding {
	if f == nil {
		return nil
	}
	g := *f
	g.Evidence = slices.Clone(f.Evidence)
	for i, e := range g.Evidence {
		if v.holds(e.Found) {
			g.Evidence[i].Found = notKept
		}
		if v.holds(e.Expected) {
			g.Evidence[i].Expected = notKept
		}
	}
	return &g
}

func (v *Veil) values(in []federation.Value) []federation.Value {
	out := slices.Clone(in)
	for i, x := range out {
		out[i].Value = v.labelled(x.Label, x.Value)
	}
	return out
}

// labelled covers a text that stands behind the name of an attribute, however short it is,
// or that holds what was taken out elsewhere.
func (v *Veil) labelled(label, text string) string {
	for _, word := range []string{"Attribute ", "Claim "} {
		if name, ok := strings.CutPrefix(label, word); ok && text != "" && v.Keeps(name) != profile.DetailFull {
			return notKept
		}
	}
	if v.holds(text) {
		return notKept
	}
	return text
}

// holds reports whether a text holds a value that is not to be kept.
func (v *Veil) holds(text string) bool {
	for word := range strings.FieldsFuncSeq(text, between) {
		if v.words[word] {
			return true
		}
	}
	return slices.ContainsFunc(v.phrases, func(p string) bool { return strings.Contains(text, p) })
}

// without takes out of a text what was taken out elsewhere.
func (v *Veil) without(text string) string {
	for _, p := range v.phrases {
		text = strings.ReplaceAll(text, p, notKept)
	}
	found := map[string]bool{}
	for word := range strings.FieldsFuncSeq(text, between) {
		if v.words[word] {
			found[word] = true
		}
	}
	if len(found) > mostPhrases {
		return notKept
	}
	for word := range found {
		text = strings.ReplaceAll(text, word, notKept)
	}
	return text
}

// inText covers what stands in a text, such as tokens.
func (v *Veil) inText(text string) string {
	for _, side := range v.sides {
		if covered, is := side.Cover(text, v); is {
			text = covered
		}
	}
	return text
}

// Keeps is what is kept of a name in a message, whichever way it goes.
func (v *Veil) Keeps(name string) profile.Detail { return max(v.received(name), v.told(name)) }

// Text is what is shown of a value.
func (v *Veil) Text(text string, how profile.Detail) string { return v.cover(text, how) }

// message covers values in a message: as the sides of its protocols find them, else members of JSON.
func (v *Veil) message(text string) string {
	for _, side := range v.sides {
		if covered, is := side.Cover(text, v); is {
			return covered
		}
	}
	if trimmed := strings.TrimLeft(text, " \t\r\n\ufeff"); strings.HasPrefix(trimmed, "{") ||
		strings.HasPrefix(trimmed, "[") {
		if covered, ok := v.JSON([]byte(text)); ok {
			return string(covered)
		}
	}
	return text
}

// JSON covers members of objects; ok tells whether it was JSON in which something is.
func (v *Veil) JSON(octets []byte) ([]byte, bool) {
	d := json.NewDecoder(bytes.NewReader(octets))
	d.UseNumber()
	var x any
	if d.Decode(&x) != nil {
		return nil, false
	}
	changed := false
	out, err := json.Marshal(v.member("", x, profile.DetailFull, &changed))
	return out, changed && err == nil
}

func (v *Veil) member(name string, x any, how profile.Detail, changed *bool) any {
	if name != "" {
		how = max(how, v.Keeps(name))
	}
	switch x := x.(type) {
	case map[string]any:
		for n, m := range x {
			x[n] = v.member(n, m, how, changed)
		}
		return x
	case []any:
		for i, m := range x {
			x[i] = v.member("", m, how, changed)
		}
		return x
	case string:
		if how != profile.DetailFull {
			*changed = true
			return v.cover(x, how)
		}
		covered := v.inText(x)
		*changed = *changed || covered != x
		return covered
	case nil:
		return nil
	}
	if how == profile.DetailFull {
		return x
	}
	*changed = true
	text, _ := json.Marshal(x)
	return v.cover(string(text), how)
}
