package store_test

import (
	"bytes"
	"context"
	"crypto/sha256"
	"database/sql"
	"errors"
	"fmt"
	"log/slog"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/store"
)

var (
	ctx   = context.Background()
	quiet = slog.New(slog.DiscardHandler)
)

func open(t *testing.T, dir string) *store.Store {
	t.Helper()
	s, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "seal.key"), store.TraceLimits{Keep: 100}, quiet)
	require.NoError(t, err)
	return s
}

func TestConcurrentWritesDoNotDisturbEachOther(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	refusal := errors.New("refused on purpose")
	var wg sync.WaitGroup
	for i := range 200 {
		wg.Add(1)
		go func() {
			defer wg.Done()
			err := s.Write(ctx, func(tx *gorm.DB) error {
				if err := tx.Create(&store.SettingRow{Key: fmt.Sprint(i), Value: "x"}).Error; err != nil {
					return err
				}
				if i%3 == 0 {
					return refusal
				}
				return nil
			})
			if i%3 == 0 {
				require.ErrorIs(t, err, refusal)
			} else {
				require.NoError(t, err)
			}
		}()
	}
	wg.Wait()
	var n int64
	require.NoError(t, s.Read.Model(&store.SettingRow{}).Where("value = ?", "x").Count(&n).Error)
	require.EqualValues(t, 133, n, "what failed left nothing, what did not is whole")
	err := s.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&store.SettingRow{Key: "1", Value: "y"}).Error })
	require.True(t, store.IsTaken(err))
	require.Error(t, s.Read.Create(&store.SettingRow{Key: "z"}).Error, "the pool for reading cannot write")
}

func TestOnlyOneProcessAndTheRightKey(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	_, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "seal.key"), store.TraceLimits{Keep: 100}, quiet)
	require.ErrorContains(t, err, "another gate serves")
	value, err := s.Setting(ctx, "our-entity-id", "first")
	require.NoError(t, err)
	require.Equal(t, "first", value)
	require.NoError(t, s.Close())

	s = open(t, dir)
	value, err = s.Setting(ctx, "our-entity-id", "second")
	require.NoError(t, err)
	require.Equal(t, "first", value, "what was stored first stays")
	require.NoError(t, s.Close())

	for name, content := range map[string]string{"other.key": "", "damaged.key": "not a key"} {
		path := filepath.Join(dir, name)
		if content != "" {
			require.NoError(t, os.WriteFile(path, []byte(content), 0o600))
		}
		_, err = store.Open(filepath.Join(dir, "data"), path, store.TraceLimits{Keep: 100}, quiet)
		require.ErrorContains(t, err, "restore", name)
	}
	info, err := os.Stat(filepath.Join(dir, "seal.key"))
	require.NoError(t, err)
	require.Equal(t, os.FileMode(0o600), info.Mode().Perm())
}

func TestSealBindsToItsPlace(t *testing.T) {
	s, err := store.OpenSealer(filepath.Join(t.TempDir(), "key"), true)
	require.NoError(t, err)
	sealed := s.Seal("session", []byte("secret"))
	require.NotContains(t, string(sealed), "secret")
	plain, err := s.Open("session", sealed)
	require.NoError(t, err)
	require.Equal(t, "secret", string(plain))
	_, err = s.Open("key", sealed)
	require.Error(t, err, "moved to another place")
	sealed[len(sealed)-1] ^= 1
	_, err = s.Open("session", sealed)
	require.Error(t, err, "altered")
	_, err = s.Open("session", sealed[:5])
	require.Error(t, err, "cut off")
}

