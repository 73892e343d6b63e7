package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

func (e *environment) history() *ucli.Command {
	return &ucli.Command{Name: "history", Usage: "who changed what, when and why", Commands: []*ucli.Command{
		{Name: "list", Usage: "list changes, newest first", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "provider, application, aggregate, key, ranking, token or owner"},
			&ucli.StringFlag{Name: "name", Usage: "of this record"},
			&ucli.StringFlag{Name: "search", Usage: "part of a name, of who, what or why"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50},
			&ucli.Int64Flag{Name: "before", Usage: "only changes with a lower number, for the next page"}},
			Action: e.action(nil, e.listChanges)},
		{Name: "show", Usage: "show one change, before and after", ArgsUsage: "ID",
			Action: e.ofChange(e.showChange)},
		{Name: "restore", Usage: "set a record back to what it was after a change", ArgsUsage: "ID",
			Action: e.ofChange(e.restoreChange)},
		{Name: "undo", Usage: "take a change back, with all that were made together with it", ArgsUsage: "ID",
			Description: "Each record becomes what it was before the change: one that was added is removed, one that was removed is back. Nothing is done if one of them was changed since.",
			Flags:       []ucli.Flag{yesFlag}, Action: e.ofChange(e.undoChange)},
	}}
}

// ofChange is a command on one change, which is named by its number.
func (e *environment) ofChange(do func(context.Context, *ucli.Command, *client.Client, int64) error) ucli.ActionFunc {
	return e.action([]string{"ID"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		id, err := numberOf(args[0], "change", "innergate history list shows them.")
		if err != nil {
			return err
		}
		return do(ctx, cmd, c, id)
	})
}

func (e *environment) listChanges(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	kind := cmd.String("kind")
	if kind == "app" {
		kind = "application"
	}
	l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: kind, Name: cmd.String("name"),
		Search: cmd.String("search"),
		Limit:  cmd.Int("limit"), Before: cmd.Int64("before")})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, h := range l.Items {
			together := "-"
			if h.Batch > 0 {
				together = fmt.Sprint(h.Batch)
			}
			t.add("id!", fmt.Sprint(h.ID), "when@", brief(h.At, time.Now()), "who", h.Who, "what!", h.What,
				"kind", h.Kind, "name!", h.Name, "with", together, "why", dash(h.Why))
		}
		e.tell(w, t, "No change matches.")
		if n := int64(len(l.Items)); n > 0 && n < l.Total && n == int64(cmd.Int("limit")) {
			fmt.Fprintf(w, "more, with --before %d\n", l.Items[n-1].ID)
		}
	})
}

func (e *environment) showChange(ctx context.Context, cmd *ucli.Command, c *client.Client, id int64) error {
	r, err := client.Call(ctx, c, api.ShowChange, api.Numbered{ID: id})
	if err != nil {
		return err
	}
	return e.print(cmd, r, func(w io.Writer) {
		fields(w, [][2]string{{r.Kind, r.Name}, {"what", r.What}, {"who", r.Who}, {"when", local(r.At)},
			{"why", dash(r.Why)}, {"revision", fmt.Sprint(r.Revision)}})
		fmt.Fprintln(w)
		e.differences(w, r.Differences)
		if r.Restorable && r.Kind != "aggregate" && r.Later == 0 {
			fmt.Fprintf(w, "\nnext: innergate history undo %d takes it back\n", r.ID)
		} else if r.Restorable {
			fmt.Fprintf(w, "\nnext: innergate history restore %d would change %d values of the record as it is\n", r.ID,
				len(r.FromNow))
		}
	})
}

func (e *environment) restoreChange(ctx context.Context, _ *ucli.Command, c *client.Client, id int64) error {
	t, err := client.Call(ctx, c, api.Restore, api.Numbered{ID: id})
	if err != nil {
		return err
	}
	e.said("restored %s %s; it acts from the next request on", t.Kind, t.Name)
	l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: t.Kind, Name: t.Name, Limit: 1})
	if err == nil && len(l.Items) > 0 && t.Kind != "aggregate" {
		e.said("%s", backTo(l.Items[0].ID))
	}
	return nil
}

func (e *environment) undoChange(ctx context.Context, cmd *ucli.Command, c *client.Client, id int64) error {
	r, err := client.Call(ctx, c, api.ShowChange, api.Numbered{ID: id})
	if err != nil {
		return err
	}
	if r.What == "added" || r.Batch > 0 {
		if err := e.confirm(cmd, fmt.Sprintf("change %d (%s %s %s%s) would be taken back", id, r.What, r.Kind, r.Name,
			map[bool]string{true: " and others", false: ""}[r.Batch > 0])); err != nil {
			return err
		}
	}
	u, err := client.Call(ctx, c, api.Undo, api.Numbered{ID: id})
	if err != nil {
		return err
	}
	return e.print(cmd, u, func(w io.Writer) {
		if e.quiet {
			return
		}
		for _, x := range u.Changed[:min(len(u.Changed), 20)] {
			fmt.Fprintf(w, "%s is what it was\n", x)
		}
		for _, x := range u.Removed[:min(len(u.Removed), 20)] {
			fmt.Fprintf(w, "%s is removed\n", x)
		}
		if n := len(u.Changed) + len(u.Removed); n > 40 {
			fmt.Fprintf(w, "%d in all\n", n)
		}
		fmt.Fprintln(w, backTo(u.Change))
	})
}
