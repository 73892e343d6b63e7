package federation

// Abilities are what a side of a protocol can do beside what every side does. What is nil it cannot. The tag
// says it for people.
type Abilities struct {
	Making     Making     `does:"the gate makes up what the other side does not bring, such as a client ID and its secret"`
	Locating   Locating   `does:"its document is found by what was typed, such as an issuer"`
	Registered Registered `does:"it has values that no document of the other side brings"`
	Keyed      Keyed      `does:"two records may have the same identity, if they differ in something else"`
	Lasting    Lasting    `does:"its identity is never used again for another record"`
	Presenting Presenting `does:"its document says how the other side presents itself to people"`
	Redacting  Redacting  `does:"its document may hold what must not be kept"`
	Cautious   Cautious   `does:"some changes of its document wait for approval, whatever the record says"`
	Copying    Copying    `does:"it relies on a document at an address, such as keys, of which a copy is kept fresh"`
	Confiding  Confiding  `does:"it is given secrets that only calls of the gate need"`
	Ending     Ending     `does:"something beside certificates ends, such as a secret"`
	Rotating   Rotating   `does:"it has secrets that follow one another"`
	Needing    Needing    `does:"it needs keys of the gate that are made when they are first needed"`
	Verifying  Verifying  `does:"its document may say that it verifies signatures by keys of elliptic curves"`
	Speaking   Speaking   `does:"its own name stands in tokens beside the names of people"`
	Requesting Requesting `does:"it says what it wants to be told"`
	Offering   Offering   `does:"it can be told what it will say before anybody signs in"`
	Formatting Formatting `does:"it names people in several formats"`
	Trying     Trying     `does:"it can be tried without a person"`
	Opening    Opening    `does:"the gate can open it only under conditions"`
	Landing    Landing    `does:"it can be told where in it somebody lands who starts at the gate"`
	Unattended Unattended `does:"nobody may sign in to some of its kind"`
}
