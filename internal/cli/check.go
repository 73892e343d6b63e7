package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// kinds are the words for kinds of what can be checked.
var kinds = map[string]string{"": "", "provider": "provider", "app": "application", "application": "application",
	"aggregate": "aggregate", "recipient": "recipient", "gate": "gate"}

// kindFlag tells records of the same name apart.
var kindFlag = &ucli.StringFlag{Name: "kind",
	Usage: "provider, app, aggregate or recipient, where several have the name"}

func wantedKind(cmd *ucli.Command) (string, error) {
	kind, ok := kinds[cmd.String("kind")]
	if !ok {
		return "", &usageError{fmt.Sprintf("there is no kind %q", cmd.String("kind")),
			"Use provider, app, aggregate or recipient."}
	}
	return kind, nil
}

// manyFindings is how many findings are shown one by one where nobody said which.
const manyFindings = 200

func (e *environment) check() *ucli.Command {
	return &ucli.Command{Name: "check", Metadata: takes("record", ""),
		Usage: "findings that can be known without a sign-in; exit status 3 if one is an error", ArgsUsage: "[NAME …]",
		Flags: []ucli.Flag{kindFlag,
			&ucli.BoolFlag{Name: "reach",
				Usage: "ask the addresses of the named records too: whether they answer, and their clocks"},
			&ucli.StringFlag{Name: "severity", Usage: "at least: error, warning or note", Value: "note"},
			&ucli.StringFlag{Name: "code", Usage: "only findings with this code"},
			&ucli.StringFlag{Name: "side", Usage: "only those on which this side must act: provider, app, gate"},
			&ucli.BoolFlag{Name: "summary", Usage: "only how often each finding was given"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many records"},
			&ucli.IntFlag{Name: "offset", Usage: "leave the first ones out"}},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			f, err := checkFilter(cmd)
			if err != nil {
				return err
			}
			c, err := e.dial(cmd)
			if err != nil {
				return err
			}
			l, err := client.Call(ctx, c, api.ListChecks, f)
			if err != nil {
				return err
			}
			total := l.Counts["error"] + l.Counts["warning"] + l.Counts["note"]
			summary := cmd.Bool("summary") || total > manyFindings && f.Code == "" && f.Limit == 0 && len(f.Names) == 0
			err = e.print(cmd, l, func(w io.Writer) {
				if summary {
					e.summary(w, l)
				} else {
					e.checked(w, l)
				}
				e.counts(w, l)
			})
			if err == nil && l.Counts["error"] > 0 {
				return errFound
			}
			return err
		}}
}

func checkFilter(cmd *ucli.Command) (f api.CheckFilter, err error) {
	args := cmd.Args().Slice()
	f = api.CheckFilter{Names: args, Severity: cmd.String("severity"), Code: cmd.String("code"),
		Reach: cmd.Bool("reach"), All: len(args) > 0, Limit: cmd.Int("limit"), Offset: cmd.Int("offset")}
	if f.Kind, err = wantedKind(cmd); err != nil {
		return f, err
	}
	side, ok := map[string]string{"": "", "provider": "provider", "app": "application", "application": "application",
		"gate": "gate"}[cmd.String("side")]
	switch f.Side = side; {
	case !ok:
		return f, &usageError{fmt.Sprintf("there is no side %q", cmd.String("side")), "Use provider, app or gate."}
	case !slices.Contains([]string{"error", "warning", "note"}, f.Severity):
		return f, &usageError{fmt.Sprintf("there is no severity %q", f.Severity), "Use error, warning or note."}
	case f.Reach && len(args) == 0:
		return f, &usageError{"--reach takes time and needs names", "Name the records whose addresses are to be asked."}
	}
	return f, findingCode(f.Code)
}

// findingCode sees that a code is one of the catalogue.
func findingCode(code string) error {
	codes := known(context.Background(), nil, "code")
	if code == "" || slices.Contains(codes, code) {
		return nil
	}
	do := "innergate check --summary shows those that are given."
	if near := nearword.Of(code, codes); near != "" {
		do = fmt.Sprintf("Did you mean %s?", near)
	}
	return &usageError{fmt.Sprintf("there is no finding %q", code), do}
}

// checked shows findings record by record.
func (e *environment) checked(w io.Writer, l api.CheckList) {
	for _, x := range l.Items {
		fmt.Fprintf(w, "%s %s, %s\n", x.Kind, x.Name, x.Title)
		e.founds(w, x.Findings)
		e.acknowledgedOnes(w, x.Acknowledged)
		if len(x.Findings)+len(x.Acknowledged) == 0 {
			fmt.Fprintln(w, "              ok       nothing found")
		}
	}
}

