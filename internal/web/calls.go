package web

import (
	"context"
	"net/http"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
)

// body wraps what an operation returns.
type body[T any] struct{ Body T }

type named struct {
	Name string `path:"name" maxLength:"200" doc:"Short name"`
}

type listing struct {
	Search string `query:"search" maxLength:"200" doc:"Part of a name, title or entity ID"`
	Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"20000"`
	Offset int    `query:"offset" minimum:"0"`
}

// rows shows a page of a list.
func rows[T, U any](page []T, total int, show func(T) U) *body[api.List[U]] {
	out := &body[api.List[U]]{api.List[U]{Items: []U{}, Total: int64(total)}}
	for _, x := range page {
		out.Body.Items = append(out.Body.Items, show(x))
	}
	return out
}

// op describes an operation.
func op(method, path, id, summary string) huma.Operation {
	o := huma.Operation{Method: method, Path: "/api/v1" + path, OperationID: id, Summary: summary,
		Security: []map[string][]string{{"token": {}}, {"console": {}}}}
	if method == http.MethodDelete {
		o.DefaultStatus = http.StatusNoContent
	}
	if method == http.MethodPost {
		o.DefaultStatus = http.StatusCreated
	}
	if method != http.MethodGet {
		limit := maxRemark
		o.Parameters = []*huma.Param{{Name: "Innergate-Console", In: "header",
			Description: "1, if the call is made by a console session; calls with a token need it not",
			Schema: &huma.Schema{Type: "string",
				Enum: []any{"1"}}}, {Name: "remark", In: "query", Description: "Why: kept with the change in the history",
			Schema: &huma.Schema{Type: "string", MaxLength: &limit}}, {Name: "confirm", In: "query",
			Description: "Digest of a consequence that was looked at, as the finding names-change gives it",
			Schema:      &huma.Schema{Type: "string"}}}
	}
	return o
}

// call registers an operation of the API; an error of the gate becomes a problem that names the
// field, the cause and the way out.
func call[In, Out any](s *server, a huma.API, o huma.Operation, do func(context.Context, *In) (*Out, error)) {
	huma.Register(a, o, func(ctx context.Context, in *In) (*Out, error) {
		out, err := do(ctx, in)
		if err != nil {
			return nil, s.problem(err)
		}
		return out, nil
	})
}

// calls registers all operations of the API.
func (s *server) calls(a huma.API) {
	g := s.gate
	call(s, a, op("GET", "/gate", "show-gate", "What the gate says of itself"),
		func(ctx context.Context, _ *struct{}) (*body[api.About], error) {
			snap := g.Records.Snapshot()
			return &body[api.About]{api.About{Base: g.Base(), Version: s.version, Own: g.Records.About(),
				Protocols: map[string][]string{"provider": g.Records.Protocols(change.KindProvider),
					"application": g.Records.Protocols(change.KindApplication)},
				Providers: len(snap.Providers()), Apps: len(snap.Applications())}}, nil
		})
	call(s, a, op("GET", "/findings", "list-findings", "The catalogue of findings"),
		func(ctx context.Context, _ *struct{}) (*body[[]finding.Entry], error) {
			return &body[[]finding.Entry]{finding.Catalogue()}, nil
		})
	s.providerCalls(a)
	s.applicationCalls(a)
	s.manyCalls(a)
	s.connectionCalls(a)
	s.checkCalls(a)
	s.historyCalls(a)
	s.aggregateCalls(a)
	s.ownerCalls(a)
	s.keyCalls(a)
	s.contextCalls(a)
	s.kindCalls(a)
	s.setCalls(a)
	s.peopleCalls(a)
	s.unitCalls(a)
	s.comparisonCalls(a)
	s.clientCalls(a)
	s.linkCalls(a)
	s.traceCalls(a)
	s.mappingCalls(a)
	s.tokenCalls(a)
}

// looks describes an operation that takes a body and changes nothing.
func looks(path, id, summary string) huma.Operation {
	o := op(http.MethodPost, path, id, summary)
	o.DefaultStatus, o.Parameters = http.StatusOK, o.Parameters[:1]
	return o
}

// does describes an operation on something that is there.
func does(path, id, summary string) huma.Operation {
	o := op(http.MethodPost, path, id, summary)
	o.DefaultStatus = http.StatusOK
	return o
}

// starts describes an operation that begins a job.
func starts(path, id, summary string) huma.Operation {
	o := op(http.MethodPost, path, id, summary)
	o.DefaultStatus = http.StatusAccepted
	return o
}
