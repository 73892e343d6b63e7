package gate

import (
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// Whatever a decision of the core may lack or have stored, somebody performs.
func TestEveryKindIsPerformed(t *testing.T) {
	declared := regexp.MustCompile(`(?m)^func \((?:\w+ )?\*?(\w+)\) (?:Gives\([^)]*\)|Effect\(\)) *\{`)
	var kinds []string
	require.NoError(t, filepath.WalkDir("../core", func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		source, err := os.ReadFile(path)
		for _, m := range declared.FindAllStringSubmatch(string(source), -1) {
			kinds = append(kinds, filepath.Base(filepath.Dir(path))+"."+m[1])
		}
		return err
	}))
	slices.Sort(kinds)
	require.Greater(t, len(kinds), 30)
	knows := newRig(t).Performer.Knows()
	require.Equal(t, kinds, slices.DeleteFunc(knows, func(k string) bool { return k == "gate.tide" }),
		"tide is of tests alone")
}
