// Package oidcweb is the addresses of the gate as OpenID provider: it takes requests
// out of HTTP, hands them to the gate, and writes answers as the standards have them.
package oidcweb

import (
	"cmp"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"net/http"
	"net/url"
	"strconv"
	"strings"
	"sync/atomic"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/gate/leaving"
	"innergate.example/innergate/internal/gate/redeeming"
	"innergate.example/innergate/internal/web"
)

// Endpoints are the addresses of OpenID Connect.
type Endpoints struct{}

// Routes registers them.
func (Endpoints) Routes(app *fiber.App, site *web.Site) {
	s := &endpoints{Site: site}
	for _, path := range []string{"/.well-known/openid-configuration", "/.well-known/oauth-authorization-server"} {
		s.document(app, path, func(g *federation.Gate) ([]byte, error) { return oidcside.Discovery(g) })
	}
	s.document(app, oidcside.JWKSPath, func(g *federation.Gate) ([]byte, error) { return oidcside.JWKS(g) })
	app.Get(oidcside.AuthorizePath, s.authorize)
	app.Post(oidcside.AuthorizePath, s.authorize)
	for path, call := range map[string]fiber.Handler{oidcside.TokenPath: s.token, oidcside.IntrospectPath: s.introspect,
		oidcside.RevokePath: s.revoke, oidcside.PushPath: s.push} {
		app.Post(path, call)
		if path != oidcside.IntrospectPath { // which answers nobody who proves nothing
			app.Options(path, s.preflight)
		}
		app.All(path, s.onlyPost)
	}
	app.Get(oidcside.UserInfoPath, s.userInfo)
	app.Post(oidcside.UserInfoPath, s.userInfo)
	app.Options(oidcside.UserInfoPath, s.preflight)
	app.Get(oidcside.LogoutPath, s.leave)
	app.Post(oidcside.LogoutPath, s.leave)
	app.Post(oidcside.LogoutPath+"/confirm", s.confirmed)
	s.relying(app)
}

type endpoints struct {
	*web.Site
	known atomic.Pointer[origins]
}

// origins are those that may call, of one configuration.
type origins struct {
	of  *federation.Snapshot
	all map[string]bool
}

// document gives out what everybody may read, programs in browsers too.
func (s *endpoints) document(app *fiber.App, path string, write func(*federation.Gate) ([]byte, error)) {
	app.Options(path, func(c fiber.Ctx) error {
		c.Set("Access-Control-Allow-Origin", "*")
		c.Set("Access-Control-Allow-Methods", "GET")
		c.Set("Access-Control-Max-Age", "3600")
		return c.SendStatus(http.StatusNoContent)
	})
	app.Get(path, func(c fiber.Ctx) error {
		octets, err := write(&s.Gate().Snapshot().Gate)
		if err != nil {
			return err
		}
		c.Set("Access-Control-Allow-Origin", "*")
		c.Set("Cache-Control", "public, max-age=300")
		c.Set("Content-Type", "application/json")
		return c.Send(octets)
	})
}

// authorize takes an authorization request by GET or POST (OpenID Connect Core
// §3.1.2.1). One that was pushed is looked up, and of the address only its name
// counts (RFC 9126 §4).
func (s *endpoints) authorize(c fiber.Ctx) error {
	form, posted := string(c.RequestCtx().URI().QueryString()), c.Method() == fiber.MethodPost
	if f := crossing.SecretIn(form, crossing.CallSecrets); f != nil {
		return s.arrive(c, oidcside.Unreadable(f))
	}
	if posted {
		if form != "" {
			return s.arrive(c, oidcside.Unreadable(finding.New(finding.OAuthRequest,
				finding.Fact("Cause", "parameters stand in the address and in the body"))))
		}
		if _, err := s.Form(c, "client_id"); err != nil {
			return s.arrive(c, oidcside.Unreadable(err))
		}
		form = string(s.Body(c))
	}
	q, err := url.ParseQuery(form)
	if uri := q.Get("request_uri"); err == nil && strings.HasPrefix(uri, "urn:ietf:params:oauth:request_uri:") {
		if len(q["request_uri"]) > 1 || len(q["client_id"]) != 1 {
			return s.arrive(c, oidcside.Unreadable(finding.New(finding.OAuthRequest,
				finding.Fact("Given more than once, or not at all",
					"client_id or request_uri"))))
		}
		pushed, err := s.Gate().Redeeming.Pushed(c.Context(), q.Get("client_id"), uri)
		if f := finding.Of(err); f != nil {
			return s.arrive(c, oidcside.Unreadable(f))
		} else if err != nil {
			return err
		}
		return s.arrive(c, oidcside.Request(pushed, false, true))
	}
	arrival := oidcside.Request(form, posted, false)
	arrival.Asked, arrival.Posted = form, posted
	return s.arrive(c, arrival)
}

