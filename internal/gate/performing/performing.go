// Package performing satisfies what decisions of the core lack: it knows for each kind of need who looks it up, or
// asks outside, and puts what came of it among the facts. It decides nothing.
package performing

import (
	"context"
	"errors"
	"fmt"
	"reflect"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
)

// Asker is on whose behalf something is looked up.
type Asker struct {
	Snap     *federation.Snapshot
	Provider *federation.Provider // whose side asks, nil for none
	Network  string               // of the browser, or of the caller
	Made     crossing.Made        // what may be random in a call
	Turn     any                  // of the room that asks, for kinds that only it satisfies
}

// Performer knows how each kind of need is satisfied.
type Performer struct {
	kinds map[reflect.Type]func(context.Context, *Asker, crossing.Need) (any, error)
}

// New makes a performer that knows no kind yet.
func New() *Performer {
	return &Performer{kinds: map[reflect.Type]func(context.Context, *Asker, crossing.Need) (any, error){}}
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

// mostRounds bounds how often one decision may lack something: a look at the portal lacks it for each word of a
// session.
const mostRounds = 24

// Decide has something decided, again and again with what it lacks looked up; the facts are left to whoever asks. It
// is for decisions without effects on the way.
func Decide[T any](ctx context.Context, p *Performer, a *Asker, facts *crossing.Facts,
	step func(crossing.Facts) (T, *crossing.Lacks, error)) (out T, err error) {
	for range mostRounds {
		var lacks *crossing.Lacks
		if out, lacks, err = step(*facts); lacks == nil {
			return out, err
		}
		if err := p.Satisfy(ctx, a, lacks, facts); err != nil {
			return out, err
		}
	}
	return out, errors.New("a decision lacks more and more")
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
