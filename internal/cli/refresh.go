package cli

import (
	"context"
	"fmt"
	"io"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// digestFlag names the change that was looked at.
var digestFlag = &ucli.StringFlag{Name: "digest",
	Usage: "of the change that was looked at, as innergate waiting prints it"}

// kindFlag tells records of the same name apart.
var kindFlag = &ucli.StringFlag{Name: "kind", Usage: "provider or app, where both have the name"}

// named finds the records that names stand for: kind and name each.
func (e *environment) named(ctx context.Context, cmd *ucli.Command, c *client.Client, names []string) ([][2]string,
	error) {
	kind := map[string]string{"": "", "provider": "provider", "app": "application", "application": "application"}
	want, ok := kind[cmd.String("kind")]
	if !ok {
		return nil, &usageError{fmt.Sprintf("there is no kind %q", cmd.String("kind")), "Use provider or app."}
	}
	l, err := c.Checks(ctx, client.CheckFilter{Names: names, All: true})
	if err != nil {
		return nil, err
	}
	var out [][2]string
	for _, x := range l.Items {
		if want == "" || x.Kind == want {
			out = append(out, [2]string{x.Kind, x.Name})
		}
	}
	return out, nil
}

func (e *environment) refresh() *ucli.Command {
	return &ucli.Command{Name: "refresh", Usage: "ask metadata addresses now, and show what differs",
		ArgsUsage: "[NAME …]", Flags: []ucli.Flag{kindFlag},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			args := cmd.Args().Slice()
			records, err := e.named(ctx, cmd, c, args)
			if err != nil {
				return err
			}
			out := []api.Refreshed{}
			failed := false
			for _, r := range records {
				x, err := c.Refresh(ctx, r[0], r[1])
				if p, ok := err.(*api.Problem); ok && p.Status == 409 && len(args) == 0 {
					continue // has no address of its own
				}
				if err != nil {
					return err
				}
				failed = failed || x.Outcome == "failed"
				out = append(out, x)
			}
			err = e.print(cmd, out, func(w io.Writer) {
				for _, x := range out {
					e.refreshed(w, x)
				}
				if len(out) == 0 {
					fmt.Fprintln(w, "No record has a metadata address.")
				}
			})
			if err == nil && failed {
				return errFound
			}
			return err
		}}
}

func (e *environment) refreshed(w io.Writer, x api.Refreshed) {
	fmt.Fprintf(w, "%-9s %s %s\n", e.colour(x.Outcome), x.Kind, x.Name)
	if len(x.Differences) > 0 {
		e.differences(w, x.Differences)
	}
	for _, f := range x.Findings {
		e.finding(w, f)
	}
	if x.Outcome == "waiting" {
		decideNext(w, x.Name, x.Digest)
	}
}

// decideNext says how to decide on a change that waits.
func decideNext(w io.Writer, name, digest string) {
	fmt.Fprintf(w, "next: innergate approve %s --digest %s, or decline it likewise\n", name, digest)
}

func (e *environment) waiting() *ucli.Command {
	return &ucli.Command{Name: "waiting", Usage: "changes of metadata that wait for approval",
		Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
			l, err := c.Waiting(ctx)
			if err != nil {
				return err
			}
			return e.print(cmd, l.Items, func(w io.Writer) {
				for _, p := range l.Items {
					fmt.Fprintf(w, "%s %s, since %s\n", p.Kind, p.Name, local(p.Since))
					e.differences(w, p.Differences)
					decideNext(w, p.Name, p.Digest)
				}
				if len(l.Items) == 0 {
					fmt.Fprintln(w, "Nothing waits.")
				}
			})
		})}
}

func (e *environment) decide(verb, usage string) *ucli.Command {
	return &ucli.Command{Name: verb, Usage: usage, ArgsUsage: "NAME", Flags: []ucli.Flag{kindFlag, digestFlag},
		Action: e.action([]string{"NAME"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				records, err := e.named(ctx, cmd, c, args)
				if err != nil {
					return err
				}
				if len(records) != 1 {
					return &usageError{fmt.Sprintf("%q names %d records", args[0], len(records)),
						"Say which with --kind provider or --kind app."}
				}
				if err := c.Decide(ctx, records[0][0], records[0][1], verb, cmd.String("digest")); err != nil {
					return err
				}
				fmt.Fprintf(e.out, "%s the change of %s\n", map[string]string{"approve": "approved", "decline": "declined"}[verb],
					args[0])
				return nil
			})}
}
