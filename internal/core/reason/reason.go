// Package reason holds the reasons of decisions as values: a code and what it is
// about. Decisions give reasons, they are stored as they are, and prose is made
// of them only when somebody reads them.
//
//	r := reason.New(reason.ProviderOnly, "wrenmoor-staff")
//	fmt.Println(r.What(), "·", r.Text()) // Provider · wrenmoor-staff, the only one
package reason

import (
	"fmt"
	"slices"
	"strings"
)

// Code names a reason. Codes are never renamed: traces hold them.
type Code string

// Reasons of selecting a provider.
const (
	ProviderOnRecord Code = "provider-on-record"
	ProviderOnly     Code = "provider-only"
	ProviderChosen   Code = "provider-chosen"
	ProviderBySignIn Code = "provider-by-session"
	ProviderAsked    Code = "provider-asked"
	ProviderByRule   Code = "provider-by-rule"
	ProviderByDomain Code = "provider-by-domain"
	ProviderByHint   Code = "provider-by-hint"
	ProviderAddress  Code = "provider-address"
	ProviderUnknown  Code = "provider-unclaimed"
	ProviderMoved    Code = "provider-moved"
)

// Reasons around a session.
const (
	SessionSuffices Code = "session-suffices"
	SessionNone     Code = "session-none-there"
	SessionEnded    Code = "session-ended"
	SessionForced   Code = "session-force"
	SessionContext  Code = "session-context"
	SessionAge      Code = "session-age"
	SessionSubject  Code = "session-subject"
	SessionIntake   Code = "session-intake"
)

// Reasons of the way through.
const (
	StartOwn         Code = "start-own"
	StartPlain       Code = "start-plain"
	Rehearsed        Code = "rehearsed"
	StartTarget      Code = "start-target"
	StartPoint       Code = "start-point"
	StartUnsolicited Code = "start-unsolicited"
	WishForce        Code = "wish-force"
	WishPassive      Code = "wish-passive"
	WishContexts     Code = "wish-contexts"
	WishAge          Code = "wish-age"
	WishSubject      Code = "wish-subject"
	WishRole         Code = "wish-role"
	WishLost         Code = "wish-lost"
	ProofFresh       Code = "proof-fresh"
	ProofContext     Code = "proof-context"
	AskContext       Code = "ask-context"
	IntakeUnchanged  Code = "intake-unchanged"
	PersonTransient  Code = "person-transient"
	PersonNew        Code = "person-new"
	PersonKnown      Code = "person-known"
	PersonRace       Code = "person-race"
	SessionRace      Code = "session-race"
	PersonLinked     Code = "person-linked"
	MatchFound       Code = "match-found"
	MatchNobody      Code = "match-nobody"
	MatchLacking     Code = "match-lacking"
	MatchUnverified  Code = "match-unverified"
	MatchAsked       Code = "match-asked"
	MatchChosen      Code = "match-chosen"
	QuestionMissing  Code = "question-missing"
	QuestionProved   Code = "question-proved"
	QuestionAccount  Code = "question-account"
	SubjectRace      Code = "subject-race"
	AccessEverybody  Code = "access-everybody"
	AccessRule       Code = "access-rule"
	AccessAdmitted   Code = "access-admitted"
	AccessUnproved   Code = "access-unproved"
	RoleHeld         Code = "role-held"
	EntryRequested   Code = "entry-requested"
	PilotOf          Code = "pilot-of"
	RoleFailed       Code = "role-failed"
	RoleChosen       Code = "role-chosen"
	QuestionRole     Code = "question-role"
	AccessStepUp     Code = "access-step-up"
	IntakeMapped     Code = "intake-mapped"
	IntakeRule       Code = "intake-rule"
	ReleaseMapped    Code = "release-mapped"
	ReleaseRule      Code = "release-rule"
	ReleaseUnchanged Code = "release-unchanged"
	NameGiven        Code = "name-given"
	NameBare         Code = "name-bare"
	NameMail         Code = "name-mail"
	NameLasting      Code = "name-lasting"
	NamePassing      Code = "name-passing"
	NameRuled        Code = "name-ruled"
	ConsentBefore    Code = "consent-before"
	ConsentNow       Code = "consent-now"
	ConsentAnswer    Code = "consent-answer"
	FaceShared       Code = "face-shared"
	FaceMoved        Code = "face-moved"
)

