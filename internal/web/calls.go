package web

import (
	"context"
	"encoding/base64"
	"maps"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/operators"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
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
		o.Parameters = []*huma.Param{{Name: "remark", In: "query", Description: "Why: kept with the change in the history",
			Schema: &huma.Schema{Type: "string", MaxLength: &limit}}}
	}
	return o
}

// calls registers all operations of the API.
func (s *server) calls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/gate", "show-gate", "What the gate says of itself"),
		func(ctx context.Context, _ *struct{}) (*body[api.About], error) {
			snap := g.Records.Snapshot()
			return &body[api.About]{api.About{Base: g.Base(), Version: s.version, Own: g.Records.About(),
				Protocols: map[string][]string{"provider": g.Records.Protocols(change.KindProvider),
					"application": g.Records.Protocols(change.KindApplication)},
				Providers: len(snap.Providers()), Apps: len(snap.Applications())}}, nil
		})
	huma.Register(a, op("GET", "/findings", "list-findings", "The catalogue of findings"),
		func(ctx context.Context, _ *struct{}) (*body[[]finding.Entry], error) {
			return &body[[]finding.Entry]{finding.Catalogue()}, nil
		})
	s.providerCalls(a)
	s.applicationCalls(a)
	s.recordCalls(a, change.KindProvider, "/providers")
	s.recordCalls(a, change.KindApplication, "/applications")
	s.checkCalls(a)
	s.historyCalls(a)
	s.aggregateCalls(a)
	s.ownerCalls(a)
	s.keyCalls(a)
	s.contextCalls(a)
	s.linkCalls(a)

	type filter struct {
		Search      string    `query:"search" maxLength:"200" doc:"Part of a reference, application, provider, person or finding"`
		Result      string    `query:"result" enum:"entered,refused,waiting,left"`
		Application string    `query:"application" maxLength:"200"`
		Provider    string    `query:"provider" maxLength:"200"`
		Limit       int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
		Before      time.Time `query:"before" doc:"Only traces started before this; for the next page"`
	}
	huma.Register(a, op("GET", "/traces", "list-traces", "Traces, newest first"),
		func(ctx context.Context, in *filter) (*body[api.TraceList], error) {
			rows, counts, err := g.Traces.List(ctx, store.TraceFilter(*in))
			if err != nil {
				return nil, s.problem(err)
			}
			out := &body[api.TraceList]{api.TraceList{Items: []api.TraceHead{}, Counts: counts}}
			for _, r := range rows {
				out.Body.Items = append(out.Body.Items, traceHead(r))
			}
			return out, nil
		})
	huma.Register(a, op("GET", "/traces/{name}", "show-trace", "One trace, step by step"),
		func(ctx context.Context, in *named) (*body[api.Trace], error) {
			head, steps, err := g.Traces.Get(ctx, in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			for i := range steps {
				steps[i].Checks, steps[i].Reasons = traces.Prose(steps[i]), nil
			}
			return &body[api.Trace]{api.Trace{TraceHead: traceHead(head), Steps: steps}}, nil
		})

	huma.Register(a, op("GET", "/tokens", "list-tokens", "API tokens"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Token]], error) {
			tokens, err := g.Operators.Tokens(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(tokens, len(tokens),
				func(t operators.Token) api.Token { return api.Token{Name: t.Name, Added: t.Added, By: t.By} }), nil
		})
	huma.Register(a, op("POST", "/tokens", "add-token", "Make an API token; its secret is given once"),
		func(ctx context.Context, in *struct {
			Body struct {
				Name string `json:"name" maxLength:"200"`
			}
		}) (*body[api.Token], error) {
			t, secret, err := g.Operators.AddToken(ctx, by(ctx), in.Body.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return &body[api.Token]{api.Token{Name: t.Name, Added: t.Added, By: t.By, Secret: secret}}, nil
		})
	huma.Register(a, op("DELETE", "/tokens/{name}", "remove-token", "Remove an API token"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Operators.RemoveToken(ctx, by(ctx), in.Name))
		})
}

