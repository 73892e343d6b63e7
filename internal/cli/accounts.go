package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/compare"
)

// comparing are accounts that applications keep themselves, compared with people.
func (e *environment) comparing() *ucli.Command {
	verdict := &ucli.StringFlag{Name: "verdict", Usage: "only lines of this one, like case, domain, \"missing here\""}
	return &ucli.Command{Name: "accounts", Usage: "compare the accounts that an application keeps with people",
		Commands: []*ucli.Command{
			{Name: "compare", Usage: "compare a list of its accounts with whom it would be told of",
				ArgsUsage: "APPLICATION FILE",
				Description: "FILE is CSV with any headings, as the application exports its accounts, or - for standard input.\n" +
					"The heading and what identifies people are those that fit best, unless they are named.",
				Flags: []ucli.Flag{
					&ucli.StringFlag{Name: "column", Usage: "heading of the list"},
					&ucli.StringFlag{Name: "identifier", Usage: "what identifies people, as the table of rates names it"},
					&ucli.StringFlag{Name: "group", Usage: "only people in this group; absent for all who may come"}},
				Action: e.action([]string{"APPLICATION", "FILE"}, e.compareAccounts)},
			{Name: "list", Usage: "list the comparisons that are kept", ArgsUsage: "APPLICATION",
				Action: e.action([]string{"APPLICATION"}, e.listComparisons)},
			{Name: "show", Usage: "show the lines of a comparison", ArgsUsage: "APPLICATION [NUMBER]",
				Description: "Without NUMBER the newest one.", Flags: []ucli.Flag{verdict,
					&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100}, &ucli.IntFlag{Name: "offset",
						Usage: "go on after so many"}},
				Action: e.showComparison},
			{Name: "export", Usage: "print the lines of a comparison as CSV", ArgsUsage: "APPLICATION NUMBER",
				Flags: []ucli.Flag{verdict},
				Action: e.action([]string{"APPLICATION", "NUMBER"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
					args []string) error {
					id, err := comparisonNumber(args[1])
					if err != nil {
						return err
					}
					octets, err := client.Call(ctx, c, api.ExportComparison, api.ComparisonExport{
						OneComparison: api.OneComparison{Name: args[0], ID: id}, Verdict: cmd.String("verdict")})
					if err == nil {
						_, err = e.out.Write(octets)
					}
					return err
				})},
			{Name: "remove", Usage: "remove a comparison that is kept", ArgsUsage: "APPLICATION NUMBER",
				Action: e.action([]string{"APPLICATION", "NUMBER"}, func(ctx context.Context, _ *ucli.Command, c *client.Client,
					args []string) error {
					id, err := comparisonNumber(args[1])
					if err == nil {
						err = client.Do(ctx, c, api.RemoveComparison, api.OneComparison{Name: args[0], ID: id})
					}
					if err == nil {
						fmt.Fprintf(e.out, "removed comparison %d of %s\n", id, args[0])
					}
					return err
				})},
		}}
}

func comparisonNumber(word string) (int64, error) {
	return numberOf(word, "comparison", "innergate accounts list APPLICATION shows them.")
}

func (e *environment) compareAccounts(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	f, err := e.opened(args[1])
	if err != nil {
		return err
	}
	defer f.Close()
	j, err := client.Upload(ctx, c, api.ComparePeople, api.Name(args[0]),
		api.CompareAccounts{Column: cmd.String("column"), Identifier: cmd.String("identifier"),
			Group: cmd.String("group")}, f)
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	if j.Compared == nil {
		return fmt.Errorf("the gate told nothing of the comparison")
	}
	x := *j.Compared
	return e.print(cmd, x, func(w io.Writer) {
		e.comparison(w, x)
		fmt.Fprintf(w, "\nThe lines: innergate accounts show %s --verdict case\n", args[0])
	})
}

