// Package cli is the command line. Except serve, demo, standin, openapi and what
// changes the operators on a gate's host, its commands know only the client and
// the core.
package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"maps"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Exit statuses, of every command.
const (
	exitOK     = 0 // done
	exitFailed = 1 // refused, or failed
	exitUsage  = 2 // called wrongly: nothing was tried
	exitFound  = 3 // what was looked at has findings of severity error
)

// errFound says that what was looked at has findings of severity error; they have
// been printed.
var errFound = errors.New("findings of severity error")

// usageError is a wrong call: what, and what to do.
type usageError struct{ what, do string }

func (e *usageError) Error() string { return e.what }

type environment struct {
	in       io.Reader
	out, err io.Writer
	quiet    bool   // only what was asked for is printed
	wide     bool   // nothing is cut
	protocol string // that help is wanted for
}

// Run runs one command and gives the exit status: 0 ok, 1 failed, 2 wrong usage,
// 3 findings of severity error.
func Run(ctx context.Context, args []string, in io.Reader, out, errOut io.Writer) int {
	e := &environment{in: in, out: out, err: errOut}
	root := e.root()
	e.prepare(root, "innergate")
	if help, at, err := wantsHelp(root, args); err != nil {
		return e.report(err)
	} else if help {
		e.protocol = optionOf(args, "protocol")
		e.help(at)
		return exitOK
	}
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
	case errors.Is(err, context.Canceled):
		say("interrupted", "What had begun at the gate goes on there; see innergate history list.")
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
		what, do = f.Title, f.Remedy+draftHint(f.Code)
		for i, ev := range f.Evidence {
			if ev.Label == "To confirm" {
				do += " If it is meant, repeat it with --confirm " + ev.Found + "."
				continue
			}
			what += map[bool]string{true: ": ", false: "; "}[i == 0] + evidence(ev)
		}
		return fieldPrefix(p) + what + " [" + string(f.Code) + "]", do
	}
	if what, do, ok := strings.Cut(p.Detail, "; "); ok {
		return fieldPrefix(p) + what, do
	}
	return fieldPrefix(p) + p.Title, p.Detail
}

// draftHint names the option that helps where values are missing.
func draftHint(code finding.Code) string {
	switch code {
	case finding.DraftIncomplete, finding.MetadataNoEndpoint, finding.MetadataNoKey, finding.MetadataCertificate:
		return " Or keep what there is with --draft, and the rest later."
	}
	return ""
}

// options are those under which fields of the API are given here.
var options = map[string]string{"metadata": "--metadata", "address": "--metadata", "record": "--from"}

func fieldPrefix(p *api.Problem) string {
	if len(p.Errors) == 0 || p.Errors[0].Field == "" {
		return ""
	}
	field := p.Errors[0].Field
	if field == "confirm" {
		return ""
	}
	if renamed, ok := options[field]; ok {
		field = renamed
	} else if f := typed(field); f.Type != "" {
		field = "--" + option(f)
	}
	return fromOne(field) + ": "
}

// typed describes a value that can be typed of a record.
func typed(field string) federation.Setting {
	return federation.Field(append(app.Fields("provider", ""), app.Fields("application", "")...), field)
}

// rulePlace is a rule, or a step of one, in the name of a field.
var rulePlace = regexp.MustCompile(`\.?(rules|steps|from)\[(\d+)\]`)

// fromOne is the name of a field as people count: rules from one.
func fromOne(field string) string {
	return rulePlace.ReplaceAllStringFunc(field, func(s string) string {
		m := rulePlace.FindStringSubmatch(s)
		n, _ := strconv.Atoi(m[2])
		return fmt.Sprintf(", %s %d", map[string]string{"rules": "rule", "steps": "step", "from": "source"}[m[1]], n+1)
	})
}

func evidence(ev finding.Evidence) string {
	if ev.Expected != "" {
		return fmt.Sprintf("%s expected %q, found %q", ev.Label, ev.Expected, ev.Found)
	}
	return ev.Label + " " + ev.Found
}

