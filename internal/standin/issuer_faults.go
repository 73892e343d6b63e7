package standin

import (
	"net/http"
	"net/url"
	"strings"
	"time"
)

// issuerFault is a way in which an OpenID or OAuth 2.0 provider can misbehave: in its
// answer through the browser, in its ID token, at its token or user-info address, or in
// what it says of itself. One without a finding is odd and has to work.
type issuerFault struct {
	Fault
	plain     bool // one of OAuth 2.0 can have it too
	answer    func(i *Issuer, out url.Values)
	token     func(i *Issuer, m *minted)
	tokens    func(answer map[string]any)
	reply     func(i *Issuer, w http.ResponseWriter, r *http.Request) bool
	info      func(i *Issuer, w http.ResponseWriter, g granted, claims map[string]any) bool
	discovery func(i *Issuer, w http.ResponseWriter, r *http.Request, d map[string]any)
	keys      func(w http.ResponseWriter)
}

// slow is longer than anybody waits for an answer.
const slow = 11 * time.Second

func claiming(name string, v any) func(*Issuer, *minted) {
	return func(_ *Issuer, m *minted) {
		if m.claims[name] = v; v == nil {
			delete(m.claims, name)
		}
	}
}

func header(name string, v any) func(*Issuer, *minted) {
	return func(_ *Issuer, m *minted) { m.header[name] = v }
}

func says(pairs ...string) func(*Issuer, url.Values) {
	return func(_ *Issuer, out url.Values) {
		out.Del("code")
		for n := 0; n+1 < len(pairs); n += 2 {
			out.Set(pairs[n], pairs[n+1])
		}
	}
}

func refuses(status int, code, description string) func(*Issuer, http.ResponseWriter, *http.Request) bool {
	return func(_ *Issuer, w http.ResponseWriter, _ *http.Request) bool {
		writeJSON(w, status, map[string]any{"error": code, "error_description": description})
		return true
	}
}

func htmlPage(w http.ResponseWriter, status int) {
	w.Header().Set("Content-Type", "text/html")
	w.WriteHeader(status)
	_, _ = w.Write([]byte("<!doctype html><title>Sign in</title><p>Please sign in to the proxy first."))
}

