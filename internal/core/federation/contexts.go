package federation

import (
	"fmt"
	"innergate.example/innergate/internal/core/listed"
	"slices"
	"strings"
)

// Ranking orders authentication contexts by how strongly they prove who somebody
// is, the weakest first; those of one rank are equal. A context that is in no
// rank is comparable to itself only.
type Ranking [][]string

// Bounds of a ranking.
const (
	maxRanks        = 50
	maxContexts     = 500
	maxContextRunes = 400
)

// Check sees that the ranking names each context once, without white space.
func (r Ranking) Check() error {
	seen := map[string]int{}
	n := 0
	for i, rank := range r {
		if len(rank) == 0 {
			return &SettingError{"ranks", fmt.Errorf("rank %d is empty; name a context in it, or leave it out", i+1)}
		}
		for _, c := range rank {
			if n++; c == "" || len([]rune(c)) > maxContextRunes ||
				strings.ContainsFunc(c, func(x rune) bool { return x <= ' ' || x == 0x7f || x == '>' }) {
				return &SettingError{"ranks", fmt.Errorf("%q in rank %d is no context; give a URI of at most %d characters", c,
					i+1, maxContextRunes)}
			}
			if before, twice := seen[c]; twice {
				return &SettingError{"ranks", fmt.Errorf("%s stands in rank %d and in rank %d; leave it in one", c, before, i+1)}
			}
			seen[c] = i + 1
		}
	}
	if len(r) > maxRanks || n > maxContexts {
		return &SettingError{"ranks", fmt.Errorf("%d ranks with %d contexts are too many; use at most %d with %d", len(r), n,
			maxRanks, maxContexts)}
	}
	return nil
}

// rank gives the place of a context, false if it has none.
func (r Ranking) rank(context string) (int, bool) {
	for i, rank := range r {
		if slices.Contains(rank, context) {
			return i, true
		}
	}
	return 0, false
}

// Comparisons of a wished context with that of a sign-in (SAML core §3.3.2.2.1).
const (
	CompareExact   = "exact"
	CompareMinimum = "minimum"
	CompareMaximum = "maximum"
	CompareBetter  = "better"
)

// Satisfies reports whether a context fulfils a wish: exactly one of those
// named, at least or at most as strong as one of them, or stronger than all of
// them (SAML core §3.3.2.2.1). What has no rank fulfils only a wish that names
// it, and never one for something better.
func (r Ranking) Satisfies(comparison string, wished []string, context string) bool {
	if len(wished) == 0 {
		return true
	}
	if comparison != CompareBetter && slices.Contains(wished, context) {
		return true
	}
	have, ranked := r.rank(context)
	if !ranked {
		return false
	}
	any, all := false, true
	for _, w := range wished {
		want, ok := r.rank(w)
		any = any || ok && (comparison == CompareMinimum && have >= want || comparison == CompareMaximum && have <= want)
		all = all && ok && have > want
	}
	return any || comparison == CompareBetter && all
}

// Words are a provider's own words for authentication contexts, and ours for them. In a line they are
// THEIRS>OURS. None is a URI with a “>” in it.
type Words listed.Pairs

var translation = listed.Form{Sign: ">"}

// MarshalJSON writes an object.
func (w Words) MarshalJSON() ([]byte, error) { return translation.Marshal(listed.Pairs(w)) }

// UnmarshalJSON reads an object, or a line.
func (w *Words) UnmarshalJSON(octets []byte) error {
	pairs, err := translation.Unmarshal(octets)
	*w = Words(pairs)
	return err
}

func (w Words) check() error {
	for i, p := range w {
		switch {
		case p.Name == "" || p.Value == "" || strings.Contains(p.Name+p.Value, ">"):
			return fmt.Errorf("%q is no translation; write THEIRS>OURS, separated by spaces", translation.Line(listed.Pairs{p}))
		case slices.ContainsFunc(w[:i], func(o listed.Pair) bool { return o.Name == p.Name }):
			return fmt.Errorf("%q is translated twice; leave one", p.Name)
		}
	}
	return nil
}

// Ours gives our word for one of theirs; a word that is not translated is its
// own.
func (w Words) Ours(theirs string) string {
	for _, p := range w {
		if p.Name == theirs {
			return p.Value
		}
	}
	return theirs
}

// Theirs gives their words for ours, each as often as they have words for it.
func (w Words) Theirs(ours []string) []string {
	var out []string
	for _, o := range ours {
		n := len(out)
		for _, p := range w {
			if p.Value == o {
				out = append(out, p.Name)
			}
		}
		if len(out) == n {
			out = append(out, o)
		}
	}
	return out
}
