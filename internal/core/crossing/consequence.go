package crossing

import (
	"bytes"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

// describing are settings by which no sign-in is decided.
var describing = []string{"title", "description", "owner", "contact", "notes", "logo", "policy", "traceValues",
	"approveChanges", "nextContact", "trustKey", "strictValidity", "addressCA", "ownHosts", "ownStart"}

// Deciding are the records that a change of the configuration has decide otherwise, as they are
// after it; those that it removes, as they were. A record that is new decides nothing of what was.
func Deciding(before, after *federation.Snapshot) (out []federation.Record) {
	for _, k := range []federation.Kind{federation.KindProvider, federation.KindApplication} {
		for _, name := range before.Names(k) {
			old, _ := before.Record(k, federation.Name(name))
			now, there := after.Record(k, federation.Name(name))
			switch {
			case !there:
				out = append(out, old)
			case old != now && !bytes.Equal(decides(old), decides(now)),
				k == federation.KindApplication && !before.Enters(now.Basic().Name, after):
				out = append(out, now)
			}
		}
	}
	return out
}

// decides is what of a record decides sign-ins.
func decides(r federation.Record) []byte {
	s := federation.SettingsOf(federation.Flat(r))
	for _, name := range describing {
		delete(s, name)
	}
	text, _ := json.Marshal(s) // settings are texts, truth values and rules
	return text
}

// Reopened is the configuration after a change without what is meant to close or to move by
// it: phases, the providers of applications, and removals are as before.
func Reopened(before, after *federation.Snapshot) *federation.Snapshot {
	var back []federation.Object
	for _, r := range Deciding(before, after) {
		old, _ := before.Record(r.Kind(), r.Basic().Name)
		now, there := after.Record(r.Kind(), r.Basic().Name)
		if !there {
			back = append(back, old)
			continue
		}
		c := now.Copy()
		c.Basic().Rollout = old.Basic().Rollout
		if a, is := c.(*federation.Application); is {
			a.Provider = old.(*federation.Application).Provider
		}
		if !bytes.Equal(decides(c), decides(now)) {
			back = append(back, c)
		}
	}
	if len(back) == 0 {
		return after
	}
	return after.With(back...)
}

// Losses are people who entered and would be refused or named otherwise by a change.
type Losses struct {
	Apps          []string
	Shut, Renamed int
	Cast          int      // people who lose a role
	Seen          int      // people in all whose sign-ins were looked at
	Known         int      // people in all whose entry was foreseen
	Unmet         []string // mandatory rules that no known profile meets
	Examples      []string
}

// mostExamples is how many people and applications a finding names.
const mostExamples = 3

// Lose notes somebody who loses entry, as an example, and the application.
func (l *Losses) Lose(example, app string) {
	if len(l.Examples) < mostExamples {
		l.Examples = append(l.Examples, example)
	}
	if !slices.Contains(l.Apps, app) && len(l.Apps) < mostExamples {
		l.Apps = append(l.Apps, app)
	}
}

// Finding is what has to be confirmed before such a change is saved, nil for nothing.
func (l Losses) Finding() *finding.Finding {
	code := finding.NamesChange
	switch {
	case l.Shut > 0 || len(l.Unmet) > 0:
		code = finding.EntryLost
	case l.Cast > 0:
		code = finding.RoleLost
	case l.Renamed == 0:
		return nil
	}
	f := finding.New(code)
	fact := func(label, value string) {
		if value != "" && value != "0" {
			f = f.With(finding.Fact(label, value))
		}
	}
	fact("Application", strings.Join(l.Apps, ", "))
	fact("People who would be refused", strconv.Itoa(l.Shut))
	fact("People who would lose a role", strconv.Itoa(l.Cast))
	fact("People who would get another name", strconv.Itoa(l.Renamed))
	if l.Seen > 0 {
		f = f.With(finding.Passing("Of those seen lately", strconv.Itoa(l.Seen)))
	}
	if l.Known > 0 {
		f = f.With(finding.Passing("Of all who are known", strconv.Itoa(l.Known)))
	}
	for _, rule := range l.Unmet {
		fact("No known profile meets", rule)
	}
	for _, x := range l.Examples {
		fact("For example", x)
	}
	return f
}
