package trace

import (
	"cmp"
	"encoding/json"
	"fmt"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"slices"
	"strconv"
	"strings"
)

// Verdict is what a recorded crossing would come to under another configuration.
type Verdict string

// Verdicts.
const (
	Alike   Verdict = "alike"
	Differs Verdict = "differs"
	Untold  Verdict = "cannot tell" // something that it depends on was not kept
	Apart   Verdict = "apart"       // nothing of it is changed, or nobody's word was heard in it
)

// Compared is a recorded crossing under two configurations.
type Compared struct {
	Verdict     Verdict
	Cause       string // of Untold, in words
	Differences []federation.Difference
	Before, Now crossing.Decision
	Who         string // tells people apart, also those who have no account yet
	Account     int64  // of theirs, 0 if they had none
	// Renamed says that the application would be told another name, or that somebody would
	// not be recognised.
	Renamed bool
	// Shut says that somebody who was let in would be refused.
	Shut bool
	// Held says that somebody who was let in would be asked something before.
	Held bool
	// Let says that somebody who was refused would be let in.
	Let bool
}

// Compare runs a recorded crossing through two configurations, by the functions that a
// sign-in uses.
func Compare(before, after *federation.Snapshot, entries []Entry) (out Compared) {
	out.Verdict = Apart
	entered, another := false, false
	for _, e := range entries {
		if !touched(before, after, e) {
			continue
		}
		out.Account = max(out.Account, e.Decided.Person)
		if cause := untold(before, after, e); cause != "" {
			return Compared{Verdict: Untold, Cause: cause, Who: whose(before, e, e.Decided), Account: out.Account}
		}
		was, is := Replay(before, e), Replay(after, e)
		if was.Comes == crossing.NeedsMore || is.Comes == crossing.NeedsMore {
			return Compared{Verdict: Untold, Cause: "a sign-in would look up people by other values than were looked up then",
				Who: whose(before, e, was), Account: out.Account}
		}
		entered = was.Result == crossing.Entered
		out.Who, out.Account = cmp.Or(whose(before, e, was), out.Who), max(out.Account, was.Person)
		out.Shut = out.Shut || is.Result == crossing.Refused && was.Result != crossing.Refused
		out.Held = out.Held || is.Result == crossing.Waiting && was.Result == crossing.Entered
		out.Let = is.Result == crossing.Entered && was.Result == crossing.Refused
		another = another || otherwise(before, after, e)
		switch {
		case outcomeOf(was) != outcomeOf(is): // the last turn that differs tells most
			out.Verdict, out.Before, out.Now = Differs, was, is
		case out.Verdict == Apart && decided(was):
			out.Verdict, out.Before, out.Now = Alike, was, is
		}
	}
	if out.Shut = out.Shut && entered; out.Verdict != Differs {
		out.Shut, out.Held, out.Let = false, false, false
		return out
	}
	was, is := out.Before.Released, out.Now.Released
	several := places(out.Before, out.Now) > 1
	other := out.Before.Result != out.Now.Result
	out.Differences = federation.Differences(told(out.Before, several, other), told(out.Now, several, other))
	if len(out.Differences) == 0 {
		out.Differences = federation.Differences(append(forms(out.Before), out.Before.Sent...),
			append(forms(out.Now), out.Now.Sent...))
	}
	if out.Renamed = another || was != nil && is != nil && renamed(was.Name, is.Name); another {
		out.Differences = append(out.Differences, federation.Difference{Label: "Recognised by", Before: "the name of before",
			After: "another name: a new person to the gate"})
	}
	return out
}

// outcome is what of a decision makes a difference to the person or the application.
func outcomeOf(c crossing.Decision) string {
	var name *profile.Name
	if c.Released != nil {
		name = &c.Released.Name
	}
	text, _ := json.Marshal(struct { // texts and numbers only
		Comes, Result string
		Finding       finding.Code
		Person        int64
		New           bool
		Name          *profile.Name
		Told          []crossing.Delivered
		Sent          []federation.Value
	}{c.Comes, c.Result, c.Finding, c.Person, c.New, name, c.Told, c.Sent})
	return string(text)
}

