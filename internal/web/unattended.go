package web

import (
	"context"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/unattended"
	"innergate.example/innergate/internal/store"
)

// unattendedCalls registers what is about rehearsals that run by themselves.
func (s *server) unattendedCalls(a huma.API) {
	call(s, a, api.DriveRun, func(ctx context.Context, in *api.Named) (*body[api.Run], error) {
		r, err := s.gate.Unattended.Start(ctx, by(ctx), in.Name)
		return &body[api.Run]{run(r)}, err
	})
	call(s, a, api.GivePassword, func(ctx context.Context, in *api.TestPassword) (*body[api.TestAccount], error) {
		account, err := s.gate.Unattended.Password(ctx, by(ctx), in.Name, in.Body.Password)
		return &body[api.TestAccount]{*testAccount(account)}, err
	})
	call(s, a, api.ForgetPassword, func(ctx context.Context, in *api.Named) (*body[api.None], error) {
		return nil, s.gate.Unattended.Forget(ctx, by(ctx), in.Name)
	})
	call(s, a, api.ResumeAccount, func(ctx context.Context, in *api.Named) (*body[api.TestAccount], error) {
		account, err := s.gate.Unattended.Resume(ctx, in.Name)
		return &body[api.TestAccount]{*testAccount(account)}, err
	})
	call(s, a, api.PastRuns, s.pastRuns)
}

func testAccount(a unattended.Account) *api.TestAccount {
	return &api.TestAccount{Provider: string(a.Provider), Username: a.Username, Hosts: a.Hosts, Given: a.Given,
		By: a.Giver, Refused: a.Refused, Finding: a.Finding}
}

// pastRuns are what a chart shows.
func (s *server) pastRuns(ctx context.Context, in *api.PastFilter) (*body[api.List[api.PastRun]], error) {
	if in.Rehearsal != "" {
		if _, _, err := s.gate.Rehearsals.Plan(in.Rehearsal); err != nil {
			return nil, err
		}
	}
	all, err := s.gate.Rehearsals.Past(ctx, in.Rehearsal, time.Duration(in.Days)*24*time.Hour)
	return rows(all, len(all), func(r store.PastRun) api.PastRun {
		return api.PastRun{ID: r.ID, Rehearsal: r.Rehearsal, Ended: r.Ended, State: rehearsal.State(r.State), Took: r.Took,
			Unattended: r.Unattended}
	}), err
}
