package rehearsal

import (
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// State is what a run came to.
type State string

// States.
const (
	Waiting State = "waiting" // it goes on
	Passed  State = "passed"  // all that was expected came so
	Failed  State = "failed"  // something came otherwise, or the tester says so
	Stopped State = "stopped" // it came to nothing
)

// Turned is that a rehearsal which runs by itself began to fail, or passes again. No value of a person is in it.
type Turned struct {
	Number      int64        `json:"number"`
	At          int64        `json:"at"` // seconds since 1970
	Rehearsal   string       `json:"rehearsal"`
	Application string       `json:"application"`
	State       State        `json:"state"`
	Run         int64        `json:"run"`
	Finding     finding.Code `json:"finding,omitempty"` // what was found first
}

// Seen is what was seen of a run so far, of its last crossing.
type Seen struct {
	Trace     string               `json:"trace,omitempty"`
	Stage     Stage                `json:"stage"`
	Result    string               `json:"result,omitempty"` // crossing.Entered or Refused, once it has one
	Finding   *finding.Finding     `json:"finding,omitempty"`
	Rule      federation.Name      `json:"rule,omitempty"` // access rule, or rule of provider selection, that decided
	Name      string               `json:"name,omitempty"` // NameID or subject that the application was told
	Format    string               `json:"format,omitempty"`
	Told      []crossing.Delivered `json:"told,omitempty"`
	Roles     []string             `json:"roles,omitempty"`
	Person    int64                `json:"person,omitempty"`
	Made      bool                 `json:"made,omitempty"` // an account was made for them
	Provider  federation.Name      `json:"provider,omitempty"`
	Began     time.Time            `json:"began,omitzero"` // the crossing
	Ended     time.Time            `json:"ended,omitzero"`
	SignedIn  time.Time            `json:"signedIn,omitzero"` // when the provider says that they did
	Subject   string               `json:"subject,omitempty"` // by which the provider names them
	Delivered Delivery             `json:"delivered,omitempty"`
	Findings  []*finding.Finding   `json:"findings,omitempty"` // of steps on the way, in their order
	Said      *Word                `json:"said,omitempty"`     // what the application did, as the tester says
	Stuck     *finding.Finding     `json:"stuck,omitempty"`    // why a run that nobody attends could not go on
}

// Delivery is how far the answer got: delivered is not yet let in.
type Delivery string

// Deliveries.
const (
	Sent     Delivery = "sent"     // it left with the browser; nothing tells whether it arrived
	Redeemed Delivery = "redeemed" // the application came for what it was given
)

// Held is one expectation, held against what came.
type Held struct {
	Expected string `json:"expected"`
	Came     string `json:"came"`
	Holds    bool   `json:"holds"`
	// Value is what was expected letter by letter, to be held against Came; "" where there is no such.
	Value string `json:"value,omitempty"`
}

// Verdict is what a run came to, and by what.
type Verdict struct {
	State    State              `json:"state"`
	Lines    []Held             `json:"lines"`
	Findings []*finding.Finding `json:"findings,omitempty"` // in the order of cause: what refused first
	Notes    []string           `json:"notes,omitempty"`
	Causes   []Cause            `json:"causes,omitempty"`
}

// Judge holds what was seen of a run against what was expected of it. began is when the run began, now when it is
// judged.
func Judge(expected []federation.Expectation, s Seen, began, now time.Time) Verdict {
	v := Verdict{State: Waiting, Lines: []Held{}}
	if s.Finding != nil {
		v.Findings = append(v.Findings, s.Finding)
	}
	for _, f := range s.Findings {
		if !slices.ContainsFunc(v.Findings, func(o *finding.Finding) bool { return o.Code == f.Code }) {
			v.Findings = append(v.Findings, f)
		}
	}
	if s.Stuck != nil {
		v.Findings = append(v.Findings, s.Stuck)
	}
	if s.Result == "" {
		return v
	}
	v.State = Passed
	done := map[string]bool{}
	for _, e := range expected {
		line := s.line(e, expected)
		if key := line.Expected; done[key] {
			continue
		} else if done[key] = true; !line.Holds {
			v.State = Failed
		}
		v.Lines = append(v.Lines, line)
	}
	v.notes(s, began)
	if s.Said != nil && s.Said.Symptom != LetIn {
		v.State = Failed
	}
	return v
}

// line holds one expectation against what was seen.
func (s Seen) line(e federation.Expectation, all []federation.Expectation) Held {
	out := Held{Expected: e.String()}
	switch e.Of {
	case "entered":
		out.Came, out.Holds = s.came(), s.Result == crossing.Entered
	case "refused":
		out.Came, out.Holds = s.came(), s.refusedBy(e)
	case "within":
		took := s.Ended.Sub(s.Began).Round(time.Millisecond)
		out.Came, out.Holds = took.String(), took <= e.Within()
	case "person":
		out.Came, out.Holds = "nobody on record", s.Person == e.Person()
		if s.Person != 0 {
			out.Came = fmt.Sprint(s.Person)
		}
	case "role":
		out.Came, out.Holds = listed(s.Roles, "none"), slices.Contains(s.Roles, e.Value)
	case "name":
		out.Came, out.Holds = said(s.Name), s.Name != "" && e.Matches(s.Name)
		if e.How == "is" {
			out.Value = e.Value
		}
	case "attribute":
		s.attribute(e, all, &out)
	}
	return out
}

func said(text string) string {
	if text == "" {
		return "nothing"
	}
	return text
}

func listed(texts []string, none string) string {
	if len(texts) == 0 {
		return none
	}
	return strings.Join(texts, ", ")
}

// came says in words what a crossing came to.
func (s Seen) came() string {
	switch {
	case s.Result == crossing.Entered:
		return "entered"
	case s.Finding == nil:
		return "refused"
	case s.Rule != "":
		return "refused by " + string(s.Finding.Code) + ", rule " + string(s.Rule)
	}
	return "refused by " + string(s.Finding.Code)
}

func (s Seen) refusedBy(e federation.Expectation) bool {
	switch {
	case s.Result != crossing.Refused:
		return false
	case e.Rule() != "":
		return s.Rule == e.Rule()
	case e.Value != "":
		return s.Finding != nil && string(s.Finding.Code) == e.Value
	}
	return true
}

// attribute holds an expectation of an attribute against what was told. All lines that say what it *is* name its
// values together.
func (s Seen) attribute(e federation.Expectation, all []federation.Expectation, out *Held) {
	values, there := s.values(e.Name)
	out.Came = listed(values, "told empty")
	if !there {
		out.Came = "not told"
	}
	switch e.How {
	case "present":
		out.Holds = there
	case "absent":
		out.Holds = !there
	case "has":
		out.Holds = slices.Contains(values, e.Value)
		if len(values) == 1 {
			out.Value = e.Value
		}
	case "matches":
		out.Holds = slices.ContainsFunc(values, e.Matches)
	case "is":
		var wanted []string
		for _, o := range all {
			if o.Of == e.Of && o.How == e.How && o.Name == e.Name {
				wanted = append(wanted, o.Value)
			}
		}
		out.Expected, out.Value = "attribute "+e.Name+" is "+strings.Join(wanted, ", "), strings.Join(wanted, ", ")
		out.Holds = slices.Equal(sorted(wanted), sorted(values))
	}
}

func sorted(texts []string) []string { return slices.Compact(slices.Sorted(slices.Values(texts))) }

// values are those of an attribute that the application was told, by its name or friendly name.
func (s Seen) values(name string) (out []string, there bool) {
	for _, d := range s.Told {
		if d.Name != name && d.Friendly != name {
			continue
		}
		there = true
		for _, v := range d.Values {
			if text := v.String(); !slices.Contains(out, text) {
				out = append(out, text)
			}
		}
	}
	return out, there
}

// notes tell what a tester may not see: that nobody was asked, how far the answer got, and what was made.
func (v *Verdict) notes(s Seen, began time.Time) {
	if !s.SignedIn.IsZero() && s.SignedIn.Before(began) {
		v.Notes = append(v.Notes, fmt.Sprintf(
			"Nobody was asked: %s was still signed in at %s, since %s. Sign out there, or rehearse with a fresh sign-in.",
			said(s.Subject), said(string(s.Provider)), s.SignedIn.UTC().Format("2006-01-02 15:04:05 UTC")))
	}
	switch {
	case s.Result != crossing.Entered:
	case s.Delivered == Redeemed:
		v.Notes = append(v.Notes, "Delivered: the application redeemed what it was given.")
	case s.Said == nil:
		v.Notes = append(v.Notes, "Sent: the answer left with the browser. Look at the application, and say what it did.")
	}
	if s.Made {
		v.Notes = append(v.Notes,
			"An account was made here for this rehearsal; it can be removed with what else rehearsals made.")
	}
}
