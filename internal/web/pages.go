package web

import (
	"bytes"
	"net/http"
	"net/url"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
)

type view struct {
	Title, Text, Reference, Continue, Crossing, Application, Again string
	Choices                                                        []crossing.Choice
	Form                                                           *crossing.Form
	Agree                                                          *crossing.Agree
	Location, Host, Nonce                                          string
	Fields                                                         []crossing.Field
}

// post sends a message on by a form that submits itself, with a button for
// browsers without script.
func (s *server) post(c fiber.Ctx, d *crossing.Departure) error {
	u, err := url.Parse(d.Location)
	if err != nil {
		return err
	}
	v := view{Title: "One moment", Text: "You are being taken to " + u.Host + ".", Location: d.Location, Host: u.Host,
		Fields: d.Form, Nonce: nonce()}
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
