package gate

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// How metadata is taken in and kept. What is stored of it has names in JSON.

// Fresh is how current the copy of a metadata address is.
type Fresh struct {
	Checked  time.Time          `json:"checked,omitzero"`
	Tried    time.Time          `json:"tried,omitzero"`
	Next     time.Time          `json:"next,omitzero"`
	Failure  *finding.Finding   `json:"failure,omitempty"`
	Failures int                `json:"failures,omitempty"`
	Changed  []*finding.Finding `json:"changed,omitempty"`
	At       time.Time          `json:"changedAt,omitzero"`
}

// Refreshed is what a refresh of one record came to.
type Refreshed struct {
	Kind        string
	Name        string
	Outcome     string
	Differences []federation.Difference
	Findings    []*finding.Finding
}

// Pending is a change that waits for approval.
type Pending struct {
	Kind        string
	Name        string
	Title       string
	Since       time.Time
	Differences []federation.Difference
	Findings    []*finding.Finding
}

// AggregateSettings are what an engineer decides about an aggregate.
type AggregateSettings struct {
	Title    string `json:"title,omitempty"`
	Address  string `json:"address,omitempty"`
	TrustKey string `json:"trustKey,omitempty"`
	Notes    string `json:"notes,omitempty"`
}

// Changes is what differs between two editions of an aggregate; lists hold the
// first thousand entity IDs.
type Changes struct {
	Added    int      `json:"added"`
	Removed  int      `json:"removed"`
	Changed  int      `json:"changed"`
	AddedIDs []string `json:"addedIds,omitempty"`
	GoneIDs  []string `json:"removedIds,omitempty"`
	OtherIDs []string `json:"changedIds,omitempty"`
}

// Entity is one entity of an aggregate.
type Entity struct {
	EntityID string
	Title    string
	Roles    []string
	Problem  *finding.Finding
	Records  []string
}

// Job is work that takes longer than a request: how far it is, and how it ended.
// Jobs are kept in memory for an hour after their end; what they changed is in
// the history.
type Job struct {
	ID      string
	What    string
	State   string
	Done    int64
	Total   int64
	Unit    string
	Started time.Time
	Ended   *time.Time
	// Refused says why a failed job failed.
	Refused *finding.Finding
	Failure string
	Report  *Report
}

// Report is what a job has changed, and what it refused.
type Report struct {
	Entities int
	Broken   int
	Taken    []TakenEntity
	Refused  []Refusal
	RefusedN int
	Changes  *Changes
	Records  []Refreshed
}

// TakenEntity is a record made from an entity.
type TakenEntity struct {
	EntityID string
	Kind     string
	Name     string
}

// Refusal is an entity that was not taken.
type Refusal struct {
	EntityID string
	Finding  *finding.Finding
}

// Change is one change in the history.
type Change struct {
	ID       int64
	At       time.Time
	Kind     string
	Name     string
	Revision int
	Who      string
	What     string
	Why      string
	// Restorable tells whether the record can be set back to this.
	Restorable bool
}

// Revision is one change with what it did.
type Revision struct {
	Change
	Values      []federation.Value
	Differences []federation.Difference
	FromNow     []federation.Difference
}
