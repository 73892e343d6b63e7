package web

import (
	"bytes"
	"net/http"
	"strings"

	"github.com/gofiber/fiber/v3"
)

// strict refuses requests that a proxy before the gate could take for other ones
// (RFC 9112 §5.1, §5.2, §6.3, §3.2), and closes the connection: what follows on it
// would be read from a place that only one of the two believes in.
func strict(c fiber.Ctx) error {
	if why := ambiguous(c.Request().Header.RawHeaders()); why != "" {
		c.Response().SetConnectionClose()
		return c.Status(http.StatusBadRequest).SendString("This request can be read in two ways: " + why + ".\n")
	}
	return c.Next()
}

// ambiguous says what of the header lines is, "" if nothing is.
func ambiguous(raw []byte) string {
	counts := map[string]int{}
	for line := range bytes.SplitSeq(bytes.TrimRight(raw, "\r\n"), []byte("\n")) {
		line = bytes.TrimSuffix(line, []byte("\r"))
		name, _, colon := bytes.Cut(line, []byte(":"))
		switch {
		case len(line) > 0 && (line[0] == ' ' || line[0] == '\t'):
			return "a header is folded"
		case len(line) > 0 && (!colon || len(name) == 0 || bytes.ContainsAny(name, " \t\r\x00")):
			return "the name of a header is not followed by a colon at once"
		}
		counts[strings.ToLower(string(name))]++
	}
	switch {
	case counts["host"] > 1:
		return "it has several Host headers"
	case counts["content-length"] > 1 || counts["transfer-encoding"] > 1:
		return "it tells the length of its body several times"
	case counts["content-length"]+counts["transfer-encoding"] > 1:
		return "it has both Content-Length and Transfer-Encoding"
	}
	return ""
}
