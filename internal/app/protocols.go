package app

import (
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/linkside"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/web"
	"innergate.example/innergate/internal/web/oidcweb"
	"innergate.example/innergate/internal/web/samlweb"
)

// The protocols are plugged in here and nowhere else: the core part of each, its
// addresses, and, in standins.go, its simulated counterparts.

// Protocols are the core parts. The first is what a record speaks if nothing is
// said.
func Protocols() []crossing.Protocol {
	return []crossing.Protocol{samlside.Protocol{}, oidcside.Protocol{}, rpside.Protocol{}, linkside.Protocol{}}
}

// Endpoints are the addresses of those that have some.
func Endpoints() []web.Endpoints { return []web.Endpoints{samlweb.Endpoints{}, oidcweb.Endpoints{}} }

// fields are those that values of each protocol are typed in by.
var fields = map[string][]string{
	samlside.Name: {"entityId", "ssoRedirect", "ssoPost", "acs", "acsArtifact", "nameIdFormat", "certificate", "nextCertificate",
		"encryptionCertificate"},
	oidcside.Name: {"issuer", "clientId", "clientSecret", "clientSecretEnds", "authorize", "token", "userinfo", "jwksUri", "jwks",
		"endSession", "kind", "redirectUris", "postLogoutRedirectUris", "backchannelLogoutUri", "initiateLoginUri"},
	rpside.OAuth2: {"clientId", "clientSecret", "clientSecretEnds", "authorize", "token", "userinfo", "identifier"},
	linkside.Name: {"link"},
}

// Fields are the fields that values of a protocol are typed in by; false for one that is none.
func Fields(protocol string) ([]string, bool) {
	f, ok := fields[protocol]
	return f, ok
}

// IdentityWord is what a protocol calls the identity of a provider or an application.
func IdentityWord(kind, protocol string) string {
	switch {
	case protocol == samlside.Name:
		return "entity ID"
	case kind == "application" && protocol == oidcside.Name:
		return "client ID"
	case protocol == oidcside.Name:
		return "issuer"
	}
	return "identity"
}
