package oidcweb

import (
	"net/http"
	"net/url"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/gate/leaving"
)

// relying registers the addresses of the gate towards providers that it relies on.
func (s *endpoints) relying(app *fiber.App) {
	const at = "/oidc/rp/:name/"
	app.Get(at+"callback", func(c fiber.Ctx) error {
		return s.arrive(c, rpside.Answer(c.Params("name"), string(c.RequestCtx().URI().QueryString()), false))
	})
	app.Post(at+"callback", s.answerByForm)
	app.Get(at+"start", func(c fiber.Ctx) error {
		return s.arrive(c, rpside.Start(c.Params("name"), string(c.RequestCtx().URI().QueryString())))
	})
	app.Post(at+"start", func(c fiber.Ctx) error {
		if _, err := s.Form(c, "iss"); err != nil {
			return fiber.ErrRequestEntityTooLarge
		}
		return s.arrive(c, rpside.Start(c.Params("name"), string(s.Body(c))))
	})
	app.Post(at+"backchannel-logout", s.leftThere)
	app.Get(at+"signed-out", s.signedOutThere)
	app.Get(at+"jwks", s.ownKeys)
}

// answerByForm takes an authorization response that was posted (Form Post Response
// Mode). The session does not come along with a form of another site, but the crossing
// does.
func (s *endpoints) answerByForm(c fiber.Ctx) error {
	if _, err := s.Form(c, "state"); err != nil {
		in := rpside.Answer(c.Params("name"), "", true)
		in.Broken = err
		return s.arrive(c, in)
	}
	return s.arrive(c, rpside.Answer(c.Params("name"), string(s.Body(c)), true))
}

// provider is the one of an address, nil if there is none of these protocols.
func (s *endpoints) provider(c fiber.Ctx) (*federation.Provider, *rpside.Provider) {
	p, ok := s.Gate().Snapshot().Provider(federation.Name(c.Params("name")))
	if !ok {
		return nil, nil
	}
	side, ok := p.Side.(*rpside.Provider)
	if !ok {
		return nil, nil
	}
	return p, side
}

// leftThere takes a logout token (OpenID Connect Back-Channel Logout §2.5, §2.8).
func (s *endpoints) leftThere(c fiber.Ctx) error {
	p, side := s.provider(c)
	if p == nil {
		return fiber.ErrNotFound
	}
	err := s.leftAt(c, p, side)
	f := finding.Of(err)
	switch {
	case err != nil && f == nil:
		return err
	case f == nil:
		c.Set("Cache-Control", "no-store")
		return c.SendStatus(http.StatusOK)
	}
	shown, _ := url.ParseQuery(string(s.Body(c)))
	s.Gate().Leaving.Refused(leaving.Asked{Binding: c.Method(), Shown: rpside.Shown(shown), Network: s.Network(c),
		From: crossing.Provider, Name: "Logout token", Whose: string(p.Name)}, f)
	return s.write(c, http.StatusBadRequest, wrong{oidc.InvalidRequest, f.Title})
}

func (s *endpoints) leftAt(c fiber.Ctx, p *federation.Provider, side *rpside.Provider) error {
	token, err := s.Form(c, "logout_token")
	if err != nil {
		return err
	}
	for anew := false; ; anew = true {
		in := rpside.Leaving{Token: token, Now: s.Gate().Now()}
		read, none, err := s.Gate().Copies.Of(c.Context(), p, anew)
		if err != nil {
			return err
		}
		if none != nil {
			return none
		}
		in.Keys, _ = read.([]oidc.Key)
		l, err := side.Leaves(&s.Gate().Snapshot().Gate, in)
		if finding.Is(err, finding.TokenKey) && !anew && read != nil {
			continue
		}
		if err != nil {
			return err
		}
		_, err = s.Gate().Leaving.Elsewhere(c.Context(), p, leaving.Told{
			Upstream: crossing.Upstream{Session: l.Session, Subject: l.Subject, Tenant: l.Tenant}, Once: l.Once,
			Until: l.Until})
		return err
	}
}

// signedOutThere goes on after a provider has signed somebody out.
func (s *endpoints) signedOutThere(c fiber.Ctx) error {
	if p, _ := s.provider(c); p == nil {
		return fiber.ErrNotFound
	}
	next, err := s.Gate().Leaving.Resume(c.Context(), c.Params("name"), c.Query("state"))
	if err != nil {
		return err
	}
	return s.gone(c, next)
}

// ownKeys are the keys that the gate proves with who it is.
func (s *endpoints) ownKeys(c fiber.Ctx) error {
	if p, _ := s.provider(c); p == nil {
		return fiber.ErrNotFound
	}
	octets, err := rpside.JWKS(&s.Gate().Snapshot().Gate)
	if err != nil {
		return err
	}
	c.Set("Cache-Control", "public, max-age=300")
	c.Set("Content-Type", "application/json")
	return c.Send(octets)
}