func TestTracesAreWrittenInTheBackground(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	began := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for i := range 30 {
		result := []string{"entered", "refused", "waiting"}[i%3]
		head := store.TraceHead{ID: fmt.Sprintf("T-%02d", i), Started: began.Add(time.Duration(i) * time.Second),
			Application: "roster", Result: "waiting", Person: "100%_sure"}
		s.Traces.Record(head, []any{map[string]int{"step": 1}}, nil)
		head.Result = result
		s.Traces.Record(head, []any{map[string]int{"step": 2}}, nil)
	}
	rows, counts, err := s.Traces.List(ctx, store.TraceFilter{Limit: 5})
	require.NoError(t, err)
	require.Equal(t, map[string]int64{"entered": 10, "refused": 10, "waiting": 10}, counts)
	require.Equal(t, "T-29", rows[0].ID, "newest first")
	rows, _, err = s.Traces.List(ctx, store.TraceFilter{Limit: 5, Before: rows[4].Started, Result: "entered"})
	require.NoError(t, err)
	require.Equal(t, "T-24", rows[0].ID)
	for search, want := range map[string]int64{"T-07": 1, "100%_s": 30, "10%": 0, "roster": 30, "zzz": 0} {
		_, counts, err = s.Traces.List(ctx, store.TraceFilter{Search: search, Limit: 1})
		require.NoError(t, err)
		require.Equal(t, want, counts["entered"]+counts["refused"]+counts["waiting"], search)
	}
	_, steps, err := s.Traces.Get(ctx, "T-07")
	require.NoError(t, err)
	require.Len(t, steps, 2)
	require.JSONEq(t, `{"step":2}`, string(steps[1]))
	_, _, err = s.Traces.Get(ctx, "T-99")
	require.ErrorIs(t, err, gorm.ErrRecordNotFound)
	require.NoError(t, s.Close())
	s.Traces.Record(store.TraceHead{ID: "late"}, nil, nil) // after the end: dropped, no panic
}

func TestTracesArePruned(t *testing.T) {
	dir := t.TempDir()
	s, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "key"),
		store.TraceLimits{Keep: 3, Age: time.Hour}, quiet)
	require.NoError(t, err)
	defer s.Close()
	for i := range 6 {
		s.Traces.Record(store.TraceHead{ID: fmt.Sprint("T-", i),
			Started: time.Now().UTC().Add(-time.Duration(i) * 40 * time.Minute), Verified: true}, []any{1}, nil)
	}
	require.NoError(t, s.Traces.Prune(ctx, time.Time{}))
	rows, _, err := s.Traces.List(ctx, store.TraceFilter{Limit: 10})
	require.NoError(t, err)
	require.Len(t, rows, 2, "two are younger than an hour")
	_, _, err = s.Traces.Get(ctx, "T-2")
	require.ErrorIs(t, err, gorm.ErrRecordNotFound)
}

func TestStrangersPushNothingOut(t *testing.T) {
	dir := t.TempDir()
	s, err := store.Open(filepath.Join(dir, "data"), filepath.Join(dir, "key"),
		store.TraceLimits{Keep: 5, Octets: 1 << 20, Strangers: 20}, quiet)
	require.NoError(t, err)
	defer s.Close()
	at := time.Now().UTC().Add(-30 * time.Minute)
	s.Traces.Record(store.TraceHead{ID: "REAL", Started: at, Verified: true, Result: "entered", Person: "ada"},
		[]any{"step"}, "inputs")
	s.Traces.Record(store.TraceHead{ID: "WAIT", Started: at, Verified: true, Result: "waiting"}, nil, nil)
	for i := range 1200 {
		s.Traces.Record(store.TraceHead{ID: fmt.Sprint("S-", i), Started: at.Add(time.Duration(i) * time.Second),
			Result: "refused"}, []any{strings.Repeat("x", 4<<10)}, nil)
		if i%200 == 0 {
			_, _, err := s.Traces.Get(ctx, "REAL") // as fast as they are written
			require.NoError(t, err)
		}
	}
	require.NoError(t, s.Traces.Prune(ctx, at.Add(time.Second)))
	rows, counts, err := s.Traces.List(ctx, store.TraceFilter{Limit: 100})
	require.NoError(t, err)
	require.Len(t, rows, 22)
	require.Equal(t, map[string]int64{"entered": 1, "refused": 20, "left": 1}, counts, "who never came back has left")
	inputs, err := s.Traces.Inputs(ctx, "REAL")
	require.NoError(t, err)
	require.Equal(t, `"inputs"`, string(inputs[0]))

	// One trace, and all of them, are bounded in octets.
	for range 500 {
		s.Traces.Record(store.TraceHead{ID: "LONG", Started: at, Result: "refused"}, []any{strings.Repeat("x", 1<<10)}, nil)
		s.Traces.Record(store.TraceHead{ID: "MANY", Started: at, Verified: true}, []any{1}, nil)
	}
	_, steps, err := s.Traces.Get(ctx, "LONG")
	require.NoError(t, err)
	require.Less(t, len(steps), 64, "64 KiB of somebody whom nobody knows")
	_, steps, err = s.Traces.Get(ctx, "MANY")
	require.NoError(t, err)
	require.Len(t, steps, 300)
	for i := range 4 {
		s.Traces.Record(store.TraceHead{ID: fmt.Sprint("BIG-", i), Started: time.Now().UTC(), Verified: true},
			[]any{strings.Repeat("x", 400<<10)}, nil)
	}
	require.NoError(t, s.Traces.Prune(ctx, time.Time{}))
	_, _, err = s.Traces.Get(ctx, "REAL")
	require.ErrorIs(t, err, gorm.ErrRecordNotFound, "the oldest go when the disk would hold more than it may")
}