// keyCalls registers the roll-over of the gate's own keys.
func (s *server) keyCalls(a huma.API) {
	g := s.gate
	list := func(ctx context.Context) (*body[api.List[api.Key]], error) {
		all, err := g.Keys.List(ctx)
		if err != nil {
			return nil, s.problem(err)
		}
		return rows(all, len(all), func(k keyring.Key) api.Key {
			return api.Key{ID: k.ID, Purpose: k.Purpose, State: k.State, Added: k.Added,
				Certificate: s.certificate(k.Certificate, "")}
		}), nil
	}
	type purpose struct {
		Body struct {
			Purpose string `json:"purpose" maxLength:"80" doc:"idp, sp, enc, or app/NAME"`
			Kind    string `json:"kind,omitempty" maxLength:"20" doc:"rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384; of a key to be announced"`
		}
	}
	huma.Register(a, op("GET", "/keys", "list-keys", "The gate's own keys"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Key]], error) {
			return list(ctx)
		})
	huma.Register(a, op("POST", "/keys", "announce-key", "Make the next key for a purpose and announce it in metadata"),
		func(ctx context.Context, in *purpose) (*body[api.List[api.Key]], error) {
			if err := g.Rollover.Announce(ctx, by(ctx), in.Body.Purpose, in.Body.Kind); err != nil {
				return nil, s.problem(err)
			}
			return list(ctx)
		})
	huma.Register(a, op("POST", "/keys/switch", "switch-key", "Make the announced key the current one"),
		func(ctx context.Context, in *purpose) (*body[api.List[api.Key]], error) {
			if err := g.Rollover.Switch(ctx, by(ctx), in.Body.Purpose); err != nil {
				return nil, s.problem(err)
			}
			return list(ctx)
		})
	huma.Register(a, op("DELETE", "/keys/{id}", "remove-key", "Remove a key that is not the current one"),
		func(ctx context.Context, in *struct {
			ID int64 `path:"id"`
		}) (*struct{}, error) {
			return nil, s.problem(g.Rollover.Remove(ctx, by(ctx), in.ID))
		})
}

// contextCalls registers the ranking of authentication contexts.
func (s *server) contextCalls(a huma.API) {
	g := s.gate
	show := func(ctx context.Context) (*body[api.Contexts], error) {
		ranks, revision, err := g.Records.Contexts(ctx)
		return &body[api.Contexts]{api.Contexts{Revision: revision, Ranks: ranks}}, s.problem(err)
	}
	huma.Register(a, op("GET", "/contexts", "show-contexts", "How authentication contexts rank, the weakest first"),
		func(ctx context.Context, _ *struct{}) (*body[api.Contexts], error) {
			return show(ctx)
		})
	huma.Register(a, op("PUT", "/contexts", "change-contexts", "Replace the ranking of authentication contexts"),
		func(ctx context.Context, in *struct{ Body api.Contexts }) (*body[api.Contexts], error) {
			if err := g.Records.ChangeContexts(ctx, by(ctx), in.Body.Revision, in.Body.Ranks); err != nil {
				return nil, s.problem(err)
			}
			return show(ctx)
		})
}

// ownerCalls registers the administration of owners.
func (s *server) ownerCalls(a huma.API) {
	g := s.gate
	type secret struct {
		Password string `json:"password" maxLength:"1024" doc:"At least 12 characters"`
	}
	huma.Register(a, op("GET", "/owners", "list-owners", "Owners: who may sign in to the console"),
		func(ctx context.Context, _ *struct{}) (*body[api.List[api.Owner]], error) {
			owners, err := g.Operators.Owners(ctx)
			if err != nil {
				return nil, s.problem(err)
			}
			return rows(owners, len(owners),
				func(o operators.Owner) api.Owner { return api.Owner{Username: o.Username, Added: o.Added} }), nil
		})
	huma.Register(a, op("POST", "/owners", "add-owner", "Add an owner"), func(ctx context.Context, in *struct {
		Body struct {
			Username string `json:"username" maxLength:"200"`
			Password string `json:"password" maxLength:"1024" doc:"At least 12 characters"`
		}
	}) (*body[api.Owner], error) {
		if err := g.Operators.AddOwner(ctx, by(ctx), in.Body.Username, in.Body.Password); err != nil {
			return nil, s.problem(err)
		}
		return &body[api.Owner]{api.Owner{Username: in.Body.Username, Added: time.Now().UTC()}}, nil
	})
	huma.Register(a, op("PUT", "/owners/{name}/password", "set-password",
		"Give an owner a new password; their console sessions end"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200"`
		Body secret
	}) (*struct{}, error) {
		return nil, s.problem(g.Operators.SetPassword(ctx, by(ctx), in.Name, in.Body.Password))
	})
	huma.Register(a, op("DELETE", "/owners/{name}", "remove-owner", "Remove an owner; the last one stays"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Operators.RemoveOwner(ctx, by(ctx), in.Name))
		})
}

