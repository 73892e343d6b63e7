package person

import (
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
)

// Writer is by what somebody was changed.
type Writer string

// Writers.
const (
	BySignIn Writer = "sign-in" // a provider's word
	ByCode   Writer = "code"    // what they said themselves, and proved where it has to be
	ByHand   Writer = "hand"    // an operator, or a script
	ByList   Writer = "list"
	ByJoin   Writer = "join" // of two accounts, or the parting of one
)

// States that a change gives somebody.
type State string

// States.
const (
	Disabled State = "disabled" // they are let in no more, until that is taken back
	Enabled  State = "enabled"
	Removed  State = "removed" // with all that is theirs
)

// Change is what one writer wants of one person. It is laid over what is there when it is stored: parts that it does
// not name stay. Either all of it is stored, with an event, or nothing.
type Change struct {
	Person int64 // 0 for somebody new
	Via    Writer
	Who    string // the operator, or the short name of the provider

	// What has to hold when it is stored; where it does not, the change is lost (LostError).
	Revision int64    // they are as they were looked at; 0 for however they are
	Welcome  bool     // they may be let in
	Unless   []Sought // nobody has one of these values, proved
	Has      *Sought  // they still have it, proved, and no link to the provider of Link

	Identifier string // of somebody new: random, and never shown
	State      State
	Values     *PutValues  // of a sign-in
	Typed      *Typing     // by hand or in a list
	Exactly    []KeptValue // in place of all that is kept, if AllValues
	AllValues  bool
	Join       []Membership
	Leave      []Membership // a source that is "" stands for every one
	Anyway     bool         // leaving where somebody does not belong is nothing
	Follow     *Following
	Link       []Link
	Name       *Link // keeps the name with a link that lacks it
	Admit      []Admission
	Unadmit    []federation.ID // of applications
	Known      []Subject
	Replace    bool // of Known also where an application knows them by something else
	Take       *Taking
	Other      int64 // the other one, where two were joined or one was parted
}

// Typing is what somebody typed, or what stands in a list: values by attribute; one without any is taken away.
type Typing struct {
	From     federation.ID // FromHand or FromImport
	Values   map[string][]string
	Unproved []string // attributes, or NAME=VALUE, that nothing proves
	Marks    []ValueMark
	Most     int // attributes that are kept of one person
}

// Following is in which groups a provider has somebody: others that it had them in they leave.
type Following struct {
	From   federation.ID
	Groups []federation.Name
}

// Admission is that somebody was admitted to an application by name, and by whom.
type Admission struct {
	Admitted
	Source federation.ID // FromHand or FromImport
	Author string
}

// Subject is the lasting name by which an application knows somebody. One that was derived gives way to none.
type Subject struct {
	App    federation.ID
	Value  string
	Source string // SubjectDerived, SubjectImported
}

// Where subjects come from.
const (
	SubjectDerived  = "derived"
	SubjectImported = "imported"
)

// Taking is what one account takes over of another: a link, by its key as it is stored, or with "" all that it holds.
type Taking struct {
	From int64
	Link string
}

// Guard names what has to hold for a change.
type Guard string

// Guards.
const (
	GuardThere    Guard = "there"    // nobody has the number any more
	GuardRevision Guard = "revision" // they have changed
	GuardWelcome  Guard = "welcome"  // they are disabled
	GuardValue    Guard = "value"    // somebody else has a value, or they have it no more
	GuardLink     Guard = "link"     // somebody is linked by the name, or nobody is
	GuardSubject  Guard = "subject"  // an application knows them by another name, or somebody else by this one
)

// LostError says that something does not hold which a change rests on: nothing of it is stored.
type LostError struct {
	At    int // place of the change among those of one call
	Guard Guard
	Whose int64 // who has it instead, 0 if that tells nothing
}

// Error says which.
func (e *LostError) Error() string {
	return fmt.Sprintf("the guard %q of change %d failed", e.Guard, e.At)
}

// RefusedError says why a change cannot be made, and what to do instead.
type RefusedError struct {
	At    int    // place of the change among those of one call
	Field string // "" for none
	Cause error
	Way   string
}

// Error is the cause.
func (e *RefusedError) Error() string { return e.Cause.Error() }

// Record is somebody as a change finds them.
type Record struct {
	ID       int64 // 0 for nobody
	Revision int64
	Disabled time.Time // zero for one who is let in
	Values   []KeptValue
	Members  []Membership // as far as the change is about them
	Admitted []Admission  // likewise
}

