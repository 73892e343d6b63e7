// Package bundle is what somebody takes along of a sign-in, of a rehearsal or of a connection, to show it to another:
// how things are set, what passed, what was found, and when what was changed. What is of a person is masked unless it
// is asked for: equal values have equal masks, so they can still be compared.
package bundle

import (
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
)

// Bundle is all that is taken along. No secret is in it: it is made of what is shown.
type Bundle struct {
	Kind      string             `json:"kind"` // trace, rehearsal or connection
	Of        string             `json:"of"`
	Title     string             `json:"title"`
	Gate      string             `json:"gate"` // base address
	Version   string             `json:"version"`
	Masked    bool               `json:"masked"`
	Rehearsal *Rehearsed         `json:"rehearsal,omitempty"`
	Findings  []*finding.Finding `json:"findings,omitempty"` // of the checks
	SignIns   []RecordedSignIn   `json:"signIns,omitempty"`
	Records   []SetRecord        `json:"records,omitempty"`
	TimeLine  []Moment           `json:"timeLine,omitempty"`
}

// Rehearsed is a rehearsal, and what a run of it came to.
type Rehearsed struct {
	Name     string             `json:"name"`
	Settings []federation.Value `json:"settings"`
	Run      int64              `json:"run,omitempty"` // 0 if it was never run
	Began    time.Time          `json:"began,omitzero"`
	Verdict  *rehearsal.Verdict `json:"verdict,omitempty"`
	Halted   string             `json:"halted,omitempty"`
	Told     []federation.Value `json:"told,omitempty"`
	Said     *rehearsal.Word    `json:"said,omitempty"`
}

// RecordedSignIn is one recorded sign-in.
type RecordedSignIn struct {
	Reference   string         `json:"reference"`
	Started     time.Time      `json:"started"`
	Application string         `json:"application,omitempty"`
	Provider    string         `json:"provider,omitempty"`
	Person      string         `json:"person,omitempty"`
	StartedBy   string         `json:"startedBy,omitempty"`
	Result      string         `json:"result"`
	Finding     string         `json:"finding,omitempty"`
	Millis      int64          `json:"millis,omitempty"`
	Steps       []RecordedStep `json:"steps,omitempty"`
}

// RecordedStep is one step of a sign-in. Its message is decoded; as it travelled, it is left out.
type RecordedStep struct {
	After   int64              `json:"after"` // milliseconds since the first
	From    string             `json:"from"`
	To      string             `json:"to"`
	Name    string             `json:"name"`
	Binding string             `json:"binding,omitempty"`
	Address string             `json:"address,omitempty"`
	Message string             `json:"message,omitempty"`
	Cut     int                `json:"cut,omitempty"` // octets of the message that are not on record
	Values  []federation.Value `json:"values,omitempty"`
	Checks  finding.Checks     `json:"checks,omitempty"`
	Finding *finding.Finding   `json:"finding,omitempty"`
}

// SetRecord is a provider or an application as it is set, without secrets.
type SetRecord struct {
	Kind     string             `json:"kind"`
	Name     string             `json:"name"`
	Title    string             `json:"title"`
	Protocol string             `json:"protocol"`
	Phase    string             `json:"phase"`
	Revision int                `json:"revision"`
	Values   []federation.Value `json:"values"`
	Given    []federation.Value `json:"given,omitempty"` // what the other side is given by the gate
}

// Moment is one change.
type Moment struct {
	At   time.Time `json:"at"`
	Who  string    `json:"who"`
	What string    `json:"what"`
}

// JSON is the bundle as a document; the same for the same contents.
func (b Bundle) JSON() ([]byte, error) { return json.MarshalIndent(b, "", "  ") }

// Digest is short for all that is in the bundle: what is written is what was looked at.
func (b Bundle) Digest() (string, error) {
	octets, err := json.Marshal(b)
	if err != nil {
		return "", fmt.Errorf("a bundle that is no document: %w", err)
	}
	sum := sha256.Sum256(octets)
	return hex.EncodeToString(sum[:8]), nil
}