func (s *server) providerCalls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/providers", "list-providers", "Providers by name"),
		func(ctx context.Context, in *listing) (*body[api.List[api.Row]], error) {
			page, total := g.Records.Snapshot().FindProviders(in.Search, in.Offset, in.Limit)
			return rows(page, total, s.providerRow), nil
		})
	given := func(n api.NewProvider) (records.NewProvider, error) {
		src, err := source(n.Given)
		return records.NewProvider{Protocol: n.Protocol, Name: n.Name, Title: n.Title, Source: src,
			AllowUnsolicited: n.AllowUnsolicited, Keeping: n.Keeping(), Draft: n.Draft, Phase: n.Phase}, err
	}
	huma.Register(a, op("POST", "/providers", "add-provider", "Add a provider from its metadata, or from typed values"),
		func(ctx context.Context, in *struct{ Body api.NewProvider }) (*body[api.Provider], error) {
			n, err := given(in.Body)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.AddProvider(ctx, by(ctx), n)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.provider(ctx, p)
		})
	huma.Register(a, looks("/providers/preview", "preview-provider",
		"What adding a provider would set; for a name that is there, what would change"),
		func(ctx context.Context, in *struct{ Body api.NewProvider }) (*body[api.Preview], error) {
			n, err := given(in.Body)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.PreviewProvider(ctx, n)
			return &body[api.Preview]{preview(p)}, s.problem(err)
		})
	huma.Register(a, op("GET", "/providers/{name}", "show-provider", "One provider"),
		func(ctx context.Context, in *named) (*body[api.Provider], error) {
			p, err := g.Records.Provider(in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.provider(ctx, p)
		})
	huma.Register(a, op("GET", "/providers/{name}/exchange", "provider-exchange",
		"What the provider needs from the gate"), func(ctx context.Context, in *named) (*body[api.Sheet], error) {
		p, err := g.Records.Provider(in.Name)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[api.Sheet]{s.sheet(in.Name, p.Side.Sheet(g.Records.Snapshot(), p))}, nil
	})
	huma.Register(a, op("PUT", "/providers/{name}/settings", "change-provider", "Replace the settings of a provider"),
		func(ctx context.Context, in *struct {
			Name string `path:"name" maxLength:"200" doc:"Short name"`
			Body api.ProviderChange
		}) (*body[api.Provider], error) {
			p, err := g.Records.Change(ctx, by(ctx), change.KindProvider, in.Name, in.Body.Revision, in.Body.Settings)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.provider(ctx, p.(*federation.Provider))
		})
	huma.Register(a, op("DELETE", "/providers/{name}", "remove-provider", "Remove a provider"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Records.RemoveProvider(ctx, by(ctx), in.Name))
		})
}

