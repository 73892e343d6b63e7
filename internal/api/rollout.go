package api

import "time"

// Rollout is how far a record is used, and how a pilot goes.
type Rollout struct {
	Phase        string         `json:"phase" enum:"draft,pilot,live,paused,retired" doc:"Now: a change that has come counts, written down or not"`
	Cohort       string         `json:"cohort,omitempty" doc:"Of a pilot: words of which one is enough"`
	Before       string         `json:"before,omitempty" doc:"Phase of before, to which phase=before goes back; absent for live"`
	BeforeCohort string         `json:"beforeCohort,omitempty" doc:"Cohort of before"`
	Since        time.Time      `json:"since" doc:"When phase or cohort changed last; figures are of sign-ins since then, or of thirty days"`
	Next         *NextPhase     `json:"next,omitempty" doc:"Change that waits for its moment"`
	People       int            `json:"people" doc:"Who are known and in the cohort; of a live record everybody"`
	Tried        int            `json:"tried" doc:"Of those: whose sign-ins were recorded since"`
	Entered      int            `json:"entered" doc:"Of those: whose newest sign-in entered"`
	Refused      int            `json:"refused" doc:"Of those: whose newest sign-in was refused"`
	Findings     []FindingCount `json:"findings" doc:"Of sign-ins that were refused"`
	Awaited      []PersonNamed  `json:"awaited" doc:"Of the cohort who has not come yet: the first twenty"`
	Old          EarlierWay     `json:"old" doc:"How the earlier way goes meanwhile: of an application sign-ins of people outside its cohort, of a provider those by others at applications that it may serve"`
	InTheWay     []InTheWay     `json:"inTheWay" doc:"What speaks against going live: findings of the checks, accounts of the application that nobody fits, people who were refused at last"`
	Sessions     []SessionLeft  `json:"sessions" doc:"Opened by a provider since: they go on after a step back; disabling a person ends theirs"`
	Made         []PersonNamed  `json:"made" doc:"People who became known by a provider since"`
	Ways         []WayTo        `json:"ways" doc:"Of an application: the ways that people may be given, and how each goes"`
}

// WayTo is a way to an application that people may be given.
type WayTo struct {
	Provider string `json:"provider"`
	Title    string `json:"title"`
	By       string `json:"by" doc:"What leads there: its record, rules of provider selection by name, or everybody's choice"`
	Phase    string `json:"phase" enum:"draft,pilot,live,paused,retired"`
	Cohort   string `json:"cohort,omitempty" doc:"Of a pilot"`
	People   int    `json:"people" doc:"Who are known, and came by it since"`
	Entered  int    `json:"entered" doc:"Of those: whose newest sign-in by it entered"`
	Refused  int    `json:"refused" doc:"Of those: whose newest sign-in by it was refused"`
}

// EarlierWay is how sign-ins beside a pilot went.
type EarlierWay struct {
	People   int            `json:"people" doc:"Who are known, and whose sign-ins were recorded since"`
	Entered  int            `json:"entered" doc:"Of those: whose newest sign-in entered"`
	Refused  int            `json:"refused" doc:"Of those: whose newest sign-in was refused"`
	OfCohort int            `json:"ofCohort" doc:"Of those: people in the cohort"`
	Unknown  int            `json:"unknown" doc:"Sign-ins of nobody who is known"`
	Findings []FindingCount `json:"findings" doc:"Of sign-ins that were refused"`
}

// InTheWay is something that speaks against going live.
type InTheWay struct {
	What     string `json:"what"`
	Code     string `json:"code,omitempty" doc:"Of a finding"`
	Severity string `json:"severity" enum:"note,warning,error"`
}

// NextPhase is a change of phase or cohort that waits.
type NextPhase struct {
	Phase  string    `json:"phase"`
	Cohort string    `json:"cohort,omitempty"`
	At     time.Time `json:"at"`
	Text   string    `json:"text" doc:"The moment as it was given, with its time zone"`
	Told   []string  `json:"told" doc:"Addresses that it is mailed to, once each"`
}

// FindingCount is how many sign-ins a finding refused.
type FindingCount struct {
	Code  string `json:"code"`
	Count int    `json:"count"`
}

// PersonNamed is somebody by number and name.
type PersonNamed struct {
	Number int64  `json:"number"`
	Name   string `json:"name"`
}

// SessionLeft is a session that goes on.
type SessionLeft struct {
	Person int64     `json:"person"`
	Name   string    `json:"name"`
	Began  time.Time `json:"began"`
}
