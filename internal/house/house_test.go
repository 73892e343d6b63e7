// Package house holds the test of the architecture: which room may import which.
package house

import (
	"go/ast"
	"go/parser"
	"go/token"
	"io/fs"
	"os"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

// core is the order of the core from the ground up.
var core = []string{"nearword", "strictjson", "listed", "table", "finding", "reason", "xmlsec", "keys", "saml", "oidc",
	"expression", "profile",
	"federation",
	"policy", "checks", "person", "grant", "crossing", "trace", "signout", "compare", "rehearsal", "bundle",
	"crossing/samlside", "crossing/linkside", "crossing/rpside", "crossing/oidcside"}

// gate is the order of the service from the ground up; the rooms may import the
// store beside the core.
var gate = []string{"random", "happening", "performing", "change", "limit", "mailing", "fetch", "keyring", "freshness",
	"editions", "sessions", "arrivals", "jobs", "records", "copies",
	"rollover", "exchange",
	"checking", "outbox", "grants", "traces", "leaving", "approving", "people", "people/roll", "comparing", "portal",
	"recipients", "phases", "rehearsing", "unattended", "bundling", "redeeming", "driving", "operators"}

// apart are rooms of the service that do not know each other.
var apart = [][]string{{"exchange", "checking", "people", "operators", "rollover"},
	{"exchange", "checking", "driving", "traces", "operators", "rollover"},
	{"fetch", "keyring", "editions", "sessions"}}

// rooms is what the other rooms may import of ours beside the core.
var rooms = map[string][]string{
	"store": {}, "gate": {"store", "gate/"}, "api": {}, "web": {"gate", "gate/", "api", "store"},
	"web/samlweb": {"web", "gate/driving"}, "web/oidcweb": {"web", "gate/driving", "gate/leaving", "gate/redeeming"},
	"client":  {"api"},
	"standin": {}, "app": {"store", "gate", "gate/", "web", "web/samlweb", "web/oidcweb", "standin"}, "cli": {"client",
		"api", "app",
		"standin", "web"}, "house": {},
}

// outside are packages that the core may not use: whatever reaches a network, a
// database or a screen.
var outside = []string{"net/http", "database/sql", "gorm.io/", "github.com/gofiber", "github.com/urfave",
	"github.com/danielgtaylor", "log/slog", "os", "github.com/prometheus"}

// rows are the packages that may read and write rows by themselves. The list may only get shorter:
// a new room keeps what it has as objects of the configuration, or has a repository in the store.
var rows = []string{"gate/approving", "gate/change", "gate/checking", "gate/comparing", "gate/copies", "gate/driving",
	"gate/editions",
	"gate/exchange", "gate/freshness", "gate/grants", "gate/keyring", "gate/leaving", "gate/operators", "gate/outbox",
	"gate/records", "gate/redeeming", "gate/rollover", "gate/sessions", "gate/traces", "store"}

func TestRowsAreKeptByFewRooms(t *testing.T) {
	found := []string{}
	for room, list := range imports(t, "..") {
		if slices.ContainsFunc(list, func(i string) bool { return strings.HasPrefix(i, "gorm.io/") }) {
			found = append(found, room)
		}
	}
	slices.Sort(found)
	require.Equal(t, rows, found, "a package more: keep rows where they are kept; a package less: shorten the list")
}

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
				require.False(t, i == o || strings.HasSuffix(o, "/") && strings.HasPrefix(i, o) || strings.HasPrefix(i, o+"/"),
					"core/%s imports %s", room, i)
			}
		}
	}
	for room, list := range imports(t, "..") {
		if strings.HasPrefix(room, "core") {
			continue
		}
		if one, ok := strings.CutPrefix(room, "gate/"); ok {
			withinGate(t, one, list)
			continue
		}
		allowed, ok := rooms[room]
		require.True(t, ok, "internal/%s has no place in the house", room)
		for _, i := range list {
			if other, ok := strings.CutPrefix(i, ours); ok && !strings.HasPrefix(other, "core/") {
				if strings.HasPrefix(other, "gate/") && slices.Contains(allowed, "gate/") {
					continue
				}
				require.Contains(t, allowed, other, "internal/%s imports internal/%s", room, other)
			}
		}
	}
}

