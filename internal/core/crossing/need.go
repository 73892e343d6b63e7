package crossing

import (
	"encoding/json"
	"maps"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/person"
)

// Need is something that a step lacks. Each kind of them is a type of its own, declared with what its fact is and
// what of that is recorded; whoever performs knows by the type how it is satisfied. Facts come back with the event
// Learned.
type Need interface {
	// Key names the fact: needs of one key are satisfied by one.
	Key() string
	// Outside reports whether somebody outside is asked: the effects so far are stored before, and the newest
	// configuration applies afterwards.
	Outside() bool
}

// Asks is a need whose fact is an F.
type Asks[F any] interface {
	Need
	Gives(F)
}

// Keeps is a need whose fact is recorded with the turn, as far as it may be: what it gives is found again when the
// turn is run anew.
type Keeps interface{ Keep(fact any) any }

// Lacks is what a turn lacks before it can go on.
type Lacks struct{ Needs []Need }

func (*Lacks) next() {}

// Lack is what a turn lacks: some needs at once.
func Lack(needs ...Need) *Lacks { return &Lacks{needs} }

// Outside reports whether one of the needs reaches outside.
func (l *Lacks) Outside() bool {
	for _, n := range l.Needs {
		if n.Outside() {
			return true
		}
	}
	return false
}

// call is the one that is asked for, nil for none.
func (l *Lacks) call() *Call {
	for _, n := range l.Needs {
		if c, is := n.(*Call); is {
			return c
		}
	}
	return nil
}

// Mails reports whether a code has to be mailed.
func (l *Lacks) Mails() bool {
	for _, n := range l.Needs {
		if _, is := n.(*Mail); is {
			return true
		}
	}
	return false
}

// Facts are what has been looked up, by the keys of the needs.
type Facts struct {
	New     string   // ID for a crossing that begins, and for what is made in this turn; random, no secret
	Session *Session // of the browser
	// Rehearsed is the session of the run that the browser is marked for.
	Rehearsed *Session
	// Identifier is that of somebody who is made in this turn: random, and never shown or recorded.
	Identifier string
	of         map[string]learned
}

// learned is a fact, and what asked for it.
type learned struct {
	need Need
	fact any // of the type that the need gives, or as JSON where a turn is run anew
}

// Put keeps what came of a need: a value of the type that it gives.
func (f *Facts) Put(n Need, fact any) {
	if f.of == nil {
		f.of = map[string]learned{}
	}
	f.of[n.Key()] = learned{n, fact}
}

// With is the facts with one more.
func With[F any](f Facts, n Asks[F], fact F) Facts {
	out := Facts{New: f.New, Session: f.Session, Rehearsed: f.Rehearsed, Identifier: f.Identifier}
	for _, l := range f.of {
		out.Put(l.need, l.fact)
	}
	out.Put(n, fact)
	return out
}

// Fact is what came of a need; known tells whether it was looked up.
func Fact[F any](f Facts, n Asks[F]) (fact F, known bool) {
	l, known := f.of[n.Key()]
	if !known {
		return fact, false
	}
	if octets, raw := l.fact.(json.RawMessage); raw {
		return fact, json.Unmarshal(octets, &fact) == nil
	}
	fact, known = l.fact.(F)
	return fact, known
}

// forget drops facts that are not believed any more.
func (f *Facts) forget(which func(Need) bool) {
	for key, l := range f.of {
		if which(l.need) {
			delete(f.of, key)
		}
	}
}

// Forget drops all that was looked up.
func (f *Facts) Forget() { f.forget(func(Need) bool { return true }) }

// StoredFirst asks for nothing but that what was decided so far is stored, before it goes on.
type StoredFirst struct{}

// Key is one.
func (StoredFirst) Key() string { return "stored" }

// Outside is true: that is what it is for.
func (StoredFirst) Outside() bool { return true }

// Gives true.
func (StoredFirst) Gives(bool) {}

// WhoIs asks who is linked by a name. The fact is that person, with the ID 0 for nobody.
type WhoIs struct {
	Link string
	For  federation.ID // the application whose subject is wanted
}

// Key names the link.
func (n WhoIs) Key() string { return "person " + n.Link }

// Outside is false.
func (WhoIs) Outside() bool { return false }

// Gives a person.
func (WhoIs) Gives(person.Person) {}

// ByNumber asks who somebody on record is, by their number. The fact is that person, with the ID 0 for nobody.
type ByNumber struct {
	Person int64
	For    federation.ID // the application whose subject is wanted
}

// Key names them.
func (n ByNumber) Key() string { return "number " + strconv.FormatInt(n.Person, 10) }

// Outside is false.
func (ByNumber) Outside() bool { return false }

// Gives a person.
func (ByNumber) Gives(person.Person) {}

