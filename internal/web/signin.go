package web

import (
	"bytes"
	"embed"
	"html/template"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/gate"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/limit"
)

//go:embed pages
var pageFiles embed.FS

var pages = template.Must(template.New("").Funcs(template.FuncMap{"day": day}).ParseFS(pageFiles, "pages/*.html"))

// Endpoints are the addresses of one protocol.
type Endpoints interface {
	// Routes registers them.
	Routes(app *fiber.App, s *Site)
}

// Site is what a protocol's addresses stand on.
type Site struct{ s *server }

// Gate is the gate behind it.
func (s *Site) Gate() *gate.Gate { return s.s.gate }

// Browser takes our cookies out of a request.
func (s *Site) Browser(c fiber.Ctx) driving.Browser { return s.s.browser(c) }

// Answer turns an outcome into HTTP.
func (s *Site) Answer(c fiber.Ctx, o driving.Outcome) error { return s.s.answer(c, o) }

// Network is where a request comes from, for counting.
func (s *Site) Network(c fiber.Ctx) string { return s.s.network(c) }

func (s *server) network(c fiber.Ctx) string { return limit.Network(s.address(c).String()) }

// Say shows a person a sentence.
func (s *Site) Say(c fiber.Ctx, status int, title, text string) error {
	return s.s.plain(c, status, title, text)
}

// Refuse shows a person what a finding means for them, with the reference by which
// an engineer finds more.
func (s *Site) Refuse(c fiber.Ctx, f *finding.Finding, reference string) error {
	say := crossing.ForPerson(f)
	return s.s.page(c, http.StatusBadRequest, "message.html", view{Title: "You could not be signed out", Text: say.Text,
		Reference: reference})
}

// AskToLeave asks a person whether they want to sign out; the answer is posted to an
// address of the gate with hidden fields.
func (s *Site) AskToLeave(c fiber.Ctx, action, stay string, fields []crossing.Field) error {
	return s.s.page(c, http.StatusOK, "leave.html", view{Title: "Do you want to sign out?",
		Text: "You are signed in here. Applications that you opened from here hear of it.", Location: action, Continue: stay,
		Fields: fields})
}

// Forget deletes the session cookie.
func (s *Site) Forget(c fiber.Ctx) { s.s.setCookie(c, "session", "", "Lax", 0) }

// Unpack waits for room to unpack so many octets of an address. The error is Busy.
func (s *Site) Unpack(c fiber.Ctx, octets int) error {
	if octets <= small {
		return nil
	}
	return s.s.take(c, reading, 2*octets)
}

// Read waits for room to read a message in that came packed: what comes in bodies has
// waited before it was read, by what it is outside. What is sealed in it may be nothing
// but elements. The error is Busy, or a finding about a message that has too many parts.
func (s *Site) Read(c fiber.Ctx, message []byte) error {
	n := growth(message)
	if bytes.Contains(message, []byte("EncryptedData")) {
		n += min(60*len(message), 320*int(xmlsec.MessageLimits.Count))
	}
	if n <= small {
		return nil
	}
	if n > s.s.budgets[packed].largest() {
		return finding.New(finding.XMLTooLarge, finding.Fact("Limit", "50,000 elements, with what stands in them"))
	}
	return s.s.take(c, packed, n)
}

// Form gives a field of the body only, never of the query; an error says that
// the body was too large to be read.
func (s *Site) Form(c fiber.Ctx, name string) (string, error) {
	if c.Locals(tooLargeKey) != nil {
		return "", finding.New(finding.XMLTooLarge, finding.Fact("Limit", "1 MiB for the message"))
	}
	return string(c.Request().PostArgs().Peek(name)), nil
}

// Published is what documents about the gate are made from; with ?keys=one only
// current keys are in it, for programs that take no second one; with
// ?signed=true it is signed.
func (s *Site) Published(c fiber.Ctx) *federation.Snapshot {
	g := s.s.gate.Records.Snapshot().Gate
	if c.Query("keys") == "one" {
		g = g.OnlyCurrentKeys()
	}
	if c.Query("signed") == "true" {
		g = g.SignedDocuments("_" + s.Gate().NewID())
	}
	return s.s.gate.Records.Snapshot().WithGate(g)
}

// routes are the addresses that browsers use with every protocol.
func (s *server) routes(app *fiber.App) {
	app.Get("/assets/page.css", func(c fiber.Ctx) error {
		css, err := pageFiles.ReadFile("pages/page.css")
		if err != nil {
			return err
		}
		c.Set("Cache-Control", "public, max-age=3600")
		c.Type("css", "utf-8")
		return c.Send(css)
	})
	s.waysCalls(app)
	s.portalRoutes(app)
	s.rehearsalRoutes(app)
	app.Get("/open/:application", func(c fiber.Ctx) error {
		return s.answer(c, s.gate.Crossings.Open(c.Context(), s.browser(c), driving.Start{App: c.Params("application"),
			Target: c.Query("RelayState"), Point: c.Query("start"), Via: c.Query("via"), Role: c.Query("role")}))
	})
	app.Get("/crossing/:id", func(c fiber.Ctx) error {
		b, id := s.browser(c), c.Params("id")
		switch header := c.Get("Authorization"); {
		case header != "":
			return s.answer(c, s.gate.Crossings.Authorize(c.Context(), b, id, header))
		case c.Query("again") != "":
			return s.answer(c, s.gate.Crossings.Choose(c.Context(), b, id, "", true))
		}
		return s.answer(c, s.gate.Crossings.Continue(c.Context(), b, id))
	})
	app.Post("/crossing/:id", func(c fiber.Ctx) error {
		if c.Locals(tooLargeKey) != nil {
			return fiber.ErrRequestEntityTooLarge
		}
		said := c.Request().PostArgs()
		if provider := string(said.Peek("provider")); provider != "" || !said.Has("address") {
			if _, err := federation.ParseName(provider); err == nil {
				s.setCookie(c, "last", provider, "Lax", rememberFor)
			}
			return s.answer(c, s.gate.Crossings.Choose(c.Context(), s.browser(c), c.Params("id"), provider, false))
		}
		return s.answer(c, s.gate.Crossings.Type(c.Context(), s.browser(c), c.Params("id"), string(said.Peek("address"))))
	})
	app.Post("/crossing/:id/form", func(c fiber.Ctx) error {
		if c.Locals(tooLargeKey) != nil {
			return fiber.ErrRequestEntityTooLarge
		}
		values, err := url.ParseQuery(string(c.Request().Body()))
		if err != nil {
			return fiber.ErrBadRequest
		}
		return s.answer(c, s.gate.Crossings.Submit(c.Context(), s.browser(c), c.Params("id"), values))
	})
}

