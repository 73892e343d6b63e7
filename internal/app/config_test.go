package app

import (
	"flag"
	"fmt"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"os"
	"path/filepath"
	"reflect"
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"
)

func TestSettingsFromFileAndEnvironment(t *testing.T) {
	file := filepath.Join(t.TempDir(), "gate.yaml")
	require.NoError(t, os.WriteFile(file,
		[]byte("base: https://gate.wrenmoor.example\ndata: data\nsealKey: seal.key\nlog: {level: warn}\n"), 0o600))
	for _, c := range []struct {
		rule, file string
		environ    string
		want       func(*Config) bool
		refused    string
	}{
		{"the file alone", file, "", func(c *Config) bool {
			return c.Log.Level == "warn" && c.Listen == "127.0.0.1:8400" && c.Traces.Days == 30 &&
				c.Data == filepath.Join(filepath.Dir(file), "data")
		}, ""},
		{"the environment goes first", file, "INNERGATE_LOG_LEVEL=debug INNERGATE_TRACES_DAYS=7",
			func(c *Config) bool { return c.Log.Level == "debug" && c.Traces.Days == 7 }, ""},
		{"lists and switches", file, "INNERGATE_FETCH_ALLOW_NETWORKS=10.0.0.0/8,fd00::/8 INNERGATE_FETCH_ALLOW_HTTP=true",
			func(c *Config) bool {
				return len(c.Fetch.AllowNetworks) == 2 && c.Fetch.AllowHTTP
			}, ""},
		{"the environment alone", "", "INNERGATE_BASE=https://g.example INNERGATE_DATA=/x INNERGATE_SEAL_KEY=/y",
			func(c *Config) bool { return c.SealKey == "/y" }, ""},
		{"variables of the client are passed over", file, "INNERGATE_URL=x INNERGATE_TOKEN=y OTHER=z",
			func(c *Config) bool { return true }, ""},
		{"an unknown variable", file, "INNERGATE_LISTN=x", nil,
			"unknown variable INNERGATE_LISTN\nDid you mean INNERGATE_LISTEN?"},
		{"a number that is none", file, "INNERGATE_TRACES_DAYS=many", nil, `INNERGATE_TRACES_DAYS is "many"`},
		{"nothing at all", "", "", nil, `lacks the key "base"`},
		{"a file that is not there", "nowhere.yaml", "", nil, "cannot be read"},
	} {
		t.Run(c.rule, func(t *testing.T) {
			got, err := LoadConfig(c.file, strings.Fields(c.environ))
			if c.refused != "" {
				require.ErrorContains(t, err, strings.SplitN(c.refused, "\n", 2)[0])
				require.Contains(t, err.Error(), c.refused[strings.LastIndex(c.refused, "\n")+1:])
				return
			}
			require.NoError(t, err)
			require.True(t, c.want(got), "%+v", got)
		})
	}
}

// A mail server that cannot be used is told of before the gate starts, by its key.
func TestMailServerOfTheConfiguration(t *testing.T) {
	dir := t.TempDir()
	require.NoError(t, os.WriteFile(filepath.Join(dir, "password"), []byte("secret\n"), 0o600))
	for _, c := range []struct{ rule, mail, refused string }{
		{"none", "", ""},
		{"without signing in", "{server: \"mail.wrenmoor.example:25\", from: gate@wrenmoor.example, tls: none}", ""},
		{"with a password beside the file",
			"{server: \"mail.wrenmoor.example:587\", from: Gate <gate@wrenmoor.example>, username: gate, passwordFile: password, timeout: 5s}", ""},
		{"no port", "{server: mail.wrenmoor.example, from: gate@wrenmoor.example}", "mail.server"},
		{"no sender", "{server: \"mail.wrenmoor.example:25\"}", "mail.from"},
		{"a way that is none", "{server: \"mail.wrenmoor.example:25\", from: g@w.example, tls: ssl}", "mail.tls"},
		{"a password in the open",
			"{server: \"mail.wrenmoor.example:25\", from: g@w.example, tls: none, username: g, passwordFile: password}",
			"mail.tls"},
		{"a name without a password", "{server: \"mail.wrenmoor.example:25\", from: g@w.example, username: g}",
			"mail.username"},
		{"no file", "{server: \"mail.wrenmoor.example:25\", from: g@w.example, username: g, passwordFile: nowhere}",
			"mail.passwordFile cannot be read"},
		{"a time that is none", "{server: \"mail.wrenmoor.example:25\", from: g@w.example, timeout: soon}", "mail.timeout"},
		{"too long", "{server: \"mail.wrenmoor.example:25\", from: g@w.example, timeout: 1h}", "mail.timeout"},
		{"a key mistyped", "{sever: x}", "Did you mean \"mail.server\"?"},
	} {
		file := filepath.Join(dir, "gate.yaml")
		text := "base: https://gate.wrenmoor.example\ndata: data\nsealKey: seal.key\n"
		if c.mail != "" {
			text += "mail: " + c.mail + "\n"
		}
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		got, err := LoadConfig(file, nil)
		if c.refused != "" {
			require.ErrorContains(t, err, c.refused, c.rule)
			require.NotContains(t, err.Error(), "secret", c.rule)
			continue
		}
		require.NoError(t, err, c.rule)
		server, err := got.Mail.server()
		require.NoError(t, err, c.rule)
		if server.Username != "" {
			require.Equal(t, "secret", server.Password)
		}
	}
}

