package federation_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
)

// A change is told value by value; what metadata should not change unnoticed is
// a finding.
func ExampleDifferences() {
	provider := func(address string) *federation.Provider {
		return &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{EntityID: "urn:staff",
			SSO: []saml.Endpoint{{Binding: saml.BindingRedirect, Location: address}}}}}
	}
	all := federation.Differences(provider("https://a.wrenmoor.example/sso").Describe(),
		provider("https://b.wrenmoor.example/sso").Describe())
	for _, d := range all {
		fmt.Printf("%s\n  %s\n  %s\n", d.Name(), d.Before, d.After)
	}
	for _, f := range federation.Changed(all) {
		fmt.Println(f.Code)
	}
	// Output:
	// SingleSignOnService by HTTP-Redirect
	//   https://a.wrenmoor.example/sso
	//   https://b.wrenmoor.example/sso
	// changed-address
}
