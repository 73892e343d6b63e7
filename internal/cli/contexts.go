package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// contexts is the ranking of authentication contexts.
func (e *environment) contexts() *ucli.Command {
	show := func(cmd *ucli.Command, l api.Contexts) error {
		return e.print(cmd, l, func(w io.Writer) {
			var t table
			for i, rank := range l.Ranks {
				for _, c := range rank {
					t.add("rank!", fmt.Sprint(i+1), "context!", c)
				}
			}
			e.tell(w, t, "Nothing is ranked: each context satisfies only itself.")
		})
	}
	return &ucli.Command{Name: "context", Usage: "how authentication contexts rank", Commands: []*ucli.Command{
		{Name: "list", Usage: "list the ranks, the weakest first",
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := client.Call(ctx, c, api.ShowContexts, api.None{})
				if err != nil {
					return err
				}
				return show(cmd, l)
			})},
		{Name: "set", Usage: "replace the ranks: a line for each, the weakest first, its contexts separated by spaces",
			ArgsUsage:   "FILE",
			Description: "FILE is a file, or - for standard input. Lines that begin with # are left out.",
			Action: e.action([]string{"FILE"},
				func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
					text, err := e.readFile("FILE", args[0])
					if err != nil {
						return err
					}
					now, err := client.Call(ctx, c, api.ShowContexts, api.None{})
					if err != nil {
						return err
					}
					ranks := federation.Ranking{}
					for line := range strings.SplitSeq(string(text), "\n") {
						if words := strings.Fields(line); len(words) > 0 && !strings.HasPrefix(words[0], "#") {
							ranks = append(ranks, words)
						}
					}
					l, err := client.Call(ctx, c, api.ChangeContexts, api.Body(api.Contexts{Revision: now.Revision, Ranks: ranks}))
					if err != nil {
						return err
					}
					return show(cmd, l)
				})},
	}}
}