// Names of people are sealed; those that an earlier build wrote are sealed at the
// start.
func TestNamesInTracesAreSealed(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	s.Traces.Record(store.TraceHead{ID: "NEW", Started: time.Now(), Person: "ada.fenwick@wrenmoor.example"}, nil, nil)
	_, _, err := s.Traces.Get(ctx, "NEW")
	require.NoError(t, err)
	require.NoError(t, s.Close())
	file := filepath.Join(dir, "data", "traces.db")
	db, err := gorm.Open(sqlite.Open(file), &gorm.Config{})
	require.NoError(t, err)
	for _, sql := range []string{"ALTER TABLE trace_rows ADD COLUMN person text",
		"INSERT INTO trace_rows (id, started, person, result) VALUES ('OLD', '2026-11-01 08:00:00', 'bram.oduya@wrenmoor.example', 'entered')"} {
		require.NoError(t, db.Exec(sql).Error)
	}
	pool, err := db.DB()
	require.NoError(t, err)
	require.NoError(t, pool.Close())
	s = open(t, dir)
	for search, id := range map[string]string{"fenwick": "NEW", "BRAM.": "OLD"} {
		rows, _, err := s.Traces.List(ctx, store.TraceFilter{Search: search, Limit: 5})
		require.NoError(t, err)
		require.Len(t, rows, 1, search)
		require.Equal(t, id, rows[0].ID)
	}
	require.NoError(t, s.Close())
	octets, err := os.ReadFile(file)
	require.NoError(t, err)
	require.NotContains(t, string(octets), "wrenmoor")
}

func TestSweepRemovesWhatHasExpired(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	at := time.Date(2026, 11, 23, 8, 0, 0, 0, time.UTC)
	for i, until := range []time.Time{at.Add(-time.Second), at.Add(time.Second)} {
		require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
			key := []byte{byte(i)}
			for _, row := range []any{&store.UsedRow{Key: key, Until: until}, &store.SessionRow{Hash: key, Expires: until},
				&store.CrossingRow{ID: string(key), Expires: until}, &store.ConsoleRow{Hash: key, Expires: until},
				&store.IssuedRow{Session: key, Expires: until}} {
				if err := tx.Create(row).Error; err != nil {
					return err
				}
			}
			return nil
		}))
	}
	require.NoError(t, s.Sweep(ctx, at))
	for _, row := range []any{&store.UsedRow{}, &store.SessionRow{}, &store.CrossingRow{}, &store.ConsoleRow{},
		&store.IssuedRow{}} {
		var n int64
		require.NoError(t, s.Read.Model(row).Count(&n).Error)
		require.EqualValues(t, 1, n, "%T", row)
	}
}

