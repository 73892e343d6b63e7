package reason

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestEveryReasonReads(t *testing.T) {
	for code, text := range texts {
		args := strings.Split(strings.Repeat("x", strings.Count(text[1], "%s")), "")
		r := New(code, args...)
		require.NotEmpty(t, r.What(), code)
		require.NotContains(t, r.Text(), "%", code)
		require.NotContains(t, Reason{Code: code}.Text(), "!", "fewer values than the text has places")
	}
	require.Equal(t, "of-later a b", Reason{Code: "of-later", Args: []string{"a", "b"}}.Text())
	require.Panics(t, func() { New("unheard-of") })
}
