package web

import (
	"context"
	"encoding/json"
	"errors"
	"io"
	"mime"
	"mime/multipart"
	"net/http"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/exchange"
	"innergate.example/innergate/internal/gate/records"
)

// looks describes an operation that takes a body and changes nothing.
func looks(path, id, summary string) huma.Operation {
	o := op(http.MethodPost, path, id, summary)
	o.DefaultStatus, o.Parameters = http.StatusOK, nil
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

// recordCalls registers what providers and applications have in common: newer
// values, refreshing, changes that wait.
func (s *server) recordCalls(a huma.API, kind, path string) {
	g := s.gate
	huma.Register(a, op("GET", path+"/{name}/metadata", "show-"+kind+"-metadata",
		"The document a record was taken in from"), func(ctx context.Context, in *named) (*body[api.Text], error) {
		octets, err := g.Records.Document(ctx, kind, in.Name)
		return &body[api.Text]{api.Text{Document: string(octets)}}, s.problem(err)
	})
	huma.Register(a, op("PUT", path+"/{name}/metadata", "retake-"+kind,
		"Take newer values of the other side into a record"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		Body api.Retake
	}) (*struct{}, error) {
		src, err := source(in.Body.Given)
		if err != nil {
			return nil, err
		}
		return nil, s.problem(g.Records.Retake(ctx, by(ctx), kind, in.Name, in.Body.Revision, src))
	})
	huma.Register(a, does(path+"/{name}/refresh", "refresh-"+kind, "Ask the metadata address now"),
		func(ctx context.Context, in *named) (*body[api.Refreshed], error) {
			out, err := g.Exchange.Refresh(ctx, by(ctx), kind, in.Name)
			return &body[api.Refreshed]{api.Refreshed(out)}, s.problem(err)
		})
	huma.Register(a, does(path+"/{name}/approve", "approve-"+kind, "Apply the change that waits for approval"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Exchange.Approve(ctx, by(ctx), kind, in.Name))
		})
	huma.Register(a, does(path+"/{name}/decline", "decline-"+kind,
		"Drop the change that waits, until the metadata changes again"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Exchange.Decline(ctx, by(ctx), kind, in.Name))
		})
}

// checkCalls registers checks and changes that wait.
func (s *server) checkCalls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/checks", "list-checks", "Findings that can be known without a sign-in"),
		func(ctx context.Context, in *struct {
			Name     []string `query:"name,explode" maxItems:"100" doc:"Short names; none means all"`
			Kind     string   `query:"kind" enum:"provider,application"`
			Severity string   `query:"severity" enum:"error,warning,note" doc:"At least"`
			Reach    bool     `query:"reach" doc:"Ask the addresses as well: whether they answer, and their clocks"`
			All      bool     `query:"all" doc:"Records without findings as well"`
			Limit    int      `query:"limit" minimum:"1" maximum:"20000" default:"200"`
			Offset   int      `query:"offset" minimum:"0"`
		}) (*body[api.CheckList], error) {
			if in.Reach && len(in.Name) == 0 {
				return nil, s.problem(&change.FieldError{Field: "name",
					Err: errors.New("asking addresses takes time; name the records whose addresses are to be asked")})
			}
			all, err := g.Checking.Check(ctx, checking.Filter{Names: in.Name, Kind: in.Kind, Severity: in.Severity,
				Reach: in.Reach, Quiet: !in.All})
			if err != nil {
				return nil, s.problem(err)
			}
			out := &body[api.CheckList]{api.CheckList{Items: []api.Checked{}, Total: int64(len(all)), Counts: map[string]int{}}}
			for i, c := range all {
				for _, f := range c.Findings {
					out.Body.Counts[string(f.Severity)]++
				}
				if i >= in.Offset && len(out.Body.Items) < in.Limit {
					out.Body.Items = append(out.Body.Items, api.Checked(c))
				}
			}
			return out, nil
		})
	huma.Register(a, op("GET", "/waiting", "list-waiting", "Changes that wait for approval, the oldest first"),
		func(ctx context.Context, in *struct {
			Kind string `query:"kind" enum:"provider,application"`
			Name string `query:"name" maxLength:"63"`
		}) (*body[api.List[api.Pending]], error) {
			all, err := g.Exchange.Waiting(ctx, in.Kind, in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(all, len(all), func(p exchange.Pending) api.Pending { return api.Pending(p) }), nil
		})
}

