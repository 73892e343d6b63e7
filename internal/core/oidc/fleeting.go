package oidc

// Drawn are the parameters, members and claims that are made anew for each message, or follow from all of it
// (RFC 6749 appendix A, RFC 7519 §4.1.7, RFC 7636 §4, OpenID Connect Core 1.0 §3.1.2.1 and §3.3.2.11).
var Drawn = []string{"state", "nonce", "code", "code_challenge", "code_verifier", "jti", "sid", "at_hash", "c_hash",
	"s_hash", "access_token", "refresh_token", "id_token", "request_uri", "device_code"}

// Technical are those that say nothing of a person.
var Technical = []string{"iss", "aud", "azp", "acr", "amr", "typ", "alg", "kid", "cty", "crit", "token_type",
	"expires_in", "scope", "error", "error_description", "error_uri", "client_id", "redirect_uri", "response_type", "response_mode",
	"grant_type", "code_challenge_method", "prompt", "max_age", "acr_values", "claims", "resource", "request",
	"client_assertion_type", "display", "ui_locales", "token_endpoint_auth_method", "updated_at", "email_verified",
	"Client ID", "Client authentication", "Scope", "Access token", "Redirect URI"}

// Timed are the claims that are points in time (RFC 7519 §4.1, OpenID Connect Core 1.0 §2).
var Timed = []string{"iat", "exp", "nbf", "auth_time"}
