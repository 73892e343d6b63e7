package roll

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// ColumnUntil is the heading of the day to whose end somebody is admitted.
const ColumnUntil = "until"

// named is somebody on record whom a row of a list names.
type named struct {
	line   int
	person int64
	until  time.Time
}

// names reads a list that names people on record, each once.
func (rm *Room) names(ctx context.Context, in Import) (all []named, bad []table.BadRow, l *list, err error) {
	in.KnownOnly = true
	if l, err = rm.read(ctx, in); err != nil {
		return nil, nil, nil, err
	}
	w := &weighing{rm: rm, in: in, list: l, on: rm.store.People(ctx)}
	if err := w.find(); err != nil {
		return nil, nil, nil, err
	}
	bad = l.bad
	for i := range l.entries {
		e := &l.entries[i]
		person, _, wrong := w.whom(e)
		one := named{line: e.line, person: person}
		if until := e.values[ColumnUntil]; wrong == nil && len(until) > 0 {
			if one.until, err = federation.Ends(until[0]); err != nil || len(until) > 1 {
				wrong = &table.BadRow{Line: e.line, Column: ColumnUntil,
					Cause: fmt.Sprintf("%.50q is no end; write it like 2027-01-31", until[0])}
			} else if !one.until.After(rm.now()) {
				wrong = &table.BadRow{Line: e.line, Column: ColumnUntil, Cause: "this end has passed"}
			}
		}
		if wrong != nil {
			bad = append(bad, *wrong)
			continue
		}
		all = append(all, one)
	}
	all, missing, err := rm.onRecord(ctx, all)
	bad = append(bad, missing...)
	slices.SortStableFunc(bad, func(a, b table.BadRow) int { return a.Line - b.Line })
	return all, bad, l, err
}

// onRecord leaves those out whose number nobody has.
func (rm *Room) onRecord(ctx context.Context, all []named) (out []named, bad []table.BadRow, err error) {
	ids := make([]int64, len(all))
	for i, n := range all {
		ids[i] = n.person
	}
	there, err := rm.store.People(ctx).There(ids...)
	for _, n := range all {
		if there[n.person] {
			out = append(out, n)
			continue
		}
		bad = append(bad, table.BadRow{Line: n.line, Column: ColumnNumber, Cause: fmt.Sprintf("there is no person %d",
			n.person)})
	}
	return out, bad, err
}

// Admit admits the people of a list to an application: first it tells what would be, then, with the digest of that,
// it does just so. Rows that cannot be used are told by their lines, and then nobody is admitted unless they are to
// be left out.
func (rm *Room) Admit(ctx context.Context, by change.By, app string, in Import, p Progress) (*Imported, error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return nil, err
	}
	if a.Approval {
		return nil, change.Conflict("admissions to "+app+" wait for approval, which a list cannot ask for",
			"ask for them one by one, or for a group that these people are in (innergate app admit)")
	}
	select {
	case rm.turn <- struct{}{}:
		defer func() { <-rm.turn }()
	default:
		return nil, change.Conflict("another list is being taken in", "wait until that is done")
	}
	all, bad, l, err := rm.names(ctx, in)
	if err != nil {
		return nil, err
	}
	p.Total(int64(len(all)))
	out := &Imported{Rows: len(l.entries) + len(l.bad), By: l.by, Columns: l.columns, Separator: l.separator,
		Encoding: l.encoding,
		BadRows:  len(bad), Bad: bad[:min(len(bad), mostTold)]}
	todo, err := rm.weighAdmissions(ctx, a, in, all, out)
	if err != nil || in.Digest == "" {
		return out, err
	}
	if err := change.Seen(in.Digest, out.Digest,
		"admissions have changed since the preview, or it was another list"); err != nil {
		return nil, err
	}
	if len(bad) > 0 && !in.SkipBad {
		return nil, change.Field("document",
			fmt.Errorf("%d rows cannot be used, the first: %w; mend them, or have them left out",
				len(bad), bad[0]))
	}
	done := 0
	for chunk := range slices.Chunk(todo, together) {
		err := rm.store.Change(ctx, func(tx store.Tx) error {
			what := fmt.Sprintf("admitted people by a list: %d to %d of %d", done+1, done+len(chunk), len(todo))
			_, err := rm.people.Apply(tx, admitting(a, by, chunk)...)
			return errors.Join(err, change.Note{At: rm.now(), By: by, What: what, Revision: a.Revision}.WriteOf(tx.Rows(), a))
		})
		var lost *person.LostError
		if errors.As(err, &lost) {
			err = change.Conflict(fmt.Sprintf("the person of line %d is not there any more; what stands before it is stored",
				chunk[lost.At].line),
				"look at the preview again")
		}
		if err != nil {
			return nil, err
		}
		done += len(chunk)
		p.Set(int64(out.Same + done))
	}
	out.Stored = true
	return out, nil
}

