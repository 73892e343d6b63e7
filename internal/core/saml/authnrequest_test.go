package saml_test

import (
	"crypto/rand"
	"encoding/base64"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

func TestAuthnRequest(t *testing.T) {
	const sso, spID = "https://gate.wrenmoor.example/saml/idp/sso", "https://crew-roster.wrenmoor.example/saml"
	pair, err := keys.Generate("app", now, rand.Reader)
	require.NoError(t, err)
	other, err := keys.Generate("other", now, rand.Reader)
	require.NoError(t, err)
	sp := saml.SP{EntityID: spID, Keys: []saml.Key{{Certificate: pair.Certificate}}, ACS: []saml.Endpoint{
		{Binding: saml.BindingPOST, Location: "https://crew-roster.wrenmoor.example/acs"},
		{Binding: saml.BindingPOST, Location: "https://crew-roster.wrenmoor.example/acs2", Index: 7}}}
	strict, keyless := sp, sp
	strict.AuthnRequestsSigned = true
	keyless.Keys = nil
	base := saml.AuthnRequest{ID: "_q", IssueInstant: now, Issuer: spID, ACS: sp.ACS[0].Location}
	with := func(edit func(*saml.AuthnRequest)) saml.AuthnRequest { r := base; edit(&r); return r }

	for _, c := range []struct {
		rule    string
		request saml.AuthnRequest
		signer  *keys.Pair
		sp      saml.SP
		edit    []string // of the message, after signing
		want    finding.Code
	}{
		{"accepts a signed one", base, pair, strict, nil, ""},
		{"accepts an unsigned one", base, nil, sp, nil, ""},
		{"takes a signature without key as none", base, pair, keyless, nil, ""},
		{"refuses an unsigned one where signing is demanded", base, nil, strict, nil, finding.SignatureMissing},
		{"refuses a foreign key", base, other, sp, nil, finding.SignatureKey},
		{"refuses another issuer", with(func(r *saml.AuthnRequest) { r.Issuer = spID + "/" }), nil, sp, nil,
			finding.IssuerOther},
		{"refuses an unregistered address", with(func(r *saml.AuthnRequest) { r.ACS += "/" }), nil, sp, nil,
			finding.ACSUnregistered},
		{"refuses an unregistered address even when signed",
			with(func(r *saml.AuthnRequest) { r.ACS = "https://evil.example" }), pair, sp, nil, finding.ACSUnregistered},
		{"refuses a signed one that is too old",
			with(func(r *saml.AuthnRequest) {
				r.IssueInstant = now.Add(-7 * time.Minute)
			}), pair, sp, nil, finding.RequestExpired},
		{"refuses another destination", base, nil, sp, []string{`Destination="` + sso,
			`Destination="https://other.example/sso`}, finding.DestinationOther},
		{"refuses another version", base, nil, sp, []string{`Version="2.0"`, `Version="1.1"`}, finding.MessageOther},
		{"refuses the artifact binding where no address for it is registered", base, nil, sp, []string{"bindings:HTTP-POST",
			"bindings:HTTP-Artifact"}, finding.ACSUnregistered},
		{"refuses other bindings", base, nil, sp, []string{"bindings:HTTP-POST", "bindings:PAOS"},
			finding.BindingUnsupported},
		{"refuses an unknown index", base, nil, sp,
			[]string{`AssertionConsumerServiceURL="https://crew-roster.wrenmoor.example/acs"`,
				`AssertionConsumerServiceIndex="9"`}, finding.ACSUnregistered},
		{"refuses an alteration", base, pair, sp, []string{`Version="2.0"`, `Version="2.0" ForceAuthn="true"`},
			finding.SignatureAltered},
		{"refuses a DOCTYPE", base, nil, sp, []string{"<samlp:AuthnRequest", "<!DOCTYPE a><samlp:AuthnRequest"},
			finding.XMLDoctype},
	} {
		for _, binding := range []string{saml.BindingPOST, saml.BindingRedirect} {
			t.Run(c.rule+" by "+binding[len(binding)-8:], func(t *testing.T) {
				if c.want == finding.SignatureAltered && binding == saml.BindingRedirect {
					c.want = finding.SignatureKey // there the signature is over the octets
				}
				out, err := saml.WriteAuthnRequest(c.request, saml.Endpoint{Binding: binding, Location: sso}, "state", c.signer)
				require.NoError(t, err)
				if c.edit != nil {
					xml := strings.Replace(string(out.Octets), c.edit[0], c.edit[1], 1)
					require.NotEqual(t, string(out.Octets), xml)
					if binding == saml.BindingPOST {
						out = saml.ToPOST(sso, "SAMLRequest", []byte(xml), "state")
					} else {
						swapped, err := saml.ToRedirect(sso, "SAMLRequest", []byte(xml), "state", nil)
						require.NoError(t, err)
						if _, tail, ok := strings.Cut(out.Location, "&SigAlg="); ok {
							swapped.Location += "&SigAlg=" + tail
						}
						out = swapped
					}
				}
				var in saml.Inbound
				if binding == saml.BindingPOST {
					in, err = saml.FromPOST(out.Form[0].Value, out.Form[1].Value)
				} else {
					in, err = saml.FromRedirect(out.Location[strings.Index(out.Location, "?")+1:], "SAMLRequest")
				}
				require.NoError(t, err)
				require.Equal(t, "state", in.RelayState)
				var log finding.Checks
				r, err := saml.ReadAuthnRequest(in, &c.sp, saml.Demand{SSO: sso, Now: now, Skew: time.Minute}, &log)
				if c.want == "" {
					require.NoError(t, err)
					if len(c.sp.Keys) == 0 {
						require.Equal(t, finding.RequestUnverified, log[1].Finding.Code)
					}
					require.Equal(t, "_q", r.ID)
					return
				}
				require.True(t, finding.Is(err, c.want), "%v", err)
			})
		}
	}
}

func TestRedirectRefuses(t *testing.T) {
	good, err := saml.ToRedirect("https://x.example", "SAMLRequest", []byte("<a/>"), "", nil)
	require.NoError(t, err)
	query := good.Location[strings.Index(good.Location, "?")+1:]
	bomb, err := saml.ToRedirect("https://x.example", "SAMLRequest", []byte("<a>"+strings.Repeat(" ", 3<<20)+"</a>"), "",
		nil)
	require.NoError(t, err)
	for _, c := range []struct {
		rule, query string
		want        finding.Code
	}{
		{"nothing", "", finding.MessageUndecodable},
		{"no base64", "SAMLRequest=%25", finding.MessageUndecodable},
		{"what is not deflated", "SAMLRequest=" + url.QueryEscape(base64.StdEncoding.EncodeToString([]byte("<a/>"))),
			finding.MessageUndecodable},
		{"a parameter twice", query + "&" + query, finding.MessageUndecodable},
		{"another encoding", query + "&SAMLEncoding=x", finding.MessageUndecodable},
		{"a bomb", bomb.Location[strings.Index(bomb.Location, "?")+1:], finding.XMLTooLarge},
		{"a long RelayState", query + "&RelayState=" + strings.Repeat("x", saml.MaxRelayState+1), finding.RelayStateTooLong},
	} {
		t.Run(c.rule, func(t *testing.T) {
			_, err := saml.FromRedirect(c.query, "SAMLRequest")
			require.True(t, finding.Is(err, c.want), "%v", err)
		})
	}
}

func FuzzRedirect(f *testing.F) {
	f.Add("SAMLRequest=s7EBAA%3D%3D&RelayState=x&SigAlg=a&Signature=b")
	f.Fuzz(func(t *testing.T, query string) {
		if in, err := saml.FromRedirect(query, "SAMLRequest"); err == nil {
			_, _ = saml.ReadRequest(in.Octets)
		}
	})
}
