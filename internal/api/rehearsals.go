package api

import (
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
)

// Rehearsal is a saved sign-in test, with what its newest run came to.
type Rehearsal struct {
	Name        string          `json:"name"`
	Title       string          `json:"title"`
	Application string          `json:"application"`
	Provider    string          `json:"provider,omitempty" doc:"Absent where the rules decide"`
	Start       string          `json:"start" doc:"Which side starts: application, gate or provider"`
	Expect      []string        `json:"expect" doc:"What is expected, a line each"`
	State       rehearsal.State `json:"state,omitempty" doc:"What the newest run that has ended came to; absent if there was none"`
	At          time.Time       `json:"at,omitzero" doc:"When that ended"`
	Before      bool            `json:"before,omitempty" doc:"Something that the rehearsal goes by has been changed since"`
	Run         int64           `json:"run,omitempty" doc:"Number of that run"`
	Username    string          `json:"username,omitempty" doc:"Of the test account with which it runs by itself"`
	Account     *TestAccount    `json:"account,omitempty" doc:"That account; absent while it has no password on record"`
	Next        time.Time       `json:"next,omitzero" doc:"When it runs by its schedule next"`
}

// TestAccount is an account at a provider with which rehearsals sign in while nobody is there. Its password is never
// given out.
type TestAccount struct {
	Provider string           `json:"provider"`
	Username string           `json:"username"`
	Hosts    []string         `json:"hosts" doc:"Whose forms may be given the password; https"`
	Given    time.Time        `json:"given" doc:"When the password was given"`
	By       string           `json:"by"`
	Refused  time.Time        `json:"refused,omitzero" doc:"When the provider did not take it; nothing is tried with it since"`
	Finding  *finding.Finding `json:"finding,omitempty"`
}

// TestPassword is the password of a test account.
type TestPassword struct {
	Named
	Body struct {
		Password string `json:"password" minLength:"1" maxLength:"1000" doc:"Kept sealed, and never shown"`
	}
}

// TourStop is one classic mistake of the tour.
type TourStop struct {
	Name      string `json:"name"`
	Title     string `json:"title"`
	Story     string `json:"story" doc:"How it comes about"`
	Rehearsal string `json:"rehearsal" doc:"That fails by it"`
	Finding   string `json:"finding,omitempty" doc:"That explains it; absent where a line of the verdict does"`
	Mend      string `json:"mend" doc:"What mending it does, on which side"`
	AtGate    bool   `json:"atGate,omitempty" doc:"It is mended at the gate, not at the other side"`
	Broken    bool   `json:"broken,omitempty" doc:"The mistake is in force"`
	Run       int64  `json:"run,omitempty" doc:"The newest run of this stop"`
}

// PastFilter says which runs a chart shows.
type PastFilter struct {
	Rehearsal string `query:"rehearsal" maxLength:"63"`
	Days      int    `query:"days" minimum:"1" maximum:"366" default:"30"`
}

// PastRun is what a chart shows of a run.
type PastRun struct {
	ID         int64           `json:"id"`
	Rehearsal  string          `json:"rehearsal"`
	Ended      time.Time       `json:"ended"`
	State      rehearsal.State `json:"state"`
	Took       int64           `json:"took,omitempty" doc:"Milliseconds of its last sign-in"`
	Unattended bool            `json:"unattended,omitempty"`
}

