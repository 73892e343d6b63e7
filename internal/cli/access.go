package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// rules is the command about access rules.
func (e *environment) accessRules() *ucli.Command {
	return &ucli.Command{Name: "rule", Usage: "access rules: who may enter", Commands: []*ucli.Command{
		{Name: "list", Usage: "read rules aloud, in the order in which they are looked at",
			Description: "Rules are made and changed as objects: innergate object put rule/NAME title=TITLE then=allow groups=GROUP; " +
				"innergate object kinds rule tells what a rule can say. Who no rule is about enters, unless the application's setting everyone is no.",
			Flags: []ucli.Flag{&ucli.StringFlag{Name: "application", Usage: "those that are looked at for it"}},
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := client.Call(ctx, c, api.ListRules, api.RuleFilter{Application: cmd.String("application")})
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					var t table
					for _, r := range l.Items {
						holds := map[bool]string{true: "yes", false: "not now"}[r.Holds]
						if r.Broken {
							holds = "cannot be read: denies"
						}
						t.add("rule!", r.Name, "application", dash(r.Application), "says!", r.Sentence, "holds", holds, "decided",
							fmt.Sprint(r.Decided),
							"last", brief(r.Last, time.Now()))
					}
					e.tell(w, t, "No rules: everybody with a valid answer of a provider enters. Make one with innergate object put rule/NAME.")
				})
			})},
	}}
}

// simulate is the command that tells whether somebody would enter.
func (e *environment) simulate() *ucli.Command {
	return &ucli.Command{Name: "simulate",
		Usage:     "tell whether somebody would enter an application, by what, and what it would be told",
		ArgsUsage: "APPLICATION [ATTRIBUTE=VALUE …]",
		Description: "What is not said is as at their newest sign-in that is known. In place of a person, ATTRIBUTE=VALUE and --group tell of\n" +
			"somebody without an account; several values are separated by |. --list takes a CSV file with a heading like number or\n" +
			"userName, --everyone all who are known. Nothing is changed.",
		Flags: []ucli.Flag{&ucli.Int64Flag{Name: "person", Usage: "number of the account"},
			&ucli.StringSliceFlag{Name: "group", Usage: "group that somebody without an account is in"},
			&ucli.StringFlag{Name: "list", Usage: "file with a list of people, or - for standard input"},
			&ucli.BoolFlag{Name: "skip-bad", Usage: "of a list: leave rows out that cannot be used"},
			&ucli.BoolFlag{Name: "everyone", Usage: "count who would enter, of all who are known"},
			&ucli.StringFlag{Name: "provider", Usage: "by which they come"},
			&ucli.StringFlag{Name: "context", Usage: "authentication context"},
			&ucli.StringFlag{Name: "network", Usage: "address of their browser"},
			&ucli.StringFlag{Name: "role", Usage: "role that is asked for, by its name in the application"},
			&ucli.StringFlag{Name: "signed-in", Usage: "when they signed in at the provider, like 2027-01-31T12:00:00Z"},
			&ucli.StringFlag{Name: "at", Usage: "when they enter, likewise"}},
		Action: e.anyNumber(e.simulated)}
}

func (e *environment) simulated(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if len(args) == 0 {
		return &usageError{"application is missing", "Call it as innergate simulate APPLICATION --person N; see --help."}
	}
	change, err := personChange(cmd, args[1:])
	if err != nil {
		return err
	}
	ways := 0
	bare := len(change.Values) > 0 || cmd.IsSet("group")
	for _, is := range []bool{cmd.IsSet("person"), bare, cmd.IsSet("list"), cmd.Bool("everyone")} {
		if is {
			ways++
		}
	}
	switch {
	case ways == 0:
		return &usageError{"--person is missing",
			"Say who would enter: innergate person list --search NAME finds the number."}
	case ways > 1:
		return &usageError{"more than one says who would enter",
			"Give one of --person, ATTRIBUTE=VALUE with --group, --list and --everyone."}
	case cmd.IsSet("list"):
		return e.simulatedList(ctx, cmd, c, args[0])
	case cmd.Bool("everyone"):
		return e.simulatedAll(ctx, cmd, c, args[0])
	}
	in := api.Simulation{Person: cmd.Int64("person"), Groups: cmd.StringSlice("group"), Provider: cmd.String("provider"),
		Context: cmd.String("context"), Network: cmd.String("network"), Role: cmd.String("role")}
	if bare {
		in.Attributes = change.Values
	}
	for flag, to := range map[string]*time.Time{"signed-in": &in.SignedIn, "at": &in.At} {
		if text := cmd.String(flag); text != "" {
			at, err := time.Parse(time.RFC3339, text)
			if err != nil {
				return &usageError{fmt.Sprintf("--%s: %q is no moment", flag, text), "Write it like 2027-01-31T12:00:00Z."}
			}
			*to = at
		}
	}
	got, err := client.Call(ctx, c, api.Simulate, api.To(args[0], in))
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) { e.tellSimulated(w, got) })
}

