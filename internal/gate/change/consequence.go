package change

import (
	"cmp"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
	"slices"
)

// Consequence is what a change does to people who signed in lately.
type Consequence struct {
	Looked  int    // sign-ins that it touches
	Seen    int    // people in all
	Known   int    // people in all whose entry was foreseen, where a change decides on it
	Shut    int    // people who would not be let in any more
	Renamed int    // people of whom an application would hear by another name
	Held    int    // people who would be asked something first
	Told    int    // people of whom an application would be told something else
	Let     int    // people who would be let in, and were not
	Cast    int    // people who would enter with other roles
	Casts   []Cast // by role
	// Offered are providers that are offered where they were not, and Choosing how many people gain a choice.
	Offered  []policy.Offer
	Choosing int
	Ways     Ways // what becomes of the ways of people, where a change selects other providers
	Untold   int  // sign-ins of which it cannot be told
	Cause    string
	Stopped  bool // older sign-ins were not looked at
	People   []Affected
	Finding  *finding.Finding // what has to be confirmed; nil for nothing
	Digest   string           // to confirm it by
}

// Cast is how many come to hold a role of an application, or lose it.
type Cast struct {
	App, Role  string
	Gain, Lose int
}

// Way is what a change does to somebody's way.
type Way int

// What it does.
const (
	Keeps Way = iota
	Another
	None
)

// Ways counts what becomes of the ways of people.
type Ways struct {
	Keep, Other, None int
	Examples          []string
}

// Count counts one.
func (w *Ways) Count(x Way) {
	switch x {
	case Keeps:
		w.Keep++
	case Another:
		w.Other++
	default:
		w.None++
	}
}

func (w Ways) all() int { return w.Keep + w.Other + w.None }

// Empty reports whether a change touches nobody.
func (c Consequence) Empty() bool {
	return c.Looked+c.Known+len(c.Offered)+c.Ways.all() == 0 && c.Finding == nil
}

// And is what two consequences come to together. What has to be confirmed is confirmed as a whole.
func (c Consequence) And(d Consequence) Consequence {
	if d.Empty() {
		return c
	}
	if c.Empty() {
		return d
	}
	c.Looked, c.Seen, c.Shut, c.Renamed, c.Held = c.Looked+d.Looked, c.Seen+d.Seen, c.Shut+d.Shut, c.Renamed+d.Renamed,
		c.Held+d.Held
	c.Known, c.Offered, c.Choosing = max(c.Known, d.Known), slices.Concat(c.Offered, d.Offered), c.Choosing+d.Choosing
	c.Told, c.Let, c.Untold, c.Stopped = c.Told+d.Told, c.Let+d.Let, c.Untold+d.Untold, c.Stopped || d.Stopped
	c.Cast, c.Casts = c.Cast+d.Cast, slices.Concat(c.Casts, d.Casts)
	c.Cause, c.People = cmp.Or(c.Cause, d.Cause), slices.Concat(c.People, d.People)
	if d.Ways.all() > 0 {
		c.Ways = d.Ways
	}
	switch {
	case c.Finding == nil:
		c.Finding, c.Digest = d.Finding, d.Digest
	case d.Finding != nil:
		c.Finding, c.Digest = c.Finding.With(d.Finding.Evidence...), Digest(c.Digest, d.Digest)
	}
	return c
}

// Affected is one of the people whom a change does something to, the worst first.
type Affected struct {
	Person                         int64 // 0 for somebody without an account
	Name, Application, Trace, What string
	Differences                    []federation.Difference
}

// What becomes of people.
const (
	BecomesShut    = "refused"
	BecomesRenamed = "renamed"
	BecomesHeld    = "asked first"
	BecomesTold    = "told otherwise"
	BecomesLet     = "let in"
	BecomesCast    = "other roles"
)
