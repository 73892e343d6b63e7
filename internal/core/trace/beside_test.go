package trace

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// message is an assertion as a provider sends it, so long after its time, for somebody in a group.
func message(id string, at time.Time, format, name, group string) string {
	return fmt.Sprintf(`<samlp:Response xmlns:samlp="urn:oasis:names:tc:SAML:2.0:protocol" xmlns="urn:x" ID="_%s" IssueInstant="%s">
  <Assertion><Subject><NameID Format="urn:oasis:names:tc:SAML:2.0:nameid-format:%s">%s</NameID></Subject>
  <AttributeStatement><Attribute Name="groups"><AttributeValue>%s</AttributeValue></Attribute></AttributeStatement>
  </Assertion></samlp:Response>`, id, at.Format(time.RFC3339), format, name, group)
}

// anyProtocol is what the protocols of these messages say.
var anyProtocol = fleetingOf(fleets)

var fleets = []crossing.Fleeting{{Drawn: []string{"ID", "RelayState", "state"}, Timed: []string{"IssueInstant", "iat"},
	Names: []string{"NameID"}, Once: "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"}}

// Values of two messages are held against each other by their names; what is drawn anew for each and times that are as
// far from the step are bound to differ, what is missing never is.
func TestValuesBesides(t *testing.T) {
	noon := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	next := noon.Add(24 * time.Hour)
	for name, c := range map[string]struct {
		first, second string
		want          string // label: before | after, with ~ before what is bound to differ
	}{
		"the same": {message("a", noon, "persistent", "n", "x"), message("a", noon, "persistent", "n", "x"),
			""},
		"drawn anew, a day later": {message("a", noon, "persistent", "n", "x"), message("b", next, "persistent", "n", "x"),
			"~Response › @ID ~Response › @IssueInstant"},
		"a clock apart": {message("a", noon, "persistent", "n", "x"), message("a", next.Add(-10*time.Minute), "persistent",
			"n", "x"), "Response › @IssueInstant: 2026-11-26T12:00:00Z (0s after this step) | " +
			"2026-11-27T11:50:00Z (10m before this step)"},
		"a group spelled otherwise": {message("a", noon, "persistent", "n", "drivers"), message("a", next, "persistent", "n",
			"Drivers"), "AttributeStatement › Attribute groups › AttributeValue: drivers | Drivers ~Response › @IssueInstant"},
		"names for a session": {message("a", noon, "transient", "m", "x"), message("a", next, "transient", "n", "x"),
			"~Response › @IssueInstant ~Subject › NameID"},
		"names for good": {message("a", noon, "persistent", "m", "x"), message("a", next, "persistent", "n", "x"),
			"Subject › NameID: m | n ~Response › @IssueInstant"},
		"no XML after all": {"<a><b></a>", "<a><b></b>", "message: <a><b></a> | <a><b></b>"},
		"deep":             {strings.Repeat("<a>", 90000), strings.Repeat("<a>", 90001), "message"},
		"a query": {"state=1\nscope=openid", "state=2\nscope=openid email",
			"scope: openid | openid email ~state"},
		"a state that is lost": {"state=1\nscope=openid", "scope=openid", "state: 1 | "},
		"claims": {`{"claims":{"iat":1795694400,"sub":"s","roles":["a","b"],"https://x.example/code":"1"}}`,
			`{"claims":{"iat":1795780800,"sub":"s","roles":["a","c"],"https://x.example/code":"2"}}`,
			"claims › https://x.example/code: 1 | 2 claims › roles: b | c ~claims › iat"},
		"long names": {"<" + strings.Repeat("a", 2000) + "/>", "<" + strings.Repeat("a", 2000) + "></a>", "message"},
		"many": {"<r>" + strings.Repeat("<v>1</v>", 3000) + "<w>1</w></r>", "<r>" + strings.Repeat("<v>1</v>", 3000) +
			"<w>2</w></r>", "rest of the message"},
	} {
		t.Run(name, func(t *testing.T) {
			var got []string
			for _, l := range anyProtocol.besides(Flat(c.first), Flat(c.second), noon, next) {
				label := strings.ReplaceAll(l.Label, "Response › Assertion › ", "")
				switch {
				case l.Bound:
					got = append(got, "~"+label)
				case len(l.Before) > 60:
					got = append(got, label)
				default:
					got = append(got, label+": "+l.Before+" | "+l.After)
				}
			}
			require.Equal(t, c.want, strings.Join(got, " "))
		})
	}
}

// Messages beyond so many octets are held against each other as a whole.
func TestManyLongMessagesAreCompared(t *testing.T) {
	steps := func(last string) (out []crossing.TraceStep) {
		for i := range 30 {
			out = append(out, crossing.TraceStep{Name: fmt.Sprint(i), Octets: "<r>" + strings.Repeat("<v>1</v>",
				10000) + "</r>"})
		}
		out[29].Octets += last
		return out
	}
	pairs, parts := Beside(Shown{Steps: steps("")}, Shown{Steps: steps(" ")})
	require.Equal(t, 30, parts)
	require.Equal(t, "message", pairs[parts].Lines[0].Label)
	_, parts = Beside(Shown{Steps: steps("")}, Shown{Steps: steps("")})
	require.Zero(t, parts)
}

