// Package cli is the command line. Except serve, demo,
// standin and openapi its commands
// know only the client and the core.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"regexp"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Exit statuses.
const (
	exitOK     = 0
	exitFailed = 1
	exitUsage  = 2
	exitFound  = 3
)

// errFound says that what was checked has findings of severity error; they have
// been printed.
var errFound = errors.New("findings of severity error")

// usageError is a wrong call: what, and what to do.
type usageError struct{ what, do string }

func (e *usageError) Error() string { return e.what }

type environment struct {
	in       io.Reader
	out, err io.Writer
}

// Run runs one command and gives the exit status: 0 ok, 1 failed, 2 wrong usage,
// 3 findings of severity error.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	e := &environment{in, out, errOut}
	root := e.root()
	prepare(root, "innergate")
	return e.report(root.Run(ctx, args))
}

// report writes an error in two lines, what and what to do.
func (e *environment) report(err error) int {
	if err == nil {
		return exitOK
	}
	if errors.Is(err, errFound) {
		return exitFound
	}
	say := func(what, do string) {
		w := &shown{w: e.err}
		fmt.Fprintln(w, "innergate: "+what)
		if do != "" {
			fmt.Fprintln(w, "  "+do)
		}
	}
	var ue *usageError
	var p *api.Problem
	var ce *app.ConfigError
	switch {
	case errors.As(err, &ue):
		say(ue.what, ue.do)
		return exitUsage
	case errors.As(err, &ce):
		say(ce.What, ce.Do)
		return exitUsage
	case errors.As(err, &p):
		say(problemLines(p))
	default:
		what, do, ok := strings.Cut(err.Error(), "; ")
		if !ok {
			do = "Run it again with --help to see what it takes."
		}
		say(what, do)
	}
	return exitFailed
}

func problemLines(p *api.Problem) (what, do string) {
	if f := p.Finding; f != nil {
		what = f.Title
		for i, ev := range f.Evidence {
			what += map[bool]string{true: ": ", false: "; "}[i == 0] + evidence(ev)
		}
		return fieldPrefix(p) + what + " [" + string(f.Code) + "]", f.Remedy
	}
	if what, do, ok := strings.Cut(p.Detail, "; "); ok {
		return fieldPrefix(p) + what, do
	}
	if p.Status == 401 {
		return "the gate does not know this token", p.Detail
	}
	return fieldPrefix(p) + p.Title, p.Detail
}

func fieldPrefix(p *api.Problem) string {
	if len(p.Errors) > 0 && p.Errors[0].Field != "" {
		return p.Errors[0].Field + ": "
	}
	return ""
}

func evidence(ev finding.Evidence) string {
	if ev.Expected != "" {
		return fmt.Sprintf("%s expected %q, found %q", ev.Label, ev.Expected, ev.Found)
	}
	return ev.Label + " " + ev.Found
}

func (e *environment) root() *ucli.Command {
	return &ucli.Command{
		Name: "innergate", Usage: "stands between applications and identity providers", Version: app.Version,
		Writer: e.out, ErrWriter: e.err, EnableShellCompletion: true,
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "url", Usage: "base address of the gate", Sources: ucli.EnvVars("INNERGATE_URL")},
			&ucli.StringFlag{Name: "token", Usage: "API token", Sources: ucli.EnvVars("INNERGATE_TOKEN")},
			&ucli.StringFlag{Name: "remark", Usage: "why: kept with the change in the history"},
			&ucli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "table, json or yaml", Value: "table"},
		},
		Commands: []*ucli.Command{e.serve(), e.demo(), e.standins(), e.providers(), e.applications(), e.aggregates(),
			e.refresh(), e.waiting(), e.decide("approve", "apply the change of a record that waits for approval"),
			e.decide("decline", "drop the change of a record that waits, until the metadata changes again"), e.check(),
			e.history(), e.traces(), e.tokens(), e.owners(), e.keys(), e.contexts(), e.people(), e.gates(), e.openapi()},
	}
}

// prepare gives every command our way of refusing: groups refuse unknown
// subcommands, all refuse unknown options, with a near word.
func prepare(c *ucli.Command, path string) {
	c.ExitErrHandler = func(context.Context, *ucli.Command, error) {}
	c.OnUsageError = func(_ context.Context, cmd *ucli.Command, err error, _ bool) error {
		return flagError(cmd, path, err)
	}
	c.HideHelpCommand = true
	var names []string
	for _, sub := range c.Commands {
		names = append(names, sub.Name)
		names = append(names, sub.Aliases...)
		prepare(sub, path+" "+sub.Name)
	}
	if len(names) == 0 {
		return
	}
	c.Action = func(_ context.Context, cmd *ucli.Command) error {
		given := cmd.Args().First()
		if given == "" {
			return ucli.ShowSubcommandHelp(cmd)
		}
		do := fmt.Sprintf("The commands are %s.", strings.Join(names, ", "))
		if near := nearword.Of(given, names); near != "" {
			do = fmt.Sprintf("Did you mean %q?", path+" "+near)
		}
		return &usageError{fmt.Sprintf("there is no command %q", path+" "+given), do}
	}
}

var unknownFlag = regexp.MustCompile(`flag provided but not defined: -+(\S+)`)

func flagError(cmd *ucli.Command, path string, err error) error {
	do := fmt.Sprintf("See %s --help.", path)
	m := unknownFlag.FindStringSubmatch(err.Error())
	if m == nil {
		return &usageError{err.Error(), do}
	}
	var names []string
	for at := cmd; at != nil; at = parent(at) {
		for _, f := range at.Flags {
			names = append(names, f.Names()...)
		}
	}
	if near := nearword.Of(m[1], names); near != "" {
		do = fmt.Sprintf("Did you mean --%s?", near)
	}
	return &usageError{fmt.Sprintf("there is no option --%s here", m[1]), do}
}

func parent(c *ucli.Command) *ucli.Command {
	line := c.Lineage()
	if len(line) < 2 {
		return nil
	}
	return line[1]
}

// names takes the positional arguments of a command: exactly as many as named.
func names(cmd *ucli.Command, want ...string) ([]string, error) {
	args := cmd.Args().Slice()
	if len(args) < len(want) {
		return nil, &usageError{strings.ToLower(want[len(args)]) + " is missing",
			"Call it as " + cmd.FullName() + " " + strings.Join(want, " ") + "; see --help."}
	}
	if len(args) > len(want) {
		return nil, &usageError{fmt.Sprintf("%q is one argument too many", args[len(want)]),
			"Call it as " + strings.TrimSpace(cmd.FullName()+" "+strings.Join(want, " ")) + "; see --help."}
	}
	return args, nil
}
