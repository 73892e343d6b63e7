package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/core/federation"
)

const completionUsage = "print what a shell needs to complete commands, options and names: bash, zsh, fish or pwsh"

func (e *environment) helpCommand() *ucli.Command {
	return &ucli.Command{Name: "help", Usage: "explain a command", ArgsUsage: "[COMMAND …]",
		Action: func(context.Context, *ucli.Command) error { return nil }} // see wantsHelp
}

// wantsHelp reports whether help is asked for, by --help anywhere or by the command
// help, and of which command.
func wantsHelp(root *ucli.Command, args []string) (help bool, at *ucli.Command, err error) {
	at = root
	named := false // everything after the command help must be a command
	for i := 1; i < len(args); i++ {
		arg := args[i]
		switch {
		case arg == "--":
			return help, at, nil
		case arg == "--help" || arg == "-h" || arg == "-help":
			help = true
		case arg == "--generate-shell-completion":
			return false, root, nil
		case strings.HasPrefix(arg, "-"):
			if takesValue(at, root, strings.TrimLeft(arg, "-")) {
				i++
			}
		case arg == "help" && at == root && !named:
			help, named = true, true
		default:
			next := at.Command(arg)
			if next == nil && arg == "completion" && at == root {
				next = &ucli.Command{Name: arg, Usage: completionUsage, ArgsUsage: "bash|zsh|fish|pwsh",
					Metadata:    map[string]any{"path": "innergate completion"},
					Description: "In ~/.bashrc: source <(innergate completion bash)"}
			}
			if next == nil && named {
				var names []string
				for _, c := range at.Commands {
					names = append(names, c.Name)
				}
				return false, at, noCommand(pathOf(at), arg, names)
			}
			if next != nil {
				at = next
			}
		}
	}
	return help, at, nil
}

// takesValue reports whether an option is followed by its value.
func takesValue(at, root *ucli.Command, name string) bool {
	if strings.Contains(name, "=") {
		return false
	}
	for _, c := range []*ucli.Command{at, root} {
		for _, f := range c.Flags {
			if _, boolean := f.(*ucli.BoolFlag); slices.Contains(f.Names(), name) {
				return !boolean
			}
		}
	}
	return false
}

// pathOf is how a command is called, from the program's name on.
func pathOf(c *ucli.Command) string {
	path, _ := c.Metadata["path"].(string)
	return path
}

// help explains a command: what it does, how it is called, what it takes.
func (e *environment) help(c *ucli.Command) {
	path, w := pathOf(c), e.out
	top := !strings.Contains(path, " ")
	fmt.Fprintf(w, "%s: %s\n\n  %s\n", path, c.Usage, strings.TrimSpace(path+" "+c.ArgsUsage))
	e.helpCommands(w, c, top)
	if kind := settingsKind(c); kind != "" {
		e.helpSettings(w, kind)
	}
	if c.Description != "" {
		fmt.Fprintln(w)
		wrap(w, "  ", c.Description)
	}
	if top {
		helpFlags(w, "options of all commands that call a gate", c.Flags)
		fmt.Fprint(w, "\nexit status\n  0 done; 1 refused or failed; 2 called wrongly; 3 findings of severity error\n")
		return
	}
	helpFlags(w, "options", e.speaking(settingsKind(c), c.Flags))
	fmt.Fprintln(w, "\noptions of all commands: innergate --help")
}

func (e *environment) helpCommands(w io.Writer, c *ucli.Command, top bool) {
	var rows [][2]string
	for _, sub := range c.Commands {
		name := sub.Name
		if name == "completion" {
			continue // that of the library, where it has put it in
		}
		if len(sub.Aliases) > 0 {
			name += ", " + strings.Join(sub.Aliases, ", ")
		}
		rows = append(rows, [2]string{name, sub.Usage})
	}
	if top {
		rows = append(rows, [2]string{"completion", completionUsage})
	}
	section(w, "commands", rows)
}

func helpFlags(w io.Writer, title string, flags []ucli.Flag) {
	var rows [][2]string
	for _, f := range flags {
		name := "--" + f.Names()[0]
		if len(f.Names()) > 1 {
			name += ", -" + f.Names()[1]
		}
		text := ""
		switch f := f.(type) {
		case *ucli.StringFlag:
			name, text = name+" "+valueWord(f.Name), f.Usage
			if f.Value != "" {
				text += "; " + f.Value + " if absent"
			}
			if env := f.GetEnvVars(); len(env) > 0 {
				text += "; or " + strings.Join(env, ", ")
			}
		case *ucli.IntFlag:
			if name, text = name+" N", f.Usage; f.Value != 0 {
				text += fmt.Sprintf("; %d if absent", f.Value)
			}
		case *ucli.DurationFlag:
			if name, text = name+" TIME", f.Usage; f.Value != 0 {
				text += "; " + strings.TrimSuffix(f.Value.String(), "0s") + " if absent"
			}
		case *ucli.StringSliceFlag:
			name, text = name+" "+valueWord(f.Name), f.Usage
		case *ucli.Int64SliceFlag:
			name, text = name+" N", f.Usage
		case *ucli.Int64Flag:
			name, text = name+" N", f.Usage
		case *ucli.BoolFlag:
			text = f.Usage
		}
		rows = append(rows, [2]string{name, text})
	}
	section(w, title, rows)
}