// texts say what each reason is about, and how it reads.
var texts = map[Code][2]string{
	ProviderOnRecord: {"Provider", "%s, named on the application's record"},
	ProviderOnly:     {"Provider", "%s, the only one"},
	ProviderChosen:   {"Provider", "%s, chosen by the person"},
	ProviderBySignIn: {"Provider", "%s, by which the person is in already"},
	ProviderAsked:    {"Provider", "the person chooses among %s"},
	ProviderByRule:   {"Provider", "by the rule %s: %s"},
	ProviderByDomain: {"Provider", "the domain %s belongs to it"},
	ProviderByHint:   {"Provider", "%s, as the application hints"},
	ProviderAddress:  {"Provider", "the person is asked for their address first"},
	ProviderUnknown:  {"Provider", "the domain %s belongs to no provider that is possible"},
	ProviderMoved:    {"Provider", "%s is not the way of who came; sent on to %s"},
	SessionSuffices:  {"Session", "already signed in at %s since %s"},
	SessionNone:      {"Session", "none at this provider"},
	SessionEnded:     {"Session", "the provider's word ended at %s"},
	SessionForced:    {"Session", "there is one, but the application wants a new sign-in"},
	SessionContext:   {"Session", "there is one by %s, which is not what was asked for"},
	SessionAge:       {"Session", "there is one since %s, which is too long ago for the application"},
	SessionSubject:   {"Session", "there is one of another person than the application expects"},
	SessionIntake:    {"Session", "there is one, but the intake reads other attributes now than were kept with it"},
	Rehearsed:        {"Rehearsal", "the phase of %s and its provider is passed over, and nothing else"},
	StartPlain:       {"Start", "nothing is said of who may enter, and nobody is told of: sent to %s"},
	StartOwn:         {"Start", "the application accepts only sign-ins that it started: sent to %s"},
	StartTarget:      {"Target", "%s"},
	StartPoint:       {"Starting point", "%s (%s)"},
	StartUnsolicited: {"Unsolicited", "allowed; turned into a start at the gate"},
	WishForce:        {"Wish", "a new sign-in, even of somebody who is in"},
	WishPassive:      {"Wish", "nothing may be asked of the person"},
	WishContexts:     {"Wish", "context, %s: %s"},
	WishAge:          {"Wish", "signed in at most %s ago"},
	WishSubject:      {"Wish", "this person: %s"},
	WishRole:         {"Wish", "as %s"},
	WishLost:         {"Wish", "%s cannot be told the provider, or done there, and is left out"},
	ProofFresh:       {"New sign-in", "at %s"},
	ProofContext:     {"Context", "%s is what was asked for"},
	AskContext:       {"Context", "%s is asked for, says the provider's record"},
	IntakeUnchanged:  {"Intake", "taken over unchanged"},
	IntakeMapped:     {"Intake", "%s of %s rules made something"},
	IntakeRule:       {"Intake", "rule %s: %s"},
	PersonTransient:  {"Person", "transient name: known for this session only"},
	PersonNew:        {"Person", "new: first sign-in with this name"},
	PersonKnown:      {"Person", "known"},
	PersonLinked:     {"Person", "known already: linked by this name from now on"},
	MatchFound:       {"Match", "one person is known by %s"},
	MatchNobody:      {"Match", "nobody is known by %s"},
	MatchLacking:     {"Match", "the profile has no %s"},
	MatchUnverified: {"Match",
		"%s does not count: the provider neither says that it is verified nor stands for its domain"},
	MatchAsked:      {"Match", "%s people have this %s: the person is asked which one they are"},
	MatchChosen:     {"Match", "the one that the person chose"},
	QuestionMissing: {"Question", "missing, and asked for: %s"},
	QuestionProved:  {"Question", "the person proved %s by a mailed code"},
	QuestionAccount: {"Question", "which account is theirs"},
	SessionRace:     {"Session", "the session or the person changed at the same moment: decided anew"},
	PersonRace:      {"Person", "made or changed at the same moment: matched again"},
	SubjectRace:     {"Subject", "another one was set for this application at the same moment: matched again"},
	AccessEverybody: {"Access", "everybody with a valid answer from the provider may enter"},
	AccessRule:      {"Access", "%s, by the rule %s: %s"},
	AccessAdmitted:  {"Access", "admitted by name: %s"},
	PilotOf:         {"Phase", "%s is in its pilot, which includes the person %s"},
	EntryRequested:  {"Access", "the person asked for entry"},
	RoleHeld:        {"Role", "enters as %s"},
	RoleFailed:      {"Role", "nobody holds %s by its rule, whose condition cannot be evaluated: %s"},
	QuestionRole:    {"Question", "asked which of several roles they enter with"},
	RoleChosen:      {"Role", "the person chose %s"},
	AccessUnproved: {"Access",
		"left out of conditions, because nobody who is trusted for it vouches for the values: %s"},
	AccessStepUp:     {"Access", "the rule %s asks for a stronger or fresher sign-in: asked once"},
	ReleaseUnchanged: {"Release", "handed on unchanged"},
	ReleaseMapped:    {"Release", "%s of %s rules made something"},
	ReleaseRule:      {"Release", "rule %s: %s"},
	NameGiven:        {"Name", "as the provider gave it"},
	NameBare:         {"Name", "the value of the provider's, without a format"},
	NameMail:         {"Name", "the e-mail address"},
	NameLasting:      {"Name", "the one that lasts, for this person and application"},
	NamePassing:      {"Name", "one made for this answer"},
	NameRuled:        {"Name", "made by a rule of the release"},
	ConsentBefore:    {"Consent", "given before: %s"},
	ConsentNow:       {"Consent", "given now: %s"},
	ConsentAnswer:    {"Consent", "the person was asked; everything else is decided by the configuration of now"},
	FaceShared:       {"Face", "the shared one still answers, until the application comes by its own"},
	FaceMoved:        {"Face", "the application has come by its own: the shared one answers it no more"},
}

