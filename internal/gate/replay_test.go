package gate

import (
	"encoding/json"
	"slices"
	"strings"
	"testing"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/store"
)

// replayed sees, at the end of a test, that every turn that it had recorded comes to exactly
// what was recorded when it is run again, as far as the records that it went by are as they were.
func (r *rig) replayed(t testing.TB) {
	if r.Gate == nil || t.Failed() {
		return
	}
	snap := r.Records.Snapshot()
	err := r.st.Traces.Each(ctx, store.TraceFilter{}, func(head store.TraceHead, inputs []json.RawMessage) bool {
		for i, octets := range inputs {
			var e trace.Entry
			said := (*crossing.Answer)(nil)
			if json.Unmarshal(octets, &e) == nil {
				said = e.SaidIn(snap)
			}
			if said != nil && len(said.Veiled) > 0 || slices.ContainsFunc(snap.Records(), func(x federation.Record) bool {
				return x.Basic().Added.After(e.At)
			}) {
				continue // by values that were not kept, or another configuration
			}
			if e.At.Before(r.since) {
				continue // other rules
			}
			if r.since.IsZero() && e.Decided.Comes == "leave provider" && len(snap.Providers()) > 1 {
				continue // there may have been fewer of them
			}
			a, isApp := snap.Application(e.Decided.App)
			p, isProvider := snap.Provider(e.Decided.Provider)
			same := (e.Decided.App == "" || isApp && a.Revision == e.Decided.AppRevision) &&
				(e.Decided.Provider == "" || isProvider && p.Revision == e.Decided.ProviderRevision)
			if isProvider && said != nil && !p.Is(said.Provider, said.ProviderID) {
				continue // another one has its name
			}
			if now := trace.Replay(snap, e); same && !now.Alike(e.Decided) {
				was, _ := json.Marshal(e.Decided)
				is, _ := json.Marshal(now)
				t.Errorf("turn %d of %s, %s, comes to\n%s\nand not to\n%s", i, head.ID, e.Kind, is, was)
			}
		}
		return true
	})
	if err != nil && !strings.Contains(err.Error(), "closed") {
		t.Error(err)
	}
}
