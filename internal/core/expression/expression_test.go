package expression_test

import (
	"fmt"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/expression"
)

func Example() {
	e, err := expression.Compile(`attributes.groups.exists(g, g.startsWith("wm-"))`, expression.Condition)
	if err != nil {
		panic(err)
	}
	is, err := e.True(expression.Facts{Attributes: map[string][]any{"groups": {"wm-drivers"}}})
	fmt.Println(is, err, e.Reads)
	// Output: true <nil> [groups]
}

// No text makes it panic, and none runs for long or makes much.
func FuzzCompile(f *testing.F) {
	f.Add(`attributes.a[0] + subject`)
	f.Add(`[1].map(x, attributes.map(k, k))`)
	f.Fuzz(func(t *testing.T, text string) {
		e, err := expression.Compile(text, expression.Values)
		if err == nil {
			began := time.Now()
			grown := allocated(func() {
				_, _ = e.Run(expression.Facts{Subject: "s", Attributes: map[string][]any{"a": {"x", int64(7), true, nil}}})
			})
			require.Less(t, grown, uint64(128<<20))
			require.Less(t, time.Since(began), 10*time.Second)
		}
	})
}

// BenchmarkExpression runs a condition.
func BenchmarkExpression(b *testing.B) {
	e, err := expression.Compile(`attributes.groups.exists(g, g == "depot-leads")`, expression.Condition)
	require.NoError(b, err)
	f := expression.Facts{Attributes: map[string][]any{"groups": {"drivers", "controllers", "depot-leads"}}}
	for b.Loop() {
		if is, err := e.True(f); !is || err != nil {
			b.Fatal(is, err)
		}
	}
}

// Whatever an expression would make, no step of it makes more than its bound, and it ends
// soon; nothing in it can catch that.
func TestWhatIsMadeIsBounded(t *testing.T) {
	ten := strings.Repeat("x, ", 9) + "x"
	chain := func(first, each string, n int) string { return first + strings.Repeat(each, n) }
	facts := expression.Facts{Subject: "ada", Attributes: map[string][]any{"a": {strings.Repeat("a", 9000)},
		"groups": {"wm-drivers", "wm-leads"}, "many": slices.Repeat([]any{"wm-group"}, 1500)}}
	for rule, c := range map[string]struct {
		text, failure string
	}{
		"a chain of replacements": {chain(`"a"`, `.replace("a", "`+strings.Repeat("a", 80)+`")`, 6), "1024 KiB"},
		"one that nothing catches": {`attributes.a[0].replace("a", "` + strings.Repeat("a", 200) + `") == "" || true`,
			"1024 KiB"},
		"replacing nothing": {chain(`attributes.a[0]`, `.replace("", "`+strings.Repeat("a", 200)+`")`, 1),
			"1024 KiB"},
		"texts added to each other": {chain(`["aaaaaaaaaa"]`, `.map(x, x+x+x+x+x+x+x+x+x+x)`, 8), "cost limit"},
		"a long separator":          {`attributes.many.join(attributes.a[0])`, "1024 KiB"},
		"a text written out often": {`"` + strings.Repeat("%s", 60) + `".format([` +
			strings.Repeat("attributes.a[0], ", 59) + `attributes.a[0]])`, "1024 KiB"},
		"digits":                      {`"%.99999999f".format([1.5])`, "precision"},
		"lists of the same":           {chain(`["a"]`, `.map(x, [`+ten+`])`, 9), "1024 KiB"},
		"such lists held together":    {chain(`[["a"]]`, `.map(x, [`+ten+`])`, 3) + `.map(x, x == [` + ten[:4] + `])`, "x"},
		"maps of the same":            {chain(`["a"]`, `.map(x, {"a": x, "b": x, "c": x, "d": x})`, 12), "1024 KiB"},
		"everything of everybody":     {`attributes.many.map(x, attributes)`, "1024 KiB"},
		"pieces":                      {`attributes.many.map(x, attributes.a[0].split(""))`, "1024 KiB"},
		"long texts turned over":      {`attributes.many.map(x, attributes.a[0].reverse())`, "cost limit"},
		"what a rule does":            {`attributes.groups.map(g, g.replace("wm-", "org-").upperAscii()).join(" ")`, ""},
		"many groups":                 {`attributes.many.filter(g, g.startsWith("wm-")).map(g, {"value": g, "display": g.replace("wm-", "")})`, ""},
		"a long value":                {`attributes.a[0].replace("a", "bc")`, ""},
		"a name of ours is not there": {`attributes.many.size() > 2 ? "many" : "few"`, ""},
	} {
		t.Run(rule, func(t *testing.T) {
			e, err := expression.Compile(c.text, expression.Values)
			if err == nil {
				began := time.Now()
				grown := allocated(func() { _, err = e.Run(facts) })
				require.Less(t, grown, uint64(64<<20))
				require.Less(t, time.Since(began), 5*time.Second)
			}
			if c.failure == "" {
				require.NoError(t, err)
				return
			}
			require.ErrorContains(t, err, c.failure)
		})
	}
}

func allocated(do func()) uint64 {
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	do()
	runtime.ReadMemStats(&after)
	return after.TotalAlloc - before.TotalAlloc
}
