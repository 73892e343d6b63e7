// Package house holds the test of the architecture: which room may import which.
package house

import (
	"go/parser"
	"go/token"
	"io/fs"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// core is the order of the core from the ground up.
var core = []string{"nearword", "finding", "xmlsec", "keys", "saml", "oidc", "profile", "federation", "policy", "checks", "crossing", "crossing/samlside"}

// rooms is what the other rooms may import of ours beside the core.
var rooms = map[string][]string{
	"store": {}, "gate": {"store"}, "api": {}, "web": {"gate", "api", "store"}, "client": {"api"}, "standin": {},
	"app": {"store", "gate", "web", "standin"}, "cli": {"client", "api", "app", "standin", "web"}, "house": {},
}

// outside are packages that the core may not use: whatever reaches a network, a
// database or a screen.
var outside = []string{"net/http", "database/sql", "gorm.io/", "github.com/gofiber", "github.com/urfave", "github.com/danielgtaylor", "log/slog", "os", "github.com/prometheus"}

func imports(t *testing.T, dir string) map[string][]string {
	found := map[string][]string{}
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, parser.ImportsOnly)
		if err != nil {
			return err
		}
		room, err := filepath.Rel(dir, filepath.Dir(path))
		for _, i := range f.Imports {
			s, _ := strconv.Unquote(i.Path.Value)
			found[filepath.ToSlash(room)] = append(found[filepath.ToSlash(room)], s)
		}
		return err
	})
	require.NoError(t, err)
	return found
}

const ours = "innergate.example/innergate/internal/"

func TestImportsRunDownwards(t *testing.T) {
	for room, list := range imports(t, "../core") {
		place := slices.Index(core, room)
		require.GreaterOrEqual(t, place, 0, "core/%s has no place in the order", room)
		for _, i := range list {
			if below, ok := strings.CutPrefix(i, ours+"core/"); ok {
				require.Less(t, slices.Index(core, below), place, "core/%s imports core/%s, which is not below it", room, below)
				continue
			}
			require.NotContains(t, i, ours, "core/%s imports %s", room, i)
			for _, o := range outside {
				require.False(t, i == o || strings.HasSuffix(o, "/") && strings.HasPrefix(i, o) || strings.HasPrefix(i, o+"/"), "core/%s imports %s", room, i)
			}
		}
	}
	for room, list := range imports(t, "..") {
		if strings.HasPrefix(room, "core") {
			continue
		}
		allowed, ok := rooms[room]
		require.True(t, ok, "internal/%s has no place in the house", room)
		for _, i := range list {
			if other, ok := strings.CutPrefix(i, ours); ok && !strings.HasPrefix(other, "core/") {
				require.Contains(t, allowed, other, "internal/%s imports internal/%s", room, other)
			}
		}
	}
}