// decided reports whether a turn came to somebody's sign-in, or to its refusal.
func decided(d crossing.Decision) bool { return d.Released != nil || d.Finding != "" }

// touched reports whether what a turn went by is another now.
func touched(before, after *federation.Snapshot, e Entry) bool {
	other := func(k federation.Kind, n federation.Name) bool {
		a, _ := before.Record(k, n)
		b, _ := after.Record(k, n)
		return a != b
	}
	return other(federation.KindApplication, e.Decided.App) || other(federation.KindProvider, e.Decided.Provider) ||
		!before.Enters(e.Decided.App, after)
}

// Matched reports whether it was looked for somebody in a recorded turn by the attributes that a
// provider is trusted for, or would be now.
func (in Entry) Matched(before, after *federation.Snapshot) bool {
	if len(in.Having) > 0 {
		return true
	}
	by := func(snap *federation.Snapshot) string {
		if p, ok := snap.Provider(in.Decided.Provider); ok {
			return p.MatchBy.String() + "\x1f" + p.SeveralMatches
		}
		return ""
	}
	return by(before) != by(after)
}

// renamed reports whether a name is another. A name that is made for one answer is always
// another, so it counts only as what it is.
func renamed(a, b profile.Name) bool {
	if a.Kind == profile.Passing && b.Kind == profile.Passing {
		return false
	}
	return a.Value != b.Value || a.For != b.For || a.Derived() != b.Derived()
}

// whose tells people apart: by what they are recognised by, else by their account.
func whose(snap *federation.Snapshot, e Entry, d crossing.Decision) string {
	if p, ok := snap.Provider(d.Provider); ok {
		for _, a := range heard(e) {
			if key := ""; p.Is(a.Provider, a.ProviderID) {
				if key = crossing.Recognised(p, a); key != "" {
					return key
				}
			}
		}
	}
	if d.Person != 0 {
		return strconv.FormatInt(d.Person, 10)
	}
	return ""
}

// heard is what providers said in a turn, or earlier in its session.
func heard(e Entry) (out []*crossing.Answer) {
	if e.Told != nil && e.Told.Answer != nil {
		out = append(out, e.Told.Answer)
	}
	for i := len(e.Before.Legs) - 1; i >= 0; i-- {
		if word := e.Before.Legs[i].Word; word != nil {
			out = append(out, word) // while the person was asked something, or by the provider before
		}
	}
	if e.Session != nil {
		for i := range e.Session.Proofs {
			out = append(out, &e.Session.Proofs[i])
		}
	}
	return out
}

// Of reports whether a recorded turn is about somebody, by what they are recognised by or
// were recognised by when it was recorded.
func (in Entry) Of(snap *federation.Snapshot, theirs func(key string) bool) bool {
	for key := range in.People {
		if theirs(key) {
			return true
		}
	}
	for _, a := range heard(in) {
		p, ok := snap.Provider(a.Provider)
		if theirs(person.LinkKey(a.ProviderID, a.Subject)) || ok && theirs(crossing.Recognised(p, a)) {
			return true
		}
	}
	return false
}

// About reports whether a recorded turn tells anything of a person on record, also as one of
// those among whom somebody else was looked for.
func (in Entry) About(who int64) bool {
	if in.Decided.Person == who || in.Before.Person == who || in.Before.Picked == who {
		return true
	}
	for _, people := range in.Having {
		if slices.ContainsFunc(people, func(p person.Person) bool { return p.ID == who }) {
			return true
		}
	}
	return false
}

// otherwise reports whether somebody would be recognised by something else than before,
// and so would be nobody that the gate knows.
func otherwise(before, after *federation.Snapshot, e Entry) bool {
	for _, a := range heard(e) {
		old, ok := before.Provider(a.Provider)
		now, still := after.Provider(a.Provider)
		if ok && still && old != now && (old.Mapping().Names() || now.Mapping().Names()) &&
			crossing.Recognised(old, a) != crossing.Recognised(now, a) {
			return true
		}
	}
	return false
}

// results are how people read what a turn came to.
var results = map[string]string{crossing.Entered: "let in", crossing.Refused: "refused"}

