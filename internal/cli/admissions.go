package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// admissionCommands are those about who enters an application by name.
func (e *environment) admissionCommands() []*ucli.Command {
	who := func() []ucli.Flag {
		return []ucli.Flag{&ucli.BoolFlag{Name: "everyone", Usage: "whoever nothing else is about"},
			&ucli.StringSliceFlag{Name: "group", Usage: "short name of a group; may be given several times"},
			&ucli.Int64SliceFlag{Name: "person", Usage: "number of an account; may be given several times"}}
	}
	name := []string{"NAME"}
	return []*ucli.Command{
		{Name: "admit", Usage: "let people or groups enter an application by name, or everyone", ArgsUsage: "NAME",
			Description: "--list takes a CSV file with a heading like number or userName, and until if wanted. Without --digest it only tells\n" +
				"what would be, and the digest to admit with.",
			Metadata: takes("application", ""), Flags: append(who(), &ucli.StringFlag{Name: "until",
				Usage: "day to whose end (UTC) they enter, like 2027-01-31"},
				&ucli.BoolFlag{Name: "out", Usage: "keep the groups out instead"},
				&ucli.BoolFlag{Name: "at-once",
					Usage: "where admissions wait for approval: have them act at once from then on, which waits for approval itself"},
				&ucli.StringFlag{Name: "list", Usage: "file with a list of people, or - for standard input"},
				&ucli.BoolFlag{Name: "skip-bad", Usage: "of a list: leave rows out that cannot be used"},
				&ucli.StringFlag{Name: "digest", Usage: "of the list that was looked at"}, yesFlag),
			Action: e.action(name, e.admit)},
		{Name: "unadmit", Usage: "take entry away that was given by name", ArgsUsage: "NAME",
			Metadata:    takes("application", ""),
			Description: "What else lets somebody in, like a rule, still does. Where somebody loses their entry it asks, or needs --yes.",
			Flags:       append(who(), yesFlag), Action: e.action(name, e.unadmit)},
		{Name: "admitted", Usage: "list everyone who enters an application, and by what", ArgsUsage: "NAME",
			Metadata:    takes("application", ""),
			Description: "Everybody who is known is looked at as they last came: by that provider, network and authentication context.",
			Flags: []ucli.Flag{&ucli.StringFlag{Name: "search", Usage: "words of names, or numbers"},
				&ucli.StringFlag{Name: "decision", Usage: "enters (which is allow or step-up), allow, step-up, deny or all",
					Value: "enters"},
				&ucli.StringFlag{Name: "by", Usage: "what decides: rule, admission, default or none"},
				&ucli.StringFlag{Name: "ground", Usage: "with --by: name of the rule or the group"},
				&ucli.StringFlag{Name: "role", Usage: "they enter with it, by its name in the application; none: with no role"},
				&ucli.BoolFlag{Name: "named", Usage: "only who was admitted by name"},
				&ucli.BoolFlag{Name: "csv", Usage: "all of them as CSV"},
				&ucli.Int64Flag{Name: "after", Usage: "number after which the page begins"},
				&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100}},
			Action: e.action(name, e.admitted)},
	}
}

func admissionChange(cmd *ucli.Command) api.AdmissionChange {
	return api.AdmissionChange{Everyone: cmd.Bool("everyone"), Groups: cmd.StringSlice("group"),
		People: cmd.Int64Slice("person"),
		Until:  cmd.String("until"), Out: cmd.Bool("out"),
		AtOnce: cmd.Bool("at-once")}
}

func (e *environment) admit(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if cmd.IsSet("list") {
		return e.admitList(ctx, cmd, c, args[0])
	}
	in := admissionChange(cmd)
	if !in.Everyone && !in.AtOnce && len(in.Groups)+len(in.People) == 0 {
		return &usageError{"nobody is named", "Give --everyone, --group G, --person N, or --list FILE."}
	}
	return e.admissionsAre(ctx, cmd, c, api.Admit, args[0], in)
}

func (e *environment) unadmit(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	in := admissionChange(cmd)
	if !in.Everyone && len(in.Groups)+len(in.People) == 0 {
		return &usageError{"nobody is named", "Give --everyone, --group G or --person N."}
	}
	return e.admissionsAre(ctx, cmd, c, api.Unadmit, args[0], in)
}

