package editions

import (
	"context"
	"encoding/json"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

// Staging writes entities of a new edition, some hundred at a time, so that the
// one writer is never held up for long.
type Staging struct {
	rm        *Room
	ctx       context.Context
	aggregate string
	edition   int64
	rows      []store.EntityRow
	any       bool
	placed    bool
	flying    chan error
}

// Stage begins an edition of an aggregate. It counts once an aggregate's row says
// so.
func (rm *Room) Stage(ctx context.Context, aggregate string, edition int64) *Staging {
	return &Staging{rm: rm, ctx: ctx, aggregate: aggregate, edition: edition}
}

// Add stages an entity. Of one that cannot be used it gives the finding.
func (s *Staging) Add(e *saml.Entity) (f *finding.Finding, err error) {
	r := store.EntityRow{Aggregate: s.aggregate, Edition: s.edition, EntityID: e.EntityID, Title: e.Title,
		Roles: strings.Join(e.Roles, " "),
		Sum:   int64(e.Sum), From: e.Start, Until: e.End, Wrap: e.Wrap}
	if e.Problem != nil {
		if f = finding.Of(e.Problem); f == nil {
			return nil, e.Problem
		}
		f = f.From(finding.Sender)
		if r.Problem, err = json.Marshal(f); err != nil {
			return nil, err
		}
	}
	if s.rows = append(s.rows, r); len(s.rows) < 250 {
		return f, s.ctx.Err()
	}
	return f, s.write()
}

// write hands the gathered rows to the writer and goes on reading meanwhile.
func (s *Staging) write() error {
	if err := s.landed(); err != nil {
		return err
	}
	rows := s.rows
	s.rows, s.any, s.flying = nil, true, make(chan error, 1)
	done := s.flying
	go func() {
		done <- s.rm.store.Write(s.ctx, func(tx *gorm.DB) error { return tx.CreateInBatches(slices.Clone(rows), 250).Error })
	}()
	return nil
}

func (s *Staging) landed() error {
	if s.flying == nil {
		return nil
	}
	err := <-s.flying
	s.flying = nil
	return err
}

// Flush writes what is gathered.
func (s *Staging) Flush() error {
	if len(s.rows) > 0 {
		if err := s.write(); err != nil {
			return err
		}
	}
	return s.landed()
}

// Placed says that the edition counts.
func (s *Staging) Placed() { s.placed = true }

// Drop removes what was staged, unless the edition counts.
func (s *Staging) Drop() error {
	_ = s.landed() // its rows go in any case
	if !s.any || s.placed {
		return nil
	}
	return s.rm.Drop(context.WithoutCancel(s.ctx), s.aggregate, s.edition)
}
