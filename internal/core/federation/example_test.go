package federation_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/federation"
)

// A short name is parsed once, at the edge.
func ExampleParseName() {
	n, err := federation.ParseName("crew-roster")
	fmt.Println(n, err)
	_, err = federation.ParseName("Crew Roster")
	fmt.Println(err)
	// Output:
	// crew-roster <nil>
	// This is not a short name (Given: Crew Roster; Near to it: crew-roster). Use 1 to 63 of a-z, 0-9 and hyphen, beginning with a letter or digit.
}
