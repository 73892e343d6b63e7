package crossing

import (
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// Lane is a party in the picture of a crossing, always in this order.
type Lane string

// Lanes.
const (
	Browser     Lane = "browser"
	Application Lane = "application"
	GateLane    Lane = "gate"
	Provider    Lane = "provider"
)

// TraceStep is one recorded step of a crossing: a message from one lane to
// another, or, where From and To are both the gate, something it decided.
type TraceStep struct {
	At         time.Time        `json:"at"`
	From       Lane             `json:"from"`
	To         Lane             `json:"to"`
	Name       string           `json:"name"`              // standard name of the message, or of the step
	Binding    string           `json:"binding,omitempty"` // of a message
	Address    string           `json:"address,omitempty"` // where the message went
	RelayState string           `json:"relayState,omitempty"`
	Octets     string           `json:"octets,omitempty"` // the message, decoded
	Raw        string           `json:"raw,omitempty"`    // the message as it travelled
	HoldUntil  time.Time        `json:"holdUntil,omitzero"`
	Checks     finding.Checks   `json:"checks,omitempty"`
	Finding    *finding.Finding `json:"finding,omitempty"` // what refused here
}

// Results of a crossing.
const (
	Waiting = "waiting" // the browser has not come back yet
	Entered = "entered" // an answer was handed to the browser for the application
	Refused = "refused"
)
