package crossing

import (
	"cmp"
	"encoding/json"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
)

// Life is how long a crossing may take.
const Life = 10 * time.Minute

// SessionLife is how long a sign-in counts here, unless the provider limits it, or
// the gate is configured otherwise.
const SessionLife = 8 * time.Hour

// MaxTurns is how often one crossing may be moved on by the browser.
const MaxTurns = 60

// Mode says what a crossing is for.
type Mode string

// Modes.
const (
	Real      Mode = ""
	Rehearsal Mode = "rehearsal"
	Simulated Mode = "simulated"
)

// Stage is where a crossing stands between two turns.
type Stage string

// Stages.
const (
	Begun      Stage = "begun"      // the application's request was accepted
	Choosing   Stage = "choosing"   // the person is asked by which way
	Agreeing   Stage = "agreeing"   // the person is asked whether the application may be told
	Questioned Stage = "questioned" // the person is asked who they are, or for what is missing
	Refusing   Stage = "refusing"   // the person reads why they may not enter, before the application hears of it
	Asked      Stage = "asked"      // the provider's turn
	Ended      Stage = "ended"
)

// State is a crossing between two turns. What a protocol keeps in it is opaque to
// everybody else.
type State struct {
	ID        string          `json:"id"`
	Mode      Mode            `json:"mode,omitempty"`
	Run       *Rehearsing     `json:"run,omitempty"` // of a rehearsal
	Stage     Stage           `json:"stage"`
	App       federation.Name `json:"app"`
	AppID     federation.ID   `json:"appId,omitempty"`
	Legs      []Leg           `json:"legs,omitempty"`
	Chosen    federation.Name `json:"chosen,omitempty"` // the person's choice
	Typed     string          `json:"typed,omitempty"`  // what the person typed as their address
	Many      bool            `json:"many,omitempty"`   // too many addresses were typed from their network
	Moved     bool            `json:"moved,omitempty"`  // they were sent on to their own way
	Wish      Wish            `json:"wish"`
	AppState  json.RawMessage `json:"appState,omitempty"`
	Step      *Stepping       `json:"step,omitempty"`      // what an access rule had the provider asked for once more
	Person    int64           `json:"person,omitempty"`    // once they are known
	Question  string          `json:"question,omitempty"`  // number of the page that asks, random; see digest
	Given     []person.Given  `json:"given,omitempty"`     // what the person said when they were asked
	Picked    int64           `json:"picked,omitempty"`    // which account they chose
	Role      string          `json:"role,omitempty"`      // which role they chose
	Proof     *person.Proving `json:"proof,omitempty"`     // under way, by a mailed code
	Mails     int             `json:"mails,omitempty"`     // codes mailed so far
	Asked     string          `json:"asked,omitempty"`     // parameters with which the application asked, for its earlier sign-in
	Posted    bool            `json:"posted,omitempty"`    // and whether in a body
	Requested bool            `json:"requested,omitempty"` // they asked for entry
	Said      string          `json:"said,omitempty"`      // what the page that asks told last of what was wrong
	Browser   Tie             `json:"browser,omitzero"`    // which one it is tied to
	StartedBy string          `json:"startedBy"`           // application, gate or provider
	Began     time.Time       `json:"began"`
	Turns     int             `json:"turns"`
	Kept      bool            `json:"kept,omitempty"`     // it was stored before
	Verified  bool            `json:"verified,omitempty"` // a signature of a counterpart held

	here *here // of this turn only, never stored
}

// Stepping is what an access rule asks for beside what the application does.
type Stepping struct {
	Rule    federation.Name `json:"rule"`
	Context string          `json:"context,omitempty"`
	MaxAge  time.Duration   `json:"maxAge,omitempty"`
}

// over is what the provider is asked for: what the application wishes, and the rule demands.
func (s *Stepping) over(w Wish) Wish {
	if s == nil {
		return w
	}
	if s.Context != "" {
		w.Contexts, w.Comparison, w.Voluntary = []string{s.Context}, federation.CompareMinimum, false
	}
	if s.MaxAge > 0 && (w.MaxAge == 0 || s.MaxAge < w.MaxAge) {
		w.MaxAge = s.MaxAge
	}
	return w
}

