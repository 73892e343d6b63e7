package editions

import (
	"context"
	"encoding/json"
	"fmt"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Object is an aggregate as an object of the configuration: what an engineer decides of it, and
// what its last document said.
type Object struct {
	Row store.AggregateRow
	Data
}

// ReadObject gives one of what is stored of it.
func ReadObject(s federation.Stored) (federation.Object, error) {
	o := &Object{Row: store.AggregateRow{Name: s.Name, Revision: s.Revision, Added: s.Added, Data: s.Data}}
	return o, json.Unmarshal(s.Data, &o.Data)
}

// Object is the one of a name as it is now.
func (rm *Room) Object(name string) (federation.Object, bool) {
	row, d, err := rm.Row(context.Background(), name)
	return &Object{row, d}, err == nil
}

// Ref names the aggregate.
func (o *Object) Ref() federation.Ref {
	return federation.Ref{Kind: change.KindAggregate, Name: federation.Name(o.Row.Name)}
}

// At is the revision.
func (o *Object) At() int { return o.Row.Revision }

// Since is when it was added.
func (o *Object) Since() time.Time { return o.Row.Added }

// Next gives what is decided of it at another revision. The document is that of the one in whose
// place it comes; of one that was removed it is still to come.
func (o *Object) Next(revision int, old federation.Object, now time.Time) federation.Object {
	next := &Object{Row: store.AggregateRow{Name: o.Row.Name, Added: now}, Data: Data{Restored: true}}
	if was, ok := old.(*Object); ok {
		*next = *was
	}
	next.Settings, next.Row.Revision = o.Settings, revision
	return next
}

// Describe gives the settings, and what the document said.
func (o *Object) Describe() []federation.Value {
	out := []federation.Value{{Label: "title", Value: o.Title}, {Label: "address", Value: o.Address},
		{Label: "trustKey", Value: o.TrustKey}, {Label: "notes", Value: o.Notes}, {Label: "addressCA", Value: o.AddressCA},
		{Label: "Entities", Value: fmt.Sprint(o.Entities)}, {Label: "Broken", Value: fmt.Sprint(o.Broken)},
		{Label: "Verified", Value: fmt.Sprint(o.Verified)}}
	if !o.ValidUntil.IsZero() {
		out = append(out, federation.Value{Label: "validUntil", Value: o.ValidUntil.Format(time.RFC3339)})
	}
	return out
}

// Refers is nothing.
func (o *Object) Refers() []federation.Reference { return nil }

// Objects are all, by name.
func (rm *Room) Objects() (out []federation.Object, err error) {
	var rows []store.AggregateRow
	err = rm.store.Read.Order("name").Find(&rows).Error
	for _, row := range rows {
		o := &Object{Row: row}
		if err := json.Unmarshal(row.Data, &o.Data); err != nil {
			return nil, err
		}
		out = append(out, o)
	}
	return out, err
}
