// Package phases knows how far records are used: how a pilot goes, what is in the way of going live, and who is told
// of a change that waits.
package phases

import (
	"context"
	"fmt"
	"log/slog"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Parts are what the room works with.
type Parts struct {
	Store     *store.Store
	Log       *slog.Logger
	Now       func() time.Time
	Records   *records.Room
	Traces    *traces.Room
	Checking  *checking.Room
	Comparing *comparing.Room
	Mailer    *mailing.Room
	// Rehearsed says what rehearsals leave open of an application: that it was never proved, or before the last change.
	Rehearsed func(ctx context.Context, app federation.Name) ([]string, error)
}

// Room knows how far records are used.
type Room struct{ Parts }

// New makes the room.
func New(p Parts) *Room { return &Room{p} }

// Standing is how far one record is used.
type Standing struct {
	Record federation.Record
	traces.Figures
	InTheWay []Obstacle // of going live
	Told     []string   // addresses that hear of a change that waits; none also where no mail can be sent
}

// Obstacle is something that is in the way of going live.
type Obstacle struct {
	What     string
	Code     finding.Code // of a finding, "" for what is none
	Severity finding.Severity
}

// Of tells how far a record is used.
func (rm *Room) Of(ctx context.Context, kind, name string) (out Standing, err error) {
	if out.Record, err = rm.Records.Record(kind, name); err != nil {
		return out, err
	}
	if out.Figures, err = rm.Traces.Rollout(ctx, rm.Records.Snapshot(), out.Record); err != nil {
		return out, err
	}
	if rm.Mailer.Able() {
		owners, contacts := out.Record.Basic().Told()
		out.Told = slices.Concat(owners, contacts)
	}
	out.InTheWay, err = rm.inTheWay(ctx, out)
	return out, err
}

// inTheWay gathers what speaks against going live: findings of the checks, accounts of the application that nobody
// fits, people whose newest sign-in was refused, and what rehearsals leave open.
func (rm *Room) inTheWay(ctx context.Context, s Standing) (out []Obstacle, err error) {
	if s.Phase == federation.Live || s.Phase == federation.Retired {
		return nil, nil
	}
	checked, err := rm.Checking.Check(ctx, checking.Filter{Names: []string{change.NameOf(s.Record)},
		Kind:     change.KindOf(s.Record),
		Severity: string(finding.Warning)})
	if err != nil {
		return nil, err
	}
	for _, c := range checked {
		for _, f := range c.Findings {
			out = append(out, Obstacle{f.Title, f.Code, f.Severity})
		}
	}
	if s.Refused > 0 {
		out = append(out, Obstacle{What: fmt.Sprintf("%s of the cohort refused at last", people(s.Refused)),
			Severity: finding.Error})
	}
	latest, err := rm.Comparing.Latest(ctx)
	if fits, there := latest[s.Record.Basic().Name]; err == nil && there &&
		s.Record.Kind() == federation.KindApplication && fits.Fit < fits.Of {
		out = append(out, Obstacle{What: fmt.Sprintf("%d of the application's %d accounts fit nobody exactly, as compared on %s",
			fits.Of-fits.Fit, fits.Of, fits.At.UTC().Format(time.DateOnly)), Severity: finding.Warning})
	}
	if s.Record.Kind() == federation.KindApplication && err == nil {
		var open []string
		open, err = rm.Rehearsed(ctx, s.Record.Basic().Name)
		for _, says := range open {
			out = append(out, Obstacle{What: says, Severity: finding.Warning})
		}
	}
	if s.Phase == federation.Pilot && s.Cohort > 0 && s.Tried == 0 {
		out = append(out, Obstacle{What: "nobody of the cohort has tried yet", Severity: finding.Warning})
	}
	return out, err
}

func people(n int) string {
	if n == 1 {
		return "1 person"
	}
	return fmt.Sprintf("%d people", n)
}
