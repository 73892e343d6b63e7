package federation

import (
	"encoding/json"
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/profile"
)

// Record is a provider or an application.
type Record interface {
	Object
	Kind() Kind
	// Basic are the fields that both kinds have; to be changed in copies only.
	Basic() *Basics
	// Part is the protocol's part.
	Part() Side
	// Copy gives a copy whose own fields may be changed.
	Copy() Record

	put(Side)
	settings() []any // pointers to structures, in the order in which people read them
	check() error
}

// Basics is what both kinds of records have.
type Basics struct {
	ID       ID
	Name     Name
	Added    time.Time
	Revision int
	Intake   Intake
	Before   Before // of its phases
	CommonSettings
	standing *standing
}

// ID is what a record is referred to by: unlike a name it is never used again,
// so that nobody inherits what belonged to a record that was removed.
type ID string

// Is reports whether a record is the one referred to. An empty ID is that of a
// reference made before there were any.
func (b *Basics) Is(name Name, id ID) bool { return b.Name == name && (id == "" || b.ID == id) }

// Provider is an identity provider the gate sends people to.
type Provider struct {
	Basics
	ProviderSettings
	Side   ProviderSide
	shared *profile.Mapping // over that of its set, nil without one
}

// Application is what people want to reach.
type Application struct {
	Basics
	ApplicationSettings
	Keys KeySet // of its own, if its side has such
	// Shown is a secret that was made with it, to be shown once: it is in the value
	// that adding gives back, and nowhere else.
	Shown  string
	Side   ApplicationSide
	shared *profile.Mapping // over that of its set, nil without one
}

// Kind is KindProvider.
func (p *Provider) Kind() Kind { return KindProvider }

// Kind is KindApplication.
func (a *Application) Kind() Kind { return KindApplication }

// Basic are the fields that both kinds have.
func (p *Provider) Basic() *Basics { return &p.Basics }

// Basic are the fields that both kinds have.
func (a *Application) Basic() *Basics { return &a.Basics }

// Part is the protocol's part.
func (p *Provider) Part() Side { return p.Side }

// Part is the protocol's part.
func (a *Application) Part() Side { return a.Side }

// Copy gives a copy whose own fields may be changed.
func (p *Provider) Copy() Record {
	q := *p
	q.standing = nil // it is read anew
	return &q
}

// Copy gives a copy whose own fields may be changed.
func (a *Application) Copy() Record {
	b := *a
	b.standing = nil // it is read anew
	return &b
}

func (p *Provider) put(s Side) { p.Side = s.(ProviderSide) }

func (a *Application) put(s Side) { a.Side = s.(ApplicationSide) }

func (p *Provider) settings() []any { return []any{&p.CommonSettings, &p.ProviderSettings} }

func (a *Application) settings() []any { return []any{&a.CommonSettings, &a.ApplicationSettings} }

// Protocol is the name of the provider's protocol.
func (p *Provider) Protocol() string { return p.Side.Protocol() }

// Protocol is the name of the application's protocol.
func (a *Application) Protocol() string { return a.Side.Protocol() }

// Identity is the provider's in its protocol, "" while it is not known.
func (p *Provider) Identity() string { return p.Side.Identity() }

// Identity is the application's in its protocol, "" while it is not known.
func (a *Application) Identity() string { return a.Side.Identity() }

// Replace puts another side into a copied record.
func Replace(r Record, s Side) { r.put(s) }

// KnownAs is what people know the other side by: its identity, else its first
// address; "" while nothing is known.
func KnownAs(r Record) string {
	if id := r.Part().Identity(); id != "" {
		return id
	}
	for _, e := range r.Part().Endpoints() {
		return e.Location
	}
	return ""
}

// Marshal gives what a record is stored as, in JSON: the side's data, the ID, the
// intake, and all settings under "settings".
func Marshal(r Record) ([]byte, error) {
	out := map[string]any{}
	octets, err := json.Marshal(r.Part().Data())
	if err == nil {
		err = json.Unmarshal(octets, &out)
	}
	if err != nil {
		return nil, err
	}
	out["id"], out["intake"], out["settings"] = r.Basic().ID, r.Basic().Intake, telling(r)
	if before := r.Basic().Before; !before.Since.IsZero() {
		out["before"] = before
	}
	return json.Marshal(out)
}

// telling are those settings of a record that say something: one that is not stored says nothing when it is read, as
// most do of most records. Only trustedFor does not, by earlierTrust.
func telling(r Record) Settings {
	out := SettingsOf(r)
	for name, octets := range stored(r) {
		switch string(octets) {
		case `""`, `false`, `0`, `null`, `[]`, `{}`:
			if name != "trustedFor" {
				delete(out, name)
			}
		}
	}
	return out
}

// Stored is an object as it is stored.
type Stored struct {
	Kind     Kind
	Name     string
	Protocol string // of a record, "" for other objects
	Added    time.Time
	Revision int
	Data     []byte
}

// Unmarshal reads a record out of what it was stored as. One of before there were
// IDs has its name for an ID.
func Unmarshal(by Protocol, s Stored) (Record, error) {
	var d struct {
		ID       ID              `json:"id"`
		Intake   Intake          `json:"intake"`
		Before   Before          `json:"before"`
		Settings json.RawMessage `json:"settings"`
	}
	if err := json.Unmarshal(s.Data, &d); err != nil {
		return nil, fmt.Errorf("%s %s: %w", s.Kind, s.Name, err)
	}
	var r Record
	var in *Intake
	var err error
	if s.Kind == KindProvider {
		p := &Provider{}
		p.Side, in, err = by.ReadProvider(s.Data, s.Added)
		r = p
	} else {
		a := &Application{}
		a.Side, in, err = by.ReadApplication(s.Data, s.Added)
		r = a
	}
	for _, part := range r.settings() {
		if err == nil {
			err = json.Unmarshal(d.Settings, part)
		}
	}
	if p, ok := r.(*Provider); ok && err == nil {
		var was struct {
			TrustedFor *listed.Words `json:"trustedFor"`
		}
		if err = json.Unmarshal(d.Settings, &was); was.TrustedFor == nil {
			p.TrustedFor = p.earlierTrust()
		}
	}
	if err == nil && r.Basic().Phase == "" {
		r.Basic().Phase, err = earlierPhase(d.Settings)
	}
	if err != nil {
		return nil, fmt.Errorf("%s %s: %w", s.Kind, s.Name, err)
	}
	b := r.Basic()
	b.ID, b.Name, b.Added, b.Revision, b.Intake, b.Before = d.ID, Name(s.Name), s.Added, s.Revision, d.Intake, d.Before
	if b.Phase == Paused && b.Before.Since.IsZero() && len(r.Part().Missing()) > 0 {
		b.Phase = Draft // as earlier builds had one that was never finished
	}
	if b.ID == "" {
		b.ID = ID(s.Name)
	}
	if in != nil {
		b.Intake = *in
	}
	return r, nil
}

// earlierPhase reads what stood in place of the phase before there were some.
func earlierPhase(settings []byte) (Phase, error) {
	var was struct {
		Enabled bool `json:"enabled"`
	}
	err := json.Unmarshal(settings, &was)
	if was.Enabled {
		return Live, err
	}
	return Paused, err
}
