package change

import (
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// Consequence is what a change does to people who signed in lately.
type Consequence struct {
	Looked  int // sign-ins that it touches
	Seen    int // people in all
	Shut    int // people who would not be let in any more
	Renamed int // people of whom an application would hear by another name
	Held    int // people who would be asked something first
	Told    int // people of whom an application would be told something else
	Let     int // people who would be let in, and were not
	Untold  int // sign-ins of which it cannot be told
	Cause   string
	Stopped bool // older sign-ins were not looked at
	People  []Affected
	Finding *finding.Finding // what has to be confirmed; nil for nothing
	Digest  string           // to confirm it by
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
)
