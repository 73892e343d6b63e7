package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"maps"
	"os"
	"slices"
	"strconv"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
)

// settingNames gives the names of settings in order.
func settingNames(s federation.Settings) []string { return slices.Sorted(maps.Keys(s)) }

// settingRows shows settings that say something.
func settingRows(s federation.Settings) (rows [][2]string) {
	for _, n := range settingNames(s) {
		value := fmt.Sprint(s[n])
		if n == "trustKey" && value != "" {
			value = "a certificate"
		}
		if value != "" && value != "false" && n != "title" && n != "provider" {
			rows = append(rows, [2]string{n, value})
		}
	}
	return rows
}

// assign reads settings from NAME=VALUE words; known are those that there are.
func assign(known federation.Settings, words []string) (federation.Settings, error) {
	out := federation.Settings{}
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return nil, &usageError{fmt.Sprintf("%q is no setting", w),
				"Write SETTING=VALUE, like title=\"Crew roster\" or phase=paused."}
		}
		was, ok := known[name]
		if !ok {
			names := settingNames(known)
			do := "The settings are " + strings.Join(names, ", ") + "."
			if near := nearword.Of(name, names); near != "" {
				do = fmt.Sprintf("Did you mean %s?", near)
			}
			return nil, &usageError{fmt.Sprintf("there is no setting %q", name), do}
		}
		if file, ok := strings.CutPrefix(value, "@"); ok && name == "trustKey" {
			octets, err := os.ReadFile(file)
			if err != nil {
				return nil, &usageError{"trustKey: " + err.Error(),
					"Write trustKey=@FILE with a certificate in PEM, or the PEM text itself."}
			}
			value = string(octets)
		}
		out[name] = value
		if _, ok := was.(bool); !ok {
			continue
		}
		b, err := strconv.ParseBool(value)
		if err != nil {
			return nil, &usageError{fmt.Sprintf("%s is %q", name, value), "Use true or false."}
		}
		out[name] = b
	}
	return out, nil
}

// edit gives the settings to be changed, out of those that there are.
type edit func(known federation.Settings) (federation.Settings, error)

// some gives those settings of an aggregate that are to be changed.
func some(now api.AggregateSettings, change edit) (out api.AggregateEdit, err error) {
	changed, err := change(federation.Settings{"title": now.Title, "address": now.Address, "trustKey": now.TrustKey,
		"notes": now.Notes, "addressCA": now.AddressCA})
	if err != nil {
		return out, err
	}
	octets, err := json.Marshal(changed)
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(octets, &out)
}

// set changes settings of a record.
func (e *environment) set(kind string, change func(ctx context.Context, c *client.Client, name string,
	edit edit) error) *ucli.Command {
	return &ucli.Command{Name: "set", Usage: "change settings of a " + kind + ", like phase=paused",
		ArgsUsage: "NAME SETTING=VALUE …",
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			args := cmd.Args().Slice()
			if len(args) < 2 {
				return &usageError{"the name or the settings are missing", "Call it as " + cmd.FullName() + " NAME SETTING=VALUE …"}
			}
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			err = change(ctx, c, args[0],
				func(known federation.Settings) (federation.Settings, error) { return assign(known, args[1:]) })
			if err != nil {
				return err
			}
			fmt.Fprintf(e.out, "changed %s; it acts from the next request on\n", args[0])
			return nil
		}}
}
