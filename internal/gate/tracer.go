package gate

import (
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

// tracer gathers the steps of one request of a browser and hands them to the
// trace log at its end.
type tracer struct {
	g     *Gate
	head  store.TraceRow
	steps []*crossing.TraceStep
}

// newTracer begins a trace; by is the side that started the crossing.
func (g *Gate) newTracer(by string) *tracer {
	return &tracer{g: g, head: store.TraceRow{ID: newReference(), Started: g.now().UTC(), StartedBy: by}}
}

// resume goes on with the trace of a crossing.
func (g *Gate) resume(r *record) *tracer { return &tracer{g: g, head: r.Trace} }

// record notes the head of the trace in the crossing's record.
func (t *tracer) record(r *record) { r.Trace = t.head }

func (t *tracer) add(s crossing.TraceStep) *crossing.TraceStep {
	s.At = t.g.now().UTC()
	t.steps = append(t.steps, &s)
	return &s
}

// here is a step that the gate takes by itself.
func here(name crossing.Step) crossing.TraceStep {
	return crossing.TraceStep{From: crossing.GateLane, To: crossing.GateLane, Name: string(name)}
}

// arrived notes a message that came with the browser from a party. Whatever in
// it could still be used is held back until the given time.
func (t *tracer) arrived(name string, from crossing.Lane, in saml.Inbound, hold time.Time) *crossing.TraceStep {
	return t.add(crossing.TraceStep{From: from, To: crossing.GateLane, Name: name, Binding: in.Binding, RelayState: in.RelayState,
		Octets: string(in.Octets), Raw: in.Raw, HoldUntil: hold})
}

// departed notes a message that leaves with the browser.
func (t *tracer) departed(d crossing.Departure, to crossing.Lane, hold time.Time) {
	s := crossing.TraceStep{From: crossing.GateLane, To: to, Name: d.Message, Binding: d.Binding, Address: d.Location, Octets: string(d.Octets), HoldUntil: hold}
	for _, f := range d.Form {
		if f.Name == "RelayState" {
			s.RelayState = f.Value
		} else {
			s.Raw = f.Value
		}
	}
	t.add(s)
}

// flush writes what was gathered.
func (t *tracer) flush(result string, f *finding.Finding) {
	t.head.Result = result
	t.g.metrics.count(result, f)
	if f != nil {
		t.head.Finding = string(f.Code)
	}
	t.head.Millis = t.g.now().Sub(t.head.Started).Milliseconds()
	steps := make([]any, len(t.steps))
	for i, s := range t.steps {
		steps[i] = s
	}
	t.g.store.Traces.Record(t.head, steps)
	t.steps = nil
}

// drop forgets what was gathered: nothing happened that is worth a trace.
func (t *tracer) drop() { t.steps = nil }

// refuse ends in the refused page.
func (t *tracer) refuse(st *crossing.TraceStep, err error) Outcome {
	f := finding.Of(err)
	if f == nil {
		return t.broken(err)
	}
	st.Finding = f
	t.add(crossing.TraceStep{From: crossing.GateLane, To: crossing.Browser, Name: "refused page"})
	t.flush(crossing.Refused, f)
	t.g.log.Info("refused", "reference", t.head.ID, "finding", f.Code, "application", t.head.Application, "provider", t.head.Provider)
	return Outcome{Page: PageRefused, Finding: f, Reference: t.head.ID}
}

// refuseAside refuses a request that concerns somebody's crossing without
// touching the trace of that crossing.
func (t *tracer) refuseAside(s crossing.TraceStep, f *finding.Finding) Outcome {
	aside := t.g.newTracer("application")
	aside.head.Application, aside.head.Provider = t.head.Application, t.head.Provider
	return aside.refuse(aside.add(s), f)
}

// broken is for failures of our own, such as a full disk.
func (t *tracer) broken(err error) Outcome {
	t.g.log.Error("a sign-in failed by our own fault", "reference", t.head.ID, "error", err)
	f := finding.New(finding.GateFailure)
	t.add(here(crossing.StepFailure)).Finding = f
	t.flush(crossing.Refused, f)
	return Outcome{Page: PageRefused, Finding: f, Reference: t.head.ID}
}
