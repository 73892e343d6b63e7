package gate

import (
	"encoding/json"
	"log/slog"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// oldData is a data directory as a build with an earlier schema left it: two
// people had signed in to the demo, and a third sign-in was under way.
type oldData struct {
	Base    string    `json:"base"`
	At      time.Time `json:"at"`
	Session string    `json:"session"` // cookie of the first of them
	OwnKey  string    `json:"ownKey"`  // fingerprint of that of lost-property's own face

	dir string
}

func restoreEarlier(t *testing.T, schema string) oldData {
	e := oldData{dir: t.TempDir()}
	from := filepath.Join("testdata", schema)
	octets, err := os.ReadFile(filepath.Join(from, "about.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(octets, &e))
	require.NoError(t, os.CopyFS(e.dir, os.DirFS(from)))
	require.NoError(t, os.Mkdir(filepath.Join(e.dir, "data"), 0o700))
	for _, name := range []string{"innergate", "traces"} {
		statements, err := os.ReadFile(filepath.Join(from, name+".sql"))
		require.NoError(t, err)
		e.exec(t, name, string(statements))
	}
	return e
}

func (e oldData) exec(t *testing.T, name, statements string) {
	db, err := gorm.Open(sqlite.Open(filepath.Join(e.dir, "data", name+".db")), &gorm.Config{})
	require.NoError(t, err)
	require.NoError(t, db.Exec(statements).Error)
	pool, err := db.DB()
	require.NoError(t, err)
	require.NoError(t, pool.Close())
}

func (e oldData) open(t *testing.T) (*store.Store, error) {
	return store.Open(filepath.Join(e.dir, "data"), filepath.Join(e.dir, "seal.key"), store.TraceLimits{Keep: 100},
		slog.New(slog.DiscardHandler))
}

// columns gives what a schema is made of.
func columns(t *testing.T, db *gorm.DB) []string {
	var out []string
	require.NoError(t, db.Raw(`SELECT m.name || ' ' || c.name || ' ' || lower(c.type) || ' ' || c.pk FROM sqlite_master m, pragma_table_info(m.name) c WHERE m.type = 'table'
		UNION SELECT m.name || ' on ' || m.tbl_name FROM sqlite_master m WHERE m.type = 'index' ORDER BY 1`).Scan(&out).Error)
	return out
}

// A data directory of each earlier schema starts, and keeps its people, sessions,
// history and traces.
func TestEarlierSchemasAreUpgraded(t *testing.T) {
	fresh := newRig(t)
	for schema, has := range map[string]struct{ applications, waiting, links int }{"schema-1": {2, 0, 2},
		"schema-2": {2, 0, 2},
		"schema-3": {3, 1, 2}, "schema-5": {3, 1, 2}, "schema-12": {9, 2, 3}, "schema-15": {8, 2, 3}} {
		t.Run(schema, func(t *testing.T) {
			e := restoreEarlier(t, schema)
			st, err := e.open(t)
			require.NoError(t, err)
			require.Equal(t, columns(t, fresh.st.Read), columns(t, st.Read), "as of a new one")
			g, err := New(ctx, Options{Base: e.Base, Store: st, Log: slog.New(slog.DiscardHandler), Skew: time.Minute,
				Now: func() time.Time { return e.At.Add(time.Minute) }, Protocols: protocols})
			require.NoError(t, err)
			defer func() { g.Close(); _ = st.Close() }()
			p, err := g.Records.Provider("wrenmoor-staff")
			require.NoError(t, err)
			require.Equal(t, federation.Live, p.Phase)
			require.Len(t, g.Records.Snapshot().Applications(), has.applications)
			require.Equal(t, has.waiting, g.Crossings.Waiting(), "a sign-in under way, if its form is of now")
			var under []string
			require.NoError(t, st.Read.Model(&store.CrossingRow{}).Pluck("id", &under).Error)
			for _, id := range append(under, "of-a-form-that-is-read-no-more") {
				o := g.Crossings.Continue(ctx, driving.Browser{}, id)
				require.NotNil(t, o.Finding, "it ends in a sentence at least")
				require.NotEqual(t, crossing.FaultOurs, crossing.ForPerson(o.Finding).Fault)
			}
			require.Equal(t, "Response", g.Crossings.Open(ctx, driving.Browser{Session: e.Session},
				driving.Start{App: "crew-roster"}).Departure.Message, "who is in stays in")
			if e.OwnKey != "" {
				own, err := g.Records.Application("lost-property")
				require.NoError(t, err)
				require.Equal(t, e.OwnKey, own.Keys.Current.Certificate.SHA256())
			}
			links, total, err := g.People.Links(ctx, people.LinkFilter{Provider: "wrenmoor-staff", Limit: 9})
			require.NoError(t, err)
			require.EqualValues(t, has.links, total)
			require.Equal(t, p.ID, links[0].Provider.ID)

			changes, n, err := g.Records.History(ctx, records.HistoryFilter{Limit: 100})
			require.NoError(t, err)
			require.GreaterOrEqual(t, n, int64(3))
			for _, c := range changes {
				_, err := g.Records.Revision(ctx, c.ID)
				require.NoError(t, err)
			}
			traces, _, err := g.Traces.List(ctx, traces.Filter{Limit: 10, Result: "entered"})
			require.NoError(t, err)
			require.Contains(t, traces[len(traces)-1].Person, "@wrenmoor.example", "sealed by now, and still to be read")
			_, steps, err := g.Traces.Get(ctx, traces[len(traces)-1].ID)
			require.NoError(t, err)
			require.NotEmpty(t, steps)
		})
	}
}

// A build does not touch what a later one wrote.
func TestLaterSchemasAreRefused(t *testing.T) {
	for _, name := range []string{"innergate", "traces"} {
		e := restoreEarlier(t, "schema-3")
		e.exec(t, name, "INSERT INTO migrations VALUES ('9999')")
		_, err := e.open(t)
		require.ErrorContains(t, err, "written by a later build")
	}
}

// Phases of an earlier build stay as they were: what is live is live, what is paused is paused and goes back to live;
// what was put off because it lacked values is a draft.
func TestPhasesOfAnEarlierBuild(t *testing.T) {
	e := restoreEarlier(t, "schema-15")
	e.exec(t, "innergate", `UPDATE provider_rows SET data = CAST(json_set(CAST(data AS TEXT), '$.settings.phase', 'paused') AS BLOB) WHERE name = 'season-club';
		UPDATE application_rows SET data = CAST(json_set(CAST(data AS TEXT), '$.settings.phase', 'paused', '$.link', '') AS BLOB) WHERE name = 'timetable-archive'`)
	st, err := e.open(t)
	require.NoError(t, err)
	g, err := New(ctx, Options{Base: e.Base, Store: st, Log: slog.New(slog.DiscardHandler), Skew: time.Minute,
		Now: time.Now, Protocols: protocols})
	require.NoError(t, err)
	defer func() { g.Close(); _ = st.Close() }()
	drafts := 0
	for _, r := range g.Records.Snapshot().Records() {
		b := r.Basic()
		want := federation.Live
		switch {
		case b.Name == "season-club":
			want = federation.Paused
		case len(r.Part().Missing()) > 0:
			want, drafts = federation.Draft, drafts+1
		}
		require.Equal(t, want, b.Phase, b.Name)
	}
	require.NotZero(t, drafts)
	got, err := g.Records.Configure(ctx, tester, "provider", "season-club", 0,
		federation.Settings{"phase": records.PhaseBefore})
	require.NoError(t, err)
	require.Equal(t, federation.Live, got.Basic().Phase)
}

// What an earlier build changed, this one takes back and restores: objects of every kind.
func TestChangesOfAnEarlierBuild(t *testing.T) {
	e := restoreEarlier(t, "schema-15")
	st, err := e.open(t)
	require.NoError(t, err)
	g, err := New(ctx, Options{Base: e.Base, Store: st, Log: slog.New(slog.DiscardHandler), Skew: time.Minute,
		Now: func() time.Time { return e.At.Add(time.Minute) }, Protocols: protocols})
	require.NoError(t, err)
	defer func() { g.Close(); _ = st.Close() }()
	snap := g.Records.Snapshot()
	ranks, revision := g.Records.Contexts()
	require.Equal(t, []any{2, []string{"urn:wrenmoor:badge"}}, []any{revision, ranks[len(ranks)-1]},
		"the ranking as it was changed")
	set, err := g.Records.Set("staff-apps")
	require.NoError(t, err)
	require.Equal(t, []any{2, 2}, []any{set.Revision, len(set.Mapping.Rules)})
	require.Len(t, snap.Using("staff-apps"), 1)

	changes, _, err := g.Records.History(ctx, records.HistoryFilter{Limit: 100})
	require.NoError(t, err)
	last := func(kind, name, what string) int64 {
		for _, c := range changes {
			if c.Kind == kind && c.Name == name && c.What == what {
				return c.ID
			}
		}
		t.Fatalf("%s/%s %s", kind, name, what)
		return 0
	}
	for _, c := range []struct{ kind, name, what string }{{"set", "staff-apps", "changed"},
		{"application", "crew-roster", "changed"},
		{"application", "seat-finder", "removed"}, {"ranking", "contexts", "changed"}, {"set", "gone-set", "removed"},
		{"organisation", "northern", "removed"}, {"group", "night-shift", "added"},
		{"aggregate", "northern-lines", "changed"}} {
		_, err := g.Records.Undo(ctx, tester, last(c.kind, c.name, c.what))
		require.NoError(t, err, "%v", c)
	}
	set, err = g.Records.Set("staff-apps")
	require.NoError(t, err)
	require.Len(t, set.Mapping.Rules, 1, "as before the change")
	for kind, name := range map[string]string{"application": "seat-finder", "set": "gone-set",
		"organisation": "northern"} {
		_, err := g.Records.Object(kind, name)
		require.NoError(t, err, "it is back")
	}
	_, err = g.Records.Object("group", "night-shift")
	require.Error(t, err, "it was added")
	again, _ := g.Records.Contexts()
	require.NotContains(t, again, []string{"urn:wrenmoor:badge"})
	_, _, err = g.Records.Restore(ctx, tester, last("group", "night-shift", "changed"))
	require.NoError(t, err)
	x, err := g.Records.Unit(federation.KindGroup, "night-shift")
	require.NoError(t, err)
	require.Equal(t, "Night shifts", x.Title)
	_, _, err = g.Records.Restore(ctx, tester, last("ranking", "contexts", "changed"))
	require.NoError(t, err)
	again, _ = g.Records.Contexts()
	require.Contains(t, again, []string{"urn:wrenmoor:badge"})
}
