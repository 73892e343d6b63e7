package web

import (
	"bytes"
	"embed"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"log/slog"
	"net/http"
	"net/netip"
	"runtime/debug"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
	recoverer "github.com/gofiber/fiber/v3/middleware/recover"
	"github.com/prometheus/client_golang/prometheus/promhttp"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/strictjson"
	"innergate.example/innergate/internal/gate"
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
	// Tour is that of the demo; nil for none.
	Tour Tour
}

type server struct {
	tour      Tour
	protocols []crossing.Protocol
	gate      *gate.Gate
	log       *slog.Logger
	version   string
	secure    bool   // the base address is https
	host      string // host and port of the base address
	api       huma.API
	proxies   []netip.Prefix
	budgets   [packed + 1]*budget
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
	s := &server{gate: o.Gate, log: o.Log, version: o.Version, proxies: o.Proxies, protocols: o.Protocols,
		tour: o.Tour, budgets: newBudgets()}
	scheme, host, _ := strings.Cut(o.Gate.Base(), "://")
	s.secure, s.host = scheme == "https", host
	app := fiber.New(fiber.Config{AppName: "Inner Gate", StrictRouting: true, CaseSensitive: true, Immutable: true,
		ReadBufferSize: maxHeader, BodyLimit: maxBody, StreamRequestBody: true, DisablePreParseMultipartForm: true,
		JSONEncoder: plainJSON, ReadTimeout: 30 * time.Second, WriteTimeout: 60 * time.Second, IdleTimeout: 90 * time.Second,
		ErrorHandler: s.failed})
	app.Use(recoverer.New(recoverer.Config{EnableStackTrace: true, StackTraceHandler: func(c fiber.Ctx, e any) {
		s.log.Error("a handler failed by our own fault", "path", c.Path(), "panic", fmt.Sprint(e), "stack",
			string(debug.Stack()))
	}}))
	app.Use(strict, coded)
	app.Get("/healthz", func(c fiber.Ctx) error { return c.SendString("ok\n") })
	app.Get("/readyz", func(c fiber.Ctx) error {
		if err := s.gate.Ready(c.Context()); err != nil {
			s.log.Error("not ready", "error", err)
			return c.Status(http.StatusServiceUnavailable).SendString("the database does not answer, or takes nothing: look at the disk and the log\n")
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
	app.Use(s.routed, s.guard, s.bound)
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
		if allow := s.methods(c.Path()); allow != "" {
			c.Set("Allow", allow)
			return s.sendProblem(c, &api.Problem{Type: "about:blank", Title: "This address does not take " + c.Method(),
				Status: http.StatusMethodNotAllowed, Detail: "Use " + allow + "."})
		}
		return s.sendProblem(c, &api.Problem{Type: "about:blank", Title: "There is no such call",
			Status: http.StatusNotFound,
			Detail: "The calls there are stand in " + s.gate.Base() + "/api/v1/openapi.json."})
	})
	s.console(app)
	return app
}

// levels of a body in JSON.
const mostLevels = 64

// readJSON reads a body in which no member comes twice: which of them would count is not said
// anywhere (RFC 8259 §4).
func readJSON(octets []byte, v any) error {
	if err := strictjson.Once(octets, mostLevels); err != nil {
		return err
	}
	return json.Unmarshal(octets, v)
}

// describe registers the API and gives its OpenAPI document.
func (s *server) describe(app *fiber.App) []byte {
	cfg := huma.DefaultConfig("Inner Gate", s.version)
	cfg.OpenAPIPath, cfg.DocsPath, cfg.SchemasPath = "", "", ""
	cfg.CreateHooks = nil
	plain := huma.Format{Unmarshal: readJSON, Marshal: func(w io.Writer, v any) error {
		octets, err := plainJSON(v)
		if err == nil {
			_, err = w.Write(append(octets, '\n'))
		}
		return err
	}}
	cfg.Formats = map[string]huma.Format{"application/json": plain, "json": plain}
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

// methods are those that an address of the API takes, "" if there is none.
func (s *server) methods(path string) string {
	var out []string
	for template, item := range s.api.OpenAPI().Paths {
		if !fits(template, path) {
			continue
		}
		for method, o := range map[string]*huma.Operation{"GET": item.Get, "POST": item.Post, "PUT": item.Put,
			"PATCH": item.Patch, "DELETE": item.Delete} {
			if o != nil && !slices.Contains(out, method) {
				out = append(out, method)
			}
		}
	}
	slices.Sort(out)
	return strings.Join(out, ", ")
}

// fits reports whether a path is one of a template with {names} in it.
func fits(template, path string) bool {
	want, have := strings.Split(template, "/"), strings.Split(path, "/")
	if len(want) != len(have) {
		return false
	}
	for i, w := range want {
		if w != have[i] && (!strings.HasPrefix(w, "{") || have[i] == "") {
			return false
		}
	}
	return true
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
	busy := status == http.StatusServiceUnavailable
	if busy {
		c.Set("Retry-After", "5")
	}
	if strings.HasPrefix(c.Path(), "/api/") {
		detail := "The request cannot be served; look into the gate's log."
		switch {
		case status == http.StatusRequestEntityTooLarge:
			detail = "The body is larger than 3.1 MB, or has more parts than can be read at once; the metadata of one entity may have 1.0 MB. Upload that of a federation as an aggregate."
		case status == http.StatusUnsupportedMediaType:
			detail = "Send the body as it is, without Content-Encoding."
		case status == http.StatusRequestTimeout:
			detail = "The body came too slowly; send it again."
		case busy:
			detail = "Too many large requests are worked on; send it again in a moment."
		}
		return s.sendProblem(c, &api.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status,
			Detail: detail})
	}
	if status == http.StatusRequestEntityTooLarge {
		return s.plain(c, status, "This is too much at once",
			"Start again at your application, or ask the people who sent you here.")
	}
	if status == http.StatusUnsupportedMediaType || status == http.StatusRequestTimeout {
		return s.plain(c, status, "This cannot be read",
			"What was sent is compressed, or came too slowly. Start again at your application.")
	}
	if busy {
		return s.plain(c, status, "Too much is going on", "Try again in a moment.")
	}
	return s.plain(c, status, "This page does not exist",
		"Start again at your application, or ask the people who sent you here.")
}

// plainJSON writes JSON without escapes that only scripts inside of HTML need.
func plainJSON(v any) ([]byte, error) {
	var b bytes.Buffer
	e := json.NewEncoder(&b)
	e.SetEscapeHTML(false)
	err := e.Encode(v)
	return bytes.TrimSuffix(b.Bytes(), []byte("\n")), err
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
		MaxAge:   int(life.Seconds()), Expires: s.gate.Now().Add(life)})
}

