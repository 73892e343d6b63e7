package web

import (
	"context"
	"crypto/rand"
	"embed"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/gate"
	"innergate.example/innergate/internal/gate/change"
)

//go:embed all:dist
var built embed.FS

// Options are what the HTTP interface is made from.
type Options struct {
	Gate    *gate.Gate
	Log     *slog.Logger
	Version string
	// MetricsNetworks may read /metrics without an API token.
	MetricsNetworks []netip.Prefix
	// Proxies are those whose X-Forwarded-For is believed.
	Proxies []netip.Prefix
	// Protocols are those of the gate, and Endpoints their addresses.
	Protocols []crossing.Protocol
	Endpoints []Endpoints
}

type server struct {
	protocols []crossing.Protocol
	gate      *gate.Gate
	log       *slog.Logger
	version   string
	secure    bool   // the base address is https
	host      string // host and port of the base address
	api       huma.API
	proxies   []netip.Prefix
}

// limits on requests, in octets.
const (
	maxHeader = 32 << 10
	maxBody   = 3 << 20
	maxRemark = 1000 // characters

	maxDiscard = 64 << 20 // of a body that is too large
)

// New makes the HTTP interface.
func New(o Options) *fiber.App {
	s := &server{gate: o.Gate, log: o.Log, version: o.Version, proxies: o.Proxies, protocols: o.Protocols}
	scheme, host, _ := strings.Cut(o.Gate.Base(), "://")
	s.secure, s.host = scheme == "https", host
	app := fiber.New(fiber.Config{AppName: "Inner Gate", StrictRouting: true, CaseSensitive: true, Immutable: true,
		ReadBufferSize: maxHeader, BodyLimit: maxBody, StreamRequestBody: true, DisablePreParseMultipartForm: true,
		ReadTimeout: 30 * time.Second, WriteTimeout: 60 * time.Second, IdleTimeout: 90 * time.Second, ErrorHandler: s.failed})
	app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	app.Get("/readyz", func(c fiber.Ctx) error {
		if err := s.gate.Ready(c.Context()); err != nil {
			s.log.Error("not ready", "error", err)
			return c.Status(http.StatusServiceUnavailable).SendString("the database does not answer\n")
		}
		return c.SendString("ready\n")
	})
	metrics := adaptor.HTTPHandler(promhttp.HandlerFor(s.gate.Metrics(), promhttp.HandlerOpts{}))
	app.Get("/metrics", func(c fiber.Ctx) error {
		if !s.mayScrape(c, o.MetricsNetworks) {
			return c.Status(http.StatusForbidden).SendString("Send an API token as Authorization: Bearer TOKEN, or have the operator allow this network (metrics.allowNetworks).\n")
		}
		return metrics(c)
	})
	app.Use(s.guard, s.bound)
	s.routes(app)
	for _, e := range o.Endpoints {
		e.Routes(app, &Site{s})
	}

	document := s.describe(app)
	app.Get("/api/v1/openapi.json", func(c fiber.Ctx) error {
		c.Set("Content-Type", "application/openapi+json")
		return c.Send(document)
	})
	app.Use("/api", func(c fiber.Ctx) error {
		return s.sendProblem(c, &api.Problem{Type: "about:blank", Title: "There is no such call", Status: http.StatusNotFound,
			Detail: "The calls there are stand in " + s.gate.Base() + "/api/v1/openapi.json."})
	})
	s.console(app)
	return app
}

// describe registers the API and gives its OpenAPI document.
func (s *server) describe(app *fiber.App) []byte {
	cfg := huma.DefaultConfig("Inner Gate", s.version)
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "", "", ""
	cfg.CreateHooks = nil
	cfg.Info.Description = "Everything the console and the command line do. Errors are problem details (RFC 9457) with a field, a cause and a way out."
	cfg.Components.SecuritySchemes = map[string]*huma.SecurityScheme{
		"token": {Type: "http", Scheme: "bearer", Description: "An API token"},
		"console": {Type: "apiKey", In: "cookie", Name: s.cookie("console"),
			Description: "A console session; changes need the header Innergate-Console"},
	}
	s.api = huma.NewAPI(cfg, adapter{app})
	s.api.UseMiddleware(s.authenticate)
	s.calls(s.api)
	s.operatorCalls(s.api)
	s.settingSchemas(s.api.OpenAPI())
	document, err := s.api.OpenAPI().MarshalJSON()
	if err != nil {
		panic(err) // the document is made of our own types only
	}
	return document
}

