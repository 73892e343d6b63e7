// Package crossing is one sign-in passing through the gate, as pure steps:
//
//	Select → Verify → Intake → Match → Access → Release → Build
//
// Each step takes values and gives its result with its reasons, or a [Need]:
// something that has to be looked up or asked before the step can be taken
// again. The steps read no database, clock, network or randomness. Protocols
// come in through [ProviderSide] and [ApplicationSide].
package crossing

import (
	"errors"
	"io"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
)

// Step names in traces what the gate does by itself. Verify has no name of its
// own: its checks stand at the message they are about.
type Step string

// The steps, in order.
const (
	StepStart    Step = "start at the gate"
	StepContinue Step = "continue"
	StepSelect   Step = "select the provider"
	StepAsk      Step = "ask the provider"
	StepDecrypt  Step = "decrypted assertion"
	StepIntake   Step = "intake"
	StepMatch    Step = "match the person"
	StepAccess   Step = "decide access"
	StepRelease  Step = "release"
	StepBuild    Step = "build the answer"
	StepEnd      Step = "end the crossing"
	StepFailure  Step = "failure"
)

// Need is what a step lacks. It is an error, so that a step that needs
// something cannot be mistaken for one that succeeded.
type Need struct {
	Used   string            // has this assertion ID been used before?
	Person string            // which person has this link key?
	Choose []federation.Name // which of these providers does the person want?
}

// Error names the need.
func (n *Need) Error() string { return "the step needs a fact that was not given" }

// NeedOf finds the need in an error, nil if there is none.
func NeedOf(err error) *Need {
	var n *Need
	errors.As(err, &n)
	return n
}

// Reply is how and where the application wants its answer, in terms that every
// protocol has.
type Reply struct {
	InReplyTo string `json:"inReplyTo,omitempty"` // SAML: ID of the AuthnRequest
	Address   string `json:"address"`             // SAML: AssertionConsumerService
	State     string `json:"state,omitempty"`     // SAML: RelayState
	Format    string `json:"format,omitempty"`    // SAML: NameIDPolicy Format
	Held      bool   `json:"held,omitempty"`      // SAML: wanted by artifact
}

// Wish is what the application demands of the sign-in.
type Wish struct {
	Force      bool     `json:"force,omitempty"`   // SAML: ForceAuthn
	Passive    bool     `json:"passive,omitempty"` // SAML: IsPassive
	Contexts   []string `json:"contexts,omitempty"`
	Comparison string   `json:"comparison,omitempty"`
	ProxyCount int      `json:"proxyCount,omitempty"` // SAML: of Scoping; 0 for no limit
	Requesters []string `json:"requesters,omitempty"` // SAML: RequesterID of Scoping
}

// Asked is what is remembered of the question to the provider.
type Asked struct {
	ID string    `json:"id"` // SAML: ID of our AuthnRequest
	At time.Time `json:"at"`
	Wish
}

// Departure is a message that leaves with the browser.
type Departure struct {
	Message  string // standard name, for the trace
	Binding  string
	Location string
	Form     []Field // by POST; nil means a redirect
	Octets   []byte  // the message itself, for the trace
	Held     string  // handle under which the message has to be kept for a back channel
}

// Field is a hidden field of a form.
type Field struct{ Name, Value string }

// Answer is what a provider says about a person, checked.
type Answer struct {
	Subject      profile.Subject     `json:"subject"`
	Attributes   []profile.Attribute `json:"attributes,omitempty"`
	SessionIndex string              `json:"sessionIndex,omitempty"`
	AuthnInstant time.Time           `json:"authnInstant"`
	Context      string              `json:"context,omitempty"`
	Authorities  []string            `json:"authorities,omitempty"`
	Until        time.Time           `json:"until,omitzero"` // of the provider's session
	policy.Passing
}

// Used says that an assertion or code is consumed, and how long to remember it.
type Used struct {
	ID    string
	Until time.Time
}

// Verification is the outcome of Verify. Consume is set as soon as the
// signature held, whatever the rest came to.
type Verification struct {
	Answer  *Answer
	Consume *Used
	Opened  []byte // what had been encrypted, for the trace
	Reasons finding.Checks
}

