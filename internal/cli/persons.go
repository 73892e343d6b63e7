package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strconv"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/person"
)

// peopleFlags narrow a list of people.
func peopleFlags() []ucli.Flag {
	return []ucli.Flag{
		&ucli.StringFlag{Name: "search", Usage: "words that begin something known of them: names, addresses, numbers"},
		&ucli.StringFlag{Name: "state", Usage: "enabled or disabled; both if absent"},
		&ucli.StringFlag{Name: "group", Usage: "in this group, or in one that lies in it"},
		&ucli.StringFlag{Name: "organisation", Usage: "of this organisation"},
		&ucli.StringFlag{Name: "user-type", Usage: "marked so"},
		&ucli.StringFlag{Name: "provider", Usage: "linked to this provider"}}
}

func peopleFilter(cmd *ucli.Command) api.PeopleFilter {
	return api.PeopleFilter{Search: cmd.String("search"), State: cmd.String("state"), Group: cmd.String("group"),
		Organisation: cmd.String("organisation"), UserType: cmd.String("user-type"), Provider: cmd.String("provider")}
}

// editFlags say what changes about somebody.
func editFlags() []ucli.Flag {
	return []ucli.Flag{
		&ucli.StringSliceFlag{Name: "join",
			Usage: "group/NAME or organisation/NAME to belong to; may be given several times"},
		&ucli.StringSliceFlag{Name: "mark",
			Usage: "type of a value, and that it is the primary one, like emails=ada@wrenmoor.example:work+primary"},
		&ucli.StringSliceFlag{Name: "leave", Usage: "likewise, to be taken out of"}}
}

// persons are the commands about accounts of people.
func (e *environment) persons() []*ucli.Command {
	state := func(what, usage, said string, o api.Operation[api.OnePerson, api.PersonShown]) *ucli.Command {
		return &ucli.Command{Name: what, Usage: usage, ArgsUsage: "NUMBER …", Flags: wantedFlags(),
			Action: e.doesMany(what, said, e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown,
				error) {
				return client.Call(ctx, c, o, api.Number(n))
			}))}
	}
	return []*ucli.Command{
		{Name: "list", Usage: "list people, or search for them", Flags: append(peopleFlags(),
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100},
			&ucli.StringFlag{Name: "after", Usage: "what the page before says is next"}),
			Action: e.action(nil, e.listPeople)},
		{Name: "show", Usage: "show one, with what they hold", ArgsUsage: "NUMBER",
			Action: e.action([]string{"NUMBER"}, e.onPerson(func(ctx context.Context, c *client.Client,
				n int64) (api.PersonShown, error) {
				return client.Call(ctx, c, api.ShowPerson, api.Number(n))
			}))},
		{Name: "told", Usage: "show what an application would be told of somebody, by what the gate knows",
			ArgsUsage: "NUMBER APPLICATION",
			Action:    e.action([]string{"NUMBER", "APPLICATION"}, e.personTold)},
		{Name: "add", Usage: "make somebody known before they come", ArgsUsage: "[PROVIDER NAME] [ATTRIBUTE=VALUE …]",
			Description: "NAME is what the provider calls them: NameID or sub, or what its intake makes the subject of.\n" +
				"Without one they are found by values, if a provider matches by these (matchBy). Several values of one\n" +
				"attribute are separated by |.",
			Flags:  append(editFlags(), &ucli.StringFlag{Name: "format", Usage: "NameID format, as it will come"}),
			Action: e.addPerson},
		{Name: "set", Usage: "change what is kept of somebody, and where they belong",
			ArgsUsage:   "NUMBER … [ATTRIBUTE=VALUE …]",
			Description: "An empty value takes the attribute away. Several values are separated by |.",
			Flags:       append(editFlags(), wantedFlags()...), Action: e.doesMany("set", "changed", e.setPerson)},
		{Name: "entries", Usage: "show which applications somebody enters, and by what", ArgsUsage: "NUMBER",
			Action: e.action([]string{"NUMBER"}, e.personEntries)},
		{Name: "link", Usage: "link somebody to a further name of a provider for them", ArgsUsage: "NUMBER PROVIDER NAME",
			Flags: []ucli.Flag{&ucli.StringFlag{Name: "format", Usage: "NameID format, as it will come"}},
			Action: e.action([]string{"NUMBER", "PROVIDER", "NAME"}, func(ctx context.Context, cmd *ucli.Command,
				c *client.Client, args []string) error {
				return e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown, error) {
					return client.Call(ctx, c, api.LinkPerson, api.ToPerson(n, api.PersonLink{Provider: args[1], Subject: args[2],
						Format: cmd.String("format")}))
				})(ctx, cmd, c, args)
			})},
		{Name: "join", Usage: "make one account of two: OTHER goes, its links come to NUMBER", ArgsUsage: "NUMBER OTHER",
			Description: "Without --digest it only tells what would be, and the digest to join with.",
			Flags: []ucli.Flag{&ucli.StringFlag{Name: "digest", Usage: "of what was looked at"},
				&ucli.BoolFlag{Name: "enable", Usage: "let the one that stays in, though one of the two is disabled"}},
			Action: e.action([]string{"NUMBER", "OTHER"}, e.joinPeople)},
		{Name: "part", Usage: "take a link away from somebody, and make an account of its own for it",
			ArgsUsage:   "NUMBER PROVIDER",
			Description: "All sessions of the person end. Where they have several links to the provider, name the one with --name.",
			Flags:       []ucli.Flag{&ucli.StringFlag{Name: "name", Usage: "what the provider calls them by this link"}},
			Action:      e.action([]string{"NUMBER", "PROVIDER"}, e.partPerson)},
		state("disable", "let people in no more; their sessions end at once, and what these gave", "disabled",
			api.DisablePerson),
		state("enable", "let people in again", "enabled", api.EnablePerson),
		{Name: "remove", Usage: "remove people with all that is theirs, traces too; that it was done stays in the history",
			ArgsUsage: "NUMBER …", Flags: wantedFlags(), Action: e.doesMany("remove", "removed", e.removePerson)},
		e.events(),
	}
}