// A database of the first form is brought to the present one: drafts without an
// entity ID may stand beside each other, real entity IDs stay unique.
func TestMigrationFromTheFirstForm(t *testing.T) {
	dir := t.TempDir()
	s := open(t, dir)
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		for _, statement := range []string{
			"DROP INDEX provider_identity", "CREATE UNIQUE INDEX idx_provider_rows_entity_id ON provider_rows(entity_id)",
			"ALTER TABLE history_rows DROP COLUMN why", "ALTER TABLE history_rows DROP COLUMN protocol",
			"DROP TABLE document_rows", "DROP TABLE fresh_rows", "DROP TABLE pending_rows", "DROP TABLE aggregate_rows",
			"DROP TABLE entity_rows", "DROP TABLE outbox_rows", "DROP TABLE credential_rows",
			"ALTER TABLE crossing_rows DROP COLUMN turns", "DELETE FROM migrations WHERE id IN ('0002', '0003')",
			"INSERT INTO provider_rows(name, protocol, entity_id, revision, data) VALUES ('old', 'saml', 'urn:old', 3, '{}')",
			"INSERT INTO history_rows(kind, name, revision, who, what) VALUES ('provider', 'old', 3, 'test', 'changed')",
		} {
			if err := tx.Exec(statement).Error; err != nil {
				return fmt.Errorf("%s: %w", statement, err)
			}
		}
		return nil
	}))
	require.NoError(t, s.Close())
	s = open(t, dir)
	defer s.Close()
	put := func(name, id string) error {
		return s.Write(ctx, func(tx *gorm.DB) error {
			return tx.Create(&store.ProviderRow{Name: name, Protocol: "saml", EntityID: id}).Error
		})
	}
	require.NoError(t, put("draft-1", ""))
	require.NoError(t, put("draft-2", ""))
	require.True(t, store.IsTaken(put("again", "urn:old")))
	var old store.ProviderRow
	require.NoError(t, s.Read.Where("name = ?", "old").Take(&old).Error)
	require.Equal(t, 3, old.Revision)
	var h store.HistoryRow
	require.NoError(t, s.Read.Take(&h).Error)
	require.Equal(t, []string{"test", ""}, []string{h.Who, h.Why})
}

func TestDocumentsAreKeptOnce(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	document := []byte(strings.Repeat("<EntityDescriptor/>", 1000))
	var hashes []string
	for range 3 {
		packed, err := store.Pack(document)
		require.NoError(t, err)
		require.NoError(t, s.Write(ctx, packed.Put))
		hashes = append(hashes, packed.Hash)
	}
	require.Equal(t, hashes[0], hashes[2])
	var rows []store.DocumentRow
	require.NoError(t, s.Read.Find(&rows).Error)
	require.Len(t, rows, 1)
	require.Less(t, len(rows[0].Octets), len(document)/10, "compressed")
	got, err := s.Document(ctx, hashes[0])
	require.NoError(t, err)
	require.Equal(t, document, got)
	_, err = s.Document(ctx, "none")
	require.ErrorIs(t, err, gorm.ErrRecordNotFound)
}

// A step of the schema never changes once it was released: databases have taken
// it already. A change is a new file, and a line here.
func TestStepsOfTheSchemaAreFrozen(t *testing.T) {
	frozen := map[string]string{
		"main-0001.sql": "a107b78d1941b6f7", "main-0002.sql": "dc84b3b33bd554b2", "main-0003.sql": "21e9215b1f54fd69",
		"main-0004.sql": "19062f950e625b47", "main-0005.sql": "4c3851936594f319", "main-0006.sql": "cb853a908fff1376",
		"main-0007.sql": "5cee9d774d49b798", "main-0008.sql": "03c31a5e7c715dd3", "main-0009.sql": "ac50838c5dbf8cc6",
		"main-0010.sql": "165bdd415c9831ec", "main-0011.sql": "826fa3627b307b0f", "main-0012.sql": "919d86c81e60d75b",
		"main-0013.sql": "df1916a96324b584", "main-0014.sql": "3790bec98fdd0329", "traces-0003.sql": "6c5a81e377f07f23",
		"traces-0004.sql": "fd67808425696144",
		"main-0015.sql":   "36fc3e53bde08dd2", "main-0016.sql": "702ef1f1b0d25aad", "main-0017.sql": "c8a0495ff6a1003f",
		"main-0018.sql": "9d0103c7223dafc4", "main-0019.sql": "3af12d7b52da6d80", "main-0020.sql": "44b57680de269c40",
		"traces-0005.sql": "e7804f26f0e1d3d1", "traces-0006.sql": "b09c04ecabc01e60",
		"main-0021.sql": "9572da7f8cfd09c1", "traces-0007.sql": "45eaf4b3d2772d36", "main-0022.sql": "5963be87de0325f9",
		"traces-0008.sql": "51bdd7c64be22322", "main-0023.sql": "2d004ed2a29ae580",
		"traces-0001.sql": "9a67da4c8f08ae4f", "traces-0002.sql": "bfe9e1902ce14877",
	}
	files, err := os.ReadDir("schema")
	require.NoError(t, err)
	require.Len(t, files, len(frozen))
	for _, f := range files {
		octets, err := os.ReadFile(filepath.Join("schema", f.Name()))
		require.NoError(t, err)
		require.Equal(t, frozen[f.Name()], fmt.Sprintf("%x", sha256.Sum256(octets))[:16], f.Name())
	}
}

