package cli

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"strconv"
	"strings"
	"testing"
	"time"

	"github.com/goccy/go-yaml"
	"github.com/stretchr/testify/require"
	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

func TestTableKeepsToItsWidth(t *testing.T) {
	var out bytes.Buffer
	e := &environment{out: &out}
	long := "https://a.very.long.address.example/" + strings.Repeat("path/", 30) + "end"
	cols := columns("state", "name!", "title", "entity id!", "started@")
	rows := [][]string{{"entered", "Zürich–Süd", long, "urn:a", "-"}, {"entered", "b", "-", "urn:b", "-"},
		{"entered", "c", "-", "urn:c", "-"}}
	e.table(&out, cols, rows, "nothing")
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.True(t, strings.HasPrefix(lines[0], "NAME        TITLE"), "what is the same everywhere is told once: %s",
		lines[0])
	require.Equal(t, "(state entered)", lines[4])
	for _, l := range lines {
		require.LessOrEqual(t, len([]rune(l)), defaultWidth)
		require.NotContains(t, l, "\x1b", "no colour when not on a terminal")
	}
	require.Contains(t, lines[1], "…")
	require.Contains(t, lines[1], "path/end  urn:a", "the middle is cut, not the end, and not the point")
	out.Reset()
	e.table(&out, cols, [][]string{{"entered", long, "title", long, "-"}, {"left", "b", "-", "urn:b", "10:00"}},
		"nothing")
	require.Equal(t, 2, strings.Count(out.String(), long), "what is the point is whole, however long")
	require.Contains(t, out.String(), "times in "+zone())
	t.Setenv("COLUMNS", "60")
	out.Reset()
	e.table(&out, cols, rows, "")
	require.Len(t, []rune(strings.Split(out.String(), "\n")[0]), 60)
	e.wide = true
	out.Reset()
	e.table(&out, cols, rows, "")
	require.Contains(t, out.String(), long)
	require.Contains(t, out.String(), "STATE")
	out.Reset()
	e.table(&out, columns("a"), nil, "nothing yet")
	require.Equal(t, "nothing yet\n", out.String())
}

func TestListsAreSortedAndCut(t *testing.T) {
	cols := columns("name!", "last sign-in", "certificate ends")
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	ends := func(s string) time.Time { n, _ := strconv.Atoi(s[2:]); return now.AddDate(0, 0, n) }
	row := func(s string) []string { return []string{s[:1], s[2:], days(ends(s), now)} }
	times := moments[string]{"certificate ends": ends}
	items := []string{"b 10", "a 9", "c 100"}
	for l, want := range map[listing]string{{}: "b 10,a 9,c 100", {sort: "name"}: "a 9,b 10,c 100",
		{sort: "-last-sign-in"}: "c 100,b 10,a 9", {sort: "certificate-ends"}: "a 9,b 10,c 100",
		{sort: "-certificate-ends"}: "c 100,b 10,a 9", {sort: "name", offset: 1, limit: 1}: "b 10",
		{sort: "name", offset: 9}: ""} {
		got, err := part(l, cols, items, row, times)
		require.NoError(t, err)
		require.Equal(t, want, strings.Join(got, ","), l)
	}
	_, err := part(listing{sort: "nam"}, cols, items, row, times)
	var ue *usageError
	require.ErrorAs(t, err, &ue)
	require.Contains(t, ue.do, "name")
	var out bytes.Buffer
	listing{limit: 2, offset: 2}.rest(&out, 2, 9)
	require.Equal(t, "3 to 4 of 9; the next ones with --offset 4\n", out.String())
}

