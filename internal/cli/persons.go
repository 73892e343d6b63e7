package cli

import (
	"context"
	"fmt"
	"io"
	"strconv"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// persons are the commands about accounts of people.
func (e *environment) persons() []*ucli.Command {
	return []*ucli.Command{
		{Name: "list", Usage: "list people by their numbers", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "state", Usage: "enabled or disabled; both if absent"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100},
			&ucli.Int64Flag{Name: "after", Usage: "go on after the person with this number"}},
			Action: e.action(nil, e.listPeople)},
		{Name: "show", Usage: "show one, with what they hold", ArgsUsage: "NUMBER",
			Action: e.action([]string{"NUMBER"}, e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown, error) {
				return c.Person(ctx, n)
			}))},
		{Name: "add", Usage: "make somebody known before they come", ArgsUsage: "PROVIDER NAME",
			Description: "NAME is what the provider calls them: NameID or sub, or what its intake makes the subject of.\n" +
				"With provider set PROVIDER firstSignIn=known nobody else is let in by it.",
			Flags:  []ucli.Flag{&ucli.StringFlag{Name: "format", Usage: "NameID format, as it will come"}},
			Action: e.action([]string{"PROVIDER", "NAME"}, e.addPerson)},
		{Name: "disable", Usage: "let somebody in no more; their sessions end at once, and what these gave", ArgsUsage: "NUMBER",
			Action: e.action([]string{"NUMBER"}, e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown, error) {
				return c.StatePerson(ctx, n, "disable")
			}))},
		{Name: "enable", Usage: "let somebody in again", ArgsUsage: "NUMBER",
			Action: e.action([]string{"NUMBER"}, e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown, error) {
				return c.StatePerson(ctx, n, "enable")
			}))},
		{Name: "remove", Usage: "remove somebody with all that is theirs, traces too; that it was done stays in the history",
			ArgsUsage: "NUMBER", Flags: []ucli.Flag{&ucli.BoolFlag{Name: "yes", Usage: "it is meant; without it, what they hold is only shown"}},
			Action: e.action([]string{"NUMBER"}, e.removePerson)},
	}
}

func numberOf(word string) (int64, error) {
	n, err := strconv.ParseInt(word, 10, 64)
	if err != nil || n < 1 {
		return 0, &usageError{fmt.Sprintf("%q is no number of a person", word), "People are numbered from 1; innergate person list shows them."}
	}
	return n, nil
}

// onPerson does something with one person, and shows them as they are then.
func (e *environment) onPerson(do func(context.Context, *client.Client, int64) (api.PersonShown, error)) doing {
	return func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		n, err := numberOf(args[0])
		if err != nil {
			return err
		}
		p, err := do(ctx, c, n)
		if err != nil {
			return err
		}
		return e.print(cmd, p, func(w io.Writer) { e.person(w, p) })
	}
}

func (e *environment) addPerson(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	p, err := c.AddPerson(ctx, api.NewPerson{Provider: args[0], Subject: args[1], Format: cmd.String("format")})
	if err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) { e.person(w, p) })
}

func (e *environment) removePerson(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := numberOf(args[0])
	if err != nil {
		return err
	}
	p, err := c.Person(ctx, n)
	if err != nil {
		return err
	}
	if !cmd.Bool("yes") {
		e.person(e.out, p)
		return &usageError{"this would be removed: it is not done unasked", "Add --yes, if it is meant."}
	}
	if err := c.RemovePerson(ctx, n); err != nil {
		return err
	}
	fmt.Fprintf(e.out, "removed person %d\n", n)
	return nil
}

func (e *environment) person(w io.Writer, p api.PersonShown) {
	state := "enabled"
	if !p.Disabled.IsZero() {
		state = "disabled since " + local(p.Disabled)
	}
	fields(w, [][2]string{{"person", fmt.Sprint(p.Number)}, {"state", e.colour(state)}, {"added", local(p.Added)},
		{"holds", strings.Join([]string{counted(p.Sessions, "session"), counted(p.Grants, "grant"),
			counted(p.Subjects, "lasting name"), counted(p.Consents, "consent")}, ", ")}})
	fmt.Fprintln(w)
	e.linkTable(w, p.Links, "No links: nobody comes as this person.")
	for _, v := range p.Values {
		words := make([]string, len(v.Values))
		for i, one := range v.Values {
			words[i] = inWords(one)
		}
		fmt.Fprintf(w, "kept  %s: %s, from %s\n", v.Name, strings.Join(words, ", "), linkName(v.From))
	}
}

func counted(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func (e *environment) listPeople(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := c.People(ctx, cmd.String("state"), cmd.Int64("after"), cmd.Int("limit"))
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		rows := [][]string{}
		for _, p := range l.Items {
			state, names := "enabled", []string{}
			if !p.Disabled.IsZero() {
				state = "disabled"
			}
			for _, k := range p.Links {
				name := "not kept"
				if k.Subject != nil {
					name = k.Subject.Value
				}
				names = append(names, name+" ("+linkName(k.Provider)+")")
			}
			rows = append(rows, []string{fmt.Sprint(p.Number), state, strings.Join(names, ", "), brief(p.Added, time.Now())})
		}
		e.table(w, columns("person!", "state", "known as", "added@"), rows, "Nobody is known yet: people are at their first sign-in.")
		if n := len(l.Items); int64(n) < l.Total && n > 0 {
			fmt.Fprintf(w, "\n%d of %d; for the next ones add --after %d\n", n, l.Total, l.Items[n-1].Number)
		}
	})
}