// Document gives the OpenAPI document without a gate.
func Document(version string, protocols []crossing.Protocol) []byte {
	return (&server{version: version, protocols: protocols}).describe(fiber.New())
}

func within(a netip.Addr, networks []netip.Prefix) bool {
	return slices.ContainsFunc(networks, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// address is that of the browser: of the connection, or, if that comes from a
// proxy that is listed, the last one in X-Forwarded-For that is no such proxy.
func (s *server) address(c fiber.Ctx) netip.Addr {
	a, _ := netip.AddrFromSlice(c.RequestCtx().RemoteIP())
	hops := strings.Split(c.Get("X-Forwarded-For"), ",")
	for i := len(hops) - 1; i >= 0 && within(a, s.proxies); i-- {
		hop, err := netip.ParseAddr(strings.TrimSpace(hops[i]))
		if err != nil {
			break
		}
		a = hop
	}
	return a.Unmap()
}

// mayScrape lets in networks that are allowed, and API tokens.
func (s *server) mayScrape(c fiber.Ctx, networks []netip.Prefix) bool {
	if within(s.address(c), networks) {
		return true
	}
	secret, _ := strings.CutPrefix(c.Get("Authorization"), "Bearer ")
	name, err := s.gate.Operators.TokenName(c.Context(), secret)
	return err == nil && name != ""
}

// guard refuses foreign hosts and sets the headers that every answer has.
func (s *server) guard(c fiber.Ctx) error {
	if !strings.EqualFold(c.Host(), s.host) {
		return c.Status(http.StatusMisdirectedRequest).SendString("This gate is at " + s.gate.Base() + ".\n")
	}
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "strict-origin")
	c.Set("X-Frame-Options", "DENY")
	if s.secure {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	return c.Next()
}

// bound reads bodies whole, up to the limit; only uploads are left on the
// connection, for their handlers to read piece by piece.
func (s *server) bound(c fiber.Ctx) error {
	req := c.Request()
	if !req.IsBodyStream() {
		return c.Next()
	}
	if strings.HasSuffix(c.Path(), "/upload") && strings.HasPrefix(c.Path(), "/api/v1/aggregates/") {
		err := c.Next()
		// What a handler left of the body must not be taken for the next request.
		// Operators get their answer after all was read, others are read no further
		// than elsewhere.
		left := int64(maxBody)
		if status := c.Response().StatusCode(); status != http.StatusUnauthorized && status != http.StatusForbidden {
			left = xmlsec.AggregateLimits.Octets
		}
		if n, copyErr := io.Copy(io.Discard, io.LimitReader(req.BodyStream(), left)); n == left || copyErr != nil {
			c.Response().SetConnectionClose()
		}
		return err
	}
	octets, err := io.ReadAll(io.LimitReader(req.BodyStream(), maxBody+1))
	if err != nil {
		return fiber.ErrBadRequest
	}
	if len(octets) > maxBody {
		// Whoever is still sending sees no answer, so what is left is read, within
		// bounds, and thrown away.
		c.Response().SetConnectionClose()
		if _, err := io.CopyN(io.Discard, req.BodyStream(), maxDiscard); err != nil && !errors.Is(err, io.EOF) {
			return fiber.ErrRequestEntityTooLarge
		}
		if strings.HasPrefix(c.Path(), "/api/") {
			return fiber.ErrRequestEntityTooLarge
		}
		c.Locals(tooLargeKey, true)
		octets = nil
	}
	req.SetBody(octets)
	return c.Next()
}

// failed answers what no handler answered: unknown addresses, bodies too large.
func (s *server) failed(c fiber.Ctx, err error) error {
	status := http.StatusInternalServerError
	var fe *fiber.Error
	if errors.As(err, &fe) {
		status = fe.Code
	} else {
		s.log.Error("a request failed", "path", c.Path(), "error", err)
	}
	if strings.HasPrefix(c.Path(), "/api/") {
		detail := "The request cannot be served; look into the gate's log."
		if status == http.StatusRequestEntityTooLarge {
			detail = "The body is larger than 3 MiB; upload a large document as an aggregate."
		}
		return s.sendProblem(c, &api.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status,
			Detail: detail})
	}
	if status == http.StatusRequestEntityTooLarge {
		return s.plain(c, status, "This is too much at once",
			"Start again at your application, or ask the people who sent you here.")
	}
	return s.plain(c, status, "This page does not exist",
		"Start again at your application, or ask the people who sent you here.")
}

func (s *server) sendProblem(c fiber.Ctx, p *api.Problem) error {
	c.Status(p.Status)
	return c.JSON(p, "application/problem+json")
}

// cookie gives the name of a cookie. Over https it gets the prefix that ties it
// to this host.
func (s *server) cookie(name string) string {
	if s.secure {
		return "__Host-ig-" + name
	}
	return "ig-" + name
}

func (s *server) setCookie(c fiber.Ctx, name, value, sameSite string, life time.Duration) {
	if value == "" {
		life = -time.Hour
	}
	c.Cookie(&fiber.Cookie{Name: s.cookie(name), Value: value, Path: "/", HTTPOnly: true, Secure: s.secure,
		SameSite: sameSite,
		MaxAge:   int(life.Seconds()), Expires: time.Now().Add(life)})
}

type contextKey int

const (
	byKey contextKey = iota
	addressKey
	consoleKey
	tooLargeKey // the body was too large, and is gone
)

// by is the operator or token of a call, with the remark.
func by(ctx context.Context) change.By {
	b, _ := ctx.Value(byKey).(change.By)
	return b
}

// authenticate lets an operation be called with an API token, or with a console
// session; changes by the latter need a header that no other site can send.
func (s *server) authenticate(ctx huma.Context, next func(huma.Context)) {
	c := ctx.(*humaContext).c
	address := s.address(c).String()
	token := c.Cookies(s.cookie("console"))
	ctx = huma.WithValue(huma.WithValue(ctx, addressKey, address), consoleKey, token)
	if len(ctx.Operation().Security) == 0 {
		if ctx.Method() != http.MethodGet && !s.sameOrigin(c) {
			s.deny(c, http.StatusForbidden, "This call came from another site.")
			return
		}
		next(ctx)
		return
	}
	name, err := "", error(nil)
	if secret, ok := strings.CutPrefix(ctx.Header("Authorization"), "Bearer "); ok {
		if name, err = s.gate.Operators.TokenName(ctx.Context(), strings.TrimSpace(secret)); name != "" {
			name = "token " + name
		}
	} else if name, err = s.gate.Operators.ConsoleUser(ctx.Context(), token); name != "" &&
		ctx.Method() != http.MethodGet && !s.sameOrigin(c) {
		s.deny(c, http.StatusForbidden,
			"A change by console session needs the header Innergate-Console: 1, sent from the console itself.")
		return
	}
	switch {
	case err != nil:
		s.log.Error("authentication failed by our own fault", "error", err)
		s.deny(c, http.StatusInternalServerError, "Look into the gate's log for the time of this answer.")
	case name == "":
		s.deny(c, http.StatusUnauthorized,
			"Send an API token as Authorization: Bearer TOKEN, or sign in to the console. Tokens are made in the console under Keep.")
	case utf8.RuneCountInString(ctx.Query("remark")) > maxRemark:
		s.deny(c, http.StatusUnprocessableEntity, fmt.Sprintf("The remark is longer than %d characters; shorten it.",
			maxRemark))
	default:
		next(huma.WithContext(ctx, context.WithValue(ctx.Context(), byKey, change.By{Who: name, Why: ctx.Query("remark")})))
	}
}

func (s *server) sameOrigin(c fiber.Ctx) bool {
	origin := c.Get("Origin")
	return c.Get("Innergate-Console") == "1" && (origin == "" || strings.EqualFold(origin, s.gate.Base()))
}

func (s *server) deny(c fiber.Ctx, status int, detail string) {
	_ = s.sendProblem(c, &api.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: detail})
}

