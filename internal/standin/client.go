package standin

import (
	"bytes"
	"context"
	"crypto/rand"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/oidc"
)

// Client is a stand-in web application that speaks OpenID Connect: it keeps a
// secret on its server.
type Client struct {
	Name, Title string
	Base        string // its own address
	Issuer      string // the gate
	ClientID    string
	Secret      string
	Scopes      string
	Fault       string    // of every sign-in, unless the start says otherwise
	Audience    string    // of the calls to its own API
	Accounts    *Accounts // of its own, nil for none

	fault    switched
	mu       sync.Mutex
	asked    map[string]trip
	sessions map[string]*signedIn
}

// trip is a sign-in under way.
type trip struct {
	verifier, nonce string
	fault           string
}

// signedIn is who is in, and by what.
type signedIn struct {
	Claims  map[string]any
	Info    map[string]any
	Tokens  tokens
	sid     string
	updated string
	matched *Matched // nil without accounts of its own
}

// tokens is a token response.
type tokens struct {
	AccessToken  string `json:"access_token"`
	RefreshToken string `json:"refresh_token"`
	IDToken      string `json:"id_token"`
	Scope        string `json:"scope"`
	Error        string `json:"error"`
	Description  string `json:"error_description"`
}

// provider is what the gate says of itself.
type provider struct {
	Issuer    string `json:"issuer"`
	Authorize string `json:"authorization_endpoint"`
	Token     string `json:"token_endpoint"`
	UserInfo  string `json:"userinfo_endpoint"`
	Keys      string `json:"jwks_uri"`
	Logout    string `json:"end_session_endpoint"`
}

// Handler makes the program ready to serve. It refuses a fault that it does not
// know.
func (c *Client) Handler() (http.Handler, error) {
	c.asked, c.sessions = map[string]trip{}, map[string]*signedIn{}
	if c.Scopes == "" {
		c.Scopes = "openid profile email groups"
	}
	mux := http.NewServeMux()
	if err := c.fault.begin(mux, c.Fault, ClientFaults()); err != nil {
		return nil, err
	}
	mux.HandleFunc("GET /{$}", c.home)
	mux.HandleFunc("GET /start", c.start)
	mux.HandleFunc("GET /callback", c.callback)
	mux.HandleFunc("POST /callback", c.callback)
	mux.HandleFunc("POST /refresh", c.refresh)
	mux.HandleFunc("POST /sign-out", c.signOut)
	mux.HandleFunc("GET /signed-out", func(w http.ResponseWriter, r *http.Request) {
		http.Redirect(w, r, "/",
			http.StatusSeeOther)
	})
	mux.HandleFunc("POST /backchannel-logout", c.heard)
	mux.HandleFunc("GET /api/possessions", c.api)
	if c.Accounts != nil {
		c.Accounts.serve(mux)
	}
	return limitBody(mux), nil
}

func (c *Client) redirect() string { return c.Base + "/callback" }

func (c *Client) page(title string) page {
	return page{Kind: "Stand-in application", Name: c.Name, Title: title, Faults: ClientFaults(), Fault: c.fault.is(),
		Gate: c.Issuer, Accounts: c.Accounts}
}

func (c *Client) current(r *http.Request) *signedIn {
	cookie, err := r.Cookie("standin-" + c.Name)
	if err != nil {
		return nil
	}
	c.mu.Lock()
	defer c.mu.Unlock()
	return c.sessions[cookie.Value]
}

func (c *Client) home(w http.ResponseWriter, r *http.Request) {
	v := c.page(c.Title)
	if s := c.current(r); s != nil {
		v.In = &shownClient{Subject: fmt.Sprint(s.Claims["sub"]), Claims: listed(s.Claims), Info: listed(s.Info),
			Refreshes: s.Tokens.RefreshToken != "", How: s.updated}
		v.Matched = s.matched
	}
	show(w, http.StatusOK, "client.html", v)
}

// shownClient is somebody who is in, for the page.
type shownClient struct {
	Subject, How string
	Claims, Info []claim
	Refreshes    bool
}

type claim struct{ Name, Value string }

