package cli

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/rehearsal"
)

// rehearsals are the commands about saved sign-in tests.
func (e *environment) rehearsals() *ucli.Command {
	return &ucli.Command{Name: "rehearsal", Usage: "saved sign-in tests, which pass over phases and touch nobody else",
		Commands: append(e.accountCommands(), []*ucli.Command{
			{Name: "list", Usage: "list rehearsals, and what their newest runs came to",
				Flags: []ucli.Flag{&ucli.StringFlag{Name: "app", Usage: "of this application"},
					&ucli.StringFlag{Name: "search", Usage: "part of a name, title, application or provider"}},
				Action: e.action(nil, e.listRehearsals)},
			{Name: "add", Usage: "save a rehearsal", ArgsUsage: "NAME",
				Description: "What is expected is given a line at a time with --expect: entered (which is meant if nothing is said); refused; " +
					"refused by FINDING-CODE; refused by rule NAME; name is VALUE; name matches PATTERN; attribute NAME is VALUE, " +
					"has VALUE, matches PATTERN, present or absent; role is NAME; person is NUMBER; within 30s.\n" +
					"--as-person proposes what the mapping would give somebody, --as-trace what a recorded sign-in came to.",
				Flags: append(unattendedFlags(), []ucli.Flag{&ucli.StringFlag{Name: "app",
					Usage: "the application that somebody signs in to"},
					&ucli.StringFlag{Name: "provider", Usage: "by which they come; else as the rules decide"},
					&ucli.StringFlag{Name: "start", Usage: "which side starts: application, gate or provider"},
					&ucli.StringFlag{Name: "title", Usage: "what is rehearsed"},
					&ucli.StringSliceFlag{Name: "expect", Usage: "one line of what is expected; repeat it"},
					&ucli.BoolFlag{Name: "force", Usage: "ask the provider for a fresh sign-in"},
					&ucli.BoolFlag{Name: "passive", Usage: "of a start at the gate: show nobody a page"},
					&ucli.StringFlag{Name: "context", Usage: "of a start at the gate: sign in at least as strongly as this"},
					&ucli.StringFlag{Name: "role", Usage: "of a start at the gate: the role that is asked for"},
					&ucli.Int64Flag{Name: "as-person", Usage: "expect what the connection would give this account"},
					&ucli.StringFlag{Name: "as-trace", Usage: "expect what this sign-in came to"}, yesFlag}...),
				Action: e.action([]string{"NAME"}, e.addRehearsal)},
			e.ownCommands(ownKind{"rehearsal", "a rehearsal",
				"title, application, provider, start, force, passive, context, role, expect, username, every, afterChanges, hosts, opens, mails, notes",
				"title=TITLE application=APP expect=entered|within 30s"})[0],
			{Name: "show", Usage: "show a rehearsal and its runs", ArgsUsage: "NAME", Metadata: takes("rehearsal", ""),
				Action: e.action([]string{"NAME"}, e.showRehearsal)},
			{Name: "remove", Usage: "remove a rehearsal", ArgsUsage: "NAME", Metadata: takes("rehearsal", ""),
				Flags: []ucli.Flag{yesFlag},
				Action: e.action([]string{"NAME"}, func(ctx context.Context, _ *ucli.Command, c *client.Client,
					args []string) error {
					if err := client.Do(ctx, c, api.RemoveObject, api.Of("rehearsal", args[0])); err != nil {
						return err
					}
					e.said("removed rehearsal/%s", args[0])
					return nil
				})},
			{Name: "made", Usage: "people of whom rehearsals made accounts, and who have not come for real since",
				Description: "They are removed together as others are: innergate person remove NUMBER …",
				Action:      e.action(nil, e.listMade)},
		}...)}
}

