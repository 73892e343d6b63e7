package crossing

import (
	"encoding/json"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// Decision is what a turn came to, in values that can be compared, with the
// revisions it was made with.
type Decision struct {
	App              federation.Name    `json:"app,omitempty"`
	AppRevision      int                `json:"appRevision,omitempty"`
	Provider         federation.Name    `json:"provider,omitempty"`
	ProviderRevision int                `json:"providerRevision,omitempty"`
	Comes            string             `json:"comes"` // what comes next: leave application, show choose, and the like
	Result           string             `json:"result,omitempty"`
	Finding          finding.Code       `json:"finding,omitempty"`
	Person           int64              `json:"person,omitempty"`
	New              bool               `json:"new,omitempty"` // an account is made
	Released         *profile.Released  `json:"released,omitempty"`
	Told             []Delivered        `json:"told,omitempty"` // of Released, as it gets to the application
	Sent             []federation.Value `json:"sent,omitempty"`
}

// NeedsMore says that a turn run again needs what was not looked up when it was recorded.
const NeedsMore = "need"

// of completes a decision with what the turn came to.
func (c Decision) of(t Turn) Decision {
	c.Result = t.Result
	if t.Finding != nil {
		c.Finding = t.Finding.Code
	}
	switch n := t.Next.(type) {
	case *Leave:
		c.Comes = "leave " + string(n.To)
	case *Go:
		c.Comes = "go"
	case *Show:
		c.Comes = "show " + string(n.Page)
	case *Challenge:
		c.Comes = "challenge"
	case *Lacks:
		c.Comes = NeedsMore
	}
	return c
}

// Alike reports whether two decisions are the same, whatever revisions they were
// made with. What is told follows from what is released, and is not recorded.
func (c Decision) Alike(d Decision) bool {
	c.AppRevision, c.ProviderRevision, c.Told, d.Told = d.AppRevision, d.ProviderRevision, nil, nil
	a, errA := json.Marshal(c)
	b, errB := json.Marshal(d)
	return errA == nil && errB == nil && string(a) == string(b)
}

// Kept is what is recorded of facts of needs that say themselves what of them may be.
func (f Facts) Kept() (out map[string]json.RawMessage) {
	for key, l := range f.of {
		keeps, does := l.need.(Keeps)
		if !does {
			continue
		}
		octets, err := json.Marshal(keeps.Keep(l.fact))
		if err != nil {
			continue // a turn that is run anew needs it then, and says so
		}
		if out == nil {
			out = map[string]json.RawMessage{}
		}
		out[key] = octets
	}
	return out
}
