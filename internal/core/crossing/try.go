package crossing

import (
	"encoding/json"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// Trial is what mappings are tried on: what a provider said, and the records that the
// mappings stand on, as they are or as they would be.
type Trial struct {
	Provider *federation.Provider // nil: what was said is the profile
	App      *federation.Application
	Own      json.RawMessage // the application's part of the state, nil for a start at the gate
	Person   Person
	Said     *Answer
	Snap     *federation.Snapshot
}

// Mapped is what came of a trial.
type Mapped struct {
	Received profile.Profile   `json:"received"`
	Intake   []profile.Worked  `json:"intake,omitempty"` // each rule, none if it is taken over unchanged
	Profile  profile.Profile   `json:"profile"`
	Release  []profile.Worked  `json:"release,omitempty"`
	Released *profile.Released `json:"released,omitempty"` // nil without an application, or where it is refused
	Refused  *finding.Finding  `json:"refused,omitempty"`
}

// Try runs what was said through the mappings, by the functions that a sign-in uses.
func Try(t Trial) (out Mapped, err error) {
	g := &t.Snap.Gate
	out.Received = profile.PassThrough(t.Said.Subject, t.Said.Attributes)
	out.Profile = out.Received
	if t.Provider != nil {
		if out.Profile, out.Intake, err = intake(t.Provider, t.Said); err != nil {
			out.Refused = finding.Of(err)
			return out, nil
		}
	}
	out.Profile = Known(t.Snap, t.Provider, out.Profile, t.Person, nil)
	if t.App == nil {
		return out, nil
	}
	side := applicationSide(t.App)
	if t.Own == nil {
		t.Own, _ = side.Unasked(g, t.App, "") // none where nobody is let in unasked
	}
	want, err := side.Naming(t.App, t.Own)
	if err != nil && t.Own == nil { // what is wanted stands in the request alone
		want = profile.Wanted{Kind: profile.Bare}
	} else if err != nil {
		return out, err
	}
	released, rules, err := release(t.App, out.Profile, t.Person, want)
	if out.Release = rules; err != nil {
		out.Refused = finding.Of(err)
		return out, nil
	}
	out.Released = &released
	return out, nil
}

// SaidIn gives what a provider said in a recorded turn, or earlier in the session that
// did for it; nil if nobody said anything.
func (in Entry) SaidIn(snap *federation.Snapshot) *Answer {
	if in.Told != nil && in.Told.Answer != nil {
		return in.Told.Answer
	}
	p, ok := snap.Provider(in.Decided.Provider)
	if in.Session == nil || !ok || in.Decided.Released == nil {
		return nil
	}
	return in.Session.Of(p)
}
