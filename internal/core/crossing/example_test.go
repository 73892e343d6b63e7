package crossing_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// A step that lacks a fact says so; it is taken again with the fact.
func ExampleMatch() {
	p := &federation.Provider{Side: rpside.New(rpside.OpenID)}
	p.Name = "staff"
	who := profile.PassThrough(profile.Subject{Value: "ada@wrenmoor.example"}, nil)
	_, _, need := crossing.Match(p, "crew-roster", who, nil)
	fmt.Println("needs", len(need.People), "person")
	person, why, _ := crossing.Match(p, "crew-roster", who, map[string]crossing.Person{need.People[0]: {ID: 7}})
	fmt.Println(person.ID, why.Text())
	// Output:
	// needs 1 person
	// 7 known
}
