package roll

import (
	"context"
	"errors"
	"fmt"
	"slices"

	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/store"
)

// KindPeople is the kind of what is done with many people at once, in the history.
const KindPeople = "people"

// together is how many people are stored in one transaction: for as long as it takes,
// sign-ins wait.
const together = 1000

// Progress is how far an import is.
type Progress interface {
	Set(done int64)
	Total(n int64)
}

// Import takes a list in: first it tells what would be, then, with the digest of that, it
// does just so. Rows that cannot be used are told by their lines, and then nothing is
// stored unless they are to be left out. It is stored in pieces, so that sign-ins go on:
// after a stop in the middle the same list goes on where it was.
func (rm *Room) Import(ctx context.Context, by change.By, in Import, p Progress) (*Imported, error) {
	select {
	case rm.turn <- struct{}{}:
		defer func() { <-rm.turn }()
	default:
		return nil, change.Conflict("another list is being taken in", "wait until that is done")
	}
	l, err := rm.read(ctx, in)
	if err != nil {
		return nil, err
	}
	p.Total(int64(len(l.entries)))
	out, plans, err := rm.weigh(ctx, in, l, p.Set)
	if err == nil {
		err = rm.foresee(ctx, out, plans)
	}
	if err != nil || in.Digest == "" {
		return out, err
	}
	if err := change.Seen(in.Digest, out.Digest,
		"people have changed since the preview, or it was another list"); err != nil {
		return nil, err
	}
	if out.BadRows > 0 && !in.SkipBad {
		return nil, change.Field("document",
			fmt.Errorf("%d rows cannot be used, the first: %w; mend them, or have them left out",
				out.BadRows, out.Bad[0]))
	}
	p.Set(0)
	if len(plans) > together { // whatever becomes of it stands in the history
		if err := rm.note(ctx, by, fmt.Sprintf("begins to import people: %d new, %d changed", out.New,
			out.Changed)); err != nil {
			return nil, err
		}
	}
	done := 0
	for chunk := range slices.Chunk(plans, together) {
		if err := rm.put(ctx, by, chunk); err != nil {
			return nil, errors.Join(err, rm.note(ctx, by, fmt.Sprintf("imported %d of %d people, then stopped", done,
				len(plans))))
		}
		done += len(chunk)
		p.Set(int64(out.Same + done))
	}
	out.Stored = true
	return out, rm.note(ctx, by, fmt.Sprintf("imported people: %d new, %d changed", out.New, out.Changed))
}

func (rm *Room) note(ctx context.Context, by change.By, what string) error {
	return rm.store.Change(ctx, func(tx store.Tx) error {
		return change.Note{At: rm.now(), By: by, Kind: KindPeople, Name: "import", What: what}.Write(tx.Rows())
	})
}

// put stores some people, if they still are as they were looked at.
func (rm *Room) put(ctx context.Context, by change.By, plans []plan) error {
	changes := make([]person.Change, len(plans))
	for i := range plans {
		if changes[i] = plans[i].change; plans[i].person == 0 {
			changes[i].Identifier = people.Identifier()
		}
		changes[i].Who = by.Who
	}
	err := rm.people.Put(ctx, by, changes, func(a store.Applied) string {
		if a.Did.State == person.StateDisabled || a.Did.State == person.StateEnabled {
			return a.Did.State
		}
		return ""
	})
	var lost *person.LostError
	if !errors.As(err, &lost) {
		return err
	}
	line, again := plans[lost.At].line, "look at the preview again"
	switch lost.Guard {
	case person.GuardValue:
		return change.Conflict(fmt.Sprintf("somebody of the lines from %d on came meanwhile; what stands before is stored",
			plans[0].line), again)
	case person.GuardLink:
		return change.Conflict(fmt.Sprintf("the link of line %d is somebody's meanwhile; what stands before it is stored",
			line), again)
	}
	return change.Conflict(fmt.Sprintf("the person of line %d has changed since the preview; what stands before it is stored", line), again)
}
