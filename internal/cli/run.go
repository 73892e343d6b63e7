package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"log/slog"
	"os"
	"path/filepath"

	"github.com/goccy/go-yaml"
	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/app"
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
	return &ucli.Command{Name: "openapi", Usage: "print the OpenAPI document of the API",
		Action: func(_ context.Context, cmd *ucli.Command) error {
			if _, err := names(cmd); err != nil {
				return err
			}
			var out bytes.Buffer
			if err := json.Indent(&out, web.Document("1", app.Protocols()), "", "  "); err != nil {
				return err
			}
			_, err := fmt.Fprintln(e.out, out.String())
			return err
		}}
}

func (e *environment) demo() *ucli.Command {
	return &ucli.Command{Name: "demo", Usage: "run the gate with demo data and stand-ins", Flags: []ucli.Flag{
		&ucli.StringFlag{Name: "data", Usage: "data directory, kept; temporary if absent"},
		&ucli.StringFlag{Name: "listen", Usage: "address and port of the gate; the stand-ins take the next ports",
			Value: "127.0.0.1:8400"},
		&ucli.StringFlag{Name: "ready", Usage: "file to write when all is up"},
	}, Action: func(ctx context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		log := slog.New(slog.NewTextHandler(e.err, &slog.HandlerOptions{Level: slog.LevelWarn}))
		return app.Demo(ctx, app.DemoOptions{Data: cmd.String("data"), Listen: cmd.String("listen"),
			Ready: cmd.String("ready"), Log: log})
	}}
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
	save := &ucli.Command{Name: "save", Usage: "remember the gate of --url and its token for later calls",
		Flags: []ucli.Flag{
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
				return &usageError{"the address or the token is missing",
					"Give --url and --token-file, or set INNERGATE_URL and INNERGATE_TOKEN."}
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
	show := &ucli.Command{Name: "show", Usage: "what the gate says of itself",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			about, err := c.About(ctx)
			if err != nil {
				return err
			}
			return e.print(cmd, about, func(w io.Writer) {
				rows := [][2]string{{"base", about.Base}, {"version", about.Version}}
				for _, v := range about.Own {
					rows = append(rows, [2]string{v.Label, v.Value})
				}
				fields(w, append(rows, [2]string{"providers", fmt.Sprint(about.Providers)},
					[2]string{"applications", fmt.Sprint(about.Apps)}))
			})
		}}
	forget := &ucli.Command{Name: "forget", Usage: "forget the saved gate",
		Action: func(context.Context, *ucli.Command) error {
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
