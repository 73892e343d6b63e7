package web

import (
	"context"
	"errors"
	"fmt"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/grants"
	"innergate.example/innergate/internal/gate/outbox"
)

// clientCalls registers what applications with secrets and grants have.
func (s *server) clientCalls(a huma.API) {
	g := s.gate
	call(s, a, api.RotateSecret, func(ctx context.Context, in *api.SentTo[api.Rotation]) (*body[api.Rotated], error) {
		how, err := rotation(in.Body)
		if err != nil {
			return nil, err
		}
		app, err := g.Records.Rotate(ctx, by(ctx), in.Name, in.Body.Revision, how)
		if err != nil {
			return nil, err
		}
		return &body[api.Rotated]{api.Rotated{ClientID: app.Identity(), ClientSecret: app.Shown, Revision: app.Revision}},
			nil
	})
	filter := func(in *api.GrantFilter) grants.Filter {
		return grants.Filter{Person: in.Person, Offset: in.Offset, Limit: in.Limit}
	}
	call(s, a, api.ListGrants,
		func(ctx context.Context, in *api.GrantFilter) (*body[api.List[api.Grant]], error) {
			all, total, err := g.Grants.List(ctx, in.Name, filter(in))
			if err != nil {
				return nil, err
			}
			names, err := namesIn(ctx, s, all, func(x grants.Grant) int64 { return x.Person })
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(x grants.Grant) api.Grant {
				return api.Grant{ID: x.ID, Person: x.Person, Name: names[x.Person], Subject: x.Subject,
					Provider: string(x.Provider),
					Scopes:   some(x.Scopes), Offline: x.Offline, Began: x.Began, Used: x.Used, Ended: x.Ended, Trace: x.Trace}
			}), nil
		})
	call(s, a, api.ListConsents,
		func(ctx context.Context, in *api.GrantFilter) (*body[api.List[api.Consent]], error) {
			all, total, err := g.Grants.Consents(ctx, in.Name, filter(in))
			if err != nil {
				return nil, err
			}
			names, err := namesIn(ctx, s, all, func(x grants.Consent) int64 { return x.Person })
			if err != nil {
				return nil, err
			}
			return rows(all, int(total), func(x grants.Consent) api.Consent {
				return api.Consent{Person: x.Person, Name: names[x.Person], Scopes: x.Scopes, At: x.At}
			}), nil
		})
	call(s, a, api.ListNotices,
		func(ctx context.Context, in *api.NoticeFilter) (*body[api.List[api.Notice]], error) {
			all, err := g.Outbox.List(ctx, in.Limit)
			total, err2 := g.Outbox.Waits(ctx)
			if err = errors.Join(err, err2); err != nil {
				return nil, err
			}
			return rows(all, int(total), func(x outbox.Waiting) api.Notice {
				return api.Notice{Application: string(x.App), Address: x.Address, Tries: x.Tries, Answer: x.Answer, Due: x.Due,
					Until: x.Until}
			}), nil
		})
	call(s, a, api.WithdrawConsent, func(ctx context.Context, in *api.OneConsent) (*body[api.Withdrawn], error) {
		n, err := g.Grants.Withdraw(ctx, by(ctx), in.Name, in.Person)
		return &body[api.Withdrawn]{api.Withdrawn{Ended: n}}, err
	})
}

// usualOverlap is how long a secret of before stays good where nothing is said.
const usualOverlap = 7 * 24 * time.Hour

func rotation(in api.Rotation) (federation.Rotation, error) {
	out := federation.Rotation{Given: strings.TrimSpace(in.ClientSecret), Overlap: usualOverlap, OnlyEnd: in.End}
	for _, f := range []struct {
		field, text string
		to          *time.Duration
	}{{"overlap", in.Overlap, &out.Overlap}, {"life", in.Life, &out.Life}} {
		if f.text == "" {
			continue
		}
		d, ok := days(f.text)
		if !ok {
			return out, change.Field(f.field, fmt.Errorf("%q is no time; give one like 12h or 14d", f.text))
		}
		*f.to = d
	}
	return out, nil
}

// days reads a time like 12h or 14d.
func days(s string) (time.Duration, bool) {
	if n, ok := strings.CutSuffix(s, "d"); ok {
		d, err := strconv.Atoi(n)
		return time.Duration(d) * 24 * time.Hour, err == nil && d >= 0 && d < 10000
	}
	if s == "0" {
		return 0, true
	}
	d, err := time.ParseDuration(s)
	return d, err == nil && d >= 0
}
