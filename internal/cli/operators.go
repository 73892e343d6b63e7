package cli

import (
	"context"
	"fmt"
	"io"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/client"
)

// password reads a password from a file or standard input, never from the
// command line, where others could see it.
func (e *environment) password(cmd *ucli.Command) (string, error) {
	if cmd.String("password-file") == "" {
		return "", &usageError{"--password-file is missing", "Give a file that holds the password, or - for standard input."}
	}
	text, _, err := e.readDocument(cmd.String("password-file"))
	return string(trim(text)), err
}

func (e *environment) owners() *ucli.Command {
	name := []string{"USERNAME"}
	file := &ucli.StringFlag{Name: "password-file", Usage: "file with the password, - for standard input"}
	return &ucli.Command{Name: "owner", Usage: "who may sign in to the console", Commands: []*ucli.Command{
		{Name: "add", Usage: "add an owner", ArgsUsage: "USERNAME", Flags: []ucli.Flag{file},
			Action: e.action(name, e.addOwner)},
		{Name: "list", Usage: "list owners",
			Action: e.action(nil, e.listOwners)},
		{Name: "password", Usage: "give an owner a new password", ArgsUsage: "USERNAME", Flags: []ucli.Flag{file},
			Action: e.action(name, e.setPassword)},
		{Name: "remove", Usage: "remove an owner", ArgsUsage: "USERNAME",
			Action: e.action(name, e.removeOwner)},
	}}
}

func (e *environment) addOwner(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	password, err := e.password(cmd)
	if err != nil {
		return err
	}
	if _, err := c.AddOwner(ctx, args[0], password); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "added "+args[0])
	return nil
}

func (e *environment) setPassword(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	password, err := e.password(cmd)
	if err != nil {
		return err
	}
	if err := c.SetPassword(ctx, args[0], password); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "changed the password of "+args[0])
	return nil
}

func (e *environment) removeOwner(ctx context.Context, _ *ucli.Command, c *client.Client, args []string) error {
	if err := c.RemoveOwner(ctx, args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "removed "+args[0])
	return nil
}

func (e *environment) listOwners(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := c.Owners(ctx)
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, o := range l.Items {
			rows = append(rows, []string{o.Username, local(o.Added)})
		}
		e.table(w, []string{"user name", "added"}, nil, rows,
			"No owner yet. Open the set-up link that the gate prints when it starts.")
	})
}

func (e *environment) tokens() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "token", Usage: "API tokens", Commands: []*ucli.Command{
		{Name: "add", Usage: "make a token; its secret is shown once", ArgsUsage: "NAME",
			Action: e.action(name, e.addToken)},
		{Name: "list", Usage: "list tokens",
			Action: e.action(nil, e.listTokens)},
		{Name: "remove", Usage: "remove a token; it stops working at once", ArgsUsage: "NAME",
			Action: e.action(name, e.removeToken)},
	}}
}

func (e *environment) addToken(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	t, err := c.AddToken(ctx, args[0])
	if err != nil {
		return err
	}
	return e.print(cmd, t, func(w io.Writer) {
		fmt.Fprintf(w, "%s\n", t.Secret)
		fmt.Fprintf(e.err, "This is the only time the secret of %q is shown.\n", t.Name)
	})
}

func (e *environment) listTokens(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := c.Tokens(ctx)
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		rows := [][]string{}
		for _, t := range l.Items {
			rows = append(rows, []string{t.Name, t.By, local(t.Added)})
		}
		e.table(w, []string{"name", "made by", "made at"}, []int{0}, rows, "No token yet.")
	})
}

func (e *environment) removeToken(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if err := c.RemoveToken(ctx, args[0]); err != nil {
		return err
	}
	fmt.Fprintln(e.out, "removed "+args[0])
	return nil
}
