package saml_test

import (
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// part cuts an element out of a text, its tags included.
func part(t *testing.T, s, tag string) (before, el, behind string) {
	t.Helper()
	from, end := strings.Index(s, "<"+tag+" "), strings.LastIndex(s, "</"+tag+">")
	require.True(t, from >= 0 && end > from, tag)
	end += len("</" + tag + ">")
	return s[:from], s[from:end], s[end:]
}

// TestSignatureWrapping moves what was signed about, in every layout known, and
// puts something else where it stood. Whatever the layout, nobody may come in,
// and never as the other person.
func TestSignatureWrapping(t *testing.T) {
	s := newSigner(t)
	idp := &saml.IDP{EntityID: idpID, Keys: []saml.Key{{Certificate: keys.Certificate{Public: &s.key.PublicKey}}}}
	asked := saml.Expect{EntityIDs: []saml.EntityID{ourID}, ACS: acs, Request: &saml.Sent{ID: "_q1"}, Now: now,
		Skew: time.Minute}
	forge := strings.NewReplacer("ada.fenwick", "eve", ` ID="_a1"`, ` ID="_evil"`, ` ID="_r1"`, ` ID="_evil"`,
		"@ASSERTION@", "", "@RESPONSE@", "")

	byAssertion, byResponse := s.sign(answer, "assertion"), s.sign(answer, "response")
	aBefore, aSigned, aBehind := part(t, byAssertion, "saml:Assertion")
	_, aSig, _ := part(t, aSigned, "ds:Signature")
	aBare := strings.Replace(aSigned, aSig, "", 1)
	aForged := forge.Replace(assertion)
	_, rSig, _ := part(t, byResponse, "ds:Signature")
	rBare := strings.Replace(byResponse, rSig, "", 1)
	rForged := forge.Replace(answer)
	inObject := func(sig, what string) string {
		return strings.Replace(sig, "</ds:Signature>", "<ds:Object>"+what+"</ds:Object></ds:Signature>", 1)
	}
	afterIssuer := func(s, what string) string {
		return strings.Replace(s, "</saml:Issuer>", "</saml:Issuer>"+what, 1)
	}
	const ext, endExt = "<samlp:Extensions>", "</samlp:Extensions>"

	for rule, text := range map[string]string{
		"Response: the original in an Object of its signature, in a forged one": afterIssuer(rForged,
			inObject(rSig, rBare)),
		"Response: the original beside its signature, in a forged one": afterIssuer(rForged, rSig+rBare),
		"Response: the original whole in the Extensions of a forged one": afterIssuer(rForged,
			ext+byResponse+endExt),
		"Response: the original whole in a forged one, with its signature again": afterIssuer(rForged,
			rSig+ext+rBare+endExt),
		"Response: the original whole at the end of a forged one": strings.Replace(rForged,
			"</samlp:Response>", byResponse+"</samlp:Response>", 1),
		"Response: signature kept, assertion forged": strings.Replace(byResponse,
			"ada.fenwick", "eve", 1),
		"assertion: a forged one before the original": aBefore + aForged + aSigned + aBehind,
		"assertion: a forged one behind the original": aBefore + aSigned + aForged + aBehind,
		"assertion: the original as child of a forged one": aBefore + strings.Replace(aForged,
			"</saml:Assertion>", aSigned+"</saml:Assertion>", 1) + aBehind,
		"assertion: the signature in a forged one, the original behind it": aBefore + afterIssuer(aForged,
			aSig) + aBare + aBehind,
		"assertion: the signature in a forged one, the original in its Object": aBefore + afterIssuer(aForged,
			inObject(aSig, aBare)) + aBehind,
		"assertion: the original in an Object of a signature in the Response": strings.Replace(aBefore,
			"<samlp:Status>", inObject(aSig, aBare)+"<samlp:Status>", 1) + aForged + aBehind,
		"assertion: the original in Extensions": strings.Replace(aBefore,
			"<samlp:Status>", ext+aSigned+endExt+"<samlp:Status>", 1) + aForged + aBehind,
		"assertion: the original in the Advice of a forged one": aBefore + strings.Replace(aForged,
			"</saml:Conditions>", "</saml:Conditions><saml:Advice>"+aSigned+"</saml:Advice>", 1) + aBehind,
		"assertion: the original in an attribute value of a forged one": aBefore + strings.Replace(aForged,
			"drivers", aSigned, 1) + aBehind,
		"assertion: a forged one with the original's ID, the original in the Object": aBefore +
			strings.Replace(afterIssuer(aForged, inObject(aSig, aBare)), `"_evil"`, `"_a1"`, 1) + aBehind,
		"assertion: the signature stripped": aBefore + aBare + aBehind,
		"assertion: the signature stripped, another element signed": afterIssuer(aBefore, aSig) + aBare +
			aBehind,
	} {
		t.Run(rule, func(t *testing.T) {
			require.NotEqual(t, byAssertion, text)
			require.NotEqual(t, byResponse, text)
			a, _, err := read(text, idp, asked)
			require.Error(t, err, "%+v", a)
			require.NotNil(t, finding.Of(err), "%v", err)
			require.Contains(t, []finding.Code{finding.SignatureLayout, finding.SignatureReference, finding.SignatureMissing,
				finding.SignatureAltered,
				finding.ResponseNoAssertion, finding.XMLDuplicate}, finding.Of(err).Code)
		})
	}
}