func (e *environment) root() *ucli.Command {
	return &ucli.Command{
		Name: "innergate", Usage: "stands between applications and identity providers",
		Writer: e.out, ErrWriter: e.err, EnableShellCompletion: true,
		ConfigureShellCompletionCommand: func(c *ucli.Command) {
			c.Hidden, c.Usage = false, completionUsage
			c.ExitErrHandler = func(context.Context, *ucli.Command, error) {}
		},
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "gate", Usage: "a saved gate, by its name", Sources: ucli.EnvVars("INNERGATE_GATE")},
			&ucli.StringFlag{Name: "url", Usage: "base address of the gate", Sources: ucli.EnvVars("INNERGATE_URL")},
			&ucli.StringFlag{Name: "token", Usage: "API token", Sources: ucli.EnvVars("INNERGATE_TOKEN")},
			&ucli.StringFlag{Name: "ca-file", Usage: "certificates in PEM of authorities that the gate's own rests on",
				Sources: ucli.EnvVars("INNERGATE_CA_FILE")},
			&ucli.StringFlag{Name: "remark", Usage: "why: kept with the change in the history"},
			&ucli.StringFlag{Name: "confirm", Usage: "digest of a consequence that was looked at"},
			&ucli.StringFlag{Name: "output", Aliases: []string{"o"}, Usage: "table, json or yaml", Value: "table"},
			&ucli.BoolFlag{Name: "wide", Usage: "cut nothing to fit the terminal, and leave no column out"},
			&ucli.BoolFlag{Name: "quiet", Aliases: []string{"q"}, Usage: "print only what was asked for, and errors"},
		},
		Before: func(ctx context.Context, cmd *ucli.Command) (context.Context, error) {
			e.quiet, e.wide = cmd.Bool("quiet"), cmd.Bool("wide")
			return ctx, nil
		},
		Commands: []*ucli.Command{e.serve(), e.demo(), e.standins(), e.records(ofProvider), e.records(ofApplication),
			e.connections(), e.aggregates(), e.refresh(), e.waiting(),
			e.decide("approve", "apply the change of a record that waits for approval"),
			e.decide("decline", "drop the change of a record that waits, until the metadata changes again"), e.check(),
			e.acknowledge(), e.history(), e.traces(), e.notices(), e.tokens(), e.owners(), e.keys(), e.contexts(), e.mappings(),
			e.sets(), e.objects(), e.accessRules(), e.selection(), e.roles(), e.starts(), e.recipients(), e.rehearsals(), e.rehearse(), e.bundle(), e.portal(),
			e.requests(), e.simulate(),
			e.reevaluate(), e.people(), e.groups(), e.organisations(), e.comparing(),
			e.gates(),
			e.openapi(), e.version(), e.helpCommand()},
	}
}

func (e *environment) version() *ucli.Command {
	return &ucli.Command{Name: "version", Usage: "print the version of this program",
		Action: func(_ context.Context, cmd *ucli.Command) error {
			if _, err := names(cmd); err != nil {
				return err
			}
			return e.print(cmd, map[string]string{"version": app.Version}, func(w io.Writer) {
				fmt.Fprintln(w, "innergate "+app.Version)
			})
		}}
}

// prepare gives every command our way of refusing: groups refuse unknown
// subcommands, all refuse unknown options, with a near word; and completes what it
// takes.
func (e *environment) prepare(c *ucli.Command, path string) {
	c.ExitErrHandler = func(context.Context, *ucli.Command, error) {}
	c.OnUsageError = func(_ context.Context, cmd *ucli.Command, err error, _ bool) error {
		return flagError(cmd, path, err)
	}
	c.HideHelp, c.HideHelpCommand, c.HideVersion = true, true, true
	c.ShellComplete = e.completes
	own := map[string]any{"path": path} // a copy: several commands are given the same
	maps.Copy(own, c.Metadata)
	c.Metadata = own
	var names []string
	for _, sub := range c.Commands {
		names = append(names, sub.Name)
		names = append(names, sub.Aliases...)
		e.prepare(sub, path+" "+sub.Name)
	}
	if len(names) == 0 {
		return
	}
	c.Action = func(_ context.Context, cmd *ucli.Command) error {
		given := cmd.Args().First()
		if given == "" {
			e.help(cmd)
			return nil
		}
		return noCommand(path, given, names)
	}
}

