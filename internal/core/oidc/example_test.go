package oidc_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/oidc"
)

// A request is read, and held against the client that it names.
func Example() {
	client := &oidc.Client{ID: "planner", Kind: oidc.Web,
		RedirectURIs: []oidc.RedirectURI{"https://planner.wrenmoor.example/cb"}}
	r, err := oidc.ReadRequest("client_id=planner&redirect_uri=https://planner.wrenmoor.example/cb/&response_type=code")
	if err == nil {
		err = r.Check(client)
	}
	refusal := oidc.RefusalOf(err)
	fmt.Println(refusal.Code, refusal.Finding.Code, refusal.Back)
	// Output: invalid_request redirect-uri-unregistered false
}
