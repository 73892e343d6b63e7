package crossing

import (
	"net/url"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// EventKind is what happened.
type EventKind string

// Events.
const (
	// Opened: somebody starts at the gate.
	Opened EventKind = "opened"
	// Arrived: a message came from an application or a provider.
	Arrived EventKind = "arrived"
	// Continued: the browser comes back to a crossing, by its own address.
	Continued EventKind = "continued"
	// Chosen: the person chose a provider, or wants to choose anew.
	Chosen EventKind = "chosen"
	// Submitted: a form of ours came back.
	Submitted EventKind = "submitted"
	// Authorization: the browser answered a challenge.
	Authorization EventKind = "authorization"
	// Learned: a need is satisfied.
	Learned EventKind = "learned"
	// Lost: the guard of an effect failed.
	Lost EventKind = "lost"
	// asked begins the provider's part; only sides see it.
	asking EventKind = "asking"
)

// Event is what happened, and in which browser.
type Event struct {
	Kind    EventKind
	Browser Browser

	Arrival *Arrival        // Arrived
	App     string          // Opened: as it was asked for
	Role    string          // Opened: as what they want to enter
	Target  string          // Opened: where in the application to go on
	Start   federation.Name // Opened: its starting point, in place of Target
	Via     federation.Name // Opened, Chosen: the provider
	Again   bool            // Chosen: anew, whoever is in already
	Address string          // Chosen: the address that the person typed
	Many    bool            // Chosen: too many addresses were typed from that network
	Form    url.Values      // Submitted, to the provider's side or as what the person says to a question of ours
	Header  string          // Authorization
	Lost    Effect          // Lost

	// Told is what a side made of the message, where the event is run again from
	// what was recorded: then no message is looked at.
	Told *Told
	Said string // likewise: what the person said when they were asked to agree
	Gave *Gave  // likewise: what they did on a page that asked them something
}

// Browser is what a request tells of the browser.
type Browser struct {
	Secret  []byte // hash of the crossing's cookie, nil if it has none
	Network string // where it is, for counting
	// Run is the run of a rehearsal that it is marked for, nil for none.
	Run   *Rehearsing
	Holds bool // run again: whether the secret was the crossing's
}

// Arrival is a message as it came in, read once.
type Arrival struct {
	Protocol string
	From     Lane            // Application or Provider
	Record   federation.Name // at whose own address it came in; "" at a shared one
	// Whose finds the record by what the message says, at a shared address.
	Whose    func(*federation.Snapshot) (federation.Name, bool)
	Says     []finding.Evidence // who it says it is from, to be shown if nobody is
	Handles  []string           // what the crossing may be found by
	Message  any                // the protocol's own
	Broken   error              // why there is no message
	Indirect bool               // it came by a cross-site post, so that the session did not come along

	// As it travelled, for the trace.
	Name, Binding, State, Raw string
	Octets                    []byte
	// Asked are its parameters as they came, form-encoded, and Posted whether in a body; "" if they are of no use
	// elsewhere.
	Asked  string
	Posted bool
}

// whose finds the name of the record that a message belongs to.
func (a *Arrival) whose(s *federation.Snapshot) (federation.Name, bool) {
	if a.Record != "" || a.Whose == nil {
		return a.Record, a.Record != ""
	}
	return a.Whose(s)
}

// step begins the step of the trace that shows the arrival.
func (a *Arrival) step() TraceStep {
	return TraceStep{From: a.From, To: GateLane, Name: a.Name, Binding: a.Binding, RelayState: a.State,
		Octets: string(a.Octets), Raw: a.Raw}
}

// Told is what a side made of a message: what is recorded of it.
type Told struct {
	Request *Request         `json:"request,omitempty"`
	Answer  *Answer          `json:"answer,omitempty"`
	Refused *finding.Finding `json:"refused,omitempty"`
	Starts  bool             `json:"starts,omitempty"` // the provider sends somebody to sign in
	At      time.Time        `json:"at"`
}
