// Package performing does what decisions of the core call for. It knows for each kind of need who looks it up or asks
// outside, and for each kind of effect who stores it under its guard; it takes whatever moves in turns through them, in
// one order: what was decided is stored before somebody outside is asked, and what is lost comes back typed. It decides
// nothing.
package performing

import (
	"context"
	"errors"
	"fmt"
	"reflect"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// Asker is on whose behalf something is looked up.
type Asker struct {
	Snap     *federation.Snapshot
	Provider *federation.Provider // whose side asks, nil for none
	Network  string               // of the browser, or of the caller
	Made     crossing.Made        // what may be random in a call
	Turn     any                  // of the room that asks, for kinds that only it satisfies
}

// Performer knows how each kind of need is satisfied, and how each kind of effect is stored.
type Performer struct {
	store *store.Store
	kinds map[reflect.Type]func(context.Context, *Asker, crossing.Need) (any, error)
	storers
}

// New makes a performer that knows no kind of need or effect yet.
func New(s *store.Store) *Performer {
	p := &Performer{store: s, kinds: map[reflect.Type]func(context.Context, *Asker, crossing.Need) (any, error){},
		storers: storers{map[reflect.Type]func(*Storing, crossing.Effect) error{},
			map[reflect.Type]func(context.Context, *Asker, crossing.Effect){}}}
	Satisfies(p, func(context.Context, *Asker, crossing.StoredFirst) (bool, error) { return true, nil })
	return p
}

// Satisfies names who satisfies a kind of needs. A kind has one: a second one is a mistake of the program.
func Satisfies[F any, N crossing.Asks[F]](p *Performer, do func(ctx context.Context, a *Asker, n N) (F, error)) {
	var zero N
	kind := reflect.TypeOf(zero)
	if _, twice := p.kinds[kind]; twice {
		panic(fmt.Sprintf("two satisfy %v", kind))
	}
	p.kinds[kind] = func(ctx context.Context, a *Asker, n crossing.Need) (any, error) { return do(ctx, a, n.(N)) }
}

// Machine is something that moves in turns: a crossing, a sign-out, a request of an application.
type Machine[T any] interface {
	// Advance decides, once more with what was learned, or after an effect that was lost.
	Advance(lost crossing.Effect) T
	// Lacks is what a turn lacks, nil for nothing, and what it has stored by now.
	Lacks(T) (*crossing.Lacks, []crossing.Effect)
	// Store stores effects, before somebody outside is asked.
	Store(context.Context, T, []crossing.Effect) (lost crossing.Effect, err error)
	// Satisfy looks up what is lacked.
	Satisfy(context.Context, T, *crossing.Lacks) error
	// Finish ends it by a turn that lacks nothing: its octets are made, its effects stored, and it is answered.
	Finish(context.Context, T) (lost crossing.Effect, err error)
}

// Run takes a machine through its turns until it is finished; it gives the last one, also with an error.
func Run[T any](ctx context.Context, m Machine[T]) (t T, err error) {
	var lost crossing.Effect
	for range mostRounds {
		t = m.Advance(lost)
		lacks, effects := m.Lacks(t)
		lost = nil
		if lacks != nil && lacks.Outside() {
			lost, err = m.Store(ctx, t, effects)
		}
		switch {
		case err != nil || lost != nil:
		case lacks != nil:
			err = m.Satisfy(ctx, t, lacks)
		default:
			if lost, err = m.Finish(ctx, t); lost == nil {
				return t, err
			}
		}
		if err != nil {
			return t, err
		}
	}
	return t, errors.New("a decision lacks more and more")
}

// mostRounds bounds how often something may lack more: a look at the portal does for each word of a session, a token
// that many use at once for each that was first.
const mostRounds = 120

// Acting is what most machines have done in the usual way.
type Acting[T any] struct {
	Performer *Performer
	Asker     *Asker
	Facts     crossing.Facts
}

// Store stores effects in a transaction of their own.
func (a *Acting[T]) Store(ctx context.Context, _ T, effects []crossing.Effect) (crossing.Effect, error) {
	return a.Performer.Store(ctx, a.Asker, effects)
}

// Satisfy looks up what is lacked, and keeps it among the facts.
func (a *Acting[T]) Satisfy(ctx context.Context, _ T, l *crossing.Lacks) error {
	return a.Performer.Satisfy(ctx, a.Asker, l, &a.Facts)
}

// looked is what a look at something came to.
type looked[T any] struct {
	out   T
	lacks *crossing.Lacks
	err   error
}

// looking is a decision without effects.
type looking[T any] struct {
	Acting[looked[T]]
	step func(crossing.Facts) (T, *crossing.Lacks, error)
}

func (l *looking[T]) Advance(crossing.Effect) (t looked[T]) {
	t.out, t.lacks, t.err = l.step(l.Facts)
	return t
}

func (l *looking[T]) Lacks(t looked[T]) (*crossing.Lacks, []crossing.Effect) { return t.lacks, nil }

func (l *looking[T]) Finish(_ context.Context, t looked[T]) (crossing.Effect, error) {
	return nil, t.err
}

// Decide has something decided that leaves nothing behind, with what it lacks looked up.
func Decide[T any](ctx context.Context, p *Performer, a *Asker,
	step func(crossing.Facts) (T, *crossing.Lacks, error)) (T, error) {
	t, err := Run(ctx, &looking[T]{Acting[looked[T]]{p, a, crossing.Facts{}}, step})
	return t.out, err
}

// Satisfy looks up what is lacking, one after another, and puts it among the facts. What reaches outside is asked
// only by who has stored the effects so far.
func (p *Performer) Satisfy(ctx context.Context, a *Asker, l *crossing.Lacks, facts *crossing.Facts) error {
	for _, n := range l.Needs {
		do, known := p.kinds[reflect.TypeOf(n)]
		if !known {
			return fmt.Errorf("nobody satisfies %T", n)
		}
		fact, err := do(ctx, a, n)
		if err != nil {
			return err
		}
		facts.Put(n, fact)
	}
	return nil
}

// Knows are the kinds of needs and effects that somebody performs, by their names.
func (p *Performer) Knows() (out []string) {
	for kind := range p.kinds {
		out = append(out, strings.TrimPrefix(kind.String(), "*"))
	}
	for kind := range p.stores {
		out = append(out, kind.String())
	}
	for kind := range p.notes {
		out = append(out, kind.String())
	}
	slices.Sort(out)
	return out
}
