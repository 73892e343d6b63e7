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
	call(s, a, op("GET", "/checks", "list-checks", "Findings that can be known without a sign-in"),
		func(ctx context.Context, in *struct {
			Name     []string `query:"name,explode" maxItems:"100" doc:"Short names; none means all"`
			Kind     string   `query:"kind" enum:"provider,application,aggregate,gate"`
			Severity string   `query:"severity" enum:"error,warning,note" doc:"At least"`
			Code     string   `query:"code" maxLength:"100" doc:"Only findings with this code"`
			Side     string   `query:"side" enum:"provider,application,gate,browser,sender" doc:"Only findings on which this side must act"`
			Reach    bool     `query:"reach" doc:"Ask the addresses as well: whether they answer, and their clocks"`
			All      bool     `query:"all" doc:"Those without findings as well"`
			Limit    int      `query:"limit" minimum:"1" maximum:"20000" default:"200"`
			Offset   int      `query:"offset" minimum:"0"`
		}) (*body[api.CheckList], error) {
			if in.Reach && len(in.Name) == 0 {
				return nil, &change.FieldError{Field: "name",
					Err: errors.New("asking addresses takes time; name the records whose addresses are to be asked")}
			}
			all, err := g.Checking.Check(ctx, checking.Filter{Names: in.Name, Kind: in.Kind, Severity: in.Severity,
				Code: in.Code, Side: in.Side, Reach: in.Reach, Quiet: !in.All})
			if err != nil {
				return nil, err
			}
			return &body[api.CheckList]{checkList(all, in.Offset, in.Limit)}, nil
		})
	call(s, a, does("/checks/acknowledge", "acknowledge",
		"Have findings count no more until a date, with a remark why"),
		func(ctx context.Context, in *struct{ Body api.Acknowledge }) (*struct{}, error) {
			return nil, g.Checking.Acknowledge(ctx, by(ctx), checking.Acknowledge(in.Body))
		})
	call(s, a, does("/checks/withdraw", "withdraw-acknowledgement", "Have acknowledged findings count again"),
		func(ctx context.Context, in *struct{ Body api.Withdraw }) (*struct{}, error) {
			return nil, g.Checking.Withdraw(ctx, by(ctx), in.Body.Kind, in.Body.Name, in.Body.Marks)
		})
	call(s, a, op("GET", "/waiting", "list-waiting", "Changes that wait for approval, the oldest first"),
		func(ctx context.Context, in *struct {
			Kind string `query:"kind" enum:"provider,application"`
			Name string `query:"name" maxLength:"63"`
		}) (*body[api.List[api.Pending]], error) {
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