// valueWord is what stands for the value of an option.
func valueWord(option string) string {
	switch option {
	case "metadata":
		return "FILE|ADDRESS|-"
	case "provider", "gate", "name", "protocol", "kind", "phase", "role", "as", "app":
		return strings.ToUpper(option)
	}
	for suffix, word := range map[string]string{"file": "FILE", "certificate": "FILE", "key": "FILE", "config": "FILE",
		"url": "ADDRESS", "sso-redirect": "ADDRESS", "sso-post": "ADDRESS", "acs": "ADDRESS", "acs-artifact": "ADDRESS",
		"link": "ADDRESS", "digest": "DIGEST", "until": "DATE", "expires": "DATE", "since": "TIME"} {
		if strings.HasSuffix(option, suffix) {
			return word
		}
	}
	return "TEXT"
}

// section prints names with what they mean below a heading.
func section(w io.Writer, title string, rows [][2]string) {
	if len(rows) == 0 {
		return
	}
	fmt.Fprintf(w, "\n%s\n", title)
	wide := 0
	for _, r := range rows {
		if len(r[0]) <= 26 {
			wide = max(wide, len(r[0]))
		}
	}
	for _, r := range rows {
		lines := wrapped(r[1], max(lineWidth(w)-wide-4, 30))
		if len(r[0]) > wide {
			fmt.Fprintf(w, "  %s\n", r[0])
			r[0] = ""
		}
		for i, l := range lines {
			if i > 0 {
				r[0] = ""
			}
			fmt.Fprintln(w, strings.TrimRight(fmt.Sprintf("  %-*s  %s", wide, r[0], l), " "))
		}
	}
}

func wrap(w io.Writer, indent, text string) {
	for _, l := range wrapped(text, lineWidth(w)-len(indent)) {
		fmt.Fprintln(w, indent+l)
	}
}

// wrapped breaks a text into lines.
func wrapped(text string, width int) []string {
	var lines []string
	line := ""
	for _, word := range strings.Fields(text) {
		if line != "" && len([]rune(line))+1+len([]rune(word)) > width {
			lines, line = append(lines, line), ""
		}
		line = strings.TrimSpace(line + " " + word)
	}
	return append(lines, line)
}

// settingsKind is the kind of records whose settings a command takes, "" if none.
func settingsKind(c *ucli.Command) string {
	kind, _ := c.Metadata["settings"].(string)
	return kind
}

func takesSettings(c *ucli.Command) bool { return c != nil && settingsKind(c) != "" }

// settingList are the settings of a kind, over all protocols.
func settingList(kind string) []federation.Setting { return app.Settings(kind, "") }

// allSettings are the names of all settings there are.
func allSettings() (out []string) {
	for _, kind := range []string{"provider", "application", "aggregate"} {
		for _, s := range settingList(kind) {
			out = append(out, s.Name)
		}
	}
	return out
}

// helpSettings lists the settings of a kind, of one protocol if help is wanted for one.
func (e *environment) helpSettings(w io.Writer, kind string) {
	protocol := e.protocol
	if !app.Speaks(protocol) {
		protocol = ""
	}
	var rows [][2]string
	for _, s := range app.Settings(kind, protocol) {
		values := "TEXT"
		switch {
		case s.Boolean():
			values = "true|false"
		case s.Type == federation.Rules:
			values = "@FILE"
		case s.Choices != nil:
			values = strings.TrimPrefix(strings.Join(s.Choices, "|"), "|")
		case s.SeveralLines():
			values = "TEXT|@FILE"
		}
		rows = append(rows, [2]string{s.Name + "=" + values, s.Says()})
	}
	section(w, "settings", rows)
	fmt.Fprint(w, "  SETTING=@FILE takes the value from a file, SETTING=- from standard input; SETTING= empties it.\n")
}

// optionOf is the value of an option among words, "" if it is not there.
func optionOf(args []string, name string) string {
	for i, arg := range args {
		if v, ok := strings.CutPrefix(strings.TrimLeft(arg, "-"), name+"="); ok {
			return v
		}
		if strings.TrimLeft(arg, "-") == name && i+1 < len(args) {
			return args[i+1]
		}
	}
	return ""
}

// speaking leaves out options of a kind for values that a protocol does not have, where help is wanted for one.
func (e *environment) speaking(kind string, flags []ucli.Flag) []ucli.Flag {
	if !app.Speaks(e.protocol) {
		return flags
	}
	there, here := app.Fields(kind, ""), app.Fields(kind, e.protocol)
	return slices.DeleteFunc(slices.Clone(flags), func(f ucli.Flag) bool {
		is := func(x federation.Setting) bool { return option(x) == f.Names()[0] }
		if f.Names()[0] == "identifier" {
			return federation.Field(app.Settings(kind, e.protocol), "identifier").Type == ""
		}
		return slices.ContainsFunc(there, is) && !slices.ContainsFunc(here, is)
	})
}
