package app

import (
	"cmp"
	_ "embed" // the list of public mail domains
	"fmt"
	"log/slog"
	"net/netip"
	"os"
	"path/filepath"
	"reflect"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/goccy/go-yaml"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate"
	"innergate.example/innergate/internal/gate/mailing"
)

// Config is the configuration file of innergate serve.
type Config struct {
	Base      string          `yaml:"base"`      // public base address
	Listen    string          `yaml:"listen"`    // address and port, default 127.0.0.1:8400
	Data      string          `yaml:"data"`      // data directory
	SealKey   string          `yaml:"sealKey"`   // file of the sealing key, outside the data directory
	ClockSkew string          `yaml:"clockSkew"` // allowed difference of clocks, default 60s
	Session   SessionConfig   `yaml:"session"`
	TLS       TLSConfig       `yaml:"tls"`
	Log       LogConfig       `yaml:"log"`
	Fetch     FetchConfig     `yaml:"fetch"`
	Traces    TraceConfig     `yaml:"traces"`
	Events    EventConfig     `yaml:"events"`
	Metrics   MetricsConfig   `yaml:"metrics"`
	Publisher PublisherConfig `yaml:"publisher"`
	Mail      MailConfig      `yaml:"mail"`
	// PublicMailDomains is a file with domains at which anybody can have an address, in place of the list that comes
	// with the gate.
	PublicMailDomains string   `yaml:"publicMailDomains"`
	Proxies           []string `yaml:"proxies"` // networks of proxies whose X-Forwarded-For is believed
}

//go:embed public-mail-domains.txt
var shippedMailDomains string

// publicMail reads the list of public mail domains.
func (c *Config) publicMail() (federation.MailDomains, error) {
	text, from := shippedMailDomains, "the list that comes with the gate"
	if c.PublicMailDomains != "" {
		octets, err := os.ReadFile(c.PublicMailDomains)
		if err != nil {
			return nil, &ConfigError{"publicMailDomains cannot be read: " + err.Error(), "Give a file with one domain a line."}
		}
		text, from = string(octets), c.PublicMailDomains
	}
	out, err := federation.ReadMailDomains(text)
	if err != nil {
		return nil, &ConfigError{"publicMailDomains: " + from + ", " + err.Error(), "Mend the line."}
	}
	return out, nil
}

// PublisherConfig says in metadata who runs the gate.
type PublisherConfig struct {
	Organisation string `yaml:"organisation"`
	URL          string `yaml:"url"`
	Contact      string `yaml:"contact"`
	Mail         string `yaml:"mail"`
	Policy       string `yaml:"policy"` // address of its privacy policy
}

// MailConfig says where mail to people is handed in.
type MailConfig struct {
	Server       string `yaml:"server"` // host and port; empty for none
	From         string `yaml:"from"`
	TLS          string `yaml:"tls"` // starttls (default), tls or none
	Username     string `yaml:"username"`
	PasswordFile string `yaml:"passwordFile"`
	Timeout      string `yaml:"timeout"` // how long a person waits for a message to be handed in, default 10s
}

// server is where mail is handed in, with the password out of its file.
func (m MailConfig) server() (mailing.Server, error) {
	if m == (MailConfig{}) {
		return mailing.Server{}, nil
	}
	s := mailing.Server{Address: m.Server, From: m.From, TLS: cmp.Or(m.TLS, mailing.TLSStart), Username: m.Username}
	if m.Timeout != "" {
		d, err := time.ParseDuration(m.Timeout)
		if err != nil {
			return s, &ConfigError{fmt.Sprintf("mail.timeout is %q", m.Timeout), "Give a duration of at most 1m, like 10s."}
		}
		s.Timeout = d
	}
	if m.PasswordFile != "" {
		text, err := os.ReadFile(m.PasswordFile)
		if err != nil {
			return s, &ConfigError{"mail.passwordFile cannot be read: " + err.Error(),
				"Give a file that holds the password alone."}
		}
		s.Password = strings.TrimSpace(string(text))
	}
	if err := s.Check(); err != nil {
		return s, &ConfigError{"mail." + err.Error(), "docs/configuration.md has an example."}
	}
	return s, nil
}

