package cli

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/finding"
)

// takes says what the arguments of a command name, for completing them: provider,
// application, aggregate, record, rehearsal, trace, code, token or owner; and whose settings follow.
func takes(what, settings string) map[string]any {
	return map[string]any{"takes": what, "settings": settings}
}

// completes prints what can stand next on a command line: options, commands, and
// what the gate has.
func (e *environment) completes(ctx context.Context, cmd *ucli.Command) {
	args := cmd.Args().Slice()
	last := ""
	if len(args) > 0 {
		last = args[len(args)-1]
	}
	what, _ := cmd.Metadata["takes"].(string)
	if strings.HasPrefix(last, "-") || what == "" {
		ucli.DefaultCompleteWithFlags(ctx, cmd)
		return
	}
	ctx, cancel := context.WithTimeout(ctx, 2*time.Second)
	defer cancel()
	if kind := settingsKind(cmd); kind != "" && len(args) > 0 {
		for _, s := range settingList(kind) {
			choices := s.Choices
			if s.Boolean() {
				choices = []string{"true", "false"}
			}
			if len(choices) == 0 {
				choices = []string{""}
			}
			for _, c := range choices {
				fmt.Fprintln(e.out, s.Name+"="+c)
			}
		}
	}
	c, err := e.dial(cmd)
	if err != nil {
		return // there is nobody to tell
	}
	for _, name := range known(ctx, c, what) {
		if !slices.Contains(args, name) || name == last {
			fmt.Fprintln(e.out, name)
		}
	}
}

// known are the names that there are of something.
func known(ctx context.Context, c *client.Client, what string) (out []string) {
	switch what {
	case "provider", "application":
		l, err := client.Call(ctx, c, api.RecordsOf(what).List, api.Listing{})
		for _, r := range l.Items {
			out = append(out, r.Name)
		}
		if err != nil {
			return nil
		}
	case "record":
		for _, kind := range []string{"provider", "application", "aggregate"} {
			out = append(out, known(ctx, c, kind)...)
		}
	case "aggregate":
		l, _ := client.Call(ctx, c, api.ListAggregates, api.None{})
		for _, a := range l.Items {
			out = append(out, a.Name)
		}
	case "token":
		l, _ := client.Call(ctx, c, api.ListTokens, api.None{})
		for _, t := range l.Items {
			out = append(out, t.Name)
		}
	case "owner":
		l, _ := client.Call(ctx, c, api.ListOwners, api.None{})
		for _, o := range l.Items {
			out = append(out, o.Username)
		}
	case "rehearsal":
		l, _ := client.Call(ctx, c, api.ListRehearsals, api.RehearsalFilter{})
		for _, r := range l.Items {
			out = append(out, r.Name)
		}
	case "trace":
		l, _ := client.Call(ctx, c, api.ListTraces, api.TraceFilter{Limit: 50})
		for _, t := range l.Items {
			out = append(out, t.ID)
		}
	case "code":
		for _, f := range finding.Catalogue() {
			out = append(out, string(f.Code))
		}
	}
	return out
}
