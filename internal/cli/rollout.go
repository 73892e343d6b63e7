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
	return &ucli.Command{Name: "rollout",
		Usage: "show phase, cohort and what waits; how a pilot goes, and what a step back would leave", ArgsUsage: "NAME",
		Metadata: takes(k.kind, ""),
		Description: "Phases and cohorts are settings: innergate " + k.command +
			" set NAME phase=pilot cohort=\"group:drivers share:10\". A change at a moment:\n" +
			"nextAt=\"2027-01-31 06:00 Europe/Berlin\" nextPhase=live; nextAt= withdraws it. One step back: innergate " +
			k.command + " resume NAME.",
		Action: e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
			args []string) error {
			got, err := client.Call(ctx, c, api.ShowRollout, api.Of(k.kind, args[0]))
			if err != nil {
				return err
			}
			return e.print(cmd, got, func(w io.Writer) { e.tellRollout(w, got) })
		})}
}

func (e *environment) tellRollout(w io.Writer, r api.Rollout) {
	rows := [][2]string{{"phase", e.colour(r.Phase)}, {"cohort", dash(r.Cohort)}, {"since", local(r.Since)},
		{"before", cmp.Or(strings.TrimSpace(r.Before+" "+r.BeforeCohort), "-")}}
	if r.Next != nil {
		told := "nobody is mailed: no mail server, or no address in owner"
		if len(r.Next.Told) > 0 {
			told = strings.Join(r.Next.Told, ", ")
		}
		rows = append(rows, [2]string{"from " + r.Next.Text, strings.TrimSpace(r.Next.Phase + " " + r.Next.Cohort)},
			[2]string{"mailed to", told})
	}
	fields(w, append(rows, [2]string{"people", fmt.Sprintf("%d who may pass: %d tried, %d entered, %d refused at last",
		r.People, r.Tried, r.Entered, r.Refused)},
		[2]string{"earlier way", earlier(r.Old)}))
	var t table
	for i, findings := range [][]api.FindingCount{r.Findings, r.Old.Findings} {
		for _, f := range findings {
			t.add("refused by!", f.Code, "way", []string{r.Phase, "earlier"}[i], "sign-ins", fmt.Sprint(f.Count))
		}
	}
	if len(r.Findings)+len(r.Old.Findings) > 0 {
		fmt.Fprintln(w)
		e.tell(w, t, "")
	}
	t = table{}
	for _, w := range r.Ways {
		t.add("way!", w.Provider, "phase", e.colour(w.Phase), "cohort", dash(w.Cohort), "by", w.By, "people",
			fmt.Sprint(w.People), "entered",
			fmt.Sprint(w.Entered), "refused", fmt.Sprint(w.Refused))
	}
	if len(r.Ways) > 0 {
		fmt.Fprintln(w)
		e.tell(w, t, "")
	}
	t = table{}
	for _, x := range r.InTheWay {
		t.add("in the way", e.colour(x.Severity), "what!", x.What, "finding!", dash(x.Code))
	}
	if len(r.InTheWay) > 0 {
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
		fmt.Fprintf(w, "\nA step back leaves %s that goes on; innergate person disable NUMBER ends somebody's:\n",
			counted(int64(len(r.Sessions)), "session"))
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

// earlier says how the earlier way goes.
func earlier(o api.EarlierWay) string {
	out := fmt.Sprintf("%s: %d entered, %d refused at last", strings.Replace(counted(int64(o.People), "person"),
		"persons", "people", 1), o.Entered, o.Refused)
	if o.OfCohort > 0 {
		out += fmt.Sprintf("; %d of them in the cohort", o.OfCohort)
	}
	if o.Unknown > 0 {
		out += "; and " + counted(int64(o.Unknown), "sign-in") + " of nobody who is known"
	}
	return out
}
