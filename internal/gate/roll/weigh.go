package roll

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Imported is what taking a list in comes to.
type Imported struct {
	Rows, New, Changed, Same int
	Disabled, Enabled        int // of those that change
	Bad                      []table.BadRow
	BadRows                  int
	Odd                      []table.BadRow // what is taken in as it is, and should be looked at: the first ones
	OddRows                  int
	Listed                   []Row // the first of those that are made or change
	By                       string
	Columns                  []string
	Separator, Encoding      string
	Digest                   string
	Stored                   bool
	// Consequence is who is let in somewhere by it, or no more.
	Consequence change.Consequence
}

// Row is somebody who is made or changes.
type Row struct {
	Line        int
	Person      int64 // 0 for one who is made
	Name        string
	Differences []federation.Difference
}

// How many rows are told of.
const mostTold = 200

// atOnce is how many people are looked up or stored by one statement.
const atOnce = 500

// plan is what becomes of one entry.
type plan struct {
	entry
	person  int64
	found   []byte // the person's values as they were found
	was     bool   // disabled
	same    bool
	keep    []crossing.KeptValue
	keeps   bool              // what is kept of them changes
	had     map[string]string // what was kept, of what the entry says
	join    []crossing.Membership
	part    []crossing.Membership
	put     []crossing.Link
	disable bool
	enable  bool
}

// weigh decides what becomes of each entry. progress hears how many are done.
func (rm *Room) weigh(db *gorm.DB, in Import, l *list, progress func(int64)) (*Imported, []plan, error) {
	out := &Imported{Rows: len(l.entries) + len(l.bad), By: l.by, Columns: l.columns, Separator: l.separator, Encoding: l.encoding}
	w := &weighing{rm: rm, in: in, list: l, db: db}
	digest := sha256.New()
	fmt.Fprintf(digest, "%x %s %t %t %t\n", sha256.Sum256(in.Document), l.by, in.KnownOnly, in.SkipBad, in.Empties)
	if err := w.find(); err != nil {
		return nil, nil, err
	}
	var plans []plan
	odd := &oddities{mails: map[string]*stands{}}
	for chunk := range slices.Chunk(l.entries, atOnce) {
		some, err := w.plans(chunk)
		if err != nil {
			return nil, nil, err
		}
		for i := range some {
			p := &some[i]
			fmt.Fprintf(digest, "%d %d %x %t %t %t %d %d %d\n", p.line, p.person, hash(p.found), p.was, p.same, p.keeps, len(p.join),
				len(p.part), len(p.put))
			out.count(p)
			odd.look(p)
			if !p.same {
				plans = append(plans, *p)
			}
		}
		progress(int64(out.New + out.Changed + out.Same))
	}
	if err := w.shared(odd); err != nil {
		return nil, nil, err
	}
	out.Odd, out.OddRows = odd.told, odd.count
	bad := append(l.bad, w.bad...)
	slices.SortStableFunc(bad, func(a, b table.BadRow) int { return a.Line - b.Line })
	out.BadRows, out.Bad = len(bad), bad[:min(len(bad), mostTold)]
	out.Digest = hex.EncodeToString(digest.Sum(nil))
	return out, plans, nil
}

// foresee tells whose entry a list decides otherwise.
func (rm *Room) foresee(ctx context.Context, out *Imported, plans []plan) error {
	var become []traces.Becoming
	for i := range plans {
		if p := &plans[i]; p.person != 0 {
			become = append(become, traces.Becoming{Person: p.person, Of: p.becomes})
		}
	}
	var err error
	if out.Consequence, err = rm.traces.Foreseen(ctx, rm.records.Snapshot(), become); err == nil && out.Consequence.Digest != "" {
		out.Digest = change.Digest(out.Digest, out.Consequence.Digest)
	}
	return err
}

// becomes is what becomes of somebody by a plan.
func (p *plan) becomes(who *crossing.Person) {
	if p.keeps {
		who.Values = p.keep
	}
	who.Members = slices.DeleteFunc(append(slices.Clone(who.Members), p.join...), func(m crossing.Membership) bool {
		return slices.Contains(p.part, m)
	})
	who.Disabled = (who.Disabled || p.disable) && !p.enable
}

func hash(octets []byte) []byte {
	sum := sha256.Sum256(octets)
	return sum[:8]
}

// count counts what becomes of somebody, and tells of the first ones.
func (out *Imported) count(p *plan) {
	switch {
	case p.same:
		out.Same++
		return
	case p.person == 0:
		out.New++
	default:
		out.Changed++
	}
	if p.disable {
		out.Disabled++
	}
	if p.enable {
		out.Enabled++
	}
	if len(out.Listed) < mostTold {
		out.Listed = append(out.Listed, Row{p.line, p.person, crossing.NameOf(crossing.Person{ID: p.person, Values: p.keep}), p.differences()})
	}
}

