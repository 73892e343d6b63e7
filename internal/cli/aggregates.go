package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

func (e *environment) aggregates() *ucli.Command {
	name := []string{"NAME"}
	kindFlag := &ucli.StringFlag{Name: "as", Usage: "what they become: provider or app"}
	return &ucli.Command{Name: "aggregate", Usage: "metadata of whole federations", Commands: []*ucli.Command{
		{Name: "add", Usage: "take an aggregate in", ArgsUsage: "NAME", Flags: []ucli.Flag{metadataFlag, titleFlag,
			&ucli.StringFlag{Name: "trust-key", Usage: "file with the certificate its publisher signs with"},
			&ucli.StringFlag{Name: "address-ca", Usage: "file with certificates of authorities that its address rests on"}},
			Action: e.begins(e.addAggregate)},
		{Name: "update", Usage: "take the next edition of an aggregate in from a file", ArgsUsage: "NAME",
			Flags:  []ucli.Flag{metadataFlag},
			Action: e.begins(e.updateAggregate)},
		{Name: "refresh", Usage: "fetch an aggregate anew, and show what changed", ArgsUsage: "NAME",
			Action: e.begins(func(ctx context.Context, _ *ucli.Command, c *client.Client, name string) (api.Job, error) {
				return c.RefreshAggregate(ctx, name)
			})},
		{Name: "take", Usage: "make records of entities: those named, or all that match --search",
			ArgsUsage: "NAME [ENTITY-ID …]", Flags: []ucli.Flag{kindFlag, searchFlag,
				&ucli.BoolFlag{Name: "all", Usage: "all that have the role"},
				&ucli.StringFlag{Name: "provider", Usage: "tie applications to this provider"},
				&ucli.StringFlag{Name: "name", Usage: "short name, of a single entity; made from its title if absent"}},
			Action: e.takeAggregate},
		{Name: "search", Usage: "search the entities of an aggregate", ArgsUsage: "NAME [TEXT]", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "role", Usage: "provider or app"},
			&ucli.BoolFlag{Name: "broken", Usage: "those that cannot be used"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50}},
			Action: e.searchAggregate},
		{Name: "list", Usage: "list aggregates",
			Action: e.action(nil, e.listAggregates)},
		{Name: "show", Usage: "show an aggregate", ArgsUsage: "NAME",
			Action: e.action(name, e.showAggregate)},
		e.set("aggregate", func(ctx context.Context, c *client.Client, name string, edit edit) error {
			a, err := c.Aggregate(ctx, name)
			if err != nil {
				return err
			}
			some, err := some(a.Settings, edit)
			if err != nil {
				return err
			}
			return c.ChangeAggregate(ctx, name, api.AggregateChange{Revision: a.Revision, Settings: some})
		}),
		{Name: "remove", Usage: "remove an aggregate; records taken from it stay", ArgsUsage: "NAME",
			Action: e.action(name, e.removeAggregate)},
	}}
}

// beginning is a command that begins a job for an aggregate.
type beginning func(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job, error)

// begins wraps a command that begins a job: it is followed to its end.
func (e *environment) begins(do beginning) ucli.ActionFunc {
	return e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		j, err := do(ctx, cmd, c, args[0])
		if err == nil {
			j, err = e.follow(ctx, c, j)
		}
		if err != nil {
			return err
		}
		return e.print(cmd, j, func(w io.Writer) { e.outcome(w, j.Report) })
	})
}

func (e *environment) addAggregate(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job,
	error) {
	n := api.NewAggregate{Name: name}
	n.Title = cmd.String("title")
	var err error
	if n.TrustKey, err = e.pemFile(cmd.String("trust-key")); err != nil {
		return api.Job{}, err
	}
	if n.AddressCA, err = e.pemFile(cmd.String("address-ca")); err != nil {
		return api.Job{}, err
	}
	document, address, err := e.stream(cmd.String("metadata"))
	if err != nil {
		return api.Job{}, err
	}
	if n.Address = address; address != "" {
		return c.AddAggregate(ctx, n)
	}
	defer document.Close()
	return c.UploadAggregate(ctx, n, document)
}

func (e *environment) updateAggregate(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job,
	error) {
	document, address, err := e.stream(cmd.String("metadata"))
	if err != nil {
		return api.Job{}, err
	}
	if address != "" {
		return api.Job{}, &usageError{"an address is a setting of the aggregate",
			"Set it with innergate aggregate set " + name + " address=" + address + ", then refresh."}
	}
	defer document.Close()
	return c.UploadEdition(ctx, name, document)
}

