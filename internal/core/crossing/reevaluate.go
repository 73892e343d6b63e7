package crossing

import (
	"cmp"
	"encoding/json"
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
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
	Before, Now Decision
	Who         string // tells people apart, also those who have no account yet
	// Renamed says that the application would be told another name, or that somebody would
	// not be recognised.
	Renamed bool
	// Shut says that somebody who would be let in before would not be now.
	Shut bool
}

// Compare runs a recorded crossing through two configurations, by the functions that a
// sign-in uses.
func Compare(before, after *federation.Snapshot, entries []Entry) (out Compared) {
	out.Verdict = Apart
	var last Decision // of the turns as they are
	refused, another := false, false
	for _, e := range entries {
		if !touched(before, after, e) {
			continue
		}
		if cause := untold(before, after, e); cause != "" {
			return Compared{Verdict: Untold, Cause: cause, Who: whose(before, e, e.Decided)}
		}
		was, is := plain(before, Replay(before, e)), plain(after, Replay(after, e))
		last, out.Who = was, cmp.Or(whose(before, e, was), out.Who)
		refused = refused || is.Result == Refused
		another = another || otherwise(before, after, e)
		switch {
		case !was.Alike(is): // the last turn that differs tells most
			out.Verdict, out.Before, out.Now = Differs, was, is
		case out.Verdict == Apart && decided(was):
			out.Verdict, out.Before, out.Now = Alike, was, is
		}
	}
	if out.Verdict != Differs {
		return out
	}
	was, is := out.Before.Released, out.Now.Released
	if out.Differences = federation.Differences(told(out.Before), told(out.Now)); len(out.Differences) == 0 {
		out.Differences = federation.Differences(append(forms(out.Before), out.Before.Sent...),
			append(forms(out.Now), out.Now.Sent...))
	}
	if out.Renamed = another || was != nil && is != nil && renamed(was.Name, is.Name); another {
		out.Differences = append(out.Differences, federation.Difference{Label: "Recognised by", Before: "what it is now",
			After: "what the rule makes: somebody new to the gate"})
	}
	out.Shut = last.Result == Entered && refused
	return out
}

// plain leaves out of a decision what makes no difference to its application: only where
// scopes narrow what it is told, it matters whether a rule made it.
func plain(snap *federation.Snapshot, d Decision) Decision {
	if a, ok := snap.Application(d.App); d.Released != nil && ok {
		if _, scoped := a.Side.(Consenting); !scoped {
			released := *d.Released
			released.Attributes = slices.Clone(released.Attributes)
			for i := range released.Attributes {
				released.Attributes[i].Ruled = false
			}
			d.Released = &released
		}
	}
	return d
}

// decided reports whether a turn came to somebody's sign-in, or to its refusal.
func decided(d Decision) bool { return d.Released != nil || d.Finding != "" }