// Laid is what a change makes of somebody.
type Laid struct {
	Record
	Did     Did
	Keeps   bool // other values are kept
	Joins   []Membership
	Leaves  []Membership
	Admits  []Admission
	Unadmit []federation.ID
}

// Ground is what a change is laid by.
type Ground struct {
	Snap  *federation.Snapshot
	There func(federation.Ref) bool // is there such a group or organisation, by now?
	Now   time.Time
}

// Lay lays a change over somebody: everything that follows from how they are on record alone. Links and lasting names,
// which no two people share, are held against those of others by whoever stores it.
func (c *Change) Lay(g Ground, was Record) (Laid, error) {
	out := Laid{Record: was}
	if guard := c.broken(was); guard != "" {
		return out, &LostError{Guard: guard}
	}
	if c.Person == 0 {
		out.Did.State = StateAdded
	}
	c.layState(&out, g.Now)
	if err := c.layValues(&out, g.Now); err != nil {
		return out, err
	}
	if err := c.layMembers(g, &out); err != nil {
		return out, err
	}
	if err := c.layAdmissions(g.Snap, &out); err != nil {
		return out, err
	}
	out.Did.Other = c.Other
	return out, nil
}

// Foresee makes of somebody what the change would, as far as their entry rests on it; a change that cannot be made
// leaves them as they are.
func (c Change) Foresee(g Ground, p *Person) {
	was := Record{ID: p.ID, Values: p.Values, Members: p.Members}
	if p.Disabled {
		was.Disabled = g.Now
	}
	for _, a := range p.Admitted {
		was.Admitted = append(was.Admitted, Admission{Admitted: a})
	}
	c.Revision, c.Welcome = 0, false
	laid, err := c.Lay(g, was)
	if err != nil {
		return
	}
	p.Values, p.Members, p.Disabled, p.Admitted = laid.Values, laid.Members, !laid.Disabled.IsZero() ||
		c.State == Removed, nil
	for _, a := range laid.Admitted {
		p.Admitted = append(p.Admitted, a.Admitted)
	}
}

// broken is the guard that fails of those that somebody's own record tells.
func (c *Change) broken(was Record) Guard {
	switch {
	case c.Person == 0:
		return ""
	case was.ID == 0:
		return GuardThere
	case c.Revision != 0 && c.Revision != was.Revision:
		return GuardRevision
	case c.Welcome && !was.Disabled.IsZero():
		return GuardWelcome
	}
	return ""
}

func (c *Change) layState(out *Laid, now time.Time) {
	switch {
	case c.State == Removed:
		out.Did.State = StateRemoved
		if c.Other != 0 {
			out.Did.State = StateJoined
		}
	case c.State == Disabled && out.Disabled.IsZero():
		out.Disabled, out.Did.State = now.UTC(), either(out.Did.State, StateDisabled)
	case c.State == Enabled && !out.Disabled.IsZero():
		out.Disabled, out.Did.State = time.Time{}, StateEnabled
	}
}

// either is what is told of somebody in one word: that they are new goes before all else.
func either(said, other string) string {
	if said != "" {
		return said
	}
	return other
}

func (c *Change) layValues(out *Laid, now time.Time) error {
	before := out.Values
	switch {
	case c.AllValues:
		out.Values = c.Exactly
	case c.Values != nil:
		out.Values, _ = c.Values.Over(before, now)
	}
	if t := c.Typed; t != nil {
		out.Values = Typed(out.Values, t.From, t.Values, t.Unproved, now)
		var err error
		if out.Values, err = marked(out.Values, t.Marks); err != nil {
			return err
		}
		if t.Most > 0 && len(out.Values) > t.Most && len(out.Values) > len(before) {
			return &RefusedError{Field: "values", Cause: fmt.Errorf("the person would have %d attributes; keep at most %d",
				len(out.Values), t.Most)}
		}
	}
	out.Did.Values = Different(before, out.Values)
	out.Keeps = len(out.Did.Values) > 0
	return nil
}

