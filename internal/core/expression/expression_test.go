package expression_test

import (
	"fmt"
	"testing"

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

// No text makes it panic, and none runs for long.
func FuzzCompile(f *testing.F) {
	f.Add(`attributes.a[0] + subject`)
	f.Add(`[1].map(x, attributes.map(k, k))`)
	f.Fuzz(func(t *testing.T, text string) {
		e, err := expression.Compile(text, expression.Values)
		if err == nil {
			_, _ = e.Run(expression.Facts{Subject: "s", Attributes: map[string][]any{"a": {"x", int64(7), true, nil}}})
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
