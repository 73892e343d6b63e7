package crossing

import (
	"encoding/json"
	"io"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
)

// Turn is what came of an event.
type Turn struct {
	State   State
	Effects []Effect // to be stored together, before anything leaves
	Next    Next
	Steps   []TraceStep
	Result  string           // for the trace: Waiting, Entered, Refused; "" while a need is open, or for nothing to tell
	Finding *finding.Finding // what refused
	Apart   bool             // what was refused concerns no crossing, or somebody else's: the state stays as it was
	About   Head
	Told    *Told // what a side made of the message, to be recorded
	Broken  error // a fault of our own, for the log
	// Verified says that a counterpart proved to be one, now or before: what comes
	// of strangers is kept more sparingly.
	Verified bool
	Decided  Decision
	Entry    policy.Entry    // of a turn in which entry was decided, by what
	Way      *federation.Way // rule of provider selection that decided, of a turn in which one did
	Person   person.Person   // who entered
	Gave     *Gave           // what the person did on a page that asked something
	Run      *Rehearsing     // of a rehearsal
}

// Grounds say what was decided by in a turn: a rule of provider selection, and what entry was decided by.
func (t Turn) Grounds() (out []string) {
	if t.Way != nil {
		out = append(out, "way "+string(t.Way.Name))
	}
	if g := t.Entry.Ground(); g != "" {
		out = append(out, g)
	}
	return out
}

// Head is what a trace is found by.
type Head struct{ Application, Provider, Person, StartedBy string }

// Next is what comes next: one of *Leave, *Go, *Show, *Challenge, *Lacks.
type Next interface{ next() }

// Leave is a message that leaves with the browser.
type Leave struct {
	To   Lane
	Plan Plan
}

// Go sends the browser to an address, without a message.
type Go struct {
	To     string
	Asked  string // parameters that go with it, form-encoded, as they came
	Posted bool   // in a body
}

// Page is a page of the gate's own.
type Page string

// Pages.
const (
	PageRefused  Page = "refused"
	PageChoose   Page = "choose"
	PageFinished Page = "finished" // a reloaded answer: already signed in
	PageForm     Page = "form"     // of a provider's side, or a question of the gate's own
	PageAgree    Page = "agree"    // whether an application may be told
)

// Show shows a page.
type Show struct {
	Page     Page
	App      string // title of the application, if it is known
	Choices  []Choice
	Form     *Form
	Continue string // address to go on to
	Again    string // address where the person can choose another way, if there is one
	Agree    *Agree
	Address  *AddressAsked
	Refusal  *RefusalRead
	Portal   bool // it is for the gate's own portal
}

// RefusalRead is what somebody can do who reads why they may not enter, before the application hears of it.
type RefusalRead struct {
	Question  string // number of the page
	Owner     string // whom to ask
	MayAsk    bool   // for entry, here
	Requested bool   // they did
}

// AddressAsked is the question for the person's e-mail address, whose domain says where they sign in.
type AddressAsked struct {
	Typed string // before
	Wrong string // what was wrong with it, "" for nothing
}

// Agree is the question whether an application may be told.
type Agree struct {
	Consent
	Digest string // of what is shown, in this browser: what the person says is about this
	Policy string // address of the application's privacy policy, "" if none is known
}

// Choice is one provider a person may choose.
type Choice struct{ Name, Title string }

// Form is what a provider's side wants to know of the person.
type Form struct {
	Title, Text string
	Wrong       string // what was wrong with what was typed, "" for nothing
	Fields      []Input
	Submit      string   // on the button, "" for none
	Options     []Choice // in place of fields: one of them is chosen
	Option      string   // by which name it is sent
	Also        []Choice // what else can be done
	Question    string   // number of the question, in questions of the gate's own
}

// Input is one field of a form.
type Input struct {
	Name, Label string
	Secret      bool   // not to be shown, and never to be recorded
	Code        bool   // it is a code of digits
	Type        string // of the field, as browsers know it (HTML §4.10.5), "" for text
	Autofill    string // what browsers may offer (HTML §4.10.18.7.1)
	Fill        string
	Hint        string
}

// Challenge asks the browser itself to prove who sits at it (RFC 9110 §11.6.1).
type Challenge struct {
	Schemes []string // values of WWW-Authenticate
	Show    Show     // for browsers that cannot
}

func (*Leave) next()     {}
func (*Go) next()        {}
func (*Show) next()      {}
func (*Challenge) next() {}

// Plan is a message that is decided and not yet made.
type Plan interface {
	// Render makes the octets. It decides nothing.
	Render(g *federation.Gate, m Made) (Rendered, error)
	// Sent says what goes out, for people: names, formats, attributes, how it is
	// signed. It is part of what equal inputs give equally.
	Sent() []federation.Value
}

// Issuing is implemented by plans by which an application is given something beside the message.
type Issuing interface{ Issues() Issue }

// Issue is what an application is given with an answer. It is decided before the answer is made, and stored with the
// end of the crossing.
type Issue struct {
	Session string       // name under which the application is told of the session
	Name    any          // by which it is told the person, to be kept for sign-out; nil for nothing
	Subject string       // derived for this person and application, to be told from now on; "" if none was
	Grant   *grant.Grant // what it can redeem; of the person who enters
	As      string       // the name that it is told, as it reads it
	Format  string       // of that, where the protocol has one
}

// Holding is implemented by plans whose message may wait for a back channel.
type Holding interface{ Holds() bool }

// Noting is implemented by plans that leave something out, for the trace.
type Noting interface{ Notes() finding.Checks }

// Made is what may be random in a message, made by whoever drives and never
// recorded.
type Made struct {
	Random io.Reader
	Now    time.Time
	// Secret opens a credential that a plan names.
	Secret func(name string) (string, error)
}

