package checks

// Standing is whether a connection works, in a word.
type Standing string

// Standings, the worst first.
const (
	Broken     Standing = "broken"     // a finding says that it cannot work
	Failing    Standing = "failing"    // the last sign-in was refused
	Attention  Standing = "attention"  // a change waits, a refresh failed, or there are warnings
	Unfinished Standing = "unfinished" // values are missing
	Untried    Standing = "untried"    // nobody has signed in yet
	Stopped    Standing = "paused"     // nobody is let pass
	Works      Standing = "works"      // the last sign-in entered
)

// Standings are all of them, the worst first.
var Standings = []Standing{Broken, Failing, Attention, Unfinished, Untried, Stopped, Works}

// State is what a standing is told from.
type State struct {
	Missing          bool // values
	Paused           bool
	Errors, Warnings int    // findings that nobody has acknowledged
	Waiting          bool   // a change for approval
	Last             string // result of the last sign-in that came to an end, "" if there was none
}

// Standing tells it.
func (s State) Standing() Standing {
	switch {
	case s.Missing:
		return Unfinished
	case s.Paused:
		return Stopped
	case s.Errors > 0:
		return Broken
	case s.Last == "refused":
		return Failing
	case s.Waiting || s.Warnings > 0:
		return Attention
	case s.Last == "":
		return Untried
	}
	return Works
}