func TestUnchanged(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.ProviderRow{Name: "there", Revision: 3}).Error
	}))
	for _, c := range []struct {
		name     string
		revision int
		want     string
	}{{"there", 3, ""}, {"there", 2, "at revision 3, the change is for 2"}, {"there", 0, "at revision 3"},
		{"gone", 0, ""}, {"gone", 1, "at revision 0"}} {
		err := s.Write(ctx, func(tx *gorm.DB) error { return store.Unchanged(tx, &store.ProviderRow{}, c.name, c.revision) })
		if c.want == "" {
			require.NoError(t, err, c.name)
		} else {
			require.ErrorContains(t, err, c.want)
		}
	}
}

// Whoever is told that a write succeeded finds it there, also where the disk is
// full for somebody who was written together with it.
func TestAFullDiskFailsOnlyWhomItHits(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	var pages int
	require.NoError(t, s.Read.Raw("PRAGMA page_count").Scan(&pages).Error)
	limit := func(n int) {
		require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error {
			return tx.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", n)).Error
		}))
	}
	limit(pages + 20)
	var told, failed atomic.Int64
	for round := range 12 {
		var wg sync.WaitGroup
		for i := range 40 {
			wg.Go(func() {
				name := fmt.Sprint(round, "-", i)
				size := 10
				if i%10 == 9 {
					size = 200_000 // does not fit
				}
				err := s.Write(ctx, func(tx *gorm.DB) error {
					if err := tx.Create(&store.SettingRow{Key: "first " + name}).Error; err != nil {
						return err
					}
					return tx.Create(&store.SettingRow{Key: "second " + name, Value: strings.Repeat("x", size)}).Error
				})
				var n int64
				require.NoError(t, s.Read.Model(&store.SettingRow{}).Where("key IN ?",
					[]string{"first " + name, "second " + name}).Count(&n).Error)
				if err == nil {
					told.Add(1)
					require.EqualValues(t, 2, n, "told that it is there")
				} else {
					failed.Add(1)
					require.Zero(t, n, "half of what failed")
				}
			})
		}
		wg.Wait()
	}
	require.Positive(t, told.Load())
	require.GreaterOrEqual(t, failed.Load(), int64(48))
	limit(1 << 30)
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&store.SettingRow{Key: "after"}).Error }))
}

// What was deleted stands in no file any more, nor in the log of writes, while it is open.
func TestDeletedIsGone(t *testing.T) {
	dir := t.TempDir()
	st := open(t, dir)
	marker := strings.Repeat("Quillon Ashgrove ", 400)
	write := func(do func(tx *gorm.DB) error) { require.NoError(t, st.Write(t.Context(), do)) }
	write(func(tx *gorm.DB) error { return tx.Create(&store.SettingRow{Key: "x", Value: marker}).Error })
	write(func(tx *gorm.DB) error { return tx.Delete(&store.SettingRow{Key: "x"}).Error })
	st.Flush()
	files, err := filepath.Glob(filepath.Join(dir, "data", "*"))
	require.NoError(t, err)
	require.NotEmpty(t, files)
	for _, file := range files {
		octets, err := os.ReadFile(file)
		require.NoError(t, err)
		require.False(t, bytes.Contains(octets, []byte("Quillon Ashgrove")), file)
	}
}