// Rendered is a message as it leaves.
type Rendered struct {
	Departure
	Hold *Hold // of a plan that holds
}

// Departure is a message that leaves with the browser.
type Departure struct {
	Message  string // standard name, for the trace
	Binding  string
	Location string
	Shown    string    // what the trace shows in place of Location and Form, where these hold secrets
	Form     []Field   // by POST; nil means a redirect
	Octets   []byte    // the message itself, for the trace
	Until    time.Time // when what could be used of it by others ends; zero if nothing could
}

// Field is a hidden field of a form.
type Field struct{ Name, Value string }

// Hold is a message to be kept for a back channel.
type Hold struct {
	Key    string // by which it is asked for; a secret
	Octets []byte
	Until  time.Time
}

// Call is something outside that has to be asked.
type Call struct {
	Name      string // of the message, for the trace
	Binding   string
	Address   string
	Plan      CallPlan
	Limit     int64 // of the answer, in octets
	Unreached finding.Code
	Get       bool // nothing is posted
	AnyStatus bool // an answer of any status is one, and so is its body
}

// CallPlan is a call that is decided and not yet made.
type CallPlan interface {
	Render(g *federation.Gate, m Made) (CallOctets, error)
}

// CallOctets is a call as it goes out.
type CallOctets struct {
	Header map[string]string
	Body   []byte // posted
	Shown  []byte // for the trace; secrets left out
	// Secrets are texts that are not believed, kept or shown where they come back.
	Secrets []string
}

// PutUpstream keeps what a provider gave with its word.
type PutUpstream struct {
	Provider federation.ID
	Upstream
}

// Effect is something to be stored. Each has a guard; one that fails comes back
// as the event Lost.
type Effect interface{ Effect() }

// Once consumes something that counts only once. Its guard: nobody did before.
type Once struct {
	Provider federation.Name `json:"provider"`
	ID       string          `json:"id"`
	Until    time.Time       `json:"until"` // how long to remember it
	// As is the finding if it was used before, "" for that of an assertion.
	As finding.Code `json:"as,omitempty"`
}

// ChangePerson stores what becomes of the person by this sign-in, all of it at once: their account, link and values,
// where they belong, and by what the application knows them. Its guards are those of the change; Lost names the one
// that failed.
type ChangePerson struct {
	person.Change
	Make []federation.Unit // groups that are made for it, where there are none of the name
	Run  string            // of a rehearsal that makes what it makes, "" for none
	Lost person.Guard
}

// PutSession gives the browser a session in place of the one it had. The words
// of its person are in it; a session of somebody else ends, with everything that
// hangs on it. Its guard: the old one is there as it was decided on or, if there was none,
// no other crossing of this browser ended in one meanwhile; and the person may be let in.
type PutSession struct {
	Session  Session
	Old      string // lasting name of the session before, "" if there was none
	Revision int    // of that
	Same     bool   // the old one was of the same person: what hangs on it stays
	// Rename gives the browser another cookie. Without, it has one of this session already
	// that did not come along, or that another tab is just being given.
	Rename bool
}

// Issued notes what an application was told in the session. Its guard: the session is there,
// and its person may be let in; likewise those of Give, PutUpstream and PutConsent.
type Issued struct {
	App     federation.ID
	Session string // as it is told the session
	Name    any    // and the person; nil if it is told nothing
	Once    bool   // it may have been told the same before: once is enough
}

// Enter counts an entry to an application, and keeps what it was told by it: people see that on their own page. Of
// somebody without an account nothing is kept. Its guard: its person may be let in.
type Enter struct {
	App  federation.ID
	Told []Delivered
}

// HoldMessage keeps the message that leaves for a back channel.
type HoldMessage struct{ App federation.Name }

// Give keeps the grant that the application can redeem, with the provider's word
// that it rests on.
type Give struct {
	Grant grant.Grant
	Word  Answer
	Run   string // of a rehearsal: the grant ends with it
}

// PutConsent remembers what the person agreed to that an application may be told.
type PutConsent struct {
	App    federation.ID
	Scopes []string
}

// Queue sends a call later, and again until it is answered.
type Queue struct {
	Address string            `json:"address"`
	Header  map[string]string `json:"header,omitempty"`
	Body    []byte            `json:"body"`
	Until   time.Time         `json:"until"` // when to give up
}

// Notice is that somebody has signed out, to be told an application through the
// back channel until it has heard.
type Notice struct {
	Address string          `json:"address"`
	Session string          `json:"session"` // as it was told the session
	Name    json.RawMessage `json:"name"`    // and the person
}

// Moved notes that an application has come by an address of its own.
type Moved struct{ App federation.Name }

// Tried counts a try that failed, by key and network.
type Tried struct{ Key string }

// RequestEntry has somebody ask for entry to an application: once, while nobody has decided on it.
type RequestEntry struct{ App federation.ID }

// Keep stores the state, so that the next turn finds it. Its guard: nobody else
// moved the crossing on.
type Keep struct{}

// End ends the crossing. Its guard: nobody else did.
type End struct{}

func (Once) Effect()         {}
func (Enter) Effect()        {}
func (RequestEntry) Effect() {}

func (PutSession) Effect()   {}
func (Issued) Effect()       {}
func (HoldMessage) Effect()  {}
func (Give) Effect()         {}
func (PutConsent) Effect()   {}
func (Queue) Effect()        {}
func (Moved) Effect()        {}
func (Tried) Effect()        {}
func (PutUpstream) Effect()  {}
func (ChangePerson) Effect() {}
func (Keep) Effect()         {}
func (End) Effect()          {}