// summary shows findings by code.
func (e *environment) summary(w io.Writer, l api.CheckList) {
	var t table
	for _, c := range l.Codes {
		t.add("severity", string(c.Severity), "code!", string(c.Code), "records!", fmt.Sprint(c.Records),
			"side", string(c.Side), "what is wrong", c.Title)
	}
	e.tell(w, t, "Nothing found.")
	if len(l.Codes) > 0 {
		fmt.Fprintln(w, "which records: innergate check --code CODE")
	}
}

func (e *environment) counts(w io.Writer, l api.CheckList) {
	more := ""
	if l.Acknowledged > 0 {
		more = fmt.Sprintf("; %d acknowledged", l.Acknowledged)
	}
	fmt.Fprintf(w, "%s, %s, %s%s\n", several(l.Counts["error"], "error"), several(l.Counts["warning"], "warning"),
		several(l.Counts["note"], "note"), more)
}

// several puts a number before a word.
func several(n int, word string) string {
	if n == 1 {
		return "1 " + word
	}
	return fmt.Sprintf("%d %ss", n, word)
}

// acknowledge has findings count no more, or again.
func (e *environment) acknowledge() *ucli.Command {
	return &ucli.Command{Name: "acknowledge", Usage: "have a finding count no more, until a date", ArgsUsage: "NAME CODE",
		Metadata:    takes("record", ""),
		Description: "Say why with --remark. Only what the finding says now is known of: if it says something else later, it counts again. The gate itself has the name gate.",
		Flags: []ucli.Flag{kindFlag,
			&ucli.StringFlag{Name: "until", Usage: "when somebody should look at it again: 2027-03-31, or 90d for 90 days"},
			&ucli.BoolFlag{Name: "withdraw", Usage: "have it count again"}},
		Action: e.action([]string{"NAME", "CODE"}, e.acknowledgeOne)}
}

func (e *environment) acknowledgeOne(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	kind, err := wantedKind(cmd)
	if err == nil {
		err = findingCode(args[1])
	}
	if err != nil {
		return err
	}
	if cmd.String("remark") == "" && !cmd.Bool("withdraw") {
		return &usageError{"--remark is missing", "Say why the finding may stand; who reads it later wants to know."}
	}
	l, err := client.Call(ctx, c, api.ListChecks, api.CheckFilter{Names: args[:1], Kind: kind, Code: args[1], All: true})
	if err != nil {
		return err
	}
	if len(l.Items) != 1 {
		return &usageError{fmt.Sprintf("%q names %d records", args[0], len(l.Items)), "Say which with --kind."}
	}
	x := l.Items[0]
	var marks []string
	if cmd.Bool("withdraw") {
		for _, a := range x.Acknowledged {
			marks = append(marks, a.Mark)
		}
		if len(marks) == 0 {
			return fmt.Errorf("%s has no acknowledged finding %s; see innergate check %s", x.Name, args[1], x.Name)
		}
		if err := client.Do(ctx, c, api.WithdrawAcknowledgement, api.Body(api.Withdraw{Kind: x.Kind, Name: x.Name,
			Marks: marks})); err != nil {
			return err
		}
		e.said("%s counts again on %s", args[1], x.Name)
		return nil
	}
	for _, f := range x.Findings {
		marks = append(marks, f.Mark)
	}
	if len(marks) == 0 {
		return fmt.Errorf("%s has no finding %s that counts; see innergate check %s", x.Name, args[1], x.Name)
	}
	until, err := date("--until", cmd.String("until"))
	if err != nil {
		return err
	}
	if err := client.Do(ctx, c, api.AcknowledgeFindings, api.Body(api.Acknowledge{Kind: x.Kind, Name: x.Name,
		Marks: marks, Remark: cmd.String("remark"),
		Until: until})); err != nil {
		return err
	}
	return e.print(cmd, x, func(w io.Writer) {
		e.founds(w, x.Findings)
		if !e.quiet {
			fmt.Fprintf(w, "counts no more until %s; take it back: innergate acknowledge %s %s --withdraw\n",
				until.Format(time.DateOnly), x.Name, args[1])
		}
	})
}

