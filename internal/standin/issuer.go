package standin

import (
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/keys"
)

// Issuer is a stand-in OpenID provider, or, with Plain, a provider of OAuth 2.0 that has
// no ID tokens. The gate is its only client.
type Issuer struct {
	Name, Title string
	Base        string // its own address
	Plain       bool
	Tenants     []string // that it serves: its issuer has a place for them, and people are of the first unless they say
	Gate        string   // base address of the gate
	Record      string   // name of its record there; Name if empty
	ClientID    string
	Secret      string // empty for any
	SecretID    string // identifier of the secret, which people paste in its place
	Domain      string // of people's addresses, like @oakhollow.example
	People      []Person
	Pair        *keys.Pair
	Fault       string // of every answer, unless the sign-in page says otherwise
	Now         func() time.Time

	fault    switched
	mu       sync.Mutex
	stranger *keys.Pair
	next     *keys.Pair // once keys are rotated
	desk     *desk[url.Values]
	codes    map[string]granted
	access   map[string]granted
	refresh  map[string]granted
}

// granted is what a code or token stands for.
type granted struct {
	login
	fault     string
	nonce     string
	challenge string
	redirect  string
	maxAge    bool
	scope     string
	context   string
}

// Handler makes the program ready to serve. It refuses a fault that it does not know.
func (i *Issuer) Handler() (http.Handler, error) {
	var err error
	if i.stranger, err = stranger(); err != nil {
		return nil, err
	}
	if i.Now == nil {
		i.Now = time.Now
	}
	if i.Record == "" {
		i.Record = i.Name
	}
	i.desk = newDesk[url.Values](i.Name)
	i.codes, i.access, i.refresh = map[string]granted{}, map[string]granted{}, map[string]granted{}
	mux := http.NewServeMux()
	if err := i.fault.begin(mux, i.Fault, IssuerFaults(i.Plain)); err != nil {
		return nil, err
	}
	mux.HandleFunc("GET /{$}", i.home)
	mux.HandleFunc("GET /authorize", i.authorize)
	mux.HandleFunc("POST /sign-in", i.signIn)
	mux.HandleFunc("POST /token", i.token)
	mux.HandleFunc("POST /sign-out", i.signOut)
	if i.Plain {
		mux.HandleFunc("GET /api/me", i.me)
		mux.HandleFunc("GET /api/me/emails", i.emails)
		return limitBody(mux), nil
	}
	mux.HandleFunc("GET /.well-known/openid-configuration", i.discovery)
	if len(i.Tenants) > 0 {
		mux.HandleFunc("GET /{tenant}/v2/.well-known/openid-configuration", i.discovery)
	}
	mux.HandleFunc("GET /userinfo", i.userInfo)
	mux.HandleFunc("GET /jwks", i.jwks)
	mux.HandleFunc("GET /end-session", i.endSession)
	mux.HandleFunc("POST /open", i.open)
	return limitBody(mux), nil
}

// Switch switches a fault on, or, by "", off.
func (i *Issuer) Switch(fault string) { i.fault.set(fault) }

func (i *Issuer) page(title string) page {
	v := page{Kind: "Stand-in OpenID provider", Name: i.Name, Title: title, Faults: SignInFaults(i.Plain),
		Fault: i.fault.is(), People: i.People, Issuer: i.Base, Gate: i.Gate, Plain: i.Plain}
	if i.Plain {
		v.Kind = "Stand-in OAuth 2.0 provider"
	}
	return v
}

func (i *Issuer) home(w http.ResponseWriter, r *http.Request) {
	v := i.page(i.Title)
	if l, ok := i.desk.session(r); ok {
		v.Person = &l.person
	}
	show(w, http.StatusOK, "issuer.html", v)
}

func (i *Issuer) fail(w http.ResponseWriter, text string) {
	v := i.page("This request cannot be served")
	v.Error = text
	show(w, http.StatusBadRequest, "issuer.html", v)
}

func (i *Issuer) callback() string { return i.Gate + "/oidc/rp/" + i.Record + "/callback" }

