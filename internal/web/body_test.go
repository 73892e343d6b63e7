package web_test

import (
	"bytes"
	"compress/flate"
	"compress/gzip"
	"compress/zlib"
	"encoding/base64"
	"io"
	"net"
	"net/http"
	"net/http/httptest"
	"net/url"
	"runtime"
	"strings"
	"testing"
	"time"

	"github.com/gofiber/fiber/v3"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/traces"
)

// No address unpacks a body, in whatever coding it comes.
func TestNoBodyIsUnpacked(t *testing.T) {
	app, _ := newApp(t)
	pack := func(to func(io.Writer) io.WriteCloser, octets []byte) []byte {
		var b bytes.Buffer
		w := to(&b)
		_, err := w.Write(octets)
		require.NoError(t, err)
		require.NoError(t, w.Close())
		return b.Bytes()
	}
	zip := func(w io.Writer) io.WriteCloser { return gzip.NewWriter(w) }
	once := pack(zip, make([]byte, 8<<20))
	bombs := map[string][]byte{"gzip": once, "gzip, gzip": pack(zip, once), "x-gzip": once, "GZIP": once,
		"identity, gzip": once,
		"deflate":        pack(func(w io.Writer) io.WriteCloser { return zlib.NewWriter(w) }, make([]byte, 8<<20)),
		"raw": pack(func(w io.Writer) io.WriteCloser { f, _ := flate.NewWriter(w, 9); return f },
			make([]byte, 8<<20)),
		// A megabyte of nothing each (RFC 7932; RFC 8878 §3.1.1).
		"br": []byte("\x1b\xff\xff\x0f\x00\x00"), "zstd": []byte("\x28\xb5\x2f\xfd\xa0\x00\x00\x10\x00\x03\x00\x80\x00")}
	tried := 0
	var before, after runtime.MemStats
	runtime.ReadMemStats(&before)
	for _, r := range app.GetRoutes(true) {
		if r.Method == http.MethodGet || r.Method == http.MethodHead || r.Method == http.MethodOptions ||
			r.Method == http.MethodConnect || r.Method == http.MethodTrace {
			continue
		}
		path := strings.NewReplacer(":name", "staff", ":id", "x", ":number", "1", "*", "x").Replace(r.Path)
		for coding, bomb := range bombs {
			req := httptest.NewRequest(r.Method, "https://gate.example"+path, bytes.NewReader(bomb))
			req.Header.Set("Content-Encoding", coding)
			req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
			res, err := app.Test(req, fiber.TestConfig{Timeout: time.Minute})
			require.NoError(t, err)
			require.Equal(t, http.StatusUnsupportedMediaType, res.StatusCode, "%s %s %s", r.Method, path, coding)
			require.True(t, res.Close)
			tried++
		}
	}
	runtime.ReadMemStats(&after)
	require.Greater(t, tried, 300)
	require.Less(t, (after.TotalAlloc-before.TotalAlloc)/uint64(tried), uint64(400<<10))
	res, _ := call(t, app, "POST", "/saml/sp/staff/acs", "SAMLResponse=x", "Content-Encoding", "identity")
	require.Equal(t, http.StatusForbidden, res.StatusCode, "it is a coding that does nothing (RFC 9110 §12.5.3)")
}

// listening serves on loopback, and gives the address.
func listening(t *testing.T, app *fiber.App) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	go func() { _ = app.Listener(ln, fiber.ListenConfig{DisableStartupMessage: true}) }()
	t.Cleanup(func() { _ = app.Shutdown() })
	return ln.Addr().String()
}

// A message of more parts than can be read ends in a finding, as any other does.
func TestTooManyPartsEndInAFinding(t *testing.T) {
	app, g := newApp(t)
	message := base64.StdEncoding.EncodeToString([]byte("<a>" + strings.Repeat(`<b c="d"/>`, 90<<10) + "</a>"))
	res, text := call(t, app, "POST", "/saml/sp/staff/acs", "SAMLResponse="+url.QueryEscape(message))
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	require.Contains(t, text, "Reference number")
	_, counts, err := g.Traces.List(t.Context(), traces.Filter{Search: "xml-too-large", Limit: 1})
	require.NoError(t, err)
	require.EqualValues(t, 1, counts["refused"])
}