func TestTimesAndReferencesAreRead(t *testing.T) {
	now := time.Date(2026, 11, 26, 12, 0, 0, 0, time.Local)
	for text, want := range map[string]time.Time{"2h": now.Add(-2 * time.Hour), "3d": now.AddDate(0, 0, -3),
		"2026-11-25": time.Date(2026, 11, 25, 0, 0, 0, 0, time.Local)} {
		at, err := ago(text, now)
		require.NoError(t, err)
		require.True(t, want.Equal(at), text)
	}
	for _, bad := range []string{"-2h", "yesterday", "0d", "d"} {
		_, err := ago(bad, now)
		require.Error(t, err, bad)
		_, err = date("--until", bad)
		require.Error(t, err, bad)
	}
	at, err := date("--until", "90d")
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().AddDate(0, 0, 90), at, time.Minute)
}

func TestSettingsAreReadOnce(t *testing.T) {
	e := &environment{in: strings.NewReader("two\nlines\n")}
	file := t.TempDir() + "/notes"
	require.NoError(t, os.WriteFile(file, []byte("from a file\n"), 0o600))
	got, err := e.assign(settingList("application"), []string{"notes=-", "description=@" + file, "encrypt=true",
		"owner="})
	require.NoError(t, err)
	require.Equal(t, federation.Settings{"notes": "two\nlines", "description": "from a file", "encrypt": true,
		"owner": ""}, got)
	for words, says := range map[string]string{"owner=a owner=b": "given twice", "encrypt=yes": "encrypt is",
		"owner":   "no setting",
		"onwer=x": "there is no setting", "notes=@" + file + "x": "no such file", "allowCBC=true": "there is no setting"} {
		_, err := e.assign(settingList("application"), strings.Fields(words))
		require.ErrorContains(t, err, says)
	}
	require.Equal(t, "approveChanges", camel("approve-changes"))
}

func TestAddressesOfGatesAreUnderstood(t *testing.T) {
	e := &environment{}
	for given, want := range map[string]string{"gate.wrenmoor.example": "https://gate.wrenmoor.example",
		"https://gate.wrenmoor.example/": "https://gate.wrenmoor.example", "127.0.0.1:8400": "http://127.0.0.1:8400",
		"localhost:8400": "http://localhost:8400", "[::1]:8400": "http://[::1]:8400", "ftp://x": ""} {
		got, err := e.whole(given)
		require.Equal(t, want, got)
		require.Equal(t, want == "", err != nil, given)
	}
}

func TestWordsForTimes(t *testing.T) {
	now := time.Date(2026, 11, 23, 12, 0, 0, 0, time.Local)
	for want, at := range map[string]time.Time{"today": now.Add(time.Hour), "in 1 day": now.Add(25 * time.Hour),
		"in 12 days": now.AddDate(0, 0, 12), "3 days ago": now.AddDate(0, 0, -3)} {
		require.Equal(t, want, days(at, now))
	}
	require.Equal(t, "11:00:00", brief(now.Add(-time.Hour), now))
	require.Equal(t, "11-22 12:00", brief(now.AddDate(0, 0, -1), now))
}

func TestNearWord(t *testing.T) {
	names := []string{"provider", "app", "trace", "crew-roster"}
	for given, want := range map[string]string{"provder": "provider", "ap": "app", "tracer": "trace",
		"crew-rooster": "crew-roster", "zebra": "", "": ""} {
		require.Equal(t, want, nearword.Of(given, names), given)
	}
}

func TestDifferencesShowWhereValuesPart(t *testing.T) {
	var out bytes.Buffer
	e := &environment{out: &out}
	for _, c := range []struct {
		d    federation.Difference
		want string
	}{
		{federation.Difference{Label: "Entity ID", Before: "urn:a", After: "urn:b"},
			"Entity ID\n  before  urn:a\n  after   urn:b\n              ^\n"},
		{federation.Difference{Label: "title", Before: "Zürich", After: "Züri"},
			"title\n  before  Zürich\n  after   Züri\n              ^\n"},
		{federation.Difference{Label: "owner", After: "x"}, "owner\n  after   x\n"},
		{federation.Difference{Label: "owner", Before: "x"}, "owner\n  before  x\n"},
		{federation.Difference{Label: "notes", Before: strings.Repeat("x", 90) + "a", After: strings.Repeat("x", 90) + "b"},
			"notes\n  before  " + strings.Repeat("x", 90) + "a\n  after   " + strings.Repeat("x", 90) + "b\n"},
	} {
		out.Reset()
		e.differences(&out, []federation.Difference{c.d})
		require.Equal(t, c.want, out.String())
	}
	out.Reset()
	e.differences(&out, nil)
	require.Equal(t, "nothing differs\n", out.String())
}

