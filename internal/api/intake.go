package api

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Fresh is how current the copy of a metadata address is.
type Fresh struct {
	Checked  time.Time          `json:"checked,omitzero" doc:"When the address was last asked with success"`
	Tried    time.Time          `json:"tried,omitzero" doc:"When it was last asked"`
	Next     time.Time          `json:"next,omitzero" doc:"When it will be asked again"`
	Failure  *finding.Finding   `json:"failure,omitempty" doc:"Why the last try failed; the last good copy stays in use"`
	Failures int                `json:"failures,omitempty" doc:"Tries that failed in a row"`
	Changed  []*finding.Finding `json:"changed,omitempty" doc:"What the last change was, if it was one of keys, addresses or entity ID"`
	At       time.Time          `json:"changedAt,omitzero"`
}

// Refreshed is what a refresh of one record came to.
type Refreshed struct {
	Kind        string                  `json:"kind"`
	Name        string                  `json:"name"`
	Digest      string                  `json:"digest,omitempty" doc:"Of a change that waits, to approve or decline it with"`
	Outcome     string                  `json:"outcome" doc:"unchanged, applied, waiting (for approval), declined before, or failed"`
	Differences []federation.Difference `json:"differences,omitempty"`
	Findings    []*finding.Finding      `json:"findings,omitempty"`
}

// Pending is a change that waits for approval.
type Pending struct {
	Kind        string                  `json:"kind"`
	Name        string                  `json:"name"`
	Title       string                  `json:"title"`
	Digest      string                  `json:"digest" doc:"Of what is shown here, to approve or decline it with"`
	Since       time.Time               `json:"since"`
	Differences []federation.Difference `json:"differences"`
	Findings    []*finding.Finding      `json:"findings"`
}

// Decision approves or declines a change that waits.
type Decision struct {
	Digest string `json:"digest" maxLength:"64" doc:"Of the change that was looked at; another one is refused"`
}

// AggregateSettings are what an engineer decides about an aggregate.
type AggregateSettings struct {
	Title     string `json:"title,omitempty" maxLength:"200" doc:"What people read; the Name in the document if absent"`
	Address   string `json:"address,omitempty" maxLength:"2048" doc:"Address it is fetched from and kept fresh; absent for one that is uploaded"`
	TrustKey  string `json:"trustKey,omitempty" maxLength:"20000" doc:"Certificate in PEM whose key must have signed it"`
	Notes     string `json:"notes,omitempty" maxLength:"20000"`
	AddressCA string `json:"addressCA,omitempty" maxLength:"40000" doc:"Certificates in PEM of authorities that its address rests on"`
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
	EntityID string           `json:"entityId"`
	Title    string           `json:"title"`
	Roles    []string         `json:"roles" doc:"What it can become: provider, application"`
	Problem  *finding.Finding `json:"problem,omitempty"`
	Records  []string         `json:"records" doc:"Records that have this entity ID, like application/crew-roster"`
}

// Job is work that takes longer than a request: how far it is, and how it ended.
// Jobs are kept in memory for an hour after their end; what they changed is in
// the history.
type Job struct {
	ID      string     `json:"id"`
	What    string     `json:"what" doc:"In words, like: take in the aggregate northern-lines"`
	State   string     `json:"state" enum:"running,done,failed"`
	Done    int64      `json:"done" doc:"How far it is, in its unit"`
	Total   int64      `json:"total" doc:"How much it is in all; 0 if that is not known"`
	Unit    string     `json:"unit" doc:"octets, entities, crossings or people"`
	Started time.Time  `json:"started"`
	Ended   *time.Time `json:"ended,omitempty"`
	// Refused says why a failed job failed.
	Refused *finding.Finding `json:"refused,omitempty"`
	Failure string           `json:"failure,omitempty" doc:"Why it failed, in words"`
	Report  *Report          `json:"report,omitempty" doc:"What a job that is done has changed"`
	// Reevaluated is what recorded crossings would come to, of a job that runs them again.
	Reevaluated *Reevaluated    `json:"reevaluated,omitempty" doc:"What recorded crossings would come to"`
	Imported    *PeopleImported `json:"imported,omitempty" doc:"What taking a list of people in came to, or would"`
	Compared    *Comparison     `json:"compared,omitempty" doc:"What a comparison of accounts came to"`
	Entrants    *Entrants       `json:"entrants,omitempty" doc:"Whether people enter an application: the counts, of a list the people too"`
	Field       string          `json:"field,omitempty" doc:"Of what was given, what it failed for"`
}

// Report is what a job has changed, and what it refused.
type Report struct {
	Entities int           `json:"entities,omitempty" doc:"In the aggregate"`
	Broken   int           `json:"broken,omitempty" doc:"Of them, those that cannot be used"`
	Taken    []TakenEntity `json:"taken,omitempty" doc:"Records that were made"`
	Refused  []Refusal     `json:"refused,omitempty" doc:"Entities that were not taken, and why; the first thousand"`
	RefusedN int           `json:"refusedCount,omitempty"`
	Changes  *Changes      `json:"changes,omitempty" doc:"What differs from the edition before"`
	Found    []CodeCount   `json:"found,omitempty" doc:"Findings on the records that were made, by code"`
	Change   int64         `json:"change,omitempty" doc:"Number by which what was made can be taken back"`
	Records  []Refreshed   `json:"records,omitempty" doc:"Records that a refresh looked at, and what came of it"`
}

// TakenEntity is a record made from an entity.
type TakenEntity struct {
	EntityID string `json:"entityId"`
	Kind     string `json:"kind"`
	Name     string `json:"name"`
}

// Refusal is an entity that was not taken.
type Refusal struct {
	EntityID string           `json:"entityId"`
	Finding  *finding.Finding `json:"finding"`
}

// Change is one change in the history.
type Change struct {
	ID       int64     `json:"id"`
	At       time.Time `json:"at"`
	Kind     string    `json:"kind" doc:"provider, application, aggregate, key, token or owner"`
	Name     string    `json:"name"`
	Revision int       `json:"revision,omitempty" doc:"Of the record after the change; 0 for what has no revisions"`
	Who      string    `json:"who"`
	What     string    `json:"what"`
	Why      string    `json:"why,omitempty" doc:"Remark made with the change"`
	Batch    int64     `json:"batch,omitempty" doc:"Number of the first of the changes that were made together with it"`
	// Restorable tells whether the record can be set back to this.
	Restorable bool `json:"restorable"`
}

// Revision is one change with what it did.
type Revision struct {
	Change
	Values      []federation.Value      `json:"values" doc:"The record after the change"`
	Differences []federation.Difference `json:"differences" doc:"Before and after"`
	FromNow     []federation.Difference `json:"fromNow" doc:"What restoring it would change in the record as it is"`
	Later       int64                   `json:"later,omitempty" doc:"Number of the newest change that came after it to the same record; such a change cannot be taken back"`
}
