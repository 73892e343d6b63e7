package web

import (
	"html"
	"html/template"
	"net/http"
	"net/url"
	"slices"
	"strings"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
)

type view struct {
	Title, Text, Reference, Continue, Crossing, Application, Again string
	Choices                                                        []crossing.Choice
	Form                                                           *crossing.Form
	Agree                                                          *crossing.Agree
	Address                                                        *crossing.AddressAsked
	Refusal                                                        *crossing.RefusalRead
	Owners                                                         []contact
	Last                                                           string // provider that this browser chose last
	Many, Script                                                   bool   // so many choices that they are searched; the page has a script
	Wide, Home, Owned                                              bool   // a page of several columns; it leads to the portal; to the console
	Verb                                                           string // on the button that goes on
	Rehearsal                                                      string // application that is rehearsed, "" for a real page
	Location, Host, Nonce                                          string
	Fields                                                         []crossing.Field
}

// Hidden are the fields that go along unseen. They are put into the page by hand: a template looks at a message letter
// by letter, and most of a page is one.
func (v view) Hidden() template.HTML {
	var b strings.Builder
	for _, f := range v.Fields {
		b.WriteString(`<input type="hidden" name="` + html.EscapeString(f.Name) + `" value="`)
		b.WriteString(html.EscapeString(f.Value))
		b.WriteString("\">\n")
	}
	return template.HTML(b.String())
}

// post sends a message on by a form that submits itself, with a button for
// browsers without script.
func (s *server) post(c fiber.Ctx, d *crossing.Departure, rehearsal string) error {
	u, err := url.Parse(d.Location)
	if err != nil {
		return err
	}
	v := view{Title: "One moment", Text: "You are being taken to " + u.Host + ".", Location: d.Location, Host: u.Host,
		Fields: d.Form, Nonce: s.nonce(), Rehearsal: rehearsal}
	return s.render(c, http.StatusOK, "post.html", v, pagePolicy+"; script-src 'nonce-"+v.Nonce+"'")
}

func (s *server) page(c fiber.Ctx, status int, name string, v view) error {
	return s.render(c, status, name, v, pagePolicy)
}

// mostAtOnce is how many choices are shown without a way to find one among them.
const mostAtOnce = 7

// choose shows the page where somebody chooses a provider, or types their address: the last choice of this browser
// first.
func (s *server) choose(c fiber.Ctx, status int, v view) error {
	v.Last = c.Cookies(s.cookie("last"))
	if i := slices.IndexFunc(v.Choices, func(x crossing.Choice) bool { return x.Name == v.Last }); i > 0 {
		last := v.Choices[i]
		v.Choices = slices.Insert(slices.Delete(slices.Clone(v.Choices), i, i+1), 0, last)
	}
	v.Many = len(v.Choices) > mostAtOnce
	policy := pagePolicy
	if v.Script = v.Many || v.Address != nil; v.Script {
		policy += "; script-src 'self'; connect-src 'self'"
	}
	return s.render(c, status, "choose.html", v, policy)
}

// script serves one of the pages' own.
func (s *server) script(name string) fiber.Handler {
	return func(c fiber.Ctx) error {
		script, err := pageFiles.ReadFile("pages/" + name)
		if err != nil {
			return err
		}
		c.Set("Cache-Control", "public, max-age=3600")
		c.Type("js", "utf-8")
		return c.Send(script)
	}
}

// waysCalls answers which sign-in a domain leads to, while somebody types: what the page that follows would tell
// anybody. Nothing is looked up of people.
func (s *server) waysCalls(app *fiber.App) {
	app.Get("/assets/choose.js", s.script("choose.js"))
	app.Get("/ways", func(c fiber.Ctx) error {
		domain, _ := profile.Domain(c.Query("domain"))
		if len(domain) > 253 {
			domain = ""
		}
		snap, titles := s.gate.Records.Snapshot(), []string{}
		stranger := policy.Subject{Network: s.network(c)}
		open := func(p *federation.Provider) bool {
			_, err := policy.OpenTo(snap, p, &stranger, s.gate.Now())
			return err == nil
		}
		for _, n := range snap.ProvidersAt(domain) {
			if p, ok := snap.Provider(n); ok && open(p) {
				titles = append(titles, p.Title)
			}
		}
		c.Set("Cache-Control", "no-store")
		c.Type("txt", "utf-8")
		switch len(titles) {
		case 0:
			return c.SendString("")
		case 1:
			return c.SendString("You go on to " + titles[0] + ".")
		}
		return c.SendString("You choose among " + strings.Join(titles, " and ") + ".")
	})
}

func (s *server) plain(c fiber.Ctx, status int, title, text string) error {
	return s.page(c, status, "message.html", view{Title: title, Text: text})
}

func (s *server) render(c fiber.Ctx, status int, name string, v any, policy string) error {
	c.Response().ResetBody() // of whatever failed on the way here
	if err := pages.ExecuteTemplate(c.Response().BodyWriter(), name, v); err != nil {
		c.Response().ResetBody()
		return err
	}
	c.Set("Content-Security-Policy", policy)
	c.Set("Cache-Control", "no-store")
	c.Type("html", "utf-8")
	c.Status(status)
	return nil
}

// contact is somebody who answers for an application, with an address that a browser opens.
type contact struct {
	Words   string
	Address template.URL // mailto: or https:, "" for none
}

func contacts(owner string) (out []contact) {
	for _, x := range federation.Answers(owner) {
		one := contact{x.Words, template.URL(x.Link)}
		if x.Mail != "" {
			one.Address = template.URL("mailto:" + url.PathEscape(x.Mail))
		}
		out = append(out, one)
	}
	return out
}