// rehearse runs a rehearsal.
func (e *environment) rehearse() *ucli.Command {
	return &ucli.Command{Name: "rehearse",
		Usage:     "run a rehearsal, and give its verdict; exit status 3 unless it passed",
		ArgsUsage: "NAME", Metadata: takes("rehearsal", ""),
		Description: "A rehearsal with a test account is gone through by the gate itself. Of another one, or with --by-link, a link is printed " +
			"to open in a private window.",
		Flags: []ucli.Flag{&ucli.BoolFlag{Name: "all", Usage: "run all that have test accounts, and give what each came to; also with --output junit"},
			&ucli.StringFlag{Name: "app", Usage: "with --all: those of this application"},
			&ucli.BoolFlag{Name: "by-link", Usage: "print a link, though there is a test account"},
			&ucli.BoolFlag{Name: "follow", Usage: "print each step as it passes"},
			&ucli.DurationFlag{Name: "wait", Usage: "how long to wait for the verdict, such as 90s; the run goes on",
				Value: 30 * time.Minute},
			&ucli.DurationFlag{Name: "until-passed",
				Usage: "run it again and again until it passes, for so long, such as 15m: of counterparts that take their time to apply a change"},
			&ucli.StringFlag{Name: "client-secret-file",
				Usage: "of a service: makes its token request itself, with the secret in this file"},
			&ucli.StringFlag{Name: "scope", Usage: "with --client-secret-file: the scopes that are asked for"},
			&ucli.BoolFlag{Name: "keep", Usage: "let the run go on once it has its verdict, for a look at the application"},
			&ucli.StringFlag{Name: "said",
				Usage: "of run NAME, a number: what the application did: let-in, error, empty-page, wrong-person or empty-account"},
			&ucli.StringFlag{Name: "text", Usage: "with --said: the error as the application showed it"}},
		Action: e.anyNumber(e.runRehearsal)}
}

func (e *environment) listRehearsals(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	if app := cmd.String("app"); app != "" {
		if _, err := client.Call(ctx, c, api.RecordsOf("application").Show, api.Name(app)); err != nil {
			return err // a name that is none is no empty list
		}
	}
	l, err := client.Call(ctx, c, api.ListRehearsals, api.RehearsalFilter{Application: cmd.String("app"),
		Search: cmd.String("search")})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, r := range l.Items {
			t.add("verdict", stateOf(r), "rehearsal!", r.Name, "application", r.Application, "provider",
				cmp.Or(r.Provider, "by the rules"), "starts at", r.Start, "title", r.Title, "run@", dash(since(r.At)))
		}
		e.tell(w, t, "No rehearsals. Save one with innergate rehearsal add NAME --app APP")
	})
}

func since(t time.Time) string {
	if t.IsZero() {
		return ""
	}
	return brief(t, time.Now())
}

// stateOf says how a rehearsal stands.
func stateOf(r api.Rehearsal) string {
	switch {
	case r.State == "":
		return "never run"
	case r.Before:
		return string(r.State) + ", before the last change"
	}
	return string(r.State)
}

// addRehearsal saves a rehearsal, as it is given, or as it is proposed.
func (e *environment) addRehearsal(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	settings := map[string]any{}
	if n, trace := cmd.Int64("as-person"), cmd.String("as-trace"); n != 0 || trace != "" {
		p, err := client.Call(ctx, c, api.ProposeRehearsal, api.RehearsalProposal{Application: cmd.String("app"), Person: n,
			Provider: cmd.String("provider"), Trace: trace})
		if err != nil {
			return err
		}
		settings = map[string]any{"title": p.Title, "application": p.Application, "provider": p.Provider, "start": p.Start,
			"expect": p.Expect}
	}
	for flag, name := range map[string]string{"app": "application", "provider": "provider", "start": "start",
		"title": "title", "context": "context", "role": "role"} {
		if v := cmd.String(flag); v != "" {
			settings[name] = v
		}
	}
	for _, flag := range []string{"force", "passive"} {
		if cmd.Bool(flag) {
			settings[flag] = true
		}
	}
	if lines := cmd.StringSlice("expect"); len(lines) > 0 {
		settings["expect"] = lines
	}
	unattendedSettings(cmd, settings)
	password, err := e.accountPassword(cmd)
	if err != nil {
		return err
	}
	if settings["application"] == nil {
		return &usageError{"--app is missing", "Say which application is rehearsed: innergate rehearsal add NAME --app APP"}
	}
	if settings["title"] == nil {
		settings["title"] = fmt.Sprint("Signing in to ", settings["application"])
	}
	if _, err := client.Call(ctx, c, api.ShowObject, api.Of("rehearsal", args[0])); err == nil {
		return &usageError{fmt.Sprintf("there is a rehearsal %q already", args[0]),
			"Choose another name, or change it with innergate rehearsal put " + args[0] + " SETTING=VALUE"}
	}
	o, err := client.Call(ctx, c, api.PutObject, api.ToObject("rehearsal", args[0], api.ObjectChange{Settings: settings}))
	if err != nil {
		return err
	}
	if password != "" {
		if _, err := client.Call(ctx, c, api.GivePassword, testPassword(args[0], password)); err != nil { // nothing stays half made
			return errors.Join(err, client.Do(ctx, c, api.RemoveObject, api.Of("rehearsal", args[0])))
		}
		if o, err = client.Call(ctx, c, api.ShowObject, api.Of("rehearsal", args[0])); err != nil {
			return err
		}
	}
	return e.print(cmd, o, func(w io.Writer) {
		e.objectShown(w, o)
		fmt.Fprintf(w, "\nRun it: innergate rehearse %s\n", args[0])
	})
}

