package cli

import (
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/standin"
)

// standins are the simulated counterparts as programs of their own.
func (e *environment) standins() *ucli.Command {
	common := []ucli.Flag{
		&ucli.StringFlag{Name: "name", Usage: "short name", Value: "standin"},
		&ucli.StringFlag{Name: "title", Usage: "what people read"},
		&ucli.StringFlag{Name: "listen", Usage: "address and port", Value: "127.0.0.1:8450"},
		&ucli.StringFlag{Name: "gate", Usage: "the gate's metadata: an address or a file"},
		&ucli.StringFlag{Name: "base", Usage: "its own base address, if it is another than that of --listen"},
		&ucli.StringFlag{Name: "tls-certificate", Usage: "speak https with this certificate, in PEM"},
		&ucli.StringFlag{Name: "tls-key", Usage: "and its key"},
		&ucli.StringFlag{Name: "key", Usage: "file to keep the key pair in; a new one each run if absent"},
	}
	provider := &ucli.Command{Name: "provider", Usage: "a simulated SAML provider with the demo people",
		Flags: append(common, &ucli.StringFlag{Name: "fault",
			Usage: "fault of its answers: " + faults(standin.ProviderFaults())},
			&ucli.StringFlag{Name: "names", Value: "oid", Usage: "of its attributes: oid, uri or short"}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			people, err := app.People()
			if err != nil {
				return nil, err
			}
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			naming, err := standin.ParseNaming(cmd.String("names"))
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --names."}
			}
			h, err := (&standin.Provider{Names: naming, Name: cmd.String("name"), Title: titleOf(cmd), Base: base,
				Gate: cmd.String("gate"), People: people, Pair: pair, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
	application := &ucli.Command{Name: "app", Usage: "a simulated SAML application",
		Flags: append(slices.Concat(common, accountFlags("attribute", "NameID")),
			&ucli.BoolFlag{Name: "only-own-starts", Usage: "accept only sign-ins it started"},
			&ucli.StringFlag{Name: "fault", Usage: "fault of its requests: " + faults(standin.ApplicationFaults())}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			accounts, err := e.accounts(cmd)
			if err != nil {
				return nil, err
			}
			h, err := (&standin.Application{Accounts: accounts, Name: cmd.String("name"), Title: titleOf(cmd), Base: base,
				Gate: cmd.String("gate"), OnlyOwn: cmd.Bool("only-own-starts"), Pair: pair, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
	federation := &ucli.Command{Name: "federation", Usage: "a simulated publisher of an aggregate",
		Description: "With --key FILE, the keys of its members are kept as well, in the folder FILE.members.",
		Flags: append(common, &ucli.IntFlag{Name: "entities", Usage: "how many entities", Value: 240},
			&ucli.StringFlag{Name: "fault", Usage: "fault of the aggregate: " + faults(standin.FederationFaults())}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			folder := ""
			if key := cmd.String("key"); key != "" {
				folder = key + ".members"
			}
			h, err := (&standin.Federation{Title: titleOf(cmd), Base: base, Entities: cmd.Int("entities"), Pair: pair,
				Keys: folder, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
	return &ucli.Command{Name: "standin", Usage: "simulated providers, applications and federations",
		Commands: append([]*ucli.Command{provider, application, federation}, e.clientStandins(common)...)}
}

// accountFlags say which accounts a stand-in application keeps; else is what it knows people by if nothing is said.
func accountFlags(by, otherwise string) []ucli.Flag {
	return []ucli.Flag{&ucli.StringFlag{Name: "accounts",
		Usage: "CSV of the accounts it keeps: identifier, name, role, below a line of headings; it makes those that are missing"},
		&ucli.StringFlag{Name: "accounts-by", Usage: by + " that it knows them by; the " + otherwise + " if absent"},
		&ucli.BoolFlag{Name: "only-known", Usage: "refuse people who have no account"}}
}

// accounts are those that a stand-in application keeps, nil for none.
func (e *environment) accounts(cmd *ucli.Command) (*standin.Accounts, error) {
	file := cmd.String("accounts")
	if file == "" {
		if cmd.Bool("only-known") || cmd.String("accounts-by") != "" {
			return nil, &usageError{"there are no accounts to know people by", "Give them with --accounts FILE.csv."}
		}
		return nil, nil
	}
	octets, err := e.readFile("--accounts", file)
	if err != nil {
		return nil, err
	}
	head, list, err := standin.ReadAccounts(string(octets))
	if err != nil {
		return nil, &usageError{fmt.Sprintf("--accounts %s: %v", file, err), "Give CSV: identifier, name, role."}
	}
	return &standin.Accounts{By: cmd.String("accounts-by"), OnlyKnown: cmd.Bool("only-known"), Head: head, List: list},
		nil
}

func titleOf(cmd *ucli.Command) string {
	if t := cmd.String("title"); t != "" {
		return t
	}
	return cmd.String("name")
}

func faults(list []standin.Fault) (s string) {
	for i, f := range list {
		if i > 0 {
			s += ", "
		}
		s += f.Name
	}
	return s
}

func (e *environment) standin(make func(cmd *ucli.Command, base string) (http.Handler, error)) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		if cmd.String("gate") == "" && cmd.Name != "federation" {
			return &usageError{"--gate is missing",
				"Give the address of the gate's metadata: BASE/saml/sp/NAME for a provider, BASE/saml/idp for an application, BASE for an OAuth client or an issuer."}
		}
		ln, err := net.Listen("tcp", cmd.String("listen"))
		if err != nil {
			return &usageError{err.Error(), "Stop what uses the port, or choose another with --listen."}
		}
		base := "http://" + ln.Addr().String()
		if file := cmd.String("tls-certificate"); file != "" {
			pair, err := tls.LoadX509KeyPair(file, cmd.String("tls-key"))
			if err != nil {
				return errors.Join(&usageError{err.Error(), "Give certificate and key in PEM."}, ln.Close())
			}
			ln = tls.NewListener(ln, &tls.Config{Certificates: []tls.Certificate{pair}, MinVersion: tls.VersionTLS12})
			base = "https://" + ln.Addr().String()
		}
		if b := cmd.String("base"); b != "" {
			base = strings.TrimSuffix(b, "/")
		}
		h, err := make(cmd, base)
		if err != nil {
			return errors.Join(err, ln.Close())
		}
		fmt.Fprintf(e.out, "%s is up at %s/\n", cmd.String("name"), base)
		if cmd.String("client-id") == "" {
			fmt.Fprintf(e.out, "  its metadata: %s/metadata\n", base)
		}
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
		go func() { <-ctx.Done(); _ = srv.Close() }()
		if err := srv.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	}
}
