package app

import (
	"io"
	"net"
	"strings"
	"testing"
	"testing/iotest"

	"github.com/stretchr/testify/require"
)

type readConn struct {
	net.Conn
	io.Reader
}

func (r readConn) Read(p []byte) (int, error) { return r.Reader.Read(p) }

// What can be read in one way only passes as it came, in pieces of any size; of the rest
// nothing passes from the size of a chunk on.
func TestChunksAreReadInOneWay(t *testing.T) {
	const get = "GET / HTTP/1.1\r\nHost: h\r\n\r\n"
	head := "POST / HTTP/1.1\r\nHost: h\r\nTransfer-Encoding: chunked\r\n\r\n"
	for rule, c := range map[string]struct {
		good, bad string
	}{
		"no bodies":    {get + "\r\n" + get, ""},
		"a length":     {"POST / HTTP/1.1\r\nContent-Length: 7\r\n\r\n0x1\r\n\r\n" + get, ""},
		"chunks":       {head + "5\r\n0x1\r\n\r\n00A\r\n1234567890\r\n0\r\n\r\n" + get, ""},
		"an extension": {head + "5;a=b\r\nhello\r\n0 ; c=\"d\"\r\n\r\n" + get, ""},
		"a trailer":    {head + "0\r\nX: 3,3\r\n\r\n" + get + head + "0\r\n\r\n", ""},
		"a long header": {"GET / HTTP/1.1\r\nX: " + strings.Repeat("transfer-encoding: chunked ", 30) +
			"\r\n\r\n" + get, ""},
		"0x0":                       {head, "0x0\r\n\r\n" + get},
		"3x":                        {head + "3\r\nabc\r\n", "3x\r\nabc\r\n0\r\n\r\n"},
		"3,3":                       {head, "3,3\r\nabc\r\n0\r\n\r\n"},
		"a sign":                    {head, "+5\r\nhello\r\n0\r\n\r\n"},
		"two numbers":               {head, "5 5\r\nhello\r\n0\r\n\r\n"},
		"no number":                 {head, "\r\n\r\n"},
		"an extension of no number": {head, ";a=b\r\n\r\n"},
		"more digits than fit":      {head, strings.Repeat("0", 16) + "5\r\nhello\r\n"},
		"after a request":           {get + head, "0x0\r\n\r\n"},
	} {
		for pieces, reader := range map[string]io.Reader{"at once": strings.NewReader(c.good + c.bad),
			"octet by octet": iotest.OneByteReader(strings.NewReader(c.good + c.bad))} {
			w := &watchedConn{Conn: readConn{Reader: reader}}
			octets, err := io.ReadAll(w)
			if c.bad == "" {
				require.NoError(t, err, "%s %s", rule, pieces)
				require.Equal(t, c.good, string(octets), "%s %s", rule, pieces)
				continue
			}
			require.Equal(t, errChunk, err, "%s %s", rule, pieces)
			require.True(t, strings.HasPrefix(string(octets), c.good), "%s %s", rule, pieces)
			require.Less(t, len(octets), len(c.good)+17, "%s %s", rule, pieces)
			require.NotContains(t, string(octets[len(c.good):]), "\n", "%s %s", rule, pieces)
		}
	}
}