// historyCalls registers the history.
func (s *server) historyCalls(a huma.API) {
	g := s.gate
	type numbered struct {
		ID int64 `path:"id" doc:"Number of the change"`
	}
	huma.Register(a, op("GET", "/history", "list-history", "Changes, the newest first"),
		func(ctx context.Context, in *struct {
			Kind   string `query:"kind" maxLength:"20" doc:"provider, application, aggregate, key, token or owner"`
			Name   string `query:"name" maxLength:"200"`
			Search string `query:"search" maxLength:"200" doc:"Part of a name, of who, what or why"`
			Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
			Before int64  `query:"before" minimum:"0" doc:"Only changes with a lower number; for the next page"`
		}) (*body[api.List[api.Change]], error) {
			all, total, err := g.Records.History(ctx, records.HistoryFilter(*in))
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(all, int(total), func(c records.Change) api.Change { return api.Change(c) }), nil
		})
	huma.Register(a, op("GET", "/history/{id}", "show-change", "One change: before and after"),
		func(ctx context.Context, in *numbered) (*body[api.Revision], error) {
			r, err := g.Records.Revision(ctx, in.ID)
			return &body[api.Revision]{api.Revision{Change: api.Change(r.Change), Values: r.Values, Differences: r.Differences,
				FromNow: r.FromNow}}, s.problem(err)
		})
	huma.Register(a, does("/history/{id}/restore", "restore", "Set a record back to what it was after this change"),
		func(ctx context.Context, in *numbered) (*body[api.TakenEntity], error) {
			kind, name, err := g.Records.Restore(ctx, by(ctx), in.ID)
			return &body[api.TakenEntity]{api.TakenEntity{Kind: kind, Name: name}}, s.problem(err)
		})
	huma.Register(a, op("GET", "/jobs", "list-jobs", "Work in progress, and what ended within the hour"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Job]], error) {
			all := g.Exchange.Jobs()
			return rows(all, len(all), jobShown), nil
		})
	huma.Register(a, op("GET", "/jobs/{name}", "show-job", "How far a job is, and how it ended"),
		func(ctx context.Context, in *named) (*body[api.Job], error) {
			j, err := g.Exchange.Job(in.Name)
			return &body[api.Job]{jobShown(j)}, s.problem(err)
		})
}

// jobShown gives a job as the API shows it.
func jobShown(j exchange.Job) api.Job {
	out := api.Job{ID: j.ID, What: j.What, State: j.State, Done: j.Done, Total: j.Total, Unit: j.Unit, Started: j.Started,
		Ended: j.Ended, Refused: j.Refused, Failure: j.Failure}
	if r := j.Report; r != nil {
		out.Report = &api.Report{Entities: r.Entities, Broken: r.Broken, RefusedN: r.RefusedN,
			Changes: (*api.Changes)(r.Changes)}
		for _, t := range r.Taken {
			out.Report.Taken = append(out.Report.Taken, api.TakenEntity(t))
		}
		for _, f := range r.Refused {
			out.Report.Refused = append(out.Report.Refused, api.Refusal(f))
		}
		for _, f := range r.Records {
			out.Report.Records = append(out.Report.Records, api.Refreshed(f))
		}
	}
	return out
}

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

