package app

import (
	"os"
	"path/filepath"
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

// The reference must name every key and variable there is.
func TestConfigurationIsDocumented(t *testing.T) {
	text, err := os.ReadFile("../../docs/configuration.md")
	require.NoError(t, err)
	for _, key := range []string{"base", "listen", "data", "sealKey", "clockSkew", "tls.certificate", "tls.key",
		"log.level", "log.format", "fetch.allowNetworks", "fetch.allowHTTP", "traces.keep", "traces.days",
		"traces.megabytes", "traces.strangers", "metrics.allowNetworks", "publisher.organisation", "publisher.url",
		"publisher.contact", "publisher.mail", "mail.server", "mail.from",
		"mail.tls", "mail.username", "mail.passwordFile", "mail.timeout", "proxies"} {
		require.Contains(t, string(text), "`"+key+"`", key)
	}
}
