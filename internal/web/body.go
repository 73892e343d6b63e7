package web

import (
	"bytes"
	"errors"
	"io"
	"net"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/core/xmlsec"
)

// How slowly a body may come.
const (
	bodyGrace = 5 * time.Second
	bodyRate  = 16 << 10 // octets per second, after that

	mostBegin = 64 << 10 // octets, which most bodies do not go over
)

// uploads reports whether an address takes documents that are read piece by piece.
func uploads(path string) bool {
	rest, ours := strings.CutPrefix(path, "/api/v1/")
	return ours && (strings.HasPrefix(rest, "aggregates/") && strings.HasSuffix(rest, "/upload") ||
		rest == "people/import" ||
		strings.HasPrefix(rest, "applications/") && slices.ContainsFunc([]string{"/comparisons", "/admissions/list",
			"/simulations/list"},
			func(end string) bool { return strings.HasSuffix(rest, end) }))
}

// coded refuses bodies in a content coding (RFC 9110 §8.4, §15.5.16): what they grow to
// is known only after they were unpacked.
func coded(c fiber.Ctx) error {
	for _, line := range c.Request().Header.PeekAll("Content-Encoding") {
		if strings.EqualFold(strings.TrimSpace(string(line)), "identity") {
			continue
		}
		c.Set("Accept-Encoding", "identity")
		c.Response().SetConnectionClose()
		return fiber.ErrUnsupportedMediaType
	}
	return c.Next()
}

// bound reads bodies whole, up to the limits; only uploads are left on the
// connection, for their handlers to read piece by piece.
func (s *server) bound(c fiber.Ctx) error {
	defer s.release(c)
	if !c.Request().IsBodyStream() {
		return c.Next()
	}
	if uploads(c.Path()) {
		return s.passUpload(c)
	}
	octets, err := s.read(c)
	if err != nil && !errors.Is(err, fiber.ErrRequestEntityTooLarge) {
		c.Response().SetConnectionClose() // nobody knows where the next request begins
		return err
	}
	if err != nil {
		// Whoever is still sending sees no answer, so what is left is read, within
		// bounds, and thrown away.
		c.Response().SetConnectionClose()
		_, err := io.CopyN(io.Discard, c.Request().BodyStream(), maxDiscard)
		if err != nil && !errors.Is(err, io.EOF) || strings.HasPrefix(c.Path(), "/api/") {
			return fiber.ErrRequestEntityTooLarge
		}
		c.Locals(tooLargeKey, true)
		octets = nil
	}
	grows := growth
	if strings.HasPrefix(c.Path(), "/api/") {
		grows = growthOfJSON
	}
	if n := grows(octets); n > small {
		if err := s.take(c, reading, n); err != nil {
			return err
		}
	}
	c.Request().SetBody(octets)
	return c.Next()
}

// passUpload leaves a body to its handler. What that left of it must not be taken for
// the next request: operators get their answer after all was read, others are read no
// further than elsewhere.
func (s *server) passUpload(c fiber.Ctx) error {
	err := c.Next()
	left := int64(maxBody)
	if status := c.Response().StatusCode(); status != http.StatusUnauthorized && status != http.StatusForbidden {
		left = xmlsec.AggregateLimits.Octets
	}
	n, copyErr := io.Copy(io.Discard, io.LimitReader(c.Request().BodyStream(), left))
	if n == left || copyErr != nil {
		c.Response().SetConnectionClose()
	}
	return err
}

// read takes a body from the connection, unless it is too large. It is counted as it comes:
// a little is not, then its beginning is, and only what comes fast enough takes room for the
// rest; one that comes slowly ends.
func (s *server) read(c fiber.Ctx) ([]byte, error) {
	var out bytes.Buffer
	declared := c.Request().Header.ContentLength()
	if declared < 0 || declared > maxBody {
		declared = maxBody + 1
	}
	began := time.Now()
	for _, step := range []struct{ upTo, budget int }{{uncounted, -1}, {mostBegin, begins}, {maxBody + 1, bodies}} {
		if step.budget >= 0 {
			waited := time.Now()
			// Twice, because a buffer grows by copying.
			if err := s.take(c, step.budget, 2*(min(declared, step.upTo)-out.Len())); err != nil {
				return nil, err
			}
			began = began.Add(time.Since(waited))
		}
		if step.budget != bodies { // what is large takes room as it comes: anybody can declare it
			out.Grow(max(0, min(declared, step.upTo)-out.Len()) + 2*bytes.MinRead) // and what finding its end takes
		}
		whole, err := s.readTo(c, &out, step.upTo, began)
		if err != nil {
			return nil, err
		}
		if whole {
			return out.Bytes(), nil
		}
	}
	return nil, fiber.ErrRequestEntityTooLarge
}

// readTo reads up to a number of octets, and tells whether that was all.
func (s *server) readTo(c fiber.Ctx, out *bytes.Buffer, upTo int, began time.Time) (bool, error) {
	const piece = 16 << 10
	for out.Len() < upTo {
		due := began.Add(bodyGrace + time.Duration(out.Len())*time.Second/bodyRate)
		if err := c.RequestCtx().Conn().SetReadDeadline(due); err != nil {
			return false, fiber.ErrBadRequest
		}
		_, err := io.CopyN(out, c.Request().BodyStream(), int64(min(piece, upTo-out.Len())))
		var slow net.Error
		switch {
		case errors.Is(err, io.EOF):
			return true, nil
		case errors.As(err, &slow) && slow.Timeout():
			return false, fiber.ErrRequestTimeout
		case err != nil:
			return false, fiber.ErrBadRequest
		}
	}
	return c.Request().Header.ContentLength() == out.Len(), nil
}

// Body is the body of a request: read whole, and in no coding.
func (s *Site) Body(c fiber.Ctx) []byte { return c.Request().Body() }