func personNumber(word string) (int64, error) {
	return numberOf(word, "person", "People are numbered from 1; innergate person list --search NAME finds them.")
}

// numberOf reads the number of something; hint says where numbers are seen.
func numberOf(word, of, hint string) (int64, error) {
	n, err := strconv.ParseInt(word, 10, 64)
	if err != nil || n < 1 {
		return 0, &usageError{fmt.Sprintf("%q is no number of a %s", word, of), hint}
	}
	return n, nil
}

// onPerson does something with one person, and shows them as they are then.
func (e *environment) onPerson(do func(context.Context, *client.Client, int64) (api.PersonShown, error)) doing {
	return func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		n, err := personNumber(args[0])
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

// personChange reads what changes about somebody.
func personChange(cmd *ucli.Command, words []string) (api.PersonChange, error) {
	out := api.PersonChange{Values: map[string][]string{}}
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok || name == "" {
			return out, &usageError{fmt.Sprintf("%q is not ATTRIBUTE=VALUE", w), "Write it like displayName=\"Mina Thorne\"."}
		}
		out.Values[name] = []string{}
		for v := range strings.SplitSeq(value, "|") {
			if v = strings.TrimSpace(v); v != "" {
				out.Values[name] = append(out.Values[name], v)
			}
		}
	}
	for _, text := range cmd.StringSlice("mark") {
		m, err := person.MarkOf(text)
		if err != nil {
			return out, &usageError{"--mark: " + err.Error(), "See innergate person set --help."}
		}
		out.Marks = append(out.Marks, api.ValueMark{Attribute: m.Attribute, Value: m.Value, Type: m.Type,
			Primary: m.Primary})
	}
	for option, to := range map[string]*[]api.UnitName{"join": &out.Join, "leave": &out.Leave} {
		for _, u := range cmd.StringSlice(option) {
			kind, name, ok := strings.Cut(u, "/")
			if !ok || kind != "group" && kind != "organisation" {
				return out, &usageError{fmt.Sprintf("--%s: %q names neither a group nor an organisation", option, u),
					"Write it like group/drivers or organisation/oakhollow."}
			}
			*to = append(*to, api.UnitName{Kind: kind, Name: name})
		}
	}
	return out, nil
}

func (e *environment) addPerson(ctx context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	in := api.NewPerson{Format: cmd.String("format")}
	if len(args) > 0 && !strings.Contains(args[0], "=") {
		if len(args) == 1 || strings.TrimSpace(args[1]) == "" {
			return &usageError{"NAME is missing: what the provider calls the person",
				"innergate person add PROVIDER NAME, or only ATTRIBUTE=VALUE."}
		}
		in.Provider, in.Subject, args = args[0], args[1], args[2:]
	}
	if in.Provider == "" && len(args) == 0 {
		return &usageError{"nothing is said of the person",
			"Give PROVIDER and NAME, or ATTRIBUTE=VALUE by which they are found, or both."}
	}
	var err error
	if in.PersonChange, err = personChange(cmd, args); err != nil {
		return err
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, api.AddPerson, api.Body(in))
	if err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) { e.person(w, p) })
}