func (s *endpoints) arrive(c fiber.Ctx, in *crossing.Arrival) error {
	return s.Answer(c, s.Gate().Crossings.Arrive(c.Context(), s.Browser(c), in))
}

func (s *endpoints) caller(c fiber.Ctx) redeeming.Caller {
	return redeeming.Caller{Authorization: c.Get("Authorization"), Query: string(c.RequestCtx().URI().QueryString()),
		Form: string(s.Body(c)), ContentType: c.Get("Content-Type"), Network: s.Network(c)}
}

// cors lets a program in a browser read an answer, if it is one of the client that
// the request speaks for; no cookies come along.
func (s *endpoints) cors(c fiber.Ctx, client string) {
	origin := c.Get("Origin")
	if c.Response().Header.Add("Vary", "Origin"); origin != "" && redeeming.MayCall(s.Gate().Snapshot(), client, origin) {
		c.Set("Access-Control-Allow-Origin", origin)
	}
}

// calls reports whether some application in a browser calls from an origin.
func (s *endpoints) calls(origin string) bool {
	snap := s.Gate().Snapshot()
	known := s.known.Load()
	if known == nil || known.of != snap {
		known = &origins{snap, redeeming.Origins(snap)}
		s.known.Store(known)
	}
	return known.all[strings.ToLower(origin)]
}

// preflight answers for all applications in browsers at once: it names no client.
func (s *endpoints) preflight(c fiber.Ctx) error {
	origin := c.Get("Origin")
	if c.Response().Header.Add("Vary", "Origin"); s.calls(origin) {
		c.Set("Access-Control-Allow-Origin", origin)
		c.Set("Access-Control-Allow-Methods", "GET, POST")
		c.Set("Access-Control-Allow-Headers", "Authorization, Content-Type")
		c.Set("Access-Control-Max-Age", "600")
	}
	return c.SendStatus(http.StatusNoContent)
}

// onlyPost refuses every other method (RFC 6749 §3.2).
func (s *endpoints) onlyPost(c fiber.Ctx) error {
	c.Set("Allow", "POST")
	return s.write(c, http.StatusMethodNotAllowed, wrong{Error: oidc.InvalidRequest,
		Description: "this address takes POST only"})
}

// wrong is an error as the standards write it (RFC 6749 §5.2).
type wrong struct {
	Error       oidc.Code `json:"error"`
	Description string    `json:"error_description,omitempty"`
}

func (s *endpoints) write(c fiber.Ctx, status int, body any) error {
	c.Set("Cache-Control", "no-store")
	c.Set("Pragma", "no-cache")
	return c.Status(status).JSON(body)
}

// refused writes why a request is refused.
func (s *endpoints) refused(c fiber.Ctx, err error) error {
	r := oidc.RefusalOf(err)
	if r == nil {
		return s.write(c, http.StatusInternalServerError, wrong{Error: "server_error",
			Description: "the gate failed; its log says why"})
	}
	status := http.StatusBadRequest
	switch r.Code {
	case oidc.InvalidClient:
		status = http.StatusUnauthorized
		c.Set("WWW-Authenticate", `Basic realm="Inner Gate"`)
	case "temporarily_unavailable":
		status = http.StatusTooManyRequests
		c.Set("Retry-After", strconv.Itoa(int(cmp.Or(r.Wait, time.Minute).Seconds())))
	}
	return s.write(c, status, wrong{r.Code, described(r)})
}

// described is what a client hears of a refusal, with the reference by which an engineer finds it.
func described(r *oidc.Refusal) string {
	if r.Reference == "" {
		return oidcside.Heard(r.Finding)
	}
	return oidcside.Heard(r.Finding) + " (reference " + r.Reference + ")"
}

// clientOf is the client that a request says it comes from, before anything is
// proved: it only says who may read the answer.
func (s *endpoints) clientOf(c fiber.Ctx) string {
	form, err := url.ParseQuery(string(s.Body(c)))
	if err != nil {
		return ""
	}
	return form.Get("client_id")
}