// withinGate sees that a room of the service imports only what is below it, and
// knows none that it stands apart from.
func withinGate(t *testing.T, room string, list []string) {
	place := slices.Index(gate, room)
	require.GreaterOrEqual(t, place, 0, "gate/%s has no place in the house", room)
	for _, i := range list {
		other, ok := strings.CutPrefix(i, ours)
		if !ok || other == "store" || strings.HasPrefix(other, "core/") {
			continue
		}
		below, ok := strings.CutPrefix(other, "gate/")
		require.True(t, ok, "gate/%s imports internal/%s", room, other)
		require.Less(t, slices.Index(gate, below), place, "gate/%s imports gate/%s, which is not below it", room, below)
		for _, side := range apart {
			require.False(t, slices.Contains(side, room) && slices.Contains(side, below),
				"gate/%s imports gate/%s, which it need not know", room, below)
		}
	}
}

// files calls with every file of the program below a directory, tests left out.
func files(t *testing.T, dir string, do func(path string, f *ast.File)) {
	err := filepath.WalkDir(dir, func(path string, d fs.DirEntry, err error) error {
		if err != nil || d.IsDir() || !strings.HasSuffix(path, ".go") || strings.HasSuffix(path, "_test.go") {
			return err
		}
		f, err := parser.ParseFile(token.NewFileSet(), path, nil, 0)
		if err == nil {
			do(filepath.ToSlash(path), f)
		}
		return err
	})
	require.NoError(t, err)
}

// protocols are the words for each, and where they may be used: their own
// packages, and the place where they are plugged in. Aggregates are SAML's own.
var protocols = map[*regexp.Regexp][]string{
	regexp.MustCompile(`(?i)saml`): {"../core/saml/", "../core/crossing/samlside/", "../web/samlweb/", "../standin/",
		"../cli/standins.go", "../app/", "../gate/editions/", "../gate/exchange/aggregate",
		"../core/finding/catalogue.go"},
	regexp.MustCompile(`(?i)oidc|openid`): {"../core/oidc/", "../core/grant/", "../core/finding/catalogue.go",
		"../core/crossing/oidcside/", "../core/crossing/rpside/", "../gate/redeeming/", "../web/oidcweb/", "../standin/",
		"../cli/standins", "../app/"},
	regexp.MustCompile(`(?i)oauth2|rpside`): {"../core/oidc/", "../core/crossing/oidcside/", "../core/crossing/rpside/",
		"../web/oidcweb/", "../standin/", "../app/", "../cli/standins", "../core/finding/catalogue.go"},
	regexp.MustCompile(`linkside`): {"../core/crossing/linkside/", "../app/"},
}

// Outside a protocol's own packages and the registration no code names it.
func TestProtocolsArePluggedInAtOnePlace(t *testing.T) {
	files(t, "..", func(path string, f *ast.File) {
		for word, places := range protocols {
			if slices.ContainsFunc(places, func(p string) bool { return strings.HasPrefix(path, p) }) {
				continue
			}
			ast.Inspect(f, func(n ast.Node) bool {
				switch n := n.(type) {
				case *ast.Ident:
					require.NotRegexp(t, word, n.Name, path)
				case *ast.BasicLit:
					require.NotRegexp(t, word, n.Value, path)
				}
				return true
			})
		}
	})
}

// outer are calls and values by which something that is no argument would come
// in.
var outer = map[string][]string{
	"time": {"Now", "Since", "Until", "Sleep", "After", "AfterFunc", "Tick", "NewTimer", "NewTicker"},
	"rand": {"Reader", "Read", "Int", "Text", "Prime"}, "os": nil, "http": nil, "net": {"Dial", "Listen", "LookupHost",
		"LookupIP", "DefaultResolver"},
	"runtime": nil, "debug": nil,
}

// clocks are the files in which the real clock is read: what waits for octets on a connection, and for how long a
// thing took.
var clocks = []string{"../web/body.go", "../web/upload.go", "../gate/driving/driving.go", "../gate/gate.go"}

// Time and randomness come from the gate: nobody else who serves requests reads the clock, or makes names and secrets.
func TestTimeAndRandomnessComeFromTheGate(t *testing.T) {
	for _, dir := range []string{"../web", "../gate"} {
		files(t, dir, func(path string, f *ast.File) {
			ast.Inspect(f, func(n ast.Node) bool {
				call, is := n.(*ast.SelectorExpr)
				if !is {
					return true
				}
				from, is := call.X.(*ast.Ident)
				switch {
				case !is:
				case from.Name == "time" && (call.Sel.Name == "Now" || call.Sel.Name == "Since"):
					require.Contains(t, clocks, path, "the gate has the clock: Now")
				case from.Name == "rand" && strings.HasPrefix(path, "../web"):
					require.Fail(t, "the gate makes what is random: NewID, Secret", path)
				}
				return true
			})
		})
	}
}