func (s *server) applicationCalls(a huma.API) {
	g := s.gate
	huma.Register(a, op("GET", "/applications", "list-applications", "Applications by name"),
		func(ctx context.Context, in *listing) (*body[api.List[api.Row]], error) {
			page, total := g.Records.Snapshot().FindApplications(in.Search, in.Offset, in.Limit)
			return rows(page, total, s.applicationRow), nil
		})
	given := func(n api.NewApplication) (records.NewApplication, error) {
		src, err := source(n.Given)
		if n.OwnFace {
			n.Settings = maps.Clone(n.Settings)
			if n.Settings == nil {
				n.Settings = federation.Settings{}
			}
			n.Settings["ownFace"] = true
		}
		return records.NewApplication{Protocol: n.Protocol, Name: n.Name, Title: n.Title, Source: src, Provider: n.Provider,
			OwnStart: n.OwnStart, OwnHosts: n.OwnHosts, Settings: n.Settings, Keeping: n.Keeping(), Draft: n.Draft,
			Phase: n.Phase}, err
	}
	huma.Register(a, op("POST", "/applications", "add-application",
		"Add an application from its metadata, or from typed values"),
		func(ctx context.Context, in *struct{ Body api.NewApplication }) (*body[api.Application], error) {
			n, err := given(in.Body)
			if err != nil {
				return nil, err
			}
			app, err := g.Records.AddApplication(ctx, by(ctx), n)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.application(ctx, app)
		})
	huma.Register(a, looks("/applications/preview", "preview-application",
		"What adding an application would set; for a name that is there, what would change"),
		func(ctx context.Context, in *struct{ Body api.NewApplication }) (*body[api.Preview], error) {
			n, err := given(in.Body)
			if err != nil {
				return nil, err
			}
			p, err := g.Records.PreviewApplication(ctx, n)
			return &body[api.Preview]{preview(p)}, s.problem(err)
		})
	huma.Register(a, op("GET", "/applications/{name}", "show-application", "One application"),
		func(ctx context.Context, in *named) (*body[api.Application], error) {
			app, err := g.Records.Application(in.Name)
			if err != nil {
				return nil, s.problem(err)
			}
			return s.application(ctx, app)
		})
	huma.Register(a, op("GET", "/applications/{name}/exchange", "application-exchange",
		"What the application needs from the gate"), func(ctx context.Context, in *named) (*body[api.Sheet], error) {
		app, err := g.Records.Application(in.Name)
		if err != nil {
			return nil, s.problem(err)
		}
		return &body[api.Sheet]{s.sheet(in.Name, app.Side.Sheet(g.Records.Snapshot(), app))}, nil
	})
	huma.Register(a, op("PUT", "/applications/{name}/settings", "change-application",
		"Replace the settings of an application"), func(ctx context.Context, in *struct {
		Name string `path:"name" maxLength:"200" doc:"Short name"`
		Body api.ApplicationChange
	}) (*body[api.Application], error) {
		app, err := g.Records.Change(ctx, by(ctx), change.KindApplication, in.Name, in.Body.Revision, in.Body.Settings)
		if err != nil {
			return nil, s.problem(err)
		}
		return s.application(ctx, app.(*federation.Application))
	})
	huma.Register(a, op("DELETE", "/applications/{name}", "remove-application", "Remove an application"),
		func(ctx context.Context, in *named) (*struct{}, error) {
			return nil, s.problem(g.Records.RemoveApplication(ctx, by(ctx), in.Name))
		})
}

func source(n api.Given) (records.Source, error) {
	src := records.Source{Address: n.Address, Typed: n.Typed, Record: n.Record, Aggregate: n.Aggregate,
		EntityID: n.Entity, Expect: n.Expect}
	if n.Metadata != "" {
		src.Document = []byte(n.Metadata)
	}
	if n.MetadataBase64 != "" {
		octets, err := base64.StdEncoding.DecodeString(n.MetadataBase64)
		if err != nil {
			return src, &api.Problem{Type: "about:blank", Title: "What was given does not fit",
				Status: http.StatusUnprocessableEntity,
				Detail: "metadataBase64 is not base64; send the document in base64 of RFC 4648 §4",
				Errors: []api.FieldProblem{{Field: "metadataBase64", Message: "not base64"}}}
		}
		src.Document = octets
	}
	return src, nil
}

func (s *server) certificate(c keys.Certificate, use string) api.Certificate {
	out := api.Certificate{Use: use, Key: c.Describe()}
	if c.DER == nil {
		return out
	}
	out.SHA256, out.SHA1, out.PEM, out.Findings = c.SHA256(), c.SHA1(), string(c.PEM()), c.Findings(time.Now())
	if c.X509 != nil {
		out.Subject, out.Issuer = c.X509.Subject.String(), c.X509.Issuer.String()
		out.NotBefore, out.NotAfter = c.X509.NotBefore.UTC(), c.X509.NotAfter.UTC()
	}
	return out
}

func (s *server) certificates(ks []federation.Key) []api.Certificate {
	out := []api.Certificate{}
	for _, k := range ks {
		out = append(out, s.certificate(k.Certificate, k.Use))
	}
	return out
}

