package web

import (
	"context"
	"errors"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/exchange"
)

// checkCalls registers checks and changes that wait.
func (s *server) checkCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListChecks,
		func(ctx context.Context, in *api.CheckFilter) (*body[api.CheckList], error) {
			if in.Reach && len(in.Names) == 0 {
				return nil, &change.FieldError{Field: "name",
					Err: errors.New("asking addresses takes time; name the records whose addresses are to be asked")}
			}
			all, err := g.Checking.Check(ctx, checking.Filter{Names: in.Names, Kind: in.Kind, Severity: in.Severity,
				Code: in.Code, Side: in.Side, Reach: in.Reach, Quiet: !in.All})
			if err != nil {
				return nil, err
			}
			return &body[api.CheckList]{checkList(all, in.Offset, in.Limit)}, nil
		})
	act(s, a, api.AcknowledgeFindings,
		func(ctx context.Context, in *api.Sent[api.Acknowledge]) error {
			return g.Checking.Acknowledge(ctx, by(ctx), checking.Acknowledge(in.Body))
		})
	act(s, a, api.WithdrawAcknowledgement,
		func(ctx context.Context, in *api.Sent[api.Withdraw]) error {
			return g.Checking.Withdraw(ctx, by(ctx), in.Body.Kind, in.Body.Name, in.Body.Marks)
		})
	call(s, a, api.ListWaiting,
		func(ctx context.Context, in *api.WaitingFilter) (*body[api.List[api.Pending]], error) {
			all, err := g.Exchange.Waiting(ctx, in.Kind, in.Name)
			if err != nil {
				return nil, err
			}
			return rows(all, len(all), func(p exchange.Pending) api.Pending { return api.Pending(p) }), nil
		})
}

// checkList is a page of what was checked, with counts over all of it.
func checkList(all []checking.Checked, offset, limit int) api.CheckList {
	out := api.CheckList{Items: []api.Checked{}, Total: int64(len(all)), Counts: map[string]int{}}
	tally := checks.Tally{}
	for i, c := range all {
		out.Acknowledged += len(c.Acknowledged)
		for _, f := range c.Findings {
			out.Counts[string(f.Severity)]++
		}
		tally.Add(c.Findings)
		if i >= offset && len(out.Items) < limit {
			out.Items = append(out.Items, checked(c))
		}
	}
	out.Codes = codeCounts(tally.Counts())
	return out
}

func codeCounts(all []checks.Count) []api.CodeCount {
	out := []api.CodeCount{}
	for _, n := range all {
		out = append(out, api.CodeCount(n))
	}
	return out
}

func checked(c checking.Checked) api.Checked {
	out := api.Checked{Kind: c.Kind, Name: c.Name, Title: c.Title, Findings: founds(c.Findings)}
	for _, a := range c.Acknowledged {
		out.Acknowledged = append(out.Acknowledged, api.Acknowledged{Found: found(a.Finding), Remark: a.Remark, Who: a.Who,
			At: a.At, Until: a.Until})
	}
	return out
}

func found(f *finding.Finding) api.Found { return api.Found{Finding: *f, Mark: f.Mark()} }

func founds(fs []*finding.Finding) []api.Found {
	out := []api.Found{}
	for _, f := range fs {
		out = append(out, found(f))
	}
	return out
}