func (e *environment) setPerson(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	in, err := personChange(cmd, args[1:])
	if err != nil {
		return err
	}
	return e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown, error) {
		return client.Call(ctx, c, api.ChangePerson, api.ToPerson(n, in))
	})(ctx, cmd, c, args[:1])
}

func (e *environment) joinPeople(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := personNumber(args[0])
	if err != nil {
		return err
	}
	other, err := personNumber(args[1])
	if err != nil {
		return err
	}
	out, err := client.Call(ctx, c, api.JoinPeople, api.ToPerson(n, api.PersonJoin{Other: other,
		Preview: cmd.String("digest") == "",
		Digest:  cmd.String("digest"),
		Enable:  cmd.Bool("enable")}))
	if err != nil {
		return err
	}
	return e.print(cmd, out, func(w io.Writer) {
		said := fmt.Sprintf("person %d went into %d", other, n)
		if out.Preview {
			said = fmt.Sprintf("person %d would go into %d", other, n)
		}
		fmt.Fprintln(w, said)
		fields(w, [][2]string{{"links that come along", fmt.Sprint(out.Links)}, {"values that come along",
			dash(strings.Join(out.Values, ", "))},
			{"values that stay as they are", dash(strings.Join(out.Differ, ", "))},
			{"groups and organisations", fmt.Sprint(out.Members)},
			{"lasting names that come along", fmt.Sprint(out.Subjects)}, {"lasting names that go",
				dash(strings.Join(out.Lost, ", "))},
			{"sessions that end", fmt.Sprint(out.Sessions)}})
		e.joinedState(w, n, out)
		if out.Preview {
			more := ""
			if cmd.Bool("enable") {
				more = " --enable"
			}
			fmt.Fprintf(w, "\nNothing is stored yet. Join with --digest %s%s\n", out.Digest, more)
		}
	})
}

// joinedState says whether the account that stays may come in, where one of the two may not.
func (e *environment) joinedState(w io.Writer, n int64, out api.PersonJoined) {
	if len(out.Disabled) == 0 {
		return
	}
	who := make([]string, len(out.Disabled))
	for i, d := range out.Disabled {
		who[i] = fmt.Sprint(d)
	}
	state := fmt.Sprintf("person %d is let in", n)
	if !out.Enabled {
		state = fmt.Sprintf("person %d is disabled too; to let them in, give --enable", n)
	}
	fmt.Fprintf(w, "\ndisabled now: %s. Afterwards %s.\n", strings.Join(who, ", "), state)
}

func (e *environment) partPerson(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := personNumber(args[0])
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, api.ShowPerson, api.Number(n))
	if err != nil {
		return err
	}
	var keys, names []string
	for _, k := range p.Links {
		if k.Provider.Name != args[1] && k.Provider.ID != args[1] {
			continue
		}
		if name := cmd.String("name"); name == "" || k.Subject != nil && k.Subject.Value == name {
			keys = append(keys, k.Key)
			if k.Subject != nil {
				names = append(names, k.Subject.Value)
			}
		}
	}
	switch {
	case len(keys) == 0:
		return &usageError{fmt.Sprintf("person %d has no such link to %s", n, args[1]),
			fmt.Sprintf("innergate person show %d lists their links.", n)}
	case len(keys) > 1:
		return &usageError{fmt.Sprintf("person %d has %d links to %s", n, len(keys), args[1]), "Name the one with --name: " +
			strings.Join(names, ", ") + "."}
	}
	return e.onPerson(func(ctx context.Context, c *client.Client, n int64) (api.PersonShown, error) {
		return client.Call(ctx, c, api.PartPerson, api.ToPerson(n, api.PersonPart{Link: keys[0]}))
	})(ctx, cmd, c, args)
}

func (e *environment) personTold(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := personNumber(args[0])
	if err != nil {
		return err
	}
	m, err := client.Call(ctx, c, api.ToldPerson, api.Telling{OnePerson: api.Number(n), Application: args[1]})
	if err != nil {
		return err
	}
	return e.print(cmd, m, func(w io.Writer) { e.mapped(w, m) })
}

func (e *environment) removePerson(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	n, err := personNumber(args[0])
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, api.ShowPerson, api.Number(n))
	if err != nil {
		return err
	}
	if !cmd.Bool("yes") {
		e.person(e.out, p)
		return &usageError{"this would be removed: it is not done unasked", "Add --yes, if it is meant."}
	}
	if err := client.Do(ctx, c, api.RemovePerson, api.Number(n)); err != nil {
		return err
	}
	fmt.Fprintf(e.out, "removed person %d\n", n)
	return nil
}

