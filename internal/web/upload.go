package web

import (
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"os"
	"sync"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
)

// upload is a call whose body is too large to be held: a form with two parts,
// settings in JSON and the document.
type upload struct {
	ctx huma.Context
}

// Resolve keeps the call, so that its body can be read piece by piece.
func (u *upload) Resolve(ctx huma.Context) []error {
	u.ctx = ctx
	return nil
}

// parts reads the settings and gives the document to be read.
func (u *upload) parts(settings any) (io.Reader, error) {
	refuse := func(why string) (io.Reader, error) {
		return nil, &api.Problem{Type: "about:blank", Title: "What was given does not fit",
			Status: http.StatusUnprocessableEntity,
			Detail: why + "; send a form (multipart/form-data) with the parts settings, in JSON, and document, in this order",
			Errors: []api.FieldProblem{{Field: "document", Message: why}}}
	}
	kind, params, err := mime.ParseMediaType(u.ctx.Header("Content-Type"))
	if err != nil || kind != "multipart/form-data" {
		return refuse("the body is no form")
	}
	form := multipart.NewReader(&hurried{from: u.ctx.BodyReader(), began: time.Now(), due: u.ctx.SetReadDeadline},
		params["boundary"])
	part, err := form.NextPart()
	if err == nil && part.FormName() == "settings" && settings != nil {
		if err := json.NewDecoder(io.LimitReader(part, 64<<10)).Decode(settings); err != nil {
			return refuse("the settings are not JSON")
		}
		part, err = form.NextPart()
	}
	if err != nil || part.FormName() != "document" {
		return refuse("the document is missing")
	}
	return part, nil
}

// hurried is a body that is read piece by piece, and ends where it comes too slowly.
type hurried struct {
	from  io.Reader
	began time.Time
	got   int64
	due   func(time.Time) error
}

// Read reads a piece.
func (h *hurried) Read(p []byte) (int, error) {
	if err := h.due(h.began.Add(bodyGrace + time.Duration(h.got)*time.Second/bodyRate)); err != nil {
		return 0, err
	}
	n, err := h.from.Read(p)
	h.got += int64(n)
	return n, err
}

// sending are the lists that are on their way, which are on the disk.
var sending = make(chan struct{}, 16)

// lists is the memory of lists that are there, in octets, until they are done with.
var lists = &pool{left: 320 << 20, freed: make(chan struct{})}

const listWait = 30 * time.Second

// listMemory is what a list takes at most: itself, and what is read out of it.
func listMemory(octets int64) int { return int(octets + min(24*octets, table.MaxHeld)) }

// pool is a bound on what several take together.
type pool struct {
	mu    sync.Mutex
	left  int
	freed chan struct{} // closed whenever something is given back
}

// take waits for room, and reports whether there was any.
func (p *pool) take(n int, most time.Duration) bool {
	over := time.After(most)
	for {
		p.mu.Lock()
		if p.left >= n {
			p.left -= n
			p.mu.Unlock()
			return true
		}
		freed := p.freed
		p.mu.Unlock()
		select {
		case <-freed:
		case <-over:
			return false
		}
	}
}

func (p *pool) give(n int) {
	p.mu.Lock()
	defer p.mu.Unlock()
	p.left += n
	close(p.freed)
	p.freed = make(chan struct{})
}

// whole reads the settings and the document of an upload. While it is on its way it holds
// up nobody: it is in memory once it is there as a whole, until it is released.
func (u *upload) whole(settings any) (document []byte, release func(), err error) {
	select {
	case sending <- struct{}{}:
		defer func() { <-sending }()
	default:
		return nil, nil, change.Conflict("many other lists are being sent", "send this one in a moment")
	}
	spool, err := os.CreateTemp("", "innergate-list-")
	if err != nil {
		return nil, nil, err
	}
	defer spool.Close()
	if err := os.Remove(spool.Name()); err != nil { // it is gone whenever this ends, and however
		return nil, nil, err
	}
	r, err := u.parts(settings)
	if err != nil {
		return nil, nil, err
	}
	n, err := io.Copy(spool, io.LimitReader(r, table.MaxOctets+1))
	switch {
	case err != nil:
		return nil, nil, change.Field("document", fmt.Errorf("it did not come whole: %w", err))
	case n > table.MaxOctets:
		return nil, nil, change.Field("document", fmt.Errorf("it has more than %d octets; give it in parts",
			table.MaxOctets))
	}
	memory := listMemory(n)
	if !lists.take(memory, listWait) {
		return nil, nil, change.Conflict("other lists are worked on", "send this one when they are done")
	}
	release = func() { lists.give(memory) }
	document = make([]byte, n)
	if _, err := spool.ReadAt(document, 0); err != nil && !errors.Is(err, io.EOF) {
		release()
		return nil, nil, err
	}
	return document, release, nil
}

// describeUpload says in the OpenAPI document what an upload's body is; its
// handler reads it by itself.
func describeUpload(a huma.API, path string) {
	a.OpenAPI().Paths["/api/v1"+path].Post.RequestBody = &huma.RequestBody{Required: true,
		Description: "A form with the parts settings (JSON, of a new one) and document",
		Content: map[string]*huma.MediaType{"multipart/form-data": {
			Schema: &huma.Schema{Type: "object", Properties: map[string]*huma.Schema{"settings": {Type: "string",
				Description: "As for adding by address, in JSON"}, "document": {Type: "string", Format: "binary"}},
				Required: []string{"document"}}}}}
}
