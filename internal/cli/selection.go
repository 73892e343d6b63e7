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

// selection are the commands about provider selection.
func (e *environment) selection() *ucli.Command {
	return &ucli.Command{Name: "selection", Usage: "provider selection: by which provider somebody comes",
		Commands: append([]*ucli.Command{
			{Name: "list", Usage: "read its rules aloud, in the order in which they are looked at",
				Description: "Whom no rule is about comes by any provider that is live. An application that names a provider has that one.",
				Flags:       []ucli.Flag{&ucli.StringFlag{Name: "application", Usage: "those that are looked at for it"}},
				Action:      e.action(nil, e.listSelection)},
			{Name: "domains", Usage: "list domains of e-mail addresses, and whose they are",
				Description: "Domains are the setting domains of providers: innergate provider set NAME domains=\"wrenmoor.example .depot.example\".",
				Action:      e.action(nil, e.listDomains)},
			{Name: "try", Usage: "tell by which providers somebody would come", ArgsUsage: "APPLICATION",
				Flags: []ucli.Flag{&ucli.Int64Flag{Name: "person", Usage: "number of the account, of somebody who is known"},
					&ucli.StringFlag{Name: "email", Usage: "e-mail address or user name that is typed"},
					&ucli.StringFlag{Name: "network", Usage: "address of their browser"},
					&ucli.StringSliceFlag{Name: "hint", Usage: "what the application names; may be given several times"},
					&ucli.StringFlag{Name: "provider", Usage: "that they pick"}},
				Action: e.action([]string{"APPLICATION"}, e.tryWay)},
		}, e.ownCommands(ownKind{"selection", "a rule",
			"title, order, applications, domains, networks, groups, organisations, userTypes, hints, providers, ask",
			"title=TITLE domains=DOMAIN providers=PROVIDER"})...)}
}

func (e *environment) listSelection(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	got, err := client.Call(ctx, c, api.ShowSelection, api.RuleFilter{Application: cmd.String("application")})
	if err != nil {
		return err
	}
	return e.print(cmd, got.Rules, func(w io.Writer) {
		var t table
		for _, r := range got.Rules {
			says := r.Sentence
			if r.Broken {
				says += " It cannot be read any more."
			}
			t.add("rule!", r.Name, "says!", says, "decided", fmt.Sprint(r.Decided))
		}
		e.tell(w, t, "No rules: an application that names no provider offers all that are live. Make one with innergate selection put NAME.")
		fmt.Fprintf(w, "\nOwners always come in at %s, by no rule.\n", got.Owners)
	})
}

func (e *environment) listDomains(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	got, err := client.Call(ctx, c, api.ShowSelection, api.RuleFilter{})
	if err != nil {
		return err
	}
	return e.print(cmd, got.Domains, func(w io.Writer) {
		var t table
		for _, d := range got.Domains {
			t.add("domain!", d.Domain, "comes by", dash(strings.Join(d.Providers, ", ")), "vouched for by",
				dash(strings.Join(d.Vouching, ", ")),
				"lands in", dash(d.Organisation), "confirmed", dash(d.Note))
		}
		e.tell(w, t, "No domains yet: innergate provider set NAME domains=DOMAIN.")
	})
}

func (e *environment) tryWay(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if cmd.IsSet("person") && (cmd.IsSet("email") || cmd.IsSet("provider")) {
		return &usageError{"a person who is known has their own address",
			"Give --person with --network and --hint alone, or leave --person out."}
	}
	got, err := client.Call(ctx, c, api.FindWay, api.To(args[0], api.WayAsked{Person: cmd.Int64("person"),
		Email:   cmd.String("email"),
		Network: cmd.String("network"), Hints: cmd.StringSlice("hint"), Provider: cmd.String("provider")}))
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) {
		said := "goes on to " + strings.Join(got.Providers, "")
		switch {
		case got.Ask:
			said = "is asked for their address first; may choose " + strings.Join(got.Providers, ", ")
		case len(got.Providers) > 1:
			said = "chooses among " + strings.Join(got.Providers, ", ")
		}
		fmt.Fprintln(w, said)
		for _, r := range got.Why {
			fmt.Fprintln(w, "  "+r)
		}
	})
}