func (e *environment) showRehearsal(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	o, err := client.Call(ctx, c, api.ShowObject, api.Of("rehearsal", args[0]))
	if err != nil {
		return err
	}
	runs, err := client.Call(ctx, c, api.ListRuns, api.RunFilter{Named: api.Name(args[0]), Limit: 20})
	if err != nil {
		return err
	}
	return e.print(cmd, struct {
		api.Object
		Runs []api.Run `json:"runs"`
	}{o, runs.Items}, func(w io.Writer) {
		e.objectShown(w, o)
		fmt.Fprintln(w)
		var t table
		for _, r := range runs.Items {
			t.add("verdict", string(r.Verdict.State), "run!", fmt.Sprint(r.ID), "began@", brief(r.Began, time.Now()), "by",
				r.By,
				"sign-in", dash(strings.Join(r.Traces, " ")), "what", runSays(r))
		}
		e.tell(w, t, "It was never run. Run it with innergate rehearse "+args[0])
	})
}

// runSays is the point of a run in a line.
func runSays(r api.Run) string {
	for _, l := range r.Verdict.Lines {
		if !l.Holds {
			return l.Expected + ": " + l.Came
		}
	}
	if r.Said != nil {
		return "the application: " + string(r.Said.Symptom)
	}
	return r.Halted
}

func (e *environment) listMade(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListMade, api.None{})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		var numbers []string
		for _, m := range l.Items {
			numbers = append(numbers, fmt.Sprint(m.Person))
			t.add("person!", fmt.Sprint(m.Person), "name", dash(m.Name), "run", fmt.Sprint(m.Run), "made@",
				brief(m.At, time.Now()))
		}
		e.tell(w, t, "Rehearsals made nobody an account who has not come for real since.")
		if len(numbers) > 0 {
			fmt.Fprintf(w, "\nTo remove them: innergate person remove %s\n", strings.Join(numbers, " "))
		}
	})
}

// runRehearsal starts a run, and waits for its verdict.
func (e *environment) runRehearsal(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	switch {
	case cmd.Bool("all") && len(args) > 0:
		return &usageError{"a name is given, and --all", "Leave one of them out."}
	case cmd.Bool("all"):
		return e.rehearseAll(ctx, cmd, c)
	case len(args) != 1:
		return &usageError{"NAME is missing, or there are several",
			"Give the name of one rehearsal, or --all: innergate rehearse NAME"}
	}
	if symptom := cmd.String("said"); symptom != "" {
		return e.sayOfRun(ctx, cmd, c, args[0], rehearsal.Symptom(symptom))
	}
	for until := time.Now().Add(cmd.Duration("until-passed")); ; {
		err := e.runOnce(ctx, cmd, c, args[0])
		if !errors.Is(err, errFound) || !time.Now().Before(until) {
			return err
		}
		fmt.Fprintf(e.err, "It is run again, until %s.\n", local(until))
		select {
		case <-ctx.Done():
			return ctx.Err()
		case <-time.After(againAfter):
		}
	}
}

// againAfter is how long a run that did not pass is waited after, before the next one.
const againAfter = 5 * time.Second

