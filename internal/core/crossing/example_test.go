package crossing_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/crossing/rpside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// A step that lacks a fact says so; it is taken again with the fact.
func ExampleMatch() {
	p := &federation.Provider{Side: rpside.New(rpside.OpenID)}
	p.Name = "staff"
	who := profile.PassThrough(profile.Subject{Value: "ada@wrenmoor.example"}, nil)
	_, _, need := person.Match(p, who, nil)
	fmt.Println("needs", len(need.Links), "person")
	them, why, _ := person.Match(p, who, map[string]person.Person{need.Links[0]: {ID: 7}})
	fmt.Println(them.ID, why.Text())
	// Output:
	// needs 1 person
	// 7 known
}
