package linkside

import (
	"encoding/json"
	"errors"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// PersonPath is the page of the gate where somebody sees what is known of them.
const PersonPath = "/person"

// signedIn marks the address that people come back to from signing in, so that a browser which keeps no cookie is not
// sent round in circles.
const signedIn = "?in=1"

// Portal makes the record of the gate's own portal: people sign in to it as to a link that leads to it.
func Portal(base string) *federation.Application {
	a := &federation.Application{Side: portal{&Application{Location: base + "/"}}}
	a.ID, a.Name, a.Title, a.Revision = federation.ID(federation.PortalName), federation.PortalName, "your applications",
		1
	a.Phase, a.Everyone, a.Added = federation.Live, federation.EveryoneYes, time.Time{}
	return a
}

// portal is a link that people always sign in for.
type portal struct{ *Application }

// Unasked takes the person's own page as where to go on.
func (p portal) Unasked(g *federation.Gate, _ *federation.Application, at crossing.Landing) (json.RawMessage, error) {
	switch at.Target {
	case "":
		return nil, nil
	case PersonPath:
		return p.back()
	}
	if strings.HasPrefix(at.Target, crossing.ChangePath) {
		return p.back()
	}
	return nil, finding.New(finding.TargetForeign, finding.Compare("Address", PersonPath, finding.Clip(at.Target)))
}

// back is that people come back to their own page.
func (p portal) back() (json.RawMessage, error) {
	return json.Marshal(strings.TrimSuffix(p.Location, "/") + PersonPath)
}

// Answer plans to come back.
func (p portal) Answer(in crossing.AnswerIn) (crossing.Plan, error) {
	plan, err := p.Application.Answer(in)
	if to, is := plan.(open); is {
		return to + signedIn, err
	}
	return nil, errors.Join(err, errors.New("the portal has no address"))
}

// Can is nothing: it has no starting points.
func (portal) Can() federation.Abilities { return federation.Abilities{} }

// InCrossing is nothing: people always sign in for it.
func (portal) InCrossing() crossing.Abilities { return crossing.Abilities{} }
