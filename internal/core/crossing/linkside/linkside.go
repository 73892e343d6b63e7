// Package linkside plugs the protocol link into the gate: an application that is
// only a bookmark, a title and an address. People open it at the gate and are sent to
// the address without a message: at once, or, where a provider, rules or admissions say
// who may enter, once they have signed in like anywhere else.
//
// It is also the smallest protocol there is: docs/architecture.md reads it as an
// example.
package linkside

import (
	"encoding/json"
	"errors"
	"fmt"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// Name is what the protocol is called on records.
const Name = "link"

// longest address, in octets.
const maxAddress = 2048

// Protocol is link.
type Protocol struct{}

// Name is what it is called on records.
func (Protocol) Name() string { return Name }

// Providers says that it has none.
func (Protocol) Providers() bool { return false }

// Applications says that it has applications.
func (Protocol) Applications() bool { return true }

// Fleeting implements crossing.Protocol: it has no messages.
func (Protocol) Fleeting() crossing.Fleeting { return crossing.Fleeting{} }

// Own is nothing: the gate has no identity towards a bookmark.
func (Protocol) Own(string) map[string]string { return nil }

// Purposes are none: nothing is signed.
func (Protocol) Purposes() []federation.Purpose { return nil }

// Reserved is no name.
func (Protocol) Reserved(federation.Kind, federation.Name) bool { return false }

// About is nothing.
func (Protocol) About(*federation.Gate) []federation.Value { return nil }

// Recognizes knows an address that leads somewhere.
func (Protocol) Recognizes(_ federation.Kind, _ []byte, _ string, t federation.Typed) bool {
	return t["link"] != ""
}

// Contexts are none.
func (Protocol) Contexts() federation.Ranking { return nil }

// NewProvider gives nil: a bookmark provides nobody.
func (Protocol) NewProvider(*federation.Gate, federation.Name) federation.ProviderSide { return nil }

// NewApplication gives the side of a new bookmark.
func (Protocol) NewApplication(*federation.Gate, federation.Name) federation.ApplicationSide {
	return &Application{}
}

// ReadProvider refuses.
func (Protocol) ReadProvider([]byte, time.Time) (federation.ProviderSide, *federation.Intake, error) {
	return nil, nil, errors.New("the protocol link has no providers")
}

// ReadApplication reads an application's side.
func (Protocol) ReadApplication(data []byte, _ time.Time) (federation.ApplicationSide, *federation.Intake, error) {
	a := &Application{}
	return a, nil, json.Unmarshal(data, a)
}

// Application is a bookmark.
type Application struct {
	Location string `json:"link,omitempty"`
}

// Address is where it leads.
func (a *Application) Address() string { return a.Location }

// Protocol is link.
func (*Application) Protocol() string { return Name }

// Identity is none: two bookmarks may lead to one place.
func (*Application) Identity() string { return "" }

// Missing says that the address is, while it is.
func (a *Application) Missing() []federation.Lack {
	if a.Location == "" {
		return []federation.Lack{{What: "address", Field: "link"}}
	}
	return nil
}

// Title is none: a bookmark does not call itself anything.
func (*Application) Title() string { return "" }

// Endpoints is the address.
func (a *Application) Endpoints() []federation.Endpoint {
	if a.Location == "" {
		return nil
	}
	return []federation.Endpoint{{Use: "Address", Location: a.Location}}
}

// Keys are none.
func (*Application) Keys() []federation.Key { return nil }

// Describe gives the address.
func (a *Application) Describe() []federation.Value {
	return []federation.Value{{Label: "Address", Value: a.Location, Touches: federation.TouchAddress}}
}

// SettingList is empty.
func (*Application) SettingList() []federation.Setting { return nil }

// Settings are none beside those that every application has.
func (*Application) Settings() any { return struct{}{} }

// With changes nothing.
func (a *Application) With([]byte) (federation.Side, error) { return a, nil }

// Named makes nothing up.
func (a *Application) Named(*federation.Gate, federation.Name) federation.Side { return a }

// Take refuses: a bookmark has no document.
func (*Application) Take([]byte, federation.Trusting) (federation.Side, federation.Intake, error) {
	return nil, federation.Intake{}, errors.New("a link has no metadata; give its address alone")
}

// Fields is the address.
func (*Application) Fields() []federation.Setting {
	return []federation.Setting{{Name: "link", Label: "Address", Type: federation.Address, Text: "where a link leads"}}
}

// Overlay sets the address.
func (a *Application) Overlay(t federation.Typed) (federation.Side, error) {
	if err := t.Only(a.Fields()); err != nil {
		return nil, err
	}
	address := strings.TrimSpace(t["link"])
	if address == "" {
		return a, nil
	}
	bad := func(format string, args ...any) (federation.Side, error) {
		return nil, &federation.SettingError{Field: "link", Err: fmt.Errorf(format, args...)}
	}
	if len(address) > maxAddress {
		return bad("the address has %d characters; use at most %d", len(address), maxAddress)
	}
	if !federation.IsAddress(address) ||
		strings.ContainsFunc(address, func(r rune) bool { return r <= ' ' || r == 0x7f || r == '\\' }) {
		return bad("%q is no address; give a whole one, like https://archive.wrenmoor.example/", address)
	}
	return &Application{Location: address}, nil
}

// Data is what is stored.
func (a *Application) Data() any { return a }

// Check has nothing to see: there are no settings of its own. An own start would
// be another address for the same thing.
func (a *Application) Check(r *federation.Application) error {
	if r.OwnStart != "" || r.OnlyOwnStarts {
		return &federation.SettingError{Field: "ownStart",
			Err: errors.New("a link does not start sign-ins; leave ownStart and onlyOwnStarts out, or change its address")}
	}
	return nil
}

// OwnKeys says that there are none.
func (*Application) OwnKeys() bool { return false }

// Shared says that it is found by its name only: two bookmarks may lead to one
// place.
func (*Application) Shared() federation.Sharing { return federation.Alone }

// Sheet is what is put into a portal.
func (a *Application) Sheet(s *federation.Snapshot, r *federation.Application) federation.Sheet {
	return federation.Sheet{Values: []federation.SheetValue{
		{Label: "Start at the gate", Value: s.Gate.Base + "/open/" + string(r.Name),
			AlsoCalled: []string{"link for a portal", "bookmark"}, Hint: "people sign in here, and are sent to " + a.Location},
	}}
}

// Receive refuses: a bookmark asks nothing.
func (*Application) Receive(*federation.Gate, *federation.Application, *crossing.Arrival, time.Time) (crossing.Request,
	finding.Checks, error) {
	return crossing.Request{}, nil, finding.New(finding.ApplicationUnknown)
}

// Unasked keeps the address of a starting point. One that came from outside would change where the bookmark leads,
// which is its record's to say.
func (a *Application) Unasked(_ *federation.Gate, r *federation.Application, at crossing.Landing) (json.RawMessage,
	error) {
	switch {
	case at.Target == "":
		return nil, nil
	case !at.OnRecord:
		return nil, finding.New(finding.TargetForeign, finding.Compare("Address", a.Location, finding.Clip(at.Target)))
	}
	return json.Marshal(at.Target)
}

// Lands sees that a starting point leads somewhere.
func (a *Application) Lands(target string) error {
	_, err := a.Overlay(federation.Typed{"link": target})
	if wrong := (*federation.SettingError)(nil); errors.As(err, &wrong) {
		return wrong.Err
	}
	return err
}

// Usual is nothing: a bookmark does not ask.
func (*Application) Usual(*federation.Application) json.RawMessage { return nil }

// Naming is by no name: a bookmark is told nothing.
func (*Application) Naming(*federation.Application, json.RawMessage) (profile.Wanted, error) {
	return profile.Wanted{Kind: profile.Given}, nil
}

// Answer plans to send the browser to the address, or to that of the starting point.
func (a *Application) Answer(in crossing.AnswerIn) (crossing.Plan, error) {
	to := a.Location
	if len(in.Own) > 0 {
		if err := json.Unmarshal(in.Own, &to); err != nil {
			return nil, err
		}
	}
	return open(to), nil
}

// Refuse plans nothing: a bookmark hears nothing.
func (*Application) Refuse(*federation.Gate, *federation.Application, json.RawMessage, crossing.Refusal,
	*finding.Finding) crossing.Plan {
	return nil
}

// open is the plan to open an address.
type open string

// Render makes it.
func (o open) Render(*federation.Gate, crossing.Made) (crossing.Rendered, error) {
	return crossing.Rendered{Departure: crossing.Departure{Message: "link", Location: string(o)}}, nil
}

// Sent says that nothing but the browser itself is.
func (o open) Sent() []federation.Value {
	return []federation.Value{{Label: "Address", Value: string(o)}, {Label: "Told of the person", Value: "nothing"}}
}

// Can says what it can do beside what every side does.
func (a *Application) Can() federation.Abilities { return federation.Abilities{Landing: a} }

// InCrossing says what it can do in a crossing.
func (a *Application) InCrossing() crossing.Abilities { return crossing.Abilities{Plain: a} }