// Tie is what ties a crossing to the browser that began it.
type Tie struct {
	Secret  []byte `json:"secret,omitempty"`  // hash of the cookie; made by whoever drives
	Network string `json:"network,omitempty"` // where it was begun
	// Session is the lasting name of the session that the browser came with last. The
	// session's own cookie does not come along with a cross-site post.
	Session string `json:"session,omitempty"`
}

// here is what is true in this turn only: messages as they were parsed, what
// came of them, and what is to be told and stored at its end.
type here struct {
	resume  func(*drive) step // where to go on when a need is satisfied
	held    any               // the provider side's own: a parsed message
	call    *Call             // under way
	called  time.Time         // since when
	looked  bool              // the crossing was looked for by what the message says
	answer  *Answer
	by      *Session        // the session the person is in by
	consent *Consent        // what the person has to agree to
	agreed  []string        // to what they agreed just now
	plan    Plan            // of the answer, once it is planned
	who     profile.Profile // as it came
	person  person.Person
	seen    person.Seen // how they were looked for
	stands  *person.Standing
	gave    *Gave
	again   bool  // the link was looked up again
	stage   Stage // before the crossing ended in this turn
	effects []Effect
	steps   []*TraceStep
	arrived int // place of the message which arrived, -1 if none did
	at      int // place of the step which is being taken
	apart   bool
	marked  bool // a message of a provider came from a browser that is marked for a rehearsal
	anew    bool
	reshown bool // the browser came back to the page, having done nothing
	// verified says that a counterpart's signature held in this turn.
	verified bool
	about    Head
	told     *Told
	decided  Decision
	entry    policy.Entry
	way      *federation.Way // rule of provider selection that decided
}

// copied gives a copy that shares nothing a turn changes; that of nil is of a turn in which nothing was yet.
func (h *here) copied() *here {
	if h == nil {
		return &here{}
	}
	out := *h
	out.effects = slices.Clone(h.effects)
	out.steps = make([]*TraceStep, len(h.steps))
	for i, s := range h.steps {
		c := *s
		out.steps[i] = &c
	}
	return &out
}

// Resting gives the state as it is kept between two turns: without messages and
// everything else that is true in one turn only.
func (s State) Resting() State {
	s.here = nil
	return s
}

// PauseLife is how long after its beginning one is over in which the person was asked
// something: they may have to find a message first.
const PauseLife = time.Hour

// Expires is when the crossing is over, finished or not.
func (s State) Expires() time.Time {
	if s.Question != "" {
		return s.Began.Add(PauseLife)
	}
	return s.Began.Add(Life)
}

// Authentication is that a provider vouched for somebody.
type Authentication struct {
	Provider   federation.Name `json:"provider"`
	ProviderID federation.ID   `json:"providerId,omitempty"`
	Issuer     string          `json:"issuer,omitempty"` // the provider's identity when it did
	At         time.Time       `json:"at"`               // when the person proved who they are, zero if that is not known
	Said       time.Time       `json:"said,omitzero"`    // when the provider said so, where it does not tell the other
	Context    string          `json:"context,omitempty"`
	Methods    []string        `json:"methods,omitempty"`
	Until      time.Time       `json:"until,omitzero"` // of the provider's session, zero if it does not say
	// Network is that of the browser when something was given by it, and Entered when that was: rules about networks
	// and ages are judged by that where there is no browser any more.
	Network string    `json:"network,omitempty"`
	Entered time.Time `json:"entered,omitzero"`
	Role    string    `json:"role,omitempty"` // with which they entered, where one was asked for or chosen
	policy.Passing
}

// given is a word as it is kept with what is given by it: with where the browser was, as what
// somebody entered, and when.
func (a Answer) given(network, role string, now time.Time) Answer {
	a.Network, a.Role, a.Entered = network, role, now
	return a
}

// When is when the person proved who they are or, where the provider does not tell, when
// it said that they did: they did not later.
func (a *Authentication) When() time.Time {
	if a.At.IsZero() {
		return a.Said
	}
	return a.At
}