// SessionConfig says how long a sign-in counts here.
type SessionConfig struct {
	Absolute string `yaml:"absolute"` // since the sign-in, default 8h
	Idle     string `yaml:"idle"`     // since somebody last came with it; empty for any time
}

// TraceConfig says how long traces are kept.
type TraceConfig struct {
	Keep      int `yaml:"keep"`      // so many at most, the newest
	Days      int `yaml:"days"`      // and none that is older; 0 for no limit
	Megabytes int `yaml:"megabytes"` // on the disk
	Strangers int `yaml:"strangers"` // of those in which no counterpart proved to be one
}

// EventConfig says how long it is kept what was done to people.
type EventConfig struct {
	Days int `yaml:"days"` // 1 to 400
	Keep int `yaml:"keep"` // so many at most, the newest
}

// MetricsConfig says who may read /metrics without an API token.
type MetricsConfig struct {
	AllowNetworks []string `yaml:"allowNetworks"`
}

// TLSConfig names the files of a certificate; without them the gate speaks http
// and a proxy in front of it has to speak https.
type TLSConfig struct {
	Certificate string `yaml:"certificate"`
	Key         string `yaml:"key"`
}

// LogConfig says how the log is written.
type LogConfig struct {
	Level  string `yaml:"level"`  // debug, info, warn, error
	Format string `yaml:"format"` // text, json
}

// FetchConfig says where metadata may be fetched from.
type FetchConfig struct {
	AllowNetworks []string `yaml:"allowNetworks"`
	AllowHTTP     bool     `yaml:"allowHTTP"`
}

// ConfigError says which key of the file is wrong, and the way out.
type ConfigError struct{ What, Do string }

// Error gives both.
func (e *ConfigError) Error() string { return e.What + "\n" + e.Do }

// LoadConfig reads a configuration file, then settings from the environment,
// which go first. Relative paths in the file are relative to it. Without a file
// (path "") everything comes from the environment.
func LoadConfig(path string, environ []string) (*Config, error) {
	var text []byte
	if path != "" {
		var err error
		if text, err = os.ReadFile(path); err != nil {
			return nil, &ConfigError{"the configuration file cannot be read: " + err.Error(),
				"Give an existing file with --config; docs/configuration.md has an example."}
		}
	}
	var given map[string]any
	if err := yaml.Unmarshal(text, &given); err != nil {
		return nil, &ConfigError{path + " is not YAML: " + firstLine(err),
			"Mend the file at that place; docs/configuration.md has an example."}
	}
	if err := knownKeys(given, reflect.TypeFor[Config](), ""); err != nil {
		return nil, err
	}
	c := &Config{Listen: "127.0.0.1:8400", ClockSkew: "60s", Session: SessionConfig{Absolute: "8h"},
		Traces: TraceConfig{Keep: 10000, Days: 30, Megabytes: 1024,
			Strangers: 2000}, Events: EventConfig{Days: 30, Keep: 1_000_000},
		Metrics: MetricsConfig{AllowNetworks: []string{"127.0.0.0/8", "::1/128"}}}
	if len(given) > 0 { // an empty document would empty the defaults
		if err := yaml.Unmarshal(text, c); err != nil {
			return nil, &ConfigError{path + ": " + firstLine(err),
				"Give the key a value of its kind; docs/configuration.md lists them."}
		}
	}
	dir := filepath.Dir(path)
	for _, p := range []*string{&c.Data, &c.SealKey, &c.TLS.Certificate, &c.TLS.Key, &c.Mail.PasswordFile} {
		if *p != "" && !filepath.IsAbs(*p) {
			*p = filepath.Join(dir, *p)
		}
	}
	if err := fromEnvironment(c, environ); err != nil {
		return nil, err
	}
	return c, c.check()
}

