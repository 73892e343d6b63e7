package people

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/approving"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Entry is who is admitted to an application by name, or is so no more.
type Entry = approving.Entry

// mostAtOnce is how many people and groups one call may name.
const mostAtOnce = 1000

func checkEntry(e Entry, now time.Time) error {
	switch {
	case !e.Everyone && !e.AtOnce && len(e.Groups)+len(e.People) == 0:
		return change.Field("people", errors.New("nobody is named; give people, groups, or everyone"))
	case len(e.Groups)+len(e.People) > mostAtOnce:
		return change.Field("people", fmt.Errorf("give at most %d people and groups at once; more come as a list",
			mostAtOnce))
	case !e.Until.IsZero() && !e.Until.After(now):
		return change.Field("until", errors.New("this end has passed; give one to come"))
	case e.Out && (e.Everyone || len(e.People) > 0 || !e.Until.IsZero()):
		return change.Field("out", errors.New("only groups are kept out, and for good; deny single people by a rule"))
	case e.Everyone && !e.Until.IsZero():
		return change.Field("until", errors.New("everyone is a setting, which has no end; give an end to people and groups"))
	}
	return nil
}

// Admit gives entry to an application by name, over what is said of them there already. Where admissions wait for
// approval, it is asked for alone, under the number that is given; keeping groups out acts at once.
func (rm *Room) Admit(ctx context.Context, by change.By, app string, e Entry) (request int64, err error) {
	if err := rm.named(ctx, e); err != nil {
		return 0, err
	}
	a, err := rm.Records.Application(app)
	if err != nil {
		return 0, err
	}
	if e.AtOnce && !a.Approval {
		return 0, change.Field("atOnce", fmt.Errorf("admissions to %s act at once already", a.Name))
	}
	if a.Approval && !e.Out {
		return rm.Requests.Put(ctx, by, a, e)
	}
	return 0, rm.admit(ctx, by, app, e, func(store.Tx) error { return nil })
}

// Approve carries an admission out that was asked for.
func (rm *Room) Approve(ctx context.Context, by change.By, id int64, digest string) error {
	d := approving.Decision{ID: id, Digest: digest, Approve: true}
	q, err := rm.Requests.Decides(ctx, by, d)
	if err != nil {
		return err
	}
	if err := rm.named(ctx, q.Entry); err != nil {
		return err
	}
	by.Approves = true
	return rm.admit(ctx, by, string(q.App), q.Entry, func(tx store.Tx) error {
		return rm.Requests.Decide(tx.Rows(), by,
			d)
	})
}

// named sees that an admission names people and groups that there are.
func (rm *Room) named(ctx context.Context, e Entry) error {
	if err := checkEntry(e, rm.Now()); err != nil {
		return err
	}
	for i, g := range e.Groups {
		if _, err := rm.Records.Unit(federation.KindGroup, g); err != nil {
			return change.Field(fmt.Sprintf("groups[%d]", i), err)
		}
	}
	for i, id := range e.People {
		if err := rm.known(rm.Store.People(ctx), id); err != nil {
			return change.Field(fmt.Sprintf("people[%d]", i), err)
		}
	}
	return nil
}

func (rm *Room) admit(ctx context.Context, by change.By, app string, e Entry, also func(store.Tx) error) error {
	return rm.Records.Adjust(ctx, by, app, func(a *federation.Application) (records.Adjusting, error) {
		out := records.Adjusting{Settings: federation.Settings{}}
		if a.Approval && !by.Approves && !e.Out {
			return out, change.Conflict("admissions to "+app+" began to wait for approval just now", "ask for it again")
		}
		said := a.Admissions
		for i, g := range e.Groups {
			if _, err := rm.Records.Unit(federation.KindGroup, g); err != nil {
				return out, change.Field(fmt.Sprintf("groups[%d]", i), err)
			}
			said = said.With(federation.Name(g), &federation.Admission{Out: e.Out, Until: e.Until})
		}
		if out.Settings["admissions"] = said.Line(); e.Everyone {
			out.Settings["everyone"] = federation.EveryoneYes
		}
		if e.AtOnce {
			out.Settings["approval"] = false
		}
		out.More = func(tx store.Tx) error {
			if err := also(tx); err != nil {
				return err
			}
			return rm.admitPeople(tx, by, a, e)
		}
		return out, nil
	})
}

