package web

import (
	"bufio"
	"context"
	"fmt"
	"reflect"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
)

// streamLife is how long one stream of events lasts: below what the server lets an answer take. Whoever listens comes
// again by themselves, and is told all anew.
const streamLife = 50 * time.Second

// beat is how often a stream says that it is still there.
const beat = 10 * time.Second

// listening is what a stream tells: the next event, once there is one. A nil event is none, only a sign of life.
type listening struct {
	next func(ctx context.Context) (event any, err error)
	end  func()
}

// watches registers an operation that answers with server-sent events (HTML §9.2). The source is made for each
// listener.
func watches[In, Event any](s *server, a huma.API, o api.Operation[In, api.Stream[Event]],
	from func(context.Context, *In) (*listening, error)) {
	described := describe(o.Call)
	described.Responses = map[string]*huma.Response{"200": {Description: "Events, each with JSON in its data",
		Content: map[string]*huma.MediaType{"text/event-stream": {Schema: a.OpenAPI().Components.Schemas.Schema(
			reflect.TypeFor[Event](), true, "")}}}}
	huma.Register(a, described, func(ctx context.Context, in *In) (*huma.StreamResponse, error) {
		src, err := from(ctx, in)
		if err != nil {
			return nil, s.problem(err)
		}
		return &huma.StreamResponse{Body: func(hc huma.Context) {
			for within, wraps := hc.(interface{ Unwrap() huma.Context }); wraps; within, wraps = hc.(interface {
				Unwrap() huma.Context
			}) {
				hc = within.Unwrap()
			}
			c := hc.(*humaContext).c
			c.Set("Content-Type", "text/event-stream")
			c.Set("Cache-Control", "no-store")
			c.Set("X-Accel-Buffering", "no")
			_ = c.SendStreamWriter(func(w *bufio.Writer) { s.stream(src, w) })
		}}, nil
	})
}

// stream writes events until the listener has gone, or has to come again.
func (s *server) stream(src *listening, w *bufio.Writer) {
	defer src.end()
	ctx, cancel := context.WithTimeout(context.Background(), streamLife)
	defer cancel()
	if _, err := fmt.Fprint(w, "retry: 1000\n\n"); err != nil || w.Flush() != nil {
		return
	}
	for ctx.Err() == nil {
		wait, done := context.WithTimeout(ctx, beat)
		event, err := src.next(wait)
		done()
		switch {
		case err != nil: // they come again, and are told all anew
			if wait.Err() == nil {
				s.log.Error("a stream of events broke", "error", err)
			}
			return
		case event == nil:
			_, err = fmt.Fprint(w, ": still here\n\n")
		default:
			octets, broken := plainJSON(event)
			if broken != nil {
				s.log.Error("an event cannot be written", "error", broken)
				return
			}
			_, err = fmt.Fprintf(w, "data: %s\n\n", octets)
		}
		if err != nil || w.Flush() != nil {
			return // they have gone
		}
	}
}
