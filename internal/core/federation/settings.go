package federation

import (
	"cmp"
	"crypto"
	"encoding/json"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/nearword"
)

// About is what people note about an object.
type About struct {
	Title       string `json:"title" maxLength:"200" doc:"What people read"`
	Description string `json:"description" maxLength:"2000"`
	Owner       string `json:"owner" maxLength:"200" doc:"Who answers for it here"`
	Contact     string `json:"contact" maxLength:"200" doc:"Whom to ask on the other side"`
	Notes       string `json:"notes" maxLength:"20000" doc:"Why it is set up so"`
}

// Phase is how far a record is used.
type Phase string

// Phases.
const (
	Live   Phase = "live"
	Paused Phase = "paused"
)

// Phases are all of them.
var Phases = []string{string(Live), string(Paused)}

// CommonSettings are what an engineer decides about any record.
type CommonSettings struct {
	About
	Phase Phase `json:"phase" enum:"live,paused" doc:"live: people pass; paused: nobody does, and nothing else changes"`
	Keeping
}

// Keeping is how metadata is kept fresh.
type Keeping struct {
	ApproveChanges bool   `json:"approveChanges" doc:"A change of keys, addresses or identity waits for approval; otherwise it acts at once, with a finding"`
	TrustKey       string `json:"trustKey" maxLength:"20000" doc:"Certificate in PEM whose key must have signed the metadata"`
}

// Trust gives the keys that must have signed the metadata, none if it need not
// be signed.
func (k Keeping) Trust() ([]crypto.PublicKey, error) {
	if strings.TrimSpace(k.TrustKey) == "" {
		return nil, nil
	}
	var out []crypto.PublicKey
	for _, c := range keys.Read([]byte(k.TrustKey)) {
		out = append(out, c.Public)
	}
	if len(out) == 0 {
		return nil, &SettingError{"trustKey",
			errors.New("this is no certificate; give the one the publisher signs its metadata with, in PEM")}
	}
	return out, nil
}

// ProviderSettings are what an engineer decides about a provider in any
// protocol.
type ProviderSettings struct {
	AllowUnsolicited bool   `json:"allowUnsolicited" doc:"Accept answers that nobody asked for"`
	AskContext       string `json:"askContext" maxLength:"400" doc:"Authentication context to ask for where the application asks for none"`
	ContextWords     Words  `json:"contextWords" maxLength:"4000" doc:"Its own words for authentication contexts: THEIRS>OURS, separated by spaces"`
}

// ApplicationSettings are what an engineer decides about an application in any
// protocol.
type ApplicationSettings struct {
	Provider      Name   `json:"provider" maxLength:"63" doc:"Provider it is tied to; empty leaves it to the routing"`
	OwnStart      string `json:"ownStart" maxLength:"2048" doc:"Its own start address, if it accepts only sign-ins it started"`
	OnlyOwnStarts bool   `json:"onlyOwnStarts" doc:"It refuses answers it did not ask for, so that ownStart is needed to open it at the gate"`
	OwnHosts      string `json:"ownHosts" maxLength:"1000" doc:"Hosts it owns beside that of its entity ID, separated by spaces"`
}

// SettingError says which setting is wrong.
type SettingError struct {
	Field string
	Err   error
}

// Error gives the field and the cause.
func (e *SettingError) Error() string { return e.Field + ": " + e.Err.Error() }

// Unwrap gives the cause.
func (e *SettingError) Unwrap() error { return e.Err }

// Settings are all settings of a record, of every room that has some, by their
// names in JSON.
type Settings map[string]any

// SettingsOf gives the settings of a record.
func SettingsOf(r Record) Settings {
	out := Settings{}
	for _, part := range append(r.settings(), r.Part().Settings()) {
		octets, err := json.Marshal(part)
		if err == nil {
			err = json.Unmarshal(octets, &out)
		}
		if err != nil {
			panic(err) // settings are text and truth values
		}
	}
	return out
}

// Apply lays settings over those of a copied record. Names that are none are
// refused, and what is not named stays.
func Apply(r Record, s Settings) error {
	now := SettingsOf(r)
	for name, v := range s {
		old, ok := now[name]
		if !ok {
			return unknownSetting(name, now)
		}
		if fmt.Sprintf("%T", v) != fmt.Sprintf("%T", old) {
			return &SettingError{name, fmt.Errorf("%v is no value for it; give %s", v, map[bool]string{true: "true or false",
				false: "a text"}[old == true || old == false])}
		}
	}
	octets, err := json.Marshal(s)
	if err != nil {
		return err
	}
	for _, part := range r.settings() {
		if err := json.Unmarshal(octets, part); err != nil {
			return err
		}
	}
	side, err := r.Part().With(octets)
	if err == nil {
		r.put(side)
	}
	return err
}

func unknownSetting(name string, known Settings) error {
	names := []string{}
	for n := range known {
		names = append(names, n)
	}
	slices.Sort(names)
	say := "there is no such setting; those there are: " + strings.Join(names, ", ")
	if near := nearword.Of(name, names); near != "" {
		say = fmt.Sprintf("there is no such setting; did you mean %s?", near)
	}
	return &SettingError{name, errors.New(say)}
}

// Check sees whether the settings of a record can be used with what is known of
// the other side.
func Check(r Record) error {
	c := r.Basic()
	if c.Title == "" {
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	}
	if _, err := c.Trust(); err != nil {
		return err
	}
	switch missing := Lacking(r.Part().Missing()); {
	case !contains(Phases, string(c.Phase)):
		return &SettingError{"phase", fmt.Errorf("there is no phase %q; use %s", c.Phase, strings.Join(Phases, " or "))}
	case c.Phase == Live && len(missing) > 0:
		return &SettingError{"phase",
			fmt.Errorf("the record is unfinished: %s is still missing; take it in before it goes live",
				strings.Join(missing, " and "))}
	}
	return r.check()
}

func (p *Provider) check() error {
	if _, err := p.ContextWords.parse(); err != nil {
		return &SettingError{"contextWords", err}
	}
	return p.Side.Check(p)
}

func (a *Application) check() error {
	if a.OwnStart != "" && !IsAddress(a.OwnStart) {
		return &SettingError{"ownStart",
			fmt.Errorf("%q is no address; give a whole one, like https://lost.wrenmoor.example/start", a.OwnStart)}
	}
	return a.Side.Check(a)
}

// IsAddress reports whether a text is a whole http or https address without
// credentials.
func IsAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
}

func contains(all []string, s string) bool { return slices.Contains(all, s) }

func errUnknownField(known []string) error {
	return fmt.Errorf("nothing of this name can be typed here; what can is %s", cmp.Or(strings.Join(known, ", "),
		"nothing"))
}
