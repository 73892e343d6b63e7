package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// ProviderRow is a provider as stored.
type ProviderRow struct {
	Name     string `gorm:"primaryKey"`
	Protocol string
	EntityID string // unique unless empty, as in a draft
	Revision int
	Added    time.Time
	Data     []byte // JSON: everything that is not a column
}

// ApplicationRow is an application as stored.
type ApplicationRow struct {
	Name     string `gorm:"primaryKey"`
	Protocol string
	EntityID string `gorm:"index"` // several may have one, each with a face of its own
	Revision int
	Added    time.Time
	Data     []byte
}

// HistoryRow is one change of configuration.
type HistoryRow struct {
	ID       int64 `gorm:"primaryKey;autoIncrement"`
	At       time.Time
	Kind     string `gorm:"index:history_object"` // provider, application, aggregate, key, token, owner
	Name     string `gorm:"index:history_object"`
	Object   string // ID of the record, "" for what has none
	Revision int
	Who      string
	What     string // added, changed, removed, and the like
	Why      string // remark, if one was made
	Batch    int64  // changes that were made together have the number of the first one; 0 for one made alone
	Protocol string // of the record, "" for what has none
	Data     []byte // the record after the change, or before a removal; nil for what has no revisions
}

// DocumentRow is a document as it was taken in, compressed, under its SHA-256.
// Records and their history refer to it, so it is written once and stays.
type DocumentRow struct {
	Hash   string `gorm:"primaryKey"`
	Octets []byte
}

// FreshRow is how far the copy of a metadata address is current. It is state, not
// configuration.
type FreshRow struct {
	Kind string    `gorm:"primaryKey"` // provider, application, aggregate
	Name string    `gorm:"primaryKey"`
	Next time.Time `gorm:"index"`
	Data []byte    // JSON
}

// PendingRow is a change of a record that waits for approval.
type PendingRow struct {
	Kind string `gorm:"primaryKey"`
	Name string `gorm:"primaryKey"`
	At   time.Time
	Data []byte // JSON: the record as it would be
}

// AggregateRow is an aggregate on record.
type AggregateRow struct {
	Name     string `gorm:"primaryKey"`
	Revision int
	Added    time.Time
	Data     []byte // JSON
	Edition  int64  // of the entities that count; 0 before the first was taken in
}

// EntityRow is one entity of an aggregate. Rows of an edition that the aggregate
// does not name are not seen: they are on their way in or out.
type EntityRow struct {
	ID        int64  `gorm:"primaryKey;autoIncrement"`
	Aggregate string `gorm:"index:entity_edition"`
	Edition   int64  `gorm:"index:entity_edition"`
	EntityID  string
	Title     string
	Roles     string // IDPSSODescriptor, SPSSODescriptor
	Problem   []byte // finding in JSON, nil if it can be used
	Sum       int64  // changes when the entity does
	From      int64  // place in the document
	Until     int64
	Wrap      string
}

// KeyRow is a key pair of the gate, sealed.
type KeyRow struct {
	ID      int64  `gorm:"primaryKey;autoIncrement"`
	Purpose string `gorm:"index"` // idp, sp, enc, app/ID
	State   string // current, next, old
	Added   time.Time
	Sealed  []byte
}

// SettingRow is a value that is stored once, such as an entity ID of our own.
type SettingRow struct {
	Key   string `gorm:"primaryKey"`
	Value string
}

// OwnerRow is an operator with a password.
type OwnerRow struct {
	Username string `gorm:"primaryKey"`
	Password string // argon2id, with its parameters
	Added    time.Time
}

// ConsoleRow is a console session.
type ConsoleRow struct {
	Hash     []byte `gorm:"primaryKey"`
	Username string
	Expires  time.Time `gorm:"index"`
}

// TokenRow is an API token, stored as hash.
type TokenRow struct {
	Name  string `gorm:"primaryKey"`
	Hash  []byte `gorm:"uniqueIndex"`
	Added time.Time
	By    string
	// Expires is when it ends, zero if it does not.
	Expires time.Time
}

// AcknowledgedRow says that somebody knows of a finding, until a date.
type AcknowledgedRow struct {
	Object string `gorm:"primaryKey"` // kind and ID of what it is on
	Mark   string `gorm:"primaryKey"` // of the finding
	Code   string
	Remark string
	Who    string
	At     time.Time
	Until  time.Time
}

// PersonRow is an account known to the gate. Identifier is random and never
// shown; pairwise names are derived from it.
type PersonRow struct {
	ID         int64  `gorm:"primaryKey;autoIncrement"`
	Identifier string `gorm:"uniqueIndex"`
	Added      time.Time
	Sealed     []byte // values that are kept with the person
	Disabled   *time.Time
	Revision   int64 // grows with each change
}

// PersonEventRow is what was done to somebody, by whom.
type PersonEventRow struct {
	ID     int64 `gorm:"primaryKey;autoIncrement"`
	At     time.Time
	Person int64 `gorm:"index"`
	Via    string
	Who    string
	Did    []byte // JSON: of what, never what it is
}

