package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// bundle takes something along in one file.
func (e *environment) bundle() *ucli.Command {
	return &ucli.Command{Name: "bundle",
		Usage:     "take a sign-in, a rehearsal or a connection along as one file: JSON, and a page that opens offline",
		ArgsUsage: "REHEARSAL|TRACE|APPLICATION",
		Description: "The file holds configuration without secrets, decoded messages, findings, the verdict and a time line. Values of people are " +
			"masked unless --whole is given: equal ones alike. It is written as it was looked at: --preview shows all of it.",
		Flags: []ucli.Flag{&ucli.StringFlag{Name: "kind", Usage: "trace, rehearsal or connection, where the name could be several"},
			&ucli.Int64Flag{Name: "run", Usage: "of a rehearsal: which run; else the newest"},
			&ucli.BoolFlag{Name: "whole", Usage: "with values of people"},
			&ucli.BoolFlag{Name: "preview", Usage: "show what the file would hold, and write none"},
			&ucli.StringFlag{Name: "digest", Usage: "write only if it still is what this digest of a preview stands for"},
			&ucli.StringFlag{Name: "file", Usage: "where it is written; else its own name, here; - for the standard output"}},
		Action: e.action([]string{"NAME"}, e.takeAlong)}
}

func (e *environment) takeAlong(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	ask := api.BundleAsk{Name: args[0], Run: cmd.Int64("run"), Whole: cmd.Bool("whole")}
	kinds := []string{"rehearsal", "connection", "trace"}
	if kind := cmd.String("kind"); kind != "" {
		kinds = []string{kind}
	}
	var (
		seen   api.BundlePreview
		found  []string
		failed error
	)
	for _, kind := range kinds {
		ask.Kind = kind
		one, err := client.Call(ctx, c, api.PreviewBundle, ask)
		var p *api.Problem
		switch {
		case err == nil:
			seen, found = one, append(found, kind)
		case errors.As(err, &p) && p.Status == http.StatusNotFound:
			failed = err
		default:
			return err
		}
	}
	switch {
	case len(found) == 0 && len(kinds) > 1:
		return &usageError{fmt.Sprintf("there is no rehearsal, application or sign-in %q", args[0]),
			"innergate rehearsal list, app list and trace list show what there is."}
	case len(found) == 0:
		return failed
	case len(found) > 1:
		return &usageError{fmt.Sprintf("%q is the name of a %s and of a %s", args[0], found[0], found[1]),
			"Say which: --kind " + found[0]}
	}
	if cmd.Bool("preview") {
		return e.print(cmd, seen, func(w io.Writer) { e.bundleShown(w, seen) })
	}
	ask.Kind, ask.Digest = found[0], seen.Digest
	if digest := cmd.String("digest"); digest != "" {
		ask.Digest = digest
	}
	octets, err := client.Call(ctx, c, api.FetchBundle, ask)
	if err != nil {
		return err
	}
	path := cmd.String("file")
	if path == "-" {
		_, err = e.out.Write(octets)
		return err
	}
	if path == "" {
		path = seen.File
	}
	if err := os.WriteFile(path, octets, 0o600); err != nil {
		return fmt.Errorf("%s cannot be written: %w", path, err)
	}
	e.bundleShown(e.out, seen)
	e.said("wrote %s, %d octets", path, len(octets))
	return nil
}

// bundleShown says what is in a bundle.
func (e *environment) bundleShown(w io.Writer, p api.BundlePreview) {
	b, masked := p.Bundle, "masked"
	if !b.Masked {
		masked = "in it"
	}
	rows := [][2]string{{"bundle", b.Kind + " " + b.Of + ": " + b.Title}, {"digest", p.Digest},
		{"values of people", masked}}
	if r := b.Rehearsal; r != nil && r.Verdict != nil {
		rows = append(rows, [2]string{"verdict", string(r.Verdict.State) + fmt.Sprintf(", run %d", r.Run)})
	}
	for _, s := range b.SignIns {
		rows = append(rows, [2]string{"sign-in", fmt.Sprintf("%s, %s, %s", s.Reference, s.Result,
			counted(int64(len(s.Steps)), "step"))})
	}
	for _, r := range b.Records {
		rows = append(rows, [2]string{r.Kind, r.Name + ", " + counted(int64(len(r.Values)), "value")})
	}
	rows = append(rows, [2]string{"findings", fmt.Sprint(len(b.Findings))},
		[2]string{"changes", fmt.Sprint(len(b.TimeLine))},
		[2]string{"all of it", "innergate bundle " + b.Of + " --preview --output json"})
	fields(w, rows)
}
