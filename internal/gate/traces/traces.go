// Package traces reads what was recorded of crossings.
package traces

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"regexp"
	"slices"
	"strings"
	"time"
	"unicode"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/reason"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/gate/arrivals"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/store"
)

// Room reads traces.
type Room struct {
	store  *store.Store
	now    func() time.Time
	grants *grants.Room
	// arrivals tell what profiles have.
	arrivals  *arrivals.Room
	turns     chan struct{} // of re-evaluations that run
	kept      kept
	wayless   lately
	unpeopled lately
}

// mostAtOnce is how many re-evaluations run at once.
const mostAtOnce = 2

// New makes a room over a store.
func New(s *store.Store, now func() time.Time, g *grants.Room, a *arrivals.Room) *Room {
	return &Room{store: s, now: now, grants: g, arrivals: a, turns: make(chan struct{}, mostAtOnce),
		kept: kept{all: map[federation.ID]*Everyone{}}}
}

// Begin takes a turn for a re-evaluation; end gives it back.
func (rm *Room) Begin() (end func(), err error) {
	select {
	case rm.turns <- struct{}{}:
		return func() { <-rm.turns }, nil
	default:
		return nil, change.Conflict("two re-evaluations run already", "wait until one has ended")
	}
}

// Head is what a trace is found by, and Filter narrows a list of traces.
type (
	Head   = store.TraceHead
	Filter = store.TraceFilter
)

// Last gives the newest trace of a record that came to an end, nil if there is
// none; and, if it is newer, the newest one in which nobody proved to be a
// counterpart.
func (rm *Room) Last(ctx context.Context, kind, name string) (proved, strange *Head, err error) {
	get := func(is bool) (*Head, error) {
		h, err := rm.store.Traces.Last(ctx, kind, name, is)
		if errors.Is(err, gorm.ErrRecordNotFound) {
			return nil, nil
		}
		return &h, err
	}
	if proved, err = get(true); err != nil {
		return nil, nil, err
	}
	if strange, err = get(false); strange != nil && proved != nil && !strange.Started.After(proved.Started) {
		strange = nil
	}
	return proved, strange, err
}

// Lasts gives the newest traces that came to an end and in which a counterpart
// proved to be one, of applications and of providers, by name.
func (rm *Room) Lasts(ctx context.Context) (apps, providers map[string]Head, err error) {
	return rm.store.Traces.Lasts(ctx, true)
}

// List lists traces, newest first, with the number for each result.
func (rm *Room) List(ctx context.Context, f Filter) ([]Head, map[string]int64, error) {
	return rm.store.Traces.List(ctx, f)
}

// Get gives one trace with its steps. What could still be used by whoever
// reads it is held back: the SignatureValue of an assertion until it expires.
func (rm *Room) Get(ctx context.Context, id string) (Head, []crossing.TraceStep, error) {
	id = Reference(id)
	head, raw, err := rm.store.Traces.Get(ctx, id)
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return head, nil, &change.NotFoundError{Kind: "trace", Name: id}
	}
	if err != nil {
		return head, nil, err
	}
	steps := make([]crossing.TraceStep, len(raw))
	for i, octets := range raw {
		var kept trace.Kept
		if err := json.Unmarshal(octets, &kept); err != nil {
			return head, nil, err
		}
		steps[i] = kept.Whole()
		withhold(&steps[i], rm.now())
	}
	left(head, steps)
	return head, folded(steps), nil
}

// folded puts steps that the gate took again after a page, and that came to the same, into one.
func folded(steps []crossing.TraceStep) (out []crossing.TraceStep) {
	again := false // the last one of out is such
	for i, s := range steps {
		same := s.From == crossing.GateLane && s.To == crossing.GateLane && s.Finding == nil && len(s.Checks) == 0 &&
			slices.ContainsFunc(steps[:i], func(o crossing.TraceStep) bool {
				return o.Name == s.Name && o.To == s.To && o.Finding == nil && slices.EqualFunc(o.Reasons, s.Reasons,
					reason.Reason.Same)
			})
		switch {
		case same && again:
			out[len(out)-1].Name += ", " + s.Name
		case same:
			out = append(out, crossing.TraceStep{At: s.At, From: s.From, To: s.To, Name: "as before: " + s.Name})
		default:
			out = append(out, s)
		}
		again = same
	}
	return out
}

// left says where a crossing was left that nobody came back to, and what that usually
// means.
func left(head Head, steps []crossing.TraceStep) {
	if head.Result != crossing.Left || len(steps) == 0 {
		return
	}
	last := &steps[len(steps)-1]
	if last.To != crossing.Provider || last.Finding != nil {
		return
	}
	f := finding.New(finding.CrossingLeft, finding.Fact("Sent to", last.Address))
	for _, v := range last.Values {
		if slices.Contains(looked, v.Label) {
			f = f.With(finding.Fact(v.Label, v.Value))
		}
	}
	last.Finding = f
}

// looked are values that a provider's error page is mostly about.
var looked = []string{"Client ID", "Redirect URI", "Scope", "Issuer", "AssertionConsumerService"}

// Reference reads a reference number as people copy it or say it: in any case, with
// or without its dash, with white space.
func Reference(s string) string {
	s = strings.ToUpper(strings.Map(func(r rune) rune {
		if r == '-' || r == '–' || r == '—' || unicode.IsSpace(r) {
			return -1
		}
		return r
	}, s))
	s = strings.NewReplacer("I", "1", "L", "1", "O", "0").Replace(s) // none of these is ever in one
	if len(s) == 10 {
		s = s[:5] + "-" + s[5:]
	}
	return s
}

// Replay decides the recorded turns of a crossing again, with a configuration,
// and gives what was decided then and now.
func (rm *Room) Replay(ctx context.Context, snap *federation.Snapshot, id string) (then, now []crossing.Decision,
	err error) {
	raw, err := rm.store.Traces.Inputs(ctx, id)
	if err != nil {
		return nil, nil, err
	}
	for _, octets := range raw {
		var in trace.Entry
		if err := json.Unmarshal(octets, &in); err != nil {
			return nil, nil, err
		}
		then, now = append(then, in.Decided), append(now, trace.Replay(snap, in))
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
	} else if s.Cut == 0 {
		s.Octets = trace.Readable(s.Octets)
	}
}

// Shown is a step as it may be shown now: without what could still be used, and with its reasons in words.
func Shown(s crossing.TraceStep, now time.Time) crossing.TraceStep {
	withhold(&s, now)
	s.Checks, s.Reasons = Prose(s), nil
	return s
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

// Remedies are the single changes that would have let somebody in who was refused entry, by their recorded sign-in.
func (rm *Room) Remedies(ctx context.Context, snap *federation.Snapshot, id string) ([]trace.Remedy, error) {
	raw, err := rm.store.Traces.Inputs(ctx, id)
	if err != nil {
		return nil, err
	}
	for _, octets := range slices.Backward(raw) {
		var e trace.Entry
		if err := json.Unmarshal(octets, &e); err != nil {
			return nil, err
		}
		if e.Decided.Finding != "" {
			return trace.Remedies(snap, e, func(id int64) (person.Person, error) {
				some, err := rm.store.People(ctx).Many([]int64{id}, "", "")
				if err != nil || len(some) == 0 {
					return person.Person{}, err
				}
				return some[0].Person, nil
			})
		}
	}
	return nil, nil
}
