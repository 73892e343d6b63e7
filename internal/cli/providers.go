package cli

import (
	"context"
	"fmt"
	"io"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

func (e *environment) providers() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "provider", Usage: "identity providers", Commands: []*ucli.Command{
		{Name: "add", Usage: "add a provider from its metadata", ArgsUsage: "NAME", Flags: startFlags(redirectFlag, postFlag,
			&ucli.BoolFlag{Name: "allow-unsolicited", Usage: "accept answers that nobody asked for"}),
			Action: e.action(name, e.addProvider)},
		{Name: "list", Usage: "list providers", Flags: []ucli.Flag{searchFlag},
			Action: e.action(nil, e.listProviders)},
		{Name: "show", Usage: "show a provider", ArgsUsage: "NAME",
			Action: e.action(name, e.showProvider)},
		e.update("provider", redirectFlag, postFlag),
		e.exchange(func(ctx context.Context, c *client.Client, name string) (api.Sheet, error) {
			return c.ProviderSheet(ctx, name)
		}),
		e.set("provider", func(ctx context.Context, c *client.Client, name string, edit edit) error {
			p, err := c.Provider(ctx, name)
			if err != nil {
				return err
			}
			changed, err := edit(p.Settings)
			if err == nil {
				_, err = c.ChangeProvider(ctx, name, api.ProviderChange{Revision: p.Revision, Settings: changed})
			}
			return err
		}),
		{Name: "remove", Usage: "remove a provider", ArgsUsage: "NAME",
			Action: e.action(name, e.removeProvider)},
	}}
}

func (e *environment) addProvider(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n := api.NewProvider{Name: args[0], Title: cmd.String("title"), AllowUnsolicited: cmd.Bool("allow-unsolicited")}
	var err error
	if n.Start, err = e.start(cmd); err != nil {
		return err
	}
	if cmd.Bool("preview") {
		p, err := c.PreviewProvider(ctx, n)
		if err != nil {
			return err
		}
		return e.print(cmd, p, func(w io.Writer) { e.preview(w, p) })
	}
	p, err := c.AddProvider(ctx, n)
	if err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) {
		added(w, "provider", p.Name, knownAs(p.Record), p.Missing, p.Taken.OtherRole)
	})
}

func (e *environment) listProviders(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := c.Providers(ctx, cmd.String("search"))
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, p := range l.Items {
			rows = append(rows, []string{state(p), p.Name, p.Title, p.Protocol, dash(p.EntityID), expiry(p.Ends)})
		}
		e.table(w, []string{"state", "name", "title", "protocol", "entity id", "certificate ends"}, []int{2}, rows,
			"No provider yet. Add one: innergate provider add NAME --metadata FILE")
	})
}

func (e *environment) showProvider(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	p, err := c.Provider(ctx, args[0])
	if err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) {
		rows := [][2]string{{"name", p.Name}, {"id", p.ID}, {"title", p.Title}, {"protocol", p.Protocol},
			{"entity ID", p.EntityID}, {"metadata from", p.Source}}
		rows = append(taken(rows, p.Missing, p.Taken), settingRows(p.Settings)...)
		e.object(w, rows, p.Record)
	})
}

func (e *environment) removeProvider(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	was, err := c.Provider(ctx, args[0])
	if err != nil {
		return err
	}
	if err := c.RemoveProvider(ctx, args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "removed "+args[0])
	fmt.Fprintln(e.out, "whom it let in is nobody to another provider under this name, until it is restored from the history, or their links are carried over: innergate person carry "+was.ID+" NAME --preview")
	return nil
}