// aggregateCalls registers aggregates.
func (s *server) aggregateCalls(a huma.API) {
	g := s.gate
	job := func(j exchange.Job, err error) (*body[api.Job], error) {
		return &body[api.Job]{jobShown(j)}, s.problem(err)
	}
	show := func(x exchange.Aggregate) api.Aggregate {
		out := api.Aggregate{Name: x.Name, Settings: api.AggregateSettings(x.Settings), Title: x.Title, Size: x.Size,
			ValidUntil: x.ValidUntil, SignatureMethod: x.SignatureMethod, Verified: x.Verified,
			Entities: x.Entities, Broken: x.Broken, TakenAt: x.Taken, Changes: (*api.Changes)(x.Changes),
			Fresh: api.Fresh(x.Fresh), Findings: x.Findings, Added: x.Added, Revision: x.Revision}
		if out.Title == "" {
			out.Title = x.Named()
		}
		if out.Findings == nil {
			out.Findings = []*finding.Finding{}
		}
		return out
	}
	huma.Register(a, op("GET", "/aggregates", "list-aggregates", "Aggregates by name"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Aggregate]], error) {
			all, err := g.Exchange.Aggregates(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(all, len(all), show), nil
		})
	huma.Register(a, starts("/aggregates", "add-aggregate",
		"Take an aggregate in from its address; a job tells how far it is"),
		func(ctx context.Context, in *struct{ Body api.NewAggregate }) (*body[api.Job], error) {
			return job(g.Exchange.AddAggregate(ctx, by(ctx), in.Body.Name, editions.Settings(in.Body.AggregateSettings), nil))
		})
	huma.Register(a, starts("/aggregates/upload", "upload-aggregate", "Take an aggregate in from a document"),
		func(ctx context.Context, in *upload) (*body[api.Job], error) {
			var n api.NewAggregate
			document, err := in.parts(&n)
			if err != nil {
				return nil, err
			}
			return job(g.Exchange.AddAggregate(ctx, by(ctx), n.Name, editions.Settings(n.AggregateSettings), document))
		})
	huma.Register(a, op("GET", "/aggregates/{name}", "show-aggregate", "One aggregate"),
		func(ctx context.Context, in *named) (*body[api.Aggregate], error) {
			x, err := g.Exchange.Aggregate(ctx, in.Name)
			return &body[api.Aggregate]{show(x)}, s.problem(err)
		})
	huma.Register(a, starts("/aggregates/{name}/upload", "upload-edition",
		"Take the next edition of an aggregate in from a document"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		upload
	}) (*body[api.Job], error) {
		document, err := in.parts(&struct{}{})
		if err != nil {
			return nil, err
		}
		return job(g.Exchange.UploadAggregate(ctx, by(ctx), in.Name, document))
	})
	describeUpload(a, "/aggregates/upload")
	describeUpload(a, "/aggregates/{name}/upload")
	huma.Register(a, starts("/aggregates/{name}/refresh", "refresh-aggregate", "Fetch an aggregate anew"),
		func(ctx context.Context, in *named) (*body[api.Job], error) {
			return job(g.Exchange.RefreshAggregate(ctx, by(ctx), in.Name))
		})
	huma.Register(a, op("GET", "/aggregates/{name}/entities", "list-entities", "Entities of an aggregate"),
		func(ctx context.Context, in *struct {
			Name   string `path:"name" maxLength:"200" doc:"Short name"`
			Search string `query:"search" maxLength:"200" doc:"Part of an entity ID or title"`
			Role   string `query:"role" enum:"provider,application"`
			State  string `query:"state" enum:"usable,broken"`
			Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"100"`
			Offset int    `query:"offset" minimum:"0"`
		}) (*body[api.List[api.Entity]], error) {
			all, total, err := g.Exchange.Entities(ctx, in.Name, editions.Filter{Search: in.Search, Role: in.Role,
				State: in.State, Limit: in.Limit, Offset: in.Offset})
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(all, int(total), func(e exchange.Entity) api.Entity { return api.Entity(e) }), nil
		})
	huma.Register(a, starts("/aggregates/{name}/take", "take-over",
		"Make records of entities; a job tells how far it is, and what was refused"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		Body api.TakeOver
	}) (*body[api.Job], error) {
		b := in.Body
		if len(b.Entities) == 0 && b.Search == "" && !b.All {
			return nil, s.problem(&change.FieldError{Field: "entities",
				Err: errors.New("nothing is chosen; name entities, give a search, or say all")})
		}
		return job(g.Exchange.TakeEntities(ctx, by(ctx), in.Name, exchange.Take{Entities: b.Entities, Names: b.Names,
			Kind: b.Kind, Provider: b.Provider, Filter: editions.Filter{Search: b.Search, State: "usable"}}))
	})
	huma.Register(a, op("PUT", "/aggregates/{name}/settings", "change-aggregate", "Replace the settings of an aggregate"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200" doc:"Short name"`
			Body api.AggregateChange
		}) (*struct{}, error) {
			return nil, s.problem(g.Exchange.ChangeAggregate(ctx, by(ctx), in.Name, in.Body.Revision,
				editions.Settings(in.Body.Settings)))
		})
	huma.Register(a, op("DELETE", "/aggregates/{name}", "remove-aggregate",
		"Remove an aggregate; records taken from it stay"), func(ctx context.Context, in *named) (*struct{}, error) {
		return nil, s.problem(g.Exchange.RemoveAggregate(ctx, by(ctx), in.Name))
	})
}
