package crossing

import "innergate.example/innergate/internal/core/federation"

// Ability is something that a side of a protocol can do beside what every side does.
type Ability struct {
	Name string // what sides that have it say of themselves
	Does string // for people
	of   func(side any) bool
}

// Of reports whether a side has the ability.
func (a Ability) Of(side any) bool { return a.of(side) }

func able[T any](name, does string) Ability {
	return Ability{name, does, func(side any) bool { _, ok := side.(T); return ok }}
}

// Abilities are all that there are. A protocol says of each side which it has (Protocol.Can), so
// that one that is missing by a slip of the pen is noticed.
var Abilities = []Ability{
	able[federation.Making]("making", "the gate makes up what the other side does not bring, such as a client ID and its secret"),
	able[federation.Locating]("locating", "its document is found by what was typed, such as an issuer"),
	able[federation.Registered]("registered", "it has values that no document of the other side brings"),
	able[federation.Keyed]("keyed", "two records may have the same identity, if they differ in something else"),
	able[federation.Lasting]("lasting", "its identity is never used again for another record"),
	able[federation.Presenting]("presenting", "its document says how the other side presents itself to people"),
	able[federation.Redacting]("redacting", "its document may hold what must not be kept"),
	able[federation.Cautious]("cautious", "some changes of its document wait for approval, whatever the record says"),
	able[federation.Copying]("copying", "it relies on a document at an address, such as keys, of which a copy is kept fresh"),
	able[federation.Confiding]("confiding", "it is given secrets that only calls of the gate need"),
	able[federation.Ending]("ending", "something beside certificates ends, such as a secret"),
	able[federation.Rotating]("rotating", "it has secrets that follow one another"),
	able[federation.Needing]("needing", "it needs keys of the gate that are made when they are first needed"),
	able[federation.Speaking]("speaking", "its own name stands in tokens beside the names of people"),
	able[federation.Requesting]("requesting", "it says what it wants to be told"),
	able[federation.Offering]("offering", "it can be told what it will say before anybody signs in"),
	able[federation.Formatting]("formatting", "it names people in several formats"),
	able[federation.Trying]("trying", "it can be tried without a person"),
	able[federation.Opening]("opening", "the gate can open it only under conditions"),
	able[federation.Unattended]("unattended", "nobody may sign in to some of its kind"),
	able[Unproved]("unproved", "a pasted message of it can be read, for trials"),
	able[Inquiring]("inquiring", "its record says what it is asked for beside a sign-in"),
	able[Consenting]("consenting", "people are asked whether it may be told"),
	able[Hearing]("hearing", "it hears when a session has ended"),
	able[Parting]("parting", "a session there can be ended by sending the person"),
	able[Reasking]("reasking", "it can tell again of somebody without a browser"),
	able[Starting]("starting", "it starts sign-ins itself when somebody opens it at the gate"),
}
