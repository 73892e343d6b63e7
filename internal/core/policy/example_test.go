package policy_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/saml"
)

// Two providers are possible until the application is tied to one, or the
// person chooses.
func ExampleSelect() {
	snap := federation.NewSnapshot(federation.Gate{})
	for _, name := range []federation.Name{"staff", "contractors"} {
		snap = snap.WithProvider(&federation.Provider{Name: name, ProviderSettings: federation.ProviderSettings{Enabled: true},
			SAML: &federation.SAMLProvider{IDP: &saml.IDP{EntityID: "urn:" + string(name)}}})
	}
	app := &federation.Application{Name: "roster"}
	c, err := policy.Select(snap, app, "")
	fmt.Println(c.Ask(), c.Providers, err)
	c, _ = policy.Select(snap, app, "staff")
	fmt.Println(c.Ask(), c.Reasons[0].Found)
	app.Provider = "contractors"
	c, _ = policy.Select(snap, app, "staff")
	fmt.Println(c.Providers, c.Reasons[0].Found)
	// Output:
	// true [contractors staff] <nil>
	// false staff, chosen by the person
	// [contractors] contractors, named on the application's record
}
