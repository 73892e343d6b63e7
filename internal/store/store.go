package store

import (
	"bytes"
	"compress/gzip"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"github.com/go-gormigrate/gormigrate/v2"
	"golang.org/x/sys/unix"
	"gorm.io/driver/sqlite"
	"gorm.io/gorm"
	"gorm.io/gorm/clause"
	"gorm.io/gorm/logger"
)

// Store is the open databases.
type Store struct {
	*Sealer
	Read   *gorm.DB // read-only pool
	write  *gorm.DB
	traces *gorm.DB
	lock   *os.File
	ops    chan op
	done   chan struct{}
	Traces *TraceLog
	dir    string

	closing sync.RWMutex
	closed  bool
}

type op struct {
	do    func(tx *gorm.DB) error
	reply chan error
}

// Open opens, and where needed makes and migrates, the databases in a directory.
// A second process is kept out by a lock file. sealKey is the file of the
// sealing key.
func Open(dir, sealKey string, traces TraceLimits, log *slog.Logger) (*Store, error) {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return nil, fmt.Errorf("making the data directory: %w", err)
	}
	lock, err := os.OpenFile(filepath.Join(dir, "innergate.lock"), os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return nil, fmt.Errorf("opening the lock file: %w", err)
	}
	if err := unix.Flock(int(lock.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		lock.Close()
		return nil, fmt.Errorf("another gate serves from %s; stop it first, or use another data directory", dir)
	}
	s := &Store{lock: lock, dir: dir, ops: make(chan op, 256), done: make(chan struct{})}
	if s.Sealer, err = OpenSealer(sealKey); err == nil {
		err = s.open(dir)
	}
	if err != nil {
		return nil, errors.Join(err, s.closeFiles())
	}
	s.Traces = newTraceLog(s, traces, log)
	go s.writer()
	return s, nil
}

const mainOptions = "_journal_mode=WAL&_busy_timeout=5000&_foreign_keys=on&_synchronous=FULL&_txlock=immediate"

func connect(file, options string, conns int) (*gorm.DB, error) {
	dsn := (&url.URL{Scheme: "file", Opaque: (&url.URL{Path: file}).EscapedPath(), RawQuery: options}).String()
	db, err := gorm.Open(sqlite.Open(dsn), &gorm.Config{TranslateError: true, SkipDefaultTransaction: true,
		Logger: logger.Discard, NowFunc: func() time.Time { return time.Now().UTC() }})
	if err != nil {
		return nil, fmt.Errorf("opening %s: %w", filepath.Base(file), err)
	}
	pool, err := db.DB()
	if err != nil {
		return nil, err
	}
	pool.SetMaxOpenConns(conns)
	pool.SetMaxIdleConns(conns)
	return db, nil
}

func (s *Store) open(dir string) (err error) {
	file := filepath.Join(dir, "innergate.db")
	if s.write, err = connect(file, mainOptions, 1); err != nil {
		return err
	}
	if err := gormigrate.New(s.write, gormigrate.DefaultOptions, migrations).Migrate(); err != nil {
		return fmt.Errorf("migrating the database: %w", err)
	}
	if s.Read, err = connect(file, "mode=ro&_busy_timeout=5000&_query_only=on", 4); err != nil {
		return err
	}
	if s.traces, err = connect(filepath.Join(dir, "traces.db"), "_journal_mode=WAL&_busy_timeout=5000&_synchronous=NORMAL&_txlock=immediate", 2); err != nil {
		return err
	}
	if err := gormigrate.New(s.traces, gormigrate.DefaultOptions, traceMigrations).Migrate(); err != nil {
		return fmt.Errorf("migrating the traces: %w", err)
	}
	if err := s.checkSeal(); err != nil {
		return err
	}
	return s.sealNames()
}

