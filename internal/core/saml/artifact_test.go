package saml_test

import (
	"crypto/rand"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

func TestArtifact(t *testing.T) {
	pair, err := keys.Generate("idp", now, rand.Reader)
	require.NoError(t, err)
	other, err := keys.Generate("other", now, rand.Reader)
	require.NoError(t, err)
	idp := &saml.IDP{EntityID: idpID, Keys: []saml.Key{{Certificate: pair.Certificate}},
		Artifact: []saml.Endpoint{{Binding: saml.BindingSOAP, Location: "https://idp.example/art", Index: 2}}}
	a := saml.NewArtifact(idpID, 2, [20]byte{1, 2, 3})
	back, err := saml.ParseArtifact(a.String())
	require.NoError(t, err)
	require.Equal(t, a, back)
	address, err := idp.Resolver(a)
	require.NoError(t, err)
	require.Equal(t, "https://idp.example/art", address)
	for rule, bad := range map[string]saml.Artifact{"of another issuer": saml.NewArtifact("urn:x", 2, [20]byte{}),
		"for another index": saml.NewArtifact(idpID, 3, [20]byte{})} {
		_, err := idp.Resolver(bad)
		require.True(t, finding.Is(err, finding.ArtifactUnresolved), rule)
	}
	for _, bad := range []string{"", "x", "AAQ=", a.String()[4:], "AAUA" + a.String()[4:]} {
		_, err := saml.ParseArtifact(bad)
		require.True(t, finding.Is(err, finding.MessageUndecodable), bad)
	}

	sp := &saml.SP{EntityID: ourID, Keys: []saml.Key{{Certificate: pair.Certificate}}}
	ask, err := saml.WriteArtifactResolve("_q", ourID, address, a.String(), now, pair)
	require.NoError(t, err)
	r, err := saml.ReadArtifactResolve(ask)
	require.NoError(t, err)
	require.Equal(t, a, r.Artifact)
	require.NoError(t, r.Verify(sp, xmlsec.Policy{}))
	require.True(t, finding.Is(r.Verify(&saml.SP{Keys: []saml.Key{{Certificate: other.Certificate}}}, xmlsec.Policy{}),
		finding.SignatureKey))
	from, to := strings.Index(string(ask), "<ds:Signature "), strings.Index(string(ask), "</ds:Signature>")+
		len("</ds:Signature>")
	r, err = saml.ReadArtifactResolve([]byte(string(ask[:from]) + string(ask[to:])))
	require.NoError(t, err)
	require.True(t, finding.Is(r.Verify(sp, xmlsec.Policy{}), finding.SignatureMissing), "who asks gets an identity")
	_, err = saml.ReadArtifactResolve([]byte(strings.Replace(string(ask), `ID="_q"`, `ID="7 q"`, 1)))
	require.True(t, finding.Is(err, finding.MessageUndecodable),
		"it is given back as InResponseTo, which must be an xs:ID")

	s := newSigner(t)
	inner := s.sign(answer, "assertion")
	reply, err := saml.WriteArtifactResponse("_p", "_q", idpID, []byte(inner), now, pair)
	require.NoError(t, err)
	file, cert := filepath.Join(t.TempDir(), "r.xml"), filepath.Join(t.TempDir(), "c.pem")
	require.NoError(t, os.WriteFile(file, reply, 0o600))
	require.NoError(t, os.WriteFile(cert, pair.Certificate.PEM(), 0o600))
	out, err := exec.Command("xmlsec1", "--verify", "--pubkey-cert-pem", cert, "--id-attr:ID",
		"urn:oasis:names:tc:SAML:2.0:protocol:ArtifactResponse",
		"--node-xpath", "//*[@ID='_p']/*[local-name()='Signature']", file).CombinedOutput()
	require.NoError(t, err, string(out))
	message, octets, err := saml.ReadArtifactResponse(reply, idp, "_q", xmlsec.Policy{})
	require.NoError(t, err)
	require.Contains(t, string(octets), "Response")
	var log finding.Checks
	opened, err := message.Open(&saml.IDP{EntityID: idpID,
		Keys: []saml.Key{{Certificate: keys.Certificate{Public: &s.key.PublicKey}}}}, saml.Trust{Now: now}, &log)
	require.NoError(t, err)
	_, err = opened.Check(saml.Expect{EntityIDs: []saml.EntityID{ourID}, ACS: acs, Request: &saml.Sent{ID: "_q1"},
		Now: now},
		&log)
	require.NoError(t, err, "the signature inside still holds")

	empty, err := saml.WriteArtifactResponse("_p", "_q", idpID, nil, now, pair)
	require.NoError(t, err)
	for _, c := range []struct {
		rule  string
		reply string
		to    string
		want  finding.Code
	}{
		{"no message behind it", string(empty), "_q", finding.ArtifactUnresolved},
		{"an answer to another question", string(reply), "_x", finding.InResponseToOther},
		{"an alteration", strings.Replace(string(reply), "Success", "Successs", 1), "_q", finding.SignatureAltered},
		{"another issuer", strings.Replace(string(reply), idpID, "urn:x", 1), "_q", finding.IssuerOther},
		{"another message", string(ask), "_q", finding.MessageOther},
		{"no envelope", inner, "_q", finding.MessageOther},
	} {
		_, _, err := saml.ReadArtifactResponse([]byte(c.reply), idp, c.to, xmlsec.Policy{})
		require.True(t, finding.Is(err, c.want), "%s: %v", c.rule, err)
	}
}

func FuzzResponse(f *testing.F) {
	f.Add([]byte(answer))
	f.Fuzz(func(t *testing.T, octets []byte) {
		var log finding.Checks
		if o, err := saml.OpenResponse(octets, &saml.IDP{EntityID: idpID}, saml.Trust{Now: now}, &log); err == nil &&
			o.AssertionID() != "" {
			t.Fatal("an answer without any key was opened")
		}
		_, _, _ = saml.ReadArtifactResponse(octets, &saml.IDP{EntityID: idpID}, "_q", xmlsec.Policy{})
	})
}
