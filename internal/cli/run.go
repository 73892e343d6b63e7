package cli

import (
	"bytes"
	"context"
	"encoding/json"
	"fmt"
	"log/slog"

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
		&ucli.BoolFlag{Name: "tour", Usage: "go through twelve classic mistakes by itself, tell how each is found and mended, and end"},
	}, Action: func(ctx context.Context, cmd *ucli.Command) error {
		if _, err := names(cmd); err != nil {
			return err
		}
		log := slog.New(slog.NewTextHandler(e.err, &slog.HandlerOptions{Level: slog.LevelWarn}))
		o := app.DemoOptions{Data: cmd.String("data"), Listen: cmd.String("listen"), Ready: cmd.String("ready"), Log: log}
		if cmd.Bool("tour") {
			o.Tour = e.out
		}
		return app.Demo(ctx, o)
	}}
}

func trim(b []byte) []byte {
	for len(b) > 0 && (b[len(b)-1] == '\n' || b[len(b)-1] == '\r' || b[len(b)-1] == ' ') {
		b = b[:len(b)-1]
	}
	return b
}
