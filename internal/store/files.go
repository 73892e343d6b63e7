package store

import (
	"errors"
	"fmt"
	"io/fs"
	"log/slog"
	"os"
	"path/filepath"
	"time"
)

// Names in the data directory.
const (
	mainFile   = "innergate.db"
	tracesFile = "traces.db"
)

// private makes the data directory the gate's alone; a warning says why it is not.
func private(dir string, log *slog.Logger) error {
	if err := os.MkdirAll(dir, 0o700); err != nil {
		return fmt.Errorf("making the data directory: %w", err)
	}
	info, err := os.Stat(dir)
	if err != nil {
		return err
	}
	if info.Mode().Perm()&0o077 != 0 {
		if err := os.Chmod(dir, 0o700); err != nil {
			log.Warn("others can look into the data directory; make it 0700", "directory", dir, "error", err)
		}
	}
	return nil
}

// own makes a database file readable by its owner only, from its first octet on.
// The files that SQLite puts beside it take their mode from it.
func own(file string) error {
	f, err := os.OpenFile(file, os.O_CREATE|os.O_RDWR, 0o600)
	if err != nil {
		return err
	}
	return errors.Join(f.Chmod(0o600), f.Close())
}

// lost sees whether the main database is gone while others of its files are
// still there: what was in it would silently be begun anew.
func lost(dir string) error {
	info, err := os.Stat(filepath.Join(dir, mainFile))
	if err != nil && !errors.Is(err, fs.ErrNotExist) {
		return err
	}
	if err == nil && info.Size() > 0 {
		return nil
	}
	how := "empty"
	if err != nil {
		how = "missing"
	}
	for _, beside := range []string{tracesFile, "aggregates"} {
		if _, err := os.Stat(filepath.Join(dir, beside)); err == nil {
			return fmt.Errorf("%s in %s is %s, but %s is there: restore it from a backup, or move what is left away to "+
				"begin anew", mainFile, dir, how, beside)
		}
	}
	return nil
}

// setAside moves a damaged file away, with what belongs to it, in place of one
// that was set aside before.
func setAside(file string, log *slog.Logger, why error) error {
	aside := file + ".damaged"
	for _, end := range []string{"", "-wal", "-shm"} {
		if err := os.Rename(file+end, aside+end); err != nil && !errors.Is(err, fs.ErrNotExist) {
			return err
		}
	}
	log.Error("the file of traces is damaged and was set aside; traces begin anew", "file", aside,
		"at", time.Now().UTC(), "error", why)
	return nil
}
