package cli

import (
	"context"
	"fmt"
	"io"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

func (e *environment) applications() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "app", Usage: "applications", Commands: []*ucli.Command{
		{Name: "add", Usage: "add an application from its metadata, or a link from its address", ArgsUsage: "NAME",
			Flags: startFlags(acsFlag, protocolFlag, addressFlag,
				&ucli.StringFlag{Name: "provider", Usage: "tie it to this provider; without, the routing decides"},
				&ucli.BoolFlag{Name: "own-face", Usage: "give it an identity provider face of its own"},
				&ucli.StringFlag{Name: "own-hosts", Usage: "hosts it owns beside that of its entity ID"},
				&ucli.StringFlag{Name: "own-start", Usage: "address of its own start, if it accepts only sign-ins it started"}),
			Action: e.action(name, e.addApplication)},
		{Name: "list", Usage: "list applications", Flags: []ucli.Flag{searchFlag},
			Action: e.action(nil, e.listApplications)},
		{Name: "show", Usage: "show an application", ArgsUsage: "NAME",
			Action: e.action(name, e.showApplication)},
		e.update("application", acsFlag, addressFlag),
		e.exchange(func(ctx context.Context, c *client.Client, name string) (api.Sheet, error) {
			return c.ApplicationSheet(ctx, name)
		}),
		e.set("application", func(ctx context.Context, c *client.Client, name string, edit edit) error {
			a, err := c.Application(ctx, name)
			if err != nil {
				return err
			}
			changed, err := edit(a.Settings)
			if err == nil {
				_, err = c.ChangeApplication(ctx, name, api.ApplicationChange{Revision: a.Revision, Settings: changed})
			}
			return err
		}),
		{Name: "remove", Usage: "remove an application", ArgsUsage: "NAME",
			Action: e.action(name, e.removeApplication)},
	}}
}

func (e *environment) addApplication(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n := api.NewApplication{Name: args[0], Protocol: cmd.String("protocol"), Title: cmd.String("title"),
		Provider: cmd.String("provider"), OwnStart: cmd.String("own-start"), OwnHosts: cmd.String("own-hosts"),
		OwnFace: cmd.Bool("own-face")}
	var err error
	if n.Start, err = e.start(cmd); err != nil {
		return err
	}
	if cmd.Bool("preview") {
		p, err := c.PreviewApplication(ctx, n)
		if err != nil {
			return err
		}
		return e.print(cmd, p, func(w io.Writer) { e.preview(w, p) })
	}
	a, err := c.AddApplication(ctx, n)
	if err != nil {
		return err
	}
	return e.print(cmd, a, func(w io.Writer) {
		added(w, "application", a.Name, knownAs(a.Record), a.Missing, a.Taken.OtherRole)
	})
}

func (e *environment) listApplications(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := c.Applications(ctx, cmd.String("search"))
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, a := range l.Items {
			provider := a.Provider
			if provider == "" {
				provider = "routed"
			}
			rows = append(rows, []string{state(a), a.Name, a.Title, a.Protocol, provider, dash(a.EntityID)})
		}
		e.table(w, []string{"state", "name", "title", "protocol", "provider", "entity id"}, []int{2, 4}, rows,
			"No application yet. Add one: innergate app add NAME --metadata FILE")
	})
}

func (e *environment) showApplication(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	a, err := c.Application(ctx, args[0])
	if err != nil {
		return err
	}
	return e.print(cmd, a, func(w io.Writer) {
		provider := a.Provider
		if provider == "" {
			provider = "decided by the routing"
		}
		rows := [][2]string{{"name", a.Name}, {"id", a.ID}, {"title", a.Title}, {"protocol", a.Protocol},
			{"entity ID", dash(a.EntityID)}, {"metadata from", a.Source}, {"provider", provider},
			{"start at the gate", a.Open}}
		rows = append(taken(rows, a.Missing, a.Taken), settingRows(a.Settings)...)
		e.object(w, rows, a.Record)
	})
}

func (e *environment) removeApplication(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if err := c.RemoveApplication(ctx, args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "removed "+args[0])
	return nil
}
