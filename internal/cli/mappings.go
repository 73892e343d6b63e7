package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/profile"
)

// mappings shows and tries what becomes of attributes and claims.
func (e *environment) mappings() *ucli.Command {
	return &ucli.Command{Name: "mapping", Usage: "what becomes of attributes and claims", Commands: []*ucli.Command{
		{Name: "show", Usage: "show the rules of a record", ArgsUsage: "RECORD",
			Description: "RECORD is like provider/wrenmoor-staff or application/crew-roster.\n" +
				"innergate -o json mapping show RECORD prints what provider set NAME intakeMapping=@FILE and\n" +
				"app set NAME releaseMapping=@FILE take: the rules of the record itself. With --effective it prints\n" +
				"the rules as they act, those of its set too.",
			Flags:    []ucli.Flag{&ucli.BoolFlag{Name: "effective", Usage: "in JSON and YAML too: the rules as they act"}},
			Metadata: takes("record", ""), Action: e.action([]string{"RECORD"}, e.showMapping)},
		{Name: "propose", Usage: "propose rules from what arrived of late and what is asked for; nothing is changed",
			ArgsUsage: "RECORD",
			Description: "innergate -o json mapping propose RECORD prints what provider set NAME intakeMapping=@FILE and\n" +
				"app set NAME releaseMapping=@FILE take.",
			Metadata: takes("record", ""), Action: e.action([]string{"RECORD"}, e.proposeMapping)},
		{Name: "try", Usage: "run a recorded sign-in, or given values, through mappings; nothing is changed",
			ArgsUsage: "[NAME=VALUE …]",
			Description: "NAME=VALUE gives an attribute or claim; NAME that stands several times has several values.\n" +
				"With --trace the values, the provider and the application are those of a recorded sign-in.",
			Flags: []ucli.Flag{
				&ucli.StringFlag{Name: "trace", Usage: "reference of a recorded sign-in"},
				&ucli.Int64Flag{Name: "person", Usage: "number of a person: their newest recorded sign-in"},
				&ucli.StringFlag{Name: "message",
					Usage: "file, or -, with a message of the provider, or a token: nothing of it is verified"},
				&ucli.StringFlag{Name: "provider", Usage: "provider whose intake is tried"},
				&ucli.StringFlag{Name: "app", Usage: "application whose release is tried"},
				&ucli.StringFlag{Name: "intake", Usage: "file with an intake mapping, in place of the provider's"},
				&ucli.StringFlag{Name: "release", Usage: "file with a release mapping, in place of the application's"},
				&ucli.StringFlag{Name: "over", Usage: "set that the file is laid over, in place of the record's"},
				&ucli.StringFlag{Name: "subject", Usage: "NameID or sub"}},
			Action: e.tryMapping},
	}}
}

// ofRecord reads provider/NAME or application/NAME.
func ofRecord(arg string) (kind, name, setting string, err error) {
	kind, name, ok := strings.Cut(arg, "/")
	setting = map[string]string{"provider": "intakeMapping", "application": "releaseMapping"}[kind]
	if !ok || setting == "" || name == "" {
		return "", "", "", &usageError{fmt.Sprintf("%q is no record", arg),
			"Write provider/NAME or application/NAME, like provider/wrenmoor-staff."}
	}
	return kind, name, setting, nil
}

func (e *environment) showMapping(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	kind, name, setting, err := ofRecord(args[0])
	if err != nil {
		return err
	}
	r, err := client.Call(ctx, c, api.RecordsOf(kind).Show, api.Name(name))
	if err != nil {
		return err
	}
	octets, err := json.Marshal(r.Settings[setting])
	if err != nil {
		return err
	}
	var m profile.Mapping
	if err := json.Unmarshal(octets, &m); err != nil {
		return err
	}
	var out any = m
	if cmd.Bool("effective") {
		out = r.Rules
	}
	return e.print(cmd, out, func(w io.Writer) { e.effective(w, r.Rules, m.Rest) })
}