func noCommand(path, given string, names []string) error {
	do := fmt.Sprintf("The commands are %s.", strings.Join(names, ", "))
	if near := nearword.Of(given, names); near != "" {
		do = fmt.Sprintf("Did you mean %q?", path+" "+near)
	}
	return &usageError{fmt.Sprintf("there is no command %q", path+" "+given), do}
}

var (
	unknownFlag = regexp.MustCompile(`flag provided but not defined: -+(\S+)`)
	wrongValue  = regexp.MustCompile(`(?s)^invalid value (".*") for flag -+(\S+): (.*)$`)
)

// valueError says what an option takes that was given something else.
func valueError(given, option, cause, do string) error {
	switch {
	case strings.Contains(cause, "out of range"):
		cause = "is out of range"
	case strings.Contains(cause, "ParseInt"):
		cause = "is no whole number"
	default:
		cause, do = "cannot be its value", fmt.Sprintf("Write --%s alone, or leave it out.", option)
	}
	return &usageError{fmt.Sprintf("--%s: %s %s", option, given, cause), do}
}

func flagError(cmd *ucli.Command, path string, err error) error {
	do := fmt.Sprintf("See %s --help.", path)
	m := unknownFlag.FindStringSubmatch(err.Error())
	if m == nil {
		if v := wrongValue.FindStringSubmatch(err.Error()); v != nil {
			return valueError(v[1], v[2], v[3], do)
		}
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
	if name := camel(m[1]); takesSettings(cmd) && slices.ContainsFunc(allSettings(), func(s string) bool {
		return strings.EqualFold(s, name)
	}) {
		do = fmt.Sprintf("It is a setting: write %s=VALUE, without dashes.", nearword.Of(name, allSettings()))
	}
	return &usageError{fmt.Sprintf("there is no option --%s here", m[1]), do}
}

// camel is the name of a setting for the words of an option.
func camel(option string) string {
	words := strings.Split(option, "-")
	for i, w := range words[1:] {
		if w != "" {
			words[i+1] = strings.ToUpper(w[:1]) + w[1:]
		}
	}
	return strings.Join(words, "")
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

// yesFlag says yes beforehand.
var yesFlag = &ucli.BoolFlag{Name: "yes", Aliases: []string{"y"}, Usage: "do it without asking"}

// confirm asks before something that destroys or changes much: on a terminal, or by
// --yes.
func (e *environment) confirm(cmd *ucli.Command, what string) error {
	if cmd.Bool("yes") {
		return nil
	}
	in, ok := e.in.(*os.File)
	if !ok || !terminal(in) || !terminal(e.err) {
		return &usageError{what + ": this is not done unasked", "Add --yes, if it is meant."}
	}
	fmt.Fprintf(&shown{w: e.err}, "%s. Do it? (yes/no) ", what)
	var answer string
	_, _ = fmt.Fscanln(in, &answer) // no answer is no
	if a := strings.ToLower(answer); a != "yes" && a != "y" {
		return &usageError{"nothing was done", "Answer yes, or add --yes, if it is meant."}
	}
	return nil
}

// lossMeant asks whether a change is made by which somebody loses something: by --yes, else on a terminal. Elsewhere
// it is not made, and what is to be confirmed is told.
func (e *environment) lossMeant(cmd *ucli.Command, lost *finding.Finding) bool {
	if cmd.Bool("yes") {
		return true
	}
	if in, ok := e.in.(*os.File); !ok || !terminal(in) || !terminal(e.err) {
		return false
	}
	for _, ev := range lost.Evidence {
		if ev.Label != finding.ToConfirm {
			fmt.Fprintln(&shown{w: e.err}, evidence(ev))
		}
	}
	return e.confirm(cmd, lost.Title) == nil
}

// said prints what was done, unless only what was asked for is wanted.
func (e *environment) said(format string, args ...any) {
	if !e.quiet {
		fmt.Fprintf(&shown{w: e.out}, format+"\n", args...)
	}
}