// Nothing in the core reads the clock, randomness or the network, or keeps
// anything in a variable of a package.
func TestCoreIsPure(t *testing.T) {
	packages := map[string]map[string]bool{}
	files(t, "../core", func(path string, f *ast.File) {
		dir := filepath.Dir(path)
		if packages[dir] == nil {
			packages[dir] = map[string]bool{}
		}
		for _, d := range f.Decls {
			if g, ok := d.(*ast.GenDecl); ok && g.Tok == token.VAR {
				for _, s := range g.Specs {
					for _, n := range s.(*ast.ValueSpec).Names {
						packages[dir][n.Name] = true
					}
				}
			}
		}
	})
	files(t, "../core", func(path string, f *ast.File) {
		global := packages[filepath.Dir(path)]
		written := func(e ast.Expr) {
			for {
				switch x := e.(type) {
				case *ast.IndexExpr:
					e = x.X
				case *ast.SelectorExpr:
					e = x.X
				case *ast.Ident:
					atTop := x.Obj == nil || f.Scope.Lookup(x.Name) == x.Obj
					require.False(t, atTop && global[x.Name], "%s: %s is written", path, x.Name)
					return
				default:
					return
				}
			}
		}
		ast.Inspect(f, func(n ast.Node) bool {
			switch n := n.(type) {
			case *ast.AssignStmt:
				for _, l := range n.Lhs {
					if n.Tok != token.DEFINE {
						written(l)
					}
				}
			case *ast.IncDecStmt:
				written(n.X)
			case *ast.SelectorExpr:
				x, ok := n.X.(*ast.Ident)
				if !ok || x.Obj != nil {
					return true
				}
				names, outside := outer[x.Name]
				require.False(t, outside && (names == nil || slices.Contains(names, n.Sel.Name)), "%s reads %s.%s", path, x.Name,
					n.Sel.Name)
			}
			return true
		})
	})
}

// What describes the wire stands on wire types; the core has none.
func TestTheCoreDescribesNoWire(t *testing.T) {
	tag := regexp.MustCompile(`\b(doc|maxLength|enum|query|path|example):"`)
	files(t, "../core", func(path string, f *ast.File) {
		ast.Inspect(f, func(n ast.Node) bool {
			if field, ok := n.(*ast.Field); ok && field.Tag != nil {
				require.NotRegexp(t, tag, field.Tag.Value, path)
			}
			return true
		})
	})
}

// The places that docs/architecture.md names are there.
func TestPlacesAreWhereTheDocumentSays(t *testing.T) {
	text, err := os.ReadFile("../../docs/architecture.md")
	require.NoError(t, err)
	named := regexp.MustCompile("`((?:core|gate|store|web|api|saml|samlside|internal|docs|console)/[\\w./*…-]+)`")
	found := 0
	for _, m := range named.FindAllStringSubmatch(string(text), -1) {
		if strings.Contains(m[1], "…") {
			continue
		}
		found++
		there := false
		for _, in := range []string{"..", "../core", "../core/crossing", "../.."} {
			hits, err := filepath.Glob(filepath.Join(in, m[1]))
			require.NoError(t, err)
			there = there || len(hits) > 0
		}
		require.True(t, there, m[1])
	}
	require.Greater(t, found, 40)
}

// phrases are such as nobody who has to act on them understood.
var phrases = []string{"did not say it", "It counts for ten minutes", "is none that is taken",
	"Nothing would be other", "of them not touched",
	"which it has not now", "one person has this", "People land in it of", "Only sums of them",
	"What the sign-in gave has ended",
	"by nobody who proved to be", "Remove a organisation", "Comes to", ", now need", "See what that comes to",
	"Take it away", "would get something else",
	"Came to<", ">Makes<", "Note the application's own start address", "answer is none",
	"The gate failed by its own fault", "what the mapping must have",
	"take the mark off"}

// Phrases that were rewritten do not come back.
func TestPhrasesStayAway(t *testing.T) {
	for _, root := range []string{"..", "../../console/src", "../../docs", "../../README.md"} {
		require.NoError(t, filepath.WalkDir(root, func(path string, e fs.DirEntry, err error) error {
			switch ext := filepath.Ext(path); {
			case err != nil || e.IsDir() || strings.HasSuffix(path, "_test.go") || strings.Contains(path, "/dist/") ||
				strings.Contains(path, ".gen."):
				return err
			case ext != ".go" && ext != ".vue" && ext != ".ts" && ext != ".md" && ext != ".html":
				return nil
			}
			octets, err := os.ReadFile(path)
			for i, line := range strings.Split(string(octets), "\n") {
				for _, p := range phrases {
					if strings.Contains(line, p) && !strings.HasPrefix(strings.TrimSpace(line), "//") {
						t.Errorf("%s:%d says %q", path, i+1, p)
					}
				}
			}
			return err
		}))
	}
}
