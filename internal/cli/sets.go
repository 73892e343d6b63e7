package cli

import (
	"cmp"
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// sets are the named mappings that records share.
func (e *environment) sets() *ucli.Command {
	file := []ucli.Flag{
		&ucli.StringFlag{Name: "way", Usage: "intake, for providers, or release, for applications; of a new one"},
		&ucli.StringFlag{Name: "title", Usage: "what people read"},
		&ucli.StringFlag{Name: "notes", Usage: "why it is so"},
		&ucli.StringFlag{Name: "mapping", Usage: "file with its rules, as mapping show prints them"}}
	return &ucli.Command{Name: "set", Usage: "named mappings that several records share", Commands: []*ucli.Command{
		{Name: "list", Usage: "list them, with how many share each", Action: e.action(nil, e.listSets)},
		{Name: "show", Usage: "show the rules of one, and who shares it", ArgsUsage: "NAME",
			Action: e.action([]string{"NAME"}, e.showSet)},
		{Name: "put", Usage: "make one, or change it: everybody who shares it follows at once", ArgsUsage: "NAME",
			Description: "What is not named stays. A record shares it by provider set NAME intakeSet=SET or\n" +
				"app set NAME releaseSet=SET; its own rules are laid over those of the set.\n" +
				"innergate reevaluate --set NAME --mapping FILE shows before whom it affects.",
			Flags: append([]ucli.Flag{&ucli.BoolFlag{Name: "dry-run",
				Usage: "only tell what it would do to people who signed in lately"}},
				file...), Action: e.action([]string{"NAME"}, e.putSet)},
		{Name: "remove", Usage: "remove one that nobody shares", ArgsUsage: "NAME",
			Action: e.action([]string{"NAME"}, func(ctx context.Context, _ *ucli.Command, c *client.Client,
				args []string) error {
				if err := client.Do(ctx, c, api.RemoveSet, api.Name(args[0])); err != nil {
					return err
				}
				fmt.Fprintf(e.out, "removed %s\n", args[0])
				return nil
			})},
	}}
}

func (e *environment) listSets(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	list, err := client.Call(ctx, c, api.ListSets, api.None{})
	if err != nil {
		return err
	}
	return e.print(cmd, list.Items, func(w io.Writer) {
		var t table
		for _, s := range list.Items {
			t.add("name!", s.Name, "way", s.Way, "rules", fmt.Sprint(len(s.Mapping.Rules)),
				"shared by", fmt.Sprint(len(s.Using)), "title", s.Title)
		}
		e.tell(w, t, "No sets. Make one with innergate set put NAME --way release --title TITLE --mapping FILE.")
	})
}

func (e *environment) showSet(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	s, err := client.Call(ctx, c, api.ShowSet, api.Name(args[0]))
	if err != nil {
		return err
	}
	return e.print(cmd, s, func(w io.Writer) { e.setShown(w, s) })
}

func (e *environment) setShown(w io.Writer, s api.Set) {
	fields(w, [][2]string{{"name", s.Name}, {"title", s.Title}, {"way", s.Way}, {"notes", dash(s.Notes)},
		{"revision", fmt.Sprint(s.Revision)}})
	fmt.Fprintln(w)
	notes := make([]string, len(s.Mapping.Rules))
	for i, r := range s.Mapping.Rules {
		notes[i] = r.Note
	}
	e.rules(w, s.Mapping, "note", notes, "No rules: everything passes unchanged.")
	fmt.Fprintf(w, "\nshared by %d\n", len(s.Using))
	for _, path := range s.Using {
		fmt.Fprintf(w, "  %s%s\n", path, deviating(s.Deviating, path))
	}
}

// deviating says what a record lays over its set.
func deviating(all []api.Deviation, path string) (out string) {
	for _, d := range all {
		if d.Record == path && len(d.Own) > 0 {
			out += ", makes by its own rules: " + strings.Join(d.Own, ", ")
		}
		if d.Record == path && len(d.Omits) > 0 {
			out += ", leaves out: " + strings.Join(d.Omits, ", ")
		}
	}
	return out
}

// changedSet is a set as the options have it, over what there is.
func (e *environment) changedSet(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.SetChange,
	error) {
	list, err := client.Call(ctx, c, api.ListSets, api.None{})
	if err != nil {
		return api.SetChange{}, err
	}
	var out api.SetChange
	at := slices.IndexFunc(list.Items, func(s api.Set) bool { return s.Name == name })
	if at >= 0 {
		out = list.Items[at].SetChange
	}
	out.Way = cmp.Or(cmd.String("way"), out.Way)
	out.Title = cmp.Or(cmd.String("title"), out.Title, name)
	out.Notes = cmp.Or(cmd.String("notes"), out.Notes)
	m, err := e.mappingFile("--mapping", cmd.String("mapping"))
	if err != nil {
		return out, err
	}
	if m != nil {
		out.Mapping = *m
	}
	if out.Way == "" {
		return out, &usageError{fmt.Sprintf("there is no set %q yet, and it is not said what for", name),
			"Give --way intake or --way release."}
	}
	return out, nil
}

func (e *environment) putSet(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	change, err := e.changedSet(ctx, cmd, c, args[0])
	if err != nil {
		return err
	}
	if cmd.Bool("dry-run") {
		got, err := client.Call(ctx, c, api.WeighChange, api.Body(api.Proposed{Set: &api.NamedSet{Name: args[0],
			SetChange: change}}))
		if err != nil {
			return err
		}
		return e.print(cmd, got, func(w io.Writer) { e.consequence(w, &got, "would be") })
	}
	s, err := client.Call(ctx, c, api.PutSet, api.To(args[0], change))
	if err != nil {
		return err
	}
	return e.print(cmd, s, func(w io.Writer) {
		e.setShown(w, s)
		e.consequence(w, s.Consequence, "are")
	})
}

// reevaluate runs recorded crossings through a change.
func (e *environment) reevaluate() *ucli.Command {
	return &ucli.Command{Name: "reevaluate",
		Usage:     "run recorded sign-ins through a change before it is saved; exit status 3 if it shuts somebody out",
		ArgsUsage: "[RECORD SETTING=VALUE … …]",
		Description: "RECORD is like provider/oakhollow or application/crew-roster; the settings behind it are its own.\n" +
			"innergate reevaluate provider/oakhollow intakeMapping=@intake.json application/crew-roster phase=paused",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "set", Usage: "a set that would change, or be made"},
			&ucli.StringFlag{Name: "mapping", Usage: "file with the rules that the set would have"},
			&ucli.StringFlag{Name: "way", Usage: "of a new set: intake or release"},
			&ucli.StringFlag{Name: "app", Usage: "only sign-ins to this application"},
			&ucli.StringFlag{Name: "provider", Usage: "only sign-ins by this provider"},
			&ucli.IntFlag{Name: "most", Usage: "how many at most, the newest first", Value: 10000}},
		Action: e.runAgain}
}