type withCookie struct {
	SetCookie []http.Cookie `header:"Set-Cookie"`
	Body      api.Me
}

func (s *server) consoleCookie(value string, life time.Duration) []http.Cookie {
	return []http.Cookie{{Name: s.cookie("console"), Value: value, Path: "/", HttpOnly: true, Secure: s.secure,
		SameSite: http.SameSiteStrictMode, MaxAge: int(life.Seconds())}}
}

// operatorCalls registers signing in and out of the console, and setting up.
func (s *server) operatorCalls(a huma.API) {
	public := func(method, path, id, summary string) huma.Operation {
		o := op(method, path, id, summary)
		o.Security, o.DefaultStatus = nil, http.StatusOK
		return o
	}
	huma.Register(a, public("GET", "/me", "show-me", "Who is signed in to the console"),
		func(ctx context.Context, _ *struct{}) (*body[api.Me], error) {
			token, _ := ctx.Value(consoleKey).(string)
			user, err := s.gate.Operators.ConsoleUser(ctx, token)
			if err != nil {
				return nil, s.problem(err)
			}
			has, err := s.gate.Operators.HasOwner(ctx)
			return &body[api.Me]{api.Me{Username: user, NeedsOwner: !has}}, s.problem(err)
		})
	huma.Register(a, public("POST", "/me", "sign-in", "Sign in to the console"),
		func(ctx context.Context, in *struct{ Body api.Credentials }) (*withCookie, error) {
			address, _ := ctx.Value(addressKey).(string)
			token, err := s.gate.Operators.SignIn(ctx, in.Body.Username, in.Body.Password, address)
			if err != nil {
				return nil, s.problem(err)
			}
			return &withCookie{SetCookie: s.consoleCookie(token, 12*time.Hour), Body: api.Me{Username: in.Body.Username}}, nil
		})
	huma.Register(a, public("DELETE", "/me", "sign-out", "Sign out of the console"),
		func(ctx context.Context, _ *struct{}) (*withCookie, error) {
			token, _ := ctx.Value(consoleKey).(string)
			return &withCookie{SetCookie: s.consoleCookie("", -time.Hour)}, s.problem(s.gate.Operators.SignOut(ctx, token))
		})
	huma.Register(a, public("POST", "/setup", "set-up", "Set up the first owner with the one-time link"),
		func(ctx context.Context, in *struct{ Body api.Credentials }) (*withCookie, error) {
			if err := s.gate.Operators.SetUp(ctx, in.Body.Token, in.Body.Username, in.Body.Password); err != nil {
				return nil, s.problem(err)
			}
			address, _ := ctx.Value(addressKey).(string)
			token, err := s.gate.Operators.SignIn(ctx, in.Body.Username, in.Body.Password, address)
			if err != nil {
				return nil, s.problem(err)
			}
			return &withCookie{SetCookie: s.consoleCookie(token, 12*time.Hour), Body: api.Me{Username: in.Body.Username}}, nil
		})
}

