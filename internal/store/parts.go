package store

import (
	"database/sql"
	"encoding/binary"
	"encoding/json"
	"errors"

	"github.com/klauspost/compress/s2"
	"gorm.io/gorm"
)

// PartRow is what one turn left of a trace, packed and sealed.
type PartRow struct {
	ID     int64 `gorm:"primaryKey"`
	Trace  string
	Sealed []byte
}

// part is that unpacked: steps, each in JSON, and what the turn was decided on, nil if that is not kept.
type part struct {
	steps  [][]byte
	inputs []byte
}

// packer is room to pack in, used again and again.
type packer struct{ plain, packed []byte }

// pack makes a part one: the number of steps, and each, and the inputs, after their lengths; all in a block of the
// Snappy format, which takes a message that stands there as it came, read, and judged, once. What comes of it lasts
// until the next.
func (to *packer) pack(p part) []byte {
	to.plain = binary.AppendUvarint(to.plain[:0], uint64(len(p.steps)))
	for _, s := range p.steps {
		to.plain = append(binary.AppendUvarint(to.plain, uint64(len(s))), s...)
	}
	to.plain = append(binary.AppendUvarint(to.plain, uint64(len(p.inputs))), p.inputs...)
	if n := s2.MaxEncodedLen(len(to.plain)); cap(to.packed) < n {
		to.packed = make([]byte, n)
	}
	return s2.EncodeSnappy(to.packed[:cap(to.packed)], to.plain)
}

// spare is how much room is kept for the next.
const spare = 1 << 20

// rest lets go of room that was needed once.
func (to *packer) rest() {
	if cap(to.plain)+cap(to.packed) > spare {
		*to = packer{}
	}
}

// mostUnpacked is longer than anything ever packed.
const mostUnpacked = 2 * traceOctets

var errCut = errors.New("a part of a trace is cut off")

// unpack takes apart what pack made.
func unpack(packed []byte) (p part, err error) {
	if n, err := s2.DecodedLen(packed); err != nil || n > mostUnpacked {
		return p, errCut
	}
	plain, err := s2.Decode(nil, packed)
	if err != nil {
		return p, errCut
	}
	number := func() uint64 {
		v, n := binary.Uvarint(plain)
		if n <= 0 || v > uint64(len(plain)) {
			err = errCut
			return 0
		}
		plain = plain[n:]
		return v
	}
	for left := number() + 1; left > 0; left-- {
		n := number()
		if err != nil || n > uint64(len(plain)) {
			return part{}, errCut
		}
		octets := plain[:n:n]
		plain = plain[n:]
		switch {
		case left > 1:
			p.steps = append(p.steps, octets)
		case n > 0:
			p.inputs = octets
		}
	}
	return p, nil
}

// parts are what the turns of traces left, in their order, by trace.
func (t *TraceLog) parts(db *gorm.DB, ids []string) (map[string][]part, error) {
	out := make(map[string][]part, len(ids))
	var rows []PartRow
	if err := db.Where("trace IN ?", ids).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	for _, r := range rows {
		plain, err := t.s.Open("trace part", r.Sealed)
		if err != nil {
			return nil, err
		}
		p, err := unpack(plain)
		if err != nil {
			return nil, err
		}
		out[r.Trace] = append(out[r.Trace], p)
	}
	return out, nil
}

// apart are the steps, or the inputs, of traces that earlier builds kept in rows of their own.
func apart[R StepRow | EntryRow](db *gorm.DB, t *TraceLog, ids []string, label string, of func(R) (string, []byte)) (
	map[string][]json.RawMessage, error) {
	var rows []R
	if err := db.Where("trace IN ?", ids).Order("id").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := make(map[string][]json.RawMessage, len(ids))
	for _, r := range rows {
		id, sealed := of(r)
		plain, err := t.s.Open(label, sealed)
		if err != nil {
			return nil, err
		}
		out[id] = append(out[id], plain)
	}
	return out, nil
}

// stepsOf are the steps of a trace.
func (t *TraceLog) stepsOf(db *gorm.DB, id string) ([]json.RawMessage, error) {
	old, err := apart(db, t, []string{id}, "trace", func(r StepRow) (string, []byte) { return r.Trace, r.Sealed })
	if err != nil {
		return nil, err
	}
	parts, err := t.parts(db, []string{id})
	out := old[id]
	for _, p := range parts[id] {
		for _, s := range p.steps {
			out = append(out, s)
		}
	}
	return out, err
}

// inputsOf are what the turns of several traces were decided on.
func (t *TraceLog) inputsOf(db *gorm.DB, ids []string) (map[string][]json.RawMessage, error) {
	out, err := apart(db, t, ids, "trace inputs", func(r EntryRow) (string, []byte) { return r.Trace, r.Sealed })
	if err != nil {
		return nil, err
	}
	parts, err := t.parts(db, ids)
	for id, all := range parts {
		for _, p := range all {
			if p.inputs != nil {
				out[id] = append(out[id], p.inputs)
			}
		}
	}
	return out, err
}

// traceBatch is what is written of traces in one transaction: each of their heads once.
type traceBatch struct {
	t      *TraceLog
	tx     *gorm.DB
	rows   map[string]*TraceRow
	order  []string
	counts map[[2]string]int // of what decided, by ground and application
}

// row is the head of a trace as it is by now; a fresh one, without an ID, if there is none.
func (b *traceBatch) row(id string) (*TraceRow, error) {
	if r := b.rows[id]; r != nil {
		return r, nil
	}
	r := &TraceRow{}
	err := asks(b.tx, `SELECT id, started, application, provider, named, started_by, result, finding, millis,
		coalesce(verified, false), coalesce(octets, 0), coalesce(steps, 0), account, run FROM trace_rows WHERE id = ?`, id).
		Scan(&r.ID, &r.Started, &r.Application, &r.Provider, &r.Named, &r.StartedBy, &r.Result, &r.Finding, &r.Millis,
			&r.Verified, &r.Octets, &r.Steps, &r.Account, &r.Run)
	if err != nil && !errors.Is(err, sql.ErrNoRows) {
		return nil, err
	}
	b.rows[id], b.order = r, append(b.order, id)
	return r, nil
}

// finish writes the heads, and counts what decided.
func (b *traceBatch) finish() error {
	for _, id := range b.order {
		r := b.rows[id]
		if r.ID == "" {
			continue // it made room for others
		}
		if err := execs(b.tx, `INSERT INTO trace_rows (id, started, application, provider, named, started_by, result, finding, millis,
			verified, octets, steps, account, run) VALUES (?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?, ?) ON CONFLICT (id) DO UPDATE SET
			started = excluded.started, application = excluded.application, provider = excluded.provider, named = excluded.named,
			started_by = excluded.started_by, result = excluded.result, finding = excluded.finding, millis = excluded.millis,
			verified = excluded.verified, octets = excluded.octets, steps = excluded.steps, account = excluded.account,
			run = excluded.run`, r.ID, r.Started, r.Application, r.Provider, r.Named, r.StartedBy, r.Result, r.Finding, r.Millis,
			r.Verified, r.Octets, r.Steps, r.Account, r.Run); err != nil {
			return err
		}
	}
	for of, n := range b.counts {
		if err := decided(b.tx, of[1], of[0], n); err != nil {
			return err
		}
	}
	return nil
}
