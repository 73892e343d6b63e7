package web

import (
	"compress/gzip"
	"io"
	"net/http/httptest"
	"strings"
	"testing"
	"testing/fstest"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"
)

// A file comes packed to whoever says that they unpack it, and as it is to everybody else.
func TestAssetsArePacked(t *testing.T) {
	text := strings.Repeat("const gate = 'inner'\n", 200)
	all := &assets{files: fstest.MapFS{"a.js": {Data: []byte(text)}, "a.woff2": {Data: []byte(text)}}}
	app := fiber.New()
	app.Get("/*", func(c fiber.Ctx) error {
		there, err := all.send(c, c.Params("*"))
		if !there {
			return c.SendStatus(fiber.StatusNotFound)
		}
		return err
	})
	for _, c := range []struct {
		name, accepts string
		packed        bool
	}{
		{"a.js", "gzip, deflate, br", true}, {"a.js", "gzip", true}, {"a.js", "", false}, {"a.js", "gzip;q=0", false},
		{"a.js", "br", false}, {"a.js", "identity", false}, {"a.woff2", "gzip", false},
	} {
		req := httptest.NewRequest("GET", "/"+c.name, nil)
		if c.accepts != "" {
			req.Header.Set("Accept-Encoding", c.accepts)
		}
		res, err := app.Test(req)
		require.NoError(t, err)
		require.Contains(t, res.Header.Get("Vary"), "Accept-Encoding", c)
		require.Equal(t, c.packed, res.Header.Get("Content-Encoding") == "gzip", c)
		body := io.Reader(res.Body)
		if c.packed {
			body, err = gzip.NewReader(res.Body)
			require.NoError(t, err)
		}
		octets, err := io.ReadAll(body)
		require.NoError(t, err)
		require.Equal(t, text, string(octets), c)
	}
	res, err := app.Test(httptest.NewRequest("GET", "/none.js", nil))
	require.NoError(t, err)
	require.Equal(t, fiber.StatusNotFound, res.StatusCode)
}
