package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"strings"
	"sync"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/store"
)

// Octets of one message that are kept: of strangers no more than any proper
// request has.
const (
	keptOctets     = 256 << 10
	strangerOctets = 6 << 10
)

// trace records a turn, and gives the outcome its reference number.
func (g *Gate) trace(t *turn, got crossing.Turn, r crossing.Rendered, out *Outcome) {
	head := store.TraceHead{ID: t.began.Reference, Started: got.State.Began.UTC(), Verified: got.Verified,
		Application: got.About.Application, Provider: got.About.Provider, Person: got.About.Person, StartedBy: got.About.StartedBy, Result: got.Result}
	if kept := g.crossings.find(got.State.ID, g.now()); kept.Reference != "" {
		head.ID = kept.Reference
	}
	if got.Apart || head.ID == "" || got.State.ID == "" {
		head.ID, head.Started = newReference(), g.now().UTC()
	}
	if out.Reference = head.ID; got.Result == "" {
		return
	}
	f := got.Finding
	g.metrics.count(got.Result, f)
	if f != nil {
		head.Finding = string(f.Code)
		g.log.Info("refused", "reference", head.ID, "finding", f.Code, "application", head.Application, "provider", head.Provider)
	}
	if got.Broken != nil {
		g.log.Error("a sign-in failed by our own fault", "reference", head.ID, "error", got.Broken)
	}
	head.Millis = g.now().Sub(head.Started).Milliseconds()
	if !got.Verified && !g.strangers.take(t.event.Browser.Network, g.now()) {
		g.store.Traces.Skip()
		return
	}
	steps := make([]any, 0, len(got.Steps)+1)
	for _, s := range got.Steps {
		steps = append(steps, bounded(s, got.Verified))
	}
	if leave, ok := got.Next.(*crossing.Leave); ok && out.Departure != nil {
		steps = append(steps, bounded(departed(r.Departure, leave, g.now()), true))
	}
	g.store.Traces.Record(head, steps, crossing.Recorded(t.began.State, t.event, t.facts, got, g.now().UTC()))
}

// departed is the step of a message that leaves with the browser.
func departed(d crossing.Departure, leave *crossing.Leave, now time.Time) crossing.TraceStep {
	s := crossing.TraceStep{At: now.UTC(), From: crossing.GateLane, To: leave.To, Name: d.Message, Binding: d.Binding, Address: d.Location,
		Octets: string(d.Octets), HoldUntil: d.Until, Values: leave.Plan.Sent()}
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
	s.RelayState = clip(s.RelayState, 4096)
	s.Finding = clipped(s.Finding)
	s.Checks = slices.Clone(s.Checks)
	for i, c := range s.Checks {
		s.Checks[i].Found, s.Checks[i].Finding = clip(c.Found, evidenceOctets), clipped(c.Finding)
	}
	return s
}

// evidenceOctets are kept of one value that a finding rests on.
const evidenceOctets = 2000

func clip(s string, most int) string {
	if len(s) <= most {
		return s
	}
	return strings.ToValidUTF8(s[:most], "") + "…"
}

// clipped shortens what a stranger may have written.
func clipped(f *finding.Finding) *finding.Finding {
	if f == nil {
		return nil
	}
	g := *f
	g.Evidence = slices.Clone(f.Evidence)
	for i, e := range g.Evidence {
		g.Evidence[i].Expected, g.Evidence[i].Found = clip(e.Expected, evidenceOctets), clip(e.Found, evidenceOctets)
	}
	return &g
}

// flow lets through so many in a while, of each network and in all.
type flow struct {
	mu    sync.Mutex
	each  map[string]*bucket
	all   bucket
	swept time.Time
}

type bucket struct {
	left float64
	at   time.Time
}

// How many traces of strangers are recorded: a burst, and so many a second.
const (
	flowOfOne, flowOfOneRate = 400, 10.0
	flowOfAll, flowOfAllRate = 2000, 100.0
	flowNetworks             = 20000
)

func newFlow() *flow { return &flow{each: map[string]*bucket{}, all: bucket{left: flowOfAll}} }

