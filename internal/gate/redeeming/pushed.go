package redeeming

import (
	"context"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// pushedName begins what a pushed request is named by.
const pushedName = "urn:ietf:params:oauth:request_uri:"

// Pushed gives the request that a browser names, once. Other addresses are never
// asked for.
func (rm *Room) Pushed(ctx context.Context, clientID, uri string) (string, error) {
	app, ok := rm.records.Snapshot().ApplicationBy(oidcside.Name, clientID)
	switch {
	case !strings.HasPrefix(uri, pushedName):
		return "", oidc.Wrong(oidc.RequestURIsUnwelcome, finding.Fact("Not offered", "request_uri that was not pushed here"))
	case !ok:
		return "", oidc.Refuse(oidc.InvalidClient, finding.New(finding.ApplicationUnknown, finding.Fact("client_id",
			finding.Clip(clientID))))
	}
	form, err := rm.Redeem(ctx, app.Name, uri)
	if err == nil && form == nil {
		err = oidc.Wrong(oidc.InvalidRequest, finding.Fact("request_uri",
			"was used before, has ended, or was pushed by another application"))
	}
	return string(form), err
}

// Origins are those that some application in a browser calls from (CORS): a
// preflight request names no client.
func Origins(snap *federation.Snapshot) map[string]bool {
	out := map[string]bool{}
	for _, a := range snap.Applications() {
		if side, ok := a.Side.(*oidcside.Application); ok {
			for _, o := range side.Origins() {
				out[o] = true
			}
		}
	}
	return out
}

// MayCall reports whether the client of a request may be called for from an origin.
func MayCall(snap *federation.Snapshot, clientID, origin string) bool {
	app, ok := snap.ApplicationBy(oidcside.Name, clientID)
	return ok && slices.Contains(app.Side.(*oidcside.Application).Origins(), strings.ToLower(origin))
}