var migrations = []*gormigrate.Migration{{
	ID: "0001",
	Migrate: func(tx *gorm.DB) error {
		return tx.AutoMigrate(&ProviderRow{}, &ApplicationRow{}, &HistoryRow{}, &KeyRow{}, &SettingRow{}, &OwnerRow{}, &ConsoleRow{},
			&TokenRow{}, &PersonRow{}, &LinkRow{}, &SessionRow{}, &IssuedRow{}, &UsedRow{}, &CrossingRow{}, &HeldRow{})
	},
}, {
	ID: "0002",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&HistoryRow{}, &DocumentRow{}, &FreshRow{}, &PendingRow{}, &AggregateRow{}, &EntityRow{}); err != nil {
			return err
		}
		if err := tx.Exec("DROP INDEX IF EXISTS idx_provider_rows_entity_id").Error; err != nil {
			return err
		}
		return tx.Exec("CREATE UNIQUE INDEX provider_entity_id ON provider_rows(entity_id) WHERE entity_id <> ''").Error
	},
}, {
	ID: "0003",
	Migrate: func(tx *gorm.DB) error {
		if err := tx.AutoMigrate(&HistoryRow{}, &CrossingRow{}, &OutboxRow{}, &CredentialRow{}); err != nil {
			return err
		}
		if err := tx.Exec("DROP INDEX IF EXISTS provider_entity_id").Error; err != nil {
			return err
		}
		// Crossings of before are in another form; none is older than ten minutes.
		if err := tx.Exec("DELETE FROM crossing_rows").Error; err != nil {
			return err
		}
		return tx.Exec("CREATE UNIQUE INDEX provider_identity ON provider_rows(protocol, entity_id) WHERE entity_id <> ''").Error
	},
}}

var traceMigrations = []*gormigrate.Migration{{
	ID:      "0001",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&TraceRow{}, &StepRow{}) },
}, {
	ID:      "0002",
	Migrate: func(tx *gorm.DB) error { return tx.AutoMigrate(&TraceRow{}, &StepRow{}, &EntryRow{}) },
}}

// PutDocument keeps a document and gives the name it is found by.
func PutDocument(tx *gorm.DB, octets []byte) (string, error) {
	sum := sha256.Sum256(octets)
	hash := hex.EncodeToString(sum[:])
	var b bytes.Buffer
	z, err := gzip.NewWriterLevel(&b, gzip.BestSpeed)
	if err == nil {
		_, err = z.Write(octets)
	}
	if err == nil {
		err = z.Close()
	}
	if err != nil {
		return "", err
	}
	return hash, tx.Clauses(clause.OnConflict{DoNothing: true}).Create(&DocumentRow{Hash: hash, Octets: b.Bytes()}).Error
}

// Document gives a document that was kept; gorm.ErrRecordNotFound if there is
// none of this name.
func (s *Store) Document(ctx context.Context, hash string) ([]byte, error) {
	var row DocumentRow
	if err := s.Read.WithContext(ctx).Where("hash = ?", hash).Take(&row).Error; err != nil {
		return nil, err
	}
	z, err := gzip.NewReader(bytes.NewReader(row.Octets))
	if err != nil {
		return nil, err
	}
	return io.ReadAll(z)
}

// Dir is the data directory.
func (s *Store) Dir() string { return s.dir }

// checkSeal makes sure that the sealing key belongs to this database.
func (s *Store) checkSeal() error {
	var row SettingRow
	err := s.write.Where("key = ?", "seal-check").Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return s.write.Create(&SettingRow{Key: "seal-check", Value: hex.EncodeToString(s.Seal("seal-check", []byte("ok")))}).Error
	}
	if err != nil {
		return err
	}
	sealed, err := hex.DecodeString(row.Value)
	if err != nil {
		return err
	}
	_, err = s.Open("seal-check", sealed)
	return err
}