func TestPreviewsAndReportsAreReadable(t *testing.T) {
	var out bytes.Buffer
	e := &environment{out: &out}
	e.preview(&out, api.Preview{Kind: "provider", Name: "depot", Title: "Depot", Missing: []string{"entity ID",
		"signing certificate"}, OtherRole: true,
		Values: []federation.Value{{Label: "Metadata from", Value: "typed"}, {Label: "encrypt", Value: "false"},
			{Label: "owner"}}, Findings: []*finding.Finding{finding.New(finding.AddressPlain,
			finding.Compare("SingleSignOnService", "https://a", "http://a")).From(finding.Provider)}})
	for _, want := range []string{"depot, which would be added",
		"still missing from the provider's administrator: entity ID, signing certificate",
		"the document holds the other role as well", "Metadata from  typed",
		"warning  The address is http, not https [address-http]", "expected  https://a",
		"at the provider: Have the provider offer an https address"} {
		require.Contains(t, out.String(), want)
	}
	require.NotContains(t, out.String(), "encrypt", "what says nothing is left out")
	out.Reset()
	many := &api.Report{Entities: 3, Broken: 1, Changes: &api.Changes{Added: 1, Removed: 2, AddedIDs: []string{"urn:new"},
		GoneIDs: []string{"urn:gone"}}, RefusedN: 1,
		Refused: []api.Refusal{{Finding: finding.New(finding.AggregateTwice)}},
		Records: []api.Refreshed{{Kind: "provider", Name: "depot", Outcome: "waiting",
			Differences: []federation.Difference{{Label: "Entity ID", Before: "a", After: "b"}}}}}
	for i := range 60 {
		many.Taken = append(many.Taken, api.TakenEntity{Kind: "provider", Name: fmt.Sprint("p-", i),
			EntityID: fmt.Sprint("urn:", i)})
	}
	e.outcome(&out, many)
	for _, want := range []string{"3 entities, 1 of them cannot be used", "1 came, 2 went, 0 changed",
		"went     urn:gone", "waiting   provider depot", "innergate approve depot", "p-49", "and 10 more",
		"1 refused\n  -\n    The aggregate holds this entity a second time [aggregate-entity-twice]"} {
		require.Contains(t, out.String(), want)
	}
	require.NotContains(t, out.String(), "p-50")
	for missing, want := range map[string]string{"": "innergate provider exchange depot",
		"entity ID": "goes in with innergate provider update depot"} {
		out.Reset()
		e.added(&out, ofProvider, api.Application{Record: api.Record{Name: "depot", EntityID: "urn:depot",
			Missing: strings.Fields(missing),
			Taken:   api.Taken{OtherRole: missing == ""}}})
		require.Contains(t, out.String(), want)
		require.Equal(t, missing == "", strings.Contains(out.String(), "innergate app add NAME --from provider/depot"))
	}
	for want, r := range map[string]api.Row{"unfinished": {Missing: []string{"x"}, Phase: "live"},
		"live": {Phase: "live"}, "paused": {Phase: "paused"}} {
		require.Equal(t, want, state(r))
	}
}

