package cli

import (
	"context"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// ownKind describes the commands that make, change and remove objects of a kind that has commands of its own.
type ownKind struct {
	kind, what string // like a rule
	settings   string
	example    string // of settings
}

func (e *environment) ownCommands(k ownKind) []*ucli.Command {
	return []*ucli.Command{
		{Name: "put", Usage: "make " + k.what + ", or change settings of it", ArgsUsage: "NAME SETTING=VALUE …",
			Description: "What is not named stays. Settings: " + k.settings +
				".\nThose that take several values take them with | between. " +
				"innergate object kinds " + k.kind + " explains them.",
			Flags: []ucli.Flag{&ucli.BoolFlag{Name: "dry-run", Usage: "only tell what would change"}, yesFlag},
			Action: e.anyNumber(func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				if len(args) == 0 {
					return &usageError{"NAME is missing", "innergate " + k.kind + " put NAME " + k.example}
				}
				return e.putObject(ctx, cmd, c, append([]string{k.kind + "/" + args[0]}, args[1:]...))
			})},
		{Name: "remove", Usage: "remove " + k.what, ArgsUsage: "NAME", Flags: []ucli.Flag{yesFlag},
			Action: e.action([]string{"NAME"}, func(ctx context.Context, _ *ucli.Command, c *client.Client,
				args []string) error {
				if err := client.Do(ctx, c, api.RemoveObject, api.Of(k.kind, args[0])); err != nil {
					return err
				}
				e.said("removed %s/%s", k.kind, args[0])
				return nil
			})},
	}
}