// Write runs do in a transaction of its own and returns when it is on disk.
// Concurrent calls are committed together; one that fails is rolled back to its
// savepoint and does not disturb the others. do may not keep tx.
func (s *Store) Write(ctx context.Context, do func(tx *gorm.DB) error) error {
	o := op{do: do, reply: make(chan error, 1)}
	s.closing.RLock()
	if s.closed {
		s.closing.RUnlock()
		return errClosed
	}
	select {
	case s.ops <- o:
		s.closing.RUnlock()
	case <-ctx.Done():
		s.closing.RUnlock()
		return ctx.Err()
	}
	return <-o.reply
}

var errClosed = errors.New("the store is closed")

// largest number of transactions that are committed together.
const group = 64

// writer is the one writer.
func (s *Store) writer() {
	defer close(s.done)
	for first := range s.ops {
		batch := []op{first}
	gather:
		for len(batch) < group {
			select {
			case o, ok := <-s.ops:
				if !ok {
					break gather
				}
				batch = append(batch, o)
			default:
				break gather
			}
		}
		results := make([]error, len(batch))
		err := s.write.Transaction(func(tx *gorm.DB) error {
			for i, o := range batch {
				results[i] = tx.Transaction(o.do) // nested: a savepoint
			}
			return nil
		})
		for i, o := range batch {
			o.reply <- errors.Join(results[i], err)
		}
	}
}

// Close commits what is waiting and closes the files. Later calls of Write fail;
// later calls of Close do nothing.
func (s *Store) Close() error {
	s.closing.Lock()
	if s.closed {
		s.closing.Unlock()
		return nil
	}
	s.closed = true
	close(s.ops)
	s.closing.Unlock()
	<-s.done
	s.Traces.close()
	return s.closeFiles()
}

func (s *Store) closeFiles() error {
	var errs []error
	for _, db := range []*gorm.DB{s.Read, s.write, s.traces} {
		if db != nil {
			if pool, err := db.DB(); err == nil {
				errs = append(errs, pool.Close())
			}
		}
	}
	return errors.Join(append(errs, s.lock.Close())...)
}

// IsTaken reports whether an error says that a unique value exists already.
func IsTaken(err error) bool {
	return errors.Is(err, gorm.ErrDuplicatedKey) || err != nil && strings.Contains(err.Error(), "UNIQUE constraint failed")
}

// Setting gives a stored value; the first time it is asked for, it stores the
// given one.
func (s *Store) Setting(ctx context.Context, key, first string) (string, error) {
	value := first
	err := s.Write(ctx, func(tx *gorm.DB) error {
		var row SettingRow
		err := tx.Where("key = ?", key).Take(&row).Error
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return tx.Create(&SettingRow{Key: key, Value: first}).Error
		}
		value = row.Value
		return err
	})
	return value, err
}

// Sweep removes what has expired.
func (s *Store) Sweep(ctx context.Context, now time.Time) error {
	return s.Write(ctx, func(tx *gorm.DB) error {
		for _, row := range []any{&ConsoleRow{}, &SessionRow{}, &IssuedRow{}, &CrossingRow{}, &HeldRow{}} {
			if err := tx.Where("expires < ?", now.UTC()).Delete(row).Error; err != nil {
				return err
			}
		}
		return tx.Where("until < ?", now.UTC()).Delete(&UsedRow{}).Error
	})
}

// Stats are figures for monitoring.
type Stats struct{ Sessions, Persons, Providers, Applications, TracesDropped int64 }

// Stats counts.
func (s *Store) Stats(ctx context.Context, now time.Time) (Stats, error) {
	var out Stats
	db := s.Read.WithContext(ctx)
	err := errors.Join(
		db.Model(&SessionRow{}).Where("expires > ?", now.UTC()).Count(&out.Sessions).Error,
		db.Model(&PersonRow{}).Count(&out.Persons).Error,
		db.Model(&ProviderRow{}).Count(&out.Providers).Error,
		db.Model(&ApplicationRow{}).Count(&out.Applications).Error)
	out.TracesDropped = s.Traces.dropped.Load()
	return out, err
}
