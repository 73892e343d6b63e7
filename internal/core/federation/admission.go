package federation

import (
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/listed"
)

// Admissions are the groups that an application admits, or keeps out, by name: GROUP=yes, GROUP=no, or
// GROUP=DAY for entry until the end of a day (UTC), or until a moment.
type Admissions listed.Pairs

var admitting = listed.Form{Sign: "="}

// MarshalJSON writes an object.
func (a Admissions) MarshalJSON() ([]byte, error) { return admitting.Marshal(listed.Pairs(a)) }

// UnmarshalJSON reads an object, or a line.
func (a *Admissions) UnmarshalJSON(octets []byte) error {
	pairs, err := admitting.Unmarshal(octets)
	*a = Admissions(pairs)
	return err
}

// Admission is what an application says of a group, or of a person: that they are admitted, for good or until a
// moment, or that they are kept out.
type Admission struct {
	Out   bool      `json:"out,omitempty"`
	Until time.Time `json:"until,omitzero"` // zero for good
}

// Holds reports whether it says something at a time.
func (a Admission) Holds(now time.Time) bool { return a.Until.IsZero() || now.Before(a.Until) }

// Read gives what is said of each group.
func (a Admissions) Read() (map[Name]Admission, error) {
	if len(a) > mostAdmissions {
		return nil, fmt.Errorf("%d groups; admit at most %d one by one, or the group that they lie in", len(a),
			mostAdmissions)
	}
	out := make(map[Name]Admission, len(a))
	for _, p := range a {
		if _, twice := out[Name(p.Name)]; twice {
			return nil, fmt.Errorf("the group %q stands there twice; leave one", p.Name)
		}
		one, err := AdmissionOf(p.Value)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		out[Name(p.Name)] = one
	}
	return out, nil
}

// mostAdmissions is how many groups an application can name.
const mostAdmissions = 5000

// AdmissionOf reads yes, no, or until when.
func AdmissionOf(text string) (Admission, error) {
	switch text {
	case "", "yes":
		return Admission{}, nil
	case "no":
		return Admission{Out: true}, nil
	}
	until, err := Ends(text)
	if err != nil {
		return Admission{}, fmt.Errorf("%q is neither yes, no, nor an end; write it like 2027-01-31", text)
	}
	return Admission{Until: until}, nil
}

// Ends reads the end of something: of a day (UTC), or a moment.
func Ends(text string) (time.Time, error) { return moment(text, 24*time.Hour) }

// EndText writes an end as it is typed: a day where it is that of one.
func EndText(t time.Time) string {
	if t = t.UTC(); t.IsZero() {
		return ""
	}
	if t.Equal(t.Truncate(24 * time.Hour)) {
		return t.AddDate(0, 0, -1).Format(time.DateOnly)
	}
	return t.Format(time.RFC3339)
}

// Groups are those that are named.
func (a Admissions) Groups() (out []Name) {
	for _, p := range a {
		out = append(out, Name(p.Name))
	}
	return out
}

// With says something else of a group; nil says nothing of it any more.
func (a Admissions) With(group Name, said *Admission) Admissions {
	out := slices.DeleteFunc(slices.Clone(a), func(p listed.Pair) bool { return p.Name == string(group) })
	if said == nil {
		return out
	}
	value := "yes"
	switch {
	case said.Out:
		value = "no"
	case !said.Until.IsZero():
		value = EndText(said.Until)
	}
	return append(out, listed.Pair{Name: string(group), Value: value})
}

// Line writes them as they are typed.
func (a Admissions) Line() string { return admitting.Line(listed.Pairs(a)) }

// Widens reports whether admissions let somebody in that others do not: a group that was not admitted, or not as long,
// or one that is no longer kept out.
func (a Admissions) Widens(before Admissions) bool {
	now, _ := a.Read()
	was, _ := before.Read() // they were looked at when they were saved
	for g, x := range now {
		old, said := was[g]
		if !x.Out && (!said || old.Out || !old.Until.IsZero() && (x.Until.IsZero() || x.Until.After(old.Until))) {
			return true
		}
	}
	for g, old := range was {
		if _, said := now[g]; old.Out && !said {
			return true
		}
	}
	return false
}

// check sees whether admissions can be so.
func (a Admissions) check() error {
	if _, err := a.Read(); err != nil {
		return err
	}
	for _, g := range a.Groups() {
		if g == "" {
			return errors.New("a group has no name; write GROUP=yes, separated by spaces")
		}
	}
	return nil
}

// Nearest finds what the nearest of somebody's groups that says something says: their own groups first, then those
// that these lie in, and so on; in are all of them. Where two are equally near, being kept out wins.
func (b *Book) Nearest(s *Snapshot, groups []Name, in GroupSet, now time.Time) (from Name, said Admission, ok bool) {
	says := 0
	for n, one := range b.admits {
		if in.Has(n) && one.Holds(now) {
			from, said, says = n, one, says+1
		}
	}
	if says < 2 { // of one it does not matter how near it is
		return from, said, says == 1
	}
	from, said = "", Admission{}
	seen := make(map[Name]bool, len(groups))
	for level := groups; len(level) > 0; {
		var above []Name
		for _, n := range level {
			if seen[n] {
				continue
			}
			seen[n] = true
			one, says := b.admits[n]
			if says = says && one.Holds(now); says && (!ok || one.Out && !said.Out || one.Out == said.Out && n < from) {
				from, said, ok = n, one, true
			}
			if x, there := s.Unit(KindGroup, n); there && x.Inside != "" {
				above = append(above, x.Inside)
			}
		}
		if ok {
			return from, said, true
		}
		level = above
	}
	return "", said, false
}
