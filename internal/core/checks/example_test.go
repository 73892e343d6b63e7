package checks_test

import (
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
)

// What can be known of an application before anybody signs in.
func Example() {
	roster := &federation.Application{Side: &samlside.Application{SP: &saml.SP{
		EntityID: "https://roster.wrenmoor.example/saml",
		ACS:      []saml.Endpoint{{Binding: saml.BindingPOST, Location: "http://roster.oakhollow.example/acs"}},
	}}}
	roster.Name, roster.OnlyOwnStarts, roster.Everyone = "roster", true, federation.EveryoneYes
	snapshot := federation.NewSnapshot(federation.Gate{}).With(roster)
	all := checks.New(snapshot, time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC))
	for _, f := range all.Record(roster) {
		fmt.Printf("%s: %s [%s]\n", f.Severity, f.Title, f.Code)
	}
	// Output:
	// error: The application refuses answers it did not ask for, and its own start address is not on record [own-start-missing]
	// warning: The address is http, not https [address-http]
	// warning: The address lies at a host that the other side is not known to own [address-foreign-host]
}

// Two values that look the same are told apart by what they differ in.
func ExampleNearness() {
	fmt.Println(checks.Nearness("https://roster.wrenmoor.example/saml", "https://roster.wrenmoor.example/saml/"))
	fmt.Println(checks.Nearness("https://roster.wrenmoor.example/saml", "http://Roster.wrenmoor.example/saml"))
	fmt.Println(checks.Nearness("https://roster.wrenmoor.example/saml", "https://planner.wrenmoor.example/saml") == "")
	// Output:
	// slash
	// scheme and case
	// true
}
