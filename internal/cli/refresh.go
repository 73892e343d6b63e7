package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"slices"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// digestFlag names the change that was looked at.
var digestFlag = &ucli.StringFlag{Name: "digest",
	Usage: "of the change that was looked at, as innergate waiting prints it"}

// named finds what names stand for that has metadata: kind and name each; all there is, if none is
// given.
func (e *environment) named(ctx context.Context, cmd *ucli.Command, c *client.Client, names []string) ([][2]string,
	error) {
	kind, err := wantedKind(cmd)
	if err != nil {
		return nil, err
	}
	l, err := client.Call(ctx, c, api.ListChecks, api.CheckFilter{Names: names, Kind: kind, All: true})
	if err != nil {
		return nil, err
	}
	var out [][2]string
	for _, x := range l.Items {
		switch {
		case x.Kind == "provider" || x.Kind == "application" || x.Kind == "aggregate":
			out = append(out, [2]string{x.Kind, x.Name})
		case len(names) > 0:
			return nil, &usageError{fmt.Sprintf("%s %q has no metadata", x.Kind, x.Name),
				"Name a provider, an application or an aggregate."}
		}
	}
	return out, nil
}

func (e *environment) refresh() *ucli.Command {
	return &ucli.Command{Name: "refresh",
		Usage:     "ask metadata addresses now, those of aggregates too, and show what differs",
		ArgsUsage: "[NAME …]", Metadata: takes("record", ""), Flags: []ucli.Flag{kindFlag,
			&ucli.BoolFlag{Name: "again", Usage: "call back a change that was declined"}},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			args := cmd.Args().Slice()
			if cmd.Bool("again") && len(args) == 0 {
				return &usageError{"--again needs a name", "Name the record whose declined change is called back."}
			}
			c, err := e.dial(cmd)
			if err != nil {
				return err
			}
			records, err := e.named(ctx, cmd, c, args)
			if err != nil {
				return err
			}
			out, err := e.refreshAll(ctx, c, records, len(args) == 0, cmd.Bool("again"))
			if err != nil {
				return err
			}
			err = e.print(cmd, out, func(w io.Writer) {
				for _, x := range out {
					e.refreshed(w, x)
				}
				if len(out) == 0 {
					fmt.Fprintln(w, "No record has a metadata address.")
				}
			})
			if err == nil && slices.ContainsFunc(out, func(x api.Refreshed) bool { return x.Outcome == "failed" }) {
				return errFound
			}
			return err
		}}
}

// refreshAll asks one address after the other, with progress; with any, those that
// have none are left out.
func (e *environment) refreshAll(ctx context.Context, c *client.Client, records [][2]string, any, again bool) (
	[]api.Refreshed, error) {
	out := []api.Refreshed{}
	for i, r := range records {
		e.progress("refresh  %d of %d, %s %s", i+1, len(records), r[0], r[1])
		var x []api.Refreshed
		var err error
		if r[0] == "aggregate" {
			x, err = e.refreshAggregate(ctx, c, r[1])
		} else {
			var one api.Refreshed
			one, err = client.Call(ctx, c, api.RecordsOf(r[0]).Refresh, api.Refreshing{Named: api.Name(r[1]), Again: again})
			x = []api.Refreshed{one}
		}
		var p *api.Problem
		if errors.As(err, &p) && p.Status == 409 && any {
			continue // has no address of its own, or is being refreshed
		}
		if err != nil {
			e.progress("")
			return nil, err
		}
		out = append(out, x...)
	}
	e.progress("")
	return out, nil
}

// progress tells on a terminal how far something is; nothing clears the line.
func (e *environment) progress(format string, args ...any) {
	if terminal(e.err) && !e.quiet {
		fmt.Fprint(e.err, "\r\x1b[K")
		fmt.Fprint(&shown{w: e.err}, shorten(fmt.Sprintf(format, args...), lineWidth(e.err)-1))
	}
}

// refreshAggregate fetches an aggregate anew, and tells of it as of a record.
func (e *environment) refreshAggregate(ctx context.Context, c *client.Client, name string) ([]api.Refreshed, error) {
	one := api.Refreshed{Kind: "aggregate", Name: name, Outcome: "unchanged"}
	j, err := client.Call(ctx, c, api.RefreshAggregate, api.Name(name))
	if err != nil {
		return nil, err
	}
	if j, err = c.Wait(ctx, j, func(api.Job) {}); err != nil {
		if j.Refused == nil {
			return nil, err
		}
		one.Outcome, one.Findings = "failed", []*finding.Finding{j.Refused}
		return []api.Refreshed{one}, nil
	}
	if r := j.Report; r != nil && r.Changes != nil && r.Changes.Added+r.Changes.Removed+r.Changes.Changed > 0 {
		one.Outcome = "applied"
		one.Differences = []federation.Difference{{Label: "Entities", After: fmt.Sprintf("%d came, %d went, %d changed",
			r.Changes.Added, r.Changes.Removed, r.Changes.Changed)}}
	}
	if j.Report == nil {
		return []api.Refreshed{one}, nil
	}
	return append([]api.Refreshed{one}, j.Report.Records...), nil
}

func (e *environment) refreshed(w io.Writer, x api.Refreshed) {
	fmt.Fprintf(w, "%-9s %s %s\n", e.colour(x.Outcome), x.Kind, x.Name)
	if len(x.Differences) > 0 {
		e.differences(w, x.Differences)
	}
	for _, f := range x.Findings {
		e.finding(w, f)
	}
	switch x.Outcome {
	case "waiting":
		decideNext(w, x.Name, x.Digest)
	case "declined before":
		fmt.Fprintf(w, "next: innergate refresh %s --again calls it back\n", x.Name)
	}
}

// decideNext says how to decide on a change that waits.
func decideNext(w io.Writer, name, digest string) {
	fmt.Fprintf(w, "next: innergate approve %s --digest %s, or decline it likewise\n", name, digest)
}

func (e *environment) waiting() *ucli.Command {
	return &ucli.Command{Name: "waiting", Usage: "changes of metadata that wait for approval",
		Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
			l, err := client.Call(ctx, c, api.ListWaiting, api.WaitingFilter{})
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
	return &ucli.Command{Name: verb, Usage: usage, ArgsUsage: "NAME", Metadata: takes("record", ""),
		Flags: []ucli.Flag{kindFlag, digestFlag},
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
				of := api.RecordsOf(records[0][0])
				decide := map[string]api.Operation[api.SentTo[api.Decision], api.None]{"approve": of.Approve,
					"decline": of.Decline}[verb]
				if err := client.Do(ctx, c, decide, api.To(records[0][1],
					api.Decision{Digest: cmd.String("digest")})); err != nil {
					return err
				}
				e.said("%s the change of %s", map[string]string{"approve": "approved", "decline": "declined"}[verb], args[0])
				if verb == "decline" {
					e.said("call it back: innergate refresh %s --again", args[0])
				}
				return nil
			})}
}
