package crossing_test

import (
	"fmt"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
)

// Secrets in an address are found, and shown nowhere, however their names are written.
func TestSecretsInAddresses(t *testing.T) {
	for query, masked := range map[string]string{
		"client_id=a&client_secret=hush&state=s":      "client_id=a&client_secret=(secret)&state=s",
		"client%5Fsecret=hush":                        "client%5Fsecret=(secret)",
		"client_assertion=a.b.c&client_id=b":          "client_assertion=(secret)&client_id=b",
		"password=p&password=q":                       "password=(secret)&password=(secret)",
		"SAMLRequest=x&access_token=%7e&RelayState=a": "SAMLRequest=x&access_token=(secret)&RelayState=a",
		"access_token":                                "access_token",
	} {
		require.NotNil(t, crossing.SecretIn(query, crossing.CallSecrets), query)
		require.Equal(t, masked, crossing.Masked(query))
	}
	for _, query := range []string{"", "client_id=client_secret&state=password%3Dx", "xclient_secret=1", "%zz=1"} {
		require.Nil(t, crossing.SecretIn(query, crossing.CallSecrets), query)
		require.Equal(t, query, crossing.Masked(query))
	}
	require.Equal(t, "code_verifier=(secret)&code=x", crossing.Masked("code_verifier=v&code=x"))
	for _, name := range crossing.CallSecrets {
		escaped := ""
		for _, letter := range []byte(name) {
			escaped += fmt.Sprintf("%%%X", letter)
		}
		require.Equal(t, escaped+"=(secret)", crossing.Masked(escaped+"=x"))
	}
	message := strings.Repeat("PHNhbWw+", 1000) + "=="
	require.Equal(t, message, crossing.Masked(message), "a message that was posted")
}
