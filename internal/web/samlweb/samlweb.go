// Package samlweb is the addresses of SAML 2.0: it takes messages out of their
// bindings, hands them to the gate, and gives metadata out.
package samlweb

import (
	"net/http"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/web"
)

// Endpoints are the addresses of SAML.
type Endpoints struct{}

// Routes registers them.
func (Endpoints) Routes(app *fiber.App, site *web.Site) {
	s := &endpoints{site}
	app.Get("/saml/idp", func(c fiber.Ctx) error {
		return metadata(c, "innergate-idp.xml", samlside.IDPMetadata(site.Published(c)))
	})
	app.Get("/saml/idp/app/:name", s.own(federation.KindApplication, "innergate-idp-"))
	for _, sso := range []string{"/saml/idp/sso", "/saml/idp/app/:name/sso"} {
		app.Get(sso, s.requestByGet)
		app.Post(sso, s.requestByPost)
	}
	for _, ars := range []string{"/saml/idp/artifact", "/saml/idp/app/:name/artifact"} {
		app.Post(ars, s.resolve)
	}
	app.Get("/saml/sp", func(c fiber.Ctx) error {
		return metadata(c, "innergate-sp.xml", samlside.SPMetadata(site.Published(c)))
	})
	for _, acs := range []string{"/saml/sp/acs", "/saml/sp/:name/acs"} {
		app.Get(acs, s.answerByGet)
		app.Post(acs, s.answerByPost)
	}
	app.Get("/saml/sp/:name", s.own(federation.KindProvider, "innergate-sp-"))
}

type endpoints struct{ *web.Site }

func (s *endpoints) arrive(c fiber.Ctx, in *crossing.Arrival) error {
	return s.Answer(c, s.Gate().Crossings.Arrive(c.Context(), s.Browser(c), in))
}

func (s *endpoints) requestByGet(c fiber.Ctx) error {
	in, err := s.redirected(c, "SAMLRequest")
	if web.Busy(err) {
		return err
	}
	arrival := samlside.Request(in, c.Params("name"), err)
	arrival.Asked = string(c.RequestCtx().URI().QueryString())
	return s.arrive(c, arrival)
}

func (s *endpoints) requestByPost(c fiber.Ctx) error {
	in, err := s.posted(c, "SAMLRequest")
	if web.Busy(err) {
		return err
	}
	arrival := samlside.Request(in, c.Params("name"), err)
	arrival.Asked, arrival.Posted = string(s.Body(c)), true
	return s.arrive(c, arrival)
}

// posted takes a message out of a form.
func (s *endpoints) posted(c fiber.Ctx, kind string) (saml.Inbound, error) {
	message, err := s.Form(c, kind)
	if err != nil {
		return saml.Inbound{Binding: saml.BindingPOST}, err
	}
	state, err := s.Form(c, "RelayState")
	if err != nil {
		return saml.Inbound{Binding: saml.BindingPOST}, err
	}
	in, err := saml.FromPOST(message, state)
	if busy := s.Read(c, in.Octets); busy != nil {
		return in, busy
	}
	return in, err
}

// redirected takes a message out of an address.
func (s *endpoints) redirected(c fiber.Ctx, kind string) (saml.Inbound, error) {
	in, err := saml.FromRedirectWithin(string(c.RequestCtx().URI().QueryString()), kind,
		func(octets int) error { return s.Unpack(c, octets) })
	if busy := s.Read(c, in.Octets); busy != nil {
		return in, busy
	}
	return in, err
}

// answerByGet takes artifacts; a Response may not come this way.
func (s *endpoints) answerByGet(c fiber.Ctx) error {
	switch {
	case c.Query("SAMLart") != "":
		return s.arrive(c, samlside.Artifact(c.Query("SAMLart"), c.Query("RelayState"), c.Params("name")))
	case c.Query("SAMLResponse") != "":
		in, err := s.redirected(c, "SAMLResponse")
		if web.Busy(err) {
			return err
		}
		return s.arrive(c, samlside.Response(in, c.Params("name"), err))
	}
	return fiber.ErrNotFound
}

func (s *endpoints) answerByPost(c fiber.Ctx) error {
	if artifact, err := s.Form(c, "SAMLart"); err == nil && artifact != "" {
		state, _ := s.Form(c, "RelayState")
		return s.arrive(c, samlside.Artifact(artifact, state, c.Params("name")))
	}
	in, err := s.posted(c, "SAMLResponse")
	if web.Busy(err) {
		return err
	}
	return s.arrive(c, samlside.Response(in, c.Params("name"), err))
}

// own gives the metadata of the face towards one record.
func (s *endpoints) own(kind federation.Kind, file string) fiber.Handler {
	return func(c fiber.Ctx) error {
		snap := s.Published(c)
		r, ok := snap.Record(kind, federation.Name(c.Params("name")))
		if !ok {
			return fiber.ErrNotFound
		}
		octets, ok := samlside.OwnMetadata(snap, r)
		if !ok {
			return fiber.ErrNotFound
		}
		return metadata(c, file+c.Params("name")+".xml", octets)
	}
}

// resolve answers an application's back channel: the message behind an artifact,
// once, to the application it was made for.
func (s *endpoints) resolve(c fiber.Ctx) error {
	g := s.Gate()
	octets, err := func() ([]byte, error) {
		r, err := samlside.Resolve(g.Rehearsals.Opened(g.Records.Snapshot()), c.Params("name"), s.Body(c), g.Now())
		if err != nil {
			return nil, g.Crossings.NotAnswered(err)
		}
		message, err := g.Redeeming.Redeem(c.Context(), r.App, r.Key)
		if err != nil {
			return nil, err
		}
		return r.Answer("_"+g.NewID(), message, g.Now())
	}()
	if err != nil {
		return c.Status(http.StatusForbidden).SendString("this request is not answered; the gate's log says why\n")
	}
	c.Set("Cache-Control", "no-store")
	c.Set("Content-Type", "text/xml; charset=utf-8")
	return c.Send(octets)
}

func metadata(c fiber.Ctx, file string, octets []byte) error {
	c.Set("Content-Type", "application/samlmetadata+xml")
	c.Set("Content-Disposition", `inline; filename="`+file+`"`)
	c.Set("Cache-Control", "max-age=300")
	return c.Send(octets)
}
