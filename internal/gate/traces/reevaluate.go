package traces

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"maps"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/records"
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
	People                                int // for whom something would be other
	Shut                                  int // of them, those who would not be let in any more
	Renamed                               int // of them, those of whom an application would hear by another name
	Seen                                  int // people in all
	Stopped                               bool
	Listed                                []Listed // those that differ or cannot be told, no more than five hundred
}

// Listed is one crossing with what would be other.
type Listed struct {
	Head
	crossing.Compared
}

// Reevaluate runs recorded crossings through two configurations. far is told how many
// are done.
func (rm *Room) Reevaluate(ctx context.Context, before, after *federation.Snapshot, w Which, far func(int64)) (Evaluated,
	error) {
	var out Evaluated
	if w.Most <= 0 || w.Most > MostCrossings {
		w.Most = MostCrossings
	}
	if w.Within <= 0 || w.Within > longestRun {
		w.Within = longestRun
	}
	people, other := map[string]bool{}, map[string]*crossing.Compared{}
	end, links := rm.now().Add(w.Within), map[string]crossing.Person{}
	err := rm.store.Traces.Each(ctx, store.TraceFilter{Application: w.Application, Provider: w.Provider},
		func(head store.TraceHead, inputs []json.RawMessage) bool {
			out.Looked++
			got := rm.compare(ctx, before, after, head, inputs, links)
			out.count(got)
			if got.Who != "" {
				people[got.Who] = true
			}
			if got.Verdict == crossing.Differs {
				other[got.Who] = worse(other[got.Who], got)
			}
			if (got.Verdict == crossing.Differs || got.Verdict == crossing.Untold) && len(out.Listed) < mostListed {
				out.Listed = append(out.Listed, Listed{Head(head), got})
			}
			if out.Looked%100 == 0 {
				far(int64(out.Looked))
			}
			out.Stopped = rm.now().After(end)
			return out.Looked < w.Most && !out.Stopped && ctx.Err() == nil
		})
	out.Seen, out.People = len(people), len(other)
	for _, c := range other {
		if c.Shut {
			out.Shut++
		}
		if c.Renamed {
			out.Renamed++
		}
	}
	far(int64(out.Looked))
	if err == nil {
		err = ctx.Err()
	}
	return out, err
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

// compare runs one crossing, of which everything has to be there. Whoever was new then is
// known now; links keeps whom a look-up found.
func (rm *Room) compare(ctx context.Context, before, after *federation.Snapshot, head store.TraceHead,
	inputs []json.RawMessage, links map[string]crossing.Person) crossing.Compared {
	entries := make([]crossing.Entry, len(inputs))
	for i, octets := range inputs {
		if json.Unmarshal(octets, &entries[i]) != nil {
			return crossing.Compared{Verdict: crossing.Untold, Cause: "it was recorded by another build"}
		}
		for key, p := range entries[i].People {
			if p.ID == 0 {
				entries[i].People[key] = rm.linked(ctx, key, p, links)
			}
		}
	}
	if len(entries) == 0 && head.Result == crossing.Entered {
		return crossing.Compared{Verdict: crossing.Untold, Cause: "what it was decided on was not kept"}
	}
	return crossing.Compare(before, after, entries)
}

// linked is who has a link by now, the one that was recorded if nobody has.
func (rm *Room) linked(ctx context.Context, key string, recorded crossing.Person,
	links map[string]crossing.Person) crossing.Person {
	if p, ok := links[key]; ok {
		return p
	}
	var row store.LinkRow // none is no error
	if rm.store.Read.WithContext(ctx).Where("key = ?", store.Hash(key)).Limit(1).Find(&row).Error == nil {
		recorded.ID = row.Person
	}
	links[key] = recorded
	return recorded
}

func (e *Evaluated) count(c crossing.Compared) {
	switch c.Verdict {
	case crossing.Alike:
		e.Alike++
	case crossing.Differs:
		e.Differs++
	case crossing.Untold:
		e.Untold++
	default:
		e.Apart++
	}
}

// worse keeps of a person what weighs most.
func worse(old *crossing.Compared, c crossing.Compared) *crossing.Compared {
	if old != nil {
		c.Shut, c.Renamed = c.Shut || old.Shut, c.Renamed || old.Renamed
	}
	return &c
}

// Of what a change does to the names of people, so much is looked at before it is saved.
const (
	renamesLooked = 2000
	renamesWithin = 5 * time.Second // for all applications together
	mostExamples  = 3
)

// Renames tells whether a change gives people other names at an application: the worst
// one, if there are several.
func (rm *Room) Renames(ctx context.Context, before, after *federation.Snapshot) (out records.Renaming, err error) {
	sum := sha256.New()
	worst, end := 0, rm.now().Add(renamesWithin)
	for _, name := range crossing.Naming(before, after) {
		got, err := rm.Reevaluate(ctx, before, after, Which{Application: string(name), Most: renamesLooked,
			Within: max(end.Sub(rm.now()), time.Millisecond)}, func(int64) {})
		if err != nil {
			return out, err
		}
		if got.Renamed == 0 {
			continue
		}
		a, _ := after.Application(name)
		rules, err := json.Marshal([]any{name, a.Mapping(), a.Side.Settings(), providerRules(after, a)})
		if err != nil {
			return out, err
		}
		sum.Write(rules)
		if got.Renamed <= worst {
			continue
		}
		worst = got.Renamed
		out.Finding = crossing.Renaming(string(name), got.Renamed, got.Seen, examples(got))
		if n := rm.store.CountSubjects(ctx, string(a.ID)); n > 0 {
			out.Finding = out.Finding.With(finding.Passing("Lasting names it was told, or that were imported",
				fmt.Sprint(n)))
		}
	}
	out.Digest = hex.EncodeToString(sum.Sum(nil)[:8])
	return out, nil
}

// providerRules are the intakes behind an application.
func providerRules(snap *federation.Snapshot, a *federation.Application) map[federation.Name]any {
	out := map[federation.Name]any{}
	for _, p := range snap.Providers() {
		if a.Provider == "" || a.Provider == p.Name {
			out[p.Name] = p.Mapping()
		}
	}
	return out
}

// examples are a few of those who would be named otherwise.
func examples(e Evaluated) []string {
	some := map[string]bool{}
	for _, l := range e.Listed {
		switch was, is := l.Before.Released, l.Now.Released; {
		case !l.Renamed || len(some) >= mostExamples:
		case was == nil || is == nil:
			some[l.Person+", who would not be recognised"] = true
		default:
			some[fmt.Sprintf("%s instead of %s", is.Name, was.Name)] = true
		}
	}
	return slices.Sorted(maps.Keys(some))
}
