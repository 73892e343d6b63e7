package web

import (
	"encoding/json"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
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
	if err := u.ctx.SetReadDeadline(time.Now().Add(15 * time.Minute)); err != nil {
		return nil, err
	}
	form := multipart.NewReader(u.ctx.BodyReader(), params["boundary"])
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
