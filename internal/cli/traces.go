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
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/trace"
)

func (e *environment) traces() *ucli.Command {
	return &ucli.Command{Name: "trace", Usage: "recorded sign-ins", Commands: []*ucli.Command{
		{Name: "list", Usage: "list traces, newest first", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "search", Usage: "part of a reference, application, provider, person or finding"},
			&ucli.StringFlag{Name: "result", Usage: "entered, refused, waiting or left"},
			&ucli.StringFlag{Name: "app", Usage: "of this application"},
			&ucli.StringFlag{Name: "provider", Usage: "of this provider"},
			&ucli.BoolFlag{Name: "rehearsed", Usage: "those of rehearsals, in place of real sign-ins"},
			&ucli.StringFlag{Name: "since", Usage: "started since then: 2h, 3d, 2026-11-26 or 2026-11-26T08:00:00Z"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50},
			&ucli.IntFlag{Name: "offset", Usage: "leave the first ones out"}},
			Action: e.action(nil, e.listTraces)},
		{Name: "show", Usage: "show one trace step by step", ArgsUsage: "REFERENCE", Metadata: takes("trace", ""),
			Description: "The reference number may be written in any case, with or without its dash, with spaces.",
			Flags:       []ucli.Flag{&ucli.BoolFlag{Name: "messages", Usage: "print the decoded messages as well"}},
			Action: func(ctx context.Context, cmd *ucli.Command) error {
				reference := strings.Join(cmd.Args().Slice(), "")
				if reference == "" {
					return &usageError{"reference is missing", "Call it as innergate trace show REFERENCE; the list shows them."}
				}
				c, err := e.dial(cmd)
				if err != nil {
					return err
				}
				t, err := client.Call(ctx, c, api.ShowTrace, api.Name(reference))
				if err != nil {
					return err
				}
				return e.print(cmd, t, func(w io.Writer) { e.lanes(w, t, cmd.Bool("messages")) })
			}},
		{Name: "compare", Usage: "hold two traces against each other step by step", ArgsUsage: "REFERENCE [OTHER]",
			Metadata:    takes("trace", ""),
			Description: "REFERENCE is the sign-in in question; OTHER one that went well. Without OTHER it is the last one before that entered the same application by the same provider.",
			Flags: []ucli.Flag{&ucli.BoolFlag{Name: "all",
				Usage: "print what is bound to differ as well: identifiers, times, signatures"}},
			Action: func(ctx context.Context, cmd *ucli.Command) error {
				if n := cmd.Args().Len(); n < 1 || n > 2 {
					return &usageError{"a reference is missing, or there are too many",
						"Call it as innergate trace compare REFERENCE [OTHER]; innergate trace list shows them."}
				}
				c, err := e.dial(cmd)
				if err != nil {
					return err
				}
				both, err := client.Call(ctx, c, api.CompareTraces,
					api.TraceBeside{Name: cmd.Args().Get(0), With: cmd.Args().Get(1)})
				if err != nil {
					return err
				}
				return e.print(cmd, both, func(w io.Writer) { e.compared(w, both, cmd.Bool("all")) })
			}},
	}}
}

// compared writes two traces side by side, a line for each step; under it what differs, the first's value above the
// second's, with a mark where they part.
func (e *environment) compared(w io.Writer, both api.TraceComparison, all bool) {
	of := func(t api.TraceHead) string {
		return fmt.Sprintf("%s  %s  %s by %s, %s", t.ID, e.colour(t.Result), dash(t.Application), dash(t.Provider),
			local(t.Started))
	}
	fields(w, [][2]string{{"first", of(both.First)}, {"second", of(both.Second)}})
	fmt.Fprintln(w)
	bound := 0
	for i, p := range both.Steps {
		if i == both.Parts && i > 0 {
			fmt.Fprintln(w, "\n"+e.tint("1", "From here on they part:"))
		}
		who := string(p.From) + " → " + string(p.To)
		switch {
		case i == 0:
			who = "as a whole"
		case p.From == p.To:
			who = "  at the gate"
		}
		fmt.Fprintf(w, "%-22s  %-34s  %s\n", who, p.Name, e.besideMark(p))
		for _, l := range p.Lines {
			if l.Bound {
				bound++
			}
			if all || !l.Bound {
				valuesBeside(w, l)
			}
		}
	}
	if both.Parts == 0 {
		fmt.Fprintln(w, "\nTheir steps are alike.")
	}
	if bound > 0 && !all {
		fmt.Fprintf(w, "\n%d more values differ as they are bound to (identifiers, times, signatures); --all prints them.\n",
			bound)
	}
}

// besideMark says in a word how a pair of steps stands.
func (e *environment) besideMark(p trace.StepPair) string {
	switch {
	case p.First == 0 && p.Second == 0:
		return ""
	case p.Second == 0:
		return e.tint("93", "only the first")
	case p.First == 0:
		return e.tint("93", "only the second")
	case p.Differs():
		return e.tint("91", "differs")
	}
	return "alike"
}

// valuesBeside writes two values one above the other, and where they part.
func valuesBeside(w io.Writer, l trace.ValueBesides) {
	word := ""
	if l.Bound {
		word = ", as it is bound to"
	}
	fmt.Fprintf(w, "    %s%s\n      first   %s\n      second  %s\n", l.Label, word, dash(l.Before), dash(l.After))
	if at := differs(l.Before, l.After); !l.Bound && l.Before != "" && l.After != "" && 0 < at && at < 100 {
		fmt.Fprintf(w, "              %s^ from here on\n", strings.Repeat(" ", at))
	}
}