// Facts are what has been looked up so far for a step.
type Facts struct {
	UsedKnown   bool // whether Used was looked up
	Used        bool
	BackChannel bool // the answer came through a back channel
}

// ProviderSide is what a protocol does towards providers.
type ProviderSide interface {
	// Ask builds the question to the provider. handle is our own relay state.
	Ask(g *federation.Gate, p *federation.Provider, a Asked, handle string) (Departure, error)
	// Verify checks an answer. asked is nil if nobody asked.
	Verify(g *federation.Gate, p *federation.Provider, octets []byte, asked *Asked, facts Facts, now time.Time) (Verification, error)
}

// Fresh is the randomness a message may need: identifiers, and octets for
// encryption.
type Fresh struct {
	Message, Assertion, Session, Name string
	Handle                            [20]byte // of an artifact
	Random                            io.Reader
}

// ApplicationSide is what a protocol does towards applications.
type ApplicationSide interface {
	// Unasked says how to answer an application that did not ask.
	Unasked(a *federation.Application) (Reply, error)
	// Build builds the answer.
	Build(g *federation.Gate, a *federation.Application, r Reply, out profile.Released, who Person, ans *Answer, f Fresh, now time.Time) (Departure, error)
	// Refuse builds what the application should hear instead of an answer; false
	// if it should hear nothing.
	Refuse(g *federation.Gate, a *federation.Application, r Reply, why *finding.Finding, f Fresh, now time.Time) (Departure, bool, error)
}

// Protocol is both sides of one protocol.
type Protocol struct {
	Provider    ProviderSide
	Application ApplicationSide
}

// Protocols are all protocols by their name on records.
type Protocols map[string]Protocol

// Select finds the provider for a crossing. It needs the person's choice where
// several are possible.
func Select(snap *federation.Snapshot, app *federation.Application, chosen federation.Name) (*federation.Provider, finding.Checks, error) {
	c, err := policy.Select(snap, app, chosen)
	if err != nil {
		return nil, c.Reasons, err
	}
	if c.Ask() {
		return nil, c.Reasons, &Need{Choose: c.Providers}
	}
	p, _ := snap.Provider(c.Providers[0])
	return p, c.Reasons, nil
}

// Intake turns what the provider said into a profile.
func Intake(p *federation.Provider, a *Answer) (profile.Profile, finding.Checks) {
	var reasons finding.Checks
	reasons.Pass("Intake", "taken over unchanged")
	return profile.PassThrough(a.Subject, a.Attributes), reasons
}

// Person is an account known to the gate.
type Person struct {
	ID  int64  // 0 for somebody not known yet
	Key string // link key; "" if the provider's name for them does not last
	// Identifier is random, made with the person, and never shown: what other
	// names are derived from.
	Identifier string
}

const formatTransient = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"

// LinkKey is what a person is recognised by when they come again: provider,
// format, qualifiers and value. A transient name gives "".
func LinkKey(p *federation.Provider, s profile.Subject) string {
	if s.Format == formatTransient {
		return ""
	}
	key := ""
	for _, part := range []string{string(p.Name), s.Format, s.NameQualifier, s.SPNameQualifier, s.Value} {
		key += part + "\x1f"
	}
	return key
}

// Match finds the person. known is nil until the need was satisfied; an ID of 0
// in it means that nobody has the key, so the person is new.
func Match(p *federation.Provider, who profile.Profile, known *Person) (Person, finding.Checks, error) {
	var reasons finding.Checks
	key := LinkKey(p, who.Subject)
	switch {
	case key == "":
		reasons.Pass("Person", "transient name: known for this session only")
		return Person{}, reasons, nil
	case known == nil:
		return Person{}, nil, &Need{Person: key}
	case known.ID == 0:
		reasons.Pass("Person", "new: first sign-in with this name")
	default:
		reasons.Pass("Person", "known")
	}
	return Person{ID: known.ID, Key: key, Identifier: known.Identifier}, reasons, nil
}

// Access decides whether the person may enter.
func Access(app *federation.Application, a *Answer) (finding.Checks, error) {
	return policy.Access(app, a.Passing)
}

// Release makes what the application is told.
func Release(app *federation.Application, p profile.Profile) (profile.Released, finding.Checks) {
	var reasons finding.Checks
	reasons.Pass("Release", "handed on unchanged")
	return p.Release(), reasons
}
