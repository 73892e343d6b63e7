package cli

import (
	"cmp"
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

// wantedFlags say whom something is done to, in place of numbers.
func wantedFlags() []ucli.Flag {
	return append(peopleFlags(),
		&ucli.StringFlag{Name: "list",
			Usage: "in place of numbers: those who stand in this list, CSV or JSON, or - for standard input"},
		&ucli.StringFlag{Name: "by", Usage: "heading of the list by which they are found"},
		&ucli.BoolFlag{Name: "dry-run",
			Usage: "only tell whom it would be about, what would end, and whom it would shut out of what"}, yesFlag)
}

// wanted reads whom something is done to: numbers before anything else, or a list, or a search.
func (e *environment) wanted(cmd *ucli.Command) (w api.PeopleWanted, rest []string, err error) {
	f := peopleFilter(cmd)
	w = api.PeopleWanted{Search: f.Search, State: f.State, Group: f.Group, Organisation: f.Organisation,
		UserType: f.UserType,
		Provider: f.Provider, By: cmd.String("by")}
	searched := f != api.PeopleFilter{}
	rest = cmd.Args().Slice()
	for len(rest) > 0 && !strings.Contains(rest[0], "=") {
		n, err := personNumber(rest[0])
		if err != nil {
			return w, nil, err
		}
		w.Numbers, rest = append(w.Numbers, n), rest[1:]
	}
	if file := cmd.String("list"); file != "" {
		in, err := e.opened(file)
		if err != nil {
			return w, nil, err
		}
		defer in.Close()
		text, err := io.ReadAll(in)
		if err != nil {
			return w, nil, err
		}
		w.List = string(text)
	}
	said := 0
	for _, one := range []bool{searched, len(w.Numbers) > 0, cmd.String("list") != ""} {
		if one {
			said++
		}
	}
	switch {
	case said == 0:
		return w, nil, &usageError{"NUMBER is missing", "Give numbers, or --list, or --search, --group and the like."}
	case said > 1:
		return w, nil, &usageError{"it is said in several ways whom it is about", "Give numbers, or a list, or a search."}
	}
	return w, rest, nil
}

// doesMany does one thing to people: to one at once, to several after it was told what that comes to.
func (e *environment) doesMany(do, said string, one doing) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		w, rest, err := e.wanted(cmd)
		if err != nil {
			return err
		}
		in := api.PeopleChange{People: w, Do: do}
		switch {
		case do == "set":
			if in.Set, err = personChange(cmd, rest); err == nil &&
				len(in.Set.Values)+len(in.Set.Marks)+len(in.Set.Join)+len(in.Set.Leave) == 0 {
				err = &usageError{"nothing is to be changed", "Give ATTRIBUTE=VALUE, --mark, --join or --leave."}
			}
		case len(rest) > 0:
			err = &usageError{fmt.Sprintf("%q is no number of a person", rest[0]),
				"Values are changed with innergate person set."}
		}
		if err != nil {
			return err
		}
		c, err := e.dial(cmd)
		if err != nil {
			return err
		}
		if len(w.Numbers) == 1 && !cmd.Bool("dry-run") {
			return one(ctx, cmd, c, append([]string{strconv.FormatInt(w.Numbers[0], 10)}, rest...))
		}
		return e.changePeople(ctx, cmd, c, in, said)
	}
}

func (e *environment) changePeople(ctx context.Context, cmd *ucli.Command, c *client.Client, in api.PeopleChange,
	said string) error {
	seen, err := client.Call(ctx, c, api.ChangePeople, api.Body(in))
	if err != nil {
		return err
	}
	acts := seen.People - seen.Same
	if cmd.Bool("dry-run") || acts == 0 {
		return e.print(cmd, seen, func(w io.Writer) { e.peopleChange(w, seen, said) })
	}
	if !cmd.Bool("yes") && !e.quiet {
		e.peopleChange(e.err, seen, said)
	}
	if err := e.confirm(cmd, fmt.Sprintf("%s would be %s", countPeople(acts), said)); err != nil {
		return err
	}
	in.Digest = seen.Digest
	done, err := client.Call(ctx, c, api.ChangePeople, api.Body(in))
	if err != nil {
		return err
	}
	return e.print(cmd, done, func(w io.Writer) {
		fmt.Fprintf(w, "%s %s; %s ended, %s\n", said, countPeople(acts), counted(done.Sessions, "session"),
			counted(done.Grants, "grant"))
		e.consequence(w, done.Consequence, "are")
		takenBack(w, done.Back)
	})
}

// takenBack says how something is taken back, if there is anything.
func takenBack(w io.Writer, back string) {
	if back != "" {
		fmt.Fprintf(w, "to take it back: %s\n", back)
	}
}

