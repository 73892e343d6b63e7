package cli

import (
	"context"
	"net/http"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/standin"
)

// clientStandins are the simulated applications that speak OpenID Connect.
func (e *environment) clientStandins(common []ucli.Flag) []*ucli.Command {
	id := &ucli.StringFlag{Name: "client-id", Usage: "its client ID at the gate"}
	secret := &ucli.StringFlag{Name: "client-secret-file", Usage: "file with its client secret"}
	issuer := &ucli.StringFlag{Name: "gate", Usage: "the gate's issuer, like https://gate.wrenmoor.example"}
	served := append([]ucli.Flag{id, issuer}, without(common, "gate", "key")...)
	return []*ucli.Command{
		e.issuer(append([]ucli.Flag{id, secret, issuer}, without(common, "gate")...)),
		{Name: "client", Usage: "a simulated OpenID Connect web application; its redirect URI is BASE/callback",
			Flags: append(slices.Concat(served, accountFlags("claim", "sub")), secret, &ucli.StringFlag{Name: "fault",
				Usage: "fault of its sign-ins: " + faults(standin.ClientFaults())}),
			Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
				text, err := e.secretFile(cmd)
				if err != nil {
					return nil, err
				}
				accounts, err := e.accounts(cmd)
				if err != nil {
					return nil, err
				}
				h, err := (&standin.Client{Accounts: accounts, Name: cmd.String("name"), Title: titleOf(cmd), Base: base,
					Issuer: cmd.String("gate"), ClientID: cmd.String("client-id"), Secret: text, Fault: cmd.String("fault")}).Handler()
				if err != nil {
					return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
				}
				return h, nil
			})},
		{Name: "browser", Usage: "a simulated application that runs in the browser; its redirect URI is BASE/",
			Flags: append(slices.Clone(served), &ucli.StringFlag{Name: "fault",
				Usage: "fault of its sign-ins: " + faults(standin.BrowserFaults())}),
			Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
				h, err := (&standin.Browser{Name: cmd.String("name"), Title: titleOf(cmd), Issuer: cmd.String("gate"),
					ClientID: cmd.String("client-id"), Fault: cmd.String("fault")}).Handler()
				if err != nil {
					return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
				}
				return h, nil
			})},
		{Name: "terminal", Usage: "a simulated command that signs somebody in; its redirect URI is http://127.0.0.1/callback",
			Flags: []ucli.Flag{id, issuer, &ucli.StringFlag{Name: "scope", Value: "openid profile email groups",
				Usage: "what it asks for"}, &ucli.StringFlag{Name: "fault",
				Usage: "fault of the sign-in: " + faults(standin.TerminalFaults())}},
			Action: func(ctx context.Context, cmd *ucli.Command) error {
				if err := e.asks(cmd); err != nil {
					return err
				}
				return (&standin.Terminal{Issuer: cmd.String("gate"), ClientID: cmd.String("client-id"),
					Scopes: cmd.String("scope"), Fault: cmd.String("fault"), Out: e.out}).Run(ctx)
			}},
		{Name: "service", Usage: "a simulated program without people, which gets a token of its own and calls an API",
			Flags: []ucli.Flag{id, issuer, secret, &ucli.StringFlag{Name: "resource",
				Usage: "audience that the token is to name"},
				&ucli.StringFlag{Name: "api", Usage: "address that it calls"}, &ucli.StringFlag{Name: "fault",
					Usage: "fault of its request: " + faults(standin.ServiceFaults())}},
			Action: func(ctx context.Context, cmd *ucli.Command) error {
				if err := e.asks(cmd); err != nil {
					return err
				}
				text, err := e.secretFile(cmd)
				if err != nil {
					return err
				}
				return (&standin.Service{Issuer: cmd.String("gate"), ClientID: cmd.String("client-id"), Secret: text,
					Resource: cmd.String("resource"), API: cmd.String("api"), Fault: cmd.String("fault"), Out: e.out}).Run(ctx)
			}},
	}
}

// issuer is the simulated OpenID provider, or one of OAuth 2.0.
func (e *environment) issuer(flags []ucli.Flag) *ucli.Command {
	return &ucli.Command{Name: "issuer",
		Usage: "a simulated OpenID provider, or, with --oauth2, one without ID tokens; the gate is its client",
		Flags: append(flags, &ucli.BoolFlag{Name: "oauth2", Usage: "without ID tokens: who somebody is tells BASE/api/me"},
			&ucli.StringSliceFlag{Name: "tenant", Usage: "one of several tenants, each with an issuer BASE/TENANT/v2; people are of the first; repeat it"},
			&ucli.StringFlag{Name: "fault", Usage: "fault of its answers: " + faults(standin.IssuerFaults(false))}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			people, err := app.People()
			if err != nil {
				return nil, err
			}
			text, err := e.secretFile(cmd)
			if err != nil {
				return nil, err
			}
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			if cmd.String("client-id") == "" {
				return nil, &usageError{"--client-id is missing", "Give the client ID that the gate has here."}
			}
			h, err := (&standin.Issuer{Name: cmd.String("name"), Title: titleOf(cmd), Base: base, Plain: cmd.Bool("oauth2"),
				Tenants: cmd.StringSlice("tenant"), Gate: strings.TrimSuffix(cmd.String("gate"),
					"/"), ClientID: cmd.String("client-id"), Secret: text,
				Domain: "@wrenmoor.example", People: people, Pair: pair, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
}

func without(flags []ucli.Flag, names ...string) (out []ucli.Flag) {
	for _, f := range flags {
		if !strings.Contains(" "+strings.Join(names, " ")+" ", " "+f.Names()[0]+" ") {
			out = append(out, f)
		}
	}
	return out
}

// asks sees that a command knows whom to ask, and as whom.
func (e *environment) asks(cmd *ucli.Command) error {
	if _, err := names(cmd); err != nil {
		return err
	}
	for _, flag := range []string{"gate", "client-id"} {
		if cmd.String(flag) == "" {
			return &usageError{"--" + flag + " is missing",
				"Give the gate's issuer with --gate, and the client ID with --client-id."}
		}
	}
	return nil
}

func (e *environment) secretFile(cmd *ucli.Command) (string, error) {
	if cmd.String("client-secret-file") == "" {
		return "", nil
	}
	octets, err := e.readFile("--client-secret-file", cmd.String("client-secret-file"))
	return strings.TrimSpace(string(octets)), err
}
