package cli

import (
	"bytes"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

func TestTableKeepsToItsWidth(t *testing.T) {
	var out bytes.Buffer
	e := &environment{out: &out}
	long := "https://a.very.long.address.example/" + strings.Repeat("path/", 30) + "end"
	e.table(&out, []string{"state", "name", "entity id"}, []int{1, 2}, [][]string{{"entered", "Zürich–Süd", long},
		{"waiting", "b", "-"}}, "nothing")
	lines := strings.Split(strings.TrimSpace(out.String()), "\n")
	require.Len(t, lines, 3)
	require.True(t, strings.HasPrefix(lines[0], "STATE    NAME"), lines[0])
	for _, l := range lines {
		require.LessOrEqual(t, len([]rune(l)), width)
		require.NotContains(t, l, "\x1b", "no colour when not on a terminal")
	}
	require.Contains(t, lines[1], "…")
	require.True(t, strings.HasSuffix(lines[1], "end"), "the middle is cut, not the end")
	out.Reset()
	e.table(&out, []string{"a"}, nil, nil, "nothing yet")
	require.Equal(t, "nothing yet\n", out.String())
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
		"entity ID": "innergate provider update depot --metadata FILE"} {
		out.Reset()
		added(&out, "provider", "depot", "urn:depot", strings.Fields(missing), missing == "")
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
