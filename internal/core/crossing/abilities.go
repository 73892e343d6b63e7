package crossing

import (
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// Abilities are what a side can do in a crossing beside what every side does. What is nil it cannot. The tag
// says it for people.
type Abilities struct {
	Unproved   Unproved   `does:"a pasted message of it can be read, for trials"`
	Inquiring  Inquiring  `does:"its record says what it is asked for beside a sign-in"`
	Consenting Consenting `does:"people are asked whether it may be told"`
	Hearing    Hearing    `does:"it hears when a session has ended"`
	Parting    Parting    `does:"a session there can be ended by sending the person"`
	Reasking   Reasking   `does:"it can tell again of somebody without a browser"`
	Starting   Starting   `does:"it starts sign-ins itself when somebody opens it at the gate"`
	Plain      Plain      `does:"it opens without a sign-in where nothing is said of who may enter"`
	Covering   Covering   `does:"values in its messages can be covered in traces"`
}

// Covering finds the values in messages of its protocol that traces are not to keep.
type Covering interface {
	// Cover covers them in a message; false if it is none of the protocol's.
	Cover(message string, by Cover) (string, bool)
}

// Cover says what is kept of values, and what is shown in place of others.
type Cover interface {
	Keeps(name string) profile.Detail             // what is kept of an attribute or claim, whichever way it goes
	Text(text string, how profile.Detail) string  // a value
	JSON(octets []byte) (covered []byte, ok bool) // members of objects; ok tells whether something of it is covered
}

// Plain is an address alone, that nobody needs to sign in for.
type Plain interface {
	// Address is where the browser is sent.
	Address() string
}

// Crossing is what sides of both kinds have in a crossing.
type Crossing interface {
	// InCrossing says what the side can do there.
	InCrossing() Abilities
}

// Of says what a side can do in a crossing.
func Of(side federation.Side) Abilities { return side.(Crossing).InCrossing() }
