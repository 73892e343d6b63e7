package crossing

import (
	"encoding/json"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// Delivered is one thing that an application comes to know of a person, under the name and in the
// place where it finds it.
type Delivered struct {
	Place    string          `json:"place"`
	Name     string          `json:"name"`
	Format   string          `json:"nameFormat,omitempty"`
	Friendly string          `json:"friendlyName,omitempty"`
	Values   []profile.Value `json:"values"`
}

// Telling is implemented by plans of answers by which an application comes to know more of a
// person than a name.
type Telling interface {
	// Told is what it comes to know; withheld names what its mapping makes and it did not ask for.
	Told() (told []Delivered, withheld []string)
}

// Entering is somebody who may enter an application. Sign-ins, trials, comparisons and lists
// of what is told all give one to Tell.
type Entering struct {
	Snap         *federation.Snapshot
	App          *federation.Application
	Own          json.RawMessage // how the application asked
	Wish         Wish
	Stands       *person.Standing // who they are
	Roles        []string         // values of those that they enter with
	Word         *Answer
	Agreed       *[]string // what they agreed to before, nil if they never did
	New, Session string    // as in AnswerIn
	Now          time.Time
}

// Tells is what an application is told of somebody.
type Tells struct {
	Known    profile.Profile // with what the gate knows beside
	Released profile.Released
	Rules    []profile.Worked // of the release
	Reasons  reason.Reasons
	Plan     Plan // of the answer, nil if it was not reached
	Told     []Delivered
	Withheld []string
	Consent  *Consent // what they have to be asked to agree to before, nil for nothing
	planned  bool     // there was nothing against it before the answer was planned
}

// Tell decides what an application is told of somebody who may enter, and plans the answer.
func Tell(in Entering) (out Tells, err error) {
	want, err := applicationSide(in.App).Naming(in.App, in.Own)
	if err != nil {
		return out, err
	}
	who := in.Stands.Person
	out.Known = in.Stands.Known().As(in.Roles)
	if out.Released, out.Rules, err = release(in.App, out.Known, who, want); err == nil {
		err = Expected(&in.Snap.Gate, in.Wish, out.Released.Name, who)
	}
	if other, known := in.Snap.ApplicationBy(in.App.Protocol(), out.Released.Name.Value); err == nil && known {
		err = finding.New(finding.SubjectIsClient, finding.Fact("Application", string(other.Name)))
	}
	if out.Reasons = released(in.App, out, err != nil); err != nil {
		return out, err
	}
	out.planned = true
	return out, out.plan(in)
}

// released are the reasons for what the release made.
func released(app *federation.Application, t Tells, refused bool) reason.Reasons {
	reasons := reason.Reasons{reason.New(reason.ReleaseUnchanged)}
	if !app.Mapping().IsZero() {
		reasons = worked(t.Rules, reason.ReleaseMapped, reason.ReleaseRule)
	}
	switch k := t.Released.Name.Kind; {
	case refused:
	case app.Mapping().Names() && k != profile.Lasting && k != profile.Passing:
		reasons.Add(reason.NameRuled)
	default:
		reasons.Add(namings[k])
	}
	return reasons
}

func (t *Tells) plan(in Entering) (err error) {
	ask := AnswerIn{Gate: &in.Snap.Gate, App: in.App, Own: in.Own, Wish: in.Wish, Released: t.Released,
		Person: in.Stands.Person, Answer: in.Word, New: in.New, Session: in.Session, Now: in.Now}
	if t.Plan, err = applicationSide(in.App).Answer(ask); err != nil {
		return err
	}
	if telling, ok := t.Plan.(Telling); ok {
		t.Told, t.Withheld = telling.Told()
	}
	side := Of(in.App.Side).Consenting
	if side == nil {
		return nil
	}
	c, err := side.Consent(ask)
	if err == nil && c != nil && !c.settled(in.Agreed) {
		t.Consent = c
	}
	return err
}