func listed(all map[string]any) (out []claim) {
	for name, v := range all {
		text, err := json.Marshal(v)
		if s, ok := v.(string); ok {
			text, err = []byte(s), nil
		}
		if err == nil {
			out = append(out, claim{name, string(text)})
		}
	}
	slices.SortFunc(out, func(a, b claim) int { return strings.Compare(a.Name, b.Name) })
	return out
}

// texts are the values of claims, the later ones before the earlier.
func texts(all ...map[string]any) map[string][]string {
	out := map[string][]string{}
	for _, claims := range all {
		for _, x := range listed(claims) {
			out[x.Name] = []string{x.Value}
		}
	}
	return out
}

func (c *Client) fail(w http.ResponseWriter, err error) {
	v := c.page("You are not signed in")
	v.Error = err.Error()
	show(w, http.StatusForbidden, "client.html", v)
}

// start sends an authorization request: of ?prompt, ?max_age, ?scope and the like
// what is given goes along; with ?fault=NAME it is spoiled.
func (c *Client) start(w http.ResponseWriter, r *http.Request) {
	p, err := discover(r.Context(), c.Issuer)
	if err != nil {
		c.fail(w, err)
		return
	}
	t := trip{verifier: secretText(), nonce: secretText(), fault: r.URL.Query().Get("fault")}
	if !r.URL.Query().Has("fault") {
		t.fault = c.fault.is()
	}
	state := secretText()
	q := url.Values{"client_id": {c.ClientID}, "response_type": {"code"}, "redirect_uri": {c.redirect()},
		"scope": {c.Scopes}, "state": {state}, "nonce": {t.nonce}, "code_challenge": {oidc.Challenge(t.verifier)},
		"code_challenge_method": {"S256"}}
	for _, name := range []string{"prompt", "max_age", "acr_values", "login_hint", "scope", "response_mode", "resource",
		"claims", "id_token_hint"} {
		if v := r.URL.Query().Get(name); v != "" {
			q.Set(name, v)
		}
	}
	f := clientFaultOf(t.fault)
	if f.ask != nil {
		f.ask(c, q)
	}
	c.mu.Lock()
	c.asked[state] = t
	c.mu.Unlock()
	http.Redirect(w, r, p.Authorize+"?"+q.Encode(), http.StatusSeeOther)
}

