// Package oidc holds the documents and messages of OpenID Connect and OAuth 2.0:
// signed tokens and the keys that verify them, authorization requests, redirect
// URIs, how a client proves who it is, and the metadata of a client.
//
//	r, err := oidc.ReadRequest(query)
//	if err == nil { err = r.Check(client) }
//	if refusal := oidc.RefusalOf(err); refusal != nil && refusal.Back { … } // the client hears of it
//
// Everything here is pure: times, random values and what was used before come in.
package oidc