// effective are the rules of a mapping as they act, with what each is from.
func (e *environment) effective(w io.Writer, rules []api.EffectiveRule, rest bool) {
	rows, cols := [][]string{}, []string{"rule!", "to!", "from"}
	shared := slices.ContainsFunc(rules, func(r api.EffectiveRule) bool { return r.From != "own" })
	noted := slices.ContainsFunc(rules, func(r api.EffectiveRule) bool { return r.Note != "" })
	if shared {
		cols = append(cols, "of!")
	}
	if noted {
		cols = append(cols, "note")
	}
	for i, r := range rules {
		to, how, _ := strings.Cut(r.Rule.String(), ": ")
		row := []string{fmt.Sprint(i + 1), to, how}
		if r.Omitted {
			row = []string{"-", to, "left out here: " + how}
		}
		if shared {
			row = append(row, map[bool]string{true: "the record", false: "set " + r.From}[r.From == "own"])
		}
		if noted {
			row = append(row, r.Note)
		}
		rows = append(rows, row)
	}
	e.table(w, columns(cols...), rows, "No rules: everything passes unchanged.")
	if rest && len(rows) > 0 {
		fmt.Fprintln(w, "What no rule reads passes unchanged.")
	}
}

// rules are the rules of a mapping, each with what there is to say of it.
func (e *environment) rules(w io.Writer, m profile.Mapping, title string, notes []string, empty string) {
	rows, cols := [][]string{}, []string{"rule!", "to!", "from"}
	if slices.ContainsFunc(notes, func(n string) bool { return n != "" }) {
		cols = append(cols, title)
	}
	for i, r := range m.Rules {
		to, how, _ := strings.Cut(r.String(), ": ")
		rows = append(rows, append([]string{fmt.Sprint(i + 1), to, how}, notes[i])[:len(cols)])
	}
	e.table(w, columns(cols...), rows, empty)
	if m.Rest && len(rows) > 0 {
		fmt.Fprintln(w, "What no rule reads passes unchanged.")
	}
}

func (e *environment) proposeMapping(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	kind, name, _, err := ofRecord(args[0])
	if err != nil {
		return err
	}
	got, err := client.Call(ctx, c, api.RecordsOf(kind).ProposeMapping, api.Name(name))
	if err != nil {
		return err
	}
	return e.print(cmd, got.Mapping, func(w io.Writer) {
		e.rules(w, got.Mapping, "why", got.Why,
			"Nothing to propose: nobody has signed in yet, or the application asks for nothing.")
		for _, u := range got.Without {
			fmt.Fprintf(w, "Nothing is there for %s", u.Name)
			if u.Near != "" {
				fmt.Fprintf(w, "; near to it: %s", u.Near)
			}
			fmt.Fprintln(w)
		}
		if got.SignIns == 0 && len(got.Mapping.Rules) > 0 {
			fmt.Fprintln(w, "Nobody has signed in of late, so this rests on names alone.")
		}
	})
}

