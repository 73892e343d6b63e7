package crossing

import (
	"encoding/json"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// Trial is what mappings are tried on: what a provider said, and the records that the
// mappings stand on, as they are or as they would be.
type Trial struct {
	Provider *federation.Provider // nil: what was said is the profile
	Silent   bool                 // nothing that the provider said is known: what is kept counts
	App      *federation.Application
	Own      json.RawMessage // how the application asked; nil for what its record lets expect
	Wish     Wish
	Person   person.Person
	Given    []person.Given
	Agreed   *[]string // what the person agreed to before
	Said     *Answer
	Snap     *federation.Snapshot
	Now      time.Time
}

// Mapped is what came of a trial.
type Mapped struct {
	Received profile.Profile    `json:"received"`
	Intake   []profile.Worked   `json:"intake,omitempty"` // each rule, none if it is taken over unchanged
	Profile  profile.Profile    `json:"profile"`
	Release  []profile.Worked   `json:"release,omitempty"`
	Released *profile.Released  `json:"released,omitempty"` // nil without an application, or where it is refused
	Told     []Delivered        `json:"told,omitempty"`     // of that, as it gets to the application
	Withheld []string           `json:"withheld,omitempty"` // what the mapping makes and is not asked for
	Asked    []federation.Asked `json:"asked,omitempty"`    // what the person is asked for before
	Consent  *Consent           `json:"consent,omitempty"`  // what they have to agree to before
	Refused  *finding.Finding   `json:"refused,omitempty"`
}

// Try runs what was said through the mappings, by the functions that a sign-in uses. Whether
// the application is open, and whether somebody may enter, is not part of it.
func Try(t Trial) (out Mapped, err error) {
	out.Received = profile.PassThrough(t.Said.Subject, t.Said.Attributes)
	who := out.Received
	roles := t.roles()
	if t.Silent {
		t.Provider = nil
	}
	if t.Provider != nil {
		if who, out.Intake, err = intake(t.Provider, t.Said); err != nil {
			out.Profile = who
			return out, out.refusedBy(err)
		}
	}
	stands := person.Stand(t.Snap, t.Provider, who, t.Person, t.Given)
	if t.Provider != nil && t.Person.Key != "" {
		out.Asked = stands.Lacking()
	}
	if t.App == nil {
		out.Profile = stands.Known()
		return out, nil
	}
	if t.Own == nil {
		t.Own = applicationSide(t.App).Usual(t.App)
	}
	told, err := Tell(Entering{Snap: t.Snap, App: t.App, Own: t.Own, Wish: t.Wish, Stands: stands, Roles: roles,
		Word: t.Said, Agreed: t.Agreed, Now: t.Now})
	out.Profile, out.Release = told.Known, told.Rules
	if err != nil {
		return out, out.refusedBy(err)
	}
	out.Released, out.Told, out.Withheld, out.Consent = &told.Released, told.Told, told.Withheld, told.Consent
	return out, nil
}

// refusedBy takes a finding in; another error stays one.
func (m *Mapped) refusedBy(err error) error {
	if m.Refused = finding.Of(err); m.Refused == nil {
		return err
	}
	return nil
}
