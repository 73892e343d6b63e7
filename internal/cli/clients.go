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

// clients are the commands for applications that have secrets and are given tokens.
func (e *environment) clients() []*ucli.Command {
	list := func() []ucli.Flag {
		return []ucli.Flag{&ucli.Int64Flag{Name: "person", Usage: "of the person with this number"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100},
			&ucli.IntFlag{Name: "offset", Usage: "leave out so many"}}
	}
	name := []string{"NAME"}
	return append(e.admissionCommands(), []*ucli.Command{
		{Name: "secret", Usage: "make the next client secret of an application; those of before stay good for an overlap",
			ArgsUsage: "NAME", Metadata: takes("application", ""), Flags: []ucli.Flag{
				&ucli.StringFlag{Name: "overlap", Usage: "how long those of before stay good, like 14d; 0 for not at all",
					Value: "7d"},
				&ucli.StringFlag{Name: "life", Usage: "how long the next one is good, like 365d; for ever if absent"},
				&ucli.StringFlag{Name: "client-secret-file", Usage: "file with the next one; made if absent, and shown once"},
				&ucli.BoolFlag{Name: "end", Usage: "end those of before now, and make none"}},
			Action: e.action(name, e.rotateSecret)},
		{Name: "grants", Usage: "list what sign-ins gave an application: tokens, and why they ended", ArgsUsage: "NAME",
			Metadata: takes("application", ""), Flags: list(), Action: e.action(name, e.listGrants)},
		{Name: "consents", Usage: "list what people agreed to that an application may be told", ArgsUsage: "NAME",
			Metadata: takes("application", ""), Flags: list(), Action: e.action(name, e.listConsents)},
		{Name: "withdraw", Usage: "take back what a person agreed to, and end what their sign-ins gave the application",
			ArgsUsage: "NAME PERSON", Metadata: takes("application", ""),
			Action: e.action([]string{"NAME", "PERSON"}, e.withdrawConsent)},
	}...)
}

// secret shows a client ID, and a secret that is never shown again.
func (e *environment) secret(w io.Writer, id, secret string) {
	if id == "" {
		return
	}
	rows := [][2]string{{"client ID", id}}
	if secret != "" {
		rows = append(rows, [2]string{"client secret", secret})
	}
	fields(w, rows)
	if secret != "" {
		fmt.Fprintln(w, "the secret is shown this once; keep it where the application reads it")
	}
}

func (e *environment) rotateSecret(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	r := api.Rotation{Overlap: cmd.String("overlap"), Life: cmd.String("life"), End: cmd.Bool("end")}
	if file := cmd.String("client-secret-file"); file != "" {
		octets, err := e.readFile("--client-secret-file", file)
		if err != nil {
			return err
		}
		r.ClientSecret = strings.TrimSpace(string(octets))
	}
	out, err := client.Call(ctx, c, api.RotateSecret, api.To(args[0], r))
	if err != nil {
		return err
	}
	return e.print(cmd, out, func(w io.Writer) {
		switch {
		case r.End:
			fmt.Fprintf(w, "ended the secrets of before of %s; only the newest is good now\n", args[0])
			return
		case r.Overlap == "0":
			fmt.Fprintf(w, "changed %s; those of before have ended\n", args[0])
		default:
			fmt.Fprintf(w, "changed %s; those of before stay good for %s\n", args[0], r.Overlap)
		}
		e.secret(w, out.ClientID, out.ClientSecret)
		fmt.Fprintf(w, "once the application has it: innergate app secret %s --end\n", args[0])
	})
}

func grantFilter(cmd *ucli.Command, name string) (api.GrantFilter, error) {
	f := api.GrantFilter{Named: api.Name(name), Person: cmd.Int64("person"), Limit: cmd.Int("limit"),
		Offset: cmd.Int("offset")}
	if cmd.IsSet("person") && f.Person < 1 {
		return f, &usageError{fmt.Sprintf("--person: there is no person %d", f.Person), "People are numbered from 1."}
	}
	return f, nil
}

func (e *environment) listGrants(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	f, err := grantFilter(cmd, args[0])
	if err != nil {
		return err
	}
	l, err := client.Call(ctx, c, api.ListGrants, f)
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		var t table
		for _, g := range l.Items {
			state, lasts, person := "good", "with the session", whose(g.Person, g.Name)
			if g.Ended != "" {
				state = g.Ended
			}
			if g.Offline {
				lasts = "beyond it"
			}
			if g.Person == 0 {
				person = "-"
			}
			t.add("state", state, "person", person, "provider", g.Provider,
				"scopes", strings.Join(g.Scopes, " "), "lasts", lasts,
				"sign-in@", brief(g.Began,
					time.Now()), "reference!", dash(g.Trace))
		}
		e.tell(w, t, "No sign-in has given it anything that is still kept.")
		rest(w, len(l.Items), f.Offset, l.Total)
	})
}

// whose is a person by number, and by the name they have here.
func whose(number int64, name string) string {
	if name == "" {
		return fmt.Sprint(number)
	}
	return fmt.Sprintf("%d %s", number, name)
}

// notices shows what applications are to be told and did not answer yet.
func (e *environment) notices() *ucli.Command {
	return &ucli.Command{Name: "notices",
		Usage: "what applications are to be told, such as that somebody has signed out, and did not answer yet",
		Flags: []ucli.Flag{&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100}},
		Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
			l, err := client.Call(ctx, c, api.ListNotices, api.NoticeFilter{Limit: cmd.Int("limit")})
			if err != nil {
				return err
			}
			return e.print(cmd, l, func(w io.Writer) {
				var t table
				for _, n := range l.Items {
					t.add("application", dash(n.Application), "address!", n.Address,
						"tries", fmt.Sprint(n.Tries), "last answer!", dash(n.Answer),
						"again@", brief(n.Due, time.Now()), "given up@", brief(n.Until, time.Now()))
				}
				e.tell(w, t, "Nothing waits: every application that wants to hear has heard.")
				rest(w, len(l.Items), 0, l.Total)
			})
		})}
}

func rest(w io.Writer, shown, offset int, total int64) {
	if n := int64(shown + offset); shown > 0 && n < total {
		fmt.Fprintf(w, "\n%d of %d; for the next ones add --offset %d\n", shown, total, n)
	}
}

func (e *environment) listConsents(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	f, err := grantFilter(cmd, args[0])
	if err != nil {
		return err
	}
	l, err := client.Call(ctx, c, api.ListConsents, f)
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		var t table
		for _, x := range l.Items {
			t.add("person!", whose(x.Person, x.Name), "scopes", strings.Join(x.Scopes, " "),
				"agreed@", brief(x.At, time.Now()))
		}
		e.tell(w, t, "Nobody was asked, or agreed, yet.")
		rest(w, len(l.Items), f.Offset, l.Total)
	})
}

func (e *environment) withdrawConsent(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	var person int64
	if _, err := fmt.Sscan(args[1], &person); err != nil || person < 1 {
		return &usageError{fmt.Sprintf("%q is no person", args[1]), "Give the number of one; innergate app consents " +
			args[0] + " lists them."}
	}
	out, err := client.Call(ctx, c, api.WithdrawConsent, api.OneConsent{Named: api.Name(args[0]), Person: person})
	if err != nil {
		return err
	}
	return e.print(cmd, out, func(w io.Writer) {
		fmt.Fprintf(w, "taken back; %d sign-ins give %s nothing any more, and person %d is asked again\n", out.Ended,
			args[0], person)
	})
}
