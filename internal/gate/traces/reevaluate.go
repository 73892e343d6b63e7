package traces

import (
	"cmp"
	"context"
	"encoding/json"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/trace"
	"innergate.example/innergate/internal/store"
)

// Bounds of a re-evaluation.
const (
	MostCrossings = 10_000
	longestRun    = time.Minute
	mostListed    = 500
)

// Which are the recorded crossings that are run again, the newest first.
type Which struct {
	Application, Provider string
	Most                  int           // at most MostCrossings; 0 for that
	Within                time.Duration // at most a minute; 0 for that
}

// Evaluated is what they would come to.
type Evaluated struct {
	Looked, Alike, Differs, Untold, Apart int
	Seen                                  int      // people in all
	People                                int      // of them, those for whom something would be other, once each:
	Shut                                  int      // would not be let in any more
	Renamed                               int      // an application would hear of them by another name
	Held                                  int      // would be asked something first
	Let                                   int      // would be let in, and were not
	Told                                  int      // an application would be told something else of them
	Stopped                               bool     // it took too long: older sign-ins were not looked at
	Listed                                []Listed // those that differ or cannot be told, no more than five hundred
	Others                                []Listed // the worst one of each person for whom something would be other
}

// Listed is one crossing with what would be other.
type Listed struct {
	Head
	trace.Compared
}

// weight orders what would become of somebody: the worst is the heaviest.
func (l Listed) weight() int {
	switch {
	case l.Shut:
		return 3
	case l.Renamed:
		return 2
	case l.Held:
		return 1
	case l.Let:
		return -1
	}
	return 0
}

// Reevaluate runs recorded crossings through two configurations. far is told how many
// are done.
func (rm *Room) Reevaluate(ctx context.Context, before, after *federation.Snapshot, w Which,
	far func(int64)) (Evaluated,
	error) {
	var out Evaluated
	if w.Most <= 0 || w.Most > MostCrossings {
		w.Most = MostCrossings
	}
	if w.Within <= 0 || w.Within > longestRun {
		w.Within = longestRun
	}
	people, other := map[string]bool{}, map[string]Listed{}
	end, links := rm.now().Add(w.Within), map[string]person.Person{}
	err := rm.store.Traces.Each(ctx, store.TraceFilter{Application: w.Application, Provider: w.Provider},
		func(head store.TraceHead, inputs []json.RawMessage) bool {
			out.Looked++
			got := Listed{Head(head), rm.compare(ctx, before, after, inputs, head.Result, links)}
			out.count(got.Compared)
			if got.Who != "" {
				people[got.Who] = true
			}
			if old, known := other[got.Who]; got.Verdict == trace.Differs && (!known || got.weight() > old.weight()) {
				other[got.Who] = got
			}
			if (got.Verdict == trace.Differs || got.Verdict == trace.Untold) && len(out.Listed) < mostListed {
				out.Listed = append(out.Listed, got)
			}
			if out.Looked%100 == 0 {
				far(int64(out.Looked))
			}
			out.Stopped = rm.now().After(end)
			return out.Looked < w.Most && !out.Stopped && ctx.Err() == nil
		})
	out.sum(people, other)
	far(int64(out.Looked))
	if err == nil {
		err = ctx.Err()
	}
	return out, err
}

// sum counts people, by the worst that would become of each.
func (e *Evaluated) sum(people map[string]bool, other map[string]Listed) {
	e.Seen, e.People = len(people), len(other)
	for _, l := range other {
		switch {
		case l.Shut:
			e.Shut++
		case l.Renamed:
			e.Renamed++
		case l.Held:
			e.Held++
		case l.Let:
			e.Let++
		default:
			e.Told++
		}
		e.Others = append(e.Others, l)
	}
	slices.SortFunc(e.Others, func(a, b Listed) int {
		return cmp.Or(cmp.Compare(b.weight(), a.weight()), b.Started.Compare(a.Started), strings.Compare(a.ID, b.ID))
	})
}

// Count is how many crossings a re-evaluation will look at, if it is not stopped.
func (rm *Room) Count(ctx context.Context, w Which) (int64, error) {
	n, err := rm.store.Traces.Count(ctx, store.TraceFilter{Application: w.Application, Provider: w.Provider})
	most := w.Most
	if most <= 0 || most > MostCrossings {
		most = MostCrossings
	}
	return min(n, int64(most)), err
}

// compare runs one crossing, of which everything has to be there. Whoever was new then, by no
// more than their name, is taken as they are known now.
func (rm *Room) compare(ctx context.Context, before, after *federation.Snapshot, inputs []json.RawMessage,
	result string,
	links map[string]person.Person) trace.Compared {
	entries := make([]trace.Entry, len(inputs))
	for i, octets := range inputs {
		if json.Unmarshal(octets, &entries[i]) != nil {
			return trace.Compared{Verdict: trace.Untold, Cause: "it was recorded by another build"}
		}
		if entries[i].Matched(before, after) {
			continue
		}
		for key, p := range entries[i].People {
			if p.ID == 0 {
				entries[i].People[key] = rm.linked(ctx, before, key, entries[i], links)
			}
		}
	}
	if len(entries) == 0 && result == crossing.Entered {
		return trace.Compared{Verdict: trace.Untold, Cause: "what it was decided on was not kept"}
	}
	return trace.Compare(before, after, entries)
}

// linked is who has a link by now, with all that is known of them; the one that was recorded if
// nobody has.
func (rm *Room) linked(ctx context.Context, snap *federation.Snapshot, key string, e trace.Entry,
	links map[string]person.Person) person.Person {
	app := federation.ID("")
	if a, ok := snap.Application(e.Decided.App); ok {
		app = a.ID
	}
	at := string(app) + "\x1f" + key
	if p, ok := links[at]; ok {
		return p
	}
	p, err := rm.store.People(ctx).Find(key, app)
	if err != nil || p.ID == 0 {
		p = e.People[key]
	}
	p.Identifier = "" // as it is recorded
	links[at] = p
	return p
}

func (e *Evaluated) count(c trace.Compared) {
	switch c.Verdict {
	case trace.Alike:
		e.Alike++
	case trace.Differs:
		e.Differs++
	case trace.Untold:
		e.Untold++
	default:
		e.Apart++
	}
}
