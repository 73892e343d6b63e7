package saml_test

import (
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

// What is not metadata is recognised, and the finding says what to do.
func ExampleReadMetadata() {
	_, err := saml.ReadMetadata([]byte(`<!DOCTYPE html><html><body>Please sign in</body></html>`), time.Now())
	f := finding.Of(err)
	fmt.Println(f.Code)
	fmt.Println(f.Title)
	// Output:
	// metadata-html
	// This is a web page, not metadata
}

// A request goes to the provider in an address, and is read back from it.
func ExampleWriteAuthnRequest() {
	out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: "_1", IssueInstant: time.Now(), Issuer: "urn:gate",
		ACS: "https://gate.example/acs"},
		saml.Endpoint{Binding: saml.BindingRedirect, Location: "https://idp.example/sso"}, "handle", nil)
	if err != nil {
		panic(err)
	}
	in, err := saml.FromRedirect(out.Location[len("https://idp.example/sso?"):], "SAMLRequest")
	if err != nil {
		panic(err)
	}
	r, err := saml.ReadRequest(in.Octets)
	fmt.Println(r.Issuer, in.RelayState, err)
	// Output: urn:gate handle <nil>
}