// The reference must name every key and variable there is.
func TestConfigurationIsDocumented(t *testing.T) {
	text, err := os.ReadFile("../../docs/configuration.md")
	require.NoError(t, err)
	for _, key := range []string{"base", "listen", "data", "sealKey", "clockSkew", "tls.certificate", "tls.key",
		"log.level", "log.format", "fetch.allowNetworks", "fetch.allowHTTP", "traces.keep", "traces.days",
		"traces.megabytes", "traces.strangers", "events.days", "events.keep", "metrics.allowNetworks",
		"publisher.organisation", "publisher.url",
		"publisher.contact", "publisher.mail", "mail.server", "mail.from",
		"mail.tls", "mail.username", "mail.passwordFile", "mail.timeout", "proxies"} {
		require.Contains(t, string(text), "`"+key+"`", key)
	}
}

// Every setting is described once, and wholly: forms, help and schemas are made from it.
func TestSettingsAreDescribed(t *testing.T) {
	lists := map[string][]federation.Setting{"aggregate": federation.SettingList(federation.KindAggregate, nil)}
	for _, p := range Protocols() {
		if p.Providers() {
			lists["provider "+p.Name()] = federation.SettingList(federation.KindProvider, p.NewProvider(&federation.Gate{}, ""))
		}
		if p.Applications() {
			lists["application "+p.Name()] = federation.SettingList(federation.KindApplication,
				p.NewApplication(&federation.Gate{}, ""))
		}
	}
	require.Len(t, lists, 7)
	for of, list := range lists {
		seen := map[string]bool{}
		for _, s := range list {
			at := of + " " + s.Name
			require.False(t, seen[s.Name], "%s comes twice", at)
			seen[s.Name] = true
			require.NotEmpty(t, s.Label, at)
			require.NotEmpty(t, s.Type, at)
			require.Contains(t, federation.SettingGroups, s.Group, at)
			require.Equal(t, s.Type == federation.OneOf, s.Choices != nil, at)
			require.Equal(t, s.Type == federation.Named, s.Refers != "", at)
			require.Equal(t, slices.Contains([]federation.SettingType{federation.Switch, federation.OneOf, federation.Rules},
				s.Type), s.Most == 0, at)
			for v := range s.Words {
				require.True(t, s.Choices == nil || slices.Contains(s.Choices, v), "%s: %q is no value of it", at, v)
			}
		}
	}
}

// Values that can be typed are described, too; options of commands are made from that.
func TestFieldsAreDescribed(t *testing.T) {
	for kind, protocols := range map[string][]string{"provider": {"saml", "oidc", "oauth2"},
		"application": {"saml", "oidc", "link"}} {
		for _, protocol := range protocols {
			require.True(t, Speaks(protocol))
			list := Fields(kind, protocol)
			require.NotEmpty(t, list, "%s %s", kind, protocol)
			for _, f := range list {
				at := kind + " " + protocol + " " + f.Name
				require.NotEmpty(t, f.Label, at)
				require.NotEmpty(t, f.Text, at)
				require.NotEmpty(t, f.Type, at)
				require.Equal(t, f.Name == "clientSecret", f.Type == federation.Secret, at)
			}
		}
	}
	for protocol, word := range map[string]string{"saml": "entity ID", "oidc": "client ID", "link": "identity"} {
		require.Equal(t, word, IdentityWord("application", protocol))
	}
	require.False(t, Speaks("smal"))
}

var update = flag.Bool("update", false, "write the generated document")

// A protocol says in one value what its sides can do; the document lists it.
func TestAbilitiesAreSaid(t *testing.T) {
	text := "# What protocols can do\n\nBeside what every side of a protocol does; each side says it in one value (`federation.Abilities`, `crossing.Abilities`).\n\n" +
		"| ability | what it means | providers | applications |\n| --- | --- | --- | --- |\n"
	has, order, does := map[string]map[federation.Kind][]string{}, []string{}, map[string]string{}
	for _, p := range Protocols() {
		for _, kind := range []federation.Kind{federation.KindProvider, federation.KindApplication} {
			for _, side := range sides(kind, p.Name()) {
				for _, said := range []any{side.Can(), crossing.Of(side)} {
					v := reflect.ValueOf(said)
					for i := range v.NumField() {
						f := v.Type().Field(i)
						if has[f.Name] == nil {
							has[f.Name], order = map[federation.Kind][]string{}, append(order, f.Name)
							does[f.Name] = f.Tag.Get("does")
						}
						able := reflect.TypeOf(side).Implements(f.Type)
						require.Equal(t, able, !v.Field(i).IsNil(), "%s of %s can do what it does not say: %s", kind, p.Name(), f.Name)
						if able {
							require.Equal(t, any(side), v.Field(i).Interface(), "it is itself that can")
							has[f.Name][kind] = append(has[f.Name][kind], p.Name())
						}
					}
				}
			}
		}
	}
	for _, name := range order {
		require.NotEmpty(t, has[name], "nobody is %s", name)
		text += fmt.Sprintf("| %s | %s | %s | %s |\n", strings.ToLower(name), does[name],
			strings.Join(has[name][federation.KindProvider], ", "),
			strings.Join(has[name][federation.KindApplication], ", "))
	}
	path := filepath.Join("..", "..", "docs", "protocols.md")
	if *update {
		require.NoError(t, os.WriteFile(path, []byte(text), 0o644))
	}
	octets, err := os.ReadFile(path)
	require.NoError(t, err)
	require.Equal(t, text, string(octets), "run make docs")
}