// Connections that send a part of a large body, and then hardly anything, keep nobody's
// large message waiting, and are closed.
func TestSlowBodies(t *testing.T) {
	t.Parallel()
	app, _ := newApp(t)
	at := listening(t, app)
	var err error
	slow := make([]net.Conn, 40)
	for i := range slow {
		slow[i], err = net.Dial("tcp", at)
		require.NoError(t, err)
		defer slow[i].Close()
		_, err = io.WriteString(slow[i],
			"POST /saml/sp/staff/acs HTTP/1.1\r\nHost: gate.example\r\nContent-Length: 900000\r\n\r\n"+
				strings.Repeat("x", 20<<10))
		require.NoError(t, err)
	}
	go func() {
		for range 30 {
			time.Sleep(time.Second)
			for _, c := range slow {
				_, _ = c.Write([]byte("x"))
			}
		}
	}()
	time.Sleep(100 * time.Millisecond)
	began := time.Now()
	req, err := http.NewRequest("POST", "http://"+at+"/saml/sp/staff/acs",
		strings.NewReader("SAMLResponse="+strings.Repeat("A", 900<<10)))
	require.NoError(t, err)
	req.Host = "gate.example"
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	_ = res.Body.Close()
	require.Equal(t, http.StatusForbidden, res.StatusCode)
	require.Less(t, time.Since(began), 3*time.Second)
	for _, c := range slow {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
		octets, err := io.ReadAll(c)
		require.NoError(t, err)
		require.Contains(t, string(octets), "408 Request Timeout")
	}
}

// Uploads that stall hold up themselves alone: another list is taken meanwhile.
func TestStalledUploads(t *testing.T) {
	t.Parallel()
	app, g := newApp(t)
	_, secret, err := g.Operators.AddToken(t.Context(), change.By{Who: "test"}, "ci", time.Time{})
	require.NoError(t, err)
	at := listening(t, app)
	const begin = "--x\r\nContent-Disposition: form-data; name=\"settings\"\r\n\r\n{}\r\n" +
		"--x\r\nContent-Disposition: form-data; name=\"document\"; filename=\"a\"\r\n\r\nuserName\r\n"
	head := "POST /api/v1/people/import HTTP/1.1\r\nHost: gate.example\r\nAuthorization: Bearer " + secret +
		"\r\nContent-Type: multipart/form-data; boundary=x\r\nContent-Length: "
	var stalled []net.Conn
	for range 3 {
		c, err := net.Dial("tcp", at)
		require.NoError(t, err)
		defer c.Close()
		_, err = io.WriteString(c, head+"900000\r\n\r\n"+begin+strings.Repeat("ada\r\n", 4<<10))
		require.NoError(t, err)
		stalled = append(stalled, c)
	}
	time.Sleep(100 * time.Millisecond)
	req, err := http.NewRequest("POST", "http://"+at+"/api/v1/people/import",
		strings.NewReader(begin+"ada\r\n--x--\r\n"))
	require.NoError(t, err)
	req.Host = "gate.example"
	req.Header.Set("Content-Type", "multipart/form-data; boundary=x")
	req.Header.Set("Authorization", "Bearer "+secret)
	began := time.Now()
	res, err := http.DefaultClient.Do(req)
	require.NoError(t, err)
	_ = res.Body.Close()
	require.Equal(t, http.StatusAccepted, res.StatusCode)
	require.Less(t, time.Since(began), 3*time.Second)
	for _, c := range stalled {
		require.NoError(t, c.SetReadDeadline(time.Now().Add(20*time.Second)))
		octets, err := io.ReadAll(c)
		require.NoError(t, err)
		require.Contains(t, string(octets), "did not come whole")
	}
}
