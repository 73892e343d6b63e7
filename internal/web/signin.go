package web

import (
	"bytes"
	"embed"
	"html/template"
	"net/http"
	"net/url"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate"
)

//go:embed pages
var pageFiles embed.FS

var pages = template.Must(template.ParseFS(pageFiles, "pages/*.html"))

// routes are the addresses that browsers and counterparts use.
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
	app.Get("/saml/idp", func(c fiber.Ctx) error {
		return metadata(c, "innergate-idp.xml", saml.WriteIDPMetadata(s.published(c).IDPFace()))
	})
	for _, sso := range []string{"/saml/idp/sso", "/saml/idp/app/:application/sso"} {
		app.Get(sso, func(c fiber.Ctx) error {
			in, err := saml.FromRedirect(string(c.RequestCtx().URI().QueryString()), "SAMLRequest")
			return s.answer(c, s.gate.AuthnRequest(c.Context(), s.browser(c), c.Params("application"), in, err))
		})
		app.Post(sso, func(c fiber.Ctx) error {
			in, err := saml.FromPOST(form(c, "SAMLRequest"), form(c, "RelayState"))
			return s.answer(c, s.gate.AuthnRequest(c.Context(), s.browser(c), c.Params("application"), in, err))
		})
	}
	app.Get("/saml/idp/app/:application", func(c fiber.Ctx) error {
		a, err := s.gate.Application(c.Params("application"))
		if err != nil || !a.OwnFace {
			return fiber.ErrNotFound
		}
		return metadata(c, "innergate-idp-"+string(a.Name)+".xml", s.published(c).SheetForApplication(a).Metadata)
	})
	app.Get("/saml/sp", func(c fiber.Ctx) error {
		return metadata(c, "innergate-sp.xml", s.published(c).SharedSPMetadata())
	})
	app.Post("/saml/sp/acs", func(c fiber.Ctx) error {
		if artifact := form(c, "SAMLart"); artifact != "" {
			return s.answer(c, s.gate.Artifact(c.Context(), s.browser(c), "", artifact, form(c, "RelayState")))
		}
		in, err := saml.FromPOST(form(c, "SAMLResponse"), form(c, "RelayState"))
		return s.answer(c, s.gate.Response(c.Context(), s.browser(c), "", in, err))
	})
	for _, acs := range []string{"/saml/sp/acs", "/saml/sp/:provider/acs"} {
		app.Get(acs, s.acsByGet)
	}
	app.Get("/saml/sp/:provider", func(c fiber.Ctx) error {
		p, err := s.gate.Provider(c.Params("provider"))
		if err != nil {
			return fiber.ErrNotFound
		}
		return metadata(c, "innergate-sp-"+string(p.Name)+".xml", s.published(c).SheetForProvider(p).Metadata)
	})
	for _, ars := range []string{"/saml/idp/artifact", "/saml/idp/app/:application/artifact"} {
		app.Post(ars, func(c fiber.Ctx) error {
			answer, err := s.gate.Resolve(c.Context(), c.Params("application"), c.Body())
			if err != nil {
				return c.Status(http.StatusForbidden).SendString(gate.ErrNotAnswered.Error() + "; the gate's log says why\n")
			}
			c.Set("Cache-Control", "no-store")
			c.Set("Content-Type", "text/xml; charset=utf-8")
			return c.Send(answer)
		})
	}
	app.Post("/saml/sp/:provider/acs", func(c fiber.Ctx) error {
		if artifact := form(c, "SAMLart"); artifact != "" {
			return s.answer(c, s.gate.Artifact(c.Context(), s.browser(c), c.Params("provider"), artifact, form(c, "RelayState")))
		}
		in, err := saml.FromPOST(form(c, "SAMLResponse"), form(c, "RelayState"))
		return s.answer(c, s.gate.Response(c.Context(), s.browser(c), c.Params("provider"), in, err))
	})
	app.Get("/open/:application", func(c fiber.Ctx) error {
		return s.answer(c, s.gate.Open(c.Context(), s.browser(c), c.Params("application"), c.Query("RelayState"), c.Query("via")))
	})
	app.Get("/crossing/:id", func(c fiber.Ctx) error {
		return s.answer(c, s.gate.Continue(c.Context(), s.browser(c), c.Params("id"), "", c.Query("again") != ""))
	})
	app.Post("/crossing/:id", func(c fiber.Ctx) error {
		return s.answer(c, s.gate.Continue(c.Context(), s.browser(c), c.Params("id"), form(c, "provider"), false))
	})
}

// acsByGet takes artifacts; a Response may not come this way.
func (s *server) acsByGet(c fiber.Ctx) error {
	switch {
	case c.Query("SAMLart") != "":
		return s.answer(c, s.gate.Artifact(c.Context(), s.browser(c), c.Params("provider"), c.Query("SAMLart"), c.Query("RelayState")))
	case c.Query("SAMLResponse") != "":
		in, err := saml.FromRedirect(string(c.RequestCtx().URI().QueryString()), "SAMLResponse")
		return s.answer(c, s.gate.Response(c.Context(), s.browser(c), c.Params("provider"), in, err))
	}
	return fiber.ErrNotFound
}

// published is what metadata is made from; with ?keys=one only current keys are
// in it, for programs that take no second one; with ?signed=true it is signed.
func (s *server) published(c fiber.Ctx) *federation.Snapshot {
	snap := *s.gate.Snapshot()
	if c.Query("keys") == "one" {
		snap.Gate = snap.Gate.OnlyCurrentKeys()
	}
	if c.Query("signed") == "true" {
		snap.Gate = snap.Gate.SignedMetadata("_" + nonce())
	}
	return &snap
}