// discovery is what it says of itself.
func (i *Issuer) discovery(w http.ResponseWriter, r *http.Request) {
	d := map[string]any{"issuer": i.issuer("{tenantid}"), "authorization_endpoint": i.Base + "/authorize",
		"token_endpoint": i.Base + "/token", "userinfo_endpoint": i.Base + "/userinfo", "jwks_uri": i.Base + "/jwks",
		"end_session_endpoint": i.Base + "/end-session", "scopes_supported": []string{"openid", "profile", "email",
			"groups", "offline_access"},
		"response_types_supported": []string{"code", "id_token", "code id_token"},
		"subject_types_supported":  []string{"public"},
		"response_modes_supported": []string{"query", "form_post"}, "claims_parameter_supported": true,
		"id_token_signing_alg_values_supported": []string{"RS256"},
		"token_endpoint_auth_methods_supported": []string{"client_secret_basic", "client_secret_post",
			"private_key_jwt"},
		"code_challenge_methods_supported":               []string{"S256"},
		"authorization_response_iss_parameter_supported": true, "backchannel_logout_supported": true,
		"backchannel_logout_session_supported": true, "acr_values_supported": []string{contextPassword}}
	if f := issuerFaultOf(i.fault.is()); f.discovery != nil {
		if f.discovery(i, w, r, d); len(d) == 0 {
			return
		}
	}
	writeJSON(w, http.StatusOK, d)
}

// issuer is what it calls itself: of a tenant, where it serves several.
func (i *Issuer) issuer(tenant string) string {
	if len(i.Tenants) == 0 {
		return i.Base
	}
	return i.Base + "/" + tenant + "/v2"
}

// tenant is whose somebody is.
func (i *Issuer) tenant(p Person) string {
	return cmp.Or(p.Tenant, strings.Join(i.Tenants[:min(1, len(i.Tenants))], ""))
}

const contextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"

func (i *Issuer) jwks(w http.ResponseWriter, _ *http.Request) {
	i.mu.Lock()
	list := []any{jwk(i.Pair)}
	if i.next != nil {
		list = append(list, jwk(i.next))
	}
	i.mu.Unlock()
	if f := issuerFaultOf(i.fault.is()); f.keys != nil {
		f.keys(w)
		return
	}
	writeJSON(w, http.StatusOK, map[string]any{"keys": list})
}

// authorize takes an authorization request. One that cannot be answered at the
// registered address gets a page.
func (i *Issuer) authorize(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	switch {
	case q.Get("client_id") != i.ClientID:
		i.fail(w, fmt.Sprintf("No client %q is registered here.", q.Get("client_id")))
		return
	case q.Get("redirect_uri") != i.callback():
		i.fail(w, fmt.Sprintf("The redirect URI %q is not the registered one, %s.", q.Get("redirect_uri"), i.callback()))
		return
	case !i.Plain && !slices.Contains(strings.Fields(q.Get("scope")), "openid"):
		i.answer(w, r, q, url.Values{"error": {"invalid_scope"}, "error_description": {"openid is missing"}})
		return
	}
	l, in := i.desk.session(r)
	if in && !strings.Contains(q.Get("prompt"), "login") && q.Get("max_age") == "" && l.person.named(q.Get("login_hint"),
		i.Domain) {
		i.grant(w, r, q, l, i.fault.is())
		return
	}
	if q.Get("prompt") == "none" {
		i.answer(w, r, q, url.Values{"error": {"login_required"}, "error_description": {"Nobody is signed in here"}})
		return
	}
	v := i.page("Sign in to " + i.Title)
	v.Pending, v.Username = i.desk.waits(q), strings.TrimSuffix(q.Get("login_hint"), i.Domain)
	show(w, http.StatusOK, "signin.html", v)
}

// named reports whether a name is the person's, or none.
func (p Person) named(name, domain string) bool {
	return name == "" || name == p.Username || name == p.Username+domain
}

func (i *Issuer) signIn(w http.ResponseWriter, r *http.Request) {
	q, ok := i.desk.asked(r)
	if !ok {
		i.fail(w, "This sign-in is not known any more. Start again at the application.")
		return
	}
	fault := chosen(r, IssuerFaults(i.Plain))
	i.mu.Lock()
	people := slices.Clone(i.People)
	i.mu.Unlock()
	if l, in := i.desk.enter(w, r, people, i.Now()); in {
		i.grant(w, r, q, l, fault)
		return
	}
	refused(w, r, i.page("Sign in to "+i.Title), fault)
}

