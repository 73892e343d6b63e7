package api

import (
	"encoding/json"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// MappingTrial is what mappings are tried on: a recorded sign-in, or values.
type MappingTrial struct {
	Trace       string           `json:"trace,omitempty" maxLength:"40" doc:"Reference of a recorded sign-in; its provider and application count where none is named"`
	Person      int64            `json:"person,omitempty" minimum:"0" doc:"Number of a person: their newest recorded sign-in"`
	Message     string           `json:"message,omitempty" maxLength:"400000" doc:"A pasted message of the provider: a Response or assertion, an ID token, what its user-info address said. Nothing of it is verified"`
	Provider    string           `json:"provider,omitempty" maxLength:"63" doc:"Provider whose intake is tried"`
	Application string           `json:"application,omitempty" maxLength:"63" doc:"Application whose release is tried"`
	Intake      *profile.Mapping `json:"intakeMapping,omitempty" doc:"In place of the provider's, before it is saved"`
	Release     *profile.Mapping `json:"releaseMapping,omitempty" doc:"In place of the application's, before it is saved"`
	IntakeSet   *string          `json:"intakeSet,omitempty" maxLength:"63" doc:"With intakeMapping: the set that it is laid over, in place of the provider's"`
	ReleaseSet  *string          `json:"releaseSet,omitempty" maxLength:"63" doc:"With releaseMapping: the set that it is laid over, in place of the application's"`
	Subject     string           `json:"subject,omitempty" maxLength:"1024" doc:"Without a trace: NameID or sub"`
	Attributes  []MappedValues   `json:"attributes,omitempty" maxItems:"1000" doc:"Without a trace: what the provider says"`
}

// MappedValues is an attribute or claim with its values.
type MappedValues struct {
	Name     string            `json:"name" maxLength:"2000"`
	Place    string            `json:"place,omitempty" maxLength:"40" doc:"Where the application finds it: assertion, ID token, user-info"`
	Format   string            `json:"nameFormat,omitempty" maxLength:"2000"`
	Friendly string            `json:"friendlyName,omitempty" maxLength:"2000"`
	Values   []json.RawMessage `json:"values" maxItems:"10000" doc:"Texts, numbers and booleans; a structure stands as the member structure of an object"`
}

// Mapped is what came of a trial.
type Mapped struct {
	Provider    string           `json:"provider,omitempty"`
	Application string           `json:"application,omitempty"`
	Subject     string           `json:"subject,omitempty" doc:"As the provider gave it"`
	Received    []MappedValues   `json:"received"`
	Intake      []MappedRule     `json:"intake" doc:"Each rule of the intake; none if it has none, and then everything is taken over unchanged"`
	Profile     []MappedValues   `json:"profile"`
	Release     []MappedRule     `json:"release" doc:"Each rule of the release; none if it has none, and then everything is handed on unchanged"`
	Name        string           `json:"name,omitempty" doc:"The name that the application would be told"`
	Released    []MappedValues   `json:"released" doc:"What the application would be told, by the names and in the places where it finds it"`
	Withheld    []string         `json:"withheld" doc:"What its mapping makes, and it does not ask for: by neither scope nor claim"`
	Request     string           `json:"request,omitempty" enum:"recorded,record" doc:"How the application asks: as in a recorded sign-in, or for all that its record lets it"`
	Asked       []string         `json:"asked" doc:"Attributes that the person would be asked for first"`
	Agree       []string         `json:"agree" doc:"Scopes that the person would have to agree to first"`
	Refused     *finding.Finding `json:"refused,omitempty" doc:"Why the sign-in would stop here"`
}

// EffectiveRule is a rule of a mapping as it acts, or one that a record leaves out.
type EffectiveRule struct {
	profile.Rule
	From    string `json:"of" doc:"own, or the set that it is from"`
	Omitted bool   `json:"omitted,omitempty" doc:"The set makes it, and the record leaves it out"`
}

// MappedRule is what one rule did.
type MappedRule struct {
	Rule    int               `json:"rule" doc:"From 1"`
	To      string            `json:"to"`
	Outcome string            `json:"outcome" enum:"applied,default,absent,emptied,too much,unmet"`
	Source  string            `json:"source,omitempty" doc:"What had the values"`
	Took    []json.RawMessage `json:"took,omitempty"`
	Made    []json.RawMessage `json:"made,omitempty"`
	Without []string          `json:"without,omitempty" doc:"Values that were left out, each with the cause"`
	Text    string            `json:"text" doc:"What it did, for people"`
}

// MappingProposal is a mapping that would fit a record.
type MappingProposal struct {
	Mapping profile.Mapping `json:"mapping"`
	Why     []string        `json:"why" doc:"Of each rule, in their order"`
	Without []Unproposed    `json:"without" doc:"What the application asks for, and nothing is there for"`
	SignIns int             `json:"signIns" doc:"Recorded sign-ins of late that it rests on; 0 where nobody has signed in yet"`
}

// Unproposed is an attribute that nothing is proposed for.
type Unproposed struct {
	Name string `json:"name"`
	Near string `json:"near,omitempty" doc:"A name in the profile that is near to it"`
}
