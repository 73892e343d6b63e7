package federation

import (
	"crypto/sha256"
	"encoding/binary"
	"errors"
	"fmt"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"
	_ "time/tzdata" // zones are the same everywhere

	"innergate.example/innergate/internal/core/listed"
)

// Phase is how far a record is used.
type Phase string

// Phases, in their order.
const (
	Draft   Phase = "draft"   // it is being set up; nobody passes
	Pilot   Phase = "pilot"   // a cohort passes
	Live    Phase = "live"    // people pass
	Paused  Phase = "paused"  // nobody passes for now
	Retired Phase = "retired" // nobody passes any more
)

// Phases are all of them.
var Phases = []string{string(Draft), string(Pilot), string(Live), string(Paused), string(Retired)}

// Passes reports whether somebody passes in a phase.
func (p Phase) Passes() bool { return p == Live || p == Pilot }

// Rollout is what an engineer decides on how far a record is used, and when that changes.
type Rollout struct {
	Phase Phase `json:"phase"`
	// Cohort is whom a pilot includes: words like group:drivers or share:10, of which one is enough.
	Cohort listed.Words `json:"cohort"`
	// NextPhase and NextCohort are from the moment NextAt on, without another word; see Moment.
	NextPhase  Phase        `json:"nextPhase"`
	NextCohort listed.Words `json:"nextCohort"`
	NextAt     string       `json:"nextAt"`
	// NextContact has the other side's contact hear of it by mail, beside the owner.
	NextContact bool `json:"nextContact"`
}

// Before is what the gate itself keeps of the phases of a record.
type Before struct {
	Phase  Phase        `json:"phase,omitempty"`  // before the last change of phase or cohort
	Cohort listed.Words `json:"cohort,omitempty"` // likewise
	Since  time.Time    `json:"since,omitzero"`   // when that change was made
	Back   bool         `json:"back,omitempty"`   // it was a step back
}

// Cohort is whom a pilot includes: whoever is named, by themselves or by what they are in, and a share of all.
type Cohort struct {
	People                []int64
	Groups, Organisations []Name
	Networks              []netip.Prefix
	Share                 int // percent of people, by their accounts
}

// Empty reports whether a cohort includes nobody.
func (c Cohort) Empty() bool {
	return len(c.People)+len(c.Groups)+len(c.Organisations)+len(c.Networks)+c.Share == 0
}

// mostCohort bounds the words of a cohort.
const mostCohort = 1000

// ParseCohort reads a cohort.
func ParseCohort(words listed.Words) (c Cohort, err error) {
	if len(words) > mostCohort {
		return c, fmt.Errorf("it has %d words; use at most %d, or a group", len(words), mostCohort)
	}
	for _, w := range words {
		kind, value, _ := strings.Cut(w, ":")
		switch kind {
		case "person":
			n, wrong := strconv.ParseInt(value, 10, 64)
			if c.People = append(c.People, n); wrong != nil || n < 1 {
				err = errors.Join(err, fmt.Errorf("%q names no person; write person:17, with the number of the account", w))
			}
		case "group":
			c.Groups = append(c.Groups, Name(value))
		case "organisation":
			c.Organisations = append(c.Organisations, Name(value))
		case "network":
			p, wrong := network(value)
			if c.Networks = append(c.Networks, p); wrong != nil {
				err = errors.Join(err, wrong)
			}
		case "share":
			n, wrong := strconv.Atoi(strings.TrimSuffix(value, "%"))
			if c.Share != 0 || wrong != nil || n < 1 || n > 100 {
				err = errors.Join(err, fmt.Errorf("%q is no share; write one from share:1 to share:100, in percent, once", w))
			}
			c.Share = n
		default:
			err = errors.Join(err, fmt.Errorf("%.60q says nobody; write person:N, group:NAME, organisation:NAME, network:192.0.2.0/24 or share:10", w))
		}
	}
	return c, err
}

// InShare reports whether an account is in the share of a record: the same one always, and with a larger share still.
func (c Cohort) InShare(record ID, person int64) bool {
	if c.Share == 0 || person == 0 {
		return false
	}
	sum := sha256.Sum256(fmt.Appendf(nil, "%s\x1f%d", record, person))
	return binary.BigEndian.Uint32(sum[:4])%100 < uint32(c.Share)
}

