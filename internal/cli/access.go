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
						t.add("rule!", r.Name, "application", dash(r.Application), "says!", r.Sentence, "holds", holds)
					}
					e.tell(w, t, "No rules: everybody with a valid answer of a provider enters. Make one with innergate object put rule/NAME.")
				})
			})},
	}}
}

// simulate is the command that tells whether somebody would enter.
func (e *environment) simulate() *ucli.Command {
	return &ucli.Command{Name: "simulate", Usage: "tell whether somebody would enter an application, and by which rules", ArgsUsage: "APPLICATION",
		Description: "What is not said is as at their newest sign-in that is known. Nothing is changed.",
		Flags: []ucli.Flag{&ucli.Int64Flag{Name: "person", Usage: "number of the account"},
			&ucli.StringFlag{Name: "provider", Usage: "by which they come"},
			&ucli.StringFlag{Name: "context", Usage: "authentication context"},
			&ucli.StringFlag{Name: "network", Usage: "address of their browser"},
			&ucli.StringFlag{Name: "signed-in", Usage: "when they signed in at the provider, like 2027-01-31T12:00:00Z"},
			&ucli.StringFlag{Name: "at", Usage: "when they enter, likewise"}},
		Action: e.action([]string{"APPLICATION"}, e.simulated)}
}

func (e *environment) simulated(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if !cmd.IsSet("person") {
		return &usageError{"--person is missing", "Say who would enter: innergate person list --search NAME finds the number."}
	}
	in := api.Simulation{Person: cmd.Int64("person"), Provider: cmd.String("provider"), Context: cmd.String("context"),
		Network: cmd.String("network")}
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
	return e.print(cmd, got, func(w io.Writer) {
		fmt.Fprintf(w, "%s  %s\n", e.colour(got.Decision), decidedBy(got))
		if len(got.Rules) == 0 {
			return
		}
		fmt.Fprintln(w)
		var t table
		decided := false
		for _, r := range got.Rules {
			what := r.Why
			if r.About && !decided {
				what, decided = "decides", true
			} else if r.About {
				what = "would be about them, but an earlier one decides"
			}
			t.add("rule!", r.Name, "says!", r.Sentence, "for this person", what)
		}
		e.tell(w, t, "")
	})
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
