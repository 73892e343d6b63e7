package sessions

import (
	"context"
	"encoding/json"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// theirs is by what a session or person of a provider is found; nil for none.
func theirs(p federation.ID, tenant, what, name string) []byte {
	if name == "" {
		return nil
	}
	return store.Hash(what + "\x1f" + string(p) + "\x1f" + tenant + "\x1f" + name)
}

// PutUpstream keeps what a provider gave with its word beside a session, by the name
// under which that lasts.
func (rm *Room) PutUpstream(tx *gorm.DB, lasting string, p federation.ID, up crossing.Upstream,
	until time.Time) error {
	octets, err := json.Marshal(up)
	if err != nil {
		return err
	}
	return tx.Save(&store.UpstreamRow{Session: lasting, Provider: string(p),
		TheirSession: theirs(p, up.Tenant, "sid", up.Session), TheirSubject: theirs(p, up.Tenant, "sub", up.Subject),
		Sealed: rm.store.Seal("upstream", octets), Expires: until.UTC()}).Error
}

// Upstream gives what is kept of a provider beside a session; false if there is nothing.
func (rm *Room) Upstream(ctx context.Context, lasting string, p federation.ID) (up crossing.Upstream, ok bool,
	err error) {
	return rm.UpstreamIn(rm.store.Read.WithContext(ctx), lasting, p)
}

// UpstreamIn gives it as a transaction sees it.
func (rm *Room) UpstreamIn(tx *gorm.DB, lasting string, p federation.ID) (up crossing.Upstream, ok bool, err error) {
	var row store.UpstreamRow
	err = tx.Where("session = ? AND provider = ?", lasting, string(p)).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return up, false, nil
	}
	if err != nil {
		return up, false, err
	}
	octets, err := rm.store.Open("upstream", row.Sealed)
	if err == nil {
		err = json.Unmarshal(octets, &up)
	}
	return up, err == nil, err
}

// MoveUpstream keeps what a provider gave later in place of what it gave before.
func (rm *Room) MoveUpstream(tx *gorm.DB, lasting string, p federation.ID, up crossing.Upstream) error {
	octets, err := json.Marshal(up)
	if err != nil {
		return err
	}
	return tx.Model(&store.UpstreamRow{}).Where("session = ? AND provider = ?", lasting, string(p)).Update("sealed",
		rm.store.Seal("upstream", octets)).Error
}

// DropUpstream drops what is kept beside a session that ends, unless something that it
// gave lives longer.
func (rm *Room) DropUpstream(tx *gorm.DB, lasting string) error {
	return tx.Where(`session = ? AND NOT EXISTS (SELECT 1 FROM grant_rows g WHERE g.session = upstream_rows.session
		AND g.ended = '')`, lasting).Delete(&store.UpstreamRow{}).Error
}

// OfProvider gives the sessions that a provider calls by a name of its own, or, without
// one, all that are of a person whom it calls so. The names are those of a tenant.
func (rm *Room) OfProvider(ctx context.Context, p federation.ID, by crossing.Upstream) ([]*crossing.Session, error) {
	q := rm.store.Read.WithContext(ctx).Model(&store.UpstreamRow{}).Where("provider = ?", string(p))
	if by.Session != "" {
		q = q.Where("their_session = ?", theirs(p, by.Tenant, "sid", by.Session))
	}
	if by.Subject != "" {
		q = q.Where("their_subject = ?", theirs(p, by.Tenant, "sub", by.Subject))
	}
	var lasting []string
	if err := q.Pluck("session", &lasting).Error; err != nil || len(lasting) == 0 {
		return nil, err
	}
	var rows []store.SessionRow
	if err := rm.store.Read.WithContext(ctx).Where("lasting IN ?", lasting).Find(&rows).Error; err != nil {
		return nil, err
	}
	var out []*crossing.Session
	for _, row := range rows {
		s, err := rm.read(row)
		if err != nil {
			return nil, err
		}
		out = append(out, s)
	}
	return out, nil
}
