package checks_test

import (
	"encoding/json"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
)

// What rules read is held against what arrived, and against what the intake makes.
func TestChecksOfMappings(t *testing.T) {
	rules := func(list string) (m profile.Mapping) {
		require.NoError(t, json.Unmarshal([]byte(`{"rules":[`+list+`]}`), &m), list)
		return m
	}
	came := checks.Arrived{SignIns: 7, Attributes: []profile.Attribute{{Name: "urn:oid:2.5.4.42", Friendly: "givenName"},
		{Name: "groups"}, {Name: "address"}}}
	for rule, c := range map[string]struct {
		intake, release string
		came            checks.Arrived
		want            finding.Code
		severity        finding.Severity
		says            string
	}{
		"what arrives": {`{"to":{"name":"a"},"from":[{"attribute":"givenName"},{"attribute":"address.country"}]}`, "", came,
			"", "", ""},
		"what does not": {`{"to":{"name":"a"},"from":[{"attribute":"gruops"}]}`, "", came, finding.AttributeUnsent,
			finding.Warning, "groups"},
		"another name of what arrives": {`{"to":{"name":"a"},"from":[{"attribute":"http://schemas.xmlsoap.org/ws/2005/05/identity/claims/givenname"}]}`,
			"", came, finding.AttributeUnsent, finding.Warning, "urn:oid:2.5.4.42"},
		"what is kept with people": {`{"to":{"name":"a"},"from":[{"attribute":"groups"}]}`,
			`{"to":{"name":"x"},"from":[{"attribute":"costCentre"}]}`,
			came, "", "", ""},
		"another source": {`{"to":{"name":"a"},"from":[{"attribute":"mail"},{"attribute":"groups"}]}`, "", came,
			finding.AttributeUnsent,
			finding.Note, "mail"},
		"a default": {`{"to":{"name":"a"},"from":[{"attribute":"mail"}],"default":["x"]}`, "", came,
			finding.AttributeUnsent, finding.Note, ""},
		"nobody came": {`{"to":{"name":"a"},"from":[{"attribute":"mail"}]}`, "", checks.Arrived{}, "", "", ""},
		"what is made": {`{"to":{"name":"a"},"from":[{"attribute":"groups"}]}`,
			`{"to":{"name":"x"},"from":[{"attribute":"a"},{"subject":true}]}`, came, "", "", ""},
		"what nobody makes": {`{"to":{"name":"a"},"from":[{"attribute":"groups"}]}`,
			`{"to":{"name":"x"},"from":[{"attribute":"groups"}]}`, came,
			finding.ProfileUnmade, finding.Warning, "never applies"},
		"all passes": {"", `{"to":{"name":"x"},"from":[{"attribute":"givenName"}]}`, came, "", "", ""},
		"all passes, but nothing": {"", `{"to":{"name":"x"},"from":[{"attribute":"givenNam"}]}`, came,
			finding.ProfileUnmade, finding.Warning, "givenName"},
		"an identifier that may move": {`{"to":{"subject":true},"from":[{"attribute":"mail"}],"mandatory":true}`, "",
			checks.Arrived{}, finding.IdentifierMutable, "", "mail"},
		"nobody knows": {"", `{"to":{"name":"x"},"from":[{"attribute":"givenNam"}]}`, checks.Arrived{}, "",
			"", ""},
	} {
		p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{}}}
		p.Name, p.Phase, p.IntakeMapping = "staff", federation.Live, rules(c.intake)
		a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{}}}
		a.Name, a.ReleaseMapping, a.Everyone = "roster", rules(c.release), federation.EveryoneYes
		snap := federation.Load(federation.Gate{}, p, a)
		k := checks.New(snap, now)
		k.Kept.Attributes = []string{"costCentre"}
		k.Arrived = map[federation.Name]checks.Arrived{"staff": c.came}
		found := map[finding.Code]*finding.Finding{}
		for _, f := range append(k.Record(p), k.Record(a)...) {
			if f.Code != finding.DraftIncomplete {
				found[f.Code] = f
			}
		}
		if c.want == "" {
			require.Empty(t, found, rule)
			continue
		}
		require.Len(t, found, 1, rule)
		if c.severity != "" {
			require.Equal(t, c.severity, found[c.want].Severity, rule)
		}
		require.Contains(t, found[c.want].Error(), c.says, rule)
		require.True(t, checks.Mapping(snap))
	}
}

// People who could come to be taken for somebody else are told of before they come.
func TestMatchingIsChecked(t *testing.T) {
	for _, c := range []struct {
		rule     string
		matching federation.Matching
		mails    bool
		want     finding.Code
		says     string
	}{
		{"a number that the provider assigns", federation.Matching{MatchBy: listed.ParseWords("employeeNumber")}, false, "",
			""},
		{"a name that people set", federation.Matching{MatchBy: listed.ParseWords("employeeNumber displayName")}, false,
			finding.MatchOpen, "displayName"},
		{"by another name of it", federation.Matching{MatchBy: listed.ParseWords("cn")}, false, finding.MatchOpen, "cn"},
		{"a user name", federation.Matching{MatchBy: listed.ParseWords("uid")}, false, finding.MatchOpen,
			"somebody else's later"},
		{"a domain of somebody else's", federation.Matching{VouchesFor: listed.ParseWords("oakhollow.example")}, false,
			finding.MatchOpen, "oakhollow"},
		{"addresses are to be proved, and nothing can be mailed",
			federation.Matching{AskFor: listed.Equals.Parse("emails=verified")}, false, finding.MailMissing, "emails=verified"},
		{"and can be", federation.Matching{AskFor: listed.Equals.Parse("emails=verified")}, true, "", ""},
	} {
		p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{}}}
		p.Name, p.Phase, p.Matching = "staff", federation.Live, c.matching
		snap := federation.Load(federation.Gate{Mails: c.mails}, p).With(&federation.Unit{Kind: federation.KindOrganisation,
			Name: "oakhollow", Title: "O", Domains: []string{"oakhollow.example"}})
		var got finding.Code
		for _, f := range checks.New(snap, now).Record(p) {
			if f.Code != finding.DraftIncomplete {
				got = f.Code
				require.Contains(t, f.Error(), c.says, c.rule)
			}
		}
		require.Equal(t, c.want, got, c.rule)
	}
}
