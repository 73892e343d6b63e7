package gate

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
)

// populous is a rig that knows so many people.
func populous(b *testing.B, n int) *rig {
	r := newRigFor(b)
	out, err := r.takes(roll.Import{Document: listOf(n)})
	require.NoError(b, err)
	require.Equal(b, n, out.New)
	return r
}

func listOf(n int) []byte {
	var t strings.Builder
	t.WriteString("userName,displayName,emails,employeeNumber,title\n")
	for i := range n {
		given, family := givenNames[i*7919%len(givenNames)], fmt.Sprintf("Fam%x", i*104729%50021)
		fmt.Fprintf(&t, "u%06d,%s %s,%s.%s%d@wrenmoor.example,N-%06d,Clerk\n", i, given, family, given, family, i, i)
	}
	return []byte(t.String())
}

var givenNames = strings.Fields("Ada Bram Celia Dov Edda Farid Gwen Hugo Ines Jon Kaja Leo Mira Nils Otto Rhea Tomas Petra Olaf Mina")

// How matching, searching, taking in and comparing grow with the number of people: by
// index, hardly.
func BenchmarkPeople(all *testing.B) {
	var plain *rig
	for _, n := range []int{200, 200_000} {
		var r *rig
		all.Run(fmt.Sprintf("Import=%d", n), func(b *testing.B) {
			for b.Loop() {
				b.StopTimer()
				r = newRigFor(all)
				list := listOf(n)
				b.StartTimer()
				_, err := r.takes(roll.Import{Document: list})
				require.NoError(b, err)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/person")
		})
		if r == nil {
			r = populous(all, n)
		}
		if plain == nil {
			plain = r
		} else {
			all.Run("Flat", func(b *testing.B) { flat(b, plain, r) })
		}
		all.Run(fmt.Sprintf("Match=%d", n), func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				found, err := r.st.People(ctx).Having(person.Sought{Attribute: "employeeNumber",
					Value: fmt.Sprintf("N-%06d", i*7%n)}, "")
				require.NoError(b, err)
				require.Len(b, found, 1)
			}
		})
		all.Run(fmt.Sprintf("Search=%d", n), func(b *testing.B) {
			for i := 0; b.Loop(); i++ {
				page, err := r.People.List(ctx, people.Filter{Search: "ada fam", Limit: 10})
				require.NoError(b, err)
				require.NotEmpty(b, page.People)
			}
		})
		all.Run(fmt.Sprintf("Foresee=%d", n), func(b *testing.B) { // whose entry one change decides otherwise
			rule, err := federation.AccessRules.Plain("clerks").Apply(federation.Settings{"title": "Clerks",
				"application": "roster", "then": "deny",
				"when": "attributes.title.exists(t, t == 'Clerk')"})
			require.NoError(b, err)
			after := r.Snapshot().With(rule)
			for b.Loop() {
				got, err := r.Traces.Consequence(ctx, r.Snapshot(), after)
				require.NoError(b, err)
				require.False(b, got.Stopped)
				require.Equal(b, n, got.Shut)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/person")
		})
		all.Run(fmt.Sprintf("Reroute=%d", n), func(b *testing.B) { // whose way one rule of provider selection changes
			rule, err := federation.SelectionRules.Plain("clerks").Apply(federation.Settings{"title": "Clerks",
				"domains":   words("wrenmoor.example"),
				"providers": words("staff")})
			require.NoError(b, err)
			after := r.Snapshot().With(rule)
			for b.Loop() {
				got, err := r.Traces.Rerouted(ctx, r.Snapshot(), after)
				require.NoError(b, err)
				require.False(b, got.Stopped)
				require.Equal(b, n, got.Ways.Keep)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/person")
		})
		all.Run(fmt.Sprintf("Everyone=%d", n), func(b *testing.B) {
			app, err := r.Records.Application("roster")
			require.NoError(b, err)
			for b.Loop() {
				got, err := r.Traces.Everyone(ctx, r.Snapshot().With(app), app, noProgress{})
				require.NoError(b, err)
				require.Len(b, got.People, n)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/person")
		})
		all.Run(fmt.Sprintf("Compare=%d", n), func(b *testing.B) {
			for b.Loop() {
				c, err := r.Comparing.Compare(ctx, tester, comparing.Wish{App: "roster", Document: listOf(n)}, &heard{})
				require.NoError(b, err)
				require.Equal(b, n, c.Accounts)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/account")
		})
	}
}
