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

// starts are the commands about starting points of applications.
func (e *environment) starts() *ucli.Command {
	return &ucli.Command{Name: "start",
		Usage: "starting points: places in applications where a start from the portal lands",
		Commands: append([]*ucli.Command{
			{Name: "list", Usage: "read starting points aloud: where they land, and whom they are shown to",
				Flags:  []ucli.Flag{&ucli.StringFlag{Name: "application", Usage: "its starting points alone"}},
				Action: e.action(nil, e.listStarts)},
		}, e.ownCommands(ownKind{"start", "a starting point",
			"title, description, application, target, order, role, groups, organisations, userTypes, people, networks, when",
			"title=TITLE application=APPLICATION target=TEXT groups=GROUP"})...)}
}

func (e *environment) listStarts(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListStarts, api.RuleFilter{Application: cmd.String("application")})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, s := range l.Items {
			t.add("application!", s.Application, "object!", s.Name, "title!", s.Title, "lands at", dash(s.Target), "shown to!",
				s.Sentence)
		}
		e.tell(w, t, "No starting points. Make one with innergate start put NAME application=APPLICATION title=TITLE target=TEXT.")
	})
}

// portal is the command that shows somebody's portal.
func (e *environment) portal() *ucli.Command {
	return &ucli.Command{Name: "portal", Usage: "what somebody finds on the portal, decided as if they came now",
		Description: "What the portal is like is said by innergate object put portal/portal: straight, offers, notYet, sections, editable.\n" +
			"Where an application stands on it are its settings portalSection, portalPlace and hidden.",
		ArgsUsage: "NUMBER", Action: e.action([]string{"NUMBER"}, e.showPortal)}
}

func (e *environment) showPortal(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	id, err := personNumber(args[0])
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, api.ShowPortal, api.OnePerson{Number: id})
	if err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) {
		if !p.In {
			fmt.Fprintf(w, "person %d may not come to the portal, or it is not known by which provider they come\n", p.Person)
			return
		}
		fmt.Fprintf(w, "%s, who comes by %s, finds on the portal, in this order:\n", p.Name, strings.Join(p.By, " and "))
		var t table
		for _, of := range []struct {
			how   string
			tiles []api.Tile
		}{{"on it", p.Tiles}, {"not open yet", p.Coming}, {"may ask", p.Offers}, {"hidden", p.Hidden}} {
			for _, x := range of.tiles {
				t.add("section", dash(x.Section), "tile!", x.Title, "application!", x.Application, "shown", of.how, "used",
					fmt.Sprint(x.Used),
					"special", dash(strings.Join(x.Marks, ", ")), "why", dash(x.Why))
			}
		}
		e.tell(w, t, "nothing: they enter no application")
	})
}
