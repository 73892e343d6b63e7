package saml_test

import (
	"encoding/base64"
	"net/url"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/saml"
)

// A pasted message is read in whatever form it was copied; what cannot be read says why.
func TestPastedMessages(t *testing.T) {
	const assertion = `<a:Assertion xmlns:a="urn:oasis:names:tc:SAML:2.0:assertion"><a:Subject><a:NameID Format="f">ada<!-- x -->.fenwick</a:NameID></a:Subject>
		<a:AttributeStatement><a:Attribute Name="mail"><a:AttributeValue>a@b.example</a:AttributeValue></a:Attribute></a:AttributeStatement></a:Assertion>`
	const head = `<p:Response xmlns:p="urn:oasis:names:tc:SAML:2.0:protocol"><p:Status><p:StatusCode Value="urn:oasis:names:tc:SAML:2.0:status:`
	response := head + `Success"/></p:Status>` + assertion + `</p:Response>`
	coded := base64.StdEncoding.EncodeToString([]byte(response))
	for _, text := range []string{assertion, response, " \n" + response, coded, coded[:20] + "\n " + coded[20:],
		"SAMLResponse=" + url.QueryEscape(coded) + "&RelayState=x"} {
		a, err := saml.Unproved(text)
		require.NoError(t, err, text)
		require.Equal(t, "ada.fenwick", a.NameID.Value)
		require.Equal(t, "a@b.example", a.Attributes[0].Values[0].Text)
	}
	for text, cause := range map[string]string{
		"":            "",
		"nonsense, !": "neither XML nor base64",
		"<x/>":        "Response or Assertion",
		head + `Responder"/></p:Status></p:Response>`:   "Responder",
		head + `Success"/></p:Status><x/></p:Response>`: "the decrypted one stands in the trace",
		`<!DOCTYPE x><a:Assertion xmlns:a="urn:x"/>`:    "",
	} {
		_, err := saml.Unproved(text)
		require.Error(t, err, text)
		require.ErrorContains(t, err, cause)
	}
}