// TermRow is a word by which a person is looked for: a value of an attribute, folded, or a
// part of one under the attribute "". Names by which providers call them stand under
// TermSubject, their parts under TermPart. They are readable, unlike what they are made from.
type TermRow struct {
	Term      string `gorm:"primaryKey"`
	Attribute string `gorm:"primaryKey"`
	Person    int64  `gorm:"primaryKey;index"`
}

// Attributes of terms that are none of a person's.
const (
	TermPart        = ""
	TermSubject     = "@subject"
	TermSubjectPart = "@part"
)

// MatchRow is a value by which somebody is found at a first sign-in, if it is proved.
type MatchRow struct {
	Attribute string `gorm:"primaryKey"` // by its one name in the profile
	Value     []byte `gorm:"primaryKey"` // beginning of the hash of the value as it is compared
	Person    int64  `gorm:"primaryKey"`
	Source    string // ID of a provider, or another source
	Proved    bool
}

// ObjectRow is a configuration object of a kind without a table of its own.
type ObjectRow struct {
	Kind     string `gorm:"primaryKey"`
	Name     string `gorm:"primaryKey"`
	Revision int
	Added    time.Time
	Data     []byte // JSON
}

// MemberRow is that a person belongs to a group or an organisation, and by what.
type MemberRow struct {
	Person int64  `gorm:"primaryKey"`
	Kind   string `gorm:"primaryKey"`
	Name   string `gorm:"primaryKey"`
	Source string `gorm:"primaryKey"` // ID of a provider, or another source
	Added  time.Time
}

// AdmissionRow is that a person was admitted to an application by name.
type AdmissionRow struct {
	Person int64  `gorm:"primaryKey"`
	App    string `gorm:"primaryKey"` // ID
	Source string // of memberships: by hand, or in a list
	Author string
	Added  time.Time
	Until  *time.Time // nil for good
}

// RequestRow is an admission that somebody asked for, and that waits until an owner decides on it.
type RequestRow struct {
	ID      int64  `gorm:"primaryKey;autoIncrement"`
	App     string // ID
	Person  int64  // who asked for themselves; 0 if an owner did
	Author  string // who asked, as history has it; "" for a person
	Owner   string // the owner who stands behind the author
	Why     string
	Entry   []byte // JSON: who is to be admitted
	Asked   time.Time
	Ends    time.Time // until when it can be decided on
	State   string
	Decided *time.Time
	By      string // who decided
	Remark  string // of whoever decided
}

// ComparisonRow is a comparison of an application's accounts with people.
type ComparisonRow struct {
	ID      int64  `gorm:"primaryKey;autoIncrement"`
	App     string // ID
	At      time.Time
	Who     string
	Summary []byte // JSON: figures, nobody's names
	Sealed  []byte // the lists
}

// LinkRow ties a provider's name for somebody to a person.
type LinkRow struct {
	Key      []byte `gorm:"primaryKey"` // hash of the link key
	Provider string `gorm:"index"`      // ID
	Person   int64  `gorm:"index"`
	Added    time.Time
	Sealed   []byte // the name; none in links of before it was kept
}

// SubjectRow is the lasting name by which an application knows a person.
type SubjectRow struct {
	App    string `gorm:"primaryKey"` // ID
	Person int64  `gorm:"primaryKey"`
	Hash   []byte // of the application and the value: no two people have one
	Name   []byte `gorm:"index"` // hash of the value alone
	Source string // derived, imported
	Added  time.Time
	Sealed []byte
}

// SessionRow is a gate session.
type SessionRow struct {
	Hash     []byte `gorm:"primaryKey"`
	Person   int64  `gorm:"index"`
	Provider string
	Began    time.Time
	Expires  time.Time `gorm:"index"`
	Sealed   []byte    // the provider's answer
	Lasting  string    `gorm:"index"` // names it for as long as it is one person's
	Used     time.Time // last time that somebody came with it, now and then
	Revision int       // guards against two at once
	Run      string    // of a rehearsal, '' for a real one
}

// GrantRow is what one sign-in gave an application.
type GrantRow struct {
	ID       string `gorm:"primaryKey"`
	Revision int    // guards against two at once
	App      string `gorm:"index"` // ID
	Person   int64
	Session  string `gorm:"index"` // its lasting name
	Offline  bool   // outlives the session
	Began    time.Time
	Expires  time.Time  `gorm:"index"`
	Ended    string     // why, "" while it gives something
	Used     *time.Time // last; nil while its code was not redeemed
	Sealed   []byte
}

// ConsentRow is what a person agreed to that an application may be told.
type ConsentRow struct {
	App    string `gorm:"primaryKey"` // ID
	Person int64  `gorm:"primaryKey"`
	Scopes string // separated by spaces
	At     time.Time
}

// IdentifierRow is an identifier that belongs to one record for ever.
type IdentifierRow struct {
	Protocol   string `gorm:"primaryKey"`
	Identifier string `gorm:"primaryKey"`
	Record     string // ID
	Since      time.Time
}

