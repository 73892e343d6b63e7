package crossing

import (
	"encoding/json"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// ProviderSide is what a protocol does towards a provider: a step machine of its
// own, so that one redirect, several pages and a header exchange all fit.
type ProviderSide interface {
	federation.ProviderSide
	Crossing
	// Step moves the provider's part on. At first In.Begins is set; afterwards it
	// gets what arrived, was submitted or answered, and what it needed.
	Step(In) Out
}

// Unproved is implemented by sides of providers that can read a pasted message.
type Unproved interface {
	// Unproved reads what a message says, without verifying anything: for trials only.
	Unproved(text string) (*Answer, error)
}

// Inquiring is implemented by sides of providers whose record says what they are asked for
// beside a sign-in.
type Inquiring interface {
	// Inquires says it in a line: what a provider says to one is no word on another.
	Inquires() string
}

// In is what a step of a provider's side goes by.
type In struct {
	Begins   bool // the provider is to be asked now
	Gate     *federation.Gate
	Provider *federation.Provider
	Crossing string          // our handle, to be carried by the provider
	Own      json.RawMessage // what the side left in the state, nil at first and for what nobody asked for
	Held     any             // what it left for this turn only
	Mine     bool            // the browser is the one that began the crossing
	Wish     Wish            // contexts in the provider's words
	Event    Event
	Facts    Facts
	Now      time.Time
}

// Out is what came of a step: exactly one of Next, Answer, Starts and Err is set.
type Out struct {
	Own      json.RawMessage
	Held     any
	Next     Next // *Leave, *Show, *Challenge or *Need
	Answer   *Answer
	Starts   bool // the provider sends somebody to sign in; Arrival.State says where to
	Err      error
	Find     []string       // the crossing may be known by one of these
	Handle   string         // further name that the answer finds the crossing by
	Effects  []Effect       // to be stored whatever comes of it
	Checks   finding.Checks // of the message that arrived
	Opened   []byte         // what had been encrypted in it
	Until    time.Time      // when what could be used of it by others ends
	Verified bool           // a signature of the provider held
	Unsaid   []string       // hints of the wish that it cannot tell the provider
	Replied  *TraceStep     // what a call brought in
	Upstream *Upstream      // with Answer: what of it is kept beside the session
}

// Upstream is what a provider gave with its word that is kept, sealed, as long as the
// session: to sign the person out there, or to ask about them again. It is never
// recorded.
type Upstream struct {
	Session string          `json:"session,omitempty"` // as the provider calls it
	Subject string          `json:"subject,omitempty"` // as it calls the person
	Tenant  string          `json:"tenant,omitempty"`  // of whose names both are, "" if the provider has but one
	Data    json.RawMessage `json:"data,omitempty"`    // the side's own
}

// ApplicationSide is what a protocol does towards an application.
type ApplicationSide interface {
	federation.ApplicationSide
	Crossing
	// Receive checks a request and takes it apart.
	Receive(g *federation.Gate, a *federation.Application, in *Arrival, now time.Time) (Request, finding.Checks, error)
	// Unasked says how to answer an application that did not ask, and where in it to go on.
	Unasked(g *federation.Gate, a *federation.Application, at Landing) (json.RawMessage, error)
	// Usual is how the application asks as far as its record tells, for trials.
	Usual(a *federation.Application) json.RawMessage
	// Naming says by what kind of name the application wants to be told the person.
	Naming(a *federation.Application, own json.RawMessage) (profile.Wanted, error)
	// Answer plans the answer.
	Answer(AnswerIn) (Plan, error)
	// Refuse plans what the application hears instead; nil if it hears nothing.
	Refuse(g *federation.Gate, a *federation.Application, own json.RawMessage, r Refusal, why *finding.Finding) Plan
}

// Consenting is implemented by sides of applications whose people are asked
// whether the application may be told.
type Consenting interface {
	// Consent says what the person has to agree to before the answer; nil for
	// nothing.
	Consent(AnswerIn) (*Consent, error)
	// InWords says what somebody agreed to, for them.
	InWords(scopes []string) []string
}

// Hearing is implemented by sides of applications that want to hear when a session
// has ended in which they were told somebody.
type Hearing interface {
	// SignedOut says whom to tell what; false if nobody wants to hear.
	SignedOut(session string, name json.RawMessage) (Notice, bool)
	// Notify makes the call, anew at each try; id is random.
	Notify(g *federation.Gate, n Notice, id string, now time.Time) (CallOctets, error)
}

// Parting is implemented by sides of providers where a session can be ended by
// sending the person there.
type Parting interface {
	// Part gives the address; back is that of the gate to which the provider sends the
	// person then, with state. False if there is none.
	Part(g *federation.Gate, p *federation.Provider, kept Upstream, state string) (address string, ok bool)
}

// Reasking is implemented by sides of providers that can tell again of somebody by what
// was kept of them, without a browser.
type Reasking interface {
	// Reask begins it, and Step goes on; false if nothing was kept that does.
	Reask(in In, word Answer, kept Upstream) (Out, bool)
}

// Starting is implemented by sides of applications that start sign-ins themselves
// when somebody opens them at the gate.
type Starting interface {
	// Start is where; false if it has no such address.
	Start(g *federation.Gate, at Landing) (string, bool, error)
}

// Landing is where in an application somebody goes on who starts at the gate.
type Landing struct {
	Target string // "" for where the application will
	// OnRecord says that an engineer set it: it may be any text. What came in an address has to lie at the application.
	OnRecord bool
}

// Consent is what a person is asked to agree to.
type Consent struct {
	Scopes []string           `json:"scopes"` // what is remembered of it
	Shown  []federation.Value `json:"shown"`  // exactly what is told, in words
	Lasts  bool               `json:"lasts"`  // the application can come back while the person is away
	Anew   bool               `json:"anew"`   // asked even if they agreed before
}

// settled reports whether what was agreed to before, nil if nothing ever was, is all that is
// asked now.
func (c *Consent) settled(agreed *[]string) bool {
	if agreed == nil || c.Anew {
		return false
	}
	return !slices.ContainsFunc(c.Scopes, func(s string) bool { return !slices.Contains(*agreed, s) })
}

// Request is what an application asks for.
type Request struct {
	Own      json.RawMessage    `json:"own,omitempty"` // how and where it wants its answer
	Wish     Wish               `json:"wish"`
	Unmet    *finding.Finding   `json:"unmet,omitempty"`    // what rules an answer out from the beginning
	Values   []federation.Value `json:"values,omitempty"`   // for people
	Verified bool               `json:"verified,omitempty"` // signed with a key on record
	Moved    bool               `json:"moved,omitempty"`    // it came by an address of its own for the first time
}

// AnswerIn is what an answer is planned from.
type AnswerIn struct {
	Gate     *federation.Gate
	App      *federation.Application
	Own      json.RawMessage
	Wish     Wish
	Released profile.Released
	Person   person.Person
	Answer   *Answer
	New      string // ID for what is made, random, no secret
	Session  string // names the session for as long as it is the same person's, told to nobody as it is
	Now      time.Time
}

// Protocol is a protocol's part in the core.
type Protocol interface {
	federation.Protocol
	// Providers and Applications say which of both it has. Their sides are
	// ProviderSide and ApplicationSide.
	Providers() bool
	Applications() bool
	// Fleeting is what of its messages differs from one crossing to the next whatever happens.
	Fleeting() Fleeting
}

// Fleeting is what of a protocol's messages is bound to differ from one crossing to the next, by the names of values,
// and what of them says nothing of a person.
type Fleeting struct {
	Drawn []string // is made anew for each message, or follows from all of it
	Timed []string // is a point in time
	Names []string // is a person's name, and differs where Once says that such names are for one session
	Once  string
	// Technical is what says nothing of a person, beside what is above.
	Technical []string
}

func providerSide(p *federation.Provider) ProviderSide { return p.Side.(ProviderSide) }

func applicationSide(a *federation.Application) ApplicationSide { return a.Side.(ApplicationSide) }