const (
	byKey contextKey = iota
	browserKey
	addressKey
	consoleKey
	tooLargeKey // the body was too large, and is gone
	holdKey     // room that the request has taken
)

// console serves the built console; unknown addresses below it get its first
// page, because the console itself knows its addresses.
func (s *server) console(app *fiber.App) {
	files, err := fs.Sub(built, "dist/console")
	if err != nil {
		panic(err) // the path is constant
	}
	_, missing := fs.Stat(files, "index.html")
	all := &assets{files: files}
	app.Get("/console", func(c fiber.Ctx) error { return c.Redirect().Status(http.StatusSeeOther).To("/console/") })
	app.Get("/console/*", func(c fiber.Ctx) error {
		c.Set("Content-Security-Policy",
			"default-src 'none'; script-src 'self'; style-src 'self'; img-src 'self' data:; font-src 'self'; connect-src 'self'; base-uri 'none'; form-action 'self'; frame-ancestors 'none'")
		if missing != nil {
			return s.plain(c, http.StatusNotFound, "This build has no console",
				"Build it with make build; the command line and the API work without it.")
		}
		name := strings.Clone(c.Params("*"))
		if strings.HasPrefix(name, "assets/") {
			if there, err := all.send(c, name); there {
				c.Set("Cache-Control", "public, max-age=31536000, immutable") // names hold a hash
				return err
			}
		}
		c.Set("Cache-Control", "no-cache")
		_, err := all.send(c, "index.html")
		c.Type("html", "utf-8")
		return err
	})
}

// nonce is for one script on one page.
func (s *server) nonce() string { return s.gate.Secret(16) }
