package grant_test

import (
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
)

// A code is redeemed once; after that everything it gave has ended.
func Example() {
	now := time.Date(2026, 11, 26, 8, 0, 0, 0, time.UTC)
	const verifier = "dBjftJeZ4CVP-mB92K27uhbUJU1p1r_wW1gFWFOEjXk"
	g := grant.Grant{Client: "planner", Began: now, Code: grant.Code{Challenge: oidc.Challenge(verifier)}}
	r := grant.Redemption{Client: "planner", Verifier: verifier}
	g, err := g.Redeem(r, now)
	fmt.Println(err, g.Ended == "")
	g, err = g.Redeem(r, now)
	fmt.Println(oidc.RefusalOf(err).Code, g.Ended)
	// Output:
	// <nil> true
	// invalid_grant code-twice
}