// console serves the built console; unknown addresses below it get its first
// page, because the console itself knows its addresses.
func (s *server) console(app *fiber.App) {
	files, err := fs.Sub(built, "dist/console")
	if err != nil {
		panic(err) // the path is constant
	}
	index, missing := fs.ReadFile(files, "index.html")
	app.Get("/", func(c fiber.Ctx) error { return c.Redirect().Status(http.StatusSeeOther).To("/console/") })
	app.Get("/console", func(c fiber.Ctx) error { return c.Redirect().Status(http.StatusSeeOther).To("/console/") })
	app.Get("/console/*", func(c fiber.Ctx) error {
		c.Set("Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		if missing != nil {
			return s.plain(c, http.StatusNotFound, "This build has no console",
				"Build it with make build; the command line and the API work without it.")
		}
		name := strings.Clone(c.Params("*"))
		if octets, err := fs.ReadFile(files, name); err == nil && strings.HasPrefix(name, "assets/") {
			c.Set("Cache-Control", "public, max-age=31536000, immutable") // names hold a hash
			c.Type(name[strings.LastIndex(name, ".")+1:])
			return c.Send(octets)
		}
		c.Set("Cache-Control", "no-cache")
		c.Type("html", "utf-8")
		return c.Send(index)
	})
}

// nonce is for one script on one page.
func nonce() string {
	b := make([]byte, 16)
	_, _ = rand.Read(b)
	return base64.RawURLEncoding.EncodeToString(b)
}
