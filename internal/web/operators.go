package web

import (
	"context"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/operators"
)

// ownerCalls registers the administration of owners.
func (s *server) ownerCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListOwners,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.Owner]], error) {
			owners, err := g.Operators.Owners(ctx)
			if err != nil {
				return nil, err
			}
			return rows(owners, len(owners),
				func(o operators.Owner) api.Owner { return api.Owner{Username: o.Username, Added: o.Added} }), nil
		})
	call(s, a, api.AddOwner, func(ctx context.Context, in *api.Sent[api.NewOwner]) (*body[api.Owner], error) {
		if err := g.Operators.AddOwner(ctx, by(ctx), in.Body.Username, in.Body.Password); err != nil {
			return nil, err
		}
		return &body[api.Owner]{api.Owner{Username: in.Body.Username, Added: g.Now().UTC()}}, nil
	})
	act(s, a, api.SetPassword, func(ctx context.Context, in *api.SentTo[api.NewPassword]) error {
		return g.Operators.SetPassword(ctx, by(ctx), in.Name, in.Body.Password)
	})
	act(s, a, api.RemoveOwner,
		func(ctx context.Context, in *api.Named) error {
			return g.Operators.RemoveOwner(ctx, by(ctx), in.Name)
		})
}

// tokenCalls registers the administration of API tokens.
func (s *server) tokenCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListTokens,
		func(ctx context.Context, _ *api.None) (*body[api.List[api.Token]], error) {
			tokens, err := g.Operators.Tokens(ctx)
			if err != nil {
				return nil, err
			}
			return rows(tokens, len(tokens),
				tokenShown), nil
		})
	call(s, a, api.AddToken, func(ctx context.Context, in *api.Sent[api.NewToken]) (*body[api.Token], error) {
		t, secret, err := g.Operators.AddToken(ctx, by(ctx), in.Body.Name, in.Body.Expires)
		if err != nil {
			return nil, err
		}
		out := tokenShown(t)
		out.Secret = secret
		return &body[api.Token]{out}, nil
	})
	act(s, a, api.RemoveToken,
		func(ctx context.Context, in *api.Named) error {
			return g.Operators.RemoveToken(ctx, by(ctx), in.Name)
		})
}

func tokenShown(t operators.Token) api.Token {
	return api.Token{Name: t.Name, Added: t.Added, By: t.By, Expires: t.Expires}
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
	call(s, a, api.ShowMe,
		func(ctx context.Context, _ *api.None) (*body[api.Me], error) {
			token, _ := ctx.Value(consoleKey).(string)
			user, err := s.gate.Operators.ConsoleUser(ctx, token)
			if err != nil {
				return nil, err
			}
			has, err := s.gate.Operators.HasOwner(ctx)
			return &body[api.Me]{api.Me{Username: user, NeedsOwner: !has}}, err
		})
	register(s, a, api.SignIn.Call,
		func(ctx context.Context, in *api.Sent[api.Credentials]) (*withCookie, error) {
			address, _ := ctx.Value(addressKey).(string)
			token, err := s.gate.Operators.SignIn(ctx, in.Body.Username, in.Body.Password, address)
			if err != nil {
				return nil, err
			}
			return &withCookie{SetCookie: s.consoleCookie(token, 12*time.Hour), Body: api.Me{Username: in.Body.Username}}, nil
		})
	register(s, a, api.SignOut.Call,
		func(ctx context.Context, _ *api.None) (*withCookie, error) {
			token, _ := ctx.Value(consoleKey).(string)
			return &withCookie{SetCookie: s.consoleCookie("", -time.Hour)}, s.gate.Operators.SignOut(ctx, token)
		})
	register(s, a, api.SetUp.Call,
		func(ctx context.Context, in *api.Sent[api.Credentials]) (*withCookie, error) {
			if err := s.gate.Operators.SetUp(ctx, in.Body.Token, in.Body.Username, in.Body.Password); err != nil {
				return nil, err
			}
			address, _ := ctx.Value(addressKey).(string)
			token, err := s.gate.Operators.SignIn(ctx, in.Body.Username, in.Body.Password, address)
			if err != nil {
				return nil, err
			}
			return &withCookie{SetCookie: s.consoleCookie(token, 12*time.Hour), Body: api.Me{Username: in.Body.Username}}, nil
		})
}
