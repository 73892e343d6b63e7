package cli

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/goccy/go-yaml"
	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/standin"
	"innergate.example/innergate/internal/web"
)

func (e *environment) serve() *ucli.Command {
	return &ucli.Command{Name: "serve", Usage: "run the service", Flags: []ucli.Flag{
		&ucli.StringFlag{Name: "config", Usage: "configuration file; without it, everything comes from the environment"},
	}, Action: func(ctx context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		return app.Serve(ctx, cmd.String("config"))
	}}
}

// openapi prints the description of the API, for making clients.
func (e *environment) openapi() *ucli.Command {
	return &ucli.Command{Name: "openapi", Usage: "print the OpenAPI document of the API", Action: func(_ context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		var out bytes.Buffer
		if err := json.Indent(&out, web.Document("1"), "", "  "); err != nil {
			return err
		}
		_, err := fmt.Fprintln(e.out, out.String())
		return err
	}}
}

func (e *environment) demo() *ucli.Command {
	return &ucli.Command{Name: "demo", Usage: "run the gate with demo data and stand-ins", Flags: []ucli.Flag{
		&ucli.StringFlag{Name: "data", Usage: "data directory, kept; temporary if absent"},
		&ucli.StringFlag{Name: "listen", Usage: "address and port of the gate; the stand-ins take the next ports", Value: "127.0.0.1:8400"},
		&ucli.StringFlag{Name: "ready", Usage: "file to write when all is up"},
	}, Action: func(ctx context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		log := slog.New(slog.NewTextHandler(e.err, &slog.HandlerOptions{Level: slog.LevelWarn}))
		return app.Demo(ctx, app.DemoOptions{Data: cmd.String("data"), Listen: cmd.String("listen"), Ready: cmd.String("ready"), Log: log})
	}}
}

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
		Flags: append(common, &ucli.StringFlag{Name: "fault", Usage: "fault of its answers: " + faults(standin.ProviderFaults())}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			people, err := app.People()
			if err != nil {
				return nil, err
			}
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			h, err := (&standin.Provider{Name: cmd.String("name"), Title: titleOf(cmd), Base: base, Gate: cmd.String("gate"), People: people, Pair: pair, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
	application := &ucli.Command{Name: "app", Usage: "a simulated SAML application",
		Flags: append(common, &ucli.BoolFlag{Name: "only-own-starts", Usage: "accept only sign-ins it started"}, &ucli.StringFlag{Name: "fault", Usage: "fault of its requests: " + faults(standin.ApplicationFaults())}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			h, err := (&standin.Application{Name: cmd.String("name"), Title: titleOf(cmd), Base: base, Gate: cmd.String("gate"), OnlyOwn: cmd.Bool("only-own-starts"), Pair: pair, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
	federation := &ucli.Command{Name: "federation", Usage: "a simulated publisher of an aggregate",
		Flags: append(common, &ucli.IntFlag{Name: "entities", Usage: "how many entities", Value: 240}, &ucli.StringFlag{Name: "fault", Usage: "fault of the aggregate: " + faults(standin.FederationFaults())}),
		Action: e.standin(func(cmd *ucli.Command, base string) (http.Handler, error) {
			pair, err := standin.LoadPair(cmd.String("key"), cmd.String("name"))
			if err != nil {
				return nil, err
			}
			h, err := (&standin.Federation{Title: titleOf(cmd), Base: base, Entities: cmd.Int("entities"), Pair: pair, Fault: cmd.String("fault")}).Handler()
			if err != nil {
				return nil, &usageError{err.Error(), "Give one of them with --fault, or none."}
			}
			return h, nil
		})}
	return &ucli.Command{Name: "standin", Usage: "simulated providers, applications and federations", Commands: []*ucli.Command{provider, application, federation}}
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
			return &usageError{"--gate is missing", "Give the address of the gate's metadata: BASE/saml/sp/NAME for a provider, BASE/saml/idp for an application."}
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
		fmt.Fprintf(e.out, "%s is up at %s/\n  its metadata: %s/metadata\n", cmd.String("name"), base, base)
		srv := &http.Server{Handler: h, ReadHeaderTimeout: 10 * time.Second}
		go func() { <-ctx.Done(); _ = srv.Close() }()
		if err := srv.Serve(ln); !errors.Is(err, http.ErrServerClosed) {
			return err
		}
		return nil
	}
}

// savedGate is the gate that is meant when nothing else is said.
type savedGate struct {
	URL   string `yaml:"url"`
	Token string `yaml:"token"`
}

func savedPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "innergate", "gate.yaml"), nil
}

func readSaved() (savedGate, error) {
	var g savedGate
	path, err := savedPath()
	if err != nil {
		return g, nil // no home directory: nothing is saved
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return g, nil
	}
	if err == nil {
		err = yaml.Unmarshal(text, &g)
	}
	if err != nil {
		return g, fmt.Errorf("the saved gate in %s cannot be read: %w; save it again with innergate gate save", path, err)
	}
	return g, nil
}

func (e *environment) gates() *ucli.Command {
	save := &ucli.Command{Name: "save", Usage: "remember the gate of --url and its token for later calls", Flags: []ucli.Flag{
		&ucli.StringFlag{Name: "token-file", Usage: "file with the token, - for standard input"},
	}, Action: func(ctx context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		g := savedGate{URL: cmd.String("url"), Token: cmd.String("token")}
		if f := cmd.String("token-file"); f != "" {
			text, _, err := e.readDocument(f)
			if err != nil {
				return err
			}
			g.Token = string(trim(text))
		}
		if g.URL == "" || g.Token == "" {
			return &usageError{"the address or the token is missing", "Give --url and --token-file, or set INNERGATE_URL and INNERGATE_TOKEN."}
		}
		path, err := savedPath()
		if err != nil {
			return err
		}
		text, err := yaml.Marshal(g)
		if err != nil {
			return err
		}
		if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
			return err
		}
		if err := os.WriteFile(path, text, 0o600); err != nil {
			return err
		}
		fmt.Fprintf(e.out, "saved; later calls go to %s\n", g.URL)
		return nil
	}}
	show := &ucli.Command{Name: "show", Usage: "what the gate says of itself", Action: func(ctx context.Context, cmd *ucli.Command) error {
		c, err := e.gate(cmd)
		if err != nil {
			return err
		}
		about, err := c.About(ctx)
		if err != nil {
			return err
		}
		return e.print(cmd, about, func(w io.Writer) {
			fields(w, [][2]string{{"base", about.Base}, {"version", about.Version}, {"entity ID as IdP", about.IDPEntityID}, {"single sign-on", about.SSO},
				{"providers", fmt.Sprint(about.Providers)}, {"applications", fmt.Sprint(about.Apps)}})
		})
	}}
	forget := &ucli.Command{Name: "forget", Usage: "forget the saved gate", Action: func(context.Context, *ucli.Command) error {
		path, err := savedPath()
		if err != nil {
			return err
		}
		if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
			return err
		}
		fmt.Fprintln(e.out, "no gate is saved")
		return nil
	}}
	return &ucli.Command{Name: "gate", Usage: "the gate that is called", Commands: []*ucli.Command{show, save, forget}}
}

func trim(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == '\r' || b[len(b)-1] == ' ') {
		b = b[:len(b)-1]
	}
	return b
}
