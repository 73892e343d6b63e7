package xmlsec_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"os"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Signing, verifying, and what an alteration comes to.
func Example() {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		panic(err)
	}
	el := xmlsec.New("p", "urn:example", "person").Set("ID", "_1").Add(xmlsec.New("p", "urn:example",
		"name").AddText("ada"))
	if err := xmlsec.Sign(el, 0, key, nil); err != nil {
		panic(err)
	}
	octets := el.Octets()
	for _, name := range []string{"ada", "eve"} {
		altered := []byte(string(octets))
		copy(altered[len(altered)-len("ada</p:name></p:person>"):], name)
		doc, err := xmlsec.Parse(altered, xmlsec.MessageLimits)
		if err != nil {
			panic(err)
		}
		v, err := xmlsec.Verify(doc.Root, []crypto.PublicKey{key.Public()}, xmlsec.Policy{})
		if err != nil {
			fmt.Println(name, finding.Of(err).Code)
			continue
		}
		value, _ := v.Element().Child("urn:example", "name").Value()
		fmt.Println(value, "verified")
	}
	// Output:
	// ada verified
	// eve signature-altered
}

// The canonical form sorts, expands and normalises.
func ExampleElement_Canonical() {
	doc, err := xmlsec.Parse([]byte("<a xmlns:unused='urn:u' z='1'\n y=\"2\"><b/>&#65;<![CDATA[<]]></a>"),
		xmlsec.MessageLimits)
	if err != nil {
		panic(err)
	}
	if err := doc.Root.Canonical(os.Stdout, xmlsec.Exclusive, nil); err != nil {
		panic(err)
	}
	// Output: <a y="2" z="1"><b></b>A&lt;</a>
}