// Run is one run of a rehearsal.
type Run struct {
	ID          int64             `json:"id"`
	Rehearsal   string            `json:"rehearsal"`
	Title       string            `json:"title"`
	Application string            `json:"application"`
	Provider    string            `json:"provider,omitempty"`
	Start       string            `json:"start"`
	By          string            `json:"by" doc:"Who started it"`
	Unattended  bool              `json:"unattended,omitempty" doc:"The gate goes through it by itself"`
	Began       time.Time         `json:"began"`
	Ends        time.Time         `json:"ends" doc:"When it ends by itself, with everything that it gave"`
	Ended       time.Time         `json:"ended,omitzero"`
	Link        string            `json:"link,omitempty" doc:"Opened in the browser of whoever rehearses; it works once and is shown once"`
	Value       string            `json:"value,omitempty" doc:"Of a service, in place of a link: what its token request carries as the parameter rehearsal; shown once"`
	Pressed     time.Time         `json:"pressed,omitzero" doc:"When the link was used up"`
	Stage       rehearsal.Stage   `json:"stage" doc:"How far it came"`
	Verdict     rehearsal.Verdict `json:"verdict"`
	Halted      string            `json:"halted,omitempty" doc:"What it usually means where it stopped"`
	Said        *rehearsal.Word   `json:"said,omitempty" doc:"What the application did, as the tester says"`
	Told        []RunTold         `json:"told,omitempty" doc:"What the application was told"`
	Name        string            `json:"name,omitempty" doc:"NameID or subject that the application was told"`
	Person      int64             `json:"person,omitempty" doc:"Number of the account of whoever came"`
	Traces      []string          `json:"traces,omitempty" doc:"Reference numbers of its sign-ins"`
	// Steps are those of its sign-ins so far, as they passed.
	Steps []crossing.TraceStep `json:"steps,omitempty"`
}

// RunTold is one attribute or claim that an application was told.
type RunTold struct {
	Name   string   `json:"name"`
	Values []string `json:"values"`
}

// RunWord is what the tester saw the application do.
type RunWord struct {
	Symptom rehearsal.Symptom `json:"symptom" enum:"let-in,error,empty-page,wrong-person,empty-account"`
	Text    string            `json:"text,omitempty" maxLength:"4000" doc:"Of the error, as the application showed it"`
}

// RunFilter says which page of the runs of a rehearsal.
type RunFilter struct {
	Named
	Limit  int `query:"limit" minimum:"1" maximum:"100" default:"20"`
	Offset int `query:"offset" minimum:"0"`
}

// RehearsalFilter narrows rehearsals.
type RehearsalFilter struct {
	Application string `query:"application" maxLength:"63"`
	Search      string `query:"search" maxLength:"200" doc:"Part of a name, title, application or provider"`
}

// SaidOfRun is what is said of a run.
type SaidOfRun struct {
	Numbered
	Body RunWord
}

// RehearsalProposal asks for a rehearsal as a connection stands, or as a sign-in went.
type RehearsalProposal struct {
	Application string `query:"application" maxLength:"63" doc:"Short name; of a proposal for somebody"`
	Person      int64  `query:"person" minimum:"0" doc:"Number of the account"`
	Provider    string `query:"provider" maxLength:"63"`
	Trace       string `query:"trace" maxLength:"40" doc:"Reference number of a sign-in that is kept as a rehearsal"`
}

// ProposedRehearsal is one that can be saved as it is.
type ProposedRehearsal struct {
	Title       string   `json:"title"`
	Application string   `json:"application"`
	Provider    string   `json:"provider,omitempty"`
	Start       string   `json:"start"`
	Expect      []string `json:"expect"`
}

// MadePerson is somebody of whom a rehearsal made an account.
type MadePerson struct {
	Person int64     `json:"person" doc:"Number of the account"`
	Name   string    `json:"name,omitempty"`
	Run    int64     `json:"run"`
	At     time.Time `json:"at"`
}

// Proof is how far a connection was proved.
type Proof struct {
	Rehearsal string          `json:"rehearsal"`
	Title     string          `json:"title"`
	Start     string          `json:"start"`
	State     rehearsal.State `json:"state,omitempty"`
	At        time.Time       `json:"at,omitzero"`
	Before    bool            `json:"before,omitempty" doc:"Something was changed since"`
}

// TraceNews is what happens, while it happens.
type TraceNews struct {
	Trace    string               `json:"trace"`
	Head     *TraceHead           `json:"head,omitempty"`
	Steps    []crossing.TraceStep `json:"steps,omitempty"`
	Findings []*finding.Finding   `json:"findings,omitempty"`
	Missed   int64                `json:"missed,omitempty" doc:"How many were left out because they came faster than they were read"`
}

// Stream is a stream of events (HTML, server-sent events), whose data are events in JSON.
type Stream[Event any] struct{}
