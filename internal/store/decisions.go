package store

import (
	"context"
	"time"

	"gorm.io/gorm"
)

// DecisionDays is for how many days it is kept how often something decided.
const DecisionDays = 30

// Decided is how often something decided on entry to an application at sign-ins, in the last days, and when last.
type Decided struct {
	Ground, Application string
	Count               int64
	Last                time.Time
}

// decided counts what decided, so many times.
func decided(tx *gorm.DB, app, ground string, times int) error {
	now := tx.NowFunc().UTC()
	return execs(tx, `INSERT INTO decision_rows (ground, application, day, count, last) VALUES (?, ?, ?, ?, ?)
		ON CONFLICT (ground, application, day) DO UPDATE SET count = count + excluded.count, last = excluded.last`,
		ground, app, now.Format(time.DateOnly), times, now)
}

// Decided gives what decided in the last days, of one application or of all. It waits for what has been recorded up to
// now.
func (t *TraceLog) Decided(ctx context.Context, app string) (out []Decided, err error) {
	t.settle(ctx)
	q := t.s.traces.WithContext(ctx).Table("decision_rows").Select("ground, application, SUM(count) AS count, MAX(day) AS day")
	if app != "" {
		q = q.Where("application = ?", app)
	}
	var sums []struct {
		Ground, Application, Day string
		Count                    int64
	}
	since := t.s.traces.NowFunc().UTC().AddDate(0, 0, -DecisionDays).Format(time.DateOnly)
	if err := q.Where("day >= ?", since).Group("ground, application").Scan(&sums).Error; err != nil {
		return nil, err
	}
	for _, s := range sums {
		var last []time.Time
		err := t.s.traces.WithContext(ctx).Table("decision_rows").Where("ground = ? AND application = ? AND day = ?",
			s.Ground, s.Application, s.Day).
			Pluck("last", &last).Error
		if err != nil {
			return nil, err
		}
		if len(last) > 0 {
			out = append(out, Decided{s.Ground, s.Application, s.Count, last[0]})
		}
	}
	return out, nil
}