// grant answers with a code, or with an ID token where that was asked for.
func (i *Issuer) grant(w http.ResponseWriter, r *http.Request, q url.Values, l login, fault string) {
	g := granted{login: l, fault: fault, nonce: q.Get("nonce"), challenge: q.Get("code_challenge"),
		redirect: q.Get("redirect_uri"), maxAge: q.Get("max_age") != "", scope: q.Get("scope")}
	if strings.Contains(q.Get("acr_values")+q.Get("claims"), contextPassword) || q.Get("acr_values") == "" {
		g.context = contextPassword
	}
	out := url.Values{}
	if kind := q.Get("response_type"); strings.Contains(kind, "code") {
		code := newID()
		i.mu.Lock()
		i.codes[code] = g
		i.mu.Unlock()
		out.Set("code", code)
	}
	if strings.Contains(q.Get("response_type"), "id_token") {
		m := i.mint(g)
		if code := out.Get("code"); code != "" {
			m.claims["c_hash"] = half(code)
		}
		delete(m.claims, "at_hash")
		out.Set("id_token", i.signed(g, m))
	}
	if len(i.Tenants) > 0 && !out.Has("iss") {
		out.Set("iss", i.issuer(i.tenant(l.person)))
	}
	i.answer(w, r, q, i.spoiled(fault, out))
}

// spoiled is an answer as a fault would have it.
func (i *Issuer) spoiled(fault string, out url.Values) url.Values {
	if f := issuerFaultOf(fault); f.answer != nil {
		f.answer(i, out)
	}
	return out
}

// answer sends the browser back (OpenID Connect Core §3.1.2.5).
func (i *Issuer) answer(w http.ResponseWriter, r *http.Request, q, out url.Values) {
	if out.Has("stay") {
		i.fail(w, out.Get("stay"))
		return
	}
	for name, v := range map[string]string{"state": q.Get("state"), "iss": i.Base} {
		if !out.Has(name) && v != "" && (!i.Plain || name == "state") {
			out.Set(name, v)
		}
	}
	for name, list := range out {
		if len(list) == 1 && list[0] == "" {
			delete(out, name)
		}
	}
	if q.Get("response_mode") != "form_post" {
		http.Redirect(w, r, q.Get("redirect_uri")+"?"+out.Encode(), http.StatusSeeOther)
		return
	}
	v := i.page("Signed in")
	v.Location = q.Get("redirect_uri")
	for _, name := range slices.Sorted(maps.Keys(out)) {
		for _, value := range out[name] {
			v.Fields = append(v.Fields, formField(name, value))
		}
	}
	show(w, http.StatusOK, "post.html", v)
}

// proved reports whether the gate proved who it is, and if not, how it hears of that.
func (i *Issuer) proved(r *http.Request) (problem string) {
	id, secret, basic := r.BasicAuth()
	if basic {
		id, _ = url.QueryUnescape(id)
		secret, _ = url.QueryUnescape(secret)
	} else {
		id, secret = r.PostFormValue("client_id"), r.PostFormValue("client_secret")
	}
	if assertion := r.PostFormValue("client_assertion"); assertion != "" {
		if err := i.provedByKey(r.Context(), assertion); err != nil {
			return err.Error()
		}
		return ""
	}
	switch {
	case id != i.ClientID:
		return fmt.Sprintf("there is no client %q", id)
	case i.Secret == "" || secret == i.Secret:
		return ""
	case i.SecretID != "" && secret == i.SecretID:
		return "this is the identifier of the secret, not the secret"
	}
	return "the client secret is wrong"
}

