package web

import (
	"errors"
	"net/http"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/operators"
	"innergate.example/innergate/internal/store"
)

func init() {
	// huma makes its own errors (validation, unknown fields) through this hook.
	huma.NewError = func(status int, message string, errs ...error) huma.StatusError {
		p := &api.Problem{Type: "about:blank", Title: http.StatusText(status), Status: status, Detail: message}
		for _, err := range errs {
			var d *huma.ErrorDetail
			if errors.As(err, &d) {
				if strings.HasPrefix(d.Message, "expected value to match exactly one schema") { // lists and pairs are such
					d.Message = "give a text; a list may be an array of texts, too, and pairs an object of texts"
				}
				p.Errors = append(p.Errors, api.FieldProblem{Field: strings.TrimPrefix(d.Location, "body."), Message: d.Message})
			} else if err != nil {
				p.Errors = append(p.Errors, api.FieldProblem{Message: err.Error()})
			}
		}
		if len(p.Errors) > 0 {
			p.Title = "What was given does not fit"
			p.Detail = p.Errors[0].Message + "; see the description of the API for this call"
		}
		return p
	}
}

// problem turns an error of the gate into one of the API. Errors that nobody
// outside can mend are logged and not shown.
func (s *server) problem(err error) error {
	if err == nil {
		return nil
	}
	if said := (*api.Problem)(nil); errors.As(err, &said) {
		return said // it is one already
	}
	p := &api.Problem{Type: "about:blank", Status: http.StatusUnprocessableEntity, Title: "What was given does not fit",
		Detail: err.Error()}
	var fe *change.FieldError
	var nf *change.NotFoundError
	var ce *change.ConflictError
	if errors.As(err, &fe) {
		p.Errors = []api.FieldProblem{{Field: fe.Field, Message: err.Error()}}
	}
	if f := finding.Of(err); f != nil {
		p.Finding, p.Title, p.Type = f, f.Title, s.gate.Base()+"/api/v1/findings#"+string(f.Code)
		if f.Code == finding.NameTaken || f.Code == finding.MetadataKnown {
			p.Status = http.StatusConflict
		}
		return p
	}
	switch {
	case fe != nil:
	case errors.As(err, &nf):
		p.Status, p.Title = http.StatusNotFound, "There is no such record"
		if nf.Near == "" && nf.Other == "" {
			p.Detail += "; see the list for the names there are"
		}
	case errors.As(err, &ce):
		p.Status, p.Title = http.StatusConflict, "Something stands in the way"
	case errors.Is(err, operators.ErrDenied):
		p.Status, p.Title = http.StatusUnauthorized, "Not signed in"
	case errors.Is(err, operators.ErrTooManyTries):
		p.Status, p.Title = http.StatusTooManyRequests, "Too many tries"
	case store.IsUnwritable(err):
		s.log.Error("the disk takes no writes", "error", err)
		p.Status, p.Title = http.StatusInsufficientStorage, "The disk of the gate takes no writes"
		p.Detail = "The disk takes no writes, and nothing of this call was stored; make room where the gate keeps its data, " +
			"then call again."
	default:
		s.log.Error("a call failed by our own fault", "error", err)
		p.Status, p.Title, p.Detail = http.StatusInternalServerError, "The gate failed",
			"Look into the gate's log for the time of this answer."
	}
	return p
}