// browser takes our cookies out of a request.
func (s *server) browser(c fiber.Ctx) driving.Browser {
	b := driving.Browser{Crossings: map[string]string{}, Address: s.address(c).String()}
	prefix := s.cookie("c-")
	for k, v := range c.Request().Header.Cookies() {
		name := string(k)
		if name == s.cookie("session") {
			b.Session = string(v)
		} else if name == s.cookie("rehearsal") {
			b.Rehearsal = string(v)
		} else if id, ok := strings.CutPrefix(name, prefix); ok {
			b.Crossings[id] = string(v)
		}
	}
	return b
}

// rememberFor is how long a browser remembers by which provider its person came.
const rememberFor = 180 * 24 * time.Hour

// answer turns an outcome into HTTP.
func (s *server) answer(c fiber.Ctx, o driving.Outcome) error {
	c.Set("Cache-Control", "no-store")
	for _, ck := range o.Cookies {
		if ck.Crossing == "" {
			s.setCookie(c, "session", ck.Value, "Lax", ck.Life)
		} else if s.secure {
			s.setCookie(c, "c-"+ck.Crossing, ck.Value, "None", ck.Life)
		} else {
			s.setCookie(c, "c-"+ck.Crossing, ck.Value, "Lax", ck.Life)
		}
	}
	switch {
	case o.Next != "":
		return c.Redirect().Status(http.StatusSeeOther).To(o.Next)
	case o.Departure != nil && o.Departure.Form == nil:
		return c.Redirect().Status(http.StatusSeeOther).To(o.Departure.Location)
	case o.Departure != nil:
		return s.post(c, o.Departure, o.Rehearsal)
	}
	for _, scheme := range o.Challenge {
		c.Response().Header.Add("WWW-Authenticate", scheme)
	}
	if asked := "/crossing/" + o.Crossing; o.Asks() && (c.Path() != asked || c.Method() != fiber.MethodGet) {
		// The page has an address of its own, where it can be reloaded and found again.
		return c.Redirect().Status(http.StatusSeeOther).To(s.gate.Base() + asked)
	}
	status := http.StatusOK
	if o.Challenge != nil {
		status = http.StatusUnauthorized
	}
	p := view{Reference: o.Reference, Continue: o.Continue, Crossing: o.Crossing, Choices: o.Choices,
		Application: o.Title, Again: o.Again, Form: o.Form, Agree: o.Agree, Address: o.Address,
		Refusal: o.Refusal, Rehearsal: o.Rehearsal}
	switch o.Page {
	case crossing.PageChoose:
		p.Title, p.Text = "How do you want to sign in?", "Choose where your account is."
		if p.Owned = o.Portal; o.Portal {
			o.Title, p.Application = "", ""
		}
		if o.Title != "" {
			p.Text = "Choose where your account for " + o.Title + " is."
		}
		if o.Address != nil {
			p.Title, p.Text = "What is your e-mail address or user name?", "An address tells where you sign in."
			if o.Title != "" {
				p.Text = "An address tells where you sign in to " + o.Title + "."
			}
		}
		return s.choose(c, status, p)
	case crossing.PageForm:
		p.Title, p.Text = o.Form.Title, o.Form.Text
		return s.page(c, status, "form.html", p)
	case crossing.PageAgree:
		p.Title, p.Text = "May "+o.Title+" know this about you?", "You are signed in. "+o.Title+" asks for:"
		if len(o.Agree.Shown) == 0 {
			p.Text = "You are signed in. " + o.Title + " gets to know that it is you, and nothing else."
		}
		return s.page(c, status, "agree.html", p)
	case crossing.PageFinished:
		p.Title, p.Text = "You are already signed in", "This step was done before. Just go on."
		return s.page(c, http.StatusOK, "message.html", p)
	}
	say := crossing.ForPerson(o.Finding)
	p.Title, p.Text, p.Home = say.Title, say.Text, p.Continue == ""
	if r := o.Refusal; r != nil {
		p.Owners = contacts(r.Owner)
		if _, own := crossing.RuleSays(o.Finding); len(p.Owners) > 0 && !own {
			p.Text = ""
		}
		if r.Question != "" {
			return s.page(c, faults[say.Fault], "refused.html", p)
		}
	}
	return s.page(c, faults[say.Fault], "message.html", p)
}

// faults are the HTTP statuses of refusals.
var faults = map[crossing.Fault]int{crossing.FaultRefused: http.StatusForbidden,
	crossing.FaultUnknown: http.StatusNotFound,
	crossing.FaultBusy:    http.StatusTooManyRequests, crossing.FaultOurs: http.StatusInternalServerError}

const pagePolicy = "default-src 'none'; style-src 'self'; img-src 'self' data:; base-uri 'none'; frame-ancestors 'none'"