// callback takes the authorization response, redeems the code and lets the person
// in.
func (c *Client) callback(w http.ResponseWriter, r *http.Request) {
	state := r.FormValue("state")
	c.mu.Lock()
	t, asked := c.asked[state]
	delete(c.asked, state)
	c.mu.Unlock()
	switch {
	case r.FormValue("error") != "":
		c.fail(w, fmt.Errorf("the gate answers %s: %s", r.FormValue("error"), r.FormValue("error_description")))
		return
	case !asked:
		c.fail(w, errors.New("this answer is no token to a sign-in that was begun here"))
		return
	case r.FormValue("iss") != c.Issuer:
		c.fail(w, fmt.Errorf("the answer is of %q, not of %s", r.FormValue("iss"), c.Issuer))
		return
	}
	s, err := c.redeem(r.Context(), r.FormValue("code"), t)
	if err != nil {
		c.fail(w, err)
		return
	}
	if c.Accounts != nil {
		m := c.Accounts.match(fmt.Sprint(s.Claims["sub"]), texts(s.Claims, s.Info))
		if s.matched = &m; m.Refused {
			c.fail(w, errors.New(m.refuses()))
			return
		}
	}
	token := newID()
	c.mu.Lock()
	c.sessions[token] = s
	c.mu.Unlock()
	http.SetCookie(w, cookie(c.Name, token))
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// redeem exchanges a code, verifies the ID token, and asks about the person.
func (c *Client) redeem(ctx context.Context, code string, t trip) (*signedIn, error) {
	p, err := discover(ctx, c.Issuer)
	if err != nil {
		return nil, err
	}
	q := &call{client: c, to: p, form: url.Values{"grant_type": {"authorization_code"}, "code": {code},
		"redirect_uri": {c.redirect()}, "code_verifier": {t.verifier}}, secret: c.Secret,
		bearer: func(t tokens) string { return t.AccessToken }}
	f := clientFaultOf(t.fault)
	if f.redeem != nil {
		f.redeem(q)
	}
	got, err := q.send(ctx)
	if err == nil && q.again {
		got, err = q.send(ctx)
	}
	if err != nil {
		return nil, err
	}
	s := &signedIn{Tokens: got}
	if s.Claims, err = verified(ctx, p, got.IDToken, oidc.IDToken); err != nil {
		return nil, err
	}
	if s.Claims["nonce"] != t.nonce || s.Claims["aud"] != c.ClientID || s.Claims["iss"] != c.Issuer {
		return nil, fmt.Errorf("the ID token is not for this sign-in: nonce %v, aud %v, iss %v", s.Claims["nonce"],
			s.Claims["aud"],
			s.Claims["iss"])
	}
	s.sid, _ = s.Claims["sid"].(string)
	if f.after != nil {
		if err := f.after(ctx, q, got); err != nil {
			return nil, err
		}
	}
	s.Info, err = about(ctx, p.UserInfo, q.bearer(got))
	return s, err
}

// refresh gets the next tokens.
func (c *Client) refresh(w http.ResponseWriter, r *http.Request) {
	s := c.current(r)
	p, err := discover(r.Context(), c.Issuer)
	if s == nil || err != nil {
		c.fail(w, errors.Join(err, errors.New("there is nothing to refresh")))
		return
	}
	got, err := (&call{client: c, to: p, form: url.Values{"grant_type": {"refresh_token"},
		"refresh_token": {s.Tokens.RefreshToken}}, secret: c.Secret}).send(r.Context())
	if err != nil {
		c.fail(w, err)
		return
	}
	c.mu.Lock()
	s.Tokens, s.updated = got, "refreshed at "+time.Now().UTC().Format("15:04:05Z")
	c.mu.Unlock()
	http.Redirect(w, r, "/", http.StatusSeeOther)
}

// signOut forgets the person, and sends them to sign out at the gate.
func (c *Client) signOut(w http.ResponseWriter, r *http.Request) {
	s := c.current(r)
	http.SetCookie(w, cookie(c.Name, ""))
	p, err := discover(r.Context(), c.Issuer)
	if s == nil || err != nil {
		http.Redirect(w, r, "/", http.StatusSeeOther)
		return
	}
	http.Redirect(w, r, p.Logout+"?"+url.Values{"id_token_hint": {s.Tokens.IDToken},
		"post_logout_redirect_uri": {c.Base + "/signed-out"}, "state": {"done"}}.Encode(), http.StatusSeeOther)
}

// heard takes a logout token (OpenID Connect Back-Channel Logout §2.6).
func (c *Client) heard(w http.ResponseWriter, r *http.Request) {
	p, err := discover(r.Context(), c.Issuer)
	var claims map[string]any
	if err == nil {
		claims, err = verified(r.Context(), p, r.FormValue("logout_token"), oidc.LogoutToken)
	}
	if err != nil || claims["aud"] != c.ClientID || claims["nonce"] != nil || claims["events"] == nil {
		http.Error(w, fmt.Sprint("this is no logout token: ", err), http.StatusBadRequest)
		return
	}
	c.mu.Lock()
	for token, s := range c.sessions {
		if s.sid == claims["sid"] || claims["sid"] == nil && s.Claims["sub"] == claims["sub"] {
			delete(c.sessions, token)
		}
	}
	c.mu.Unlock()
}

// api is what services call: it takes access tokens that name it.
func (c *Client) api(w http.ResponseWriter, r *http.Request) {
	p, err := discover(r.Context(), c.Issuer)
	_, token, _ := strings.Cut(r.Header.Get("Authorization"), " ")
	var claims map[string]any
	if err == nil {
		claims, err = verified(r.Context(), p, token, oidc.AccessToken)
	}
	if err == nil && claims["aud"] != c.Audience {
		err = fmt.Errorf("the token is for %v, not for %s", claims["aud"], c.Audience)
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusUnauthorized)
		return
	}
	w.Header().Set("Content-Type", "application/json")
	_ = json.NewEncoder(w).Encode(map[string]any{"possessions": []string{"Fell tunnel, 01:10 to 04:40",
		"Moss junction, 00:30 to 03:00"},
		"asked by": claims["client_id"]})
}

