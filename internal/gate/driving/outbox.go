package driving

import (
	"context"
	"encoding/json"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/store"
)

// The outbox keeps calls that leave later on the disk until they are answered.

// queue puts a call into the outbox.
func (rm *Room) queue(tx *gorm.DB, q crossing.Queue) error {
	plain, err := json.Marshal(q)
	if err != nil {
		return err
	}
	return tx.Create(&store.OutboxRow{Due: rm.now().UTC(), Until: q.Until.UTC(), Sealed: rm.store.Seal("outbox",
		plain)}).Error
}

// outboxRound bounds what is sent in one round.
const outboxRound = 200

// SendDue sends what is due. What is not answered is tried again, after growing
// pauses, until its time is over.
func (rm *Room) SendDue(ctx context.Context) error {
	var rows []store.OutboxRow
	if err := rm.store.Read.WithContext(ctx).Where("due <= ?",
		rm.now().UTC()).Order("due").Limit(outboxRound).Find(&rows).Error; err != nil {
		return err
	}
	for _, row := range rows {
		plain, err := rm.store.Open("outbox", row.Sealed)
		if err != nil {
			return err
		}
		var q crossing.Queue
		if err := json.Unmarshal(plain, &q); err != nil {
			return err
		}
		_, err = rm.fetch.Post(ctx, &crossing.Call{Address: q.Address, Limit: 64 << 10},
			crossing.CallOctets{Header: q.Header, Body: q.Body})
		next := rm.now().Add(time.Minute << min(row.Tries, 10)).UTC()
		over := err == nil || next.After(row.Until)
		if err != nil && over {
			rm.log.Warn("a call was not answered and is given up", "address", q.Address, "tries", row.Tries+1, "error", err)
		}
		err = rm.store.Write(ctx, func(tx *gorm.DB) error {
			if over {
				return tx.Delete(&store.OutboxRow{ID: row.ID}).Error
			}
			return tx.Model(&store.OutboxRow{}).Where("id = ?", row.ID).Updates(map[string]any{"due": next,
				"tries": row.Tries + 1}).Error
		})
		if err != nil {
			return err
		}
	}
	return nil
}
