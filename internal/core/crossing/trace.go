package crossing

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/reason"
)

// Lane is a party in the picture of a crossing, always in this order.
type Lane string

// Lanes.
const (
	BrowserLane Lane = "browser"
	Application Lane = "application"
	GateLane    Lane = "gate"
	Provider    Lane = "provider"
)

// Step names of what the gate does by itself. The judging of a message has none
// of its own: its checks stand at the message they are about.
const (
	StepStart    = "start at the gate"
	StepContinue = "continue"
	StepSelect   = "select the provider"
	StepAsk      = "ask the provider"
	StepDecrypt  = "decrypted assertion"
	StepIntake   = "intake"
	StepMatch    = "match the person"
	StepAccess   = "decide access"
	StepRelease  = "release"
	StepAgree    = "consent"
	StepQuestion = "question"
	StepBuild    = "build the answer"
	StepEnd      = "end the crossing"
	StepFailure  = "failure"
)

// TraceStep is one recorded step of a crossing: a message from one lane to
// another, or, where From and To are both the gate, something it decided.
type TraceStep struct {
	At         time.Time          `json:"at"`
	From       Lane               `json:"from"`
	To         Lane               `json:"to"`
	Name       string             `json:"name"`              // standard name of the message, or of the step
	Binding    string             `json:"binding,omitempty"` // of a message
	Address    string             `json:"address,omitempty"` // where the message went
	RelayState string             `json:"relayState,omitempty"`
	Octets     string             `json:"octets,omitempty"` // the message, decoded
	Raw        string             `json:"raw,omitempty"`    // the message as it travelled
	Cut        int                `json:"cut,omitempty"`    // octets of the message that were not kept
	HoldUntil  time.Time          `json:"holdUntil,omitzero"`
	Values     []federation.Value `json:"values,omitempty"` // what was asked for, or sent
	Reasons    reason.Reasons     `json:"reasons,omitempty"`
	Checks     finding.Checks     `json:"checks,omitempty"`
	Finding    *finding.Finding   `json:"finding,omitempty"` // what refused here
}

// Results of a crossing.
const (
	Waiting = "waiting" // the browser has not come back yet
	Entered = "entered" // an answer was handed to the browser for the application
	Refused = "refused"
	Left    = "left" // the browser never came back
	// SignedOut is that of the end of a session, which is no sign-in.
	SignedOut = "signed out"
)

// Results are all of them.
var Results = [...]string{Entered, Refused, Waiting, Left, SignedOut}
