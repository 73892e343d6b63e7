package bundle_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/bundle"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
)

// What is of a person is masked wherever it stands and however it is written; equal values alike; what is technical
// stays.
func TestMask(t *testing.T) {
	b := bundle.Bundle{Kind: "trace", Of: "X", Gate: "https://gate.example", Rehearsal: &bundle.Rehearsed{
		Verdict: &rehearsal.Verdict{Lines: []rehearsal.Held{{Expected: "name is Ada <O'Neill>", Value: "Ada <O'Neill>",
			Came: "ada@wrenmoor.example"}, {Expected: "attribute badge absent", Came: "A-0042"}}}},
		SignIns: []bundle.RecordedSignIn{{Person: "Ada Fenwick", Steps: []bundle.RecordedStep{
			{Address: "https://gate.example/acs", Message: `<R Destination="https://gate.example/acs" Address="192.0.2.7"><Issuer>https://idp.example</Issuer>` +
				`<NameID Format="f">Ada &lt;O&#39;Neill&gt;</NameID><AttributeValue>https://gate.example/acs</AttributeValue></R>`},
			{Message: `{"iss":"https://idp.example","sub":"Ada <O'Neill>","picture":"https://idp.example/ada.png","tel":"+44 1632 960001"}`,
				Values: []federation.Value{{Label: "Client ID", Value: "roster"}, {Label: "login_hint", Value: "ada.f"}}},
			{Message: "client_id=roster\nlogin_hint=ada.f",
				Finding: finding.New(finding.AccessDenied, finding.Fact("Person", "Fenwick, of 192.0.2.7, +44 1632 960001"))},
			{Message: "next=https%3A%2F%2Fx.example%2F%3Fu%3DAda+%3CO%27Neill%3E"}}}},
		Records: []bundle.SetRecord{{Values: []federation.Value{{Label: "Owner", Value: "Edda <edda@wrenmoor.example>"},
			{Label: "Group", Value: "drivers"}}}},
		TimeLine: []bundle.Moment{{Who: "signal-box", What: "changed for edda@wrenmoor.example"},
			{Who: "the tour", What: "changed"}}}
	before, err := b.JSON()
	require.NoError(t, err)
	m, err := b.Mask(bundle.Technical{"Issuer": true, "iss": true, "client_id": true, "Client ID": true})
	require.NoError(t, err)
	octets, err := m.JSON()
	require.NoError(t, err)
	text := string(octets)
	for _, gone := range []string{"Ada", "Fenwick", "Neill", "ada@", "A-0042", "192.0.2.7", "960001", "ada.f", "ada.png",
		"edda@", "signal-box"} {
		require.Contains(t, string(before), gone)
		require.NotContains(t, text, gone)
	}
	for _, stays := range []string{"https://idp.example", `Destination=\"https://gate.example/acs\"`, "roster", "drivers", "the tour", "access-denied"} {
		require.Contains(t, text, stays)
	}
	require.Equal(t, m.Rehearsal.Verdict.Lines[0].Value, strings.TrimPrefix(m.Rehearsal.Verdict.Lines[0].Expected,
		"name is "))
	require.True(t, m.Masked)
	again, err := b.JSON()
	require.NoError(t, err)
	require.Equal(t, string(before), string(again), "what is masked is a copy")
	one, err := m.Digest()
	require.NoError(t, err)
	other, err := b.Digest()
	require.NoError(t, err)
	require.NotEqual(t, one, other)
}
