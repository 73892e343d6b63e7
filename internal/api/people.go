package api

import (
	"encoding/json"
	"time"
)

// Person is an account of the gate.
type Person struct {
	Number   int64     `json:"number"`
	Added    time.Time `json:"added"`
	Disabled time.Time `json:"disabled,omitzero" doc:"Since when nobody lets them in; absent for one who may come"`
	Links    []Link    `json:"links" doc:"Names by which providers call them"`
}

// PersonShown is an account with what it holds.
type PersonShown struct {
	Person
	Values   []PersonValue `json:"values" doc:"What rules of an intake keep with them"`
	Sessions int64         `json:"sessions"`
	Grants   int64         `json:"grants" doc:"What sign-ins gave applications, as far as it gives something still"`
	Subjects int64         `json:"subjects" doc:"Lasting names at applications"`
	Consents int64         `json:"consents"`
}

// PersonValue is an attribute that is kept with a person.
type PersonValue struct {
	Name   string            `json:"name"`
	Values []json.RawMessage `json:"values"`
	From   LinkProvider      `json:"from" doc:"Provider whose rules kept it"`
	At     time.Time         `json:"at"`
}

// NewPerson is somebody who is known before they come.
type NewPerson struct {
	Provider string `json:"provider" maxLength:"63" doc:"Short name"`
	Subject  string `json:"subject" maxLength:"1024" doc:"The name by which it calls them: NameID or sub, or what its intake makes the subject of"`
	Format   string `json:"format,omitempty" maxLength:"300" doc:"NameID format, as it will come"`
}
