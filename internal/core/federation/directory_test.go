package federation_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
)

func directory(n int) *federation.Directory[int] {
	all := make([]int, n)
	for i := range all {
		all[i] = i
	}
	kinds := []string{"Crew roster", "Track possessions", "Ticket refunds", "Timetable archive", "Depot planner",
		"Incident LOG"}
	return federation.NewDirectory(all, func(i int) []string {
		return []string{fmt.Sprintf("app-%05d", i), fmt.Sprintf("Alder %d Rail: %s", i, kinds[i%6]),
			fmt.Sprintf("https://%s.alder-%d.example/saml", strings.ReplaceAll(strings.ToLower(kinds[i%6]), " ", "-"), i)}
	})
}

func TestDirectory(t *testing.T) {
	d := directory(600)
	page, total := d.Find("crew ROSTER", 2, 3)
	require.Equal(t, []int{12, 18, 24}, page, "by name, in any case")
	require.Equal(t, 100, total)
	for text, want := range map[string]int{"": 600, "app-00599": 1, "incident log": 100, "crew": 100, "nobody": 0,
		"alder-7.example": 1} {
		_, total := d.Find(text, 0, 10)
		require.Equal(t, want, total, text)
	}
	page, total = d.Find("", 595, 10)
	require.Len(t, page, 5)
	require.Equal(t, 600, total)
	page, _ = d.Find("", 700, 10)
	require.Empty(t, page)
	page, total = d.Find("x", 0, 1)
	require.Len(t, page, 1)
	require.Equal(t, 600, total, "a single letter has no pair to sieve by")
}

func BenchmarkFind(b *testing.B) {
	d := directory(10000)
	for b.Loop() {
		d.Find("roster", 0, 25)
	}
}
