package trace

import (
	"cmp"
	"crypto/sha256"
	"fmt"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Shown is a recorded crossing as people see it.
type Shown struct {
	Values []federation.Value // of the crossing as a whole
	Steps  []crossing.TraceStep
}

// StepPair is a step of one crossing beside that of another. First and Second count the steps of each from 1; 0 is
// where one has no such step. Both are 0 for the crossings as a whole.
type StepPair struct {
	First  int            `json:"first,omitempty"`
	Second int            `json:"second,omitempty"`
	From   crossing.Lane  `json:"from,omitempty"`
	To     crossing.Lane  `json:"to,omitempty"`
	Name   string         `json:"name"`
	Lines  []ValueBesides `json:"lines"` // what differs
}

// ValueBesides is a value that differs between two crossings; one of both is empty where the other alone has it.
type ValueBesides struct {
	Label  string `json:"label"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
	// Bound is what differs from one sign-in to the next whatever happens: identifiers drawn anew, times that are as
	// far from the step in both, signatures.
	Bound bool `json:"bound,omitempty"`
}

// Differs reports whether the pair differs by more than what is bound to.
func (p StepPair) Differs() bool {
	whole := p.First == 0 && p.Second == 0
	return !whole && (p.First == 0 || p.Second == 0) ||
		slices.ContainsFunc(p.Lines, func(l ValueBesides) bool { return !l.Bound })
}

// Beside holds two crossings against each other, step by step: first what they are as a whole, then their steps in
// order, matched by who sent what to whom. parts is the place in out of the first step that differs by more than what
// is bound to, as the protocols say; 0 if none does.
func Beside(first, second Shown, protocols ...crossing.Fleeting) (out []StepPair, parts int) {
	f := fleetingOf(protocols)
	out = []StepPair{{Name: "sign-in", Lines: f.besides(first.Values, second.Values, time.Time{}, time.Time{})}}
	left := mostOctets
	for _, at := range matched(first.Steps, second.Steps) {
		p := StepPair{First: at[0] + 1, Second: at[1] + 1, Lines: []ValueBesides{}}
		of := func(all []crossing.TraceStep, i int) (s crossing.TraceStep) {
			if i >= 0 {
				s = all[i]
				p.From, p.To, p.Name = s.From, s.To, s.Name
				if left -= len(s.Octets); left < 0 {
					s.Octets = fmt.Sprintf("all of it=%x", sha256.Sum256([]byte(s.Octets)))
				}
			}
			return s
		}
		a, b := of(first.Steps, at[0]), of(second.Steps, at[1])
		if p.First != 0 && p.Second != 0 {
			p.Lines = f.besides(valuesOf(a, b), valuesOf(b, a), a.At, b.At)
		} else {
			p.Lines = f.besides(refusal(a), refusal(b), a.At, b.At)
		}
		if out = append(out, p); parts == 0 && p.Differs() {
			parts = len(out) - 1
		}
	}
	return out, parts
}

// mostOctets is how much of all messages is taken apart; later ones are held against each other by their digests.
const mostOctets = 4 << 20

// mostSteps is how many steps of each crossing are matched one with another; later ones stand by themselves.
const mostSteps = 500

// matched pairs the steps of two crossings: the longest run of steps that both have in this order, and between them
// what one alone has, the first's before the second's. -1 is none.
func matched(a, b []crossing.TraceStep) (out [][2]int) {
	same := func(i, j int) bool { return a[i].From == b[j].From && a[i].To == b[j].To && a[i].Name == b[j].Name }
	n, m := min(len(a), mostSteps), min(len(b), mostSteps)
	common := make([][]int, n+1)
	for i := range common {
		common[i] = make([]int, m+1)
	}
	for i := n - 1; i >= 0; i-- {
		for j := m - 1; j >= 0; j-- {
			if common[i][j] = max(common[i+1][j], common[i][j+1]); same(i, j) {
				common[i][j] = common[i+1][j+1] + 1
			}
		}
	}
	i, j := 0, 0
	for i < n && j < m {
		switch {
		case same(i, j):
			out = append(out, [2]int{i, j})
			i, j = i+1, j+1
		case common[i+1][j] >= common[i][j+1]:
			out = append(out, [2]int{i, -1})
			i++
		default:
			out = append(out, [2]int{-1, j})
			j++
		}
	}
	for ; i < len(a); i++ {
		out = append(out, [2]int{i, -1})
	}
	for ; j < len(b); j++ {
		out = append(out, [2]int{-1, j})
	}
	return out
}

// refused labels what refused in a step.
const refused = "refused"

// refusal is what refused in a step, and by what.
func refusal(s crossing.TraceStep) (out []federation.Value) {
	if s.Finding == nil {
		return nil
	}
	out = append(out, federation.Value{Label: refused, Value: string(s.Finding.Code) + ": " + s.Finding.Title})
	for _, e := range s.Finding.Evidence {
		out = append(out, federation.Labelled(refused+", "+e.Label, cmp.Or(e.Found, e.Expected))...)
	}
	return out
}

// valuesOf is what a step says beside another: what refused, how it went, what was asked for or sent, what was checked,
// and its message value by value. Checks that the other did not come to, as it was refused before, are left out.
func valuesOf(s, other crossing.TraceStep) []federation.Value {
	reached := func(c finding.Check) bool {
		return s.Finding != nil || other.Finding == nil ||
			slices.ContainsFunc(other.Checks, func(o finding.Check) bool { return o.What == c.What })
	}
	address, query, _ := strings.Cut(s.Address, "?")
	out := append(refusal(s), federation.Labelled("binding", s.Binding, "sent to", address, "RelayState", s.RelayState)...)
	if s.Octets == "" { // else the message is the query
		out = append(out, federation.Labelled("sent to"+within+"query", query)...)
	}
	out = append(out, s.Values...)
	for _, c := range s.Checks {
		if !reached(c) {
			continue
		}
		if c.Finding != nil {
			out = append(out, federation.Value{Label: c.What, Value: string(c.Finding.Code) + ": " + c.Finding.Title})
		} else {
			out = append(out, federation.Value{Label: c.What, Value: c.Found})
		}
	}
	return append(out, Flat(s.Octets)...)
}

// besides are the values that differ; a and b are when the steps were.
func (f fleeting) besides(first, second []federation.Value, a, b time.Time) []ValueBesides {
	once := f.forOnce(first) && f.forOnce(second)
	out := []ValueBesides{}
	for _, d := range federation.Differences(first, second) {
		l := ValueBesides{Label: d.Name(), Before: d.Before, After: d.After}
		name := strings.TrimPrefix(l.Label, "@")
		if i := strings.LastIndex(l.Label, within); i >= 0 {
			name = strings.TrimPrefix(l.Label[i+len(within):], "@")
		}
		switch {
		case l.Before == "" || l.After == "": // that something is missing is bound to nothing
		case f.drawn[name], once && f.names[name]:
			l.Bound = true
		case f.timed[name]:
			from, one := since(l.Before, a)
			to, other := since(l.After, b)
			if !one || !other {
				break
			}
			if l.Bound = (from - to).Abs() <= time.Minute; !l.Bound {
				l.Before, l.After = l.Before+away(from), l.After+away(to)
			}
		}
		l.Before, l.After = clipped(l.Before, l.After)
		out = append(out, l)
	}
	slices.SortStableFunc(out, func(x, y ValueBesides) int { return cmp.Compare(order(x), order(y)) })
	return out
}

// longest is how much of a value is shown, in octets.
const longest = 2000

// clipped are two values cut down around where they part, if they are long.
func clipped(a, b string) (string, string) {
	alike := 0
	for alike < min(len(a), len(b)) && a[alike] == b[alike] {
		alike++
	}
	cut := func(text string) string {
		if len(text) <= longest {
			return text
		}
		from := max(0, min(alike-100, len(text)-longest))
		part := strings.ToValidUTF8(text[from:min(len(text), from+longest)], "")
		return fmt.Sprintf("%s … (%d octets, shown from the %d.)", part, len(text), from+1)
	}
	return cut(a), cut(b)
}

// order has what refused stand first, and what is bound to differ last.
func order(l ValueBesides) int {
	switch {
	case l.Bound:
		return 2
	case strings.HasPrefix(l.Label, refused):
		return 0
	}
	return 1
}

// fleeting is what all protocols say is bound to differ.
type fleeting struct {
	drawn, timed, names map[string]bool
	once                []string
}

func fleetingOf(all []crossing.Fleeting) fleeting {
	out := fleeting{drawn: map[string]bool{}, timed: map[string]bool{}, names: map[string]bool{}}
	for _, f := range all {
		for names, to := range map[*[]string]map[string]bool{&f.Drawn: out.drawn, &f.Timed: out.timed, &f.Names: out.names} {
			for _, n := range *names {
				to[n] = true
			}
		}
		out.once = append(out.once, f.Once)
	}
	return out
}

// forOnce reports whether names of people among the values are for one session.
func (f fleeting) forOnce(all []federation.Value) bool {
	return slices.ContainsFunc(all, func(v federation.Value) bool {
		return v.Value != "" &&
			slices.Contains(f.once, v.Value)
	})
}

// since is how long after a step a point in time is, in words (RFC 3339) or in seconds since 1970.
func since(text string, step time.Time) (time.Duration, bool) {
	if at, err := time.Parse(time.RFC3339, text); err == nil {
		return at.Sub(step), true
	}
	seconds, err := strconv.ParseInt(text, 10, 64)
	return time.Unix(seconds, 0).Sub(step), err == nil
}

func away(d time.Duration) string {
	text := strings.Replace(strings.Replace(d.Round(time.Second).Abs().String(), "m0s", "m", 1), "h0m", "h", 1)
	if d < 0 {
		return fmt.Sprintf(" (%s before this step)", text)
	}
	return fmt.Sprintf(" (%s after this step)", text)
}

// within stands between the names of a path into a message; none of them has it.
const within = " › "

// mostValues is how many values of a message are held against others one by one; the rest is told by its digest.
const mostValues = 2000

// Flat is a message value by value: XML by the names of its elements and attributes, JSON by those of its members,
// other texts line by line.
func Flat(octets string) (out []federation.Value) {
	switch {
	case octets == "":
		return nil
	case strings.HasPrefix(octets, "<"):
		out = flatXML(octets)
	case strings.HasPrefix(octets, "{"):
		out = flatJSON(octets)
	}
	if out == nil {
		for _, line := range strings.Split(octets, "\n") {
			if name, value, ok := strings.Cut(line, "="); ok && !strings.ContainsAny(name, " <") {
				out = append(out, federation.Value{Label: name, Value: value})
			} else {
				out = append(out, federation.Value{Label: "message", Value: line})
			}
		}
	}
	if len(out) > mostValues {
		h := sha256.New()
		for _, v := range out[mostValues:] {
			fmt.Fprintf(h, "%q %q\n", v.Label, v.Value)
		}
		out = append(out[:mostValues], federation.Value{Label: "rest of the message", Value: fmt.Sprintf("%x", h.Sum(nil))})
	}
	return out
}
