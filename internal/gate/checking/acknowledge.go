package checking

import (
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Acknowledged is a finding that somebody knows of, until a date.
type Acknowledged struct {
	Finding *finding.Finding
	Remark  string
	Who     string
	At      time.Time
	Until   time.Time
}

// Acknowledge is the wish to have findings known of, as they were looked at.
type Acknowledge struct {
	Kind, Name string
	Marks      []string  // of the findings
	Remark     string    // why they may stand; not empty
	Until      time.Time // after that they count again
}

// longestAcknowledged is how long a finding can be known of before somebody looks
// at it again.
const longestAcknowledged = 2 * 366 * 24 * time.Hour

// acknowledged gives those that still hold, by object and mark.
func (rm *Room) acknowledged(ctx context.Context) (map[string]Acknowledged, error) {
	var rows []store.AcknowledgedRow
	err := rm.Store.Read.WithContext(ctx).Where("until > ?", rm.Now().UTC()).Find(&rows).Error
	out := map[string]Acknowledged{}
	for _, r := range rows {
		out[r.Object+" "+r.Mark] = Acknowledged{Remark: r.Remark, Who: r.Who, At: r.At, Until: r.Until}
	}
	return out, err
}

// Acknowledge notes that findings are known of. They stay findings, and count no
// more until the date. What is acknowledged is what was looked at: a finding that
// is not there, or says something else by now, is refused.
func (rm *Room) Acknowledge(ctx context.Context, by change.By, a Acknowledge) error {
	switch now := rm.Now(); {
	case a.Remark == "":
		return change.Field("remark", errors.New("say why the finding may stand; who reads it later wants to know"))
	case len([]rune(a.Remark)) > 1000:
		return change.Field("remark", errors.New("the remark is longer than 1000 characters; say it shorter"))
	case !a.Until.After(now):
		return change.Field("until", errors.New("the date is past; give one on which somebody should look at it again"))
	case a.Until.Sub(now) > longestAcknowledged:
		return change.Field("until",
			errors.New("the date is more than two years away; give a nearer one, nothing is forgotten on it"))
	case len(a.Marks) == 0:
		return change.Field("marks", errors.New("no finding is named; give the marks of those that were looked at"))
	}
	if err := federation.CheckText(a.Remark, true); err != nil {
		return change.Field("remark", err)
	}
	s, found, err := rm.one(ctx, a.Kind, a.Name)
	if err != nil {
		return err
	}
	var rows []store.AcknowledgedRow
	for _, m := range a.Marks {
		at := slices.IndexFunc(found, func(f *finding.Finding) bool { return f.Mark() == m })
		if at < 0 {
			return change.Conflict(fmt.Sprintf("the %s %q has no finding with the mark %q, or it says something else by now",
				a.Kind, a.Name, m), "look at its findings again, and acknowledge those")
		}
		rows = append(rows, store.AcknowledgedRow{Object: s.object, Mark: m, Code: string(found[at].Code), Remark: a.Remark,
			Who: by.Who, At: rm.Now().UTC(), Until: a.Until.UTC()})
	}
	by.Why = a.Remark
	return rm.Store.Write(ctx, func(tx *gorm.DB) error {
		for _, r := range rows {
			if err := tx.Save(&r).Error; err != nil {
				return err
			}
			what := fmt.Sprintf("acknowledged %s until %s", r.Code, a.Until.UTC().Format(time.DateOnly))
			if err := rm.note(tx, by, s, what); err != nil {
				return err
			}
		}
		return nil
	})
}

// Withdraw has acknowledged findings count again.
func (rm *Room) Withdraw(ctx context.Context, by change.By, kind, name string, marks []string) error {
	s, _, err := rm.one(ctx, kind, name)
	if err != nil {
		return err
	}
	return rm.Store.Write(ctx, func(tx *gorm.DB) error {
		done := tx.Where("object = ? AND mark IN ?", s.object, marks).Delete(&store.AcknowledgedRow{})
		if done.Error != nil {
			return done.Error
		}
		if done.RowsAffected == 0 {
			return change.Conflict(fmt.Sprintf("nothing of the %s %q is acknowledged under these marks", kind, name),
				"see its findings; what is acknowledged stands beside them")
		}
		return rm.note(tx, by, s, "withdrew an acknowledgement")
	})
}

// one gives one subject and all its findings.
func (rm *Room) one(ctx context.Context, kind, name string) (subject, []*finding.Finding, error) {
	all, err := rm.subjects(ctx, true)
	if err == nil {
		all, err = chosen(all, Filter{Names: []string{name}, Kind: kind})
	}
	if err != nil {
		return subject{}, nil, err
	}
	state, err := rm.state(ctx, []string{name})
	return all[0], slices.Concat(all[0].find(), state[kind+"/"+name]), err
}

// note tells history of an acknowledgement, which changes no record.
func (rm *Room) note(tx *gorm.DB, by change.By, s subject, what string) error {
	n := change.Note{At: rm.Now(), By: by, What: what, Kind: s.kind, Name: s.name}
	return n.Write(tx)
}