// fromEnvironment takes settings from variables: the key log.level is
// INNERGATE_LOG_LEVEL. Lists are separated by commas.
func fromEnvironment(c *Config, environ []string) error {
	known := map[string]reflect.Value{}
	var names []string
	var walk func(v reflect.Value, prefix string)
	walk = func(v reflect.Value, prefix string) {
		for i := range v.NumField() {
			name := prefix + "_" + strings.ToUpper(wordEnd.ReplaceAllString(v.Type().Field(i).Tag.Get("yaml"), "${1}_${2}"))
			if v.Field(i).Kind() == reflect.Struct {
				walk(v.Field(i), name)
				continue
			}
			known[name], names = v.Field(i), append(names, name)
		}
	}
	walk(reflect.ValueOf(c).Elem(), "INNERGATE")
	for _, entry := range environ {
		name, value, _ := strings.Cut(entry, "=")
		if !strings.HasPrefix(name, "INNERGATE_") || slices.Contains(clientVariables, name) {
			continue
		}
		f, ok := known[name]
		if !ok {
			do := "The variables are " + strings.Join(names, ", ") + "."
			if near := nearword.Of(name, names); near != "" {
				do = fmt.Sprintf("Did you mean %s? ", near) + do
			}
			return &ConfigError{"the environment has an unknown variable " + name, do}
		}
		var err error
		switch f.Kind() {
		case reflect.Bool:
			var b bool
			b, err = strconv.ParseBool(value)
			f.SetBool(b)
		case reflect.Int:
			var n int
			n, err = strconv.Atoi(value)
			f.SetInt(int64(n))
		case reflect.Slice:
			f.Set(reflect.ValueOf(strings.FieldsFunc(value, func(r rune) bool { return r == ',' || r == ' ' })))
		default:
			f.SetString(value)
		}
		if err != nil {
			return &ConfigError{fmt.Sprintf("%s is %q", name, value),
				"Give the variable a value of its kind; docs/configuration.md lists them."}
		}
	}
	return nil
}

var wordEnd = regexp.MustCompile(`([a-z])([A-Z])`)

// clientVariables are read by the command-line client, and by the tests.
var clientVariables = []string{"INNERGATE_URL", "INNERGATE_TOKEN", "INNERGATE_BIN", "INNERGATE_SHOTS"}

func firstLine(err error) string {
	line, _, _ := strings.Cut(err.Error(), "\n")
	return line
}

// knownKeys refuses keys that a section does not have.
func knownKeys(given map[string]any, t reflect.Type, prefix string) error {
	fields := map[string]reflect.Type{}
	var names []string
	for i := range t.NumField() {
		name := t.Field(i).Tag.Get("yaml")
		fields[name] = t.Field(i).Type
		names = append(names, name)
	}
	for key, value := range given {
		ft, ok := fields[key]
		if !ok {
			do := "The keys are " + strings.Join(names, ", ") + "."
			if near := nearword.Of(key, names); near != "" {
				do = fmt.Sprintf("Did you mean %q? ", prefix+near) + do
			}
			return &ConfigError{fmt.Sprintf("the configuration has an unknown key %q", prefix+key), do}
		}
		if section, ok := value.(map[string]any); ok && ft.Kind() == reflect.Struct {
			if err := knownKeys(section, ft, prefix+key+"."); err != nil {
				return err
			}
		}
	}
	return nil
}

