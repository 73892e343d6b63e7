package app

import (
	"bytes"
	"io"
	"net/http"

	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/adaptor"
)

// inside has the service answer a request within its own process, as if it came from this machine.
func inside(app *fiber.App) http.RoundTripper { return within(adaptor.FiberApp(app)) }

type within http.HandlerFunc

// RoundTrip answers a request.
func (h within) RoundTrip(r *http.Request) (*http.Response, error) {
	in := r.Clone(r.Context())
	in.RequestURI, in.RemoteAddr, in.Host = r.URL.RequestURI(), "127.0.0.1:0", r.URL.Host
	w := &written{header: http.Header{}, status: http.StatusOK}
	h(w, in)
	return &http.Response{StatusCode: w.status, Header: w.header, Body: io.NopCloser(&w.body), Request: r, ProtoMajor: 1,
		ProtoMinor: 1}, nil
}

// written is what was answered.
type written struct {
	header http.Header
	status int
	body   bytes.Buffer
}

// Header are those of the answer.
func (w *written) Header() http.Header { return w.header }

// WriteHeader takes the status.
func (w *written) WriteHeader(status int) { w.status = status }

// Write takes octets of the body.
func (w *written) Write(octets []byte) (int, error) { return w.body.Write(octets) }