// beginsRun tells how a run begins, or begins it: the token request of a service is made with its secret.
func (e *environment) beginsRun(ctx context.Context, cmd *ucli.Command, c *client.Client, r api.Run) error {
	file := cmd.String("client-secret-file")
	switch {
	case r.Value == "" && file != "":
		return &usageError{"--client-secret-file is given, and people sign in to " + r.Application,
			"Leave it out, and open the link."}
	case r.Value == "":
		fmt.Fprintf(e.err, "Run %d of %s. Open this link in a private window, by %s; it works once:\n  %s\n", r.ID,
			r.Rehearsal,
			local(r.Ends), r.Link)
		return nil
	case file == "":
		fmt.Fprintf(e.err, "Run %d of %s. Have the service make its token request by %s with this parameter:\n  rehearsal=%s\n", r.ID,
			r.Rehearsal, local(r.Ends), r.Value)
		return nil
	}
	secret, err := os.ReadFile(file)
	if err != nil {
		return &usageError{"--client-secret-file cannot be read: " + err.Error(),
			"Give a file with the secret and nothing else."}
	}
	sheet, err := client.Call(ctx, c, api.RecordsOf("application").Sheet, api.Name(r.Application))
	if err != nil {
		return err
	}
	values := map[string]string{}
	for _, v := range sheet.Values {
		values[v.Label] = v.Value
	}
	said, err := c.TokenOf(ctx, values["Token endpoint"], values["Client ID"], strings.TrimSpace(string(secret)),
		map[string]string{"rehearsal": r.Value, "scope": cmd.String("scope")})
	if err == nil && said != "" {
		fmt.Fprintln(e.err, "The token request was refused: "+said)
	}
	return err
}

// runOnce runs a rehearsal once.
func (e *environment) runOnce(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) error {
	until := time.Now().Add(cmd.Duration("wait"))
	r, err := e.startsRun(ctx, cmd, c, name)
	if err != nil {
		return err
	}
	link, secret := r.Link, r.Value != "" && cmd.String("client-secret-file") != ""
	if secret {
		until = time.Now().Add(3 * time.Second) // else its request was refused before it named the run
	}
	shown := 0
	r, err = e.waited(ctx, c, r, until, func(now api.Run) {
		if cmd.Bool("follow") {
			shown = e.passing(now, shown)
		}
	})
	if err != nil && !secret {
		return err
	}
	if !r.Unattended && !cmd.Bool("keep") && r.Ended.IsZero() {
		steps := r.Steps
		if r, err = client.Call(ctx, c, api.EndRun, api.Numbered{ID: r.ID}); err != nil {
			return err
		}
		r.Steps = steps
	}
	r.Link = link
	return e.verdict(cmd, r)
}

// startsRun starts a run: one that the gate goes through by itself, where there is a test account for it.
func (e *environment) startsRun(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Run,
	error) {
	list, err := client.Call(ctx, c, api.ListRehearsals, api.RehearsalFilter{})
	if err != nil {
		return api.Run{}, err
	}
	at := slices.IndexFunc(list.Items, func(r api.Rehearsal) bool { return r.Name == name })
	if at >= 0 && list.Items[at].Account != nil && !cmd.Bool("by-link") && cmd.String("client-secret-file") == "" {
		r, err := client.Call(ctx, c, api.DriveRun, api.Name(name))
		if err == nil {
			fmt.Fprintf(e.err, "Run %d of %s: the gate signs in as %s at %s.\n", r.ID, r.Rehearsal, list.Items[at].Username,
				list.Items[at].Account.Provider)
		}
		return r, err
	}
	if at >= 0 && list.Items[at].Username != "" && list.Items[at].Account == nil {
		fmt.Fprintf(e.err, "No password is on record for %s; the gate would go through it by itself with one: innergate rehearsal password %s --password-file FILE\n",
			list.Items[at].Username, name)
	}
	r, err := client.Call(ctx, c, api.BeginRun, api.Name(name))
	if err != nil {
		return r, err
	}
	if err = e.beginsRun(ctx, cmd, c, r); err != nil {
		_, _ = client.Call(ctx, c, api.EndRun, api.Numbered{ID: r.ID}) // else it ends by itself
	}
	return r, err
}

// waited waits for the verdict of a run, and for the end of one that nobody attends.
func (e *environment) waited(ctx context.Context, c *client.Client, r api.Run, until time.Time, passing func(api.Run)) (
	api.Run, error) {
	for r.Ended.IsZero() && (r.Unattended || r.Verdict.State == rehearsal.Waiting) {
		if time.Now().After(until) {
			return r, fmt.Errorf("run %d has no verdict yet; it goes on: innergate rehearsal show %s", r.ID, r.Rehearsal)
		}
		select {
		case <-ctx.Done():
			return r, ctx.Err()
		case <-time.After(500 * time.Millisecond):
		}
		now, err := client.Call(ctx, c, api.ShowRun, api.Numbered{ID: r.ID})
		if err != nil {
			return r, err
		}
		now.Value = r.Value
		if r = now; passing != nil {
			passing(r)
		}
	}
	return r, nil
}

