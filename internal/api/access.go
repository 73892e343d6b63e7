package api

import (
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// RuleFilter narrows access rules.
type RuleFilter struct {
	Application string `query:"application" maxLength:"63" doc:"Those that are looked at for it, the gate's too; absent for all"`
}

// AccessRule is an access rule, read aloud.
type AccessRule struct {
	Name        string `json:"name"`
	Title       string `json:"title"`
	Application string `json:"application,omitempty" doc:"Absent for a rule of the gate"`
	Sentence    string `json:"sentence"`
	Then        string `json:"then" enum:"allow,deny,step-up"`
	Say         string `json:"say,omitempty" doc:"What those who are denied read"`
	Holds       bool   `json:"holds" doc:"It holds at the moment"`
	Broken      bool   `json:"broken,omitempty" doc:"It cannot be read any more: whoever it may be about does not enter"`
}

// Simulation is who would want to enter an application, and how.
type Simulation struct {
	Person   int64     `json:"person" minimum:"1" doc:"Number of the account"`
	Provider string    `json:"provider,omitempty" maxLength:"63" doc:"By which they come; absent for that of their newest sign-in"`
	Context  string    `json:"context,omitempty" maxLength:"1000" doc:"Authentication context; absent for that of their newest sign-in"`
	Network  string    `json:"network,omitempty" maxLength:"50" doc:"Address of their browser; absent for none that is known"`
	SignedIn time.Time `json:"signedIn,omitzero" doc:"When they signed in at the provider; absent for just now"`
	At       time.Time `json:"at,omitzero" doc:"When they enter; absent for now"`
}

// Simulated is what would be decided.
type Simulated struct {
	Decision string           `json:"decision" enum:"allow,deny,step-up"`
	Why      []string         `json:"why" doc:"What speaks for it"`
	Asks     string           `json:"asks,omitempty" doc:"Of a step-up: the rule that asks for more"`
	Finding  *finding.Finding `json:"finding,omitempty" doc:"Of a denial: why"`
	Rules    []JudgedRule     `json:"rules" doc:"Every rule that is looked at, in order; the first that is about them decides"`
}

// JudgedRule is a rule that was looked at.
type JudgedRule struct {
	Name     string `json:"name"`
	Title    string `json:"title"`
	Sentence string `json:"sentence" doc:"The rule, read aloud"`
	Then     string `json:"then" enum:"allow,deny,step-up"`
	About    bool   `json:"about" doc:"It is about the person"`
	Why      string `json:"why,omitempty" doc:"Why it is not"`
}
