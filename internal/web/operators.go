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
	type secret struct {
		Password string `json:"password" maxLength:"1024" doc:"At least 12 characters"`
	}
	call(s, a, op("GET", "/owners", "list-owners", "Owners: who may sign in to the console"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Owner]], error) {
			owners, err := g.Operators.Owners(ctx)
			if err != nil {
				return nil, err
			}
			return rows(owners, len(owners),
				func(o operators.Owner) api.Owner { return api.Owner{Username: o.Username, Added: o.Added} }), nil
		})
	call(s, a, op("POST", "/owners", "add-owner", "Add an owner"), func(ctx context.Context, in *struct {
		Body struct {
			Username string `json:"username" maxLength:"200"`
			Password string `json:"password" maxLength:"1024" doc:"At least 12 characters"`
		}
	}) (*body[api.Owner], error) {
		if err := g.Operators.AddOwner(ctx, by(ctx), in.Body.Username, in.Body.Password); err != nil {
			return nil, err
		}
		return &body[api.Owner]{api.Owner{Username: in.Body.Username, Added: time.Now().UTC()}}, nil
	})
	call(s, a, op("PUT", "/owners/{name}/password", "set-password",
		"Give an owner a new password; their console sessions end"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200"`
		Body secret
	}) (*struct{}, error) {
		return nil, g.Operators.SetPassword(ctx, by(ctx), in.Name, in.Body.Password)
	})
	call(s, a, op("DELETE", "/owners/{name}", "remove-owner", "Remove an owner; the last one stays"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, g.Operators.RemoveOwner(ctx, by(ctx), in.Name)
		})
}

// tokenCalls registers the administration of API tokens.
func (s *server) tokenCalls(a huma.API) {
	g := s.gate
	call(s, a, op("GET", "/tokens", "list-tokens", "API tokens"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Token]], error) {
			tokens, err := g.Operators.Tokens(ctx)
			if err != nil {
				return nil, err
			}
			return rows(tokens, len(tokens),
				tokenShown), nil
		})
	call(s, a, op("POST", "/tokens", "add-token", "Make an API token; its secret is given once"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name    string    `json:"name" maxLength:"200"`
				Expires time.Time `json:"expires,omitempty" doc:"When it ends; absent for one that does not"`
			}
		}) (*body[api.Token], error) {
			t, secret, err := g.Operators.AddToken(ctx, by(ctx), in.Body.Name, in.Body.Expires)
			if err != nil {
				return nil, err
			}
			out := tokenShown(t)
			out.Secret = secret
			return &body[api.Token]{out}, nil
		})
	call(s, a, op("DELETE", "/tokens/{name}", "remove-token", "Remove an API token"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, g.Operators.RemoveToken(ctx, by(ctx), in.Name)
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
	public := func(method, path, id, summary string) huma.Operation {
		o := op(method, path, id, summary)
		o.Security, o.DefaultStatus = nil, http.StatusOK
		return o
	}
	call(s, a, public("GET", "/me", "show-me", "Who is signed in to the console"),
		func(ctx context.Context, _ *struct{}) (*body[api.Me], error) {
			token, _ := ctx.Value(consoleKey).(string)
			user, err := s.gate.Operators.ConsoleUser(ctx, token)
			if err != nil {
				return nil, err
			}
			has, err := s.gate.Operators.HasOwner(ctx)
			return &body[api.Me]{api.Me{Username: user, NeedsOwner: !has}}, err
		})
	call(s, a, public("POST", "/me", "sign-in", "Sign in to the console"),
		func(ctx context.Context, in *struct{ Body api.Credentials }) (*withCookie, error) {
			address, _ := ctx.Value(addressKey).(string)
			token, err := s.gate.Operators.SignIn(ctx, in.Body.Username, in.Body.Password, address)
			if err != nil {
				return nil, err
			}
			return &withCookie{SetCookie: s.consoleCookie(token, 12*time.Hour), Body: api.Me{Username: in.Body.Username}}, nil
		})
	call(s, a, public("DELETE", "/me", "sign-out", "Sign out of the console"),
		func(ctx context.Context, _ *struct{}) (*withCookie, error) {
			token, _ := ctx.Value(consoleKey).(string)
			return &withCookie{SetCookie: s.consoleCookie("", -time.Hour)}, s.gate.Operators.SignOut(ctx, token)
		})
	call(s, a, public("POST", "/setup", "set-up", "Set up the first owner with the one-time link"),
		func(ctx context.Context, in *struct{ Body api.Credentials }) (*withCookie, error) {
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