func (e *environment) tellSimulated(w io.Writer, got api.Simulated) {
	fmt.Fprintf(w, "%s  %s\n\n", e.colour(got.Decision), decidedBy(got))
	var t table
	decided := false
	for _, r := range got.Rules {
		what := r.Why
		switch {
		case r.About && !decided:
			what, decided = "decides", true
			if r.Why != "" {
				what += ": " + r.Why
			}
		case r.About:
			what = "an earlier one decides"
		}
		t.add("looked at!", cmp.Or(r.Name, map[string]string{"admission": "(admissions)", "default": "(everyone)"}[r.By]),
			"says!", r.Sentence,
			"for this person!", what)
	}
	e.tell(w, t, "")
	e.roleTable(w, got.Roles, got.Choose)
	if got.Released == nil || got.Decision == "deny" {
		return
	}
	fmt.Fprintf(w, "\nWhat the application would be told, under the name %s\n\n", dash(got.Released.Name))
	e.valueTable(w, got.Released.Released, "Nothing.")
}

// decidedBy says in a line why.
func decidedBy(got api.Simulated) string {
	switch {
	case got.Finding != nil:
		said := []string{}
		for _, ev := range got.Finding.Evidence {
			said = append(said, evidence(ev))
		}
		return got.Finding.Title + " (" + strings.Join(said, "; ") + ")"
	case got.Asks != "":
		return "the rule " + got.Asks + " asks for a stronger or fresher sign-in first"
	}
	return strings.Join(got.Why, "; ")
}

func (e *environment) simulatedList(ctx context.Context, cmd *ucli.Command, c *client.Client, app string) error {
	f, err := e.opened(cmd.String("list"))
	if err != nil {
		return err
	}
	defer f.Close()
	j, err := client.Upload(ctx, c, api.SimulateList, api.Name(app), api.ListSent{SkipBad: cmd.Bool("skip-bad")}, f)
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	return e.print(cmd, j.Entrants, func(w io.Writer) { e.entrants(w, j.Entrants) })
}

func (e *environment) simulatedAll(ctx context.Context, cmd *ucli.Command, c *client.Client, app string) error {
	j, err := client.Call(ctx, c, api.ForeseeEntrants, api.Name(app))
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	return e.print(cmd, j.Entrants, func(w io.Writer) { e.entrants(w, j.Entrants) })
}

// entrants shows who enters, by what, and how many.
func (e *environment) entrants(w io.Writer, in *api.Entrants) {
	if in == nil {
		return
	}
	var t table
	for _, c := range in.Counts {
		t.add("people!", fmt.Sprint(c.Count), "decision", e.colour(c.Decision), "by!", groundWords(c.Ground))
	}
	e.tell(w, t, "Nobody is known yet.")
	if len(in.Roles) > 0 {
		fmt.Fprintln(w)
		t = table{}
		for _, r := range in.Roles {
			t.add("people!", fmt.Sprint(r.Count), "enter as!", cmp.Or(r.Role, "(no role)"), "title", r.Title)
		}
		e.tell(w, t, "")
	}
	if len(in.Items) == 0 {
		return
	}
	fmt.Fprintln(w)
	t = table{}
	for _, p := range in.Items {
		t.add("number!", fmt.Sprint(p.Person), "name!", p.Name, "decision", e.colour(p.Decision), "by",
			cmp.Or(p.Finding, groundWords(p.Ground)),
			"as", dash(strings.Join(p.Roles, map[bool]string{true: " or ", false: ", "}[p.Choose])))
	}
	e.tell(w, t, "")
	if in.Total > len(in.Items) {
		fmt.Fprintf(w, "and %d more; --after %d shows the next ones, --csv all\n", in.Total-len(in.Items),
			in.Items[len(in.Items)-1].Person)
	}
}

// groundWords says what a decision rests on.
func groundWords(g *api.Ground) string {
	switch {
	case g == nil:
		return "the account or the application is closed"
	case g.By == "rule":
		return "rule " + g.Name
	case g.By == "default":
		return "the setting everyone"
	case g.Name == "":
		return "admitted by name"
	}
	return "admission of the group " + g.Name
}