func (s *endpoints) token(c fiber.Ctx) error {
	s.cors(c, s.clientOf(c))
	out, err := s.Gate().Redeeming.Token(c.Context(), s.caller(c))
	if err != nil {
		return s.refused(c, err)
	}
	return s.write(c, http.StatusOK, out)
}

func (s *endpoints) introspect(c fiber.Ctx) error {
	out, err := s.Gate().Redeeming.Introspect(c.Context(), s.caller(c))
	if err != nil {
		return s.refused(c, err)
	}
	return s.write(c, http.StatusOK, out)
}

func (s *endpoints) revoke(c fiber.Ctx) error {
	s.cors(c, s.clientOf(c))
	if err := s.Gate().Redeeming.Revoke(c.Context(), s.caller(c)); err != nil {
		return s.refused(c, err)
	}
	c.Set("Cache-Control", "no-store")
	return c.SendStatus(http.StatusOK)
}

func (s *endpoints) push(c fiber.Ctx) error {
	s.cors(c, s.clientOf(c))
	uri, life, err := s.Gate().Redeeming.Push(c.Context(), s.caller(c))
	if err != nil {
		return s.refused(c, err)
	}
	return s.write(c, http.StatusCreated, map[string]any{"request_uri": uri, "expires_in": int(life.Seconds())})
}

// userInfo takes an access token in the header or, by POST, in the body; never in
// the address (RFC 6750 §2, RFC 9700 §4.3.2).
func (s *endpoints) userInfo(c fiber.Ctx) error {
	token, twice := s.bearer(c)
	if twice {
		f := finding.New(finding.OAuthRequest, finding.Fact("access_token",
			"came more than once, or stands in the address"))
		c.Set("WWW-Authenticate", `Bearer realm="Inner Gate", error="invalid_request"`)
		return s.write(c, http.StatusBadRequest, wrong{oidc.InvalidRequest, oidcside.Heard(f)})
	}
	out, err := s.Gate().Redeeming.UserInfo(c.Context(), s.caller(c), strings.TrimSpace(token))
	c.Response().Header.Add("Vary", "Origin")
	if origin := c.Get("Origin"); s.calls(origin) { // whoever has the token may read what it says
		c.Set("Access-Control-Allow-Origin", origin)
	}
	r := oidc.RefusalOf(err)
	switch {
	case err == nil:
		return s.write(c, http.StatusOK, out)
	case r == nil:
		return s.refused(c, err)
	case token == "":
		c.Set("WWW-Authenticate", `Bearer realm="Inner Gate"`)
		return s.write(c, http.StatusUnauthorized, wrong{r.Code, oidcside.Heard(r.Finding)})
	}
	status := http.StatusUnauthorized
	if r.Code == "insufficient_scope" {
		status = http.StatusForbidden
	}
	c.Set("WWW-Authenticate", `Bearer realm="Inner Gate", error="`+string(r.Code)+`", error_description="`+
		described(r)+`"`)
	return s.write(c, status, wrong{r.Code, described(r)})
}

// bearer is the access token of a request: in the header or, by POST, in the body, but in one
// place alone (RFC 6750 §2).
func (s *endpoints) bearer(c fiber.Ctx) (token string, twice bool) {
	var all []string
	if scheme, given, _ := strings.Cut(c.Get("Authorization"), " "); strings.EqualFold(scheme, "Bearer") {
		all = append(all, given)
	}
	if c.Method() == fiber.MethodPost {
		if form, err := url.ParseQuery(string(s.Body(c))); err == nil {
			all = append(all, form["access_token"]...)
		}
	}
	query, err := url.ParseQuery(string(c.RequestCtx().URI().QueryString()))
	if len(all) > 1 || err == nil && query.Has("access_token") {
		return "", true
	}
	return strings.Join(all, ""), false
}

// leave takes a request to sign out (OpenID Connect RP-Initiated Logout §2, §3).
func (s *endpoints) leave(c fiber.Ctx) error {
	values, err := s.leaving(c)
	if err != nil {
		return s.refuseLeaving(c, err)
	}
	token := s.Browser(c).Session
	if c.Method() == fiber.MethodPost && token == "" {
		// The session does not come along with a form of another site: come again by a
		// GET.
		c.Set("Cache-Control", "no-store")
		return c.Redirect().Status(http.StatusSeeOther).To(s.Gate().Base() + oidcside.LogoutPath + "?" + values.Encode())
	}
	left, session, err2 := s.left(c, values)
	switch {
	case err2 != nil:
		return err2
	case left == nil:
		return nil
	case session == nil:
		return s.gone(c, left.Back)
	case left.Is(session.Lasting):
		return s.signOut(c, session, left.Back)
	}
	stay := ""
	if left.App != nil && left.App.OwnStart != "" {
		stay = left.App.OwnStart
	}
	fields := []crossing.Field{{Name: "confirm", Value: confirmation(session)}}
	for name := range values {
		fields = append(fields, crossing.Field{Name: name, Value: values.Get(name)})
	}
	return s.AskToLeave(c, oidcside.LogoutPath+"/confirm", stay, fields)
}