// admissionsAre makes a change, and shows what it comes to.
func (e *environment) admissionsAre(ctx context.Context, cmd *ucli.Command, c *client.Client,
	o api.Operation[api.SentTo[api.AdmissionChange], api.Admissions], app string, in api.AdmissionChange) error {
	got, err := client.Call(ctx, c, o, api.To(app, in))
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) { e.admissions(w, app, got) })
}

func (e *environment) admissions(w io.Writer, app string, in api.Admissions) {
	if in.Request != 0 {
		fmt.Fprintf(w, "It waits for approval, as request %d: another owner approves it (innergate request show %d).\n\n",
			in.Request, in.Request)
	}
	said := map[string]string{"": "enters: nobody has decided on it", "yes": "enters",
		"no": "does not enter"}[in.Everyone]
	fmt.Fprintf(w, "Whoever nothing else is about %s.\n\n", said)
	var t table
	add := func(what, who string, until time.Time, ended bool, from string) {
		holds := "for good"
		if !until.IsZero() {
			holds = "until " + local(until)
			if day := federation.EndText(until); len(day) == len(time.DateOnly) {
				holds = "until the end of " + day + " (UTC)"
			}
		}
		if ended {
			holds += ", which has passed"
		}
		t.add("admitted!", what, "who!", who, "holds", holds, "by", from)
	}
	for _, g := range in.Groups {
		what := "group"
		if g.Out {
			what = "group, kept out"
		}
		add(what, g.Group, g.Until, g.Ended, "-")
	}
	for _, p := range in.People {
		add("person", fmt.Sprintf("%d %s", p.Person, p.Name), p.Until, p.Ended, p.Author)
	}
	e.tell(w, t, "Nobody is admitted by name: innergate app admit "+app+" --group G or --person N does it.")
	if more := in.Total - int64(len(in.People)); more > 0 {
		fmt.Fprintf(w, "and %d more people\n", more)
	}
}

func (e *environment) admitList(ctx context.Context, cmd *ucli.Command, c *client.Client, app string) error {
	f, err := e.opened(cmd.String("list"))
	if err != nil {
		return err
	}
	defer f.Close()
	how := api.ListSent{SkipBad: cmd.Bool("skip-bad"), Digest: cmd.String("digest")}
	j, err := client.Upload(ctx, c, api.AdmitList, api.Name(app), how, f)
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	out := j.Imported
	err = e.print(cmd, out, func(w io.Writer) { e.imported(w, out, api.PeopleImport{SkipBad: how.SkipBad}) })
	if err == nil && out.BadRows > 0 && !how.SkipBad {
		return errFound
	}
	return err
}

func (e *environment) admitted(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if cmd.Bool("named") {
		got, err := client.Call(ctx, c, api.ListAdmissions, api.AdmissionFilter{Named: api.Name(args[0]),
			After: cmd.Int64("after"), Limit: cmd.Int("limit")})
		if err != nil {
			return err
		}
		return e.print(cmd, got, func(w io.Writer) { e.admissions(w, args[0], got) })
	}
	f := api.EntrantFilter{Named: api.Name(args[0]), Search: cmd.String("search"), Decision: cmd.String("decision"),
		By:     cmd.String("by"),
		Ground: cmd.String("ground"), Role: cmd.String("role")}
	if f.Decision == "all" {
		f.Decision = ""
	}
	if cmd.Bool("csv") {
		octets, err := client.Call(ctx, c, api.ExportEntrants, f)
		if err == nil {
			_, err = e.out.Write(octets)
		}
		return err
	}
	got, err := client.Call(ctx, c, api.ListEntrants, api.EntrantPage{EntrantFilter: f, After: cmd.Int64("after"),
		Limit: cmd.Int("limit")})
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) { e.entrants(w, &got) })
}

func (e *environment) personEntries(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := personNumber(args[0])
	if err != nil {
		return err
	}
	got, err := client.Call(ctx, c, api.PersonMayEnter, api.Number(n))
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) {
		var t table
		for _, x := range got.Items {
			t.add("application!", x.Application, "decision", e.colour(x.Decision), "as", dash(roleWords(x.Roles)), "why", x.Why)
		}
		e.tell(w, t, "There are no applications yet.")
	})
}