// Long values are shown around where they part.
func TestLongValuesAreClipped(t *testing.T) {
	one, other := clipped(strings.Repeat("ä", 5000)+"one", strings.Repeat("ä", 5000)+"other")
	require.Contains(t, one, "one … (10003 octets, shown from the 8004.)")
	require.Contains(t, other, "ther … (10005 octets")
	require.Less(t, len(one), longest+60)
}

// Steps are matched by who sent what to whom; the first that differs by more than it must is where two sign-ins part.
func TestStepsBesides(t *testing.T) {
	step := func(from, to crossing.Lane, name string) crossing.TraceStep {
		return crossing.TraceStep{From: from, To: to, Name: name}
	}
	request := step(crossing.GateLane, crossing.Provider, "AuthnRequest")
	response := step(crossing.Provider, crossing.GateLane, "Response")
	page, again := step(crossing.GateLane, crossing.BrowserLane, "choose page"), request
	decided, answer := step(crossing.GateLane, crossing.GateLane, "decide access"), step(crossing.GateLane,
		crossing.Application, "Response")
	refused := response
	refused.Finding = finding.New(finding.AudienceOther, finding.Compare("Audience", "a", "b"))
	again.RelayState = "other"
	request.RelayState = "one"
	for name, c := range map[string]struct {
		first, second []crossing.TraceStep
		want          string
		parts         int
	}{
		"alike": {[]crossing.TraceStep{request, response}, []crossing.TraceStep{again, response},
			"0:0 1:1 2:2", 0},
		"refused": {[]crossing.TraceStep{request, response, decided, answer},
			[]crossing.TraceStep{again, refused}, "0:0 1:1 2:2 3:0 4:0", 2},
		"by another way": {[]crossing.TraceStep{request, response}, []crossing.TraceStep{page, request, response},
			"0:0 0:1 1:2 2:3", 1},
		"nothing recorded":      {nil, []crossing.TraceStep{request}, "0:0 0:1", 1},
		"more than are matched": {slicesOf(request, 700), slicesOf(request, 600), "0:0", 501},
	} {
		t.Run(name, func(t *testing.T) {
			pairs, parts := Beside(Shown{Steps: c.first}, Shown{Steps: c.second}, fleets...)
			var got []string
			for _, p := range pairs {
				got = append(got, fmt.Sprintf("%d:%d", p.First, p.Second))
			}
			require.Contains(t, strings.Join(got, " "), c.want)
			require.Equal(t, c.parts, parts)
		})
	}
	pairs, _ := Beside(Shown{Values: federation.Labelled("Result", "entered")}, Shown{Values: federation.Labelled("Result",
		"refused"), Steps: []crossing.TraceStep{refused}})
	require.Equal(t, []ValueBesides{{Label: "Result", Before: "entered", After: "refused"}}, pairs[0].Lines)
	require.Contains(t, pairs[1].Lines[0].After, "audience")
	response.Checks = finding.Checks{{What: "Status", Found: "Success"}, {What: "Audience", Found: "a"}}
	refused.Checks = finding.Checks{{What: "Status", Found: "Success"}}
	pairs, _ = Beside(Shown{Steps: []crossing.TraceStep{response}}, Shown{Steps: []crossing.TraceStep{refused}})
	require.Equal(t, "refused", pairs[1].Lines[0].Label)
	require.Len(t, pairs[1].Lines, 2, "what was not checked any more is no difference")
}

func slicesOf(s crossing.TraceStep, n int) (out []crossing.TraceStep) {
	for range n {
		out = append(out, s)
	}
	return out
}

// Whatever a counterpart sent is taken apart in bounds, and is alike with itself.
func FuzzFlat(f *testing.F) {
	noon := time.Date(2026, 11, 26, 12, 0, 0, 0, time.UTC)
	for _, seed := range []string{message("a", noon, "transient", "n", "x"), `{"a":{"b":[1,[2]],"c":null}}`, "a=b\nc", "<a><b",
		`<a xmlns:b="c" b:d="e"><!-- f --><![CDATA[g]]></a>`, "{", strings.Repeat("[", 99), `{"a":` + strings.Repeat("[", 99)} {
		f.Add(seed, seed)
	}
	f.Fuzz(func(t *testing.T, one, other string) {
		a, b := Flat(one), Flat(other)
		require.LessOrEqual(t, len(a), mostValues+1)
		require.Empty(t, anyProtocol.besides(a, Flat(one), noon, noon))
		for _, l := range anyProtocol.besides(a, b, noon, noon) {
			require.NotEqual(t, l.Before, l.After)
			require.LessOrEqual(t, max(len(l.Before), len(l.After)), longest+99)
		}
	})
}