// peopleChange tells what a change of people comes to.
func (e *environment) peopleChange(w io.Writer, p api.PeopleChanged, said string) {
	acts := p.People - p.Same
	fmt.Fprintf(w, "%s would be %s", countPeople(acts), said)
	if p.Same > 0 {
		fmt.Fprintf(w, "; nothing becomes of %d more", p.Same)
	}
	fmt.Fprintf(w, "; %s and %s would end\n", counted(p.Sessions, "session"), counted(p.Grants, "grant"))
	if p.Consequence != nil {
		p.Consequence.Confirm = "" // the whole of it is confirmed, by --yes
	}
	e.consequence(w, p.Consequence, "would be")
	takenBack(w, p.Back)
	var t table
	for _, r := range p.Listed {
		t.add("person!", fmt.Sprint(r.Person), "name!", r.Name, "becomes!", didWords(r.Did))
	}
	e.tell(w, t, "")
	if n := acts - len(p.Listed); n > 0 {
		fmt.Fprintf(w, "and %d more\n", n)
	}
}

// didWords says in a line what was done to somebody.
func didWords(d api.PersonDid) string {
	var words []string
	if d.State != "" {
		words = append(words, d.State)
	}
	if d.Other != 0 {
		words = append(words, fmt.Sprintf("person %d", d.Other))
	}
	units := func(all []api.UnitName) (out []string) {
		for _, u := range all {
			out = append(out, u.Kind+"/"+u.Name)
		}
		return out
	}
	for _, x := range []struct {
		what string
		of   []string
	}{{"values of", d.Values}, {"joined", units(d.Joined)}, {"left", units(d.Left)}, {"stays in", units(d.Stays)},
		{"linked to", d.Linked},
		{"no longer linked to", d.Unlinked}, {"admitted to", d.Admitted}, {"no longer admitted to", d.Unadmitted},
		{"known to", d.Known}} {
		if len(x.of) > 0 {
			words = append(words, x.what+" "+strings.Join(x.of, ", "))
		}
	}
	if d.More > 0 {
		words = append(words, fmt.Sprintf("and %d more", d.More))
	}
	return cmp.Or(strings.Join(words, "; "), "(the person is gone)")
}

// events lists what was done to people.
func (e *environment) events() *ucli.Command {
	return &ucli.Command{Name: "events",
		Usage:       "what was done to people, and by whom, the oldest first; gone after a time",
		Description: "It says of what, never what it is or was. To go on where an earlier call ended, give its next as --after.",
		Flags: []ucli.Flag{&ucli.StringFlag{Name: "since",
			Usage: "done since then: 2h, 3d, 2026-11-26 or 2026-11-26T08:00:00Z"},
			&ucli.Int64Flag{Name: "after", Usage: "number of the last event seen"},
			&ucli.Int64Flag{Name: "person", Usage: "only what was done to this one"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100}},
		Action: e.action(nil, e.listEvents)}
}

func (e *environment) listEvents(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	in := api.EventFilter{After: cmd.Int64("after"), Person: cmd.Int64("person"), Limit: cmd.Int("limit")}
	if since := cmd.String("since"); since != "" {
		var err error
		if in.Since, err = ago(since, time.Now()); err != nil {
			return err
		}
	}
	p, err := client.Call(ctx, c, api.ListEvents, in)
	if err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) {
		var t table
		for _, x := range p.Items {
			t.add("event", fmt.Sprint(x.Number), "at@", brief(x.At, time.Now()), "person!", fmt.Sprint(x.Person), "by!", x.Via,
				"who", dash(x.Who), "what!", didWords(x.Did))
		}
		e.tell(w, t, "Nothing was done to people.")
		fmt.Fprintf(w, "\nTo go on from here: --after %d\n", p.Next)
	})
}

// recipients are the commands about who is told of events.
func (e *environment) recipients() *ucli.Command {
	return &ucli.Command{Name: "recipient", Usage: "who is told what is done to people, or how rehearsals go: signed tokens are posted to them",
		Commands: append([]*ucli.Command{
			{Name: "list", Usage: "list recipients, and how far they have heard", Action: e.action(nil, e.listRecipients)},
		}, e.ownCommands(ownKind{"recipient", "a recipient", "title, address, about, paused",
			"title=TITLE address=https://…"})...)}
}

func (e *environment) listRecipients(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListRecipients, api.None{})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, r := range l.Items {
			state := "heard all"
			switch {
			case r.Paused:
				state = "paused"
			case r.Tries > 0:
				state = fmt.Sprintf("failed %s: %s", counted(int64(r.Tries), "time"), r.Answer)
			case r.Waiting > 0:
				state = "on the way"
			}
			t.add("recipient!", r.Name, "title", r.Title, "about", cmp.Or(r.About, "people"), "address!", r.Address, "waiting",
				fmt.Sprint(r.Waiting), "state!", state)
		}
		e.tell(w, t, "No recipients. Make one with innergate recipient put NAME title=TITLE address=https://…")
	})
}
