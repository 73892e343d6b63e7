// Package store keeps what must outlive the process, in SQLite through GORM.
//
// There are two files. The main database is fully synchronous and has one
// writer, which commits the transactions of concurrent callers together, each
// under a savepoint of its own; reads go through a separate read-only pool. The
// traces have a file of their own, buffered and bounded.
//
// Private keys, raw messages and the data of sessions are sealed (AES-256-GCM)
// with a key that lies outside the database. Tokens and session identifiers are
// stored as SHA-256.
package store
