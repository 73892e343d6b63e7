package crossing_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// A step that lacks a fact says so; it is taken again with the fact.
func ExampleMatch() {
	p := &federation.Provider{Name: "staff"}
	who := profile.PassThrough(profile.Subject{Value: "ada@wrenmoor.example"}, nil)
	_, _, err := crossing.Match(p, who, nil)
	fmt.Println("needs a person:", crossing.NeedOf(err).Person != "")
	person, reasons, err := crossing.Match(p, who, &crossing.Person{ID: 7})
	fmt.Println(person.ID, reasons[0].Found, err)
	// Output:
	// needs a person: true
	// 7 known <nil>
}
