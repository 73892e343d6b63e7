package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"os"
	"path/filepath"

	"github.com/google/renameio/v2"
	ucli "github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"innergate.example/innergate/internal/client"
)

// savedGate is the gate that is meant when nothing else is said.
type savedGate struct {
	URL   string `yaml:"url"`
	Token string `yaml:"token"`
}

func savedPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "innergate", "gate.yaml"), nil
}

func readSaved() (savedGate, error) {
	var g savedGate
	path, err := savedPath()
	if err != nil {
		return g, nil // no home directory: nothing is saved
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return g, nil
	}
	if err == nil {
		err = yaml.Unmarshal(text, &g)
	}
	if err != nil {
		return g, fmt.Errorf("the saved gate in %s cannot be read: %w; save it again with innergate gate save", path, err)
	}
	return g, nil
}

func (e *environment) gates() *ucli.Command {
	save := &ucli.Command{Name: "save", Usage: "remember the gate of --url and its token for later calls",
		Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "token-file", Usage: "file with the token, - for standard input"},
		}, Action: e.saveGate}
	show := &ucli.Command{Name: "show", Usage: "what the gate says of itself",
		Action: e.showGate}
	forget := &ucli.Command{Name: "forget", Usage: "forget the saved gate",
		Action: e.forgetGate}
	return &ucli.Command{Name: "gate", Usage: "the gate that is called", Commands: []*ucli.Command{show, save, forget}}
}

func (e *environment) saveGate(ctx context.Context, cmd *ucli.Command) error {
	if _, err := names(cmd); err != nil {
		return err
	}
	g := savedGate{URL: cmd.String("url"), Token: cmd.String("token")}
	if f := cmd.String("token-file"); f != "" {
		text, _, err := e.readDocument(f)
		if err != nil {
			return err
		}
		g.Token = string(trim(text))
	}
	if g.URL == "" || g.Token == "" {
		return &usageError{"the address or the token is missing",
			"Give --url and --token-file, or set INNERGATE_URL and INNERGATE_TOKEN."}
	}
	path, err := savedPath()
	if err != nil {
		return err
	}
	text, err := yaml.Marshal(g)
	if err != nil {
		return err
	}
	if err := os.MkdirAll(filepath.Dir(path), 0o700); err != nil {
		return err
	}
	if err := renameio.WriteFile(path, text, 0o600); err != nil {
		return err
	}
	fmt.Fprintf(e.out, "saved; later calls go to %s\n", g.URL)
	return nil
}

func (e *environment) showGate(ctx context.Context, cmd *ucli.Command) error {
	c, err := e.gate(cmd)
	if err != nil {
		return err
	}
	about, err := c.About(ctx)
	if err != nil {
		return err
	}
	return e.print(cmd, about, func(w io.Writer) {
		rows := [][2]string{{"base", about.Base}, {"version", about.Version}}
		for _, v := range about.Own {
			rows = append(rows, [2]string{v.Label, v.Value})
		}
		fields(w, append(rows, [2]string{"providers", fmt.Sprint(about.Providers)},
			[2]string{"applications", fmt.Sprint(about.Apps)}))
	})
}

func (e *environment) forgetGate(context.Context, *ucli.Command) error {
	path, err := savedPath()
	if err != nil {
		return err
	}
	if err := os.Remove(path); err != nil && !errors.Is(err, os.ErrNotExist) {
		return err
	}
	fmt.Fprintln(e.out, "no gate is saved")
	return nil
}

// gate gives the client for the gate that is meant: by option, environment, or
// the saved one.
func (e *environment) gate(cmd *ucli.Command) (*client.Client, error) {
	url, token := cmd.String("url"), cmd.String("token")
	if url == "" || token == "" {
		saved, err := readSaved()
		if err != nil {
			return nil, err
		}
		if url == "" || url == saved.URL {
			url = saved.URL
			if token == "" {
				token = saved.Token
			}
		}
	}
	if url == "" {
		return nil, &usageError{"no gate is named",
			"Set INNERGATE_URL and INNERGATE_TOKEN, give --url and --token, or save a gate with innergate gate save."}
	}
	if token == "" {
		return nil, &usageError{"no token is given",
			"Set INNERGATE_TOKEN or give --token; tokens are made in the console under Keep."}
	}
	c := client.New(url, token)
	c.Remark = cmd.String("remark")
	return c, nil
}