// differences says what changes about somebody.
func (p *plan) differences() (out []federation.Difference) {
	for _, name := range slices.Sorted(maps.Keys(p.values)) {
		if before, after := p.had[name], strings.Join(p.values[name], Between); before != after {
			out = append(out, federation.Difference{Label: name, Before: before, After: after})
		}
	}
	for _, m := range p.join {
		out = append(out, federation.Difference{Label: string(m.Kind), After: string(m.Name)})
	}
	for _, m := range p.part {
		out = append(out, federation.Difference{Label: string(m.Kind), Before: string(m.Name)})
	}
	for _, k := range p.put {
		out = append(out, federation.Difference{Label: "Link", After: k.Subject.Value})
	}
	if p.disable || p.enable {
		out = append(out, federation.Difference{Label: "State", After: p.state})
	}
	return out
}

// weighing is a list that is looked at.
type weighing struct {
	rm     *Room
	in     Import
	list   *list
	db     *gorm.DB
	bad    []table.BadRow
	byTerm map[term][]int64
	byLink map[string]int64 // by the hash of its key
	lines  map[int64]int    // in which somebody stands
	keys   map[string]int   // in which a new one stands, by what they are found by
	said   map[string]int   // in which a link stands
}

// term is a value by which somebody is found.
type term struct{ attribute, key string }

// foundBy names the attribute by which an entry's person is found, "" for none: a row
// whose number is empty is found by what else tells people apart.
func (w *weighing) foundBy(e *entry) string {
	switch by := w.list.by; {
	case strings.HasPrefix(by, ColumnLink):
		return ""
	case by != ColumnNumber:
		return by
	}
	for _, a := range apart {
		if len(e.values[a]) > 0 {
			return a
		}
	}
	return ""
}

// find looks up whom the entries may be about.
func (w *weighing) find() error {
	w.byTerm, w.byLink, w.lines = map[term][]int64{}, map[string]int64{}, map[int64]int{}
	w.keys, w.said = map[string]int{}, map[string]int{}
	terms := map[string][]string{}
	var keys [][]byte
	for i := range w.list.entries {
		e := &w.list.entries[i]
		if by := w.foundBy(e); e.number == 0 {
			for _, v := range e.values[by] {
				terms[by] = append(terms[by], profile.Key(by, v))
			}
		}
		for _, k := range e.links {
			_, link, err := w.rm.accounts.LinkOf(k.Provider, k.Subject)
			if err != nil {
				return err
			}
			keys = append(keys, store.Hash(link.Key))
		}
	}
	for by, keys := range terms {
		found, err := people.Matching(w.db, profile.Word(by), keys)
		if err != nil {
			return err
		}
		for key, ids := range found {
			w.byTerm[term{by, key}] = ids
		}
	}
	for chunk := range slices.Chunk(keys, atOnce) {
		var rows []store.LinkRow
		if err := w.db.Select("key, person").Where("key IN ?", chunk).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			w.byLink[string(r.Key)] = r.Person
		}
	}
	return nil
}

// whom finds the person that an entry is about, 0 for nobody on record.
func (w *weighing) whom(e *entry) (int64, []crossing.Link, *table.BadRow) {
	bad := func(column, cause string) *table.BadRow {
		return &table.BadRow{Line: e.line, Column: column, Cause: cause}
	}
	var person int64
	key := ""
	by := w.foundBy(e)
	switch v := e.values[by]; {
	case e.number != 0:
		person = e.number
	case by == "":
	case len(v) == 0:
		return 0, nil, bad(by, "people are found by it, and it is empty")
	default:
		key = by + "\x00" + profile.Key(by, v[0])
		var ids []int64
		for _, one := range v {
			for _, id := range w.byTerm[term{by, profile.Key(by, one)}] {
				if !slices.Contains(ids, id) {
					ids = append(ids, id)
				}
			}
		}
		switch {
		case len(ids) > 1:
			return 0, nil, bad(by, fmt.Sprintf("%d people have it: %s", len(ids), strings.ReplaceAll(strings.Trim(fmt.Sprint(ids[:min(len(ids), 5)]), "[]"), " ", ", ")))
		case len(ids) == 1:
			person = ids[0]
		}
	}
	var put []crossing.Link
	for _, k := range e.links {
		_, link, err := w.rm.accounts.LinkOf(k.Provider, k.Subject)
		if err != nil {
			return 0, nil, bad(ColumnLink+k.Provider, err.Error())
		}
		hash := string(store.Hash(link.Key))
		if first, twice := w.said[hash]; twice {
			return 0, nil, bad(ColumnLink+k.Provider, fmt.Sprintf("this link stands in line %d already; it is one person's", first))
		}
		w.said[hash] = e.line
		switch theirs := w.byLink[hash]; {
		case theirs != 0 && person != 0 && theirs != person:
			return 0, nil, bad(ColumnLink+k.Provider, fmt.Sprintf("the link is that of person %d, the row is about person %d", theirs, person))
		case theirs != 0:
			person = theirs
		default:
			put = append(put, link)
		}
	}
	return person, put, w.once(e, person, key)
}

