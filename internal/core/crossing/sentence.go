package crossing

import (
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
)

// Sentence is what a person reads when they are refused: the engineer reads the
// rest in the trace.
type Sentence struct {
	Title, Text string
	Fault       Fault
}

// Fault says in what way a request failed, for whoever answers it.
type Fault string

// Faults.
const (
	FaultRefused Fault = "refused"
	FaultUnknown Fault = "unknown" // nothing of the name is there
	FaultBusy    Fault = "busy"    // too many at once
	FaultOurs    Fault = "ours"
)

var (
	again = Sentence{"This sign-in cannot be used",
		"Start again at your application. If it happens again, tell your help desk the reference number.", FaultRefused}
	saidNo = Sentence{"The place where you sign in said no",
		"It did not let you in to this application. Ask those who run it, or your help desk with the reference number.",
		FaultRefused}
	failed = Sentence{"The place where you sign in does not work at the moment",
		"Try again in a few minutes. If it stays, tell your help desk the reference number.", FaultRefused}
	closed = Sentence{"This way in is closed at the moment",
		"Try again later, or tell your help desk the reference number.", FaultRefused}
)

const toHelpDesk = "Tell your help desk the reference number."

// sentences are those of findings that a person can do something about.
var sentences = map[finding.Code]Sentence{
	finding.CrossingUnknown: {"This sign-in has expired", "Start again at your application.", FaultRefused},
	finding.CrossingTurns: {"This sign-in goes round in circles",
		"Start again at your application. If it happens again, tell your help desk the reference number.", FaultRefused},
	finding.CrossingOtherBrowser: {"This sign-in was begun in another browser",
		"Start again in the browser you want to use, and allow cookies for this address.", FaultRefused},
	finding.RehearsalOver: {"This rehearsal has ended",
		"Ask whoever sent you its link for another one.", FaultRefused},
	finding.RehearsalLink: {"This link does not work any more",
		"A link to a rehearsal works once, and for a few minutes. Ask whoever sent it for another one.", FaultUnknown},
	finding.TooManyStarts: {"Too many sign-ins at once",
		"Wait a few minutes, then start again at your application.", FaultBusy},
	finding.StartUnknown: {"There is nothing at this address",
		"Check the link that led you here, or tell your help desk the reference number.", FaultUnknown},
	finding.StartPointUnknown: {"There is nothing at this address any more",
		"Open the application from your page of applications, or tell your help desk the reference number.", FaultUnknown},
	finding.ApplicationUnknown: {"This application is not known here",
		"Check the address, or tell your help desk the reference number.", FaultUnknown},
	finding.GateFailure: {"Something went wrong here",
		"Try again in a few minutes, or tell your help desk the reference number.", FaultOurs},
	finding.InResponseToOther: again, finding.AssertionReplayed: again, finding.UnsolicitedRefused: again,
	finding.ApplicationDisabled: closed, finding.ProviderDisabled: closed, finding.NoProvider: closed,
	finding.ProviderDenied: saidNo, finding.ResponseStatus: saidNo, finding.ProviderBusy: failed,
	finding.ProviderFailed: failed,
	finding.AccessDenied: {"You may not enter this application",
		"Tell your help desk the reference number, if you should have access.", FaultRefused},
	finding.AccessNobody: {"You may not enter this application yet",
		"Ask your help desk for access, and tell them the reference number.", FaultRefused},
	finding.WayOther: {"You signed in by another way than yours",
		"Start again at your application, and sign in with the account that your company gave you.", FaultRefused},
	finding.AccessKeptOut: {"You may not enter this application",
		"Tell your help desk the reference number, if you should have access.", FaultRefused},
	finding.NotInCohort: {"This is not open to you yet",
		"Sign in as you did before, or ask your help desk, and tell them the reference number.", FaultRefused},
	finding.RoleNotHeld: {"You do not have the role that was asked for",
		"Start again at your application without it, or ask your help desk for it, and tell them the reference number.",
		FaultRefused},
	finding.RoleNone: {"You have no role in this application yet",
		"Ask your help desk for one, and tell them the reference number.", FaultRefused},
	finding.AccessStepUp: {"This application asks for a stronger sign-in than yours",
		"Sign in once more in the way that it asks for, or tell your help desk the reference number.", FaultRefused},
	finding.PersonDisabled: {"Your account is closed at the moment",
		"Tell your help desk the reference number, if you should have access.", FaultRefused},
	finding.PersonUnknown: {"You have no account here yet",
		"Ask your help desk for one, and tell them the reference number.", FaultRefused},
	finding.MatchSeveral: {"It is not clear which account is yours",
		"Tell your help desk the reference number.", FaultRefused},
	finding.MatchLinked: {"This account belongs to somebody else already",
		"Tell your help desk the reference number.", FaultRefused},
	finding.CodeGuessed: {"The code was wrong too often",
		"Start again at your application, and use the newest message.", FaultRefused},
	finding.CodeMails: {"No more messages are sent",
		"Start again at your application in a few minutes. Look among unwanted mail, too.", FaultRefused},
	finding.SubjectOther: {"You are signed in as somebody else",
		"Sign out where you signed in, and start again at your application as the person it expects.", FaultRefused},
}

// opens is when what is closed to somebody opens to everybody, as they read it.
func opens(f *finding.Finding) (string, bool) {
	i := slices.IndexFunc(f.Evidence, func(e finding.Evidence) bool { return e.Label == policy.Opens })
	if i < 0 {
		return "", false
	}
	text := f.Evidence[i].Found
	if day, clock, zone := strings.Cut(text, "T"); zone { // by offset
		text = day + ", " + clock
	}
	return text, true
}

// RuleSays is the sentence that the rule which denies has for the person, as the engineer wrote it.
func RuleSays(f *finding.Finding) (string, bool) {
	i := slices.IndexFunc(f.Evidence, func(e finding.Evidence) bool { return e.Label == policy.Say })
	if i < 0 || f.Code != finding.AccessDenied {
		return "", false
	}
	return f.Evidence[i].Found, true
}

// ForPerson says in one plain sentence what a finding means for the person in
// front of the browser.
func ForPerson(f *finding.Finding) Sentence {
	if s, ok := sentences[f.Code]; ok {
		if said, ok := RuleSays(f); ok {
			s.Text = said
		}
		if at, ok := opens(f); ok {
			s.Title, s.Text = "This is not open to you yet", "It opens on "+at+". "+s.Text
		}
		return s
	}
	out := Sentence{Title: "You could not be signed in", Text: toHelpDesk, Fault: FaultRefused}
	switch f.Side {
	case finding.Provider:
		out.Text = "The answer of the place where you signed in was not accepted. " + toHelpDesk
	case finding.Application:
		out.Text = "The application sent a request that was not accepted. " + toHelpDesk
	}
	if f.Code == finding.ProviderUnknown {
		out.Fault = FaultUnknown
	}
	return out
}
