package web

import (
	"context"
	"encoding/base64"
	"net/http"
	"slices"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/gate/exchange"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/records"
)

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
		out.Key += ", a key alone, fingerprint " + c.Fingerprint()
		return out
	}
	out.SHA256, out.SHA1, out.PEM, out.Findings = c.SHA256(), c.SHA1(), string(c.PEM()), c.Findings(s.gate.Now())
	if c.X509 != nil {
		out.Subject, out.Issuer = c.X509.Subject.String(), c.X509.Issuer.String()
		out.NotBefore, out.NotAfter = c.X509.NotBefore.UTC(), c.X509.NotAfter.UTC()
	}
	return out
}

// trustKeys shows the certificates of a trust key.
func (s *server) trustKeys(text string) (out []api.Certificate) {
	for _, c := range keys.Read([]byte(text)) {
		out = append(out, s.certificate(c, "signing"))
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
	return slices.DeleteFunc(side.Describe(), func(v federation.Value) bool {
		return v.Touches != "" && v.Touches != federation.TouchAlgorithm || v.Value == ""
	})
}

// record shows what records of both kinds have.
func (s *server) record(ctx context.Context, r federation.Record) (api.Record, error) {
	b, side := r.Basic(), r.Part()
	fresh, err := s.gate.Freshness.Of(ctx, string(r.Kind()), string(b.Name))
	var standing api.Standing
	if err == nil {
		standing, err = s.standing(ctx, r)
	}
	told := facts(side)
	if by := side.Can().Copying; by != nil && err == nil {
		var read any
		if read, err = s.gate.Copies.Peek(ctx, r); read != nil {
			told = append(told, by.DescribeCopy(read)...)
		}
	}
	return api.Record{ID: string(b.ID), Name: string(b.Name), Title: b.Title, Protocol: side.Protocol(),
			EntityID: side.Identity(), Source: b.Intake.Source,
			Settings: federation.SettingsOf(r), Lists: federation.ListsOf(r), Endpoints: endpoints(side.Endpoints()),
			Facts:   told,
			Missing: federation.Lacking(side.Missing()), Standing: standing,
			Taken: s.taken(b, fresh), Certificates: s.certificates(side.Keys()), Added: b.Added, Revision: b.Revision,
			Rules: effective(s.gate.Snapshot(), r), Consequence: took(ctx)},
		err
}

func row(r federation.Record) api.Row {
	b, side := r.Basic(), r.Part()
	mapping, set := federation.MappingOf(r)
	return api.Row{Rules: len(mapping.Rules), Set: string(set), Name: string(b.Name), Title: b.Title,
		Protocol: side.Protocol(), EntityID: federation.KnownAs(r),
		Source: b.Intake.Source, Phase: string(b.Phase),
		Missing: federation.Lacking(side.Missing()), Ends: ends(side), Revision: b.Revision}
}

// recordCalls registers what providers and applications have in common: newer
// values, refreshing, changes that wait.
func recordCalls[New, Edit, Shown any](s *server, a huma.API, k kindOf[New, Edit, Shown]) {
	g, kind := s.gate, k.kind
	call(s, a, k.calls.Document, func(ctx context.Context, in *api.Named) (*body[api.Text], error) {
		octets, err := g.Records.Document(ctx, kind, in.Name)
		return &body[api.Text]{api.Text{Document: string(octets)}}, err
	})
	call(s, a, k.calls.Retake, func(ctx context.Context, in *api.SentTo[api.Retake]) (*body[api.Record], error) {
		src, err := source(in.Body.Given)
		if err != nil {
			return nil, err
		}
		if err := g.Records.Retake(ctx, by(ctx), kind, in.Name, in.Body.Revision, src); err != nil {
			return nil, err
		}
		r, err := g.Records.Record(kind, in.Name)
		if err != nil {
			return nil, err
		}
		out, err := s.record(ctx, r)
		return &body[api.Record]{out}, err
	})
	call(s, a, k.calls.Refresh,
		func(ctx context.Context, in *api.Refreshing) (*body[api.Refreshed], error) {
			refresh := g.Exchange.Refresh
			if in.Again {
				refresh = g.Exchange.RefreshAgain
			}
			out, err := refresh(ctx, by(ctx), kind, in.Name)
			return &body[api.Refreshed]{api.Refreshed(out)}, err
		})
	decide := func(apply bool) func(ctx context.Context, in *api.SentTo[api.Decision]) error {
		return func(ctx context.Context, in *api.SentTo[api.Decision]) error {
			return g.Exchange.Decide(ctx, by(ctx), exchange.Decision{Kind: kind, Name: in.Name,
				Digest: in.Body.Digest, Apply: apply})
		}
	}
	act(s, a, k.calls.Approve, decide(true))
	act(s, a, k.calls.Decline, decide(false))
	call(s, a, k.calls.ProposeMapping, func(ctx context.Context, in *api.Named) (*body[api.MappingProposal], error) {
		r, err := g.Records.Record(kind, in.Name)
		if err != nil {
			return nil, err
		}
		got, err := g.Arrivals.Propose(ctx, g.Records.Snapshot(), r)
		if err != nil {
			return nil, err
		}
		return &body[api.MappingProposal]{proposal(got)}, nil
	})
}

func (s *server) providerRow(p *federation.Provider) api.Row { return row(p) }

func (s *server) applicationRow(a *federation.Application) api.Row {
	out := row(a)
	out.Provider, out.Open, out.OwnStart = string(a.Provider), a.Start(&s.gate.Snapshot().Gate), a.OwnStart
	return out
}

// ends is when the first signing certificate or secret ends.
func ends(side federation.Side) (first time.Time) {
	if by := side.Can().Ending; by != nil {
		first = by.Ends().UTC()
	}
	for _, k := range side.Keys() {
		if x := k.Certificate.X509; x != nil && k.Use != "encryption" && (first.IsZero() || x.NotAfter.Before(first)) {
			first = x.NotAfter.UTC()
		}
	}
	return first
}

func (s *server) taken(b *federation.Basics, fresh freshness.State) api.Taken {
	in := b.Intake
	return api.Taken{Document: in.Document, ValidUntil: in.ValidUntil, SignatureMethod: in.SignatureMethod,
		SignedBy: in.SignedBy, Verified: in.Verified, TrustKeys: s.trustKeys(b.TrustKey), OtherRole: in.OtherRole,
		Fresh: api.Fresh(fresh)}
}

func preview(p records.Preview) api.Preview {
	out := api.Preview{Kind: p.Kind, Name: p.Name, Title: p.Title, EntityID: p.EntityID, Existing: p.Existing,
		Known:    p.Known,
		Revision: p.Revision, Document: p.Document, OtherRole: p.OtherRole, Values: p.Values, Differences: p.Differences,
		Missing: p.Missing, Findings: p.Findings, Consequence: consequence(p.Consequence)}
	for _, c := range p.Choices {
		out.Choices = append(out.Choices, api.Choice(c))
	}
	out.Missing = some(out.Missing)
	if out.Findings == nil {
		out.Findings = []*finding.Finding{}
	}
	return out
}

func (s *server) sheet(name string, sh federation.Sheet) api.Sheet {
	out := api.Sheet{Name: name, MetadataAddress: sh.MetadataAddress, Metadata: string(sh.Metadata)}
	for _, v := range sh.Values {
		out.Values = append(out.Values, api.SheetValue(v))
	}
	for _, k := range sh.Keys {
		c := s.certificate(k.Certificate, k.Use)
		c.Next = k.Next
		out.Certificates = append(out.Certificates, c)
	}
	return out
}