// What earlier builds deleted leaves the free pages when this one first opens a directory.
func TestFreePagesOfEarlierBuilds(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, open(t, dir).Close())
	for file, last := range map[string]string{"innergate.db": "0014", "traces.db": "0004"} {
		db, err := sql.Open("sqlite3", filepath.Join(dir, "data", file)+"?_secure_delete=off")
		require.NoError(t, err)
		for _, statement := range []string{"CREATE TABLE x (y text)", "INSERT INTO x VALUES ('" +
			strings.Repeat("Quillon Ashgrove ", 900) + "')",
			"DROP TABLE x", "PRAGMA wal_checkpoint(TRUNCATE)"} {
			_, err = db.Exec(statement)
			require.NoError(t, err)
		}
		octets, err := os.ReadFile(filepath.Join(dir, "data", file))
		require.NoError(t, err)
		require.Contains(t, string(octets), "Quillon Ashgrove", file)
		newer := "0005"
		if last == "0014" {
			newer = "0015"
			for _, statement := range []string{"DELETE FROM migrations WHERE id IN ('0016', '0017', '0018', '0019', '0020', '0021', '0022', '0023')", "DROP TABLE test_account_rows", "DROP TABLE rehearsal_turn_rows",
				"DROP TABLE rehearsal_run_rows", "DROP TABLE rehearsal_made_rows", "ALTER TABLE session_rows DROP COLUMN run",
				"DROP TABLE person_event_rows", "DROP TABLE recipient_rows", "ALTER TABLE person_rows DROP COLUMN revision",
				"DROP TABLE use_rows", "DROP TABLE admission_rows", "DROP TABLE request_rows",
				"ALTER TABLE object_rows RENAME TO unit_rows",
				"CREATE TABLE set_rows (name text, revision integer, added datetime, data blob)",
				"ALTER TABLE outbox_rows DROP COLUMN answer", "DROP INDEX outbox_by_host",
				"ALTER TABLE outbox_rows DROP COLUMN host",
				"DROP INDEX grant_of_person", "ALTER TABLE grant_rows DROP COLUMN used", "DROP TABLE mailed_rows"} {
				_, err = db.Exec(statement)
				require.NoError(t, err, statement)
			}
		}
		if newer == "0005" {
			for _, statement := range []string{"DELETE FROM migrations WHERE id IN ('0006', '0007', '0008')",
				"DROP TABLE decision_rows", "DROP TABLE part_rows", "ALTER TABLE trace_rows DROP COLUMN run",
				"DROP INDEX trace_of_account", "ALTER TABLE trace_rows DROP COLUMN account"} {
				_, err = db.Exec(statement)
				require.NoError(t, err, statement)
			}
		}
		_, err = db.Exec("DELETE FROM migrations WHERE id IN (?, ?)", last, newer)
		require.NoError(t, err)
		require.NoError(t, db.Close())
	}
	require.NoError(t, open(t, dir).Close())
	for _, file := range []string{"innergate.db", "traces.db"} {
		octets, err := os.ReadFile(filepath.Join(dir, "data", file))
		require.NoError(t, err)
		require.False(t, bytes.Contains(octets, []byte("Quillon Ashgrove")), file)
	}
}

// While another process holds the lock that every sign-in needs, the store is not ready.
func TestALockHeldElsewhere(t *testing.T) {
	dir := t.TempDir()
	st := open(t, dir)
	require.NoError(t, st.Writable(t.Context()))
	other, err := sql.Open("sqlite3", filepath.Join(dir, "data", "innergate.db")+"?_txlock=immediate")
	require.NoError(t, err)
	defer other.Close()
	tx, err := other.Begin()
	require.NoError(t, err)
	time.Sleep(1100 * time.Millisecond) // it is asked once a second
	began := time.Now()
	require.ErrorContains(t, st.Writable(t.Context()), "another process")
	require.Less(t, time.Since(began), 3*time.Second)
	require.NoError(t, tx.Rollback())
	require.Eventually(t, func() bool { return st.Writable(t.Context()) == nil }, 5*time.Second, 100*time.Millisecond)
}

// A panic in a transaction fails that one.
func TestAPanicInAWriteFailsIt(t *testing.T) {
	s := open(t, t.TempDir())
	defer s.Close()
	err := s.Write(ctx, func(tx *gorm.DB) error {
		require.NoError(t, tx.Create(&store.SettingRow{Key: "half"}).Error)
		panic("oops")
	})
	require.ErrorContains(t, err, "oops")
	_, err = s.Setting(ctx, "half", "new")
	require.NoError(t, err)
	var row store.SettingRow
	require.NoError(t, s.Read.Where("key = ?", "half").Take(&row).Error)
	require.Equal(t, "new", row.Value, "nothing of it was kept")
}

