package records

import (
	"cmp"
	"context"
	"errors"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// recordKinds are providers and applications: kinds that have a protocol's side, and tables of
// their own.
func (rm *Room) recordKinds() []Kind {
	read := func(s federation.Stored) (federation.Object, error) { return rm.Read(s) }
	return []Kind{{Name: federation.KindProvider, Read: read, Row: providerRow, Fits: rm.recordFits, Keep: rm.keepRecord,
		Drop: rm.dropRecord}, {Name: federation.KindApplication, Read: read, Row: applicationRow, Fits: rm.recordFits,
		Keep: rm.keepRecord, Drop: rm.dropRecord}}
}

func providerRow(o federation.Object) (any, []byte, error) {
	r := o.(federation.Record)
	data, err := federation.Marshal(r)
	return &store.ProviderRow{Name: string(o.Ref().Name), Protocol: r.Part().Protocol(),
		EntityID: federation.KeyOf(r.Part()),
		Revision: o.At(), Added: o.Since(), Data: data}, data, err
}

func applicationRow(o federation.Object) (any, []byte, error) {
	r := o.(federation.Record)
	data, err := federation.Marshal(r)
	return &store.ApplicationRow{Name: string(o.Ref().Name), Protocol: r.Part().Protocol(), EntityID: r.Part().Identity(),
		Revision: o.At(), Added: o.Since(), Data: data}, data, err
}

// loadRecords gives all providers and applications that are stored.
func (rm *Room) loadRecords() ([]federation.Object, error) {
	var ps []store.ProviderRow
	var as []store.ApplicationRow
	if err := errors.Join(rm.store.Read.Find(&ps).Error, rm.store.Read.Find(&as).Error); err != nil {
		return nil, err
	}
	all := []federation.Stored{}
	for _, r := range ps {
		all = append(all, federation.Stored{Kind: federation.KindProvider, Name: r.Name, Protocol: r.Protocol,
			Added:    r.Added,
			Revision: r.Revision, Data: r.Data})
	}
	for _, r := range as {
		all = append(all, federation.Stored{Kind: federation.KindApplication, Name: r.Name, Protocol: r.Protocol,
			Added:    r.Added,
			Revision: r.Revision, Data: r.Data})
	}
	return each(all, func(s federation.Stored) (federation.Object, error) { return rm.Read(s) })
}

// prepare gives a record its keys, names its secrets and packs its document, for it to be stored.
func (rm *Room) prepare(ctx context.Context, r federation.Record, w *written) error {
	if err := rm.fillKeys(ctx, r); err != nil {
		return err
	}
	if side := r.Part().Can().Confiding; side != nil {
		var without federation.Side
		without, w.secrets = side.Confide(random.Text, rm.now())
		federation.Replace(r, without)
	}
	if w.Document == nil {
		return nil
	}
	if side := r.Part().Can().Redacting; side != nil {
		w.Document = side.Kept(w.Document)
	}
	document, err := store.Pack(w.Document)
	w.document, r.Basic().Intake.Document = &document, document.Hash
	return err
}

// keepRecord stores whose identity a record has.
func (rm *Room) keepRecord(tx *gorm.DB, p Put) error {
	return owned(tx, p.Object.(federation.Record), rm.now())
}

// keepSecrets stores the secrets that came with a record, and sees once more that its names in
// tokens are nobody else's.
func (rm *Room) keepSecrets(tx *gorm.DB, w written) error {
	if a, ok := w.Object.(*federation.Application); ok {
		if err := rm.unshared(tx, w.after, a); err != nil {
			return change.Field(federation.IdentityField(a.Side), err)
		}
	}
	for name, secret := range w.secrets {
		if err := rm.keyring.Confide(tx, name, secret); err != nil {
			return err
		}
	}
	return nil
}

// dropRecord takes out what belongs to a record.
func (rm *Room) dropRecord(tx *gorm.DB, o federation.Object) error {
	if p, ok := o.(*federation.Provider); ok {
		if err := rm.sessions.ForgetProvider(tx, p.ID); err != nil {
			return err
		}
	}
	return freshness.Forget(tx, string(o.Ref().Kind), string(o.Ref().Name))
}

// recordFits sees that a record can be what it says together with its set, that what it names is
// there, and that its identity is nobody else's.
func (rm *Room) recordFits(before, after *federation.Snapshot, p Put) error {
	r := p.Object.(federation.Record)
	for _, err := range []error{shares(before, after, r), change.OfSetting(after.Missing(r)),
		change.OfSetting(federation.Check(r)),
		change.OfSetting(after.CheckMail(r)), change.OfSetting(after.CheckDefaultRole(r)), rm.piloted(r)} {
		if err != nil {
			return err
		}
	}
	return rm.Fits(before, after, r, cmp.Or(p.Field, federation.IdentityField(r.Part())))
}

// Fits sees whether a record may stand beside the others: its identity, where
// applications share an address.
func (rm *Room) Fits(before, after *federation.Snapshot, r federation.Record, field string) error {
	side := r.Part()
	if side.Identity() == "" {
		return nil
	}
	if a, is := r.(*federation.Application); is {
		if err := rm.unshared(rm.store.Read, after, a); err != nil {
			return change.Field(field, err)
		}
	}
	other, known := federation.Rival(before, after, r)
	if !known {
		return nil
	}
	what := finding.Fact(federation.IdentityWord(side), side.Identity())
	if key := federation.KeyOf(side); key != side.Identity() {
		what = finding.Fact("Issuer or token endpoint, and client ID", key)
	}
	name := other.Basic().Name
	f := finding.New(finding.MetadataKnown, what, finding.Fact(r.Kind().Title(), string(name)))
	return change.Field(field, &standingError{f, name})
}

// Record finds a provider or application, or tells a near name.
func (rm *Room) Record(kind, name string) (federation.Record, error) {
	snap := rm.Snapshot()
	if r, ok := snap.Record(federation.Kind(kind), federation.Name(name)); ok {
		return r, nil
	}
	other := map[string]string{change.KindProvider: change.KindApplication,
		change.KindApplication: change.KindProvider}[kind]
	if _, ok := snap.Record(federation.Kind(other), federation.Name(name)); ok {
		return nil, &change.NotFoundError{Kind: kind, Name: name, Other: other}
	}
	return nil, change.NotFound(kind, name, nearword.Of(name, snap.Names(federation.Kind(kind))))
}

// standingError says that another record stands where one would go.
type standingError struct {
	*finding.Finding
	by federation.Name
}

// Unwrap gives the finding.
func (e *standingError) Unwrap() error { return e.Finding }

// speaking are the applications that have names of their own in tokens, of one snapshot.
type speaking struct {
	of  *federation.Snapshot
	all federation.Speakers
}

// speakers gives those of a snapshot, which many records are held against.
func (rm *Room) speakers(snap *federation.Snapshot) federation.Speakers {
	last := rm.spoken.Load()
	if last == nil || last.of != snap {
		last = &speaking{snap, snap.Speakers()}
		rm.spoken.Store(last)
	}
	return last.all
}

// unshared sees that no name of an application in tokens is a person's, the gate's or
// another application's.
func (rm *Room) unshared(db *gorm.DB, snap *federation.Snapshot, a *federation.Application) error {
	side := a.Side.Can().Speaking
	if side == nil {
		return nil
	}
	if own, _ := side.Spoken(); own != "" {
		if is, err := rm.store.In(db).People().IsSubject(own); err != nil {
			return err
		} else if is {
			return finding.New(finding.NameShared, finding.Fact("Name", own),
				finding.Fact("Is already", "the subject of a person"))
		}
	}
	return rm.speakers(snap).Clash(a)
}

// owned sees that a lasting identity belonged to no other record before, and notes
// whose it is.
func owned(tx *gorm.DB, r federation.Record, now time.Time) error {
	side := r.Part().Can().Lasting
	id := r.Part().Identity()
	if side == nil || !side.Lasting() || id == "" {
		return nil
	}
	var rows []store.IdentifierRow // at most one; no error for none
	err := tx.Where("protocol = ? AND identifier = ?", r.Part().Protocol(), id).Limit(1).Find(&rows).Error
	switch {
	case err != nil:
		return err
	case len(rows) == 0:
		return tx.Create(&store.IdentifierRow{Protocol: r.Part().Protocol(), Identifier: id, Record: string(r.Basic().ID),
			Since: now.UTC()}).Error
	case rows[0].Record != string(r.Basic().ID):
		return change.Field(federation.IdentityField(r.Part()), finding.New(finding.IdentifierUsed,
			finding.Fact("Identifier", id)))
	}
	return nil
}