// touched reports whether what a turn went by is another now.
func touched(before, after *federation.Snapshot, e Entry) bool {
	other := func(k federation.Kind, n federation.Name) bool {
		a, _ := before.Record(k, n)
		b, _ := after.Record(k, n)
		return a != b
	}
	return other(federation.KindApplication, e.Decided.App) || other(federation.KindProvider, e.Decided.Provider)
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
func whose(snap *federation.Snapshot, e Entry, d Decision) string {
	if p, ok := snap.Provider(d.Provider); ok {
		for _, a := range heard(e) {
			if key := ""; p.Is(a.Provider, a.ProviderID) {
				if key = Recognised(p, a); key != "" {
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
func heard(e Entry) (out []*Answer) {
	if e.Told != nil && e.Told.Answer != nil {
		out = append(out, e.Told.Answer)
	}
	if e.Before.Word != nil {
		out = append(out, e.Before.Word) // while the person was asked something
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
		if theirs(LinkKey(a.ProviderID, a.Subject)) || ok && theirs(Recognised(p, a)) {
			return true
		}
	}
	return false
}

// About reports whether a recorded turn tells anything of a person on record, also as one of
// those among whom somebody else was looked for.
func (in Entry) About(person int64) bool {
	if in.Decided.Person == person || in.Before.Person == person || in.Before.Picked == person {
		return true
	}
	for _, people := range in.Having {
		if slices.ContainsFunc(people, func(p Person) bool { return p.ID == person }) {
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
			Recognised(old, a) != Recognised(now, a) {
			return true
		}
	}
	return false
}

// told is a decision as people compare it.
func told(d Decision) (out []federation.Value) {
	add := func(label, value string) {
		if value != "" {
			out = append(out, federation.Value{Label: label, Value: value})
		}
	}
	add("Comes to", cmp.Or(map[string]string{Entered: "let in", Refused: "refused"}[d.Result], d.Result, d.Comes))
	add("Finding", string(d.Finding))
	if d.Released == nil {
		return out
	}
	add("Name", d.Released.Name.String())
	add("Format", d.Released.Name.Format)
	for _, a := range d.Released.Attributes {
		label := cmp.Or(a.Friendly, a.Name)
		if a.Ruled {
			label += ", whatever scopes say"
		}
		add(label, profile.Joined(a.Values))
	}
	return out
}

// forms are how the attributes of a decision are named, beside their names.
func forms(d Decision) (out []federation.Value) {
	if d.Released == nil {
		return nil
	}
	for _, a := range d.Released.Attributes {
		out = append(out, federation.Value{Label: "NameFormat of " + a.Name, Value: a.Format},
			federation.Value{Label: "FriendlyName of " + a.Name, Value: a.Friendly})
	}
	return out
}

// untold says why it cannot be told what a turn would come to; "" if it can.
func untold(before, after *federation.Snapshot, e Entry) string {
	for _, a := range heard(e) {
		p, ok := after.Provider(a.Provider)
		if !ok {
			continue
		}
		if a.Read != "" && a.Read != p.Mapping().Sources() {
			return "the session had kept only what the rules of then read"
		}
		old, ok := before.Provider(a.Provider)
		if !ok || len(a.Veiled) == 0 {
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

// Renaming is the finding that a change gives people other names at an application.
func Renaming(app string, people, of int, examples []string) *finding.Finding {
	f := finding.New(finding.NamesChange, finding.Fact("Application", app),
		finding.Fact("People who would get another name", strconv.Itoa(people)),
		finding.Passing("Of those seen lately", strconv.Itoa(of)))
	for _, x := range examples {
		f = f.With(finding.Fact("For example", x))
	}
	return f
}

// Naming names the applications at which a change of the configuration may give people
// other names.
func Naming(before, after *federation.Snapshot) (out []federation.Name) {
	rules := map[federation.Name]bool{} // of providers, whether they are others now
	for _, p := range after.Providers() {
		if old, ok := before.Provider(p.Name); ok && old != p {
			rules[p.Name] = !old.Mapping().Alike(p.Mapping())
		}
	}
	for _, a := range after.Applications() {
		old, ok := before.Application(a.Name)
		if !ok {
			continue
		}
		other := old != a && (!old.Mapping().Alike(a.Mapping()) || !sameSettings(old, a))
		for name, is := range rules {
			names := a.Mapping().Names()
			for _, snap := range []*federation.Snapshot{before, after} {
				p, _ := snap.Provider(name)
				names = names || p.Mapping().Names()
			}
			other = other || is && names && (a.Provider == "" || a.Provider == name)
		}
		if other {
			out = append(out, a.Name)
		}
	}
	return out
}

// sameSettings compares what the protocol's part of an application is set to.
func sameSettings(a, b *federation.Application) bool {
	was, errA := json.Marshal(a.Side.Settings())
	is, errB := json.Marshal(b.Side.Settings())
	return errA == nil && errB == nil && string(was) == string(is)
}