// once sees that nobody stands in the list twice.
func (w *weighing) once(e *entry, person int64, key string) *table.BadRow {
	first, twice := w.lines[person]
	if person == 0 {
		first, twice = w.keys[key]
		twice = twice && key != ""
	}
	switch {
	case twice:
		return &table.BadRow{Line: e.line, Column: w.list.by, Cause: fmt.Sprintf("this person stands in line %d already", first)}
	case person != 0:
		w.lines[person] = e.line
		return nil
	case w.in.KnownOnly:
		return &table.BadRow{Line: e.line, Column: w.list.by, Cause: "nobody on record has it"}
	case key == "" && len(e.links) == 0:
		return &table.BadRow{Line: e.line, Column: w.list.by, Cause: "nothing is there by which the person could be known again"}
	}
	w.keys[key] = e.line
	return nil
}

// plans decides on some entries.
func (w *weighing) plans(entries []entry) (out []plan, err error) {
	var ids []int64
	for i := range entries {
		e := entries[i]
		person, put, bad := w.whom(&e)
		if bad != nil {
			w.bad = append(w.bad, *bad)
			continue
		}
		out = append(out, plan{entry: e, person: person, put: put})
		ids = append(ids, person)
	}
	rows, members, err := w.people(ids)
	if err != nil {
		return nil, err
	}
	return slices.DeleteFunc(out, func(p plan) bool {
		_, there := rows[p.person]
		if p.person != 0 && !there {
			w.bad = append(w.bad, table.BadRow{Line: p.line, Column: ColumnNumber, Cause: fmt.Sprintf("there is no person %d", p.person)})
			return true
		}
		return false
	}), w.each(out, rows, members)
}

func (w *weighing) people(ids []int64) (map[int64]store.PersonRow, map[int64][]crossing.Membership, error) {
	var rows []store.PersonRow
	var members []store.MemberRow
	err := errors.Join(w.db.Where("id IN ?", ids).Find(&rows).Error, w.db.Where("person IN ?", ids).Find(&members).Error)
	byID, of := map[int64]store.PersonRow{}, map[int64][]crossing.Membership{}
	for _, r := range rows {
		byID[r.ID] = r
	}
	for _, m := range members {
		of[m.Person] = append(of[m.Person], crossing.Membership{Kind: federation.Kind(m.Kind), Name: federation.Name(m.Name),
			Source: federation.ID(m.Source)})
	}
	return byID, of, err
}

func (w *weighing) each(plans []plan, rows map[int64]store.PersonRow, members map[int64][]crossing.Membership) error {
	for i := range plans {
		p := &plans[i]
		row := rows[p.person]
		stored, err := w.rm.people.Values(row.Sealed)
		if err != nil {
			return err
		}
		p.found, p.was, p.had = row.Sealed, row.Disabled != nil, had(stored, p.values)
		p.keep = crossing.Typed(stored, crossing.FromImport, p.values, p.unproved, w.rm.now())
		p.keeps = !slices.EqualFunc(stored, p.keep, func(a, b crossing.KeptValue) bool {
			return a.Name == b.Name && a.From == b.From && slices.Equal(a.Attribute.Values, b.Attribute.Values) &&
				slices.Equal(a.Proofs, b.Proofs)
		})
		p.disable, p.enable = p.state == "disabled" && !p.was, p.state == "enabled" && p.was
		for kind, names := range p.units {
			p.belongs(kind, names, members[p.person])
		}
		p.same = p.person != 0 && !p.keeps && !p.disable && !p.enable && len(p.join)+len(p.part)+len(p.put) == 0
		if p.same {
			p.keep, p.found, p.had = nil, nil, nil
		}
	}
	return nil
}

// had is what is kept already of attributes that an entry has.
func had(stored []crossing.KeptValue, values map[string][]string) map[string]string {
	var out map[string]string
	for _, v := range stored {
		for name := range values {
			if profile.Word(name) == profile.Word(v.Name) {
				if out == nil {
					out = map[string]string{}
				}
				texts := make([]string, len(v.Attribute.Values))
				for i, x := range v.Attribute.Values {
					texts[i] = x.String()
				}
				out[name] = strings.Join(texts, Between)
			}
		}
	}
	return out
}

// belongs decides where somebody belongs then: what providers say of it stays.
func (p *plan) belongs(kind federation.Kind, names []string, members []crossing.Membership) {
	for _, n := range names {
		if !slices.ContainsFunc(members, func(m crossing.Membership) bool { return m.Kind == kind && string(m.Name) == n }) {
			p.join = append(p.join, crossing.Membership{Kind: kind, Name: federation.Name(n), Source: crossing.FromImport})
		}
	}
	for _, m := range members {
		typed := m.Source == crossing.FromImport || m.Source == crossing.FromHand || m.Source == crossing.Landed
		if m.Kind == kind && typed && !slices.Contains(names, string(m.Name)) {
			p.part = append(p.part, m)
		}
	}
}

// changed reports whether somebody is other than they were found.
func (p *plan) changed(row store.PersonRow, there bool) bool {
	return !there || !bytes.Equal(row.Sealed, p.found) || (row.Disabled != nil) != p.was
}