func (e *environment) listTraces(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	if r := cmd.String("result"); r != "" && !slices.Contains(crossing.Results[:], r) {
		return &usageError{fmt.Sprintf("there is no result %q", r), "Use entered, refused, waiting or left."}
	}
	f := api.TraceFilter{Search: cmd.String("search"), Result: cmd.String("result"), Application: cmd.String("app"),
		Provider: cmd.String("provider"), Limit: cmd.Int("limit"), Offset: cmd.Int("offset"),
		Rehearsed: cmd.Bool("rehearsed")}
	var err error
	if since := cmd.String("since"); since != "" {
		if f.Since, err = ago(since, time.Now()); err != nil {
			return err
		}
	}
	for kind, name := range map[string]string{"application": f.Application, "provider": f.Provider} {
		if name == "" {
			continue
		}
		if _, err := client.Call(ctx, c, api.RecordsOf(kind).Show, api.Name(name)); err != nil &&
			!removedSince(ctx, c, kind, name) {
			return err // a name that is none is no empty list
		}
	}
	l, err := client.Call(ctx, c, api.ListTraces, f)
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, x := range l.Items {
			t.add("result", x.Result, "reference!", x.ID, "started@", brief(x.Started, time.Now()),
				"application", dash(x.Application), "provider", dash(x.Provider),
				"person", dash(cmp.Or(x.Name, x.Person)), "finding!", dash(x.Finding))
		}
		empty := "No sign-in yet. Open an application, or BASE/open/NAME."
		if f != (api.TraceFilter{Limit: f.Limit}) {
			empty = "Nothing matches."
		}
		e.tell(w, t, empty)
		var total int64
		for result, n := range l.Counts {
			if f.Result == "" || f.Result == result {
				total += n
			}
		}
		listing{limit: f.Limit, offset: f.Offset}.rest(w, len(l.Items), total)
	})
}

// removedSince reports whether the history knows a record that is gone.
func removedSince(ctx context.Context, c *client.Client, kind, name string) bool {
	l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: kind, Name: name, Limit: 1})
	return err == nil && len(l.Items) > 0
}

// ago reads a time, or how long ago it was.
func ago(text string, now time.Time) (time.Time, error) {
	if days, ok := strings.CutSuffix(text, "d"); ok {
		if n, err := strconv.Atoi(days); err == nil && n > 0 {
			return now.AddDate(0, 0, -n), nil
		}
	}
	if d, err := time.ParseDuration(text); err == nil && d > 0 {
		return now.Add(-d), nil
	}
	for _, layout := range []string{time.RFC3339, "2006-01-02T15:04", "2006-01-02 15:04", time.DateOnly} {
		if t, err := time.ParseInLocation(layout, text, time.Local); err == nil {
			return t, nil
		}
	}
	return now, &usageError{fmt.Sprintf("--since is %q", text),
		"Give how long ago, like 2h or 3d, or a time like 2026-11-26 08:00."}
}

// lanes writes a trace one line a step: time offset, who → whom, message, mark.
func (e *environment) lanes(w io.Writer, t api.Trace, messages bool) {
	fields(w, [][2]string{{"reference", t.ID}, {"result", e.colour(t.Result)}, {"application", dash(t.Application)},
		{"provider", dash(t.Provider)},
		{"person", dash(named(t.TraceHead))}, {"started", local(t.Started) + " by the " + t.StartedBy},
		{"took", fmt.Sprintf("%d ms", t.Milliseconds)}})
	fmt.Fprintln(w)
	for _, s := range t.Steps {
		who := string(s.From) + " → " + string(s.To)
		if s.From == s.To {
			who = "  at the gate"
		}
		name := s.Name
		if s.Binding != "" {
			name += " by " + s.Binding[strings.LastIndex(s.Binding, ":")+1:]
		}
		fmt.Fprintf(w, "%7d ms  %-22s  %-34s  %s\n", s.At.Sub(t.Started).Milliseconds(), who, name, e.colour(mark(s)))
		for _, v := range s.Values {
			fmt.Fprintf(w, "              %-8s %s: %s\n",
				map[bool]string{true: "sent", false: "wanted"}[s.From == crossing.GateLane], v.Label, v.Value)
		}
		for _, c := range s.Checks {
			if c.Finding == nil {
				fmt.Fprintf(w, "              ok       %s: %s\n", c.What, c.Found)
			} else if s.Finding == nil || c.Finding.Code != s.Finding.Code {
				e.finding(w, c.Finding)
			}
		}
		if s.Finding != nil {
			e.finding(w, s.Finding)
		}
		if messages && s.Octets != "" {
			fmt.Fprintf(w, "\n%s\n\n", s.Octets)
		}
		if s.Cut > 0 {
			fmt.Fprintf(w, "              cut      %d octets of this message were not kept\n", s.Cut)
		}
	}
	if len(t.Remedies) > 0 {
		fmt.Fprintln(w, "\nWhat would have let them in, the smallest change first (each was run through this sign-in):")
	}
	for _, r := range t.Remedies {
		fmt.Fprintln(w, "  "+r.Says)
		if r.Command != "" {
			fmt.Fprintln(w, "    "+r.Command)
		}
	}
}

func mark(s crossing.TraceStep) string {
	if s.Finding != nil {
		return "refused"
	}
	for _, c := range s.Checks {
		if c.Finding != nil {
			return "note"
		}
	}
	return "ok"
}

// named is a person by the name that they have here, and that from their provider.
func named(t api.TraceHead) string {
	if t.Name == "" || t.Name == t.Person {
		return t.Person
	}
	return t.Name + ", at the provider " + t.Person
}