func (e *environment) takeAggregate(ctx context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	kind := map[string]string{"provider": "provider", "app": "application",
		"application": "application"}[cmd.String("as")]
	switch {
	case len(args) == 0:
		return &usageError{"name is missing", "Call it as " + cmd.FullName() + " NAME [ENTITY-ID …]"}
	case kind == "":
		return &usageError{fmt.Sprintf("--as is %q", cmd.String("as")), "Say what the entities become: provider or app."}
	case cmd.String("name") != "" && len(args) != 2:
		return &usageError{"--name is for a single entity", "Name one entity ID with it."}
	}
	t := api.TakeOver{Kind: kind, Entities: args[1:], Search: cmd.String("search"), All: cmd.Bool("all"),
		Provider: cmd.String("provider")}
	if n := cmd.String("name"); n != "" {
		t.Names = map[string]string{args[1]: n}
	}
	c, err := e.gate(cmd)
	if err != nil {
		return err
	}
	j, err := c.TakeOver(ctx, args[0], t)
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	err = e.print(cmd, j, func(w io.Writer) { e.outcome(w, j.Report) })
	if err == nil && len(j.Report.Taken) == 0 {
		return errFound
	}
	return err
}

func (e *environment) searchAggregate(ctx context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	if len(args) == 0 || len(args) > 2 {
		return &usageError{"name of the aggregate, and at most one text", "Call it as " + cmd.FullName() + " NAME [TEXT]"}
	}
	f := client.EntityFilter{Limit: cmd.Int("limit"), Search: strings.Join(args[1:], " "),
		Role: map[string]string{"app": "application"}[cmd.String("role")]}
	if f.Role == "" {
		f.Role = cmd.String("role")
	}
	if cmd.Bool("broken") {
		f.State = "broken"
	}
	c, err := e.gate(cmd)
	if err != nil {
		return err
	}
	l, err := c.Entities(ctx, args[0], f)
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, x := range l.Items {
			roles := []string{}
			for _, r := range x.Roles {
				roles = append(roles, map[string]string{"IDPSSODescriptor": "provider", "SPSSODescriptor": "app"}[r])
			}
			last := dash(strings.Join(x.Records, ", "))
			if x.Problem != nil {
				last = string(x.Problem.Code)
			}
			rows = append(rows, []string{strings.Join(roles, ", "), x.Title, x.EntityID, last})
		}
		e.table(w, []string{"roles", "title", "entity id", "on record"}, []int{1, 2, 3}, rows, "Nothing matches.")
		if int(l.Total) > len(l.Items) {
			fmt.Fprintf(w, "%d of %d; more with --limit\n", len(l.Items), l.Total)
		}
	})
}

func (e *environment) listAggregates(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := c.Aggregates(ctx)
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, a := range l.Items {
			verified := "not verified"
			if a.Verified {
				verified = "verified"
			}
			rows = append(rows, []string{a.Name, a.Title, fmt.Sprint(a.Entities), fmt.Sprint(a.Broken), verified,
				until(a.ValidUntil)})
		}
		e.table(w, []string{"name", "title", "entities", "broken", "signature", "valid until"}, []int{1}, rows,
			"No aggregate yet. Take one in: innergate aggregate add NAME --metadata FILE --trust-key FILE")
	})
}

func (e *environment) showAggregate(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	a, err := c.Aggregate(ctx, args[0])
	if err != nil {
		return err
	}
	return e.print(cmd, a, func(w io.Writer) {
		rows := [][2]string{{"name", a.Name}, {"title", a.Title},
			{"entities", fmt.Sprintf("%d, %d of them broken", a.Entities, a.Broken)},
			{"size", fmt.Sprintf("%.1f MB", float64(a.Size)/1e6)},
			{"valid until", until(a.ValidUntil)}, {"taken in", local(a.TakenAt)}}
		if a.Settings.Address != "" {
			rows = append(rows, [2]string{"address", a.Settings.Address}, [2]string{"next refresh", local(a.Fresh.Next)})
		}
		fields(w, rows)
		e.outcome(w, &api.Report{Changes: a.Changes})
		for _, f := range a.Findings {
			e.told(w, f, string(f.Severity))
		}
	})
}

func (e *environment) removeAggregate(ctx context.Context, _ *ucli.Command, c *client.Client, args []string) error {
	if err := c.RemoveAggregate(ctx, args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "removed "+args[0])
	return nil
}

func until(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format(time.DateOnly) + ", " + days(t, time.Now())
}
