package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// rollout is the command about how far a record is used.
func (e *environment) rollout(k kindOf) *ucli.Command {
	return &ucli.Command{Name: "rollout", Usage: "show phase, cohort and what waits; how a pilot goes, and what a step back would leave", ArgsUsage: "NAME",
		Metadata: takes(k.kind, ""),
		Description: "Phases and cohorts are settings: innergate " + k.command + " set NAME phase=pilot cohort=\"group:drivers share:10\". A change at a moment:\n" +
			"nextAt=\"2027-01-31 06:00 Europe/Berlin\" nextPhase=live; nextAt= withdraws it. One step back: innergate " + k.command + " resume NAME.",
		Action: e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
			got, err := client.Call(ctx, c, api.ShowRollout, api.Of(k.kind, args[0]))
			if err != nil {
				return err
			}
			return e.print(cmd, got, func(w io.Writer) { e.tellRollout(w, got) })
		})}
}

func (e *environment) tellRollout(w io.Writer, r api.Rollout) {
	rows := [][2]string{{"phase", e.colour(r.Phase)}, {"cohort", dash(r.Cohort)}, {"since", local(r.Since)}, {"before", cmp.Or(strings.TrimSpace(r.Before+" "+r.BeforeCohort), "-")}}
	if r.Next != nil {
		rows = append(rows, [2]string{"from " + r.Next.Text, strings.TrimSpace(r.Next.Phase + " " + r.Next.Cohort)})
	}
	fields(w, append(rows, [2]string{"people", fmt.Sprintf("%d who may pass: %d tried, %d entered, %d refused at last", r.People, r.Tried, r.Entered, r.Refused)},
		[2]string{"outside", fmt.Sprintf("%d sign-ins of others, or of nobody who is known", r.Outside)}))
	var t table
	for _, f := range r.Findings {
		t.add("refused by!", f.Code, "sign-ins", fmt.Sprint(f.Count))
	}
	if len(r.Findings) > 0 {
		fmt.Fprintln(w)
		e.tell(w, t, "")
	}
	names := func(all []api.PersonNamed) string {
		words := make([]string, len(all))
		for i, p := range all {
			words[i] = fmt.Sprintf("%d %s", p.Number, p.Name)
		}
		return strings.Join(words, ", ")
	}
	if len(r.Awaited) > 0 {
		wrap(w, "", "\nNot come yet: "+names(r.Awaited))
	}
	if len(r.Sessions)+len(r.Made) > 0 {
		fmt.Fprintf(w, "\nA step back leaves %s that goes on; innergate person disable NUMBER ends somebody's:\n", counted(int64(len(r.Sessions)), "session"))
		t = table{}
		for _, s := range r.Sessions {
			t.add("person!", fmt.Sprint(s.Person), "name", s.Name, "since", local(s.Began))
		}
		e.tell(w, t, "")
	}
	if len(r.Made) > 0 {
		wrap(w, "", "and people who became known: "+names(r.Made))
	}
}