func (e *environment) runAgain(ctx context.Context, cmd *ucli.Command) error {
	in := api.Reevaluation{Application: cmd.String("app"), Provider: cmd.String("provider"), Most: cmd.Int("most")}
	if in.Most < 1 || in.Most > 10000 {
		return &usageError{fmt.Sprintf("--most is %d", in.Most), "Give 1 to 10000."}
	}
	var err error
	if in.Changes, err = e.proposed(cmd.Args().Slice()); err != nil {
		return err
	}
	if len(in.Changes) == 0 && cmd.String("set") == "" {
		return &usageError{"it is not said what would change",
			"Name a record with its settings, like provider/oakhollow intakeMapping=@intake.json, or a set with --set."}
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	if name := cmd.String("set"); name != "" {
		set, err := e.changedSet(ctx, cmd, c, name)
		if err != nil {
			return err
		}
		in.Set = &api.NamedSet{Name: name, SetChange: set}
	}
	j, err := client.Call(ctx, c, api.Reevaluate, api.Body(in))
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	r := j.Reevaluated
	err = e.print(cmd, r, func(w io.Writer) { e.reevaluated(w, r) })
	if err == nil && r.Shut > 0 {
		return errFound
	}
	return err
}

// proposed reads RECORD SETTING=VALUE … words.
func (e *environment) proposed(words []string) (out []api.SettingChange, err error) {
	for i := 0; i < len(words); {
		if strings.Contains(words[i], "=") {
			return nil, &usageError{fmt.Sprintf("%q stands before any record", words[i]),
				"Name the record first, like provider/oakhollow."}
		}
		kind, name, _, err := ofRecord(words[i])
		if err != nil {
			return nil, err
		}
		end := i + 1
		for end < len(words) && strings.Contains(words[end], "=") {
			end++
		}
		set, err := e.assign(settingList(kind), words[i+1:end])
		if err != nil {
			return nil, err
		}
		out = append(out, api.SettingChange{Kind: kind, Name: name, Settings: set})
		i = end
	}
	return out, nil
}

// reevaluated shows what would be other, person by person: sign-ins that would differ in
// the same way stand together.
func (e *environment) reevaluated(w io.Writer, r *api.Reevaluated) {
	type group struct {
		first api.ReevaluatedCrossing
		times int
		lines []string
	}
	var groups []*group
	known := map[string]*group{}
	for _, x := range r.Listed {
		lines := differencesOf(x)
		key := strings.Join(append([]string{x.Person, x.Application, x.Provider}, lines...), "\x1f")
		if known[key] == nil {
			known[key] = &group{first: x, lines: lines}
			groups = append(groups, known[key])
		}
		known[key].times++
	}
	for _, g := range groups {
		x, times := g.first, ""
		if g.times > 1 {
			times = fmt.Sprintf(", and %d before it", g.times-1)
		}
		fmt.Fprintf(w, "%s  %s at %s, %s%s\n", e.colour(markOf(x)), dash(x.Person), dash(x.Application), x.Trace, times)
		for _, line := range g.lines {
			fmt.Fprintf(w, "  %s\n", line)
		}
	}
	if len(groups) == 0 {
		fmt.Fprintln(w, "The change makes no difference to these sign-ins.")
	}
	fmt.Fprintf(w, "\n%s looked at: %d with the same result, %d with another, %d cannot be told, %d not affected\n",
		counted(int64(r.Looked), "sign-in"), r.Alike, r.Differs, r.Untold, r.Apart)
	fmt.Fprintf(w, "%d of %s affected: %d refused, %d under another name, %d asked something first\n", r.People,
		countPeople(r.Seen), r.Shut, r.Renamed, r.Held)
	if r.Stopped {
		fmt.Fprintln(w, "It took too long: older sign-ins were not looked at. Narrow it with --app, --provider or --most.")
	}
	if more := r.Differs + r.Untold - len(r.Listed); more > 0 {
		fmt.Fprintf(w, "%d more are not listed\n", more)
	}
}

// markOf says in a word what would become of a sign-in.
func markOf(x api.ReevaluatedCrossing) string {
	switch {
	case x.Shut:
		return "refused"
	case x.Renamed:
		return "other name"
	case x.Held:
		return "asked first"
	}
	return x.Verdict
}

// countPeople is a number of people in words.
func countPeople(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}

// consequence says what a change does, or did, to people who signed in lately.
func (e *environment) consequence(w io.Writer, c *api.Consequence, verb string) {
	if c == nil {
		return
	}
	parts := []string{}
	for _, x := range []struct {
		n    int
		what string
	}{{c.Shut, "refused"}, {c.Renamed, "given another name"}, {c.Held, "asked something first"}, {c.Let, "let in"},
		{c.Cast, "given other roles"}} {
		if x.n > 0 {
			parts = append(parts, fmt.Sprintf("%d %s %s", x.n, verb, x.what))
		}
	}
	if c.Told > 0 {
		hears := map[string]string{"would be": "would hear"}[verb]
		parts = append(parts, fmt.Sprintf("the application %s other values about %d", cmp.Or(hears, "hears"), c.Told))
	}
	if len(parts) > 0 && c.Known > 0 {
		fmt.Fprintf(w, "Of %s who are known: %s\n", countPeople(c.Known), strings.Join(parts, ", "))
	} else if len(parts) > 0 {
		fmt.Fprintf(w, "Of %s who signed in lately: %s\n", countPeople(c.Seen), strings.Join(parts, ", "))
	} else if c.Known > 0 {
		fmt.Fprintf(w, "Nobody gains or loses entry, of %s who are known\n", countPeople(c.Known))
	} else if c.Looked > 0 && c.Untold == 0 {
		fmt.Fprintf(w, "No difference to the %s who signed in lately (%s looked at)\n", countPeople(c.Seen),
			counted(int64(c.Looked), "sign-in"))
	}
	for _, r := range c.Roles {
		fmt.Fprintf(w, "  %s of %s: %d %s it, %d %s it\n", r.Role, r.Application, r.Gain,
			map[bool]string{true: "would gain", false: "gain"}[verb == "would be"],
			r.Lose, map[bool]string{true: "would lose", false: "lose"}[verb == "would be"])
	}
	e.affected(w, c.People)
	if ways := c.Ways; ways != nil {
		fmt.Fprintf(w, "%s: %d keep their way, %d get another, %d have none\n",
			map[bool]string{true: "By which provider people would come",
				false: "By which provider people come"}[verb == "would be"],
			ways.Keep, ways.Other, ways.None)
		for _, x := range ways.Examples {
			fmt.Fprintln(w, "  "+x)
		}
	}
	for _, o := range c.Offered {
		fmt.Fprintf(w, "The provider %s %s offered at %s\n", o.Provider, map[bool]string{true: "would be",
			false: "is now"}[verb == "would be"],
			strings.Join(o.Applications, ", "))
	}
	if len(c.Offered) > 0 {
		fmt.Fprintf(w, "%s who may enter there %s a choice\n", countPeople(c.Choosing),
			map[bool]string{true: "would gain", false: "gain"}[verb == "would be"])
	}
	if c.Untold > 0 {
		fmt.Fprintf(w, "%s cannot be told: %s\n", counted(int64(c.Untold), "sign-in"), c.Cause)
	}
	if c.Stopped {
		fmt.Fprintln(w, "Older sign-ins were not looked at; innergate reevaluate looks at more.")
	}
	if c.Finding != nil && c.Confirm != "" && verb == "would be" {
		e.told(w, c.Finding, "error")
		fmt.Fprintf(w, "If it is meant, save it with --confirm %s, or --yes\n", c.Confirm)
	}
}

// affected lists people, those together for whom the same becomes other.
func (e *environment) affected(w io.Writer, people []api.Affected) {
	of, order := map[string][]string{}, []string{}
	for _, p := range people {
		lines := []string{fmt.Sprintf("  %s at %s: ", e.colour(p.What), dash(p.Application))}
		for _, d := range p.Differences {
			lines = append(lines, "    "+difference(d))
		}
		key := strings.Join(lines, "\n")
		if of[key] == nil {
			order = append(order, key)
		}
		of[key] = append(of[key], p.Name)
	}
	for _, key := range order {
		head, lines, _ := strings.Cut(key, "\n")
		fmt.Fprintln(w, head+strings.Join(of[key], ", "))
		if lines != "" {
			fmt.Fprintln(w, lines)
		}
	}
}

// differencesOf says in lines what would be other, or why it cannot be told.
func differencesOf(x api.ReevaluatedCrossing) (out []string) {
	for _, d := range x.Differences {
		out = append(out, difference(d))
	}
	if x.Cause != "" {
		out = append(out, x.Cause)
	}
	return out
}

func difference(d federation.Difference) string {
	switch {
	case d.Label == "Because" && d.After != "":
		return "Because: " + d.After
	case d.Label == "Because":
		return "No longer: " + d.Before
	case d.Before == "":
		return d.Name() + ": now " + d.After
	case d.After == "":
		return d.Name() + ": no longer " + d.Before
	}
	return d.Name() + ": " + d.Before + " → " + d.After
}