// pages are how they read what comes next.
var pages = map[string]string{"show choose": "asked which provider to use", "show form": "asked for something first",
	"show agree": "asked to agree first", "challenge": "the browser is asked to prove who it is",
	"leave provider": "sent to the provider"}

// places is in how many places an application is told something by decisions.
func places(all ...crossing.Decision) int {
	seen := map[string]bool{}
	for _, d := range all {
		for _, a := range d.Told {
			seen[a.Place] = true
		}
	}
	return len(seen)
}

// told is a decision as people compare it; placed says that it matters where something is told,
// brief that it is a whole other result.
func told(d crossing.Decision, placed, brief bool) (out []federation.Value) {
	add := func(label, value string) {
		if value != "" {
			out = append(out, federation.Value{Label: label, Value: value})
		}
	}
	add("Result", cmp.Or(results[d.Result], pages[d.Comes], d.Result, d.Comes))
	if d.Finding != "" {
		add("Because", finding.New(d.Finding).Title)
	}
	if brief {
		return out
	}
	if d.Person != 0 {
		add("Person", strconv.FormatInt(d.Person, 10))
	}
	if d.Released == nil {
		return out
	}
	add("Name", d.Released.Name.String())
	add("Format", d.Released.Name.Format)
	for _, a := range d.Told {
		label := cmp.Or(a.Friendly, a.Name)
		if placed {
			label += ", " + a.Place
		}
		add(label, profile.Joined(a.Values))
	}
	return out
}

// forms are how the attributes of a decision are named, beside their names.
func forms(d crossing.Decision) (out []federation.Value) {
	for _, a := range d.Told {
		out = append(out, federation.Value{Label: "NameFormat of " + a.Name, Value: a.Format},
			federation.Value{Label: "FriendlyName of " + a.Name, Value: a.Friendly})
	}
	return out
}

// untold says why it cannot be told what a turn would come to; "" if it can.
func untold(before, after *federation.Snapshot, e Entry) string {
	if _, there := after.Application(e.Decided.App); !there && e.Decided.App != "" {
		return fmt.Sprintf("the application %s is removed", e.Decided.App)
	}
	for _, a := range heard(e) {
		p, ok := after.Provider(a.Provider)
		if !ok || !p.Is(a.Provider, a.ProviderID) {
			return fmt.Sprintf("the provider %s is removed", a.Provider)
		}
		if a.Read != "" && a.Read != p.Mapping().Sources() {
			return "the session had kept only what the rules of then read"
		}
		old, ok := before.Provider(a.Provider)
		if !ok {
			continue
		}
		if inquires(old) != inquires(p) {
			return fmt.Sprintf("the provider %s would be asked for something else: %s", p.Name, inquires(p))
		}
		if len(a.Veiled) == 0 {
			continue
		}
		if slices.Contains(p.Mapping().Makes(a.Veiled), "") {
			return "what people are recognised by was not kept"
		}
		was, _ := before.Application(e.Decided.App)
		is, _ := after.Application(e.Decided.App)
		if names := blind(old, p, was, is, a.Veiled); len(names) > 0 {
			return "the values of " + strings.Join(names, ", ") + " were not kept"
		}
	}
	return ""
}

// inquires is what a provider is asked for by its record.
func inquires(p *federation.Provider) string {
	out := ""
	if side := crossing.Of(p.Side).Inquiring; side != nil {
		out = side.Inquires()
	}
	if p.AskContext != "" {
		out += "; context " + p.AskContext
	}
	return out
}

// blind names the attributes without kept values that rules read otherwise than before.
func blind(oldP, newP *federation.Provider, oldA, newA *federation.Application, veiled []string) (out []string) {
	other := func(old, now profile.Mapping, hidden []string) {
		if old.Alike(now) {
			return
		}
		for _, name := range now.ReadsOtherwise(old, hidden) {
			if !slices.Contains(out, name) {
				out = append(out, name)
			}
		}
	}
	other(oldP.Mapping(), newP.Mapping(), veiled)
	if oldA != nil && newA != nil {
		other(oldA.Mapping(), newA.Mapping(), newP.Mapping().Makes(veiled))
	}
	return out
}
