package policy_test

import (
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/saml"
)

// Two providers are possible until the application is tied to one, or the
// person chooses.
func ExampleSelect() {
	snap := federation.NewSnapshot(federation.Gate{})
	for _, name := range []federation.Name{"staff", "contractors"} {
		p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{EntityID: saml.EntityID("urn:" + string(name))}}}
		p.Name, p.Phase = name, federation.Live
		snap = snap.With(p)
	}
	app := &federation.Application{}
	c, err := policy.Select(snap, app, policy.Asking{}, time.Time{})
	fmt.Println(c.Ask(), c.Providers, err)
	c, _ = policy.Select(snap, app, policy.Asking{Chosen: "staff"}, time.Time{})
	fmt.Println(c.Ask(), c.Reasons[0].Text())
	app.Provider = "contractors"
	c, _ = policy.Select(snap, app, policy.Asking{Chosen: "staff"}, time.Time{})
	fmt.Println(c.Providers, c.Reasons[0].Text())
	// Output:
	// true [contractors staff] <nil>
	// false staff, chosen by the person
	// [contractors] contractors, named on the application's record
}
