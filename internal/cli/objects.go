package cli

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// objects are configuration objects of every kind, as the gate describes them.
func (e *environment) objects() *ucli.Command {
	return &ucli.Command{Name: "object", Usage: "configuration objects of any kind, and what names them",
		Commands: []*ucli.Command{
			{Name: "kinds", Usage: "list the kinds, or the settings of one", ArgsUsage: "[KIND]",
				Action: e.anyNumber(e.objectKinds)},
			{Name: "schema", Usage: "print a JSON Schema of the settings of a kind, for checking files and for editors",
				ArgsUsage: "KIND",
				Flags: []ucli.Flag{&ucli.StringFlag{Name: "protocol",
					Usage: "of records: leave out the settings of other protocols"}},
				Action: e.action([]string{"KIND"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
					args []string) error {
					schema, err := client.Call(ctx, c, api.ShowSchema, api.SchemaOf{Kind: args[0], Protocol: cmd.String("protocol")})
					if err != nil {
						return err
					}
					octets, err := json.MarshalIndent(schema, "", "  ")
					fmt.Fprintln(e.out, string(octets))
					return err
				})},
			{Name: "list", Usage: "list those of a kind", ArgsUsage: "KIND",
				Flags:  []ucli.Flag{&ucli.StringFlag{Name: "search", Usage: "part of a name, or of what one says"}},
				Action: e.action([]string{"KIND"}, e.listObjects)},
			{Name: "show", Usage: "show what one says, and what names it", ArgsUsage: "KIND/NAME",
				Action: e.action([]string{"KIND/NAME"}, e.showObject)},
			{Name: "put", Usage: "make one, or change settings of it", ArgsUsage: "KIND/NAME SETTING=VALUE …",
				Description: "What is not named stays. Settings that take several values take them with | between.",
				Flags:       []ucli.Flag{&ucli.BoolFlag{Name: "dry-run", Usage: "only tell what would change"}, yesFlag},
				Action:      e.anyNumber(e.putObject)},
			{Name: "remove", Usage: "remove one that nothing names", ArgsUsage: "KIND/NAME", Flags: []ucli.Flag{yesFlag},
				Action: e.action([]string{"KIND/NAME"}, func(ctx context.Context, _ *ucli.Command, c *client.Client,
					args []string) error {
					kind, name, err := objectNamed(args[0])
					if err != nil {
						return err
					}
					if err := client.Do(ctx, c, api.RemoveObject, api.Of(kind, name)); err != nil {
						return err
					}
					fmt.Fprintf(e.out, "removed %s\n", args[0])
					return nil
				})},
		}}
}

func objectNamed(path string) (kind, name string, err error) {
	kind, name, ok := strings.Cut(path, "/")
	if !ok || kind == "" || name == "" {
		return "", "", &usageError{fmt.Sprintf("%q names no object", path), "Write KIND/NAME, like group/drivers."}
	}
	return kind, name, nil
}

func (e *environment) objectKinds(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	list, err := client.Call(ctx, c, api.ListKinds, api.None{})
	if err != nil {
		return err
	}
	if len(args) == 0 {
		return e.print(cmd, list, func(w io.Writer) {
			var t table
			for _, k := range list {
				made := "by calls of its own"
				if k.Plain {
					made = "by object put"
				}
				t.add("kind!", k.Kind, "protocol", dash(k.Protocol), "settings", fmt.Sprint(len(k.Settings)),
					"made", made)
			}
			e.tell(w, t, "No kinds.")
		})
	}
	settings, err := settingsOfKind(list, args[0])
	if err != nil {
		return err
	}
	return e.print(cmd, settings, func(w io.Writer) {
		var t table
		for _, s := range settings {
			t.add("setting!", s.Name, "type", s.Type, "names", dash(s.Refers), "label", s.Label,
				"does", dash(s.Text))
		}
		e.tell(w, t, "The kind has no settings.")
	})
}

// settingsOfKind are the settings of a kind, those of all its protocols.
func settingsOfKind(list []api.Kind, kind string) (out []api.Setting, err error) {
	names := []string{}
	found := false
	for _, k := range list {
		names = append(names, k.Kind)
		if k.Kind == kind {
			found = true
			out = append(out, k.Settings...)
		}
	}
	if !found {
		return nil, &usageError{fmt.Sprintf("there is no kind %q", kind), "The kinds are " + strings.Join(names, ", ") + "."}
	}
	return out, nil
}

func (e *environment) listObjects(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	l, err := client.Call(ctx, c, api.ListObjects, api.ObjectFilter{Kind: args[0], Search: cmd.String("search")})
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		var t table
		for _, o := range l.Items {
			t.add("name!", o.Name, "title", dash(o.Title), "revision", fmt.Sprint(o.Revision))
		}
		e.tell(w, t, "None. Make one with innergate object put "+args[0]+"/NAME SETTING=VALUE ….")
	})
}

func (e *environment) showObject(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	kind, name, err := objectNamed(args[0])
	if err != nil {
		return err
	}
	o, err := client.Call(ctx, c, api.ShowObject, api.Of(kind, name))
	if err != nil {
		return err
	}
	return e.print(cmd, o, func(w io.Writer) { e.objectShown(w, o) })
}

func (e *environment) objectShown(w io.Writer, o api.Object) {
	rows := [][2]string{{o.Kind, o.Name}, {"revision", fmt.Sprint(o.Revision)}}
	for _, v := range o.Values {
		rows = append(rows, [2]string{v.Name(), v.Value})
	}
	fields(w, rows)
	if len(o.Referring) > 0 {
		fmt.Fprintln(w, "\nnamed by")
	}
	for _, r := range o.Referring {
		fmt.Fprintf(w, "  %s (%s)\n", r.By, r.Field)
	}
}

func (e *environment) putObject(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if len(args) == 0 {
		return &usageError{"the object is missing", "Call it as innergate object put KIND/NAME SETTING=VALUE …"}
	}
	kind, name, err := objectNamed(args[0])
	if err != nil {
		return err
	}
	list, err := client.Call(ctx, c, api.ListKinds, api.None{})
	if err != nil {
		return err
	}
	described, err := settingsOfKind(list, kind)
	if err != nil {
		return err
	}
	settings, err := e.assign(settingsFrom(described), args[1:])
	if err != nil {
		return err
	}
	now, err := client.Call(ctx, c, api.ShowObject, api.Of(kind, name))
	var p *api.Problem
	if errors.As(err, &p) && p.Status != 404 || err != nil && p == nil {
		return err
	}
	in := api.ObjectChange{Revision: now.Revision, Settings: settings}
	looked, err := client.Call(ctx, c, api.PreviewObject, api.ToObject(kind, name, in))
	if err != nil {
		return err
	}
	if cmd.Bool("dry-run") {
		return e.print(cmd, looked, func(w io.Writer) {
			e.differences(w, looked.Differences)
			e.consequence(w, looked.Consequence, "would be")
		})
	}
	o, err := client.Call(ctx, c, api.PutObject, api.ToObject(kind, name, in))
	if err != nil {
		return err
	}
	return e.print(cmd, o, func(w io.Writer) { e.objectShown(w, o) })
}

// settingsFrom reads settings as the gate describes them.
func settingsFrom(list []api.Setting) []federation.Setting {
	out := make([]federation.Setting, len(list))
	for i, s := range list {
		out[i] = federation.Setting{Name: s.Name, Label: s.Label, Text: s.Text, Group: s.Group,
			Type: federation.SettingType(s.Type),
			Most: s.Most, Refers: federation.Kind(s.Refers)}
	}
	return out
}
