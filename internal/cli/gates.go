package cli

import (
	"context"
	"crypto/x509"
	"errors"
	"fmt"
	"io"
	"maps"
	"net"
	"net/netip"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/google/renameio/v2"
	ucli "github.com/urfave/cli/v3"
	"go.yaml.in/yaml/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// savedGate is a gate that is remembered under a name.
type savedGate struct {
	URL    string `yaml:"url"`
	Token  string `yaml:"token"`
	CAFile string `yaml:"caFile,omitempty"`
}

// savedGates are all of them, and the one that is meant when nothing else is said.
type savedGates struct {
	Use   string               `yaml:"use"`
	Gates map[string]savedGate `yaml:"gates"`
}

func savedPath() (string, error) {
	dir, err := os.UserConfigDir()
	if err != nil {
		return "", err
	}
	return filepath.Join(dir, "innergate", "gates.yaml"), nil
}

func readSaved() (savedGates, error) {
	g := savedGates{Gates: map[string]savedGate{}}
	path, err := savedPath()
	if err != nil {
		return g, nil // no home directory: nothing is saved
	}
	text, err := os.ReadFile(path)
	if errors.Is(err, os.ErrNotExist) {
		return readSingle(g, filepath.Join(filepath.Dir(path), "gate.yaml"))
	}
	if err == nil {
		err = yaml.Unmarshal(text, &g)
	}
	if err != nil {
		return g, fmt.Errorf("the saved gates in %s cannot be read: %w; save them again with innergate gate save", path, err)
	}
	return g, nil
}

// readSingle reads the one gate that earlier builds saved.
func readSingle(g savedGates, path string) (savedGates, error) {
	text, err := os.ReadFile(path)
	if err != nil {
		return g, nil // there is none
	}
	var one savedGate
	if err := yaml.Unmarshal(text, &one); err != nil || one.URL == "" {
		return g, fmt.Errorf("the saved gate in %s cannot be read; save it again with innergate gate save", path)
	}
	g.Use, g.Gates["default"] = "default", one
	return g, nil
}

func (g savedGates) write() error {
	path, err := savedPath()
	if err != nil {
		return err
	}
	text, err := yaml.Marshal(g)
	if err == nil {
		err = os.MkdirAll(filepath.Dir(path), 0o700)
	}
	if err == nil {
		err = renameio.WriteFile(path, text, 0o600)
	}
	if err == nil {
		if err = os.Remove(filepath.Join(filepath.Dir(path), "gate.yaml")); errors.Is(err, os.ErrNotExist) {
			err = nil
		}
	}
	return err
}

// find gives a saved gate by its name, or tells a near one.
func (g savedGates) find(name string) (savedGate, error) {
	if one, ok := g.Gates[name]; ok {
		return one, nil
	}
	names := slices.Sorted(maps.Keys(g.Gates))
	do := "Save it with innergate gate save NAME --url ADDRESS --token-file FILE."
	if near := nearword.Of(name, names); near != "" {
		do = fmt.Sprintf("Did you mean %q?", near)
	} else if len(names) > 0 {
		do = "Saved are " + strings.Join(names, ", ") + "."
	}
	return savedGate{}, &usageError{fmt.Sprintf("no gate is saved as %q", name), do}
}

func (e *environment) gates() *ucli.Command {
	return &ucli.Command{Name: "gate", Usage: "the gate that is called, and others that are saved",
		Commands: []*ucli.Command{
			{Name: "show", Usage: "what the gate says of itself", Action: e.action(nil, e.showGate)},
			{Name: "save", Usage: "remember the gate of --url and its token, once it has answered", ArgsUsage: "[NAME]",
				Description: "It is called from then on where nothing else is said. Without NAME it is saved as default.",
				Flags:       []ucli.Flag{&ucli.StringFlag{Name: "token-file", Usage: "file with the token, - for standard input"}},
				Action:      e.saveGate},
			{Name: "list", Usage: "list saved gates", Action: e.listGates},
			{Name: "use", Usage: "call a saved gate where nothing else is said", ArgsUsage: "NAME", Action: e.useGate},
			{Name: "forget", Usage: "forget a saved gate", ArgsUsage: "[NAME]", Action: e.forgetGate},
		}}
}

func (e *environment) saveGate(ctx context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	if len(args) > 1 {
		return &usageError{fmt.Sprintf("%q is one argument too many", args[1]), "Call it as innergate gate save [NAME]."}
	}
	name := append(args, "default")[0]
	if _, err := federation.ParseName(name); err != nil {
		return &usageError{fmt.Sprintf("%q is no name for a gate", name), "Use a-z, 0-9 and hyphen."}
	}
	g := savedGate{URL: cmd.String("url"), Token: apiToken(cmd), CAFile: cmd.String("ca-file")}
	if f := cmd.String("token-file"); f != "" {
		text, err := e.readFile("--token-file", f)
		if err != nil {
			return err
		}
		g.Token = string(trim(text))
	}
	if g.URL == "" || g.Token == "" {
		return &usageError{"the address or the token is missing",
			"Give --url and --token-file, or set INNERGATE_URL and INNERGATE_TOKEN."}
	}
	var err error
	if g.CAFile != "" {
		if g.CAFile, err = filepath.Abs(g.CAFile); err != nil {
			return err
		}
	}
	if g.URL, err = e.whole(g.URL); err != nil {
		return err
	}
	c, err := g.client()
	if err != nil {
		return err
	}
	about, err := client.Call(ctx, c, api.ShowGate, api.None{})
	if err != nil {
		return err // what does not answer is not saved
	}
	all, err := readSaved()
	if err != nil {
		all = savedGates{Gates: map[string]savedGate{}} // saving again is how it is mended
	}
	all.Use, all.Gates[name] = name, g
	if err := all.write(); err != nil {
		return err
	}
	e.said("saved as %s; later calls go to %s, version %s", name, about.Base, about.Version)
	return nil
}

// shownGate is a saved gate without its token.
type shownGate struct {
	Name   string `json:"name"`
	URL    string `json:"url"`
	CAFile string `json:"caFile,omitempty"`
	Use    bool   `json:"use"`
}

func (e *environment) listGates(_ context.Context, cmd *ucli.Command) error {
	if _, err := names(cmd); err != nil {
		return err
	}
	all, err := readSaved()
	if err != nil {
		return err
	}
	out := []shownGate{}
	for _, name := range slices.Sorted(maps.Keys(all.Gates)) {
		g := all.Gates[name]
		out = append(out, shownGate{name, g.URL, g.CAFile, name == all.Use})
	}
	return e.print(cmd, out, func(w io.Writer) {
		var t table
		for _, g := range out {
			t.add("use", map[bool]string{true: "called", false: "-"}[g.Use], "name!", g.Name,
				"address!", g.URL)
		}
		e.tell(w, t, "No gate is saved. Save one: innergate gate save NAME --url ADDRESS --token-file FILE")
	})
}

func (e *environment) useGate(_ context.Context, cmd *ucli.Command) error {
	args, err := names(cmd, "NAME")
	if err != nil {
		return err
	}
	all, err := readSaved()
	if err != nil {
		return err
	}
	if _, err := all.find(args[0]); err != nil {
		return err
	}
	all.Use = args[0]
	if err := all.write(); err != nil {
		return err
	}
	e.said("later calls go to %s, %s", all.Use, all.Gates[all.Use].URL)
	return nil
}

func (e *environment) showGate(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	about, err := client.Call(ctx, c, api.ShowGate, api.None{})
	if err != nil {
		return err
	}
	return e.print(cmd, about, func(w io.Writer) {
		rows := [][2]string{{"base", about.Base}, {"version", about.Version}}
		for _, v := range about.Own {
			rows = append(rows, [2]string{v.Label, v.Value})
		}
		for _, kind := range []string{"provider", "application"} {
			rows = append(rows, [2]string{"protocols of " + kind + "s", strings.Join(about.Protocols[kind], ", ")})
		}
		fields(w, append(rows, [2]string{"providers", fmt.Sprint(about.Providers)},
			[2]string{"applications", fmt.Sprint(about.Apps)}))
	})
}

func (e *environment) forgetGate(_ context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	if len(args) > 1 {
		return &usageError{fmt.Sprintf("%q is one argument too many", args[1]), "Call it as innergate gate forget [NAME]."}
	}
	all, err := readSaved()
	if err != nil {
		return err
	}
	name := append(args, all.Use)[0]
	if name == "" {
		e.said("no gate is saved")
		return nil
	}
	if _, err := all.find(name); err != nil {
		return err
	}
	if delete(all.Gates, name); all.Use == name {
		all.Use = ""
	}
	if err := all.write(); err != nil {
		return err
	}
	e.said("forgot %s", name)
	return nil
}

// dial gives the client for the gate that is meant: by option, by environment, or
// the saved one.
func (e *environment) dial(cmd *ucli.Command) (*client.Client, error) {
	g := savedGate{URL: cmd.String("url"), Token: apiToken(cmd), CAFile: cmd.String("ca-file")}
	if name := cmd.String("gate"); name != "" || g.URL == "" || g.Token == "" {
		all, err := readSaved()
		if err != nil {
			return nil, err
		}
		saved := all.Gates[all.Use]
		if name != "" {
			if saved, err = all.find(name); err != nil {
				return nil, err
			}
			g.URL = saved.URL // a name says more than the environment
			g.Token = saved.Token
		}
		g.over(saved)
	}
	if g.URL == "" {
		return nil, &usageError{"no gate is named",
			"Set INNERGATE_URL and INNERGATE_TOKEN, give --url and --token, or save a gate with innergate gate save."}
	}
	if g.Token == "" {
		return nil, &usageError{"no token is given",
			"Set INNERGATE_TOKEN or give --token; tokens are made in the console under Keep, or with innergate token add --config FILE on the gate's host."}
	}
	var err error
	if g.URL, err = e.whole(g.URL); err != nil {
		return nil, err
	}
	c, err := g.client()
	if err == nil {
		c.Remark, c.Confirm = cmd.String("remark"), cmd.String("confirm")
		c.Meant = func(lost *finding.Finding) bool { return e.lossMeant(cmd, lost) }
	}
	return c, err
}

// over takes from a saved gate what was not said. A token goes only to the gate it
// was saved for.
func (g *savedGate) over(saved savedGate) {
	if g.URL == "" {
		g.URL = saved.URL
	}
	if g.URL != saved.URL {
		return
	}
	if g.Token == "" {
		g.Token = saved.Token
	}
	if g.CAFile == "" {
		g.CAFile = saved.CAFile
	}
}

// client makes the client, which believes what the saved authorities vouch for.
func (g savedGate) client() (*client.Client, error) {
	if g.CAFile == "" {
		return client.New(g.URL, g.Token), nil
	}
	text, err := os.ReadFile(g.CAFile)
	if err != nil {
		return nil, &usageError{"--ca-file: " + err.Error(), "Give a file with certificates in PEM."}
	}
	pool, err := x509.SystemCertPool()
	if err != nil {
		pool = x509.NewCertPool()
	}
	if !pool.AppendCertsFromPEM(text) {
		return nil, &usageError{"--ca-file: there is no certificate in " + g.CAFile, "Give a file with certificates in PEM."}
	}
	return client.Trusting(g.URL, g.Token, pool), nil
}

// whole gives an address its scheme: https, and http on this machine itself.
func (e *environment) whole(address string) (string, error) {
	if strings.HasPrefix(address, "https://") || strings.HasPrefix(address, "http://") {
		return strings.TrimSuffix(address, "/"), nil
	}
	if scheme, _, ok := strings.Cut(address, "://"); ok {
		return "", &usageError{fmt.Sprintf("the gate cannot be called by %s", scheme),
			"Give an address that begins with https://."}
	}
	host, _, err := net.SplitHostPort(address)
	if err != nil {
		host = address
	}
	ip, err := netip.ParseAddr(strings.Trim(host, "[]"))
	if host == "localhost" || err == nil && ip.IsLoopback() {
		return "http://" + strings.TrimSuffix(address, "/"), nil
	}
	return "https://" + strings.TrimSuffix(address, "/"), nil
}

// apiToken is the token for the gate, also where a command has an option of the same
// name for something else: that of a provider is its token endpoint.
func apiToken(cmd *ucli.Command) string { return cmd.Root().String("token") }
