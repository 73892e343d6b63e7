// Package rpside plugs OpenID Connect and OAuth 2.0 providers into the gate: the gate
// relies on what they say. The messages themselves are in package oidc.
//
//	var p crossing.ProviderSide = rpside.New(rpside.OpenID)
//	out := p.Step(crossing.In{Begins: true, …}) // an authorization request leaves
//
// provider.go holds the part of a record and settings.go what an engineer decides;
// taking.go says how it is filled, sheet.go what the other side needs from us, checks.go
// what can be found before a sign-in. ask.go sends people to the provider, arrive.go
// takes in what comes back, and judge.go follows it: the answer, the tokens behind its
// code, what the user-info address says. claims.go turns that into attributes,
// again.go asks later on, and leave.go is signing out, there and here.
//
// Codes, tokens, verifiers and secrets are in no trace and no state: verifier and nonce
// are derived from the name of the request whenever they are needed, secrets are named
// and opened when a call is rendered, and what is kept of tokens goes beside the session
// (crossing.Upstream).
package rpside
