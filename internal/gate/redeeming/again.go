package redeeming

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"sync"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/gate/performing"
)

// mostSteps bounds how often one asking may need something.
const mostSteps = 12

// turns let one at a time ask about a session; nobody waits for another one's provider.
type turns struct {
	mu sync.Mutex
	of map[string]*turnOf // by session, of those that somebody asks about
}

type turnOf struct {
	sync.Mutex
	wanted int
}

// enter waits for the turn of a session, and gives what ends it.
func (t *turns) enter(session string) (leave func()) {
	t.mu.Lock()
	if t.of == nil {
		t.of = map[string]*turnOf{}
	}
	one := t.of[session]
	if one == nil {
		one = &turnOf{}
		t.of[session] = one
	}
	one.wanted++
	t.mu.Unlock()
	one.Lock()
	return func() {
		one.Unlock()
		t.mu.Lock()
		defer t.mu.Unlock()
		if one.wanted--; one.wanted == 0 {
			delete(t.of, session)
		}
	}
}

// anew has the provider tell again of whoever a grant is about, where its tokens were
// kept for that. A provider that no longer vouches for them ends the refresh; one that
// cannot be reached does not: what it said before still counts.
func (rm *Room) anew(ctx context.Context, a *asked, k *crossing.Granted) error {
	p, ok := a.snap.Provider(k.Word.Provider)
	if !ok || !p.Is(k.Word.Provider, k.Word.ProviderID) {
		return nil
	}
	side := crossing.Of(p.Side).Reasking
	if side == nil {
		return nil
	}
	// Refresh tokens of providers count once, too.
	defer rm.askings.enter(k.Session)()
	up, kept, err := rm.sessions.Upstream(ctx, k.Session, p.ID)
	if err != nil || !kept {
		return err
	}
	in := crossing.In{Gate: &a.snap.Gate, Provider: p, Mine: true, Now: a.now}
	out, asks := side.Reask(in, k.Word, up)
	for range mostSteps {
		switch {
		case !asks:
			return nil
		case out.Answer != nil:
			return rm.toldAgain(ctx, a, k, p, out)
		case finding.Is(out.Err, finding.UpstreamEnded):
			return oidc.Refuse(oidc.InvalidGrant, finding.Of(out.Err))
		case out.Err != nil && finding.Of(out.Err) == nil:
			return out.Err
		case out.Err != nil:
			a.checks.Note("Provider", finding.Of(out.Err))
			return nil
		}
		lacks, ok := out.Next.(*crossing.Lacks)
		if !ok {
			return errors.New("a provider's side wants a browser where there is none")
		}
		if err := rm.satisfy(ctx, a, p, lacks, &in); err != nil {
			return err
		}
		in.Held = out.Held
		out = p.Side.(crossing.ProviderSide).Step(in)
	}
	return fmt.Errorf("asking %s again needs more and more", p.Name)
}

// satisfy makes a call, or gets a document, for a provider's side.
func (rm *Room) satisfy(ctx context.Context, a *asked, p *federation.Provider, l *crossing.Lacks,
	in *crossing.In) error {
	in.Facts = crossing.Facts{}
	asker := &performing.Asker{Snap: a.snap, Provider: p, Network: a.caller.Network,
		Made: crossing.Made{Random: rand.Reader, Now: a.now,
			Secret: func(name string) (string, error) { return rm.keyring.Credential(ctx, name) }}}
	return rm.performer.Satisfy(ctx, asker, l, &in.Facts)
}

// toldAgain keeps what the provider says now: with the grant when that moves on, and its
// tokens beside the session at once, for the old ones may count no more.
func (rm *Room) toldAgain(ctx context.Context, a *asked, k *crossing.Granted, p *federation.Provider,
	out crossing.Out) error {
	if out.Answer.Subject.Value != k.Word.Subject.Value {
		return oidc.Refuse(oidc.InvalidGrant, finding.New(finding.GrantUnlinked, finding.Compare("Name",
			k.Word.Subject.Value, out.Answer.Subject.Value)))
	}
	k.Word.Attributes, k.Word.Read = out.Answer.Attributes, ""
	k.Word = *crossing.Kept(p, &k.Word)
	a.checks.Pass("Provider", "asked again: "+string(p.Name))
	if out.Upstream == nil {
		return nil
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		return rm.sessions.MoveUpstream(tx, k.Session, p.ID, *out.Upstream)
	})
}