// UpstreamRow is what a provider gave with its word, beside a session.
type UpstreamRow struct {
	Session      string `gorm:"primaryKey"` // its lasting name
	Provider     string `gorm:"primaryKey"` // ID
	TheirSession []byte // hash of the provider's name for it
	TheirSubject []byte // hash of the provider's name for the person
	Sealed       []byte
	Expires      time.Time `gorm:"index"`
}

// KeySetRow is the last good copy of the document, such as keys, that lies at an address
// of the other side.
type KeySetRow struct {
	Record  string `gorm:"primaryKey"` // ID
	Address string
	Octets  []byte
	At      time.Time // of the copy
	Tried   time.Time
	Problem string // why the last try gave none, "" if it did
	Changed []byte // JSON: how the copy differs from the one before
}

// IssuedRow remembers what an application was told within a session, for logout.
type IssuedRow struct {
	ID           int64  `gorm:"primaryKey"`
	Session      []byte `gorm:"index"` // its lasting name
	Application  string // ID; its name in rows of before there were IDs
	SessionIndex string
	Sealed       []byte // the NameID
	At           time.Time
	Expires      time.Time `gorm:"index"`
}

// UsedRow is a consumed assertion.
type UsedRow struct {
	Key   []byte    `gorm:"primaryKey"` // hash of provider and ID
	Until time.Time `gorm:"index"`
}

// Once notes that something was done which is done once, and reports whether it was not noted before. The note is kept
// until some time.
func (s *Store) Once(ctx context.Context, key []byte, until time.Time) (bool, error) {
	err := s.Write(ctx, func(tx *gorm.DB) error { return tx.Create(&UsedRow{Key: key, Until: until.UTC()}).Error })
	if IsTaken(err) {
		return false, nil
	}
	return err == nil, err
}

// WasUsed reports whether such a note is there.
func (s *Store) WasUsed(ctx context.Context, key []byte) (bool, error) {
	var is bool
	err := s.Read.WithContext(ctx).Raw("SELECT EXISTS(SELECT 1 FROM used_rows WHERE key = ?)", key).Row().Scan(&is)
	return is, err
}

// NotOnce takes such a note back: nothing was done.
func (s *Store) NotOnce(ctx context.Context, key []byte) error {
	return s.Write(ctx, func(tx *gorm.DB) error { return tx.Delete(&UsedRow{Key: key}).Error })
}

// HeldRow is a message that waits for an application's back channel.
type HeldRow struct {
	Hash        []byte `gorm:"primaryKey"` // of the artifact's handle
	Application string
	Expires     time.Time `gorm:"index"`
	Sealed      []byte
}

// CrossingRow is a crossing in progress, or ended and kept until it expires.
type CrossingRow struct {
	ID      string    `gorm:"primaryKey"`
	Expires time.Time `gorm:"index"`
	Ended   bool
	Turns   int // guards against two turns at once
	Sealed  []byte
	Session string // lasting name of the one that it ended in, "" before it did
}

// OutboxRow is a call that is sent later, and again until it is answered.
type OutboxRow struct {
	ID     int64     `gorm:"primaryKey;autoIncrement"`
	Host   string    // whose queue it stands in; "" for those of earlier builds
	Due    time.Time `gorm:"index"`
	Until  time.Time
	Tries  int
	Answer string // to the last try
	Sealed []byte
}

// MailedRow is that a code was mailed: for a person, from a network, or to an address.
type MailedRow struct {
	ID  int64  `gorm:"primaryKey;autoIncrement"`
	Key []byte // a sum of which of them
	At  time.Time
}

// MailedKept is how long they are kept, and count.
const MailedKept = 15 * time.Minute

// CredentialRow is a secret that calls name by reference.
type CredentialRow struct {
	Name   string `gorm:"primaryKey"`
	Sealed []byte
}

// TraceRow is the head of a trace as stored; its steps are in StepRow.
type TraceRow struct {
	ID          string    `gorm:"primaryKey"`
	Started     time.Time `gorm:"index"`
	Application string    `gorm:"index"`
	Provider    string    `gorm:"index"`
	Named       []byte    // the person's name, sealed
	StartedBy   string
	Result      string
	Finding     string
	Millis      int64
	Verified    bool // a counterpart proved to be one
	Octets      int64
	Steps       int
	Account     int64  `gorm:"index:trace_of_account"` // number of the person, 0 for nobody on record
	Run         string // of a rehearsal
}

// StepRow is one step of a trace, sealed.
type StepRow struct {
	ID     int64  `gorm:"primaryKey;autoIncrement"`
	Trace  string `gorm:"index"`
	Sealed []byte
}

// EntryRow is what a turn of a crossing was decided on, sealed.
type EntryRow struct {
	ID     int64  `gorm:"primaryKey;autoIncrement"`
	Trace  string `gorm:"index"`
	Sealed []byte
}