// call is a call of the token endpoint about to be made, for faults to spoil.
type call struct {
	client *Client
	to     provider
	form   url.Values
	secret string
	inForm bool   // the secret also stands in the form
	query  string // behind an address
	again  bool   // the same once more
	bearer func(tokens) string
}

// send makes it. An error of the gate is an error.
func (q *call) send(ctx context.Context) (out tokens, err error) {
	form := url.Values{}
	for name, v := range q.form {
		form[name] = slices.Clone(v)
	}
	if q.secret == "" {
		form.Set("client_id", q.client.ClientID)
	}
	if q.inForm {
		form.Set("client_id", q.client.ClientID)
		form.Set("client_secret", q.secret)
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, q.to.Token+q.query, strings.NewReader(form.Encode()))
	if err != nil {
		return out, err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	if q.secret != "" {
		req.SetBasicAuth(url.QueryEscape(q.client.ClientID), url.QueryEscape(q.secret))
	}
	octets, err := answered(req)
	if err == nil {
		err = json.Unmarshal(octets, &out)
	}
	if err == nil && out.Error != "" {
		err = fmt.Errorf("the gate answers %s: %s", out.Error, out.Description)
	}
	return out, err
}

func answered(req *http.Request) ([]byte, error) {
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, 1<<20))
}

func get(ctx context.Context, address string, header http.Header) ([]byte, int, error) {
	ctx, cancel := context.WithTimeout(ctx, 10*time.Second)
	defer cancel()
	req, err := http.NewRequestWithContext(ctx, http.MethodGet, address, nil)
	if err != nil {
		return nil, 0, err
	}
	req.Header = header
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return nil, 0, err
	}
	defer res.Body.Close()
	octets, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
	return octets, res.StatusCode, err
}

// discover reads what the gate says of itself, for every use anew.
func discover(ctx context.Context, issuer string) (p provider, err error) {
	octets, status, err := get(ctx, issuer+"/.well-known/openid-configuration", http.Header{})
	if err == nil && status != http.StatusOK {
		err = fmt.Errorf("%s does not describe itself: it answers %d", issuer, status)
	}
	if err == nil {
		err = json.Unmarshal(octets, &p)
	}
	if err == nil && p.Issuer != issuer {
		err = fmt.Errorf("the issuer is %s, not %s", p.Issuer, issuer)
	}
	return p, err
}

// verified reads a token whose signature holds, and which has not ended.
func verified(ctx context.Context, p provider, token string, kind oidc.Kind) (map[string]any, error) {
	octets, _, err := get(ctx, p.Keys, http.Header{})
	if err != nil {
		return nil, err
	}
	keys, err := oidc.ReadKeys(octets)
	if err != nil {
		return nil, err
	}
	claims, err := oidc.Wanted{Kind: kind, Keys: keys}.Verify(token)
	if err != nil {
		return nil, err
	}
	exp, ok := claims["exp"].(json.Number)
	if !ok {
		return nil, errors.New("the token has no end")
	}
	if end, err := exp.Int64(); err != nil || time.Now().After(time.Unix(end, 0).Add(time.Minute)) {
		return nil, fmt.Errorf("the token has ended: %s", exp)
	}
	return claims, nil
}

// about asks the user-info address.
func about(ctx context.Context, address, token string) (map[string]any, error) {
	header := http.Header{}
	if token != "" {
		header.Set("Authorization", "Bearer "+token)
	}
	octets, status, err := get(ctx, address, header)
	if err != nil {
		return nil, err
	}
	var out map[string]any
	d := json.NewDecoder(bytes.NewReader(octets))
	d.UseNumber()
	if err = d.Decode(&out); err == nil && status != http.StatusOK {
		err = fmt.Errorf("the user-info address answers %d: %v", status, out["error"])
	}
	return out, err
}

// secretText is 32 random octets in base64url.
func secretText() string {
	b := make([]byte, 32)
	_, _ = rand.Read(b) // never fails (crypto/rand)
	return base64.RawURLEncoding.EncodeToString(b)
}
