package finding_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/finding"
)

// A refusal is an error that tells cause and way out.
func Example() {
	var checks finding.Checks
	checks.Pass("Issuer", "https://accounts.wrenmoor.example")
	err := checks.Fail("Audience", finding.New(finding.AudienceOther, finding.Compare("Audience", "urn:gate",
		"urn:gate/")))
	fmt.Println(err)
	fmt.Println(len(checks), finding.Is(err, finding.AudienceOther), finding.Of(err).Side)
	// Output:
	// The assertion was made for another audience (Audience: expected “urn:gate”, found “urn:gate/”). Set the audience (entity ID of the gate) at the provider to the value expected here.
	// 2 true provider
}