// layMembers finds out where somebody belongs from now on.
func (c *Change) layMembers(g Ground, out *Laid) error {
	join, leave := slices.Clone(c.Join), []Membership{}
	if f := c.Follow; f != nil {
		for _, g := range f.Groups {
			join = append(join, Membership{federation.KindGroup, g, f.From})
		}
		for _, m := range out.Members {
			if m.Kind == federation.KindGroup && m.Source == f.From && !slices.Contains(f.Groups, m.Name) {
				leave = append(leave, m)
			}
		}
	}
	for i, l := range c.Leave {
		any := false
		for _, m := range out.Members {
			if m.Kind != l.Kind || m.Name != l.Name || l.Source != "" && l.Source != m.Source {
				continue
			}
			if any = true; l.Source == "" {
				if err := followed(g.Snap, out.ID, m); err != nil {
					return err
				}
			}
			leave = append(leave, m)
		}
		if !any && l.Source == "" && !c.Anyway {
			return &RefusedError{Cause: fmt.Errorf("the person %d is not in %s %s", out.ID, l.Kind, l.Name),
				Way:   "nothing is to be done",
				Field: fmt.Sprintf("leave[%d]", i)}
		}
	}
	for _, m := range join {
		if g.There(m.Unit()) && !slices.Contains(out.Members, m) && !slices.Contains(out.Joins, m) {
			out.Joins = append(out.Joins, m)
		}
	}
	for _, m := range leave {
		if !slices.Contains(out.Leaves, m) && !slices.Contains(join, m) {
			out.Leaves = append(out.Leaves, m)
		}
	}
	before := out.Members
	out.Members = slices.DeleteFunc(append(slices.Clone(before), out.Joins...),
		func(m Membership) bool { return slices.Contains(out.Leaves, m) })
	out.Did.Joined, out.Did.Left = unitsBeside(out.Members, before), unitsBeside(before, out.Members)
	for _, m := range slices.Concat(out.Joins, out.Leaves) {
		if at := m.Unit().String(); !slices.Contains(out.Did.Joined, at) && !slices.Contains(out.Did.Left, at) &&
			!slices.Contains(out.Did.Stays, at) {
			out.Did.Stays = append(out.Did.Stays, at)
		}
	}
	return nil
}

// followed says why somebody cannot be taken out of a group: a provider would put them in again.
func followed(snap *federation.Snapshot, who int64, m Membership) error {
	for _, p := range snap.Providers() {
		if m.Kind == federation.KindGroup && p.ID == m.Source && p.GroupValues != "" {
			return &RefusedError{Cause: fmt.Errorf("the person %d is in the group %s because %s says so", who, m.Name, p.Name),
				Way: "take them out at the provider: their next sign-in takes them out here"}
		}
	}
	return nil
}

// unitsBeside are the units of some memberships that others do not name, each once.
func unitsBeside(some, others []Membership) (out []string) {
	for _, m := range some {
		in := slices.ContainsFunc(others, func(x Membership) bool { return x.Unit() == m.Unit() })
		if at := m.Unit().String(); !in && !slices.Contains(out, at) {
			out = append(out, at)
		}
	}
	return out
}

func (c *Change) layAdmissions(snap *federation.Snapshot, out *Laid) error {
	for _, a := range c.Admit {
		at := slices.IndexFunc(out.Admitted, func(x Admission) bool { return x.App == a.App })
		if at >= 0 && out.Admitted[at].Until.Equal(a.Until) {
			continue
		}
		out.Admits = append(out.Admits, a)
		out.Did.Admitted = append(out.Did.Admitted, AppName(snap, a.App))
		if out.Admitted = slices.Clone(out.Admitted); at >= 0 {
			out.Admitted[at] = a
		} else {
			out.Admitted = append(out.Admitted, a)
		}
	}
	for _, app := range c.Unadmit {
		at := slices.IndexFunc(out.Admitted, func(x Admission) bool { return x.App == app })
		if at < 0 {
			return &RefusedError{Cause: fmt.Errorf("the person %d is not admitted to %s by name", out.ID, AppName(snap, app))}
		}
		out.Admitted = slices.Delete(slices.Clone(out.Admitted), at, at+1)
		out.Unadmit = append(out.Unadmit, app)
		out.Did.Unadmitted = append(out.Did.Unadmitted, AppName(snap, app))
	}
	return nil
}

// AppName is the short name of an application, the ID of one that was removed.
func AppName(snap *federation.Snapshot, id federation.ID) string {
	if a, ok := snap.ApplicationOf(id); ok {
		return string(a.Name)
	}
	return string(id)
}