func endpoints(es []federation.Endpoint) []api.Endpoint {
	out := []api.Endpoint{}
	for _, e := range es {
		out = append(out, api.Endpoint(e))
	}
	return out
}

// facts are what is known of the other side beside identity, addresses and keys.
func facts(side federation.Side) []federation.Value {
	return slices.DeleteFunc(side.Describe(), func(v federation.Value) bool { return v.Touches != "" || v.Value == "" })
}

// record shows what records of both kinds have.
func (s *server) record(ctx context.Context, r federation.Record) (api.Record, error) {
	b, side := r.Basic(), r.Part()
	fresh, err := s.gate.Freshness.Of(ctx, string(r.Kind()), string(b.Name))
	return api.Record{ID: string(b.ID), Name: string(b.Name), Title: b.Title, Protocol: side.Protocol(),
			EntityID: side.Identity(), Source: b.Intake.Source,
			Settings: federation.SettingsOf(r), Endpoints: endpoints(side.Endpoints()), Facts: facts(side),
			Missing: federation.Lacking(side.Missing()),
			Taken:   taken(b.Intake, fresh), Certificates: s.certificates(side.Keys()), Added: b.Added, Revision: b.Revision},
		s.problem(err)
}

func (s *server) provider(ctx context.Context, p *federation.Provider) (*body[api.Provider], error) {
	r, err := s.record(ctx, p)
	return &body[api.Provider]{api.Provider{Record: r}}, err
}

func (s *server) application(ctx context.Context, a *federation.Application) (*body[api.Application], error) {
	r, err := s.record(ctx, a)
	return &body[api.Application]{api.Application{Record: r, Provider: string(a.Provider),
		Open: s.gate.Base() + "/open/" + string(a.Name), OwnStart: a.OwnStart}}, err
}

func row(r federation.Record) api.Row {
	b, side := r.Basic(), r.Part()
	return api.Row{Name: string(b.Name), Title: b.Title, Protocol: side.Protocol(), EntityID: federation.KnownAs(r),
		Source: b.Intake.Source, Phase: string(b.Phase),
		Missing: federation.Lacking(side.Missing()), Ends: ends(side.Keys()), Revision: b.Revision}
}

func (s *server) providerRow(p *federation.Provider) api.Row { return row(p) }

func (s *server) applicationRow(a *federation.Application) api.Row {
	out := row(a)
	out.Provider, out.Open, out.OwnStart = string(a.Provider), s.gate.Base()+"/open/"+string(a.Name), a.OwnStart
	return out
}

// ends is when the first signing certificate ends.
func ends(ks []federation.Key) (first time.Time) {
	for _, k := range ks {
		if x := k.Certificate.X509; x != nil && k.Use != "encryption" && (first.IsZero() || x.NotAfter.Before(first)) {
			first = x.NotAfter.UTC()
		}
	}
	return first
}

func taken(in federation.Intake, fresh freshness.State) api.Taken {
	return api.Taken{Document: in.Document, ValidUntil: in.ValidUntil, SignatureMethod: in.SignatureMethod,
		Verified: in.Verified, OtherRole: in.OtherRole, Fresh: api.Fresh(fresh)}
}

func preview(p records.Preview) api.Preview {
	out := api.Preview(p)
	out.Missing = some(out.Missing)
	if out.Findings == nil {
		out.Findings = []*finding.Finding{}
	}
	return out
}

func some(s []string) []string {
	if s == nil {
		return []string{}
	}
	return s
}

func (s *server) sheet(name string, sh federation.Sheet) api.Sheet {
	out := api.Sheet{Name: name, MetadataAddress: sh.MetadataAddress, Metadata: string(sh.Metadata)}
	for _, v := range sh.Values {
		out.Values = append(out.Values, api.SheetValue(v))
	}
	for _, c := range sh.Certificates {
		out.Certificates = append(out.Certificates, s.certificate(c, "signing"))
	}
	return out
}

func traceHead(r store.TraceHead) api.TraceHead {
	return api.TraceHead{ID: r.ID, Started: r.Started, StartedBy: r.StartedBy, Application: r.Application,
		Provider: r.Provider,
		Person:   r.Person, Result: r.Result, Finding: r.Finding, Milliseconds: r.Millis}
}