// What a crash, a full disk or a careless hand leaves in the data directory.
func TestDataDirectoriesThatAreNotWhole(t *testing.T) {
	full := func(t *testing.T) (dir, key string) {
		dir = t.TempDir()
		key = filepath.Join(t.TempDir(), "seal.key")
		s, err := store.Open(dir, key, store.TraceLimits{}, slog.New(slog.DiscardHandler))
		require.NoError(t, err)
		s.Traces.Record(store.TraceHead{ID: "KEPT", Result: "entered", Started: time.Now()}, nil, nil)
		require.NoError(t, s.Close())
		return dir, key
	}
	again := func(dir, key string, log *slog.Logger) error {
		s, err := store.Open(dir, key, store.TraceLimits{}, log)
		if err != nil {
			return err
		}
		defer s.Close()
		return s.Write(ctx, func(tx *gorm.DB) error { return tx.Save(&store.SettingRow{Key: "goes on"}).Error })
	}
	quiet := slog.New(slog.DiscardHandler)
	for rule, c := range map[string]struct {
		harm func(dir, key string) error
		says string
	}{
		"an empty database": {func(dir, _ string) error {
			return os.Truncate(filepath.Join(dir, "innergate.db"), 0)
		}, "innergate.db in"},
		"none": {func(dir, _ string) error { return os.Remove(filepath.Join(dir, "innergate.db")) },
			"is missing, but traces.db is there"},
		"a damaged one": {func(dir, _ string) error {
			return os.WriteFile(filepath.Join(dir, "innergate.db"), bytes.Repeat([]byte("x"), 9000), 0o600)
		}, "innergate.db is damaged; restore it"},
		"no sealing key": {func(_, key string) error { return os.Remove(key) },
			"is missing, and the database is sealed with it"},
		"half a sealing key": {func(_, key string) error { return os.Truncate(key, 20) }, "is damaged"},
		"another sealing key": {func(_, key string) error {
			return os.WriteFile(key, []byte(strings.Repeat("A", 43)+"=\n"), 0o600)
		}, "another one than it was sealed with"},
	} {
		t.Run(rule, func(t *testing.T) {
			dir, key := full(t)
			require.NoError(t, c.harm(dir, key))
			before, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.ErrorContains(t, again(dir, key, quiet), c.says)
			after, err := os.ReadDir(dir)
			require.NoError(t, err)
			require.Len(t, after, len(before), "nothing is begun anew")
			if rule == "no sealing key" {
				require.NoFileExists(t, key)
			}
		})
	}
	for rule, harm := range map[string]func(file string) error{
		"traces that are no database": func(file string) error { return os.WriteFile(file, []byte("<html>"), 0o600) },
		"traces that are cut off":     func(file string) error { return os.Truncate(file, 12000) },
		"traces overwritten inside": func(file string) error {
			f, err := os.OpenFile(file, os.O_RDWR, 0)
			require.NoError(t, err)
			_, err = f.WriteAt(bytes.Repeat([]byte{0xa5}, 8192), 4096)
			return errors.Join(err, f.Close())
		},
	} {
		t.Run(rule, func(t *testing.T) {
			dir, key := full(t)
			require.NoError(t, harm(filepath.Join(dir, "traces.db")))
			var log bytes.Buffer
			require.NoError(t, again(dir, key, slog.New(slog.NewTextHandler(&log, nil))))
			require.Contains(t, log.String(), "traces.db.damaged")
			require.FileExists(t, filepath.Join(dir, "traces.db.damaged"))
			log.Reset()
			require.NoError(t, again(dir, key, slog.New(slog.NewTextHandler(&log, nil))))
			require.Empty(t, log.String())
		})
	}

	// Nobody else can read what is there, also where they could before.
	dir, key := full(t)
	require.NoError(t, os.Chmod(dir, 0o755))
	require.NoError(t, os.Chmod(filepath.Join(dir, "innergate.db"), 0o644))
	s, err := store.Open(dir, key, store.TraceLimits{}, quiet)
	require.NoError(t, err)
	defer s.Close()
	require.NoError(t, s.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&store.SettingRow{Key: "x"}).Error }))
	require.NoError(t, filepath.WalkDir(dir, func(path string, _ os.DirEntry, err error) error {
		require.NoError(t, err)
		info, err := os.Stat(path)
		require.NoError(t, err)
		require.Zero(t, info.Mode().Perm()&0o077, path)
		return nil
	}))
}
