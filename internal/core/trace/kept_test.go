package trace_test

import (
	"encoding/base64"
	"encoding/json"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/trace"
)

// A step is whole again when it is read, and what was posted is kept once.
func TestStepsAreKeptOnce(t *testing.T) {
	message := "<samlp:Response ID=\"" + strings.Repeat("_1", 700) + "\"/>"
	posted := base64.StdEncoding.EncodeToString([]byte(message))
	for name, c := range map[string]struct {
		step crossing.TraceStep
		once bool
	}{
		"posted":      {crossing.TraceStep{Octets: message, Raw: posted}, true},
		"redirected":  {crossing.TraceStep{Octets: message, Raw: "fZBBb4MwDIX"}, false},
		"other end":   {crossing.TraceStep{Octets: message, Raw: posted[:len(posted)-1] + "A"}, false},
		"cut off":     {crossing.TraceStep{Octets: message, Raw: posted[:8], Cut: 9}, false},
		"no message":  {crossing.TraceStep{Name: "released"}, false},
		"line breaks": {crossing.TraceStep{Octets: message, Raw: posted[:8] + "\n" + posted[8:]}, false},
	} {
		octets, err := json.Marshal(trace.Keep(c.step))
		require.NoError(t, err, name)
		var kept trace.Kept
		require.NoError(t, json.Unmarshal(octets, &kept), name)
		require.Equal(t, c.once, kept.Raw == "" && c.step.Raw != "", name)
		require.Equal(t, c.step, kept.Whole(), name)
	}
}
