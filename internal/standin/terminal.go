package standin

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/oidc"
)

// Terminal is a stand-in command that signs somebody in: it listens on a loopback
// port, has the person open an address, and prints what it got (RFC 8252 §7.3).
type Terminal struct {
	Issuer   string
	ClientID string
	Scopes   string
	Fault    string
	Out      io.Writer
}

var terminalFaults = []Fault{
	{"no-pkce", "there is no code challenge", "pkce-missing"},
	{"other-path", "the redirect URI has another path than the registered one", "redirect-uri-unregistered"},
	{"unknown-client", "the client ID differs by a letter", "application-unknown"},
	{"wrong-verifier", "the code verifier is another one", "pkce-other"},
	{"code-twice", "the code is redeemed twice", "grant-twice"},
}

// TerminalFaults are the faults of a stand-in command.
func TerminalFaults() []Fault { return slices.Clone(terminalFaults) }

// asks is an authorization request as the fault would have it.
func (t *Terminal) asks(q url.Values) url.Values {
	switch t.Fault {
	case "no-pkce":
		q.Del("code_challenge")
		q.Del("code_challenge_method")
	case "other-path":
		q.Set("redirect_uri", q.Get("redirect_uri")+"/other")
	case "unknown-client":
		q.Set("client_id", q.Get("client_id")+"l")
	}
	return q
}

// Run signs somebody in.
func (t *Terminal) Run(ctx context.Context) error {
	if err := known(t.Fault, terminalFaults); err != nil {
		return err
	}
	p, err := discover(ctx, t.Issuer)
	if err != nil {
		return err
	}
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	if err != nil {
		return err
	}
	back := "http://" + ln.Addr().String() + "/callback"
	verifier, state, nonce := secretText(), secretText(), secretText()
	answers, stop := listen(ln, state)
	defer stop()
	fmt.Fprintf(t.Out, "open this address to sign in:\n%s?%s\n", p.Authorize, t.asks(url.Values{"client_id": {t.ClientID},
		"response_type": {"code"}, "redirect_uri": {back}, "scope": {t.Scopes}, "state": {state}, "nonce": {nonce},
		"code_challenge": {oidc.Challenge(verifier)}, "code_challenge_method": {"S256"}}).Encode())
	var answer url.Values
	select {
	case <-ctx.Done():
		return ctx.Err()
	case answer = <-answers:
	}
	switch {
	case answer.Get("error") != "":
		return fmt.Errorf("the gate answers %s: %s", answer.Get("error"), answer.Get("error_description"))
	case answer.Get("iss") != t.Issuer:
		return errors.New("the answer is of another gate")
	}
	q := &call{client: &Client{ClientID: t.ClientID}, to: p, form: url.Values{"grant_type": {"authorization_code"},
		"code": {answer.Get("code")}, "redirect_uri": {back}, "code_verifier": {verifier}}}
	if t.Fault == "wrong-verifier" {
		q.form.Set("code_verifier", secretText())
	}
	got, err := q.send(ctx)
	if err == nil && t.Fault == "code-twice" {
		_, err = q.send(ctx)
	}
	if err != nil {
		return err
	}
	return t.tell(ctx, p, got, nonce)
}

// listen waits for the answer of one sign-in on a loopback port.
func listen(ln net.Listener, state string) (answers chan url.Values, stop func()) {
	answers = make(chan url.Values, 1)
	srv := &http.Server{ReadHeaderTimeout: 10 * time.Second,
		Handler: http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
			if r.URL.Path != "/callback" || r.URL.Query().Get("state") != state {
				http.NotFound(w, r)
				return
			}
			fmt.Fprintln(w, "You can close this window and go back to the terminal.")
			select {
			case answers <- r.URL.Query():
			default:
			}
		})}
	go func() { _ = srv.Serve(ln) }() // ends with ErrServerClosed when stopped
	return answers, func() {
		ctx, cancel := context.WithTimeout(context.Background(), time.Second)
		defer cancel()
		_ = srv.Shutdown(ctx) // the browser gets its page
	}
}

// tell verifies who signed in, and prints what is known of them.
func (t *Terminal) tell(ctx context.Context, p provider, got tokens, nonce string) error {
	claims, err := verified(ctx, p, got.IDToken, oidc.IDToken)
	if err == nil && claims["nonce"] != nonce {
		err = errors.New("the ID token is not for this sign-in")
	}
	if err != nil {
		return err
	}
	info, err := about(ctx, p.UserInfo, got.AccessToken)
	if err != nil {
		return err
	}
	for _, c := range listed(info) {
		fmt.Fprintf(t.Out, "%-20s %s\n", c.Name, c.Value)
	}
	fmt.Fprintf(t.Out, "%-20s %t\n", "can refresh", got.RefreshToken != "")
	return nil
}

// Service is a stand-in program without people: it gets a token of its own and calls
// an API with it.
type Service struct {
	Issuer, ClientID, Secret string
	Resource, API            string
	Fault                    string
	Out                      io.Writer
}

var serviceFaults = []Fault{
	{"wrong-secret", "the client secret is another one", "client-secret-other"},
	{"unknown-client", "the client ID differs by a letter", "application-unknown"},
	{"foreign-resource", "the token is wanted for an API that is not on record", "oauth-request"},
	{"scope-grows", "a scope is wanted that is not on record", "oauth-request"},
	{"for-people", "it asks as if somebody signed in", "oauth-request"},
}

// ServiceFaults are the faults of a stand-in service.
func ServiceFaults() []Fault { return slices.Clone(serviceFaults) }

// spoils has a request for a token be as the fault would have it.
func (s *Service) spoils(q *call) *call {
	switch s.Fault {
	case "wrong-secret":
		q.secret += "x"
	case "unknown-client":
		q.client.ClientID += "l"
	case "foreign-resource":
		q.form.Set("resource", "https://somebody-else.example/")
	case "scope-grows":
		q.form.Set("scope", "possessions.everything")
	case "for-people":
		q.form.Set("grant_type", "authorization_code")
		q.form.Set("code", secretText())
	}
	return q
}

// Run makes one call.
func (s *Service) Run(ctx context.Context) error {
	p, err := discover(ctx, s.Issuer)
	if err != nil {
		return err
	}
	if err := known(s.Fault, serviceFaults); err != nil {
		return err
	}
	form := url.Values{"grant_type": {"client_credentials"}}
	if s.Resource != "" {
		form.Set("resource", s.Resource)
	}
	got, err := s.spoils(&call{client: &Client{ClientID: s.ClientID}, to: p, form: form, secret: s.Secret}).send(ctx)
	if err != nil {
		return err
	}
	octets, status, err := get(ctx, s.API, http.Header{"Authorization": {"Bearer " + got.AccessToken}})
	if err != nil {
		return err
	}
	if status != http.StatusOK {
		return fmt.Errorf("the API answers %d: %s", status, octets)
	}
	var answer any
	if err := json.Unmarshal(octets, &answer); err != nil {
		return err
	}
	shown, err := json.MarshalIndent(answer, "", "  ")
	fmt.Fprintf(s.Out, "%s answers\n%s\n", s.API, shown)
	return err
}
