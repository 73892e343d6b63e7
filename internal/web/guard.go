package web

import (
	"bytes"
	"context"
	"fmt"
	"net/http"
	"net/netip"
	"slices"
	"strings"
	"unicode/utf8"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/limit"
)

func within(a netip.Addr, networks []netip.Prefix) bool {
	return slices.ContainsFunc(networks, func(p netip.Prefix) bool { return p.Contains(a.Unmap()) })
}

// address is that of the browser: of the connection, or, if that comes from a
// proxy that is listed, the last one in X-Forwarded-For that is no such proxy, with a
// port or without. All lines of the header are one list. Who cannot be read there is
// nobody: the zero address, which no network contains.
func (s *server) address(c fiber.Ctx) netip.Addr {
	a, _ := netip.AddrFromSlice(c.RequestCtx().RemoteIP())
	lines := c.Request().Header.PeekAll("X-Forwarded-For")
	if len(lines) == 0 {
		return a.Unmap()
	}
	hops := strings.Split(string(bytes.Join(lines, []byte(","))), ",")
	for i := len(hops) - 1; i >= 0 && within(a, s.proxies); i-- {
		a = hop(strings.TrimSpace(hops[i]))
	}
	return a.Unmap()
}

// whence tells where a call comes from.
func (s *server) whence(c fiber.Ctx) api.Browser {
	from, _ := netip.AddrFromSlice(c.RequestCtx().RemoteIP())
	from = from.Unmap()
	return api.Browser{Network: limit.Network(s.address(c).String()), From: from.String(),
		Proxied: within(from, s.proxies)}
}

func hop(text string) netip.Addr {
	if at, err := netip.ParseAddrPort(text); err == nil {
		return at.Addr()
	}
	a, _ := netip.ParseAddr(text)
	return a
}

// mayScrape lets in networks that are allowed, and API tokens.
func (s *server) mayScrape(c fiber.Ctx, networks []netip.Prefix) bool {
	if within(s.address(c), networks) {
		return true
	}
	secret, _ := bearer(c.Get("Authorization"))
	name, err := s.gate.Operators.TokenName(c.Context(), secret)
	return err == nil && name != ""
}

// routed gives a request to who serves its host: the gate at its own, nobody at any other. Whoever serves a further
// host stands here, before what is the gate's own.
func (s *server) routed(c fiber.Ctx) error {
	if federation.SameHost(c.Host(), s.host) {
		return c.Next()
	}
	return c.Status(http.StatusMisdirectedRequest).SendString("This gate is at " + s.gate.Base() + ".\n")
}

// guard sets the headers that every answer of the gate has.
func (s *server) guard(c fiber.Ctx) error {
	c.Set("X-Content-Type-Options", "nosniff")
	c.Set("Referrer-Policy", "strict-origin")
	c.Set("X-Frame-Options", "DENY")
	if strings.HasPrefix(c.Path(), "/api/") {
		c.Set("Cache-Control", "no-store") // secrets and traces are among the answers
	}
	if s.secure {
		c.Set("Strict-Transport-Security", "max-age=31536000")
	}
	return c.Next()
}

type contextKey int

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
	secret, given := bearer(ctx.Header("Authorization"))
	if given {
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
		s.unknown(c, given)
	default:
		if p := wrongQuery(ctx); p != nil {
			_ = s.sendProblem(c, p)
			return
		}
		who := context.WithValue(ctx.Context(), byKey, change.By{Who: name,
			Why: ctx.Query("remark"), Confirms: ctx.Query("confirm"), Took: &change.Consequence{}})
		next(huma.WithContext(ctx, context.WithValue(who, browserKey, s.whence(c))))
	}
}

// wrongQuery says what is wrong with the parameters in the address of a call:
// names that the call does not know, and a remark that cannot be kept. nil if
// nothing is.
func wrongQuery(ctx huma.Context) *api.Problem {
	wrong := func(field, message string) *api.Problem {
		return &api.Problem{Type: "about:blank", Title: "What was given does not fit",
			Status: http.StatusUnprocessableEntity,
			Detail: message, Errors: []api.FieldProblem{{Field: "query." + field, Message: message}}}
	}
	var known []string
	for _, p := range ctx.Operation().Parameters {
		if p.In == "query" {
			known = append(known, p.Name)
		}
	}
	u := ctx.URL()
	for name := range u.Query() {
		if slices.Contains(known, name) || (name == "remark" || name == "confirm") && ctx.Method() != http.MethodGet {
			continue // a remark may come with a preview too, of what it will be kept with
		}
		near, way := nearword.Of(name, known), "this call takes none"
		if near != "" {
			way = "did you mean " + near + "?"
		} else if len(known) > 0 {
			way = "there are " + strings.Join(known, ", ")
		}
		return wrong(name, fmt.Sprintf("there is no parameter %q; %s", name, way))
	}
	remark := ctx.Query("remark")
	if utf8.RuneCountInString(remark) > maxRemark {
		return wrong("remark", fmt.Sprintf("The remark is longer than %d characters; shorten it.", maxRemark))
	}
	if err := federation.CheckText(remark, true); err != nil {
		return wrong("remark", "The remark cannot be kept: "+err.Error()+".")
	}
	return nil
}

// bearer takes the token out of an Authorization header (RFC 6750 §2.1).
func bearer(header string) (secret string, given bool) {
	scheme, rest, ok := strings.Cut(header, " ")
	return strings.TrimSpace(rest), ok && strings.EqualFold(scheme, "Bearer")
}

// unknown asks for a token, or says that the given one is none (RFC 6750 §3).
func (s *server) unknown(c fiber.Ctx, given bool) {
	challenge, title := `Bearer realm="Inner Gate"`, "No token was sent"
	detail := "Send an API token as Authorization: Bearer TOKEN, or sign in to the console. Tokens are made in the console under Keep, or with innergate token add on the gate's host."
	if given {
		challenge += `, error="invalid_token"`
		title, detail = "This token is not known, or has ended",
			"Make another one in the console under Keep, or with innergate token add on the gate's host."
	}
	c.Set("WWW-Authenticate", challenge)
	_ = s.sendProblem(c, &api.Problem{Type: "about:blank", Title: title, Status: http.StatusUnauthorized, Detail: detail})
}

func (s *server) sameOrigin(c fiber.Ctx) bool {
	origin := c.Get("Origin")
	return c.Get("Innergate-Console") == "1" && (origin == "" || federation.SameHost(origin, s.gate.Base()))
}

func (s *server) deny(c fiber.Ctx, status int, detail string) {
	_ = s.sendProblem(c, &api.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status,
		Detail: detail})
}