func (e *environment) comparison(w io.Writer, x api.Comparison) {
	fmt.Fprintf(w, "%d of %d accounts fit exactly, by %s and %s\n", x.Counts[compare.Exact], x.Accounts, x.Column,
		x.Identifier)
	if x.NotTold {
		rule, _ := json.Marshal(x.Rule) // texts only
		fmt.Fprintf(w, "The application is not told %s yet. Add this rule to its releaseMapping: %s\n",
			strings.TrimPrefix(x.Identifier, "profile:"), rule)
	}
	fmt.Fprintln(w)
	var t table
	for _, v := range compare.Verdicts {
		says := verdictSays[v]
		if v == compare.Exact && x.NotTold {
			says = "the application will find the person, once it is told"
		}
		if n := x.Counts[v]; n > 0 {
			t.add("verdict!", string(v), "lines", fmt.Sprint(n), "what it means", says)
		}
	}
	e.tell(w, t, "")
	if len(x.Changes) > 0 {
		fmt.Fprintln(w, "\nWhat would have more fit exactly, in a rule of the release:")
		var t table
		for _, ch := range x.Changes {
			steps, _ := json.Marshal(ch.Steps) // texts only
			t.add("gains!", fmt.Sprintf("+%d", ch.Gains), "change!", ch.Say, "steps", string(steps))
		}
		e.tell(w, t, "")
	}
	if len(x.Rates) > 0 {
		fmt.Fprintln(w, "\nHow well headings fit what identifies people:")
		var t table
		for _, r := range x.Rates {
			t.add("heading!", r.Heading, "identifier!", r.Name, "exact", fmt.Sprintf("%d of %d", r.Exact, r.Of), "nearly",
				fmt.Sprint(r.Near))
		}
		e.tell(w, t, "")
	}
	if b := x.Before; b != nil {
		fmt.Fprintf(w, "\nSince comparison %d: %d fit now, %d do not any more; %d accounts came, %d went\n", b.ID, b.FitN,
			b.UnfitN, b.Came, b.Went)
	}
	if x.BadRows > 0 {
		fmt.Fprintf(w, "\n%d rows of the list could not be read, the first: %s\n", x.BadRows, x.Bad[0].Error())
	}
}

// verdictSays is what verdicts mean for whoever reads them.
var verdictSays = map[compare.Verdict]string{
	compare.Exact: "the application finds the person", compare.Case: "the same but for capital and small letters",
	compare.Space: "the same but for white space", compare.Domain: "the same but for the domain",
	compare.Ambiguous:    "several people fit, or the one who does has another account",
	compare.Disabled:     "the account of somebody who is let in no more",
	compare.MissingHere:  "an account that fits nobody who is known here",
	compare.MissingThere: "a person, and no account"}

func (e *environment) listComparisons(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	l, err := client.Call(ctx, c, api.ListComparisons, api.Name(args[0]))
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, x := range l.Items {
			t.add("comparison!", fmt.Sprint(x.ID),
				"fit", fmt.Sprintf("%d of %d", x.Counts[compare.Exact], x.Accounts), "heading", x.Column,
				"identifier", x.Identifier, "group", dash(x.Group), "by", x.Who,
				"made@", brief(x.At, time.Now()))
		}
		e.tell(w, t, "None yet. Make one with innergate accounts compare "+args[0]+" FILE.")
	})
}

func (e *environment) showComparison(ctx context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	if len(args) == 0 || len(args) > 2 {
		return &usageError{"give APPLICATION, and the number of a comparison if it is not the newest",
			"innergate accounts show crew-roster"}
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	var id int64
	if len(args) == 2 {
		id, err = comparisonNumber(args[1])
	} else {
		var all api.List[api.Comparison]
		if all, err = client.Call(ctx, c, api.ListComparisons, api.Name(args[0])); err == nil && len(all.Items) == 0 {
			return &usageError{args[0] + " was not compared yet", "Compare its accounts with innergate accounts compare " +
				args[0] + " FILE."}
		} else if err == nil {
			id = all.Items[0].ID
		}
	}
	if err != nil {
		return err
	}
	x, err := client.Call(ctx, c, api.ShowComparison, api.ComparisonPage{ComparisonExport: api.ComparisonExport{
		OneComparison: api.OneComparison{Name: args[0], ID: id}, Verdict: cmd.String("verdict")}, Offset: cmd.Int("offset"),
		Limit: cmd.Int("limit")})
	if err != nil {
		return err
	}
	return e.print(cmd, x, func(w io.Writer) {
		var t table
		for _, l := range x.Lines {
			line, person, others := "-", "-", []string{}
			if l.Line != 0 {
				line = fmt.Sprint(l.Line)
			}
			if l.Person != 0 {
				person = fmt.Sprint(l.Person)
			}
			for _, o := range l.Others {
				others = append(others, fmt.Sprint(o))
			}
			t.add("verdict!", string(l.Verdict), "line", line, "account!", dash(l.Account),
				"told!", dash(l.Value), "person", person, "name", dash(l.Name),
				"also", dash(strings.Join(others, " ")))
		}
		e.tell(w, t, "No lines.")
		if n := cmd.Int("offset") + len(x.Lines); n < x.Total {
			fmt.Fprintf(w, "\n%d of %d; for the next ones add --offset %d\n", len(x.Lines), x.Total, n)
		}
	})
}
