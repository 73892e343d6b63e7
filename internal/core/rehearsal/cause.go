package rehearsal

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
)

// Symptom is what the application did once it had the answer, as the tester says.
type Symptom string

// Symptoms.
const (
	LetIn       Symptom = "let-in"
	ErrorText   Symptom = "error"         // it showed an error
	EmptyPage   Symptom = "empty-page"    // it showed nothing, or its sign-in page again
	WrongPerson Symptom = "wrong-person"  // it let in somebody else
	EmptyMade   Symptom = "empty-account" // it let in, with an account that has nothing in it
)

// Symptoms are all of them.
var Symptoms = []Symptom{LetIn, ErrorText, EmptyPage, WrongPerson, EmptyMade}

// Word is what the tester says.
type Word struct {
	Symptom Symptom   `json:"symptom"`
	Text    string    `json:"text,omitempty"` // of the error, as it was shown
	By      string    `json:"by,omitempty"`
	At      time.Time `json:"at,omitzero"`
}

// Cause is what may lie behind a symptom, and what to do.
type Cause struct {
	Text   string `json:"text"`
	Remedy string `json:"remedy"`
	// Likely says that something which is known speaks for it.
	Likely bool `json:"likely"`
}

// Around is what is known around a run.
type Around struct {
	App      string // title
	Start    string // which side started
	Compared bool   // its accounts were held against people
	Account  bool   // and one has the name that it was told
	By       string // by which attribute it recognises people there
	Unasked  bool   // it says that it takes no answer which it did not ask for
}

// Causes are what usually lies behind what the tester saw, what is likely first.
func Causes(s Seen, a Around) (out []Cause) {
	if s.Said == nil || s.Said.Symptom == LetIn {
		return nil
	}
	text := strings.ToLower(s.Said.Text)
	says := func(words ...string) bool {
		return slices.ContainsFunc(words, func(w string) bool { return strings.Contains(text, w) })
	}
	unknown := Cause{Text: fmt.Sprintf("%s has no account by the name %s.", a.App, said(s.Name)),
		Remedy: "Make the account there, or have the release mapping send the name that it has there.",
		Likely: a.Compared && !a.Account || says("not found", "unknown user", "no account", "no user", "does not exist")}
	if a.Compared && a.Account {
		unknown.Text += " In the newest comparison of accounts one has it."
	} else if a.Compared {
		unknown.Text += " In the newest comparison of accounts none has it."
	}
	kind := Cause{Text: fmt.Sprintf("%s recognises people by another identifier than %s (format %s).", a.App,
		said(s.Name),
		said(s.Format)), Remedy: "Ask which one it expects, and set it as the name of the release mapping.",
		Likely: says("nameid", "name id", "format", "identifier")}
	policy := Cause{Text: a.App + " has an access policy or licences of its own.",
		Remedy: "Have the counterpart assign the person there, or give them a licence.",
		Likely: says("licen", "not assigned", "not authorized", "not authorised", "permission", "forbidden", "denied")}
	role := Cause{Text: "A group or role value is spelled otherwise there. It was told: " + told(s),
		Remedy: "Compare the values letter by letter with those on the exchange sheet.",
		Likely: says("role", "group", "permission")}
	unasked := Cause{Text: a.App + " takes no answer that it did not ask for.",
		Remedy: "Start at the application, or set its own start address (ownStart).",
		Likely: a.Start != federation.StartApplication && (a.Unasked || says("relaystate", "inresponseto", "unsolicited",
			"initiated"))}
	before := Cause{Text: "A session of before is in the way: it shows who was in there until now.",
		Remedy: "Sign out there, or open the next link in a fresh private window."}
	made := Cause{Text: a.App + " made an account with nothing in it, by a name that it did not know.",
		Remedy: "Remove it there, and have the mapping send what an account needs before the next run."}
	clock := Cause{Text: "Its clock is apart from the gate's, or it has another certificate or entity ID of the gate on record.",
		Remedy: "Read its log; compare the values of the exchange sheet letter by letter.",
		Likely: says("signature", "certificate", "issuer", "audience", "expired", "not yet valid", "clock", "time")}
	switch s.Said.Symptom {
	case ErrorText:
		out = []Cause{unknown, policy, kind, role, clock, unasked, before}
	case EmptyPage:
		out = []Cause{unasked, policy, before, clock, unknown}
	case WrongPerson:
		out = []Cause{before, kind, unknown}
	case EmptyMade:
		out = []Cause{made, kind, role, policy}
		out[0].Likely = true
	}
	if a.Start == federation.StartApplication {
		out = slices.DeleteFunc(out, func(c Cause) bool { return c.Text == unasked.Text })
	}
	slices.SortStableFunc(out, func(a, b Cause) int {
		if a.Likely == b.Likely {
			return 0
		} else if a.Likely {
			return -1
		}
		return 1
	})
	return out
}

// told says the groups and roles that were told.
func told(s Seen) string {
	var out []string
	for _, d := range s.Told {
		name := strings.ToLower(d.Name + " " + d.Friendly)
		if !strings.Contains(name, "group") && !strings.Contains(name, "role") {
			continue
		}
		for _, v := range d.Values {
			out = append(out, d.Name+"="+v.String())
		}
	}
	return listed(out, "none")
}

// Stage is how far a run came.
type Stage string

// Stages.
const (
	Linked     Stage = "linked"      // its link waits to be opened
	Pressed    Stage = "pressed"     // it was opened, and nothing came yet
	AtProvider Stage = "at-provider" // the provider was asked
	AtPerson   Stage = "at-person"   // a page of the gate waits for the person
	Done       Stage = "done"        // the crossing has ended
)

// StartService is the start of a run of a service, which nobody signs in to.
const StartService = "service"

// Halted says what it usually means where a run ends half-way.
func Halted(s Seen, start string) string {
	switch s.Stage {
	case Linked:
		return "Nobody opened the link and pressed its button. A link works for a few minutes: start another run."
	case Pressed:
		switch start {
		case federation.StartApplication:
			return "The application never asked: its start address does not lead here, it has another address of the gate on record, or single sign-on is not switched on there."
		case StartService:
			return "No token request named this run: the service did not ask, or did not prove who it is. Its refusals stand in the traces."
		case federation.StartProvider:
			return "The provider sent nothing: the application's tile there is not assigned to the tester, or it leads to another address than the gate's."
		}
		return "The browser did not go on: it refuses the gate's cookies, or the window was closed."
	case AtProvider:
		return "Nobody came back from the provider: it showed an error of its own (does not know the gate, or its address for answers), the person is not assigned there, or the window was closed."
	case AtPerson:
		return "A page of the gate waited for the person, and nobody answered it."
	}
	return ""
}
