package records

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// KindRanking is the kind of the one ranking of authentication contexts, in the
// history.
const KindRanking = "ranking"

const rankingKey = "contexts"

// ranking is what is stored: the ranks, with a revision.
type ranking struct {
	Revision int                `json:"revision"`
	Ranks    federation.Ranking `json:"ranks"`
}

func (rm *Room) loadRanking(db *gorm.DB) (ranking, error) {
	out := ranking{Revision: 1}
	for _, p := range rm.order {
		out.Ranks = append(out.Ranks, p.Contexts()...)
	}
	var row store.SettingRow
	err := db.Where("key = ?", rankingKey).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return out, nil
	}
	if err == nil {
		err = json.Unmarshal([]byte(row.Value), &out)
	}
	return out, err
}

func (rm *Room) loadContexts(ctx context.Context) (federation.Ranking, error) {
	r, err := rm.loadRanking(rm.store.Read.WithContext(ctx))
	return r.Ranks, err
}

// Contexts gives the ranking of authentication contexts, the weakest first, and
// its revision.
func (rm *Room) Contexts(ctx context.Context) (federation.Ranking, int, error) {
	r, err := rm.loadRanking(rm.store.Read.WithContext(ctx))
	return r.Ranks, r.Revision, err
}

// ChangeContexts replaces the ranking. revision is the one that the change was
// made from.
func (rm *Room) ChangeContexts(ctx context.Context, by change.By, revision int, ranks federation.Ranking) error {
	if err := change.OfSetting(ranks.Check()); err != nil {
		return err
	}
	rm.Lock()
	defer rm.Unlock()
	data, err := json.Marshal(ranking{Revision: revision + 1, Ranks: ranks})
	if err != nil {
		return err
	}
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		now, err := rm.loadRanking(tx)
		if err != nil {
			return err
		}
		if now.Revision != revision {
			return change.Stale(KindRanking, rankingKey, now.Revision, revision)
		}
		if err := tx.Save(&store.SettingRow{Key: rankingKey, Value: string(data)}).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: KindRanking, Name: rankingKey, What: "changed",
			Revision: revision + 1, Data: data}.Write(tx)
	})
	if err != nil {
		return err
	}
	self := rm.Snapshot().Gate
	self.Contexts = ranks
	rm.show(rm.Snapshot().WithGate(self))
	return nil
}

// rankingValues describes a ranking for the history.
func rankingValues(data []byte) ([]federation.Value, error) {
	var r ranking
	if err := json.Unmarshal(data, &r); err != nil {
		return nil, err
	}
	out := []federation.Value{}
	for i, rank := range r.Ranks {
		for _, c := range rank {
			out = append(out, federation.Value{Label: fmt.Sprintf("Rank %d", i+1), Value: c})
		}
	}
	return out, nil
}
