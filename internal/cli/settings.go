package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"io"
	"maps"
	"slices"
	"strconv"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/nearword"
)

// settingRows shows settings that say something.
func settingRows(s federation.Settings) (rows [][2]string) {
	for _, n := range slices.Sorted(maps.Keys(s)) {
		value := fmt.Sprint(s[n])
		if m, is := s[n].(map[string]any); is {
			rules, _ := m["rules"].([]any)
			if value = fmt.Sprintf("%d rules", len(rules)); len(rules) == 0 {
				value = ""
			}
		}
		if n == "addressCA" && value != "" {
			value = fmt.Sprintf("%d certificates", len(keys.Read([]byte(value))))
		}
		if value != "" && value != "false" && n != "title" && n != "provider" && n != "trustKey" {
			rows = append(rows, [2]string{n, value})
		}
	}
	return rows
}

// assign reads settings from NAME=VALUE words; list are those that there are. A
// value can stand in a file (@FILE) or come from standard input (-).
func (e *environment) assign(list []federation.Setting, words []string) (federation.Settings, error) {
	out := federation.Settings{}
	for _, w := range words {
		name, value, ok := strings.Cut(w, "=")
		if !ok {
			return nil, &usageError{fmt.Sprintf("%q is no setting", w),
				"Write SETTING=VALUE, like title=\"Crew roster\" or phase=paused."}
		}
		at := slices.IndexFunc(list, func(s federation.Setting) bool { return s.Name == name })
		if at < 0 {
			return nil, noSetting(name, list)
		}
		if _, twice := out[name]; twice {
			return nil, &usageError{fmt.Sprintf("the setting %s is given twice", name), "Give it once."}
		}
		value, err := e.valueOf(name, value)
		if err != nil {
			return nil, err
		}
		if list[at].Type == federation.Rules {
			if out[name], err = mappingOf(name, value); err != nil {
				return nil, err
			}
			continue
		}
		if out[name] = value; list[at].Type == federation.Values {
			out[name] = severalOf(value)
		}
		if !list[at].Boolean() {
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

// severalOf reads several values with | between.
func severalOf(value string) []any {
	out := []any{}
	for v := range strings.SplitSeq(value, "|") {
		if v = strings.TrimSpace(v); v != "" {
			out = append(out, v)
		}
	}
	return out
}

// mappingOf reads a mapping; an empty value is one without rules.
func mappingOf(name, value string) (out map[string]any, err error) {
	if value == "" {
		return map[string]any{}, nil
	}
	if err := json.Unmarshal([]byte(value), &out); err != nil {
		return nil, &usageError{fmt.Sprintf("%s is no mapping: %v", name, err),
			"Give it in JSON, like " + name + "=@mapping.json; innergate mapping show prints one."}
	}
	return out, nil
}

// valueOf gives a value as it was written, out of a file, or from standard input.
func (e *environment) valueOf(name, value string) (string, error) {
	file, isFile := strings.CutPrefix(value, "@")
	switch {
	case value == "-":
		text, err := e.readFile(name, "-")
		return string(trim(text)), err
	case isFile:
		octets, err := e.readFile(name, file)
		if err != nil {
			return "", err
		}
		if strings.Contains(strings.ToLower(name), "key") || name == "addressCA" {
			octets = inPEM(octets)
		}
		return string(trim(octets)), nil
	}
	return value, nil
}

// inPEM gives a certificate in PEM, in whatever form it was.
func inPEM(octets []byte) []byte {
	if certs := keys.Read(octets); len(certs) == 1 {
		return certs[0].PEM()
	}
	return octets
}

func noSetting(name string, list []federation.Setting) error {
	var names []string
	for _, s := range list {
		names = append(names, s.Name)
	}
	slices.Sort(names)
	do := "The settings are " + strings.Join(names, ", ") + "."
	if near := nearword.Of(name, names); near != "" {
		do = fmt.Sprintf("Did you mean %s?", near)
	}
	return &usageError{fmt.Sprintf("there is no setting %q", name), do}
}

// setAggregate changes settings of an aggregate.
func (e *environment) setAggregate(ctx context.Context, cmd *ucli.Command) error {
	names, words := split(cmd.Args().Slice())
	if len(names) != 1 || len(words) == 0 {
		return &usageError{"the name or the settings are missing", "Call it as " + cmd.FullName() + " NAME SETTING=VALUE …"}
	}
	set, err := e.assign(settingList("aggregate"), words)
	if err != nil {
		return err
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	was, err := client.Call(ctx, c, api.ShowAggregate, api.Name(names[0]))
	if err != nil {
		return err
	}
	some, err := edit(set)
	if err == nil {
		err = client.Do(ctx, c, api.ChangeAggregate, api.To(names[0], api.AggregateChange{Revision: was.Revision,
			Settings: some}))
	}
	if err != nil {
		return err
	}
	now, err := client.Call(ctx, c, api.ShowAggregate, api.Name(names[0]))
	if err != nil {
		return err
	}
	return e.print(cmd, now, func(w io.Writer) { e.changedAggregate(ctx, w, c, was, now) })
}

func (e *environment) changedAggregate(ctx context.Context, w io.Writer, c *client.Client, was, now api.Aggregate) {
	if was.Revision == now.Revision {
		fmt.Fprintf(w, "nothing differs; %s stays as it is\n", now.Name)
		return
	}
	fmt.Fprintf(w, "changed %s\n", now.Name)
	l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: "aggregate", Name: now.Name, Limit: 5})
	for _, h := range l.Items {
		if err == nil && h.Revision == was.Revision {
			fmt.Fprintf(w, "take it back: innergate history restore %d\n", h.ID)
		}
	}
}

// edit gives settings of an aggregate as the API takes them.
func edit(set federation.Settings) (out api.AggregateEdit, err error) {
	octets, err := json.Marshal(set)
	if err != nil {
		return out, err
	}
	return out, json.Unmarshal(octets, &out)
}