// Moment reads a moment with its time zone: by offset, like 2027-01-31T06:00:00+01:00, or by name, like
// 2027-01-31 06:00 Europe/Berlin. One that the clocks of that zone skip or have twice is an error.
func Moment(text string) (time.Time, error) {
	text = strings.TrimSpace(text)
	if t, err := time.Parse(time.RFC3339, text); err == nil {
		return t.UTC(), nil
	}
	wrong := fmt.Errorf("%.60q is no moment with a time zone; write it like 2027-01-31T06:00:00+01:00, or 2027-01-31 06:00 Europe/Berlin", text)
	at := strings.LastIndexByte(text, ' ')
	if at < 0 || strings.EqualFold(text[at+1:], "local") {
		return time.Time{}, wrong
	}
	zone, err := time.LoadLocation(text[at+1:])
	if err != nil {
		return time.Time{}, wrong
	}
	clock := strings.Replace(strings.TrimSpace(text[:at]), "T", " ", 1)
	const layout = "2006-01-02 15:04"
	t, err := time.ParseInLocation(layout, clock, zone)
	switch {
	case err != nil:
		return t, wrong
	case t.Format(layout) != clock:
		return t, fmt.Errorf("%q does not exist: clocks in %s are put forward then; give another one", clock, zone)
	case t.Add(-time.Hour).Format(layout) == clock || t.Add(time.Hour).Format(layout) == clock:
		return t, fmt.Errorf("%q happens twice in %s, where clocks are put back; write it with its offset, like %s", clock,
			zone, t.Format(time.RFC3339))
	}
	return t.UTC(), nil
}

// Told are the e-mail addresses to which a change that waits is announced: those of the owner and, by choice, of the
// other side's contact.
func (b *Basics) Told() (owners, contacts []string) {
	owners = Mails(b.Owner, mostTold)
	if b.NextContact {
		contacts = Mails(b.Contact, mostTold)
	}
	return owners, contacts
}

// mostTold bounds how many a change is announced to, on each side.
const mostTold = 10

// standing is a rollout as it was read.
type standing struct {
	cohort, next Cohort
	at           time.Time // of the next one, zero for none
}

// read reads a rollout; what cannot be read includes nobody, and never comes.
func (r Rollout) read() *standing {
	s := &standing{}
	s.cohort, _ = ParseCohort(r.Cohort)
	s.next, _ = ParseCohort(r.NextCohort)
	if r.NextAt != "" {
		s.at, _ = Moment(r.NextAt)
	}
	return s
}

// PhaseAt is the phase and the cohort of a record at a time.
func (b *Basics) PhaseAt(now time.Time) (Phase, Cohort) {
	s := b.standing
	if s == nil {
		s = b.Rollout.read()
	}
	if !s.at.IsZero() && !now.Before(s.at) {
		return b.NextPhase, s.next
	}
	return b.Phase, s.cohort
}

// CohortAt is the cohort of a record at a time, in its words.
func (b *Basics) CohortAt(now time.Time) listed.Words {
	if at := b.Pending(); !at.IsZero() && !now.Before(at) {
		return b.NextCohort
	}
	return b.Cohort
}

// Pending is when the phase or the cohort of a record changes by itself, zero for never.
func (b *Basics) Pending() time.Time {
	if b.NextAt == "" {
		return time.Time{}
	}
	t, _ := Moment(b.NextAt)
	return t
}

// checkRollout sees whether phases and cohorts can be so.
func (b *Basics) checkRollout(missing []string) error {
	switch _, err := Moment(b.NextAt); {
	case b.NextAt == "" && (b.NextPhase != "" || len(b.NextCohort) > 0):
		return &SettingError{"nextAt", errors.New("say from when on, like 2027-01-31 06:00 Europe/Berlin")}
	case b.NextAt != "" && err != nil:
		return &SettingError{"nextAt", err}
	}
	for _, x := range []struct {
		phase                   Phase
		cohort                  listed.Words
		phaseField, cohortField string
		given                   bool
	}{{b.Phase, b.Cohort, "phase", "cohort", true}, {b.NextPhase, b.NextCohort, "nextPhase", "nextCohort",
		b.NextAt != "" || b.NextPhase != "" || len(b.NextCohort) > 0}} {
		if !x.given {
			continue
		}
		c, err := ParseCohort(x.cohort)
		switch {
		case err != nil:
			return &SettingError{x.cohortField, err}
		case !slices.Contains(Phases, string(x.phase)):
			return &SettingError{x.phaseField, fmt.Errorf("there is no phase %q; use %s", x.phase, strings.Join(Phases, ", "))}
		case x.phase.Passes() && len(missing) > 0:
			return &SettingError{x.phaseField,
				fmt.Errorf("the record is unfinished: %s is still missing; take it in before it goes live",
					strings.Join(missing, " and "))}
		case x.phase == Pilot && c.Empty():
			return &SettingError{x.cohortField,
				errors.New("a pilot of nobody; say whom it includes, like group:drivers or share:10")}
		}
	}
	return nil
}

// CohortNames are the groups and organisations that cohorts of a record name, now and from the next moment on.
func (b *Basics) CohortNames() (groups, organisations []Name, people []int64) {
	for _, words := range []listed.Words{b.Cohort, b.NextCohort} {
		c, _ := ParseCohort(words)
		groups, organisations, people = append(groups, c.Groups...), append(organisations, c.Organisations...),
			append(people, c.People...)
	}
	return groups, organisations, people
}