// passing prints the steps that came since, and gives how many were printed.
func (e *environment) passing(r api.Run, shown int) int {
	for _, s := range r.Steps[min(shown, len(r.Steps)):] {
		who := string(s.From) + " → " + string(s.To)
		if s.From == s.To {
			who = "  at the gate"
		}
		fmt.Fprintf(e.err, "%7d ms  %-22s  %-34s  %s\n", s.At.Sub(r.Steps[0].At).Milliseconds(), who, s.Name,
			e.colour(mark(s)))
	}
	return max(shown, len(r.Steps))
}

// verdict prints a run with its verdict. Only one that passed is no error.
func (e *environment) verdict(cmd *ucli.Command, r api.Run) error {
	out := struct {
		Verdict rehearsal.State `json:"verdict"`
		Run     api.Run         `json:"run"`
	}{r.Verdict.State, r}
	if err := e.print(cmd, out, func(w io.Writer) { e.runShown(w, r) }); err != nil {
		return err
	}
	if r.Verdict.State != rehearsal.Passed {
		return errFound
	}
	return nil
}

func (e *environment) runShown(w io.Writer, r api.Run) {
	fields(w, [][2]string{{"verdict", e.colour(string(r.Verdict.State))}, {"run", fmt.Sprint(r.ID)},
		{"rehearsal", r.Rehearsal + ": " + r.Title}, {"sign-in", strings.Join(r.Traces, " ")}, {"stopped", r.Halted}})
	for _, l := range r.Verdict.Lines {
		word := "ok      "
		if !l.Holds {
			word = "not so  "
		}
		fmt.Fprintf(w, "  %s  %s\n", word, l.Expected)
		if !l.Holds {
			fmt.Fprintf(w, "            came: %s\n", l.Came)
			if at := differs(l.Value, l.Came); l.Value != "" {
				fmt.Fprintf(w, "                  %s^ from here on, instead of: %s\n", strings.Repeat(" ", at), l.Value)
			}
		}
	}
	for _, f := range r.Verdict.Findings {
		e.finding(w, f)
	}
	for _, n := range r.Verdict.Notes {
		fmt.Fprintln(w, "  "+n)
	}
	if len(r.Verdict.Causes) > 0 {
		fmt.Fprintln(w, "\nWhat may lie behind it, what is likely first:")
	}
	for _, c := range r.Verdict.Causes {
		fmt.Fprintf(w, "  %s\n    %s\n", c.Text, c.Remedy)
	}
	if r.Verdict.State == rehearsal.Passed && r.Said == nil && slices.ContainsFunc(r.Verdict.Lines,
		func(l rehearsal.Held) bool { return l.Expected == "entered" }) {
		fmt.Fprintf(w, "\nSay what the application did: innergate rehearse %d --said let-in\n", r.ID)
	}
}

// differs is how many letters two texts begin with alike.
func differs(a, b string) (n int) {
	x, y := []rune(a), []rune(b)
	for n < len(x) && n < len(y) && x[n] == y[n] {
		n++
	}
	return n
}

// sayOfRun says what the application did in a run.
func (e *environment) sayOfRun(ctx context.Context, cmd *ucli.Command, c *client.Client, number string,
	symptom rehearsal.Symptom) error {
	n, err := numberOf(number, "run", "The list of runs shows numbers: innergate rehearsal show NAME")
	if err != nil {
		return err
	}
	if !slices.Contains(rehearsal.Symptoms, symptom) {
		return &usageError{fmt.Sprintf("the application did %q", symptom),
			"Use let-in, error, empty-page, wrong-person or empty-account."}
	}
	r, err := client.Call(ctx, c, api.SayOfRun, api.SaidOfRun{Numbered: api.Numbered{ID: n},
		Body: api.RunWord{Symptom: symptom, Text: cmd.String("text")}})
	if err != nil {
		return err
	}
	return e.verdict(cmd, r)
}