func (rm *Room) admitPeople(tx store.Tx, b change.By, a *federation.Application, e Entry) error {
	what := "admitted to " + string(a.Name)
	if !e.Until.IsZero() {
		what += " until " + federation.EndText(e.Until)
	}
	changes := make([]person.Change, len(e.People))
	for i, id := range e.People {
		changes[i] = by(b, id)
		changes[i].Admit = []person.Admission{{Admitted: person.Admitted{App: a.ID, Until: e.Until}, Source: person.FromHand,
			Author: b.Who}}
	}
	_, err := rm.Apply(tx, changes...)
	var lost *person.LostError
	if errors.As(err, &lost) {
		return change.Field(fmt.Sprintf("people[%d]", lost.At), refused(err, e.People...))
	}
	for _, id := range e.People {
		if err == nil {
			err = rm.note(tx, b, id, what)
		}
	}
	return err
}

// Unadmit takes entry away that was given by name, if nobody loses anything by it or that was looked at. What else
// lets somebody in, a rule or a group, still does.
func (rm *Room) Unadmit(ctx context.Context, by change.By, app string, e Entry) error {
	if e.Until, e.Out = (time.Time{}), false; len(e.People) > 0 && (e.Everyone || len(e.Groups) > 0) {
		return change.Field("people",
			errors.New("take people, groups and everyone out one after another: each has consequences of its own"))
	}
	if err := checkEntry(e, rm.Now()); err != nil {
		return err
	}
	if len(e.People) > 0 {
		return rm.unadmitPeople(ctx, by, app, e.People)
	}
	return rm.Records.Adjust(ctx, by, app, func(a *federation.Application) (records.Adjusting, error) {
		out := records.Adjusting{Settings: federation.Settings{}}
		said := a.Admissions
		for i, g := range e.Groups {
			if !slices.Contains(said.Groups(), federation.Name(g)) {
				return out, change.Field(fmt.Sprintf("groups[%d]", i), fmt.Errorf("the application %s says nothing of a group %q",
					a.Name, g))
			}
			said = said.With(federation.Name(g), nil)
		}
		if out.Settings["admissions"] = said.Line(); e.Everyone {
			out.Settings["everyone"] = federation.EveryoneNo
		}
		return out, nil
	})
}

func (rm *Room) unadmitPeople(ctx context.Context, b change.By, app string, ids []int64) error {
	a, err := rm.Records.Application(app)
	if err != nil {
		return err
	}
	changes, become := make([]person.Change, len(ids)), make([]traces.Becoming, len(ids))
	for i, id := range ids {
		changes[i] = by(b, id)
		changes[i].Unadmit = []federation.ID{a.ID}
		become[i] = rm.becoming(changes[i])
	}
	took, err := rm.Traces.Foreseen(ctx, rm.Records.Snapshot(), become)
	if err = cmp.Or(err, b.Confirmed(took)); err != nil {
		return err
	}
	return rm.Store.Change(ctx, func(tx store.Tx) error {
		_, err := rm.Apply(tx, changes...)
		var no *person.RefusedError
		if errors.As(err, &no) {
			return change.Field(fmt.Sprintf("people[%d]", no.At), no.Cause)
		}
		for _, id := range ids {
			if err == nil {
				err = rm.note(tx, b, id, "admitted to "+app+" no more")
			}
		}
		return refused(err, ids...)
	})
}

// Admitted is somebody who was admitted to an application by name.
type Admitted struct {
	Person int64
	Name   string
	App    federation.Name // "" for one that was removed
	AppID  federation.ID
	Until  time.Time // zero for good
	Source federation.ID
	Author string
	Added  time.Time
}

// Admissions are those of people to an application, from a number on.
func (rm *Room) Admissions(ctx context.Context, a *federation.Application, after int64, limit int) (out []Admitted,
	total int64, err error) {
	rows, total, err := rm.Store.People(ctx).Admissions(a.ID, after, limit)
	if err != nil {
		return nil, 0, err
	}
	ids := make([]int64, len(rows))
	for i, r := range rows {
		ids[i] = r.Person
	}
	names, err := rm.Store.People(ctx).Names(ids)
	for _, r := range rows {
		one := rm.admitted(r)
		one.Name = names[r.Person]
		out = append(out, one)
	}
	return out, total, err
}

// AdmissionsOf are those of one person.
func (rm *Room) AdmissionsOf(ctx context.Context, who int64) (out []Admitted, err error) {
	rows, err := rm.Store.People(ctx).AdmissionsOf(who)
	for _, r := range rows {
		out = append(out, rm.admitted(r))
	}
	return out, err
}

func (rm *Room) admitted(r store.AdmissionOf) Admitted {
	out := Admitted{Person: r.Person, AppID: r.App, Source: r.Source, Author: r.Author, Added: r.Added, Until: r.Until}
	if a, there := rm.Records.Snapshot().ApplicationOf(out.AppID); there {
		out.App = a.Name
	}
	return out
}