// Answer is what a provider says about a person, checked.
type Answer struct {
	Authentication
	Subject      profile.Subject     `json:"subject"`
	Attributes   []profile.Attribute `json:"attributes,omitempty"`
	SessionIndex string              `json:"sessionIndex,omitempty"`
	Authorities  []string            `json:"authorities,omitempty"` // who vouches behind the provider
	Ends         time.Time           `json:"ends,omitzero"`         // in a session: when it counts no more
	// Read names what the intake read of it, where the rest was not kept (Kept).
	Read string `json:"read,omitempty"`
	// Veiled are attributes whose values are not here, in what was recorded (Veil).
	Veiled []string `json:"veiled,omitempty"`
}

// Session is who is in, in one browser: one person, and a word of each provider
// they came by.
type Session struct {
	Ref     string        `json:"ref,omitempty"` // names the session to whoever drives; "" for one still to be made
	Person  person.Person `json:"person"`
	Proofs  []Answer      `json:"proofs"`
	Expires time.Time     `json:"expires"`
	// Lasting names it for as long as it is the same person's: Ref is another one
	// after each sign-in. It is random, and told to nobody as it is.
	Lasting string    `json:"lasting,omitempty"`
	Began   time.Time `json:"began,omitzero"` // of the person's first sign-in in it
	// Revision is how often it was stored: what is decided on it is held against that.
	Revision int `json:"-"`
	// Run is that of the rehearsal that it is of: nothing else ever goes by it.
	Run string `json:"run,omitempty"`
	// Presented says that the browser came with its own cookie, not only with that of a
	// crossing: then it gets another one at the next sign-in.
	Presented bool `json:"-"`
}

// Of gives the word of a provider, nil if there is none.
func (s *Session) Of(p *federation.Provider) *Answer {
	if s == nil {
		return nil
	}
	for i := range s.Proofs {
		if a := &s.Proofs[i]; p.Is(a.Provider, a.ProviderID) {
			return &s.Proofs[i]
		}
	}
	return nil
}

// ends is when a provider's word counts no more.
func ends(g *federation.Gate, a *Authentication, came time.Time) time.Time {
	end := came.Add(cmp.Or(g.SignInLife, SessionLife))
	if !a.Until.IsZero() && a.Until.Before(end) {
		return a.Until
	}
	return end
}

// Joined gives the session after what providers said, newest first: the same person's next sign-in adds words, and
// another person's replaces the session. lasting names a new one.
func Joined(g *federation.Gate, old *Session, who person.Person, said []Leg, lasting string, now time.Time) *Session {
	who = person.Person{ID: who.ID, Key: who.Key, Identifier: who.Identifier,
		Disabled: who.Disabled} // the rest is of the crossing
	s := &Session{Person: who, Lasting: lasting, Began: now}
	for _, l := range said {
		word := *l.Word
		word.Ends = ends(g, &word.Authentication, l.Came)
		s.Proofs, s.Expires = append(s.Proofs, word), later(s.Expires, word.Ends)
	}
	if !same(old, who) {
		return s
	}
	s.Lasting, s.Began = cmp.Or(old.Lasting, lasting), old.Began
	for _, p := range old.Proofs {
		if !slices.ContainsFunc(said, func(l Leg) bool { return l.Word.ProviderID == p.ProviderID }) && now.Before(p.Ends) {
			s.Proofs = append(s.Proofs, p)
			s.Expires = later(s.Expires, p.Ends)
		}
	}
	return s
}

// same reports whether a session is of a person.
func same(s *Session, who person.Person) bool {
	return s != nil && who.ID != 0 && s.Person.ID == who.ID
}

// Wish is what the application demands of the sign-in.
type Wish struct {
	Force      bool          `json:"force,omitempty"`
	Passive    bool          `json:"passive,omitempty"`
	Contexts   []string      `json:"contexts,omitempty"` // in the gate's words
	Comparison string        `json:"comparison,omitempty"`
	Voluntary  bool          `json:"voluntary,omitempty"` // contexts are a hint, not a demand
	MaxAge     time.Duration `json:"maxAge,omitempty"`    // 0 for any
	Timed      bool          `json:"timed,omitempty"`     // when they signed in has to be known
	Subject    string        `json:"subject,omitempty"`   // the person must be this one
	Hints      []string      `json:"hints,omitempty"`     // names to sign in with, for the provider to fill in
	Named      []string      `json:"named,omitempty"`     // providers that the application names
	Claims     []string      `json:"claims,omitempty"`
	Scopes     []string      `json:"scopes,omitempty"`
	Hops       int           `json:"hops,omitempty"`       // gates it may still pass, 0 for any number
	Requesters []string      `json:"requesters,omitempty"` // who asks behind the application
	Role       string        `json:"role,omitempty"`       // of the application, by its name there
	Change     string        `json:"change,omitempty"`     // attribute that the person wants to change on their own page
}