var issuerFaults = []issuerFault{
	// The answer through the browser.
	{Fault: Fault{"denied", "the person is not assigned to the gate", "provider-denied"}, plain: true,
		answer: says("error", "access_denied", "error_description", "The user is not assigned to this application")},
	{Fault: Fault{"bad-scope", "a scope is not known", "provider-refuses-request"}, plain: true,
		answer: says("error", "invalid_scope", "error_description", "The scope profile is not granted to this client")},
	{Fault: Fault{"not-enabled", "the client was registered and never switched on", "provider-refuses-request"},
		plain: true, answer: says("error", "unauthorized_client", "error_description", "This client is not enabled")},
	{Fault: Fault{"unavailable", "the provider is down for a while", "provider-busy"}, plain: true,
		answer: says("error", "temporarily_unavailable")},
	{Fault: Fault{"no-code", "the answer has no code", "answer-malformed"}, plain: true, answer: says()},
	{Fault: Fault{"twice", "a parameter of the answer comes twice", "answer-malformed"}, plain: true,
		answer: func(_ *Issuer, out url.Values) { out.Add("code", "another") }},
	{Fault: Fault{"other-state", "the state is another one", "answer-unasked"}, plain: true,
		answer: func(_ *Issuer, out url.Values) { out.Set("state", newID()) }},
	{Fault: Fault{"mix-up", "the answer names another issuer", "answer-issuer"},
		answer: func(_ *Issuer, out url.Values) { out.Set("iss", "https://accounts.somebody-else.example") }},
	{Fault: Fault{"no-iss", "the answer does not name the issuer, though the document says that it does",
		"answer-issuer"},
		answer: func(_ *Issuer, out url.Values) { out.Set("iss", "") }},
	{Fault: Fault{"stays", "the provider shows a page with an error, and nobody comes back", "crossing-left"},
		plain: true,
		answer: func(_ *Issuer, out url.Values) {
			out.Set("stay", "The reply address of the request is not registered for this client.")
		}},

	// The ID token.
	{Fault: Fault{"wrong-issuer", "iss differs by a slash", "token-issuer"},
		token: func(i *Issuer, m *minted) { m.claims["iss"] = i.Base + "/" }},
	{Fault: Fault{"wrong-audience", "the token is for another client", "token-audience"},
		token: claiming("aud", "somebody-else")},
	{Fault: Fault{"more-audiences", "the token is for somebody else as well", "token-audience"},
		token: func(i *Issuer, m *minted) { m.claims["aud"] = []string{i.ClientID, "somebody-else"} }},
	{Fault: Fault{"other-party", "azp is another client", "token-authorized-party"}, token: claiming("azp",
		"somebody-else")},
	{Fault: Fault{"wrong-nonce", "the nonce is that of another request", "token-nonce"}, token: claiming("nonce",
		"another")},
	{Fault: Fault{"no-nonce", "there is no nonce", "token-nonce"}, token: claiming("nonce", nil)},
	{Fault: Fault{"expired", "the token is an hour old", "token-expired"}, token: func(i *Issuer, m *minted) {
		m.claims["iat"], m.claims["exp"] = i.Now().Add(-time.Hour).Unix(), i.Now().Add(-55*time.Minute).Unix()
	}},
	{Fault: Fault{"not-yet-valid", "the token is from tomorrow", "token-not-yet-valid"},
		token: func(i *Issuer, m *minted) {
			m.claims["iat"], m.claims["exp"] = i.Now().Add(24*time.Hour).Unix(), i.Now().Add(25*time.Hour).Unix()
		}},
	{Fault: Fault{"no-end", "the token does not say how long it is good", "token-claim"}, token: claiming("exp", nil)},
	{Fault: Fault{"wrong-hash", "at_hash is that of another token", "token-hash"}, token: claiming("at_hash",
		half("another"))},
	{Fault: Fault{"no-subject", "sub is empty", "token-subject"}, token: claiming("sub", "")},
	{Fault: Fault{"long-subject", "sub has 300 letters", "token-subject"}, token: claiming("sub", strings.Repeat("a",
		300))},
	{Fault: Fault{"number-subject", "sub is a number", "token-subject"}, token: claiming("sub", 40017)},
	{Fault: Fault{"unsigned", "the token says that it needs no signature", "token-algorithm"},
		token: func(_ *Issuer, m *minted) {
			m.header["alg"] = "none"
			m.raw = func(h, p string) string { return h + "." + p + "." }
		}},
	{Fault: Fault{"public-secret", "the token is signed as if the public key were a secret", "token-algorithm"},
		token: func(i *Issuer, m *minted) {
			m.header["alg"] = "HS256"
			m.raw = func(h, p string) string { return h + "." + p + "." + hmacOf(i.Pair, h+"."+p) }
		}},
	{Fault: Fault{"altered", "something on the way changed the claims", "token-altered"},
		token: func(i *Issuer, m *minted) {
			m.raw = func(h, p string) string {
				m.claims["sub"] = "signal-box"
				return h + "." + b64.EncodeToString(encode(m.claims)) + "." + sign(i.Pair, h+"."+p)
			}
		}},
	{Fault: Fault{"wrong-key", "the token is signed with a key nobody knows, under a kid that is known", "token-altered"},
		token: func(i *Issuer, m *minted) { m.pair = i.stranger }},
	{Fault: Fault{"unknown-key", "the kid is not in the JWK Set", "token-key"}, token: func(i *Issuer, m *minted) {
		m.pair, m.header["kid"] = i.stranger, "k-unknown"
	}},
	{Fault: Fault{"own-key", "the token brings its own key along", "token-altered"}, token: func(i *Issuer, m *minted) {
		m.pair, m.header["jwk"] = i.stranger, jwk(i.stranger)
		m.header["jku"] = i.Base + "/somebody-elses-keys"
	}},
	{Fault: Fault{"critical", "the header demands what nobody knows", "token-malformed"},
		token: header("crit", []string{"urn:unknown"})},
	{Fault: Fault{"other-kind", "an access token comes in place of the ID token", "token-kind"},
		token: header("typ", "at+jwt")},
	{Fault: Fault{"member-twice", "the token has two subjects", "token-malformed"}, token: func(_ *Issuer, m *minted) {
		text := string(encode(m.claims))
		m.payload = []byte(`{"sub":"signal-box",` + text[1:])
	}},
	{Fault: Fault{"encrypted", "the token is encrypted", "token-encrypted"}, token: func(_ *Issuer, m *minted) {
		m.raw = func(h, p string) string { return h + ".AAAA.BBBB." + p + ".CCCC" }
	}},
	{Fault: Fault{"rotated", "the keys were exchanged just now", ""}, token: func(i *Issuer, m *minted) {
		i.mu.Lock()
		i.next = i.stranger
		i.mu.Unlock()
		m.pair, m.header["kid"] = i.stranger, kid(i.stranger)
	}},
	{Fault: Fault{"no-kid", "the token does not say by which key it is signed", ""},
		token: func(_ *Issuer, m *minted) { delete(m.header, "kid") }},
	{Fault: Fault{"groups-elsewhere", "the person has too many groups for the token", ""},
		token: func(i *Issuer, m *minted) {
			m.claims["_claim_names"] = map[string]any{"groups": "src1", "credit_score": "src1"}
			m.claims["_claim_sources"] = map[string]any{"src1": map[string]any{"endpoint": i.Base + "/people/groups"}}
		}},

	// The token endpoint.
	{Fault: Fault{"no-id-token", "the token answer has no ID token", "id-token-missing"},
		tokens: func(a map[string]any) { delete(a, "id_token") }},
	{Fault: Fault{"no-access-token", "the token answer has no access token", "token-answer-odd"}, plain: true,
		tokens: func(a map[string]any) { delete(a, "access_token") }},
	{Fault: Fault{"not-bearer", "the token is of a kind that nobody knows", "token-answer-odd"}, plain: true,
		tokens: func(a map[string]any) { a["token_type"] = "mac" }},
	{Fault: Fault{"bound", "the token is bound to a key (DPoP)", "requires-unoffered"}, plain: true,
		tokens: func(a map[string]any) { a["token_type"] = "DPoP" }},
	{Fault: Fault{"page", "a page comes in place of tokens", "token-answer-odd"}, plain: true,
		reply: func(_ *Issuer, w http.ResponseWriter, _ *http.Request) bool { htmlPage(w, http.StatusOK); return true }},
	{Fault: Fault{"wrong-secret", "the client secret is not accepted", "client-refused"}, plain: true,
		reply: refuses(http.StatusUnauthorized, "invalid_client", "Client secret mismatch")},
	{Fault: Fault{"code-refused", "the code is not taken back", "code-refused"}, plain: true,
		reply: refuses(http.StatusBadRequest, "invalid_grant", "redirect_uri differs from that of the request")},
	{Fault: Fault{"unsupported", "the token endpoint knows no codes", "token-refused"}, plain: true,
		reply: refuses(http.StatusBadRequest, "unsupported_grant_type", "")},
	{Fault: Fault{"echo", "the error has the code and the proof in it", "token-refused"}, plain: true,
		reply: func(_ *Issuer, w http.ResponseWriter, r *http.Request) bool {
			return refuses(http.StatusBadRequest, "invalid_request", "cannot read "+r.Header.Get("Authorization")+
				" "+r.PostForm.Encode())(nil, w, r)
		}},
	{Fault: Fault{"broken", "the token endpoint fails", "provider-failed"}, plain: true,
		reply: func(_ *Issuer, w http.ResponseWriter, _ *http.Request) bool {
			http.Error(w, "upstream connect error", http.StatusBadGateway)
			return true
		}},
	{Fault: Fault{"elsewhere", "the token endpoint redirects", "token-endpoint-unreachable"}, plain: true,
		reply: func(i *Issuer, w http.ResponseWriter, r *http.Request) bool {
			http.Redirect(w, r, i.Base+"/token", http.StatusTemporaryRedirect)
			return true
		}},
	{Fault: Fault{"too-large", "the token answer has a megabyte", "token-endpoint-unreachable"}, plain: true,
		reply: func(_ *Issuer, w http.ResponseWriter, _ *http.Request) bool {
			writeJSON(w, http.StatusOK, map[string]any{"access_token": strings.Repeat("a", 1<<20)})
			return true
		}},
	{Fault: Fault{"slow", "the token endpoint takes eleven seconds", "token-endpoint-unreachable"}, plain: true,
		reply: func(_ *Issuer, _ http.ResponseWriter, r *http.Request) bool {
			select {
			case <-time.After(slow):
			case <-r.Context().Done():
			}
			return true
		}},

	// The user-info address.
	{Fault: Fault{"other-person", "the user-info address speaks of somebody else", "user-info-subject"},
		info: func(_ *Issuer, _ http.ResponseWriter, _ granted, c map[string]any) bool {
			c["sub"] = "somebody-else"
			return false
		}},
	{Fault: Fault{"info-page", "a page comes in place of claims", "user-info-odd"}, plain: true,
		info: func(_ *Issuer, w http.ResponseWriter, _ granted, _ map[string]any) bool {
			htmlPage(w, http.StatusOK)
			return true
		}},
	{Fault: Fault{"info-refused", "the user-info address wants more scopes", "user-info-refused"}, plain: true,
		info: func(_ *Issuer, w http.ResponseWriter, _ granted, _ map[string]any) bool {
			writeJSON(w, http.StatusForbidden, map[string]any{"error": "insufficient_scope"})
			return true
		}},
	{Fault: Fault{"info-elsewhere", "the user-info address redirects", "user-info-unreachable"}, plain: true,
		info: func(i *Issuer, w http.ResponseWriter, _ granted, _ map[string]any) bool {
			w.Header().Set("Location", i.Base+"/userinfo-of-tomorrow")
			w.WriteHeader(http.StatusFound)
			return true
		}},
	{Fault: Fault{"no-identifier", "the user-info address does not say who it is", "identifier-missing"}, plain: true,
		info: func(i *Issuer, _ http.ResponseWriter, _ granted, c map[string]any) bool {
			if i.Plain {
				delete(c, "id")
			}
			return false
		}},
	{Fault: Fault{"info-differs", "the ID token tells another name than the user-info address", ""},
		token: claiming("name", "Somebody of Yesterday")},
	{Fault: Fault{"signed-info", "the user-info address answers with a signed JWT", ""},
		info: func(i *Issuer, w http.ResponseWriter, _ granted, c map[string]any) bool {
			c["iss"], c["aud"] = i.Base, i.ClientID
			w.Header().Set("Content-Type", "application/jwt")
			_, _ = w.Write([]byte(compact(map[string]any{"alg": "RS256", "kid": kid(i.Pair)}, c, i.Pair)))
			return true
		}},
	{Fault: Fault{"signed-info-other", "the signed answer is for another client", "token-audience"},
		info: func(i *Issuer, w http.ResponseWriter, _ granted, c map[string]any) bool {
			c["iss"], c["aud"] = i.Base, "somebody-else"
			w.Header().Set("Content-Type", "application/jwt")
			_, _ = w.Write([]byte(compact(map[string]any{"alg": "RS256", "kid": kid(i.Pair)}, c, i.Pair)))
			return true
		}},

	// What it says of itself, and where.
	{Fault: Fault{"document-mismatch", "the document names another issuer", "discovery-issuer"},
		discovery: func(i *Issuer, _ http.ResponseWriter, _ *http.Request, d map[string]any) { d["issuer"] = i.Base + "/" }},
	{Fault: Fault{"document-page", "a page comes in place of the document", "discovery-unusable"},
		discovery: func(_ *Issuer, w http.ResponseWriter, _ *http.Request, d map[string]any) {
			clear(d)
			htmlPage(w, http.StatusOK)
		}},
	{Fault: Fault{"document-loop", "the address of the document leads to itself", "address-unreachable"},
		discovery: func(_ *Issuer, w http.ResponseWriter, r *http.Request, d map[string]any) {
			clear(d)
			http.Redirect(w, r, r.URL.Path, http.StatusFound)
		}},
	{Fault: Fault{"document-large", "the document has two megabytes", "metadata-too-large"},
		discovery: func(_ *Issuer, _ http.ResponseWriter, _ *http.Request, d map[string]any) {
			d["comment"] = strings.Repeat("a", 2<<20)
		}},
	{Fault: Fault{"other-host", "the token endpoint lies at another host", "endpoint-other-host"},
		discovery: func(_ *Issuer, _ http.ResponseWriter, _ *http.Request, d map[string]any) {
			d["token_endpoint"] = "https://tokens.somebody-else.example/token"
		}},
	{Fault: Fault{"only-tls", "clients prove who they are by certificate alone", "requires-unoffered"},
		discovery: func(_ *Issuer, _ http.ResponseWriter, _ *http.Request, d map[string]any) {
			d["token_endpoint_auth_methods_supported"] = []string{"tls_client_auth"}
		}},
	{Fault: Fault{"only-shared", "tokens are signed with a shared secret alone", "algorithm-unoffered"},
		discovery: func(_ *Issuer, _ http.ResponseWriter, _ *http.Request, d map[string]any) {
			d["id_token_signing_alg_values_supported"] = []string{"HS256"}
		}},
	{Fault: Fault{"no-keys", "the JWK Set is empty", "jwks-unavailable"},
		keys: func(w http.ResponseWriter) { writeJSON(w, http.StatusOK, map[string]any{"keys": []any{}}) }},
}

// IssuerFaults are the faults of a stand-in OpenID provider, or of one of OAuth 2.0.
func IssuerFaults(plain bool) (out []Fault) {
	for _, f := range issuerFaults {
		if !plain && f.Name != "no-identifier" || plain && f.plain {
			out = append(out, f.Fault)
		}
	}
	return out
}

// SignInFaults are those that one sign-in can have.
func SignInFaults(plain bool) (out []Fault) {
	for _, f := range IssuerFaults(plain) {
		if g := issuerFaultOf(f.Name); g.discovery == nil && g.keys == nil {
			out = append(out, f)
		}
	}
	return out
}

func issuerFaultOf(name string) issuerFault {
	for _, f := range issuerFaults {
		if f.Name == name {
			return f
		}
	}
	return issuerFault{}
}
