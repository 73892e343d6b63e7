package cli

import (
	"context"
	"fmt"
	"os"
	"reflect"
	"strconv"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/nearword"
)

// settingFields gives the settings of a struct by their names in JSON, those of
// embedded structs included.
func settingFields(v reflect.Value) (names []string, byName map[string]reflect.Value) {
	byName = map[string]reflect.Value{}
	var walk func(v reflect.Value)
	walk = func(v reflect.Value) {
		for i := range v.NumField() {
			f := v.Type().Field(i)
			if f.Anonymous {
				walk(v.Field(i))
				continue
			}
			name, _, _ := strings.Cut(f.Tag.Get("json"), ",")
			names, byName[name] = append(names, name), v.Field(i)
		}
	}
	walk(v)
	return names, byName
}

// settingRows shows settings that say something.
func settingRows(settings any) (rows [][2]string) {
	names, byName := settingFields(reflect.ValueOf(settings))
	for _, n := range names {
		if n == "trustKey" && byName[n].String() != "" {
			rows = append(rows, [2]string{n, "a certificate"})
			continue
		}
		value := fmt.Sprint(byName[n].Interface())
		if value != "" && value != "false" && n != "title" && n != "provider" {
			rows = append(rows, [2]string{n, value})
		}
	}
	return rows
}

// assign sets settings from NAME=VALUE words.
func assign(settings any, words []string) error {
	names, byName := settingFields(reflect.ValueOf(settings).Elem())
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return &usageError{fmt.Sprintf("%q is no setting", w), "Write SETTING=VALUE, like title=\"Crew roster\" or enabled=false."}
		}
		f, ok := byName[name]
		if !ok {
			do := "The settings are " + strings.Join(names, ", ") + "."
			if near := nearword.Of(name, names); near != "" {
				do = fmt.Sprintf("Did you mean %s?", near)
			}
			return &usageError{fmt.Sprintf("there is no setting %q", name), do}
		}
		if file, ok := strings.CutPrefix(value, "@"); ok && name == "trustKey" {
			octets, err := os.ReadFile(file)
			if err != nil {
				return &usageError{"trustKey: " + err.Error(), "Write trustKey=@FILE with a certificate in PEM, or the PEM text itself."}
			}
			value = string(octets)
		}
		if f.Kind() != reflect.Bool {
			f.SetString(value)
			continue
		}
		b, err := strconv.ParseBool(value)
		if err != nil {
			return &usageError{fmt.Sprintf("%s is %q", name, value), "Use true or false."}
		}
		f.SetBool(b)
	}
	return nil
}

// set changes settings of a record.
func (e *environment) set(kind string, change func(ctx context.Context, c *client.Client, name string, edit func(any) error) error) *ucli.Command {
	return &ucli.Command{Name: "set", Usage: "change settings of a " + kind + ", like enabled=false", ArgsUsage: "NAME SETTING=VALUE …",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			args := cmd.Args().Slice()
			if len(args) < 2 {
				return &usageError{"the name or the settings are missing", "Call it as " + cmd.FullName() + " NAME SETTING=VALUE …"}
			}
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			if err := change(ctx, c, args[0], func(settings any) error { return assign(settings, args[1:]) }); err != nil {
				return err
			}
			fmt.Fprintf(e.out, "changed %s; it acts from the next request on\n", args[0])
			return nil
		}}
}