// Effective is the wish as it goes to a provider: where the application asks for
// no context, that of the provider's record.
func (w Wish) Effective(p *federation.Provider) Wish {
	if len(w.Contexts) == 0 && p.AskContext != "" {
		w.Contexts, w.Comparison = []string{p.AskContext}, federation.CompareExact
	}
	return w
}

// Refusal is how somebody hears that a sign-in is refused.
type Refusal string

// What an application can hear. Everything else is for the person, on a page.
const (
	RefusedPassive Refusal = "passive" // the person would have to be asked
	RefusedContext Refusal = "context" // not by the method asked for
	RefusedName    Refusal = "name"    // no name of the kind asked for
	RefusedHops    Refusal = "hops"    // passed on too often
	RefusedFailed  Refusal = "failed"  // the person could not sign in
	RefusedDenied  Refusal = "denied"  // the person may not
	RefusedPerson  Refusal = "person"  // another person than the one expected
	RefusedConsent Refusal = "consent" // the person would have to agree first
	RefusedAsking  Refusal = "asking"  // the person would have to answer a question first
	RefusedRequest Refusal = "request" // the request asks for what cannot be
	RefusedBusy    Refusal = "busy"    // the provider takes no sign-ins at the moment
	RefusedBroken  Refusal = "broken"  // the provider failed
	RefusedNobody  Refusal = ""        // nothing: an attack, or a fault of our own
)

// refusals say what the application hears of a finding. What a stranger could
// have sent is never passed on.
var refusals = map[finding.Code]Refusal{
	finding.PassiveImpossible: RefusedPassive,
	finding.NameIDPolicyUnmet: RefusedName,
	finding.ScopingUnmet:      RefusedHops,
	finding.ResponseStatus:    RefusedFailed,
	finding.AuthnTooOld:       RefusedFailed,
	finding.AuthnTimeMissing:  RefusedContext,
	finding.ValueNotXML:       RefusedFailed,
	finding.ProviderDenied:    RefusedDenied,
	finding.ProviderBusy:      RefusedBusy,
	finding.ProviderFailed:    RefusedBroken,
	finding.ProviderRequest:   RefusedFailed,
	finding.ProxyForbidden:    RefusedDenied,
	finding.ContextOther:      RefusedContext,
	finding.ContextImpossible: RefusedContext,
	finding.SubjectOther:      RefusedPerson,
	finding.ConsentNeeded:     RefusedConsent,
	finding.QuestionNeeded:    RefusedAsking,
	finding.ConsentDeclined:   RefusedDenied,
	finding.PersonDisabled:    RefusedDenied,
	finding.AccessDenied:      RefusedDenied,
	finding.AccessNobody:      RefusedDenied,
	finding.WayOther:          RefusedDenied,
	finding.AccessKeptOut:     RefusedDenied,
	finding.RoleNotHeld:       RefusedDenied,
	finding.NotInCohort:       RefusedDenied,
	finding.RoleNone:          RefusedDenied,
	finding.AccessStepUp:      RefusedDenied,
	finding.PersonUnknown:     RefusedDenied,
	finding.MatchSeveral:      RefusedDenied,
	finding.MatchLinked:       RefusedDenied,
	finding.OAuthRequest:      RefusedRequest,
	finding.PKCEMissing:       RefusedRequest,
}

// heard says what the application hears of a finding. What our own record asked
// for is none of its business.
func (s State) heard(f *finding.Finding) Refusal {
	switch {
	case len(s.Wish.Contexts) > 0:
	case f.Code == finding.ContextOther:
		return RefusedNobody
	case f.Code == finding.ContextImpossible:
		return RefusedFailed
	}
	return refusals[f.Code]
}
