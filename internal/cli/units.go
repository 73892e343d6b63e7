package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// units are groups or organisations.
func (e *environment) units(kind, usage string, own []ucli.Flag) *ucli.Command {
	flags := append([]ucli.Flag{
		&ucli.StringFlag{Name: "title", Usage: "what people read"},
		&ucli.StringFlag{Name: "notes", Usage: "why it is so"},
		&ucli.StringFlag{Name: "user-type", Usage: "marks its people, where nothing nearer to them does"}}, own...)
	return &ucli.Command{Name: kind, Usage: usage, Commands: []*ucli.Command{
		{Name: "list", Usage: "list them, with how many people belong to each", Action: e.action(nil,
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				return e.listUnits(ctx, cmd, c, kind)
			})},
		{Name: "show", Usage: "show one", ArgsUsage: "NAME", Action: e.action([]string{"NAME"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				x, err := client.Call(ctx, c, api.UnitsOf(kind).Show, api.Name(args[0]))
				if err != nil {
					return err
				}
				return e.print(cmd, x, func(w io.Writer) { e.unit(w, x) })
			})},
		{Name: "put", Usage: "make one, or change it; what is not named stays", ArgsUsage: "NAME", Flags: flags,
			Action: e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
				args []string) error {
				return e.putUnit(ctx, cmd, c, kind, args[0])
			})},
		{Name: "remove", Usage: "remove one; what hangs on it is told first, and confirmed with --confirm",
			ArgsUsage: "NAME",
			Action: e.action([]string{"NAME"}, func(ctx context.Context, _ *ucli.Command, c *client.Client,
				args []string) error {
				if err := client.Do(ctx, c, api.UnitsOf(kind).Remove, api.Name(args[0])); err != nil {
					return err
				}
				fmt.Fprintf(e.out, "removed %s %s\n", kind, args[0])
				return nil
			})},
	}}
}

func (e *environment) groups() *ucli.Command {
	return e.units("group", "groups of people, which may lie in each other", []ucli.Flag{
		&ucli.StringFlag{Name: "inside", Usage: "group that it lies in; empty for none"},
		&ucli.StringSliceFlag{Name: "value",
			Usage: "what providers call it, beside its short name; may be given several times"}})
}

func (e *environment) organisations() *ucli.Command {
	return e.units("organisation", "client companies and partners, with their providers and domains", []ucli.Flag{
		&ucli.StringSliceFlag{Name: "provider", Usage: "whose people are its; may be given several times"},
		&ucli.StringSliceFlag{Name: "domain", Usage: "domain of its e-mail addresses; likewise"},
		&ucli.StringSliceFlag{Name: "group", Usage: "where its people land when they first come; likewise"}})
}

func (e *environment) putUnit(ctx context.Context, cmd *ucli.Command, c *client.Client, kind, name string) error {
	all, err := client.Call(ctx, c, api.UnitsOf(kind).List, api.None{})
	if err != nil {
		return err
	}
	in := api.UnitChange{Title: name}
	for _, x := range all.Items {
		if x.Name == name {
			in = x.UnitChange
		}
	}
	for option, to := range map[string]*string{"title": &in.Title, "notes": &in.Notes, "user-type": &in.UserType,
		"inside": &in.Inside} {
		if cmd.IsSet(option) {
			*to = cmd.String(option)
		}
	}
	for option, to := range map[string]*[]string{"value": &in.Values, "provider": &in.Providers, "domain": &in.Domains,
		"group": &in.Groups} {
		if cmd.IsSet(option) {
			*to = nil
			for _, v := range cmd.StringSlice(option) {
				if v != "" {
					*to = append(*to, v)
				}
			}
		}
	}
	x, err := client.Call(ctx, c, api.UnitsOf(kind).Put, api.To(name, in))
	if err != nil {
		return err
	}
	return e.print(cmd, x, func(w io.Writer) { e.unit(w, x) })
}

func (e *environment) unit(w io.Writer, x api.Unit) {
	list := func(words []string) string { return dash(strings.Join(words, ", ")) }
	rows := [][2]string{{x.Kind, x.Name}, {"title", x.Title}, {"notes", x.Notes}, {"user type", dash(x.UserType)},
		{"people", fmt.Sprint(x.Members)}}
	if x.Kind == "group" {
		rows = append(rows, [2]string{"lies in", dash(x.Inside)}, [2]string{"holds", list(x.Holds)},
			[2]string{"providers call it", list(x.Values)},
			[2]string{"people land in it of", list(x.Landing)}, [2]string{"put in by", list(x.PutIn)},
			[2]string{"when they send", list(x.Called)})
		for _, effect := range x.Effects {
			rows = append(rows, [2]string{"whoever is in it", effect})
		}
	} else {
		rows = append(rows, [2]string{"providers", list(x.Providers)}, [2]string{"domains", list(x.Domains)},
			[2]string{"people land in", list(x.Groups)})
	}
	fields(w, append(rows, [2]string{"revision", fmt.Sprint(x.Revision)}))
}

func (e *environment) listUnits(ctx context.Context, cmd *ucli.Command, c *client.Client, kind string) error {
	l, err := client.Call(ctx, c, api.UnitsOf(kind).List, api.None{})
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		if kind == "group" {
			e.groupTree(w, l.Items)
			return
		}
		var t table
		for _, x := range l.Items {
			t.add("organisation!", x.Name, "people", fmt.Sprint(x.Members), "type", dash(x.UserType),
				"providers", dash(strings.Join(x.Providers, ", ")),
				"domains", dash(strings.Join(x.Domains, ", ")), "land in", dash(strings.Join(x.Groups, ", ")),
				"title", x.Title)
		}
		e.tell(w, t, "No organisations. Make one with innergate organisation put NAME --title TITLE --provider PROVIDER.")
	})
}

// groupTree shows groups below those that they lie in.
func (e *environment) groupTree(w io.Writer, all []api.Unit) {
	var t table
	var below func(inside string, depth int)
	below = func(inside string, depth int) {
		for _, x := range all {
			if x.Inside == inside {
				t.add("group!", strings.Repeat("  ", depth)+x.Name, "people", fmt.Sprint(x.Members),
					"type", dash(x.UserType), "providers call it", dash(strings.Join(x.Values, ", ")),
					"title", x.Title)
				below(x.Name, depth+1)
			}
		}
	}
	below("", 0)
	e.tell(w, t, "No groups. Make one with innergate group put NAME --title TITLE.")
}
