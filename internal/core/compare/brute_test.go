package compare

import (
	"fmt"
	"math/rand/v2"
	"slices"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/table"
)

// verdictOf is what an account's verdict is, by looking at everybody.
func verdictOf(account string, people []Person) (Verdict, []int64) {
	for l := range levels {
		var fits []int64
		for _, p := range people {
			if slices.ContainsFunc(p.Values[0], func(v string) bool {
				want := levels[l].of(account)
				return want != "" && levels[l].of(v) == want
			}) {
				fits = append(fits, p.Number)
			}
		}
		switch len(fits) {
		case 0:
			continue
		case 1:
			return levels[l].verdict, fits
		}
		return Ambiguous, fits
	}
	return MissingHere, nil
}

// What is found by sums is what looking at everybody finds, whatever the lists are like.
func TestCompareAgreesWithLookingAtEverybody(t *testing.T) {
	letters := []string{"a", "A", "b", " ", "@x", "@y", `d\`, "ß", "İ", "", "ab"}
	r := rand.New(rand.NewPCG(1, 2))
	word := func() (s string) {
		for range r.IntN(4) {
			s += letters[r.IntN(len(letters))]
		}
		return s
	}
	for round := range 300 {
		people := People{Identifiers: []string{"x"}}
		for i := range r.IntN(12) {
			p := Person{Number: int64(i + 1), Disabled: r.IntN(6) == 0, Values: [][]string{nil}}
			for range r.IntN(3) {
				p.Values[0] = append(p.Values[0], word())
			}
			people.All = append(people.All, p)
		}
		list := &table.Table{Head: []string{"L"}}
		for i := range 1 + r.IntN(12) {
			list.Rows = append(list.Rows, table.Row{Line: i + 2, Cells: []string{word()}})
		}
		got := New(list, people).Compare(0, 0)
		seen := map[int64]int{}
		for _, l := range got.Lines {
			about := fmt.Sprintf("round %d, %+v, of %+v", round, l, people.All)
			if l.Line == 0 {
				require.Equal(t, MissingThere, l.Verdict, about)
				require.Zero(t, seen[l.Person], about)
				require.False(t, people.All[l.Person-1].Disabled, about)
				continue
			}
			want, fits := verdictOf(l.Account, people.All)
			switch {
			case want == Ambiguous || want == MissingHere:
				require.Equal(t, want, l.Verdict, about)
			case l.Verdict == Ambiguous: // somebody else has the person: one that fits exactly, or several that nearly do
				require.NotZero(t, l.Person, about)
			case l.Verdict == Disabled:
				require.True(t, people.All[fits[0]-1].Disabled, about)
			default:
				require.Equal(t, want, l.Verdict, about)
				require.Equal(t, fits[0], l.Person, about)
				if seen[l.Person]++; l.Verdict == Exact {
					require.Contains(t, people.All[l.Person-1].Values[0], l.Account, about)
				}
			}
		}
		for person, n := range seen {
			require.Equal(t, 1, n, "round %d: person %d has one account", round, person)
		}
		total := 0
		for _, n := range got.Counts {
			total += n
		}
		require.Equal(t, len(got.Lines), total)
	}
}