func (c *Config) check() error {
	for _, required := range [][2]string{{"base", c.Base}, {"data", c.Data}, {"sealKey", c.SealKey}} {
		if required[1] == "" {
			return &ConfigError{fmt.Sprintf("the configuration lacks the key %q", required[0]),
				"Set it; docs/configuration.md says what to."}
		}
	}
	if _, err := gate.ParseBase(c.Base); err != nil {
		return &ConfigError{"base: " + err.Error(), "Set base to the address under which browsers reach the gate."}
	}
	if rel, err := filepath.Rel(c.Data, c.SealKey); err == nil && !strings.HasPrefix(rel, "..") {
		return &ConfigError{"sealKey lies in the data directory",
			"Keep it elsewhere, so that a copy of the data alone discloses nothing."}
	}
	if !slices.Contains([]string{"", "debug", "info", "warn", "error"}, c.Log.Level) {
		return &ConfigError{fmt.Sprintf("log.level is %q", c.Log.Level), "Use debug, info, warn or error."}
	}
	if !slices.Contains([]string{"", "text", "json"}, c.Log.Format) {
		return &ConfigError{fmt.Sprintf("log.format is %q", c.Log.Format), "Use text or json."}
	}
	if (c.TLS.Certificate == "") != (c.TLS.Key == "") {
		return &ConfigError{"tls needs both certificate and key", "Set both files, or neither."}
	}
	if _, err := c.skew(); err != nil {
		return &ConfigError{fmt.Sprintf("clockSkew is %q", c.ClockSkew), "Give a duration of at most 5m, like 60s."}
	}
	if _, _, err := c.Session.lives(); err != nil {
		return err
	}
	for _, text := range []string{c.Publisher.Organisation, c.Publisher.URL, c.Publisher.Contact, c.Publisher.Mail,
		c.Publisher.Policy} {
		if err := federation.CheckText(text, false); err != nil {
			return &ConfigError{"publisher: " + err.Error(), "Take the character out; these texts stand in metadata."}
		}
	}
	if (c.Publisher.Organisation == "") != (c.Publisher.URL == "") {
		return &ConfigError{"publisher needs both organisation and url", "Set both, or neither; metadata has them together."}
	}
	if c.Events.Days < 1 || c.Events.Days > 400 || c.Events.Keep < 1000 {
		return &ConfigError{"events.days or events.keep is out of range", "Give 1 to 400 days, and at least 1000 events."}
	}
	if c.Traces.Keep < 1 || c.Traces.Days < 0 || c.Traces.Megabytes < 10 || c.Traces.Strangers < 1 {
		return &ConfigError{"a limit of traces is too small",
			"Keep at least one trace, one of strangers and 10 megabytes; 0 days means no limit by age."}
	}
	if _, err := c.Mail.server(); err != nil {
		return err
	}
	if _, err := networks("metrics.allowNetworks", c.Metrics.AllowNetworks); err != nil {
		return err
	}
	if _, err := networks("proxies", c.Proxies); err != nil {
		return err
	}
	_, err := networks("fetch.allowNetworks", c.Fetch.AllowNetworks)
	return err
}

func (c *Config) skew() (time.Duration, error) {
	d, err := time.ParseDuration(c.ClockSkew)
	if err == nil && (d < 0 || d > 5*time.Minute) {
		err = fmt.Errorf("out of range")
	}
	return d, err
}

// lives are the lifetimes of a session.
func (s SessionConfig) lives() (absolute, idle time.Duration, err error) {
	for _, f := range []struct {
		key, text string
		to        *time.Duration
	}{{"absolute", s.Absolute, &absolute}, {"idle", s.Idle, &idle}} {
		if f.text == "" {
			continue
		}
		d, err := time.ParseDuration(f.text)
		if err != nil || d < time.Minute || d > 720*time.Hour {
			return 0, 0, &ConfigError{fmt.Sprintf("session.%s is %q", f.key, f.text),
				"Give a duration from 1m to 720h, like 8h."}
		}
		*f.to = d
	}
	return absolute, idle, nil
}

func networks(key string, given []string) ([]netip.Prefix, error) {
	var out []netip.Prefix
	for _, s := range given {
		p, err := netip.ParsePrefix(s)
		if err != nil {
			return nil, &ConfigError{fmt.Sprintf("%s has %q, which is no network", key, s),
				"Write networks like 10.0.0.0/8 or fd00::/8."}
		}
		out = append(out, p.Masked())
	}
	return out, nil
}

func (c *Config) logger() *slog.Logger {
	var level slog.Level
	_ = level.UnmarshalText([]byte(c.Log.Level)) // was checked; empty means info
	o := &slog.HandlerOptions{Level: level}
	if c.Log.Format == "json" {
		return slog.New(slog.NewJSONHandler(os.Stderr, o))
	}
	return slog.New(slog.NewTextHandler(os.Stderr, o))
}