// admitting are the changes that admit people of a list.
func admitting(a *federation.Application, by change.By, all []named) []person.Change {
	out := make([]person.Change, len(all))
	for i, n := range all {
		out[i] = person.Change{Person: n.person, Via: person.ByList, Who: by.Who, Admit: []person.Admission{{
			Admitted: person.Admitted{App: a.ID, Until: n.until}, Source: person.FromImport, Author: by.Who}}}
	}
	return out
}

// weighAdmissions tells what becomes of each, and gives those whose admission is made or changes.
func (rm *Room) weighAdmissions(ctx context.Context, a *federation.Application, in Import, all []named,
	out *Imported) (todo []named, err error) {
	h := sha256.New()
	fmt.Fprintf(h, "%s %x %s %t\n", a.ID, sha256.Sum256(in.Document), out.By, in.SkipBad)
	for chunk := range slices.Chunk(all, atOnce) {
		ids := make([]int64, len(chunk))
		for i, n := range chunk {
			ids[i] = n.person
		}
		some, err := rm.store.People(ctx).Many(ids, "", "")
		if err != nil {
			return nil, err
		}
		who := map[int64]person.Person{}
		for _, c := range some {
			who[c.ID] = c.Person
		}
		for _, n := range chunk {
			was := slices.IndexFunc(who[n.person].Admitted, func(x person.Admitted) bool { return x.App == a.ID })
			before := ""
			switch {
			case was < 0:
				out.New++
			case who[n.person].Admitted[was].Until.Equal(n.until):
				out.Same++
				continue
			default:
				before = ends(who[n.person].Admitted[was].Until)
				out.Changed++
			}
			todo = append(todo, n)
			fmt.Fprintf(h, "%d %s %s\n", n.person, before, n.until)
			if len(out.Listed) < mostTold {
				out.Listed = append(out.Listed, Row{n.line, n.person, person.NameOf(who[n.person]),
					[]federation.Difference{{Label: "Admitted", Before: before, After: ends(n.until)}}})
			}
		}
	}
	out.Digest = hex.EncodeToString(h.Sum(nil))
	return todo, nil
}

func ends(t time.Time) string {
	if t.IsZero() {
		return "for good"
	}
	return "until " + federation.EndText(t)
}

// Simulate tells of each person of a list whether they would enter an application.
func (rm *Room) Simulate(ctx context.Context, app string, in Import, p Progress) (*traces.Everyone, error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return nil, err
	}
	all, bad, _, err := rm.names(ctx, in)
	if err != nil {
		return nil, err
	}
	if len(bad) > 0 && !in.SkipBad {
		return nil, change.Field("document",
			fmt.Errorf("%d rows cannot be used, the first: %w; mend them, or have them left out",
				len(bad), bad[0]))
	}
	ids := make([]int64, len(all))
	for i, n := range all {
		ids[i] = n.person
	}
	return rm.traces.Some(ctx, rm.records.Snapshot(), a, ids, p)
}

// Numbers are the people whom a list names, each once. A row that cannot be used is an error: nobody is left out
// silently.
func (rm *Room) Numbers(ctx context.Context, in Import) ([]int64, error) {
	all, bad, _, err := rm.names(ctx, in)
	if err != nil {
		return nil, err
	}
	if len(bad) > 0 {
		return nil, change.Field("people.list",
			fmt.Errorf("%d rows cannot be used, the first: %w; mend them, or leave them out", len(bad), bad[0]))
	}
	ids := make([]int64, len(all))
	for i, n := range all {
		ids[i] = n.person
	}
	return ids, nil
}