// token exchanges a code or a refresh token.
func (i *Issuer) token(w http.ResponseWriter, r *http.Request) {
	if problem := i.proved(r); problem != "" {
		writeJSON(w, http.StatusUnauthorized, map[string]any{"error": "invalid_client", "error_description": problem})
		return
	}
	i.mu.Lock()
	code, token := r.PostFormValue("code"), r.PostFormValue("refresh_token")
	g, ok := i.codes[code]
	delete(i.codes, code)
	if r.PostFormValue("grant_type") == "refresh_token" {
		g, ok = i.refresh[token]
		delete(i.refresh, token)
	}
	i.mu.Unlock()
	sum := sha256.Sum256([]byte(r.PostFormValue("code_verifier")))
	switch {
	case !ok:
		writeJSON(w, http.StatusBadRequest, map[string]any{"error": "invalid_grant",
			"error_description": "the code or token is not known any more"})
		return
	case code != "" && g.challenge != "" && g.challenge != base64.RawURLEncoding.EncodeToString(sum[:]):
		writeJSON(w, http.StatusBadRequest, map[string]any{"error": "invalid_grant",
			"error_description": "the code verifier is another one"})
		return
	}
	f := issuerFaultOf(g.fault)
	if f.reply != nil && f.reply(i, w, r) {
		return
	}
	answer := map[string]any{"access_token": newID(), "token_type": "Bearer", "expires_in": 300, "scope": g.scope}
	i.mu.Lock()
	i.access[answer["access_token"].(string)] = g
	if strings.Contains(g.scope, "offline_access") {
		answer["refresh_token"] = newID()
		i.refresh[answer["refresh_token"].(string)] = g
	}
	i.mu.Unlock()
	if !i.Plain {
		m := i.mint(g)
		m.claims["at_hash"] = half(answer["access_token"].(string))
		if token != "" {
			delete(m.claims, "nonce")
		}
		answer["id_token"] = i.signed(g, m)
	}
	if f.tokens != nil {
		f.tokens(answer)
	}
	w.Header().Set("Cache-Control", "no-store")
	writeJSON(w, http.StatusOK, answer)
}

// bearer is whom an access token is about.
func (i *Issuer) bearer(w http.ResponseWriter, r *http.Request) (granted, bool) {
	token, _ := strings.CutPrefix(r.Header.Get("Authorization"), "Bearer ")
	i.mu.Lock()
	g, ok := i.access[token]
	i.mu.Unlock()
	if !ok {
		w.Header().Set("WWW-Authenticate", `Bearer error="invalid_token"`)
		writeJSON(w, http.StatusUnauthorized, map[string]any{"error": "invalid_token"})
	}
	return g, ok
}

// Rename gives a person another family name, as it happens.
func (i *Issuer) Rename(username, family string) {
	i.mu.Lock()
	defer i.mu.Unlock()
	for n := range i.People {
		if i.People[n].Username == username {
			i.People[n].Family = family
		}
	}
	for _, all := range []map[string]granted{i.access, i.refresh} {
		for token, g := range all {
			if g.person.Username == username {
				g.person.Family = family
				all[token] = g
			}
		}
	}
}

// Forget takes back every token that was given.
func (i *Issuer) Forget() {
	i.mu.Lock()
	defer i.mu.Unlock()
	clear(i.access)
	clear(i.refresh)
}

func (i *Issuer) userInfo(w http.ResponseWriter, r *http.Request) {
	g, ok := i.bearer(w, r)
	if !ok {
		return
	}
	claims := i.about(g)
	if f := issuerFaultOf(g.fault); f.info != nil && f.info(i, w, g, claims) {
		return
	}
	writeJSON(w, http.StatusOK, claims)
}

// about is what it says of a person, by the scopes that were asked for.
func (i *Issuer) about(g granted) map[string]any {
	p := g.person
	claims := map[string]any{"sub": subjectOf(p)}
	if strings.Contains(g.scope, "profile") {
		maps.Copy(claims, map[string]any{"name": p.Given + " " + p.Family, "given_name": p.Given, "family_name": p.Family,
			"preferred_username": p.Username, "job": p.Job, "updated_at": 1790000000})
	}
	if strings.Contains(g.scope, "email") {
		if all := p.addresses(i.Domain); len(all) > 0 {
			claims["email"], claims["email_verified"] = all[0], true
		}
	}
	if len(p.Entitlements) > 0 {
		claims["entitlements"] = p.Entitlements
	}
	if strings.Contains(g.scope, "groups") {
		claims["groups"] = p.Groups
	}
	return claims
}