// What came from outside is shown, and does nothing; the colours are ours.
func TestControlCharactersAreShown(t *testing.T) {
	var b strings.Builder
	n, err := io.WriteString(&shown{w: &b}, "a\x1b[2J\x1b]0;x\x07\r\n\tb\x9bc\xffd\u202e é \x1b[92mok\x1b[0m")
	require.NoError(t, err)
	require.Positive(t, n)
	require.Equal(t, "a\\x1b[2J\\x1b]0;x\\a\\r\n\tb\\u009bc\\xffd\\u202e é \x1b[92mok\x1b[0m",
		strings.ReplaceAll(b.String(), "\\x9b", "\\u009b"))
}

// Programs get the same, in JSON and YAML, with escapes in place of what acts on a terminal.
func TestNothingActsInDocuments(t *testing.T) {
	record := map[string]any{"plain": "Ada é", "two\u009blines": "a\nb", "seq": "\x1b[2J\u009b1m\u0085\x7f\u202e end",
		"list": []string{"x\u2066", "innergate-1", "\x00"}}
	for _, inYAML := range []bool{false, true} {
		octets, err := documented(record, inYAML)
		require.NoError(t, err)
		require.Negative(t, strings.IndexFunc(string(octets), acts), "%s", octets)
		var back map[string]any
		require.NoError(t, yaml.Unmarshal(octets, &back), "%s", octets)
		want, err := json.Marshal(record)
		require.NoError(t, err)
		got, err := json.Marshal(back)
		require.NoError(t, err)
		require.JSONEq(t, string(want), string(got))
	}
}

// Each command's help is that of the command: its own path, and a word on what it
// does.
func TestHelpNamesTheCommand(t *testing.T) {
	var each func(e *environment, out *bytes.Buffer, c *ucli.Command, path string)
	each = func(e *environment, out *bytes.Buffer, c *ucli.Command, path string) {
		out.Reset()
		e.help(c)
		require.True(t, strings.HasPrefix(out.String(), path+": "+c.Usage), "%s: %s", path, out)
		require.NotEmpty(t, c.Usage, path)
		for _, sub := range c.Commands {
			each(e, out, sub, path+" "+sub.Name)
		}
	}
	var out bytes.Buffer
	e := &environment{out: &out, err: io.Discard}
	root := e.root()
	e.prepare(root, "innergate")
	each(e, &out, root, "innergate")
}

func TestFilesThatCannotBeRead(t *testing.T) {
	e := &environment{in: strings.NewReader("by hand")}
	for _, c := range []struct{ what, given, says, do string }{
		{"--certificate", "no/such.pem", "--certificate: no/such.pem cannot be read: no such file or directory",
			"Give a file"},
		{"--certificate", "https://a.example/", "cannot be read", "Addresses are fetched for --metadata only; give a file"},
		{"--metadata", "no/such.xml", "--metadata: no/such.xml cannot be read", "an address beginning with https://"},
		{"FILE", t.TempDir(), "is a directory", "Give the file in it"},
	} {
		_, err := e.readFile(c.what, c.given)
		var usage *usageError
		require.ErrorAs(t, err, &usage)
		require.Contains(t, usage.what, c.says)
		require.Contains(t, usage.do, c.do)
	}
	octets, err := e.readFile("FILE", "-")
	require.NoError(t, err)
	require.Equal(t, "by hand", string(octets))
}

// Every option of every command says what it is for.
func TestHelpExplainsEveryOption(t *testing.T) {
	var out bytes.Buffer
	e := &environment{out: &out}
	var walk func(c *ucli.Command, path string)
	walk = func(c *ucli.Command, path string) {
		for _, f := range c.Flags {
			out.Reset()
			helpFlags(&out, "options", []ucli.Flag{f})
			line := strings.TrimSpace(strings.TrimPrefix(strings.TrimSpace(out.String()), "options"))
			_, text, _ := strings.Cut(line, "  ")
			require.NotEmpty(t, strings.TrimSpace(text), "%s: %s", path, line)
		}
		for _, sub := range c.Commands {
			walk(sub, path+" "+sub.Name)
		}
	}
	walk(e.root(), "innergate")
}
