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
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
)

func (e *environment) traces() *ucli.Command {
	return &ucli.Command{Name: "trace", Usage: "recorded sign-ins", Commands: []*ucli.Command{
		{Name: "list", Usage: "list traces, newest first", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "search", Usage: "part of a reference, application, provider, person or finding"},
			&ucli.StringFlag{Name: "result", Usage: "entered, refused, waiting or left"},
			&ucli.StringFlag{Name: "app", Usage: "of this application"},
			&ucli.StringFlag{Name: "provider", Usage: "of this provider"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50}},
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				if r := cmd.String("result"); r != "" && !slices.Contains(crossing.Results[:], r) {
					return &usageError{fmt.Sprintf("there is no result %q", r), "Use entered, refused, waiting or left."}
				}
				l, err := c.Traces(ctx, client.TraceFilter{Search: cmd.String("search"), Result: cmd.String("result"),
					Application: cmd.String("app"), Provider: cmd.String("provider"), Limit: cmd.Int("limit")})
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, t := range l.Items {
						rows = append(rows, []string{t.Result, t.ID, brief(t.Started, time.Now()), dash(t.Application), dash(t.Provider),
							dash(t.Person), dash(t.Finding)})
					}
					e.table(w, []string{"result", "reference", "started", "application", "provider", "person", "finding"},
						[]int{3, 4, 5, 6}, rows, "No sign-in yet. Open an application, or BASE/open/NAME.")
				})
			})},
		{Name: "show", Usage: "show one trace step by step", ArgsUsage: "REFERENCE", Flags: []ucli.Flag{
			&ucli.BoolFlag{Name: "messages", Usage: "print the decoded messages as well"}},
			Action: e.action([]string{"REFERENCE"},
				func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
					t, err := c.Trace(ctx, args[0])
					if err != nil {
						return err
					}
					return e.print(cmd, t, func(w io.Writer) { e.lanes(w, t, cmd.Bool("messages")) })
				})},
	}}
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}

// lanes writes a trace one line a step: time offset, who → whom, message, mark.
func (e *environment) lanes(w io.Writer, t api.Trace, messages bool) {
	fields(w, [][2]string{{"reference", t.ID}, {"result", e.colour(t.Result)}, {"application", dash(t.Application)},
		{"provider", dash(t.Provider)},
		{"person", dash(t.Person)}, {"started", local(t.Started) + " by the " + t.StartedBy},
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
		fmt.Fprintf(w, "%7d ms  %-22s  %-30s  %s\n", s.At.Sub(t.Started).Milliseconds(), who, name, e.colour(mark(s)))
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

func (e *environment) finding(w io.Writer, f *finding.Finding) {
	e.told(w, f, map[finding.Severity]string{finding.Error: "refused", finding.Warning: "warning",
		finding.Note: "note"}[f.Severity])
}

// told writes a finding under a word for its weight.
func (e *environment) told(w io.Writer, f *finding.Finding, word string) {
	pad := strings.Repeat(" ", 9-len(word))
	fmt.Fprintf(w, "              %s%s%s [%s]\n", e.colour(word), pad, f.Title, f.Code)
	for _, ev := range f.Evidence {
		if ev.Expected != "" {
			was, is := "expected", "found   "
			if strings.HasPrefix(string(f.Code), "changed-") {
				was, is = "before", "after "
			}
			fmt.Fprintf(w, "                       %s %s  %s\n                       %s %s  %s\n", ev.Label, was, ev.Expected,
				strings.Repeat(" ", len([]rune(ev.Label))), is, ev.Found)
		} else {
			fmt.Fprintf(w, "                       %s: %s\n", ev.Label, ev.Found)
		}
	}
	fmt.Fprintf(w, "                       %s: %s\n", where(f.Side), f.Remedy)
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
