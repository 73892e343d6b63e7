package oidcside

import (
	"encoding/json"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// Addresses of the gate as OpenID provider, below its base.
const (
	discoveryPath  = "/.well-known/openid-configuration"
	AuthorizePath  = "/oidc/op/authorize"
	TokenPath      = "/oidc/op/token"
	UserInfoPath   = "/oidc/op/userinfo"
	JWKSPath       = "/oidc/op/jwks"
	IntrospectPath = "/oidc/op/introspect"
	RevokePath     = "/oidc/op/revoke"
	PushPath       = "/oidc/op/par"
	LogoutPath     = "/oidc/op/logout"
)

// Discovery is what the gate says of itself (OpenID Connect Discovery §3, RFC 8414
// §2). What is not offered is said too.
func Discovery(g *federation.Gate) ([]byte, error) {
	methods := []oidc.Method{oidc.SecretBasic, oidc.SecretPost, oidc.SignedJWT}
	claims := []string{"iss", "sub", "aud", "exp", "iat", "auth_time", "nonce", "acr", "amr", "azp", "at_hash", "sid"}
	for _, s := range profile.Standards() {
		claims = append(claims, s.Claim)
	}
	contexts := []string{}
	for _, rank := range g.Contexts {
		contexts = append(contexts, rank...)
	}
	return json.MarshalIndent(map[string]any{
		"issuer": string(Issuer(g)), "authorization_endpoint": g.Base + AuthorizePath, "token_endpoint": g.Base + TokenPath,
		"userinfo_endpoint": g.Base + UserInfoPath, "jwks_uri": g.Base + JWKSPath,
		"introspection_endpoint": g.Base + IntrospectPath, "revocation_endpoint": g.Base + RevokePath,
		"pushed_authorization_request_endpoint": g.Base + PushPath, "end_session_endpoint": g.Base + LogoutPath,
		"scopes_supported": standardScopes, "response_types_supported": []string{"code"},
		"response_modes_supported": []string{"query", "form_post"},
		"grant_types_supported":    []string{"authorization_code", "refresh_token", "client_credentials"},
		"acr_values_supported":     contexts, "subject_types_supported": []string{"public", "pairwise"},
		"id_token_signing_alg_values_supported":                    Algorithms,
		"token_endpoint_auth_methods_supported":                    append(methods, oidc.NoMethod),
		"token_endpoint_auth_signing_alg_values_supported":         oidc.Algorithms,
		"introspection_endpoint_auth_methods_supported":            methods,
		"introspection_endpoint_auth_signing_alg_values_supported": oidc.Algorithms,
		"revocation_endpoint_auth_methods_supported":               append(methods, oidc.NoMethod),
		"revocation_endpoint_auth_signing_alg_values_supported":    oidc.Algorithms,
		"code_challenge_methods_supported":                         []string{"S256"},
		"claim_types_supported":                                    []string{"normal"}, "claims_supported": claims,
		"claims_parameter_supported": true, "request_parameter_supported": false,
		"request_uri_parameter_supported": false, "require_pushed_authorization_requests": false,
		"prompt_values_supported":                        []string{"none", "login", "consent", "select_account"},
		"authorization_response_iss_parameter_supported": true, "backchannel_logout_supported": true,
		"backchannel_logout_session_supported": true, "frontchannel_logout_supported": false,
		"tls_client_certificate_bound_access_tokens": false,
	}, "", "  ")
}

// JWKS is the JWK Set of the keys that tokens are signed with: the current ones,
// those announced, and those of before, for tokens that are still good.
func JWKS(g *federation.Gate) ([]byte, error) { return oidc.WriteKeys(SigningKeys(g)) }
