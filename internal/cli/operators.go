package cli

import (
	"context"
	"fmt"
	"io"
	"os/user"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/client"
)

// configFlag lets a command work on the host of a gate.
var configFlag = &ucli.StringFlag{Name: "config",
	Usage: "configuration file of the gate: work on its host, without its address and a token"}

// password reads a password from a file or standard input, never from the
// command line, where others could see it.
func (e *environment) password(cmd *ucli.Command) (string, error) {
	if cmd.String("password-file") == "" {
		return "", &usageError{"--password-file is missing", "Give a file that holds the password, or - for standard input."}
	}
	text, err := e.readFile("--password-file", cmd.String("password-file"))
	return string(trim(text)), err
}

func (e *environment) owners() *ucli.Command {
	name := []string{"USERNAME"}
	file := &ucli.StringFlag{Name: "password-file", Usage: "file with the password, - for standard input"}
	return &ucli.Command{Name: "owner", Usage: "who may sign in to the console", Commands: []*ucli.Command{
		{Name: "add", Usage: "add an owner", ArgsUsage: "USERNAME", Flags: []ucli.Flag{file, configFlag},
			Action: e.addOwner},
		{Name: "list", Usage: "list owners", Flags: listFlags(), Action: e.action(nil, e.listOwners)},
		{Name: "password", Usage: "give an owner a new password", ArgsUsage: "USERNAME", Metadata: takes("owner", ""),
			Flags: []ucli.Flag{file}, Action: e.action(name, e.setPassword)},
		{Name: "remove", Usage: "remove an owner", ArgsUsage: "USERNAME", Metadata: takes("owner", ""),
			Flags: []ucli.Flag{yesFlag}, Action: e.action(name, e.removeOwner)},
	}}
}

// onHost is who changes something on the gate's host.
func onHost(cmd *ucli.Command) app.Host {
	who := "host"
	if u, err := user.Current(); err == nil {
		who += " " + u.Username
	}
	return app.Host{Config: cmd.String("config"), Who: who, Why: cmd.String("remark")}
}

func (e *environment) addOwner(ctx context.Context, cmd *ucli.Command) error {
	args, err := names(cmd, "USERNAME")
	if err != nil {
		return err
	}
	password, err := e.password(cmd)
	if err != nil {
		return err
	}
	if cmd.String("config") != "" {
		err = onHost(cmd).AddOwner(ctx, args[0], password)
	} else {
		var c *client.Client
		if c, err = e.dial(cmd); err == nil {
			_, err = client.Call(ctx, c, api.AddOwner, api.Body(api.NewOwner{Username: args[0],
				NewPassword: api.NewPassword{Password: password}}))
		}
	}
	if err != nil {
		return err
	}
	e.said("added %s; take it back: innergate owner remove %s", args[0], args[0])
	return nil
}

func (e *environment) setPassword(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	password, err := e.password(cmd)
	if err != nil {
		return err
	}
	if err := client.Do(ctx, c, api.SetPassword, api.To(args[0], api.NewPassword{Password: password})); err != nil {
		return err
	}
	e.said("changed the password of %s", args[0])
	return nil
}

func (e *environment) removeOwner(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if err := e.confirm(cmd, "the owner "+args[0]+" would be removed, and signed out"); err != nil {
		return err
	}
	if err := client.Do(ctx, c, api.RemoveOwner, api.Name(args[0])); err != nil {
		return err
	}
	e.said("removed %s; nothing brings the password back, add the owner anew", args[0])
	return nil
}

func (e *environment) listOwners(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListOwners, api.None{})
	if err != nil {
		return err
	}
	row := func(o api.Owner) []string { return []string{o.Username, o.Added.Local().Format("2006-01-02 15:04")} }
	return listAll(e, cmd, l.Items, columns("user name!", "added@"), row,
		"No owner yet. Open the set-up link that the gate prints when it starts, or innergate owner add --config FILE on its host.")
}

// listAll prints a list that came whole, as far as it is wanted.
func listAll[T any](e *environment, cmd *ucli.Command, items []T, cols []column, row func(T) []string,
	empty string) error {
	want, err := listed(cmd)
	if err != nil {
		return err
	}
	total := int64(len(items))
	if want.sort == "" {
		from := min(want.offset, len(items))
		items = items[from:]
		if want.limit > 0 {
			items = items[:min(want.limit, len(items))]
		}
	} else if items, err = part(want, cols, items, row, nil); err != nil {
		return err
	}
	return e.print(cmd, items, func(w io.Writer) {
		rows := [][]string{}
		for _, x := range items {
			rows = append(rows, row(x))
		}
		e.table(w, cols, rows, empty)
		want.rest(w, len(items), total)
	})
}

func (e *environment) tokens() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "token", Usage: "API tokens", Commands: []*ucli.Command{
		{Name: "add", Usage: "make a token; its secret is shown once", ArgsUsage: "NAME", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "expires", Usage: "when it ends: 2027-03-31, or 90d for 90 days; never if absent"},
			configFlag},
			Action: e.addToken},
		{Name: "list", Usage: "list tokens", Flags: listFlags(), Action: e.action(nil, e.listTokens)},
		{Name: "remove", Usage: "remove a token; it stops working at once", ArgsUsage: "NAME", Metadata: takes("token", ""),
			Flags: []ucli.Flag{yesFlag}, Action: e.action(name, e.removeToken)},
	}}
}

func (e *environment) addToken(ctx context.Context, cmd *ucli.Command) error {
	args, err := names(cmd, "NAME")
	if err != nil {
		return err
	}
	var expires time.Time
	if text := cmd.String("expires"); text != "" {
		if expires, err = date("--expires", text); err != nil {
			return err
		}
	}
	var t api.Token
	if cmd.String("config") != "" {
		t.Name, t.Expires = args[0], expires
		t.Secret, err = onHost(cmd).AddToken(ctx, args[0], expires)
	} else {
		var c *client.Client
		if c, err = e.dial(cmd); err == nil {
			t, err = client.Call(ctx, c, api.AddToken, api.Body(api.NewToken{Name: args[0], Expires: expires}))
		}
	}
	if err != nil {
		return err
	}
	return e.print(cmd, t, func(w io.Writer) {
		fmt.Fprintf(w, "%s\n", t.Secret)
		if !e.quiet {
			fmt.Fprintf(e.err, "This is the only time the secret of %q is shown. Take it back: innergate token remove %s\n",
				t.Name, t.Name)
		}
	})
}

func (e *environment) listTokens(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListTokens, api.None{})
	if err != nil {
		return err
	}
	row := func(t api.Token) []string {
		ends := "never"
		if !t.Expires.IsZero() {
			ends = until(t.Expires)
		}
		return []string{t.Name, t.By, t.Added.Local().Format("2006-01-02 15:04"), ends}
	}
	return listAll(e, cmd, l.Items, columns("name!", "made by", "made at@", "ends"), row, "No token yet.")
}

func (e *environment) removeToken(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if err := e.confirm(cmd, "the token "+args[0]+" would stop working at once"); err != nil {
		return err
	}
	if err := client.Do(ctx, c, api.RemoveToken, api.Name(args[0])); err != nil {
		return err
	}
	e.said("removed %s; nothing brings its secret back, make another one", args[0])
	return nil
}
