package records

import (
	"context"
	"encoding/json"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
)

// rankingKind is the one ranking of authentication contexts.
func (rm *Room) rankingKind() Kind {
	return Kind{Name: federation.KindRanking, Given: rm.givenContexts, Read: func(s federation.Stored) (federation.Object,
		error) {
		out := &federation.Contexts{}
		err := json.Unmarshal(s.Data, out)
		out.Revision, out.Added = s.Revision, s.Added
		return out, err
	}, Fits: func(_, _ *federation.Snapshot, p Put) error {
		return change.OfSetting(p.Object.(*federation.Contexts).Ranks.Check())
	}}
}

// givenContexts is the ranking as the protocols propose it.
func (rm *Room) givenContexts() federation.Object {
	out := &federation.Contexts{Revision: 1}
	for _, p := range rm.order {
		out.Ranks = append(out.Ranks, p.Contexts()...)
	}
	return out
}

// Contexts gives the ranking of authentication contexts, the weakest first, and
// its revision.
func (rm *Room) Contexts() (federation.Ranking, int) {
	o, _ := rm.Snapshot().Object(federation.Ref{Kind: federation.KindRanking, Name: federation.ContextsName})
	c := o.(*federation.Contexts)
	return c.Ranks, c.Revision
}

// ChangeContexts replaces the ranking. revision is the one that the change was
// made from.
func (rm *Room) ChangeContexts(ctx context.Context, by change.By, revision int, ranks federation.Ranking) error {
	_, err := rm.put(ctx, by, &federation.Contexts{Revision: revision, Ranks: ranks})
	return err
}
