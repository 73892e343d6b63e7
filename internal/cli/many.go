package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// manyFlags are those of commands that change one record or many.
func manyFlags() []ucli.Flag {
	return []ucli.Flag{&ucli.StringFlag{Name: "search",
		Usage: "in place of names: all with this part of a name, title or entity ID"},
		&ucli.BoolFlag{Name: "all", Usage: "in place of names: all there are"},
		&ucli.BoolFlag{Name: "dry-run", Usage: "only tell what would change"}, yesFlag}
}

// split tells names from settings.
func split(args []string) (names, settings []string) {
	for _, a := range args {
		if strings.Contains(a, "=") {
			settings = append(settings, a)
		} else {
			names = append(names, a)
		}
	}
	return names, settings
}

// setRecords changes settings of records: those given, or others of the command's
// own.
func (e *environment) setRecords(k kindOf, own []string) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		names, words := split(cmd.Args().Slice())
		switch {
		case own != nil && len(words) > 0:
			return &usageError{fmt.Sprintf("%q is no name", words[0]), "Settings are changed with innergate " + k.command +
				" set."}
		case own == nil && len(words) == 0:
			return &usageError{"no setting is given", "Call it as " + cmd.FullName() + " NAME … SETTING=VALUE …; see --help."}
		}
		set, err := e.assign(settingList(k.kind), append(words, own...))
		if err != nil {
			return err
		}
		return e.many(ctx, cmd, k, api.Many{Kind: k.kind, Names: names, Search: cmd.String("search"), All: cmd.Bool("all"),
			Set: set})
	}
}

// many changes or removes records: tells what that comes to, asks where it has to
// be asked, and does all of it or nothing.
func (e *environment) many(ctx context.Context, cmd *ucli.Command, k kindOf, m api.Many) error {
	if len(m.Names) == 0 && m.Search == "" && !m.All {
		return &usageError{"no " + k.kind + " is named", "Call it as " + cmd.FullName() +
			" NAME …, or with --search or --all."}
	}
	if len(m.Names) > 0 && (m.Search != "" || m.All) {
		return &usageError{"names and a search were given", "Give either, not both."}
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	p, err := client.Call(ctx, c, api.PreviewChanges, api.Body(m))
	if err != nil {
		return err
	}
	if r := p.Refused; len(r) == 1 && p.Matched == 1 {
		return fmt.Errorf("%s cannot be changed: %s: %s", r[0].Name, fromOne(r[0].Field), r[0].Cause)
	}
	if cmd.Bool("dry-run") || len(p.Changes) == 0 || len(p.Refused) > 0 {
		err := e.print(cmd, p, func(w io.Writer) { e.manyPreview(w, m, p) })
		if err == nil && len(p.Refused) > 0 {
			return errors.New("nothing was changed: not all of them can be changed so; leave those out that cannot")
		}
		return err
	}
	if m.Remove || len(m.Names) == 0 {
		if err := e.confirm(cmd, fmt.Sprintf("%d of the %s %s", len(p.Changes), k.what,
			map[bool]string{true: "would be removed", false: "would be changed"}[m.Remove])); err != nil {
			return err
		}
	}
	carry := e.carryHint(ctx, c, k, m)
	m.Digest = p.Digest
	if p, err = client.Call(ctx, c, api.ChangeMany, api.Body(m)); err != nil {
		return err
	}
	return e.print(cmd, p, func(w io.Writer) {
		if e.quiet {
			return
		}
		verb, acts := "changed", "; it acts from the next request on"
		if m.Remove {
			verb, acts = "removed", ""
		}
		if len(p.Changes) == 1 {
			fmt.Fprintf(w, "%s %s%s\n", verb, p.Changes[0].Name, acts)
		} else {
			fmt.Fprintf(w, "%s %d %s%s\n", verb, len(p.Changes), k.what, acts)
		}
		e.consequence(w, p.Consequence, "are")
		if carry != "" {
			fmt.Fprintln(w, carry)
		}
		fmt.Fprintln(w, backTo(p.Change))
	})
}

// carryHint says what becomes of the people of a provider that is removed.
func (e *environment) carryHint(ctx context.Context, c *client.Client, k kindOf, m api.Many) string {
	if !m.Remove || k.kind != "provider" {
		return ""
	}
	id := "ID"
	if len(m.Names) == 1 {
		if r, err := client.Call(ctx, c, api.RecordsOf(k.kind).Show, api.Name(m.Names[0])); err == nil {
			id = r.ID
		}
	}
	return "whom it let in is nobody to another provider under this name, until it is back, or their links are carried over: innergate person carry " + id + " NAME --preview"
}

// manyPreview tells what a change of many comes to.
func (e *environment) manyPreview(w io.Writer, m api.Many, p api.ManyPreview) {
	if p.Matched == 0 {
		fmt.Fprintln(w, "Nothing matches.")
		return
	}
	for _, c := range p.Changes[:min(len(p.Changes), 50)] {
		if m.Remove {
			fmt.Fprintf(w, "would be removed  %s, %s\n", c.Name, c.Title)
			continue
		}
		fmt.Fprintf(w, "would change  %s, %s\n", c.Name, c.Title)
		for _, d := range c.Differences {
			fmt.Fprintf(w, "  %s  %s → %s\n", d.Name(), dash(d.Before), dash(d.After))
		}
	}
	if n := len(p.Changes); n > 50 {
		fmt.Fprintf(w, "and %d more; all with --output json\n", n-50)
	}
	for _, r := range p.Refused[:min(len(p.Refused), 50)] {
		fmt.Fprintf(w, "cannot be changed  %s\n  %s: %s\n", r.Name, fromOne(r.Field), r.Cause)
	}
	if n := len(p.Changes) + p.Unchanged; p.Unchanged == n && n > 0 && len(p.Refused) == 0 {
		fmt.Fprintln(w, "nothing differs: it is so already")
		return
	}
	fmt.Fprintf(w, "%d match: %d would change, %d are so already, %d cannot be changed\n", p.Matched, len(p.Changes),
		p.Unchanged, len(p.Refused))
	e.consequence(w, p.Consequence, "would be")
}
