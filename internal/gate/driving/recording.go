package driving

import (
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/store"
)

// Octets of one message that are kept: of strangers no more than any proper
// request has.
const (
	keptOctets     = 256 << 10
	strangerOctets = 6 << 10
)

// trace records a turn, and gives the outcome its reference number.
func (rm *Room) trace(t *turn, got crossing.Turn, r crossing.Rendered, out *Outcome) {
	head := store.TraceHead{ID: t.began.Reference, Started: got.State.Began.UTC(), Verified: got.Verified,
		Application: got.About.Application, Provider: got.About.Provider, Person: got.About.Person,
		StartedBy: got.About.StartedBy, Result: got.Result, Account: got.Person.ID, Grounds: got.Grounds()}
	if got.Run != nil {
		head.Run = got.Run.Run
	}
	if kept := rm.crossings.find(got.State.ID, rm.now()); kept.Reference != "" {
		head.ID = kept.Reference
	}
	if got.Apart || head.ID == "" || got.State.ID == "" {
		head.ID, head.Started = t.reference, rm.now().UTC()
	}
	if out.Reference = head.ID; got.Result == "" {
		return
	}
	if got.Run != nil {
		defer rm.rehearsals.Saw(t.ctx, got, head.ID)
	}
	if mark := t.event.Browser.Run; mark != nil && got.Result == crossing.Refused && (got.Run == nil ||
		got.Run.Run != mark.Run) {
		defer rm.rehearsals.Strayed(t.ctx, mark.Run, got.Finding, head.ID)
	}
	f := got.Finding
	if again := t.began.State.Stage == crossing.Refusing && got.Result == crossing.Refused; again {
		head.Grounds = nil // it was counted when they came first
	} else if got.Run == nil {
		rm.results.count(got.Result, f)
	}
	if f != nil {
		head.Finding = string(f.Code)
	}
	if got.Broken != nil {
		rm.log.Error("a sign-in failed by our own fault", "reference", head.ID, "error", got.Broken)
	}
	head.Millis = rm.now().Sub(head.Started).Milliseconds()
	if !got.Verified && !rm.strangers.Take(t.event.Browser.Network, rm.now()) {
		rm.happenings.Drop() // counted only: neither traces nor the log grow with a flood
		return
	}
	if f != nil {
		rm.log.Info("refused", "reference", head.ID, "finding", f.Code, "application", head.Application, "provider",
			head.Provider)
	}
	veil := trace.NewVeil(rm.records.Snapshot(), head.Application, head.Provider)
	entry := veil.Entry(trace.Recorded(t.began.State, t.event, t.facts, got, rm.now().UTC()))
	steps := make([]any, 0, len(got.Steps)+1)
	for _, s := range got.Steps {
		steps = append(steps, bounded(veil.Step(s), got.Verified))
	}
	if leave, ok := got.Next.(*crossing.Leave); ok && out.Departure != nil {
		steps = append(steps, bounded(veil.Step(departed(r.Departure, leave, rm.now())), true))
	}
	rm.happenings.Record(head, steps, entry)
}

// departed is the step of a message that leaves with the browser.
func departed(d crossing.Departure, leave *crossing.Leave, now time.Time) crossing.TraceStep {
	s := crossing.TraceStep{At: now.UTC(), From: crossing.GateLane, To: leave.To, Name: d.Message, Binding: d.Binding,
		Address: d.Location,
		Octets:  string(d.Octets), HoldUntil: d.Until, Values: leave.Plan.Sent()}
	if d.Shown != "" {
		s.Address, d.Form = d.Shown, nil
	}
	for _, f := range d.Form {
		if f.Name == "RelayState" {
			s.RelayState = f.Value
		} else {
			s.Raw = f.Value
		}
	}
	return s
}

// bounded cuts off what is longer than is kept of a message.
func bounded(s crossing.TraceStep, verified bool) crossing.TraceStep {
	limit := strangerOctets
	if verified {
		limit = keptOctets
	}
	if n := len(s.Octets) + len(s.Raw); n > limit {
		octets, raw := s.Octets, s.Raw
		s.Octets = strings.ToValidUTF8(octets[:min(len(octets), limit*2/3)], "")
		s.Raw = strings.ToValidUTF8(raw[:min(len(raw), limit-len(s.Octets))], "")
		s.Cut = n - len(s.Octets) - len(s.Raw)
	}
	s.RelayState = finding.ClipTo(s.RelayState, 4096)
	s.Finding = clipped(s.Finding)
	s.Checks = slices.Clone(s.Checks)
	for i, c := range s.Checks {
		s.Checks[i].Found, s.Checks[i].Finding = finding.ClipTo(c.Found, evidenceOctets), clipped(c.Finding)
	}
	return s
}

// evidenceOctets are kept of one value that a finding rests on.
const evidenceOctets = 2000

// clipped shortens what a stranger may have written.
func clipped(f *finding.Finding) *finding.Finding {
	if f == nil {
		return nil
	}
	g := *f
	g.Evidence = slices.Clone(f.Evidence)
	for i, e := range g.Evidence {
		g.Evidence[i].Expected, g.Evidence[i].Found = finding.ClipTo(e.Expected, evidenceOctets),
			finding.ClipTo(e.Found, evidenceOctets)
	}
	return &g
}
