package person

import (
	"innergate.example/innergate/internal/core/federation"
)

// Person is an account known to the gate.
type Person struct {
	ID  int64  `json:"id"`            // 0 for somebody not known yet
	Key string `json:"key,omitempty"` // link key; "" if the provider's name for them does not last
	// Subject is what the application was told before, or is to be told because it
	// knows them by it; "" if it was told nothing lasting.
	Subject string `json:"subject,omitempty"`
	// Bare says that their link was made before the name was kept with it.
	Bare bool `json:"bare,omitempty"`
	// Identifier is random, made with the person, and never shown: what other
	// names are derived from. "" until it is made.
	Identifier string `json:"identifier,omitempty"`
	// Revision grows with each change of them: a sign-in that decides on how they are holds for that one.
	Revision int64 `json:"revision,omitempty"`
	// Disabled says that they are let in no more, until that is taken back.
	Disabled bool `json:"disabled,omitempty"`
	// Values are those that are kept with them.
	Values []KeptValue `json:"values,omitempty"`
	// Members are where they belong.
	Members []Membership `json:"members,omitempty"`
	// Admitted are the applications that they were admitted to by name.
	Admitted []Admitted `json:"admitted,omitempty"`
	// Links are the providers that they are linked to, as far as that was asked.
	Links []federation.ID `json:"links,omitempty"`
	// Linking says that this sign-in links them to its provider.
	Linking bool `json:"linking,omitempty"`
}
