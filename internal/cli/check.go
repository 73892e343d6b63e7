package cli

import (
	"context"
	"fmt"
	"io"
	"slices"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/client"
)

func (e *environment) check() *ucli.Command {
	return &ucli.Command{Name: "check",
		Usage: "findings that can be known without a sign-in; exit status 3 if one is an error", ArgsUsage: "[NAME …]",
		Flags: []ucli.Flag{kindFlag,
			&ucli.BoolFlag{Name: "reach",
				Usage: "ask the addresses of the named records too: whether they answer, and their clocks"},
			&ucli.StringFlag{Name: "severity", Usage: "at least: error, warning or note", Value: "note"}},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			args := cmd.Args().Slice()
			if s := cmd.String("severity"); !slices.Contains([]string{"error", "warning", "note"}, s) {
				return &usageError{fmt.Sprintf("there is no severity %q", s), "Use error, warning or note."}
			}
			if cmd.Bool("reach") && len(args) == 0 {
				return &usageError{"--reach takes time and needs names", "Name the records whose addresses are to be asked."}
			}
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			f := client.CheckFilter{Names: args, Severity: cmd.String("severity"), Reach: cmd.Bool("reach"), All: len(args) > 0}
			if k := cmd.String("kind"); k != "" {
				f.Kind = map[string]string{"provider": "provider", "app": "application", "application": "application"}[k]
			}
			l, err := c.Checks(ctx, f)
			if err != nil {
				return err
			}
			err = e.print(cmd, l, func(w io.Writer) {
				for _, x := range l.Items {
					fmt.Fprintf(w, "%s %s, %s\n", x.Kind, x.Name, x.Title)
					for _, f := range x.Findings {
						e.told(w, f, string(f.Severity))
					}
					if len(x.Findings) == 0 {
						fmt.Fprintln(w, "              ok       nothing found")
					}
				}
				fmt.Fprintf(w, "%d errors, %d warnings, %d notes\n", l.Counts["error"], l.Counts["warning"], l.Counts["note"])
			})
			if err == nil && l.Counts["error"] > 0 {
				return errFound
			}
			return err
		}}
}