func (b *bucket) fill(most, rate float64, now time.Time) {
	if !b.at.IsZero() {
		b.left = min(most, b.left+rate*now.Sub(b.at).Seconds())
	}
	b.at = now
}

// take reports whether one more may pass.
func (f *flow) take(network string, now time.Time) bool {
	f.mu.Lock()
	defer f.mu.Unlock()
	if now.Sub(f.swept) > time.Minute || len(f.each) > flowNetworks {
		f.swept = now
		for n, b := range f.each {
			if b.fill(flowOfOne, flowOfOneRate, now); b.left >= flowOfOne || len(f.each) > flowNetworks {
				delete(f.each, n)
			}
		}
	}
	one := f.each[network]
	if one == nil {
		one = &bucket{left: flowOfOne}
		f.each[network] = one
	}
	one.fill(flowOfOne, flowOfOneRate, now)
	f.all.fill(flowOfAll, flowOfAllRate, now)
	if one.left < 1 || f.all.left < 1 {
		return false
	}
	one.left--
	f.all.left--
	return true
}

// Traces lists traces, newest first, with the number for each result.
func (g *Gate) Traces(ctx context.Context, f store.TraceFilter) ([]store.TraceHead, map[string]int64, error) {
	return g.store.Traces.List(ctx, f)
}

// Trace gives one trace with its steps. What could still be used by whoever
// reads it is held back: the SignatureValue of an assertion until it expires.
func (g *Gate) Trace(ctx context.Context, id string) (store.TraceHead, []crossing.TraceStep, error) {
	id = strings.ToUpper(strings.TrimSpace(id))
	head, raw, err := g.store.Traces.Get(ctx, id)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return head, nil, &NotFoundError{Kind: "trace", Name: id}
	}
	if err != nil {
		return head, nil, err
	}
	steps := make([]crossing.TraceStep, len(raw))
	for i, octets := range raw {
		if err := json.Unmarshal(octets, &steps[i]); err != nil {
			return head, nil, err
		}
		withhold(&steps[i], g.now())
	}
	return head, steps, nil
}

// Replay decides the recorded turns of a crossing again, with a configuration,
// and gives what was decided then and now.
func (g *Gate) Replay(ctx context.Context, snap *federation.Snapshot, id string) (then, now []crossing.Decision, err error) {
	raw, err := g.store.Traces.Inputs(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	for _, octets := range raw {
		var in crossing.Entry
		if err := json.Unmarshal(octets, &in); err != nil {
			return nil, nil, err
		}
		then, now = append(then, in.Decided), append(now, crossing.Replay(snap, in))
	}
	return then, now, nil
}

// signatureValue finds what makes a message count: its signature, which may stand
// in what is encrypted.
var signatureValue = regexp.MustCompile(`(?s)(<(?:[\w.-]+:)?(?:SignatureValue|CipherValue)[^>]*>)[^<]*(<)`)

// withhold takes out of a message what could still be used, and indents the
// rest. How it travelled would show it too.
func withhold(s *crossing.TraceStep, now time.Time) {
	if !now.Before(s.HoldUntil) {
		s.HoldUntil = time.Time{}
	} else {
		until := "held back until " + s.HoldUntil.UTC().Format(time.RFC3339)
		shown := signatureValue.ReplaceAllString(s.Octets, "${1}"+until+"${2}")
		switch whole, err := xmlsec.Base64(s.Raw); {
		case s.Raw == "" || shown == s.Octets && s.Octets != "":
		case err == nil && string(whole) == s.Octets:
			s.Raw = base64.StdEncoding.EncodeToString([]byte(shown))
		default: // in an address, or cut: it could be put together again
			s.Raw = until
		}
		s.Octets = shown
	}
	if doc, err := xmlsec.Parse([]byte(s.Octets), xmlsec.MessageLimits); err == nil && s.Cut == 0 {
		s.Octets = string(doc.Root.Indented())
	}
}

// Prose puts the reasons of a step, in words, before its checks: both are read
// as one list.
func Prose(s crossing.TraceStep) finding.Checks {
	var out finding.Checks
	for _, r := range s.Reasons {
		out.Pass(r.What(), r.Text())
	}
	return append(s.Checks, out...)
}