// subjectOf is a lasting name for a person that says nothing.
func subjectOf(p Person) string {
	sum := sha256.Sum256([]byte("subject " + p.Username))
	return base64.RawURLEncoding.EncodeToString(sum[:12])
}

// numberOf is a lasting number for a person, larger than a float holds exactly.
func numberOf(p Person) uint64 {
	sum := sha256.Sum256([]byte("number " + p.Username))
	n := uint64(0)
	for _, b := range sum[:7] {
		n = n<<8 | uint64(b)
	}
	return 9_007_199_254_740_993 + n
}

func (i *Issuer) me(w http.ResponseWriter, r *http.Request) {
	g, ok := i.bearer(w, r)
	if !ok {
		return
	}
	claims := map[string]any{"id": numberOf(g.person), "login": g.person.Username, "name": g.person.Given + " " +
		g.person.Family, "email": nil, "season": "yearly"}
	if f := issuerFaultOf(g.fault); f.info != nil && f.info(i, w, g, claims) {
		return
	}
	writeJSON(w, http.StatusOK, claims)
}

func (i *Issuer) emails(w http.ResponseWriter, r *http.Request) {
	if g, ok := i.bearer(w, r); ok {
		list := []any{}
		for n, address := range g.person.addresses(i.Domain) {
			list = append(list, map[string]any{"email": address, "primary": n == 0, "verified": true})
		}
		writeJSON(w, http.StatusOK, list)
	}
}

// endSession signs somebody out and sends them back (OpenID Connect RP-Initiated Logout
// §2).
func (i *Issuer) endSession(w http.ResponseWriter, r *http.Request) {
	q := r.URL.Query()
	i.desk.leave(w, r)
	back := i.Gate + "/oidc/rp/" + i.Record + "/signed-out"
	if q.Get("post_logout_redirect_uri") != back {
		i.fail(w, "Signed out. "+q.Get("post_logout_redirect_uri")+" is not registered here, so nobody is sent there.")
		return
	}
	http.Redirect(w, r, back+"?"+url.Values{"state": {q.Get("state")}}.Encode(), http.StatusSeeOther)
}

// signOut ends the session here and, without the browser, at the gate (OpenID Connect
// Back-Channel Logout §2.5).
func (i *Issuer) signOut(w http.ResponseWriter, r *http.Request) {
	l, in := i.desk.session(r)
	i.desk.leave(w, r)
	if in && !i.Plain {
		if err := i.tell(r.Context(), l); err != nil {
			i.fail(w, "Signed out here; the gate did not hear of it: "+err.Error())
			return
		}
	}
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// tell sends a logout token.
func (i *Issuer) tell(ctx context.Context, l login) error {
	token := compact(map[string]any{"alg": "RS256", "kid": kid(i.Pair), "typ": "logout+jwt"},
		map[string]any{"iss": i.Base,
			"aud": i.ClientID, "iat": i.Now().Unix(), "exp": i.Now().Add(2 * time.Minute).Unix(), "jti": newID(),
			"sid": l.index, "sub": subjectOf(l.person),
			"events": map[string]any{"http://schemas.openid.net/event/backchannel-logout": map[string]any{}}}, i.Pair)
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, i.Gate+"/oidc/rp/"+i.Record+"/backchannel-logout",
		strings.NewReader(url.Values{"logout_token": {token}}.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		said, err := io.ReadAll(io.LimitReader(res.Body, 500))
		return errors.Join(fmt.Errorf("it answered %s: %s", res.Status, said), err)
	}
	return nil
}

// open starts a sign-in at the gate from here (OpenID Connect Core §4).
func (i *Issuer) open(w http.ResponseWriter, r *http.Request) {
	http.Redirect(w, r, i.Gate+"/oidc/rp/"+i.Record+"/start?"+url.Values{"iss": {i.Base},
		"target_link_uri": {i.Gate + "/open/" + r.PostFormValue("target")}}.Encode(), http.StatusSeeOther)
}
