package rehearsal_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/rehearsal"
)

var now = time.Date(2026, 11, 30, 9, 0, 0, 0, time.UTC)

// entered is a run in which Ada came in as a driver.
func entered() rehearsal.Seen {
	return rehearsal.Seen{Result: crossing.Entered, Stage: rehearsal.Done, Name: "ada@wrenmoor.example",
		Roles:  []string{"driver"},
		Person: 7, Provider: "wrenmoor-staff", Began: now, Ended: now.Add(3 * time.Second),
		SignedIn: now.Add(2 * time.Second),
		Subject:  "ada", Told: []crossing.Delivered{
			{Name: "urn:oid:0.9", Friendly: "mail", Values: profile.Texts("ada@wrenmoor.example")},
			{Name: "groups", Values: profile.Texts("drivers", "staff")}}}
}

// Each expectation is held against what came, letter by letter where it is a value.
func TestVerdicts(t *testing.T) {
	denied := rehearsal.Seen{Result: crossing.Refused, Finding: finding.New(finding.AccessDenied), Rule: "night-shift",
		Began: now, Ended: now}
	for lines, c := range map[string]struct {
		seen rehearsal.Seen
		want rehearsal.State
		came string // of the first line that does not hold
	}{
		"":                                   {entered(), rehearsal.Passed, ""},
		"entered":                            {rehearsal.Seen{Stage: rehearsal.AtProvider}, rehearsal.Waiting, ""},
		"name is ada@wrenmoor.example":       {entered(), rehearsal.Passed, ""},
		"name is Ada@wrenmoor.example":       {entered(), rehearsal.Failed, "ada@wrenmoor.example"},
		"name matches .*@wrenmoor[.]example": {entered(), rehearsal.Passed, ""},
		"name matches ada":                   {entered(), rehearsal.Failed, "ada@wrenmoor.example"},
		"attribute mail present":             {entered(), rehearsal.Passed, ""},
		"attribute badge absent":             {entered(), rehearsal.Passed, ""},
		"attribute badge present":            {entered(), rehearsal.Failed, "not told"},
		"attribute mail absent":              {entered(), rehearsal.Failed, "ada@wrenmoor.example"},
		"attribute groups has drivers":       {entered(), rehearsal.Passed, ""},
		"attribute groups has Drivers":       {entered(), rehearsal.Failed, "drivers, staff"},
		"attribute groups is drivers":        {entered(), rehearsal.Failed, "drivers, staff"},
		"attribute groups is staff|attribute groups is drivers": {entered(), rehearsal.Passed, ""},
		"attribute groups matches driv.*":                       {entered(), rehearsal.Passed, ""},
		"role is driver|person is 7|within 5s":                  {entered(), rehearsal.Passed, ""},
		"role is guard":                                         {entered(), rehearsal.Failed, "driver"},
		"person is 8":                                           {entered(), rehearsal.Failed, "7"},
		"within 2s":                                             {entered(), rehearsal.Failed, "3s"},
		"refused":                                               {entered(), rehearsal.Failed, "entered"},
		"refused by access-denied":                              {denied, rehearsal.Passed, ""},
		"refused by rule night-shift":                           {denied, rehearsal.Passed, ""},
		"refused by rule day-shift": {denied, rehearsal.Failed,
			"refused by access-denied, rule night-shift"},
		"refused by access-nobody": {denied, rehearsal.Failed,
			"refused by access-denied, rule night-shift"},
		"entered|within 1m": {denied, rehearsal.Failed,
			"refused by access-denied, rule night-shift"},
	} {
		var said []string
		if lines != "" {
			said = strings.Split(lines, "|")
		}
		expected, err := federation.ParseExpectations(said)
		require.NoError(t, err, lines)
		v := rehearsal.Judge(expected, c.seen, now, now)
		require.Equal(t, c.want, v.State, "%s: %+v", lines, v.Lines)
		for _, l := range v.Lines {
			if !l.Holds {
				require.Equal(t, c.came, l.Came, lines)
				break
			}
		}
	}
}

