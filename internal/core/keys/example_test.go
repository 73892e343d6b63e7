package keys_test

import (
	"crypto/rand"
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/keys"
)

// A pair is made for a name; its private half never prints.
func ExampleGenerateKind() {
	pair, err := keys.GenerateKind("ec-p256", "gate.wrenmoor.example", time.Now(), rand.Reader)
	if err != nil {
		panic(err)
	}
	fmt.Println(pair.Certificate.X509.Subject, pair.Certificate.Describe())
	_, err = keys.GenerateKind("dsa", "gate.wrenmoor.example", time.Now(), rand.Reader)
	fmt.Println(err)
	// Output:
	// CN=gate.wrenmoor.example EC P-256
	// there is no kind of key "dsa"; use one of rsa-2048, rsa-3072, rsa-4096, ec-p256, ec-p384
}