// leaving takes the parameters out of a request to sign out, each once.
func (s *endpoints) leaving(c fiber.Ctx) (url.Values, *finding.Finding) {
	text := string(c.RequestCtx().URI().QueryString())
	if f := crossing.SecretIn(text, crossing.CallSecrets); f != nil {
		return nil, f
	}
	if c.Method() == fiber.MethodPost {
		text = string(s.Body(c))
	}
	form, err := url.ParseQuery(text)
	if err != nil {
		return nil, finding.New(finding.OAuthRequest, finding.Fact("Cause", err.Error()))
	}
	out := url.Values{}
	for _, name := range []string{"id_token_hint", "client_id", "post_logout_redirect_uri", "state"} {
		if len(form[name]) > 1 {
			return nil, finding.New(finding.OAuthRequest, finding.Fact("Given more than once", name))
		}
		if v := form.Get(name); v != "" {
			out.Set(name, v)
		}
	}
	return out, nil
}

// refuseLeaving shows a page, and records why.
func (s *endpoints) refuseLeaving(c fiber.Ctx, f *finding.Finding) error {
	text := string(c.RequestCtx().URI().QueryString())
	if c.Method() == fiber.MethodPost {
		text = string(s.Body(c))
	}
	return s.Refuse(c, f, s.Gate().Leaving.Refused(leaving.Asked{Binding: c.Method(), Shown: oidcside.Shown(text),
		Network: s.Network(c), From: crossing.Application, Name: "Logout request"}, f))
}

// left holds the request against what is on record, and finds the session; nil and
// no error if a page was shown instead.
func (s *endpoints) left(c fiber.Ctx, v url.Values) (*oidcside.Left, *crossing.Session, error) {
	left, err := oidcside.ReadLeaving(s.Gate().Snapshot(), oidcside.Leaving{Hint: v.Get("id_token_hint"),
		ClientID: oidc.ClientID(v.Get("client_id")), RedirectURI: oidc.RedirectURI(v.Get("post_logout_redirect_uri")),
		State: v.Get("state")})
	if f := finding.Of(err); f != nil {
		return nil, nil, s.refuseLeaving(c, f)
	} else if err != nil {
		return nil, nil, err
	}
	return &left, s.Gate().Leaving.Session(c.Context(), s.Browser(c).Session), nil
}

// confirmation ties the answer of the person to their session: no other site can
// give it.
func confirmation(session *crossing.Session) string {
	sum := sha256.Sum256([]byte("sign out\x1f" + session.Ref))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// confirmed takes the person's word that they want to sign out.
func (s *endpoints) confirmed(c fiber.Ctx) error {
	values, f := s.leaving(c)
	if f != nil {
		return s.refuseLeaving(c, f)
	}
	left, session, err := s.left(c, values)
	switch {
	case err != nil || left == nil:
		return err
	case session == nil:
		return s.gone(c, left.Back)
	}
	said, err := s.Form(c, "confirm")
	if err != nil || said != confirmation(session) {
		return c.Redirect().Status(http.StatusSeeOther).To(s.Gate().Base() + oidcside.LogoutPath + "?" + values.Encode())
	}
	return s.signOut(c, session, left.Back)
}

func (s *endpoints) signOut(c fiber.Ctx, session *crossing.Session, back string) error {
	next, err := s.Gate().Leaving.Depart(c.Context(), session, back)
	if err != nil {
		return errors.Join(errors.New("a session could not be ended"), err)
	}
	s.Forget(c)
	return s.gone(c, next)
}

// gone sends the person on: to a provider that signs them out too, or where the
// application wants them, if that is on record.
func (s *endpoints) gone(c fiber.Ctx, back string) error {
	c.Set("Cache-Control", "no-store")
	if back != "" {
		return c.Redirect().Status(http.StatusSeeOther).To(back)
	}
	return s.Say(c, http.StatusOK, "You are signed out", "You can close this window.")
}
