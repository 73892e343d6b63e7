package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/client"
)

func (e *environment) history() *ucli.Command {
	id := []string{"ID"}
	return &ucli.Command{Name: "history", Usage: "who changed what, when and why", Commands: []*ucli.Command{
		{Name: "list", Usage: "list changes, newest first", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "provider, application, aggregate, key, ranking, token or owner"},
			&ucli.StringFlag{Name: "name", Usage: "of this record"},
			&ucli.StringFlag{Name: "search", Usage: "part of a name, of who, what or why"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50}},
			Action: e.action(nil, e.listChanges)},
		{Name: "show", Usage: "show one change, before and after", ArgsUsage: "ID",
			Action: e.action(id, e.showChange)},
		{Name: "restore", Usage: "set a record back to what it was after a change", ArgsUsage: "ID",
			Action: e.action(id, e.restoreChange)},
	}}
}

func (e *environment) listChanges(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	kind := cmd.String("kind")
	if kind == "app" {
		kind = "application"
	}
	l, err := c.History(ctx, client.HistoryFilter{Kind: kind, Name: cmd.String("name"), Search: cmd.String("search"),
		Limit: cmd.Int("limit")})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, h := range l.Items {
			rows = append(rows, []string{fmt.Sprint(h.ID), brief(h.At, time.Now()), h.Who, h.What, h.Kind, h.Name,
				dash(h.Why)})
		}
		e.table(w, []string{"id", "when", "who", "what", "kind", "name", "why"}, []int{2, 5, 6}, rows,
			"No change matches.")
	})
}

func (e *environment) showChange(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	r, err := c.Change(ctx, args[0])
	if err != nil {
		return err
	}
	return e.print(cmd, r, func(w io.Writer) {
		fields(w, [][2]string{{r.Kind, r.Name}, {"what", r.What}, {"who", r.Who}, {"when", local(r.At)},
			{"why", dash(r.Why)}, {"revision", fmt.Sprint(r.Revision)}})
		fmt.Fprintln(w)
		e.differences(w, r.Differences)
		if r.Restorable {
			fmt.Fprintf(w, "\nnext: innergate history restore %d would change %d values of the record as it is\n", r.ID,
				len(r.FromNow))
		}
	})
}

func (e *environment) restoreChange(ctx context.Context, _ *ucli.Command, c *client.Client, args []string) error {
	t, err := c.Restore(ctx, args[0])
	if err != nil {
		return err
	}
	fmt.Fprintf(e.out, "restored %s %s; it acts from the next request on\n", t.Kind, t.Name)
	return nil
}
