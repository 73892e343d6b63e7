package cli

import (
	"context"
	"fmt"
	"io"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// roles are the commands about roles of applications.
func (e *environment) roles() *ucli.Command {
	return &ucli.Command{Name: "role", Usage: "roles of applications: as what somebody enters, and what is sent for it",
		Commands: append([]*ucli.Command{
			{Name: "list", Usage: "read roles aloud: who holds them, and what is sent",
				Description: "A release mapping sends them by the source role: {to: {name: role}, from: [{role: true}]}.",
				Flags:       []ucli.Flag{&ucli.StringFlag{Name: "application", Usage: "its roles alone"}},
				Action:      e.action(nil, e.listRoles)},
		}, e.ownCommands(ownKind{"role", "a role",
			"title, application, role, order, values, people, groups, organisations, userTypes, providers, when",
			"title=TITLE application=APPLICATION values=VALUE groups=GROUP"})...)}
}

func (e *environment) listRoles(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListRoles, api.RuleFilter{Application: cmd.String("application")})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, r := range l.Items {
			says := r.Sentence
			if r.Default {
				says += " It is the default."
			}
			t.add("application!", r.Application, "role!", r.Role, "object!", r.Name, "sent!", strings.Join(r.Values, ", "),
				"held by!", says)
		}
		e.tell(w, t, "No roles. Make one with innergate role put NAME application=APPLICATION title=TITLE values=VALUE groups=GROUP.")
	})
}

// roleTable shows the roles that somebody holds.
func (e *environment) roleTable(w io.Writer, roles []api.HeldRole, choose bool) {
	if len(roles) == 0 {
		return
	}
	fmt.Fprintln(w)
	var t table
	for _, r := range roles {
		enters := map[bool]string{true: "enters with it", false: "not sent"}[r.Enters]
		if r.Enters && choose {
			enters = "may choose it"
		}
		t.add("role!", r.Role, "held", r.By, "sent", strings.Join(r.Values, ", "), "here", enters)
	}
	e.tell(w, t, "")
}

func roleWords(roles []api.HeldRole) string {
	words := []string{}
	for _, r := range roles {
		if r.Enters {
			words = append(words, r.Role)
		}
	}
	return strings.Join(words, ", ")
}
