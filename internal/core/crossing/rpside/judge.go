package rpside

import (
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// heard is how far the judging of an answer is, within one turn.
type heard struct {
	then   func(*turn) crossing.Out // what comes when the need is satisfied
	answer oidc.Answered
	form   bool // it came by form_post
	tokens oidc.TokenAnswer
	front  *oidc.Said // of the ID token that came with the browser
	said   oidc.Said  // of the one that counts
	tenant string
	claims []map[string]any    // of the ID token, then of each user-info address
	anew   bool                // keys were asked for again
	infos  int                 // user-info addresses that have answered
	token  string              // that is being verified
	hint   string              // the ID token that was, for signing out there
	again  bool                // it is asked about somebody who is in: see again.go
	only   []string            // claims that the ID token of then alone said
	was    []profile.Attribute // and what it said of these
}

// turn is one step on the way.
type turn struct {
	p   *Provider
	in  crossing.In
	h   heard
	own asked
	out crossing.Out
}

// Step asks the provider, and judges its answer (OpenID Connect Core §3.1.2.7,
// §3.1.3.7, §5.3.2; RFC 6749 §4.1).
func (p *Provider) Step(in crossing.In) crossing.Out {
	if in.Begins {
		return p.ask(in)
	}
	t := &turn{p: p, in: in, out: crossing.Out{Own: in.Own}}
	if in.Held != nil {
		t.h = in.Held.(heard)
	}
	if in.Own != nil {
		if err := json.Unmarshal(in.Own, &t.own); err != nil {
			return t.fail(err)
		}
	}
	if then := t.h.then; then != nil {
		t.h.then = nil
		return then(t)
	}
	return t.begin()
}

func (t *turn) fail(err error) crossing.Out {
	t.out.Err, t.out.Held = err, t.h
	return t.out
}

// need stops until something is there.
func (t *turn) need(n crossing.Need, then func(*turn) crossing.Out) crossing.Out {
	t.h.then = then
	t.out.Next, t.out.Held = crossing.Lack(n), t.h
	return t.out
}

// state is what counts once: the request that was answered, whatever the answer is.
func (t *turn) state() crossing.Once {
	return crossing.Once{Provider: t.in.Provider.Name, ID: "state " + t.own.ID, Until: t.in.Now.Add(2 * crossing.Life),
		As: finding.AnswerTwice}
}

// begin looks whose answer it is. Nobody but the browser that was sent gets any further.
func (t *turn) begin() crossing.Out {
	if t.in.Event.Arrival == nil {
		return t.fail(finding.New(finding.CrossingUnknown))
	}
	switch m := t.in.Event.Arrival.Message.(type) {
	case start:
		return t.starts(m)
	case oidc.Answered:
		t.h.answer, t.h.form = m, t.in.Event.Arrival.Binding == formPost
	default:
		return t.fail(finding.New(finding.MessageOther))
	}
	switch {
	case t.in.Own == nil || t.own.ID == "" || t.own.ID != t.h.answer.State:
		return t.fail(t.out.Checks.Fail("State", finding.New(finding.AnswerUnasked,
			finding.Fact("Provider", string(t.in.Provider.Name)))))
	case !t.in.Mine:
		return t.fail(t.out.Checks.Fail("Browser", finding.New(finding.CrossingOtherBrowser)))
	}
	t.out.Checks.Pass("State", "of a sign-in that this browser began")
	once := t.state()
	return t.need(crossing.WasUsed{Once: once}, (*turn).first)
}

// starts turns it into a start of our own, if the provider may.
func (t *turn) starts(s start) crossing.Out {
	if want := t.p.Doc.Issuer; want != "" && t.p.compiled.tenants == nil && s.issuer != want {
		return t.fail(finding.New(finding.AnswerIssuer, finding.Compare("iss", want, finding.Clip(s.issuer))))
	}
	t.out.Starts = true
	return t.out
}

// first consumes the state, and reads what the answer says before anything is fetched
// for it (RFC 9207 §2.4, RFC 6749 §4.1.2.1).
func (t *turn) first() crossing.Out {
	t.out.Effects = append(t.out.Effects, t.state())
	if used, _ := crossing.Fact(t.in.Facts, crossing.WasUsed{}); used {
		return t.fail(t.out.Checks.Fail("Once", finding.New(finding.AnswerTwice)))
	}
	a := t.h.answer
	if err := t.answered(a.Issuer); err != nil {
		return t.fail(t.out.Checks.Fail("Issuer", err))
	}
	if f := a.Refused(); f != nil {
		return t.fail(f)
	}
	kind := t.p.responseType()
	if kind != "code" && !t.h.form { // what stands in an address is read by others
		return t.fail(t.out.Checks.Fail("Response mode", finding.New(finding.AnswerMalformed,
			finding.Compare("Response mode", formPost, "query"))))
	}
	missing := map[string]bool{"code": strings.Contains(kind, "code") && a.Code == "",
		"id_token": strings.Contains(kind, "id_token") && a.IDToken == ""}
	for name, is := range missing {
		if is {
			return t.fail(finding.New(finding.AnswerMalformed, finding.Fact("Missing", name)))
		}
	}
	if kind == "code" {
		return t.exchange()
	}
	t.h.token = a.IDToken
	return t.keys((*turn).inFront)
}

// answered holds iss of an answer against the issuer that was asked. Of a provider with
// many tenants it is one of them, and compared with the ID token later.
func (t *turn) answered(iss oidc.Issuer) error {
	d := t.p.Doc
	switch {
	case iss == "" && d.SaysIssuer:
		return finding.New(finding.AnswerIssuer, finding.Compare("iss", d.Issuer, ""), finding.Fact("Missing",
			"though the provider's document says that it comes"))
	case iss == "" || d.Issuer == "":
		return nil
	case t.p.compiled.tenants != nil:
		_, err := t.p.compiled.tenants.Of(iss)
		if finding.Is(err, finding.TokenIssuer) {
			return finding.New(finding.AnswerIssuer, finding.Of(err).Evidence...)
		}
		return err
	case iss != d.Issuer:
		return finding.New(finding.AnswerIssuer, finding.Compare("iss", d.Issuer, finding.Clip(iss)))
	}
	t.out.Checks.Pass("Issuer", string(iss))
	return nil
}

// exchange redeems the code, once the effects so far are stored (RFC 6749 §4.1.3).
func (t *turn) exchange() crossing.Out {
	form := url.Values{"grant_type": {"authorization_code"}, "code": {t.h.answer.Code},
		"redirect_uri": {RedirectURI(t.in.Gate, t.in.Provider.Name)}}
	return t.need(t.p.tokenCall(form, t.own.ID), (*turn).tokens)
}

// tokens reads what the token endpoint answered.
func (t *turn) tokens() crossing.Out {
	reply, _ := crossing.Fact(t.in.Facts, &crossing.Call{})
	if f := reply.Fail; f != nil {
		return t.fail(f)
	}
	r := oidc.Reply{Status: reply.Status, Type: reply.Type, Octets: reply.Octets}
	answer, err := oidc.ReadTokenAnswer(r)
	if err != nil {
		t.out.Replied = replied("Token response", shown(r))
		return t.fail(t.hinted(err))
	}
	t.out.Replied = replied("Token response", brief(answer))
	t.h.tokens, t.out.Verified = answer, true
	t.out.Checks.Pass("Tokens", given(answer))
	switch {
	case t.p.plain():
		return t.ask()
	case answer.IDToken == "":
		return t.fail(t.out.Checks.Fail("ID token", finding.New(finding.IDTokenMissing,
			finding.Fact("Scope", strings.Join(t.p.scopes(), " ")))))
	}
	t.h.token = answer.IDToken
	return t.keys((*turn).verify)
}

// hinted adds what the secret looks like to a refusal of it: the usual mistake.
func (t *turn) hinted(err error) error {
	f := finding.Of(err)
	if f == nil || f.Code != finding.ClientRefused || t.p.Secret == nil {
		return err
	}
	f = f.With(finding.Fact("Client authentication", string(t.p.method())))
	if t.p.Secret.UUID {
		f = f.With(finding.Fact("Client secret on record", "has the form of an identifier, not of a secret's value"))
	}
	if !t.p.Secret.Ends.IsZero() && t.in.Now.After(t.p.Secret.Ends) {
		f = f.With(finding.Fact("Client secret on record", "ended on "+t.p.Secret.Ends.Format(time.DateOnly)))
	}
	return f
}

func given(a oidc.TokenAnswer) string {
	out := "access token"
	if a.RefreshToken != "" {
		out += ", refresh token"
	}
	if a.IDToken != "" {
		out += ", ID token"
	}
	return out
}

// keys gets the provider's keys: those that were typed, or the copy of its JWKS.
func (t *turn) keys(then func(*turn) crossing.Out) crossing.Out {
	if t.p.KeyText != "" {
		return then(t)
	}
	return t.need(crossing.CopyOf{Anew: t.h.anew}, then)
}

// opened verifies a token by the provider's keys. One whose key is not known has them
// asked for again, once: ok is false until that was done.
func (t *turn) opened(again func(*turn) crossing.Out) (v oidc.Verified, next *crossing.Out) {
	list := t.p.compiled.keys
	if t.p.KeyText == "" {
		copied, _ := crossing.Fact(t.in.Facts, crossing.CopyOf{})
		if copied.Document == nil {
			f := copied.Fail
			if f == nil {
				f = finding.New(finding.JWKSUnavailable, finding.Fact("Address", t.p.Doc.JWKS))
			}
			out := t.fail(t.out.Checks.Fail("Signature", f))
			return v, &out
		}
		list = copied.Document.([]oidc.Key)
	}
	v, err := oidc.Wanted{Kind: oidc.IDToken, Algorithms: t.p.algorithms(), Keys: list}.Open(t.h.token)
	switch {
	case finding.Is(err, finding.TokenKey) && !t.h.anew && t.p.KeyText == "":
		t.h.anew = true
		out := t.keys(again)
		return v, &out
	case err != nil:
		out := t.fail(t.out.Checks.Fail("Signature", err))
		return v, &out
	}
	t.out.Checks.Pass("Signature", v.Algorithm+", kid "+v.Key.ID)
	t.out.Verified = true
	return v, nil
}

// expected is what ID tokens of this sign-in are held against.
func (t *turn) expected() oidc.Expected {
	return oidc.Expected{Issuer: t.issuer, ClientID: t.p.ClientID, Nonce: derived(t.in.Gate, "nonce", t.own.ID),
		AuthTime: t.own.AuthTime, Now: t.in.Now, Skew: t.in.Gate.Skew}
}

// issuer is that of the record; of one with many tenants, that of one whose people may
// come.
func (t *turn) issuer(iss oidc.Issuer) error {
	if t.p.compiled.tenants != nil {
		tenant, err := t.p.compiled.tenants.Of(iss)
		if err != nil {
			return err
		}
		t.h.tenant = tenant
	} else if iss != t.p.Doc.Issuer {
		return finding.New(finding.TokenIssuer, finding.Compare("iss", t.p.Doc.Issuer, finding.Clip(iss)))
	}
	if said := t.h.answer.Issuer; said != "" && said != iss {
		return finding.New(finding.AnswerIssuer, finding.Compare("iss of the answer", iss, finding.Clip(said)))
	}
	return nil
}

// inFront judges an ID token that came with the browser (OpenID Connect Core §3.2.2.11,
// §3.3.2.12).
func (t *turn) inFront() crossing.Out {
	v, next := t.opened((*turn).inFront)
	if next != nil {
		return *next
	}
	x := t.expected()
	x.Code = t.h.answer.Code
	said, err := x.Check(v, &t.out.Checks)
	if err != nil {
		return t.fail(err)
	}
	if t.h.claims = append(t.h.claims, v.Claims); t.h.answer.Code == "" {
		t.h.said, t.h.hint = said, t.h.token
		return t.ask()
	}
	t.h.front = &said
	return t.exchange()
}

// verify judges the ID token of the token endpoint.
func (t *turn) verify() crossing.Out {
	v, next := t.opened((*turn).verify)
	if next != nil {
		return *next
	}
	x := t.expected()
	x.Access = t.h.tokens.AccessToken
	said, err := x.Check(v, &t.out.Checks)
	if err != nil {
		return t.fail(err)
	}
	if f := t.h.front; f != nil && (f.Subject != said.Subject || f.Issuer != said.Issuer) { // §3.3.3.6
		return t.fail(t.out.Checks.Fail("Subject", finding.New(finding.TokenSubject,
			finding.Compare("sub and iss of both ID tokens", f.Subject+" "+string(f.Issuer), said.Subject+" "+
				string(said.Issuer)))))
	}
	t.h.said, t.h.hint = said, t.h.token
	t.h.claims = append([]map[string]any{v.Claims}, t.h.claims...)
	return t.ask()
}

// ask asks the next user-info address (OpenID Connect Core §5.3.1), or ends.
func (t *turn) ask() crossing.Out {
	infos := t.p.infos()
	if t.h.infos >= len(infos) || t.h.tokens.AccessToken == "" {
		return t.done()
	}
	return t.need(&crossing.Call{Name: "User-info request", Binding: "GET", Address: infos[t.h.infos],
		Plan: infoCall{token: t.h.tokens.AccessToken}, Limit: mostReply, Unreached: finding.UserInfoUnreached, Get: true,
		AnyStatus: true}, (*turn).told)
}

// mostReply bounds in octets what an endpoint answers.
const mostReply = 512 << 10

// told takes in what a user-info address says. A signed answer needs the keys.
func (t *turn) told() crossing.Out {
	reply, _ := crossing.Fact(t.in.Facts, &crossing.Call{})
	if f := reply.Fail; f != nil {
		return t.fail(f)
	}
	r := oidc.Reply{Status: reply.Status, Type: reply.Type, Octets: reply.Octets}
	t.out.Replied = replied("User-info response", shown(r))
	if r.Signed() && !t.p.plain() {
		t.h.token, t.h.anew = strings.TrimSpace(string(r.Octets)), false
		return t.keys((*turn).toldSigned)
	}
	if t.p.plain() {
		r.Octets = wrapped(t.p.infos()[t.h.infos], r.Octets)
	}
	claims, err := oidc.ReadUserInfo(r)
	if err != nil {
		return t.fail(err)
	}
	return t.believe(claims)
}

// wrapped is a list as the member of an object that is named as its address ends: some
// tell addresses and groups so.
func wrapped(address string, octets []byte) []byte {
	if !strings.HasPrefix(strings.TrimSpace(string(octets[:min(len(octets), 100)])), "[") {
		return octets
	}
	path, _, _ := strings.Cut(address, "?")
	name, err := json.Marshal(path[strings.LastIndex(path, "/")+1:])
	if err != nil {
		return octets
	}
	return slices.Concat([]byte("{"), name, []byte(":"), octets, []byte("}"))
}

// toldSigned takes in a signed answer: iss and aud have to fit, if they are there
// (OpenID Connect Core §5.3.2).
func (t *turn) toldSigned() crossing.Out {
	v, next := t.opened((*turn).toldSigned)
	if next != nil {
		return *next
	}
	if err := t.issuer(oidc.Issuer(textOf(v.Claims, "iss"))); err != nil && v.Claims["iss"] != nil {
		return t.fail(t.out.Checks.Fail("Issuer", err))
	}
	if aud := v.Claims["aud"]; aud != nil && !names(aud, string(t.p.ClientID)) {
		return t.fail(t.out.Checks.Fail("Audience", finding.New(finding.TokenAudience,
			finding.Compare("aud", t.p.ClientID, finding.Clip(text(aud))))))
	}
	return t.believe(v.Claims)
}

// believe takes claims that speak of the person of the ID token, and of nobody else.
func (t *turn) believe(claims map[string]any) crossing.Out {
	if !t.p.plain() {
		sub, err := oidc.CheckSubject(claims)
		if err != nil || sub != t.h.said.Subject {
			return t.fail(t.out.Checks.Fail("Subject", finding.New(finding.UserInfoSubject,
				finding.Compare("sub", t.h.said.Subject, finding.Clip(text(claims["sub"]))))))
		}
		t.out.Checks.Pass("Subject", "the same person")
	}
	t.h.claims = append(t.h.claims, claims)
	t.h.infos++
	return t.ask()
}

// replied is the step of the trace for what a call brought in.
func replied(name, octets string) *crossing.TraceStep {
	return &crossing.TraceStep{From: crossing.Provider, To: crossing.GateLane, Name: name, Binding: "back channel",
		Octets: octets}
}

// brief is a token answer as a trace keeps it: tokens are not in it, and the ID token is
// without its signature.
func brief(a oidc.TokenAnswer) string {
	var b strings.Builder
	b.WriteString(`{"access_token":"` + masked + `","token_type":"Bearer"`)
	if a.RefreshToken != "" {
		b.WriteString(`,"refresh_token":"` + masked + `"`)
	}
	if a.Life > 0 {
		fmt.Fprintf(&b, `,"expires_in":%d`, int64(a.Life.Seconds()))
	}
	if octets, err := json.Marshal(finding.Clip(a.Scope)); err == nil && a.Scope != "" {
		b.WriteString(`,"scope":` + string(octets))
	}
	if token := unsigned(a.IDToken); token != a.IDToken {
		b.WriteString(`,"id_token":"` + token + `"`)
	} else if token != "" {
		b.WriteString(`,"id_token":"` + masked + `"`)
	}
	b.WriteString("}")
	return b.String()
}

// shown is an answer as a trace keeps it: as it came, but for what is secret in it. A JWT
// stays without its signature. Whoever reads the trace gets it in lines
// (crossing.Readable).
func shown(r oidc.Reply) string {
	text := strings.TrimSpace(string(r.Octets))
	if !strings.HasPrefix(text, "{") {
		if form, err := url.ParseQuery(text); err == nil && slices.ContainsFunc(secret, form.Has) {
			return lines(form) // some answer in form coding
		}
		return unsigned(text)
	}
	if !strings.Contains(text, "token") && !strings.Contains(text, "_secret") {
		return text
	}
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var o map[string]any
	if err := d.Decode(&o); err != nil {
		return "(JSON that cannot be read, and may hold secrets: " + err.Error() + ")"
	}
	for name, v := range o {
		switch s, ok := v.(string); {
		case !ok:
		case name == "id_token":
			o[name] = unsigned(s)
		case strings.HasSuffix(name, "token") || strings.HasSuffix(name, "_secret"):
			o[name] = masked
		}
	}
	octets, err := json.Marshal(o)
	if err != nil {
		return masked
	}
	return string(octets)
}

// unsigned is a text without its last part, if it is a signed token.
func unsigned(text string) string {
	parts := strings.Split(text, ".")
	if len(parts) != 3 || strings.ContainsAny(text, " \r\n\"\\") {
		return text
	}
	return parts[0] + "." + parts[1] + "."
}

// tokenCall plans a call of the token endpoint, with the gate's proof of who it is.
// request names the request that the verifier belongs to, "" for none.
func (p *Provider) tokenCall(form url.Values, request string) *crossing.Call {
	return &crossing.Call{Name: "Token request", Binding: "POST", Address: p.Doc.Token, Limit: mostReply,
		Unreached: finding.TokenUnreached, AnyStatus: true, Plan: tokenCall{form: form, request: request,
			verifies: request != "" && !p.WithoutPKCE, method: p.method(), client: string(p.ClientID),
			credential: p.credential(),
			audience:   p.assertionAudience()}}
}

// assertionAudience is whom a private_key_jwt is for.
func (p *Provider) assertionAudience() string {
	if p.AssertionFor == "token" || p.Doc.Issuer == "" || p.compiled.tenants != nil {
		return p.Doc.Token
	}
	return string(p.Doc.Issuer)
}

// tokenCall is the plan of a token request.
type tokenCall struct {
	form       url.Values
	request    string
	verifies   bool
	method     oidc.Method
	client     string
	credential string
	audience   string
}

// assertionLife is how long a proof by our key is good.
const assertionLife = 2 * time.Minute

// Render makes it. Everything in the form that is secret stays out of the trace.
func (c tokenCall) Render(g *federation.Gate, m crossing.Made) (out crossing.CallOctets, err error) {
	form := url.Values{}
	for name, v := range c.form {
		form[name] = v
	}
	if c.verifies {
		form.Set("code_verifier", derived(g, "verifier", c.request))
	}
	out.Header = map[string]string{"Content-Type": "application/x-www-form-urlencoded", "Accept": "application/json"}
	switch c.method {
	case oidc.NoMethod:
		form.Set("client_id", c.client)
	case oidc.SignedJWT:
		form.Set("client_id", c.client)
		form.Set("client_assertion_type", "urn:ietf:params:oauth:client-assertion-type:jwt-bearer")
		proof, err := c.proof(g, m)
		if err != nil {
			return out, err
		}
		form.Set("client_assertion", proof)
	default:
		secret, err := m.Secret(c.credential)
		if err != nil {
			return out, err
		}
		out.Secrets = append(out.Secrets, secret)
		if c.method == oidc.SecretPost {
			form.Set("client_id", c.client)
			form.Set("client_secret", secret)
		} else { // in form coding (RFC 6749 §2.3.1)
			out.Header["Authorization"] = "Basic " + base64.StdEncoding.EncodeToString([]byte(url.QueryEscape(c.client)+":"+
				url.QueryEscape(secret)))
		}
	}
	out.Secrets = append(out.Secrets, form.Get("code"), form.Get("code_verifier"), form.Get("refresh_token"))
	out.Body = []byte(form.Encode())
	out.Shown = []byte(lines(form) + "\nclient authentication: " + string(c.method))
	return out, nil
}

// proof is a client assertion (RFC 7523 §3, OpenID Connect Core §9).
func (c tokenCall) proof(g *federation.Gate, m crossing.Made) (string, error) {
	signer, err := signerOf(g)
	if err != nil {
		return "", err
	}
	id := make([]byte, 18)
	if _, err := m.Random.Read(id); err != nil {
		return "", err
	}
	return signer.Sign(oidc.IDToken, map[string]any{"iss": c.client, "sub": c.client, "aud": c.audience,
		"jti": base64.RawURLEncoding.EncodeToString(id), "iat": m.Now.Unix(), "exp": m.Now.Add(assertionLife).Unix()})
}

// infoCall is the plan of a user-info request: the token goes in the header alone.
type infoCall struct{ token string }

// Render makes it.
func (c infoCall) Render(*federation.Gate, crossing.Made) (crossing.CallOctets, error) {
	return crossing.CallOctets{Header: map[string]string{"Authorization": "Bearer " + c.token,
		"Accept": "application/json, application/jwt"}, Shown: []byte("Authorization: Bearer " + masked),
		Secrets: []string{c.token}}, nil
}
