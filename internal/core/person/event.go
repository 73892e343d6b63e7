package person

import (
	"encoding/json"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/profile"
)

// Event is what was done to somebody, and by whom. It names what is other now, and never says what it is or was.
type Event struct {
	ID     int64 // grows with each
	At     time.Time
	Person int64
	Via    Writer
	Who    string
	Did
}

// What became of somebody as a whole.
const (
	StateAdded    = "added"
	StateRemoved  = "removed"
	StateJoined   = "joined" // into another account; this one is gone
	StateParted   = "parted" // off another account
	StateDisabled = "disabled"
	StateEnabled  = "enabled"
)

// Did is what a change did.
type Did struct {
	State      string   `json:"state,omitempty"`
	Values     []string `json:"values,omitempty"` // attributes
	Joined     []string `json:"joined,omitempty"` // groups and organisations, like group/drivers
	Left       []string `json:"left,omitempty"`
	Stays      []string `json:"stays,omitempty"`  // where they belonged before, by another word now, or by one more or fewer
	Linked     []string `json:"linked,omitempty"` // providers
	Unlinked   []string `json:"unlinked,omitempty"`
	Admitted   []string `json:"admitted,omitempty"` // applications
	Unadmitted []string `json:"unadmitted,omitempty"`
	Known      []string `json:"known,omitempty"` // applications that have a lasting name for them, or another one
	Other      int64    `json:"other,omitempty"` // the other account
	More       int      `json:"more,omitempty"`  // names beyond those that are listed
}

// Nothing reports whether nothing is other than before.
func (d *Did) Nothing() bool {
	return d.State == "" && len(d.Values)+len(d.Joined)+len(d.Left)+len(d.Stays)+len(d.Linked)+len(d.Unlinked)+len(d.Admitted)+
		len(d.Unadmitted)+len(d.Known) == 0
}

// mostNamed is how many names one event lists: whoever needs all of them looks at the person.
const mostNamed = 60

// Bounded is what is told of it: of very many names the first ones.
func (d Did) Bounded() Did {
	left := mostNamed
	for _, names := range []*[]string{&d.Values, &d.Linked, &d.Unlinked, &d.Joined, &d.Left, &d.Stays, &d.Admitted,
		&d.Unadmitted, &d.Known} {
		n := min(len(*names), left)
		d.More += len(*names) - n
		if *names, left = (*names)[:n:n], left-n; n == 0 {
			*names = nil
		}
	}
	return d
}

// Different are the attributes of which other values are kept, or the same by another word, in their order.
func Different(before, after []KeptValue) (out []string) {
	add := func(k KeptValue, others []KeptValue) {
		word := profile.Word(k.Name)
		if !slices.ContainsFunc(others, k.like) && !slices.Contains(out, word) {
			out = append(out, word)
		}
	}
	for _, k := range before {
		add(k, after)
	}
	for _, k := range after {
		add(k, before)
	}
	slices.Sort(out)
	return out
}

// Read reads what was done, as it is stored.
func (e *Event) Read(did []byte) error { return json.Unmarshal(did, &e.Did) }
