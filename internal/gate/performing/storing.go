package performing

import (
	"context"
	"errors"
	"fmt"
	"reflect"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/store"
)

// Storing is a transaction in which effects are stored, and on whose behalf.
type Storing struct {
	*Asker
	Tx    *store.Writing
	after []func()
}

// After has something done once all is on the disk.
func (s *Storing) After(do func()) { s.after = append(s.after, do) }

// LostError says that the guard of an effect failed: the transaction is undone, and the core decides what then.
type LostError struct{ Effect crossing.Effect }

// Error names the effect: nobody else reads it.
func (l *LostError) Error() string { return fmt.Sprintf("the guard of %T failed", l.Effect) }

// Lost is the error by which whoever stores an effect says that its guard failed.
func Lost(e crossing.Effect) error { return &LostError{e} }

// storers are how each kind of effect is stored, or noted.
type storers struct {
	stores map[reflect.Type]func(*Storing, crossing.Effect) error
	notes  map[reflect.Type]func(context.Context, *Asker, crossing.Effect)
}

// Stores names who stores a kind of effects within a transaction. A kind has one: a second one is a mistake of the
// program.
func Stores[E crossing.Effect](p *Performer, do func(s *Storing, e E) error) {
	p.stores[p.first(reflect.TypeFor[E]())] = func(s *Storing, e crossing.Effect) error { return do(s, e.(E)) }
}

// Notes names who notes a kind of effects that nothing rests on: they are done at once, and none is lost.
func Notes[E crossing.Effect](p *Performer, do func(ctx context.Context, a *Asker, e E)) {
	p.notes[p.first(reflect.TypeFor[E]())] = func(ctx context.Context, a *Asker, e crossing.Effect) { do(ctx, a, e.(E)) }
}

// first sees that nobody does a kind yet.
func (p *Performer) first(kind reflect.Type) reflect.Type {
	if p.stores[kind] != nil || p.notes[kind] != nil {
		panic(fmt.Sprintf("two store %v", kind))
	}
	return kind
}

// Repeated is implemented by turns that make something while they are stored: a transaction may be run again, and
// begins anew then.
type Repeated interface{ Again() }

// Store stores effects in one transaction, in their order. lost is one whose guard failed: then nothing was stored.
func (p *Performer) Store(ctx context.Context, a *Asker, effects []crossing.Effect) (lost crossing.Effect, err error) {
	var inside []crossing.Effect
	for _, e := range effects {
		if note := p.notes[reflect.TypeOf(e)]; note != nil {
			note(ctx, a, e)
			continue
		}
		inside = append(inside, e)
	}
	if len(inside) == 0 {
		return nil, nil
	}
	var s *Storing
	err = p.store.Write(ctx, func(tx *store.Writing) error {
		s = &Storing{Asker: a, Tx: tx}
		if turn, makes := a.Turn.(Repeated); makes {
			turn.Again()
		}
		return p.in(s, inside)
	})
	var l *LostError
	if errors.As(err, &l) {
		return l.Effect, nil
	}
	if err != nil {
		return nil, err
	}
	for _, do := range s.after {
		do()
	}
	return nil, nil
}

// StoreIn stores effects within a transaction that is under way, whose end is not its own: nothing waits for that.
func (p *Performer) StoreIn(tx *store.Writing, a *Asker, effects []crossing.Effect) error {
	return p.in(&Storing{Asker: a, Tx: tx}, effects)
}

func (p *Performer) in(s *Storing, effects []crossing.Effect) error {
	for _, e := range effects {
		do := p.stores[reflect.TypeOf(e)]
		if do == nil {
			return fmt.Errorf("nobody stores %T", e)
		}
		if err := do(s, e); err != nil {
			return err
		}
	}
	return nil
}
