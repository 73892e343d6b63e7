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
		{Name: "show", Usage: "show one trace step by step", ArgsUsage: "REFERENCE",
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
	}}
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