// form gives a field of the body only, never of the query.
func form(c fiber.Ctx, name string) string {
	return string(c.Request().PostArgs().Peek(name))
}

func metadata(c fiber.Ctx, file string, octets []byte) error {
	c.Set("Content-Type", "application/samlmetadata+xml")
	c.Set("Content-Disposition", `inline; filename="`+file+`"`)
	c.Set("Cache-Control", "max-age=300")
	return c.Send(octets)
}

// browser takes our cookies out of a request.
func (s *server) browser(c fiber.Ctx) gate.Browser {
	b := gate.Browser{Crossings: map[string]string{}, Address: s.address(c).String()}
	prefix := s.cookie("c-")
	for k, v := range c.Request().Header.Cookies() {
		name := string(k)
		if name == s.cookie("session") {
			b.Session = string(v)
		} else if id, ok := strings.CutPrefix(name, prefix); ok {
			b.Crossings[id] = string(v)
		}
	}
	return b
}

// answer turns an outcome into HTTP.
func (s *server) answer(c fiber.Ctx, o gate.Outcome) error {
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
		return s.post(c, o.Departure)
	}
	p := view{Reference: o.Reference, Continue: o.Continue, Crossing: o.Crossing, Choices: o.Choices, Application: o.Title, Again: o.Again}
	switch o.Page {
	case gate.PageChoose:
		p.Title, p.Text = "How do you want to sign in?", "Choose where your account is."
		if o.Title != "" {
			p.Text = "Choose where your account for " + o.Title + " is."
		}
		return s.page(c, http.StatusOK, "choose.html", p)
	case gate.PageFinished:
		p.Title, p.Text = "You are already signed in", "This step was done before. Just go on."
		return s.page(c, http.StatusOK, "message.html", p)
	}
	status := http.StatusForbidden
	p.Title, p.Text = forPerson(o.Finding)
	switch o.Finding.Code {
	case finding.TooManyStarts:
		status = http.StatusTooManyRequests
	case finding.GateFailure:
		status = http.StatusInternalServerError
	case finding.ApplicationUnknown, finding.ProviderUnknown:
		status = http.StatusNotFound
	}
	return s.page(c, status, "message.html", p)
}

// forPerson says in one plain sentence what a finding means for the person in
// front of the browser. The engineer reads the rest in the trace.
func forPerson(f *finding.Finding) (title, text string) {
	switch f.Code {
	case finding.CrossingUnknown:
		return "This sign-in has expired", "Start again at your application."
	case finding.CrossingOtherBrowser:
		return "This sign-in was begun in another browser", "Start again in the browser you want to use, and allow cookies for this address."
	case finding.TooManyStarts:
		return "Too many sign-ins at once", "Wait a few minutes, then start again at your application."
	case finding.InResponseToOther, finding.AssertionReplayed, finding.UnsolicitedRefused:
		return "This sign-in cannot be used", "Start again at your application. If it happens again, tell your help desk the reference number."
	case finding.ApplicationUnknown:
		return "This application is not known here", "Check the address, or tell your help desk the reference number."
	case finding.ApplicationDisabled, finding.ProviderDisabled, finding.NoProvider:
		return "This way in is closed at the moment", "Try again later, or tell your help desk the reference number."
	case finding.GateFailure:
		return "Something went wrong here", "Try again in a few minutes, or tell your help desk the reference number."
	}
	switch f.Side {
	case finding.Provider:
		return "You could not be signed in", "The answer of the place where you signed in was not accepted. Tell your help desk the reference number."
	case finding.Application:
		return "You could not be signed in", "The application sent a request that was not accepted. Tell your help desk the reference number."
	}
	return "You could not be signed in", "Tell your help desk the reference number."
}

type view struct {
	Title, Text, Reference, Continue, Crossing, Application, Again string
	Choices                                                        []gate.Choice
	Location, Host, Nonce                                          string
	Fields                                                         []crossing.Field
}

const pagePolicy = "default-src 'none'; style-src 'self'; img-src 'self' data:; base-uri 'none'; frame-ancestors 'none'"

// post sends a message on by a form that submits itself, with a button for
// browsers without script.
func (s *server) post(c fiber.Ctx, d *crossing.Departure) error {
	u, err := url.Parse(d.Location)
	if err != nil {
		return err
	}
	v := view{Title: "One moment", Text: "You are being taken to " + u.Host + ".", Location: d.Location, Host: u.Host, Fields: d.Form, Nonce: nonce()}
	return s.render(c, http.StatusOK, "post.html", v, pagePolicy+"; script-src 'nonce-"+v.Nonce+"'")
}

func (s *server) page(c fiber.Ctx, status int, name string, v view) error {
	return s.render(c, status, name, v, pagePolicy)
}

func (s *server) plain(c fiber.Ctx, status int, title, text string) error {
	return s.page(c, status, "message.html", view{Title: title, Text: text})
}

func (s *server) render(c fiber.Ctx, status int, name string, v view, policy string) error {
	var b bytes.Buffer
	if err := pages.ExecuteTemplate(&b, name, v); err != nil {
		return err
	}
	c.Set("Content-Security-Policy", policy)
	c.Set("Cache-Control", "no-store")
	c.Type("html", "utf-8")
	return c.Status(status).Send(b.Bytes())
}