// What cannot hold, or be read, is said when it is saved.
func TestExpectationsThatCannotHold(t *testing.T) {
	for lines, want := range map[string]string{
		"entred":                  "did you mean entered",
		"banana":                  "begin with one of entered",
		"refused by acces-denied": "did you mean access-denied",
		"refused because":         "refused by rule night-shift",
		"entered now":             "nothing can",
		"entered|refused":         "both enters and is refused",
		"refused|name is ada":     "not told of",
		"name is a|name is b":     "keep one",
		"name equals ada":         "use one of is, matches",
		"name is":                 "nothing stands behind",
		"name matches (":          "cannot be read",
		"attribute":               "names no attribute",
		"attribute badge absent|attribute badge is 7": "cannot be absent and something",
		"person is ada": "no number",
		"within 2h":     "no time from 1s to 1h",
	} {
		_, err := federation.ParseExpectations(strings.Split(lines, "|"))
		require.ErrorContains(t, err, want, lines)
	}
}

// The tester's word makes a verdict, and what usually lies behind it is listed, what is likely first.
func TestWhatTheTesterSays(t *testing.T) {
	all, err := federation.ParseExpectations(nil)
	require.NoError(t, err)
	for what, c := range map[string]struct {
		symptom rehearsal.Symptom
		text    string
		around  rehearsal.Around
		state   rehearsal.State
		first   string // part of the first cause
	}{
		"let in": {rehearsal.LetIn, "", rehearsal.Around{}, rehearsal.Passed, ""},
		"an error": {rehearsal.ErrorText, "User not found", rehearsal.Around{App: "Roster"}, rehearsal.Failed,
			"no account by the name ada@"},
		"no licence": {rehearsal.ErrorText, "No licence assigned", rehearsal.Around{}, rehearsal.Failed,
			"licences of its own"},
		"compared":         {rehearsal.ErrorText, "?", rehearsal.Around{Compared: true}, rehearsal.Failed, "none has it"},
		"a certificate":    {rehearsal.ErrorText, "bad signature", rehearsal.Around{}, rehearsal.Failed, "certificate"},
		"an empty page":    {rehearsal.EmptyPage, "", rehearsal.Around{Unasked: true}, rehearsal.Failed, "did not ask for"},
		"the wrong person": {rehearsal.WrongPerson, "", rehearsal.Around{}, rehearsal.Failed, "session of before"},
		"an empty account": {rehearsal.EmptyMade, "", rehearsal.Around{}, rehearsal.Failed, "nothing in it"},
		"groups misspelled": {rehearsal.ErrorText, "role missing", rehearsal.Around{}, rehearsal.Failed,
			"groups=drivers, groups=staff"},
	} {
		s := entered()
		s.Said = &rehearsal.Word{Symptom: c.symptom, Text: c.text}
		require.Equal(t, c.state, rehearsal.Judge(all, s, now, now).State, what)
		causes := rehearsal.Causes(s, c.around)
		if c.first == "" {
			require.Empty(t, causes)
			continue
		}
		require.Contains(t, causes[0].Text, c.first, what)
		for _, cause := range causes {
			require.NotEmpty(t, cause.Remedy, what)
		}
	}
}

// A verdict says that nobody was asked; a run that stops half-way says what that usually means.
func TestNotesAndHalts(t *testing.T) {
	all, err := federation.ParseExpectations(nil)
	require.NoError(t, err)
	s := entered()
	s.SignedIn = now.Add(-time.Hour)
	require.Contains(t, strings.Join(rehearsal.Judge(all, s, now, now).Notes, "\n"),
		"ada was still signed in at wrenmoor-staff, since 2026-11-30 08:00:00 UTC")
	for _, stage := range []rehearsal.Stage{rehearsal.Linked, rehearsal.Pressed, rehearsal.AtProvider,
		rehearsal.AtPerson} {
		for _, start := range []string{federation.StartGate, federation.StartApplication, federation.StartProvider} {
			require.NotEmpty(t, rehearsal.Halted(rehearsal.Seen{Stage: stage}, start), stage)
		}
	}
}