// People are those that were looked up, by their links.
func (f Facts) People() map[string]person.Person {
	out := map[string]person.Person{}
	for key, l := range f.of {
		if link, is := strings.CutPrefix(key, "person "); is {
			out[link], _ = l.fact.(person.Person)
		}
	}
	return out
}

// Whose adds those that were looked up, by their links.
func (f Facts) Whose(to map[string]person.Person) { maps.Copy(to, f.People()) }

// Granted is a grant with what it rests on.
type Granted struct {
	grant.Grant
	Word  Answer `json:"word"`            // the provider's, of the sign-in
	Run   string `json:"run,omitempty"`   // of the rehearsal that it is of: it ends with that
	Trace string `json:"trace,omitempty"` // reference of the sign-in
}

// WhoHas asks who has a value, proved. The fact is at most MostCandidates of them.
type WhoHas struct {
	person.Sought
	For    federation.ID
	Hinted bool // it is an address that anybody could type: looked up so often, and in a time that tells nothing
}

// Key names the value.
func (n WhoHas) Key() string { return "having " + n.Sought.String() }

// Outside is false.
func (WhoHas) Outside() bool { return false }

// Gives people.
func (WhoHas) Gives([]person.Person) {}

// Having are those who have the values that were looked up, by these.
func (f Facts) Having() map[string][]person.Person {
	out := map[string][]person.Person{}
	for key, l := range f.of {
		if sought, is := strings.CutPrefix(key, "having "); is {
			out[sought], _ = l.fact.([]person.Person)
		}
	}
	return out
}

// lookUp has people looked up, with by what an application knows them.
func lookUp(n *person.Need, app federation.ID) *Lacks {
	out := &Lacks{}
	for _, link := range n.Links {
		out.Needs = append(out.Needs, WhoIs{Link: link, For: app})
	}
	for _, s := range n.Having {
		out.Needs = append(out.Needs, WhoHas{Sought: s, For: app})
	}
	return out
}

// WasUsed asks whether something was used before that counts once.
type WasUsed struct{ Once }

// Key is one: a turn asks of one thing.
func (WasUsed) Key() string { return "used" }

// Outside is false.
func (WasUsed) Outside() bool { return false }

// Gives whether it was.
func (WasUsed) Gives(bool) {}

// TooOften asks whether something was tried too often from this network.
type TooOften struct{ What string }

// Key is one: a turn asks of one thing.
func (TooOften) Key() string { return "tries" }

// Outside is false.
func (TooOften) Outside() bool { return false }

// Gives whether it was.
func (TooOften) Gives(bool) {}

// WhichCrossing asks which crossing is known by one of several names. The fact is its state, nil for none.
type WhichCrossing struct{ Names []string }

// Key is one: a turn asks once.
func (WhichCrossing) Key() string { return "crossing" }

// Outside is false.
func (WhichCrossing) Outside() bool { return false }

// Gives a state.
func (WhichCrossing) Gives(*State) {}

// AgreedBefore asks what somebody agreed to that an application may be told. The fact is the scopes, nil if they
// never did.
type AgreedBefore struct {
	App    federation.ID
	Person int64
}

// Key is one: a turn is about one person and one application.
func (AgreedBefore) Key() string { return "agreed" }

// Outside is false.
func (AgreedBefore) Outside() bool { return false }

// Gives scopes.
func (AgreedBefore) Gives([]string) {}

// Agreed is what somebody agreed to, nil if that was not looked up.
func (f Facts) Agreed() *[]string {
	if scopes, known := Fact(f, AgreedBefore{}); known {
		return &scopes
	}
	return nil
}

// CopyOf asks for the document at an address of the provider, of which a copy is kept.
type CopyOf struct {
	Anew bool // what is kept does not do; it is asked for again, unless that was just now
}

// Copied is such a document as the provider's side read it, nil if there is none, or why not.
type Copied struct {
	Document any
	Fail     *finding.Finding
}

// Key is one: a provider's side relies on one document.
func (CopyOf) Key() string { return "copy" }

// Outside is false: the copy is kept, and asking for it anew changes nothing else.
func (CopyOf) Outside() bool { return false }

// Gives the document.
func (CopyOf) Gives(Copied) {}

// Called is what came of a call.
type Called struct {
	Shown  []byte // what went out, for the trace
	Octets []byte // what came back
	Status int    // with this status of HTTP
	Type   string // and this Content-Type
	Fail   *finding.Finding
}

// Key is one: the newest call.
func (*Call) Key() string { return "call" }

// Outside is true.
func (*Call) Outside() bool { return true }

// Gives what came back.
func (*Call) Gives(Called) {}

// Key is one: the newest message.
func (*Mail) Key() string { return "mail" }

// Outside is true.
func (*Mail) Outside() bool { return true }

// Gives what became of it.
func (*Mail) Gives(Mailed) {}
