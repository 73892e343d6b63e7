package e2e

import (
	"io"
	"net"
	"net/http"
	"regexp"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// What a proxy before the gate could read in another way is refused, and nothing
// that follows on the connection is read.
func TestAmbiguousRequestsAreRefused(t *testing.T) {
	host := strings.TrimPrefix(shared.Base, "http://")
	next := "GET /healthz HTTP/1.1\r\nHost: " + host + "\r\nConnection: close\r\n\r\n"
	post := func(headers, body string) string {
		return "POST /saml/idp/sso HTTP/1.1\r\nHost: " + host + "\r\n" + headers + "\r\n\r\n" + body
	}
	for rule, c := range map[string]struct {
		sent   string
		passes bool
	}{
		"a plain one":               {post("Content-Length: 5", "hello"), true},
		"chunks":                    {post("Transfer-Encoding: chunked", "5\r\nhello\r\n0\r\n\r\n"), true},
		"a space before the colon":  {post("Content-Length : 5", "hello"), false},
		"both lengths":              {post("Content-Length: 5\r\nTransfer-Encoding: chunked", "0\r\n\r\n"), false},
		"both, the other way round": {post("Transfer-Encoding: chunked\r\nContent-Length: 5", "0\r\n\r\n"), false},
		"two lengths":               {post("Content-Length: 5\r\nContent-Length: 6", "hello"), false},
		"the length twice":          {post("Content-Length: 5\r\nContent-Length: 5", "hello"), false},
		"a signed length":           {post("Content-Length: +5", "hello"), false},
		"codings in two lines": {post("Transfer-Encoding: chunked\r\nTransfer-Encoding: identity", "0\r\n\r\n"),
			false},
		"a coding that is none": {post("Transfer-Encoding: xchunked", "0\r\n\r\n"), false},
		"a chunk with 0x":       {post("Transfer-Encoding: chunked", "0x5\r\nhello\r\n0\r\n\r\n"), false},
		"an end with 0x":        {post("Transfer-Encoding: chunked", "0x0\r\n\r\n"), false},
		"a size with a letter":  {post("Transfer-Encoding: chunked", "3x\r\nabc\r\n0\r\n\r\n"), false},
		"two sizes":             {post("Transfer-Encoding: chunked", "3,3\r\nabc\r\n0\r\n\r\n"), false},
		"a packed body":         {post("Content-Encoding: gzip\r\nContent-Length: 5", "hello"), false},
		"a signed chunk":        {post("Transfer-Encoding: chunked", "+5\r\nhello\r\n0\r\n\r\n"), false},
		"a chunk longer than there is": {post("Transfer-Encoding: chunked", "ffffffffffffffff5\r\nhello\r\n0\r\n\r\n"),
			false},
		"chunks whose lines end in LF": {post("Transfer-Encoding: chunked", "5\nhello\n0\n\n"), false},
		"two hosts":                    {"GET /open/x HTTP/1.1\r\nHost: " + host + "\r\nHost: evil.example\r\n\r\n", false},
		"a folded header":              {"GET /open/x HTTP/1.1\r\nHost: " + host + "\r\nX: a\r\n b\r\n\r\n", false},
		"a carriage return in a header": {"GET /open/x HTTP/1.1\r\nHost: " + host + "\r\nX: a\rContent-Length: 5\r\n\r\n",
			false},
		"a header without a colon":   {"GET /open/x HTTP/1.1\r\nHost: " + host + "\r\nX\r\n\r\n", false},
		"an address at another host": {"GET http://evil.example/open/x HTTP/1.1\r\nHost: " + host + "\r\n\r\n", false},
	} {
		t.Run(rule, func(t *testing.T) {
			conn, err := net.Dial("tcp", host)
			require.NoError(t, err)
			defer conn.Close()
			require.NoError(t, conn.SetDeadline(time.Now().Add(5*time.Second)))
			_, err = conn.Write([]byte(c.sent + next))
			require.NoError(t, err)
			octets, _ := io.ReadAll(conn)
			codes := regexp.MustCompile(`HTTP/1\.1 (\d+)`).FindAllStringSubmatch(string(octets), -1)
			require.NotEmpty(t, codes)
			if c.passes {
				require.Len(t, codes, 2)
				require.Equal(t, "200", codes[1][1])
				return
			}
			require.Contains(t, []string{"400", "415", "421"}, codes[0][1])
			if rule != "an address at another host" {
				require.Len(t, codes, 1, "%s", octets)
			}
		})
	}
}

// Secrets in an address are refused, and no trace has them.
func TestSecretsInAddressesAreRefused(t *testing.T) {
	for _, path := range []string{"/oidc/op/authorize?client_id=possession-planner&client%5Fsecret=hush-in-address",
		"/oidc/op/authorize?client_id=possession-planner&access_token=hush-in-address",
		"/oidc/op/logout?password=hush-in-address",
		"/oidc/op/logout?client_id=possession-planner&client_assertion=hush-in-address"} {
		res, err := http.Get(shared.Base + path)
		require.NoError(t, err)
		octets, err := io.ReadAll(res.Body)
		require.NoError(t, err)
		require.NoError(t, res.Body.Close())
		require.GreaterOrEqual(t, res.StatusCode, 400, path)
		require.NotContains(t, string(octets), "hush-in-address", path)
	}
	out, _, code := shared.cli(t, "", "trace", "list", "--output", "json")
	require.Zero(t, code)
	require.NotContains(t, out, "hush-in-address")
	for _, ref := range regexp.MustCompile(`"reference": "([^"]+)"`).FindAllStringSubmatch(out, 8) {
		shown, _, code := shared.cli(t, "", "trace", "show", ref[1], "--output", "json")
		require.Zero(t, code)
		require.NotContains(t, shown, "hush-in-address")
	}
}
