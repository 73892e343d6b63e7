package roll

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
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

// plan is what becomes of one entry: a change, as it would be laid over how the person is.
type plan struct {
	entry
	person int64
	change person.Change
	laid   person.Laid
	had    map[string]string // what was kept, of what the entry says
}

// same reports whether nothing becomes of it.
func (p *plan) same() bool { return p.person != 0 && p.laid.Did.Nothing() && len(p.change.Link) == 0 }

// weigh decides what becomes of each entry. progress hears how many are done.
func (rm *Room) weigh(ctx context.Context, in Import, l *list, progress func(int64)) (*Imported, []plan, error) {
	out := &Imported{Rows: len(l.entries) + len(l.bad), By: l.by, Columns: l.columns, Separator: l.separator,
		Encoding: l.encoding}
	w := &weighing{rm: rm, in: in, list: l, on: rm.store.People(ctx)}
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
			if err := p.sum(digest); err != nil {
				return nil, nil, err
			}
			out.count(p)
			odd.look(p)
			if !p.same() {
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

// sum writes what a plan comes to: from how the person is, to what.
func (p *plan) sum(to io.Writer) error {
	revision := p.laid.Revision
	if p.same() {
		revision = 0
	}
	did, err := json.Marshal(p.laid.Did)
	if err == nil {
		_, err = fmt.Fprintf(to, "%d %d %d %s %d\n", p.line, p.person, revision, did, len(p.change.Link))
	}
	return err
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
	if out.Consequence, err = rm.traces.Foreseen(ctx, rm.records.Snapshot(), become); err == nil &&
		out.Consequence.Digest != "" {
		out.Digest = change.Digest(out.Digest, out.Consequence.Digest)
	}
	return err
}

// becomes is what becomes of somebody by a plan.
func (p *plan) becomes(who *person.Person) {
	who.Values, who.Members, who.Disabled = p.laid.Values, p.laid.Members, !p.laid.Disabled.IsZero()
}

// count counts what becomes of somebody, and tells of the first ones.
func (out *Imported) count(p *plan) {
	switch {
	case p.same():
		out.Same++
		return
	case p.person == 0:
		out.New++
	default:
		out.Changed++
	}
	switch p.turned() {
	case person.Disabled:
		out.Disabled++
	case person.Enabled:
		out.Enabled++
	}
	if len(out.Listed) < mostTold {
		out.Listed = append(out.Listed, Row{p.line, p.person, person.NameOf(person.Person{ID: p.person,
			Values: p.laid.Values}), p.differences()})
	}
}

// turned is the state that somebody gets, "" if that stays.
func (p *plan) turned() person.State {
	if p.change.State == person.Enabled && p.person == 0 || p.person != 0 && p.laid.Did.State == "" {
		return ""
	}
	return p.change.State
}

// differences says what changes about somebody.
func (p *plan) differences() (out []federation.Difference) {
	for _, name := range slices.Sorted(maps.Keys(p.values)) {
		if before, after := p.had[name], strings.Join(p.values[name], Between); before != after {
			out = append(out, federation.Difference{Label: name, Before: before, After: after})
		}
	}
	for _, m := range p.laid.Joins {
		out = append(out, federation.Difference{Label: string(m.Kind), After: string(m.Name)})
	}
	for _, m := range p.laid.Leaves {
		out = append(out, federation.Difference{Label: string(m.Kind), Before: string(m.Name)})
	}
	for _, k := range p.change.Link {
		out = append(out, federation.Difference{Label: "Link", After: k.Subject.Value})
	}
	if p.turned() != "" {
		out = append(out, federation.Difference{Label: "State", After: p.state})
	}
	return out
}

// weighing is a list that is looked at.
type weighing struct {
	rm     *Room
	in     Import
	list   *list
	on     store.People
	bad    []table.BadRow
	byTerm map[term][]int64
	byLink map[string]int64 // by its key
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
	w.byTerm, w.lines = map[term][]int64{}, map[int64]int{}
	w.keys, w.said = map[string]int{}, map[string]int{}
	terms := map[string][]string{}
	var keys []string
	for i := range w.list.entries {
		e := &w.list.entries[i]
		if by := w.foundBy(e); e.number == 0 {
			for _, v := range e.values[by] {
				terms[by] = append(terms[by], profile.Key(by, v))
			}
		}
		for _, k := range e.links {
			_, link, err := w.rm.people.LinkOf(k.Provider, k.Subject)
			if err != nil {
				return err
			}
			keys = append(keys, link.Key)
		}
	}
	for by, keys := range terms {
		found, err := w.on.Matching(profile.Word(by), keys)
		if err != nil {
			return err
		}
		for key, ids := range found {
			w.byTerm[term{by, key}] = ids
		}
	}
	var err error
	w.byLink, err = w.on.ByKeys(keys)
	return err
}

// whom finds the person that an entry is about, 0 for nobody on record.
func (w *weighing) whom(e *entry) (int64, []person.Link, *table.BadRow) {
	bad := func(column, cause string) *table.BadRow {
		return &table.BadRow{Line: e.line, Column: column, Cause: cause}
	}
	var who int64
	key := ""
	by := w.foundBy(e)
	switch v := e.values[by]; {
	case e.number != 0:
		who = e.number
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
			return 0, nil, bad(by, fmt.Sprintf("%d people have it: %s", len(ids),
				strings.ReplaceAll(strings.Trim(fmt.Sprint(ids[:min(len(ids), 5)]), "[]"), " ", ", ")))
		case len(ids) == 1:
			who = ids[0]
		}
	}
	var put []person.Link
	for _, k := range e.links {
		_, link, err := w.rm.people.LinkOf(k.Provider, k.Subject)
		if err != nil {
			return 0, nil, bad(ColumnLink+k.Provider, err.Error())
		}
		if first, twice := w.said[link.Key]; twice {
			return 0, nil, bad(ColumnLink+k.Provider, fmt.Sprintf("this link stands in line %d already; it is one person's",
				first))
		}
		w.said[link.Key] = e.line
		switch theirs := w.byLink[link.Key]; {
		case theirs != 0 && who != 0 && theirs != who:
			return 0, nil, bad(ColumnLink+k.Provider, fmt.Sprintf("the link is that of person %d, the row is about person %d",
				theirs, who))
		case theirs != 0:
			who = theirs
		default:
			put = append(put, link)
		}
	}
	return who, put, w.once(e, who, key)
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
		return &table.BadRow{Line: e.line, Column: w.list.by, Cause: fmt.Sprintf("this person stands in line %d already",
			first)}
	case person != 0:
		w.lines[person] = e.line
		return nil
	case w.in.KnownOnly:
		return &table.BadRow{Line: e.line, Column: w.list.by, Cause: "nobody on record has it"}
	case key == "" && len(e.links) == 0:
		return &table.BadRow{Line: e.line, Column: w.list.by,
			Cause: "nothing is there by which the person could be known again"}
	}
	w.keys[key] = e.line
	return nil
}

