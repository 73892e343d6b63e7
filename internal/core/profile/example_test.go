package profile_test

import (
	"fmt"

	"innergate.example/innergate/internal/core/profile"
)

// What the provider said is what the application hears.
func ExamplePassThrough() {
	p := profile.PassThrough(profile.Subject{Value: "ada@wrenmoor.example"},
		[]profile.Attribute{{Name: "groups", Values: profile.Texts("drivers", "controllers")}})
	name, _ := p.Name(profile.Wanted{Kind: profile.Given}, "")
	fmt.Println(name, p.Attributes[0].Values)
	// Output: ada@wrenmoor.example [drivers controllers]
}