// Reason is why something was decided.
type Reason struct {
	Code Code     `json:"code"`
	Args []string `json:"args,omitempty"`
}

// New makes a reason. A code without text is a programming error and panics.
func New(code Code, args ...string) Reason {
	if _, ok := texts[code]; !ok {
		panic("reason: code without text: " + string(code))
	}
	return Reason{Code: code, Args: args}
}

// What is what the reason is about, in a word.
func (r Reason) What() string { return texts[r.Code][0] }

// Text is the reason in prose. A code of a later build is given as it is.
func (r Reason) Text() string {
	t, ok := texts[r.Code]
	if !ok {
		return strings.Join(append([]string{string(r.Code)}, r.Args...), " ")
	}
	args := make([]any, strings.Count(t[1], "%s"))
	for i := range args {
		args[i] = "?"
		if i < len(r.Args) {
			args[i] = r.Args[i]
		}
	}
	return fmt.Sprintf(t[1], args...)
}

// Reasons are several, in the order in which they were found.
type Reasons []Reason

// Add adds one.
// Same reports whether two reasons say the same.
func (r Reason) Same(o Reason) bool { return r.Code == o.Code && slices.Equal(r.Args, o.Args) }

func (rs *Reasons) Add(code Code, args ...string) { *rs = append(*rs, New(code, args...)) }