func (e *environment) tryMapping(ctx context.Context, cmd *ucli.Command) error {
	in := api.MappingTrial{Trace: cmd.String("trace"), Provider: cmd.String("provider"), Application: cmd.String("app"),
		Subject: cmd.String("subject"), Person: cmd.Int64("person")}
	var err error
	if file := cmd.String("message"); file != "" {
		octets, err := e.readFile("--message", file)
		if err != nil {
			return err
		}
		in.Message = string(octets)
	}
	if in.Intake, err = e.mappingFile("--intake", cmd.String("intake")); err != nil {
		return err
	}
	if in.Release, err = e.mappingFile("--release", cmd.String("release")); err != nil {
		return err
	}
	if in.Attributes, err = given(cmd.Args().Slice()); err != nil {
		return err
	}
	if over := cmd.String("over"); over != "" {
		if in.Intake != nil {
			in.IntakeSet = &over
		}
		if in.Release != nil {
			in.ReleaseSet = &over
		}
	}
	switch {
	case cmd.String("over") != "" && (in.Intake == nil) == (in.Release == nil):
		return &usageError{"--over is for one mapping",
			"Give --intake or --release with the rules that are laid over the set."}
	case (in.Trace != "" || in.Person != 0 || in.Message != "") && (len(in.Attributes) > 0 || in.Subject != ""):
		return &usageError{"--trace, --person and --message bring their own values",
			"Give one of them, or --subject and NAME=VALUE."}
	case in.Trace == "" && in.Person == 0 && in.Provider == "" && in.Application == "":
		return &usageError{"it is not said whose mapping is tried",
			"Give --trace or --person, or --provider, --app or both."}
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	got, err := client.Call(ctx, c, api.TryMapping, api.Body(in))
	if err != nil {
		return err
	}
	return e.print(cmd, got, func(w io.Writer) { e.mapped(w, got) })
}

func (e *environment) mappingFile(option, file string) (*profile.Mapping, error) {
	if file == "" {
		return nil, nil
	}
	octets, err := e.readFile(option, file)
	if err != nil {
		return nil, err
	}
	var m profile.Mapping
	if err := json.Unmarshal(octets, &m); err != nil {
		return nil, &usageError{fmt.Sprintf("%s %s: %v", option, file, err),
			"Mend the file; innergate -o json mapping show RECORD prints one that can be read."}
	}
	return &m, nil
}

// given reads NAME=VALUE words.
func given(words []string) (out []api.MappedValues, err error) {
	for _, word := range words {
		name, value, ok := strings.Cut(word, "=")
		if !ok || name == "" {
			return nil, &usageError{fmt.Sprintf("%q is no attribute", word),
				"Write NAME=VALUE, like mail=ada@wrenmoor.example."}
		}
		at := slices.IndexFunc(out, func(a api.MappedValues) bool { return a.Name == name })
		if at < 0 {
			out, at = append(out, api.MappedValues{Name: name}), len(out)
		}
		octets, err := json.Marshal(value)
		if err != nil {
			return nil, err
		}
		out[at].Values = append(out[at].Values, octets)
	}
	return out, nil
}

// mapped shows what came of a trial, in the order in which it came.
func (e *environment) mapped(w io.Writer, m api.Mapped) {
	lists := func(title string, list []api.MappedValues, empty string) {
		fmt.Fprintf(w, "%s\n\n", title)
		e.valueTable(w, list, empty)
		fmt.Fprintln(w)
	}
	rules := func(title string, list []api.MappedRule) {
		if len(list) == 0 {
			return
		}
		fmt.Fprintf(w, "%s\n\n", title)
		var t table
		for _, r := range list {
			made := make([]string, len(r.Made))
			for i, v := range r.Made {
				made[i] = inWords(v)
			}
			text := strings.TrimSuffix(r.Text+": "+strings.Join(made, ", "), ": ")
			t.add("rule!", fmt.Sprint(r.Rule), "outcome!", r.Outcome, "what it did", text)
			for _, w := range r.Without {
				t.add("rule!", "", "outcome!", "left out", "what it did", w)
			}
		}
		e.tell(w, t, "")
		fmt.Fprintln(w)
	}
	of := func(name string) string { return strings.TrimSuffix(" of "+name, " of ") }
	from := func(name string) string { return strings.TrimSuffix(" from "+name, " from ") }
	lists("Received"+from(m.Provider), m.Received, "No attribute.")
	rules("Intake"+of(m.Provider), m.Intake)
	lists("Profile", m.Profile, "Nothing is taken in.")
	rules("Release"+of(m.Application), m.Release)
	if m.Application != "" && m.Refused == nil {
		lists("Sent to "+m.Application+": "+dash(m.Name), m.Released, "No attribute.")
		e.asking(w, m)
	}
	if m.Refused != nil {
		e.finding(w, m.Refused)
	}
}

// valueTable lists attributes, with the place where an application finds each, if that is said.
func (e *environment) valueTable(w io.Writer, list []api.MappedValues, empty string) {
	heads := []string{"name!", "value"}
	placed := slices.ContainsFunc(list, func(a api.MappedValues) bool { return a.Place != "" })
	if placed {
		heads = []string{"name!", "where!", "value"}
	}
	rows := [][]string{}
	for _, a := range list {
		for i, v := range a.Values {
			row := []string{a.Name, inWords(v)}
			if placed {
				row = []string{a.Name, a.Place, inWords(v)}
			}
			if i > 0 {
				row[0], row[len(row)-2] = "", ""
			}
			rows = append(rows, row)
		}
	}
	e.table(w, columns(heads...), rows, empty)
}

// asking says how the application asks, and what comes before it is told anything.
func (e *environment) asking(w io.Writer, m api.Mapped) {
	if len(m.Withheld) > 0 {
		fmt.Fprintf(w, "Held back, because the application does not ask for them: %s\n", strings.Join(m.Withheld, ", "))
	}
	if m.Request == "record" && len(m.Withheld) > 0 {
		fmt.Fprintln(w, "No request of the application is recorded: this is for all scopes that its record allows.")
	}
	if len(m.Asked) > 0 {
		fmt.Fprintf(w, "The person is first asked for: %s\n", strings.Join(m.Asked, ", "))
	}
	if len(m.Agree) > 0 {
		fmt.Fprintf(w, "The person has to agree first: %s\n", strings.Join(m.Agree, ", "))
	}
}

// inWords is a value as people read it.
func inWords(v json.RawMessage) string {
	var text string
	if json.Unmarshal(v, &text) == nil {
		return text
	}
	return string(v)
}