// plans decides on some entries.
func (w *weighing) plans(entries []entry) (out []plan, err error) {
	var ids []int64
	for i := range entries {
		e := entries[i]
		who, put, bad := w.whom(&e)
		if bad != nil {
			w.bad = append(w.bad, *bad)
			continue
		}
		out = append(out, plan{entry: e, person: who, change: person.Change{Person: who, Via: person.ByList, Link: put}})
		ids = append(ids, who)
	}
	kept, err := w.on.Kept(ids)
	if err != nil {
		return nil, err
	}
	out = slices.DeleteFunc(out, func(p plan) bool {
		if p.person == 0 || kept[p.person] != nil {
			return false
		}
		w.bad = append(w.bad, table.BadRow{Line: p.line, Column: ColumnNumber, Cause: fmt.Sprintf("there is no person %d",
			p.person)})
		return true
	})
	unfit := map[int]bool{}
	for i := range out {
		was := person.Record{}
		if k := kept[out[i].person]; k != nil {
			was = k.Record
		}
		var no *person.RefusedError
		if err := w.lay(&out[i], was); errors.As(err, &no) {
			w.bad = append(w.bad, table.BadRow{Line: out[i].line, Column: no.Field, Cause: no.Error()})
			unfit[out[i].line] = true
		} else if err != nil {
			return nil, err
		}
	}
	return slices.DeleteFunc(out, func(p plan) bool { return unfit[p.line] }), nil
}

// lay decides what becomes of somebody by an entry, by the function that stores it.
func (w *weighing) lay(p *plan, was person.Record) (err error) {
	c := &p.change
	c.Revision, c.State = was.Revision, person.State(p.state)
	if p.person == 0 && c.State == person.Enabled {
		c.State = ""
	}
	if len(p.values)+len(p.marks) > 0 {
		c.Typed = &person.Typing{From: person.FromImport, Values: p.values, Unproved: p.unproved}
		for _, m := range p.marks {
			one, err := person.MarkOf(m)
			if err != nil {
				return err
			}
			c.Typed.Marks = append(c.Typed.Marks, one)
		}
	}
	for _, kind := range slices.Sorted(maps.Keys(p.units)) {
		belongs(c, kind, p.units[kind], was.Members)
	}
	for _, v := range p.values[w.list.by] {
		if p.person == 0 {
			c.Unless = append(c.Unless, person.Sought{Attribute: profile.Word(w.list.by), Value: profile.Key(w.list.by, v)})
		}
	}
	snap := w.rm.records.Snapshot()
	there := func(r federation.Ref) bool {
		_, there := snap.Unit(r.Kind, r.Name)
		return there
	}
	p.laid, err = c.Lay(person.Ground{Snap: snap, There: there, Now: w.rm.now()}, was)
	if p.had = had(was.Values, p.values); p.same() {
		p.laid.Values, p.laid.Members, p.had = nil, nil, nil
	}
	return err
}

// had is what is kept already of attributes that an entry has.
func had(stored []person.KeptValue, values map[string][]string) map[string]string {
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
func belongs(c *person.Change, kind federation.Kind, names []string, members []person.Membership) {
	for _, n := range names {
		if !slices.ContainsFunc(members, func(m person.Membership) bool { return m.Kind == kind && string(m.Name) == n }) {
			c.Join = append(c.Join, person.Membership{Kind: kind, Name: federation.Name(n), Source: person.FromImport})
		}
	}
	for _, m := range members {
		typed := m.Source == person.FromImport || m.Source == person.FromHand || m.Source == person.Landed
		if m.Kind == kind && typed && !slices.Contains(names, string(m.Name)) {
			c.Leave = append(c.Leave, m)
		}
	}
}
