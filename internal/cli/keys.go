package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// keys are the gate's own keys and their roll-over.
func (e *environment) keys() *ucli.Command {
	purpose := []string{"PURPOSE"}
	return &ucli.Command{Name: "key", Usage: "the gate's own keys", Commands: []*ucli.Command{
		{Name: "list", Usage: "list keys by purpose: idp signs answers, sp signs requests, enc is encrypted to",
			Action: e.action(nil, e.listKeys)},
		{Name: "announce", Usage: "make the next key; metadata holds it from now on", ArgsUsage: "PURPOSE",
			Flags:  []ucli.Flag{&ucli.StringFlag{Name: "kind", Usage: "rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384"}},
			Action: e.action(purpose, e.announceKey)},
		{Name: "switch", Usage: "make the announced key the current one", ArgsUsage: "PURPOSE",
			Action: e.action(purpose, e.switchKey)},
		{Name: "remove", Usage: "remove a key that is not the current one", ArgsUsage: "ID",
			Flags: []ucli.Flag{yesFlag}, Action: e.action([]string{"ID"}, e.removeKey)},
	}}
}

func (e *environment) listKeys(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListKeys, api.None{})
	if err != nil {
		return err
	}
	return e.showKeys(cmd, l)
}

func (e *environment) announceKey(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	l, err := client.Call(ctx, c, api.AnnounceKey, api.Body(api.KeyChange{Purpose: args[0], Kind: cmd.String("kind")}))
	if err != nil {
		return err
	}
	return e.showKeys(cmd, l)
}

func (e *environment) switchKey(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	l, err := client.Call(ctx, c, api.SwitchKey, api.Body(api.KeyChange{Purpose: args[0]}))
	if err != nil {
		return err
	}
	return e.showKeys(cmd, l)
}

func (e *environment) removeKey(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	id, err := numberOf(args[0], "key", "innergate keys list shows them.")
	if err != nil {
		return err
	}
	if err := e.confirm(cmd, "key "+args[0]+
		" would be gone for good; what is encrypted to it cannot be read any more"); err != nil {
		return err
	}
	if err := client.Do(ctx, c, api.RemoveKey, api.Numbered{ID: id}); err != nil {
		return err
	}
	e.said("removed key %s", args[0])
	return nil
}

func (e *environment) showKeys(cmd *ucli.Command, l api.List[api.Key]) error {
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, k := range l.Items {
			t.add("state", k.State, "id!", fmt.Sprint(k.ID), "purpose!", k.Purpose, "key", k.Certificate.Key,
				"ends", days(k.Certificate.NotAfter, time.Now()), "sha-256!", k.Certificate.SHA256)
		}
		e.tell(w, t, "No key.")
		for _, k := range l.Items {
			if n := len(k.Verifiers); n > 0 {
				one := ""
				if k.Purpose == "idp" {
					one = "For one application: innergate key announce idp-ecdsa, key switch idp-ecdsa; when it has taken that key in,\n" +
						"set algorithm=ecdsa-sha256 on it. "
				}
				they := map[bool]string{true: "it verifies", false: "they verify"}[n == 1]
				fmt.Fprintf(w, "\n%s signs with RSA. %s announced that %s ECDSA, which takes a twentieth of the work: %s.\n"+
					"%sWhere all verify it: innergate key announce %s --kind ec-p256.\n", k.Purpose, several(n, "counterpart"), they,
					strings.Join(strings.Fields(strings.Trim(fmt.Sprint(k.Verifiers), "[]")), ", "), one, k.Purpose)
			}
		}
	})
}
