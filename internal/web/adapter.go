package web

import (
	"bytes"
	"context"
	"crypto/tls"
	"io"
	"mime/multipart"
	"net/http"
	"net/url"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
)

// adapter lets huma describe and decode what Fiber routes.
type adapter struct{ app *fiber.App }

// Handle registers an operation.
func (a adapter) Handle(op *huma.Operation, handler func(huma.Context)) {
	path := strings.NewReplacer("{", ":", "}", "").Replace(op.Path)
	a.app.Add([]string{op.Method}, path, func(c fiber.Ctx) error {
		handler(&humaContext{op: op, c: c})
		return nil
	})
}

// ServeHTTP is for huma's own tests only.
func (a adapter) ServeHTTP(w http.ResponseWriter, r *http.Request) {
	res, err := a.app.Test(r)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	defer res.Body.Close()
	for name, values := range res.Header {
		w.Header()[name] = values
	}
	w.WriteHeader(res.StatusCode)
	_, _ = io.Copy(w, res.Body)
}

type humaContext struct {
	op     *huma.Operation
	c      fiber.Ctx
	status int
}

func (h *humaContext) Operation() *huma.Operation { return h.op }
func (h *humaContext) Context() context.Context   { return h.c.Context() }
func (h *humaContext) TLS() *tls.ConnectionState  { return h.c.RequestCtx().TLSConnectionState() }
func (h *humaContext) Version() huma.ProtoVersion { return huma.ProtoVersion{Proto: h.c.Protocol()} }
func (h *humaContext) Method() string             { return h.c.Method() }
func (h *humaContext) Host() string               { return h.c.Host() }
func (h *humaContext) RemoteAddr() string         { return h.c.RequestCtx().RemoteAddr().String() }
func (h *humaContext) URL() url.URL {
	u, err := url.Parse(h.c.OriginalURL())
	if err != nil {
		return url.URL{}
	}
	return *u
}

// Param gives a path parameter, decoded and copied.
func (h *humaContext) Param(name string) string {
	s := h.c.Params(name)
	if d, err := url.PathUnescape(s); err == nil {
		s = d
	}
	return strings.Clone(s)
}
func (h *humaContext) Query(name string) string  { return strings.Clone(h.c.Query(name)) }
func (h *humaContext) Header(name string) string { return strings.Clone(h.c.Get(name)) }
func (h *humaContext) EachHeader(cb func(name, value string)) {
	for k, v := range h.c.Request().Header.All() {
		cb(string(k), string(v))
	}
}

// BodyReader reads the body: piece by piece, if it was left on the connection.
func (h *humaContext) BodyReader() io.Reader {
	if h.c.Request().IsBodyStream() {
		return h.c.Request().BodyStream()
	}
	return bytes.NewReader(h.c.Request().Body())
}
func (h *humaContext) GetMultipartForm() (*multipart.Form, error) {
	return h.c.MultipartForm()
}
func (h *humaContext) SetReadDeadline(t time.Time) error {
	return h.c.RequestCtx().Conn().SetReadDeadline(t)
}
func (h *humaContext) SetStatus(code int)              { h.status = code; h.c.Status(code) }
func (h *humaContext) Status() int                     { return h.status }
func (h *humaContext) AppendHeader(name, value string) { h.c.Append(name, value) }
func (h *humaContext) SetHeader(name, value string)    { h.c.Set(name, value) }
func (h *humaContext) BodyWriter() io.Writer           { return h.c.Response().BodyWriter() }