// date reads a date, or a number of days from now.
func date(option, text string) (time.Time, error) {
	var n int
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if _, err := fmt.Sscanf(days, "%d", &n); err == nil && n > 0 && fmt.Sprint(n) == days {
			return time.Now().AddDate(0, 0, n), nil
		}
	}
	for _, layout := range []string{time.DateOnly, time.RFC3339} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	what := fmt.Sprintf("%s is %q", option, text)
	if text == "" {
		what = option + " is missing"
	}
	return time.Time{}, &usageError{what, "Give a date like 2027-03-31, or a number of days like 90d."}
}

// connections are the applications with the providers they are tied to.
func (e *environment) connections() *ucli.Command {
	cols := columns("state", "application!", "title", "provider", "proved", "worst finding", "last sign-in@", "why!",
		"reference")
	row := func(x api.Connection) []string {
		provider, last, why, reference := x.Provider, "-", "-", "-"
		if provider == "" {
			provider = "routed"
		}
		if !x.Attended {
			provider = "nobody"
		}
		if t := x.LastSignIn; t != nil {
			last, reference, why = t.Result+" "+brief(t.Started, time.Now()), t.ID, dash(t.Finding)
		}
		return []string{string(x.State), x.Name, x.Title, provider, x.Proved, dash(x.Worst), last, why, reference}
	}
	signIns := moments[api.Connection]{"last sign-in": func(x api.Connection) (t time.Time) {
		if x.LastSignIn != nil {
			t = x.LastSignIn.Started
		}
		return t
	}}
	return &ucli.Command{Name: "connections", Usage: "every application, and whether it works; the worst first",
		Flags: listFlags(searchFlag, &ucli.StringFlag{Name: "state",
			Usage: "broken, failing, attention, unfinished, untried, paused or works"}),
		Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
			want, err := listed(cmd)
			if err != nil {
				return err
			}
			f := api.ConnectionFilter{Search: cmd.String("search"), State: checks.Standing(cmd.String("state"))}
			if f.State != "" && !slices.Contains(checks.Standings, checks.Standing(f.State)) {
				return &usageError{fmt.Sprintf("there is no state %q", f.State),
					"Use broken, failing, attention, unfinished, untried, paused or works."}
			}
			if f.Limit, f.Offset = want.page(); f.Limit == 0 {
				f.Limit = 20000
			}
			l, err := client.Call(ctx, c, api.ListConnections, f)
			if err != nil {
				return err
			}
			if l.Items, err = part(want, cols, l.Items, row, signIns); err != nil {
				return err
			}
			return e.print(cmd, l, func(w io.Writer) {
				rows := [][]string{}
				for _, x := range l.Items {
					rows = append(rows, row(x))
				}
				empty := e.nothing(ctx, c, ofApplication, f.Search)
				if f.State != "" && f.Search == "" {
					empty = "No connection is in this state."
				}
				e.table(w, cols, rows, empty)
				want.rest(w, len(l.Items), l.Total)
				var counts []string
				for _, s := range checks.Standings {
					if n := l.Counts[s]; n > 0 {
						counts = append(counts, fmt.Sprintf("%d %s", n, s))
					}
				}
				if len(counts) > 0 {
					fmt.Fprintln(w, strings.Join(counts, ", "))
				}
			})
		})}
}

func (e *environment) finding(w io.Writer, f *finding.Finding) {
	e.told(w, f, map[finding.Severity]string{finding.Error: "refused", finding.Warning: "warning",
		finding.Note: "note"}[f.Severity])
}

// told writes a finding under a word for its weight.
func (e *environment) told(w io.Writer, f *finding.Finding, word string) {
	pad := strings.Repeat(" ", 9-len(word))
	fmt.Fprintf(w, "              %s%s%s [%s]\n", e.colour(word), pad, f.Title, f.Code)
	const indent = "                       "
	for _, ev := range f.Evidence {
		if ev.Expected != "" {
			was, is := "expected", "found   "
			if strings.HasPrefix(string(f.Code), "changed-") {
				was, is = "before", "after "
			}
			fmt.Fprintf(w, indent+"%s %s  %s\n"+indent+"%s %s  %s\n", ev.Label, was, ev.Expected,
				strings.Repeat(" ", len([]rune(ev.Label))), is, ev.Found)
		} else {
			fmt.Fprintf(w, indent+"%s: %s\n", ev.Label, ev.Found)
		}
	}
	wrap(w, indent, where(f.Side)+": "+f.Remedy)
}

// where names the side that must act, for people.
func where(s finding.Side) string {
	switch s {
	case finding.Gate:
		return "here at the gate"
	case finding.Browser:
		return "the person"
	case finding.Sender:
		return "at the other side"
	}
	return "at the " + string(s)
}
