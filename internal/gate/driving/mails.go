package driving

import (
	"context"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/store"
)

// How many codes are mailed within store.MailedKept, counted in the database: no restart
// begins anew.
const (
	mailsOfPerson  = 6  // of one name at a provider, to whatever addresses
	mailsOfNetwork = 30 // many people may share one
	mailsToAddress = 8  // from wherever they were asked for
	mailsOfBoth    = 4  // to one address from one network
)

// mailAsk is that somebody wants a code mailed.
type mailAsk struct{ To, Person, Network string }

// counted is one bound on it.
type counted struct {
	key  []byte
	most int64
}

func (m mailAsk) counts() []counted {
	sum := func(words ...string) []byte { return []byte(store.Hash("mail\x1f" + strings.Join(words, "\x1f"))) }
	to := mailbox(m.To)
	return []counted{{sum("both", to, m.Network), mailsOfBoth}, {sum("person", m.Person), mailsOfPerson},
		{sum("network", m.Network), mailsOfNetwork}, {sum("address", to), mailsToAddress}}
}

// mailbox is where a provider would likely deliver an address, for counting only: without
// what follows a plus, in small letters.
func mailbox(address string) string {
	local, domain, _ := strings.Cut(profile.Key(profile.ClaimEmail, address), "@")
	local, _, _ = strings.Cut(local, "+")
	return profile.Fold(local) + "@" + domain
}

// takeMail counts a message before it is sent, nil if there were too many. What strangers
// asked for elsewhere keeps nobody from the first code that they ask for themselves.
func (rm *Room) takeMail(ctx context.Context, m mailAsk) (took []int64, err error) {
	now := rm.now().UTC()
	err = rm.store.Write(ctx, func(tx *gorm.DB) error {
		took = nil
		counts := m.counts()
		first := false
		for i, c := range counts {
			var n int64
			err := tx.Model(&store.MailedRow{}).Where("key = ? AND at > ?", c.key, now.Add(-store.MailedKept)).Count(&n).Error
			if err != nil {
				return err
			}
			if i == 0 {
				first = n == 0
			}
			if byOthers := i == len(counts)-1; n >= c.most && !(byOthers && first) {
				return nil
			}
		}
		for _, c := range counts {
			row := store.MailedRow{Key: c.key, At: now}
			if err := tx.Create(&row).Error; err != nil {
				return err
			}
			took = append(took, row.ID)
		}
		return nil
	})
	return took, err
}

// giveMail takes back one that was not sent.
func (rm *Room) giveMail(ctx context.Context, took []int64) error {
	return rm.store.Write(ctx, func(tx *gorm.DB) error { return tx.Delete(&store.MailedRow{}, took).Error })
}
