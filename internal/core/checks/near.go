package checks

import (
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Nearness says by what two identifiers or addresses differ if it is next to
// nothing: case, scheme, slash, white space. It is "" if they are equal or differ
// by more.
func Nearness(a, b string) string {
	if a == b || reduced(a) != reduced(b) {
		return ""
	}
	var out []string
	step := func(name string, f func(string) string) {
		x, y := f(a), f(b)
		if (a == b) != (x == y) || distance(x, y) < distance(a, b) {
			out = append(out, name)
		}
		a, b = x, y
	}
	step("white space", unspaced)
	step("scheme", unschemed)
	step("slash", unslashed)
	step("case", strings.ToLower)
	return strings.Join(out, " and ")
}

// distance counts octets that differ, for telling whether a step brought two
// values nearer.
func distance(a, b string) int {
	n := max(len(a), len(b)) - min(len(a), len(b))
	for i := range min(len(a), len(b)) {
		if a[i] != b[i] {
			n++
		}
	}
	return n
}

func reduced(s string) string { return strings.ToLower(unslashed(unschemed(unspaced(s)))) }

func unspaced(s string) string {
	return strings.Map(func(r rune) rune {
		if r == ' ' || r == '\t' || r == '\r' || r == '\n' || r == '\u00a0' || r == '\u200b' {
			return -1
		}
		return r
	}, s)
}

func unschemed(s string) string {
	if i := strings.Index(s, "://"); i >= 0 && (strings.EqualFold(s[:i], "http") || strings.EqualFold(s[:i], "https")) {
		return s[i+3:]
	}
	return s
}

func unslashed(s string) string { return strings.TrimRight(s, "/") }

// Change gives the findings on a change of a record before it is made: other
// entity ID, keys or addresses, and those that differ by next to nothing.
// side is who sent what changes it.
func Change(side finding.Side, ds []federation.Difference) []*finding.Finding {
	l := List{side: side, all: federation.Changed(ds)}
	for _, d := range ds {
		before, _, _ := strings.Cut(d.Before, "  ")
		after, _, _ := strings.Cut(d.After, "  ")
		how := Nearness(before, after)
		if how == "" {
			continue
		}
		code, ok := map[federation.Touch]finding.Code{federation.TouchIdentity: finding.EntityIDNear,
			federation.TouchAddress: finding.AddressNear}[d.Touches]
		if !ok {
			continue
		}
		l.Once(finding.New(code, finding.Compare(d.Label, before, after), finding.Fact("They differ by", how)))
	}
	return l.all
}