// sourceWord says by what something is known.
func sourceWord(s api.KnownBy) string {
	if s.Provider != nil {
		return cmp.Or(s.Provider.Name, s.Provider.ID)
	}
	return s.Word
}

func (e *environment) person(w io.Writer, p api.PersonShown) {
	state := "enabled"
	if !p.Disabled.IsZero() {
		state = "disabled since " + local(p.Disabled)
	}
	fields(w, [][2]string{{"person", fmt.Sprint(p.Number)}, {"name", p.Name}, {"state", e.colour(state)},
		{"user type", dash(p.UserType)},
		{"added", local(p.Added)},
		{"holds", strings.Join([]string{counted(int64(len(p.Sessions)), "session"), counted(p.Grants, "grant"),
			counted(int64(len(p.Subjects)), "lasting name"), counted(p.Consents, "consent")}, ", ")}})
	fmt.Fprintln(w)
	e.linkTable(w, p.Links, "No links: nobody comes as this person until a provider matches them.")
	if len(p.Values) > 0 {
		fmt.Fprintln(w)
		var t table
		for _, v := range p.Values {
			words := make([]string, len(v.Values))
			for i, one := range v.Values {
				words[i] = inWords(one)
				for _, m := range v.Marks {
					if m.Value == words[i] {
						words[i] += " (" + markWords(m) + ")"
						break
					}
				}
			}
			t.add("kept!", v.Name, "value", strings.Join(words, " | "), "from", sourceWord(v.Source),
				"proof", proofWord(v.Proofs), "since@", brief(v.At, time.Now()))
		}
		e.tell(w, t, "")
	}
	if len(p.Members) > 0 {
		fmt.Fprintln(w)
		var t table
		for _, m := range p.Members {
			t.add("belongs to!", m.Kind+"/"+m.Name, "by", sourceWord(m.Source),
				"since@", brief(m.Added, time.Now()))
		}
		e.tell(w, t, "")
	}
	if len(p.Subjects) > 0 {
		fmt.Fprintln(w)
		var t table
		for _, s := range p.Subjects {
			t.add("known at!", s.Application, "as!", s.Value, "source", s.Source)
		}
		e.tell(w, t, "")
	}
}

// markWords says of what type a value is, and whether it is the primary one.
func markWords(m api.ValueMark) string {
	return strings.Trim(m.Type+map[bool]string{true: ", primary"}[m.Primary], ", ")
}

func counted(n int64, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

func (e *environment) listPeople(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	f := api.PeoplePage{PeopleFilter: peopleFilter(cmd), After: cmd.String("after"), Limit: cmd.Int("limit")}
	l, err := client.Call(ctx, c, api.ListPeople, f)
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		var t table
		for _, p := range l.Items {
			state, names, units := "enabled", []string{}, []string{}
			if !p.Disabled.IsZero() {
				state = "disabled"
			}
			for _, k := range p.Links {
				names = append(names, linkName(k.Provider))
			}
			for _, m := range p.Members {
				if !slices.Contains(units, m.Name) {
					units = append(units, m.Name)
				}
			}
			t.add("person!", fmt.Sprint(p.Number), "state", state, "name!", p.Name, "type", dash(p.UserType),
				"comes by", dash(strings.Join(names, ", ")), "belongs to", dash(strings.Join(units, ", ")),
				"added@", brief(p.Added, time.Now()))
		}
		empty := "Nobody is known yet: people are at their first sign-in, or take a list in with innergate person import."
		if f.PeopleFilter != (api.PeopleFilter{}) {
			empty = "Nobody like that."
		}
		e.tell(w, t, empty)
		if l.Next != "" {
			fmt.Fprintf(w, "\n%s; for the next ones add --after %s\n", ofMany(int64(len(l.Items)), l.Total), l.Next)
		}
	})
}

// ofMany says how many are shown, and of how many if somebody counted.
func ofMany(n, total int64) string {
	if total < 0 {
		return fmt.Sprintf("%d, and more", n)
	}
	return fmt.Sprintf("%d of %d", n, total)
}

// proofWords say by what a value is proved.
var proofWords = map[string]string{"": "not proved", "mail": "by mailed code", "engineer": "by an engineer",
	"domain": "by its domain",
	"flag":   "said verified", "record": "by its record"}

// proofWord says by what values are proved: once, if it is the same for all.
func proofWord(proofs []string) string {
	words := make([]string, len(proofs))
	for i, p := range proofs {
		words[i] = proofWords[p]
	}
	if len(slices.Compact(slices.Clone(words))) == 1 {
		return words[0]
	}
	return strings.Join(words, " | ")
}
