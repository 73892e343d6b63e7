package app

import (
	"runtime/debug"
	"testing"

	"github.com/stretchr/testify/require"
)

// Memory is collected more often while jobs run, unless whoever runs the service says how often.
func TestMemoryIsCollectedMoreWhileJobsRun(t *testing.T) {
	const own = 123
	before := debug.SetGCPercent(own)
	t.Cleanup(func() { debug.SetGCPercent(before) })
	for _, c := range []struct {
		set  string
		busy bool
		want int
	}{{"", true, collectsAtWork}, {"", false, collects}, {"50", true, own}, {"50", false, own}} {
		t.Setenv("GOGC", c.set)
		collectMore(c.busy)
		require.Equal(t, c.want, debug.SetGCPercent(own), c)
	}
}
