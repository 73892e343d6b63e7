package gate

import (
	"context"
	"crypto/sha256"
	"encoding/csv"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/store"
)

// Where subjects come from.
const (
	SubjectDerived  = "derived"
	SubjectImported = "imported"
)

// Subject is the lasting name by which an application knows a person.
type Subject struct {
	Person int64
	Value  string
	Source string // SubjectDerived, SubjectImported
	Added  time.Time
}

// subjectOf is the value by which an application knows a person, "" if there is
// none.
func (g *Gate) subjectOf(db *gorm.DB, app federation.ID, person int64) (string, error) {
	var rows []store.SubjectRow // at most one; no error for none
	if err := db.Where("app = ? AND person = ?", string(app), person).Limit(1).Find(&rows).Error; err != nil || len(rows) == 0 {
		return "", err
	}
	plain, err := g.store.Open("subject", rows[0].Sealed)
	return string(plain), err
}

func (g *Gate) subjectRow(app federation.ID, person int64, value, source string) *store.SubjectRow {
	return &store.SubjectRow{App: string(app), Person: person, Hash: subjectHash(app, value), Source: source, Added: g.now().UTC(), Sealed: g.store.Seal("subject", []byte(value))}
}

func subjectHash(app federation.ID, value string) []byte {
	return store.Hash("subject\x1f" + string(app) + "\x1f" + value)
}

// settle keeps the subject that was derived, unless there is one already.
func (w *writing) settle(tx *gorm.DB, e crossing.Settle) error {
	value := w.rendered.Subject
	if value == "" {
		return nil
	}
	have, err := w.g.subjectOf(tx, e.App, w.made.person.ID)
	if err != nil || have == value {
		return err
	}
	if have != "" {
		return &lostError{e}
	}
	return tx.Create(w.g.subjectRow(e.App, w.made.person.ID, value, SubjectDerived)).Error
}

// Subjects lists by what an application knows people, in the order of their
// numbers after a number, and how many there are.
func (g *Gate) Subjects(ctx context.Context, app string, after int64, limit int) ([]Subject, int64, error) {
	a, err := g.Application(app)
	if err != nil {
		return nil, 0, err
	}
	q := g.store.Read.WithContext(ctx).Model(&store.SubjectRow{}).Where("app = ?", string(a.ID))
	var total int64
	var rows []store.SubjectRow
	err = errors.Join(q.Session(&gorm.Session{}).Count(&total).Error, q.Where("person > ?", after).Order("person").Limit(limit).Find(&rows).Error)
	out := []Subject{}
	for _, r := range rows {
		if err == nil {
			var plain []byte
			plain, err = g.store.Open("subject", r.Sealed)
			out = append(out, Subject{Person: r.Person, Value: string(plain), Source: r.Source, Added: r.Added})
		}
	}
	return out, total, err
}

// Known is one line of an import: an application knows the person whom a
// provider calls Name by Value.
type Known struct {
	Provider string // short name
	Name     string // as the provider says it
	Format   string // of Name, in the protocol's word; "" for that of the provider's people so far
	Value    string

	line int // in the CSV document it came from, 0 if it came from none
}

// Import is the wish that an application keeps the values by which it knows
// people.
type Import struct {
	Known   []Known
	CSV     string // in place of Known; see ReadKnown
	Replace bool   // values that people have there already, too
	Preview bool   // only tell what would be
	Digest  string // of the preview that was seen
}

// maxImport is the number of lines in one import.
const maxImport = 10000

// Imported is what an import comes to.
type Imported struct {
	Subjects int // that the application gets
	Replaced int // of these, in place of another value
	Already  int // that it has already
	People   int // that are made, because nobody is linked by the name yet
	Digest   string
}

// lineError says which line of an import is wrong.
func (in *Import) lineError(i int, what string, err error) error {
	if line := in.Known[i].line; line > 0 {
		return field("csv", fmt.Errorf("line %d, %s: %w", line, what, err))
	}
	return field(fmt.Sprintf("known[%d].%s", i, what), err)
}

// again is the error of a line that has what an earlier one had.
func (in *Import) again(i int, what string, first int) error {
	where := fmt.Sprintf("known[%d]", first)
	if line := in.Known[first].line; line > 0 {
		where = fmt.Sprintf("line %d", line)
	}
	return in.lineError(i, what, fmt.Errorf("it stands in %s already; leave one of them", where))
}

// ReadKnown reads lines out of a CSV document (RFC 4180) whose first line names
// the columns: provider, name, value, and format if it is wanted.
func ReadKnown(document string) ([]Known, error) {
	r := csv.NewReader(strings.NewReader(strings.TrimPrefix(document, "\ufeff")))
	header, err := r.Read()
	if err != nil {
		return nil, field("csv", errors.New("it is empty; the first line names the columns: provider,name,value"))
	}
	columns := []string{"provider", "name", "value", "format"}
	at := map[string]int{}
	for i, name := range header {
		name = strings.ToLower(strings.TrimSpace(name))
		if !slices.Contains(columns, name) {
			return nil, field("csv", fmt.Errorf("line 1: there is no column %q; use %s", clip(name, 100), strings.Join(columns, ", ")))
		}
		at[name] = i
	}
	for _, name := range columns[:3] {
		if _, ok := at[name]; !ok {
			return nil, field("csv", fmt.Errorf("line 1: the column %q is missing; the first line names the columns", name))
		}
	}
	var out []Known
	for {
		row, err := r.Read()
		if err == io.EOF {
			return out, nil
		}
		if err != nil {
			return nil, field("csv", err)
		}
		k := Known{Provider: row[at["provider"]], Name: row[at["name"]], Value: row[at["value"]]}
		if i, ok := at["format"]; ok {
			k.Format = row[i]
		}
		k.line, _ = r.FieldPos(0)
		if out = append(out, k); len(out) > maxImport {
			return nil, field("csv", fmt.Errorf("there are more than %d lines; import them in parts", maxImport))
		}
	}
}

// ImportSubjects has an application go on to know people by the values it knows
// them by. All lines are taken or none, and only what was previewed.
func (g *Gate) ImportSubjects(ctx context.Context, who, app string, in Import) (*Imported, error) {
	g.saving.Lock()
	defer g.saving.Unlock()
	a, err := g.Application(app)
	if err != nil {
		return nil, err
	}
	if in.CSV != "" {
		if len(in.Known) > 0 {
			return nil, field("csv", errors.New("give csv or known, not both"))
		}
		if in.Known, err = ReadKnown(in.CSV); err != nil {
			return nil, err
		}
	}
	if len(in.Known) == 0 || len(in.Known) > maxImport {
		return nil, field("known", fmt.Errorf("%d lines; give 1 to %d at once", len(in.Known), maxImport))
	}
	if !in.Preview && in.Digest == "" {
		return nil, field("digest", errors.New("give the digest of the preview that was looked at"))
	}
	links, err := g.knownLinks(ctx, &in)
	if err != nil {
		return nil, err
	}
	var out *Imported
	errPreview := errors.New("nothing is stored by a preview")
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		im := &importing{g: g, tx: tx, app: a.ID, in: in, out: &Imported{}}
		if err := im.all(links); err != nil {
			return err
		}
		if out = im.out; in.Preview {
			return errPreview
		}
		if in.Digest != out.Digest {
			return &ConflictError{"what is known of people has changed since the preview", "look at the preview again"}
		}
		data, err := federation.Marshal(a)
		if err != nil {
			return err
		}
		h := g.history(ctx, who, KindApplication, app, fmt.Sprintf("imported %d subjects", out.Subjects), a.Revision, data)
		h.Object, h.Protocol = string(a.ID), a.Protocol()
		return tx.Create(h).Error
	})
	if errors.Is(err, errPreview) {
		err = nil
	}
	return out, err
}

// knownLinks reads the lines: the link by which each person comes.
func (g *Gate) knownLinks(ctx context.Context, in *Import) ([]crossing.Link, error) {
	snap, formats := g.Snapshot(), map[federation.ID]string{}
	out, names, values := make([]crossing.Link, len(in.Known)), map[string]int{}, map[string]int{}
	for i, k := range in.Known {
		p, ok := snap.Provider(federation.Name(k.Provider))
		if !ok {
			return nil, in.lineError(i, "provider", &NotFoundError{KindProvider, k.Provider, nearword.Of(k.Provider, snap.Names(KindProvider))})
		}
		if err := lasting(k.Name, 1024); err != nil {
			return nil, in.lineError(i, "name", err)
		}
		if err := lasting(k.Value, 256); err != nil {
			return nil, in.lineError(i, "value", err)
		}
		if _, seen := formats[p.ID]; !seen && k.Format == "" {
			f, err := g.usualFormat(ctx, p.ID)
			if err != nil {
				return nil, err
			}
			formats[p.ID] = f
		}
		l := crossing.Link{Provider: p.ID, Subject: profile.Subject{Format: firstOf(k.Format, formats[p.ID]), Value: k.Name}}
		if l.Subject.Format == "" {
			return nil, in.lineError(i, "format", fmt.Errorf("nobody is linked to %q yet, so it is not known which format its names have; say it", p.Name))
		}
		l.Key = crossing.LinkKey(p.ID, l.Subject)
		if first, twice := names[l.Key]; twice {
			return nil, in.again(i, "name", first)
		}
		if first, twice := values[k.Value]; twice {
			return nil, in.again(i, "value", first)
		}
		names[l.Key], values[k.Value], out[i] = i, i, l
	}
	return out, nil
}

// lasting sees that a name can be one (SAML core §8.3.7 for the length of
// values).
func lasting(s string, most int) error {
	switch {
	case strings.TrimSpace(s) == "":
		return errors.New("it is empty")
	case utf8.RuneCountInString(s) > most:
		return fmt.Errorf("it is longer than %d characters", most)
	case strings.TrimSpace(s) != s:
		return errors.New("there are spaces around it")
	case !utf8.ValidString(s) || strings.ContainsFunc(s, unicode.IsControl):
		return errors.New("there are control characters in it")
	}
	return nil
}

// usualFormat is the format in which a provider named somebody; "" if nobody is
// linked to it.
func (g *Gate) usualFormat(ctx context.Context, p federation.ID) (string, error) {
	var rows []store.LinkRow
	err := g.store.Read.WithContext(ctx).Where("provider = ? AND sealed IS NOT NULL", string(p)).Order("added DESC").Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return "", err
	}
	s, err := g.subject(rows[0])
	if err != nil {
		return "", err
	}
	return s.Format, nil
}

// importing is an import in its transaction.
type importing struct {
	g       *Gate
	tx      *gorm.DB
	app     federation.ID
	in      Import
	out     *Imported
	persons map[int64]int             // line of each
	rows    map[int]*store.SubjectRow // to be stored, by line
}

func (im *importing) all(links []crossing.Link) error {
	im.persons, im.rows = map[int64]int{}, map[int]*store.SubjectRow{}
	sum := sha256.New()
	for i, l := range links {
		person, have, err := im.one(i, l)
		if err != nil {
			return err
		}
		fmt.Fprintf(sum, "%d %q %q\n", person, have, im.in.Known[i].Value)
	}
	im.out.Digest = hex.EncodeToString(sum.Sum(nil))
	return im.store()
}

// store puts the values in place, after all that they replace is gone: two
// people may change theirs.
func (im *importing) store() error {
	for _, row := range im.rows {
		if err := im.tx.Where("app = ? AND person = ?", row.App, row.Person).Delete(&store.SubjectRow{}).Error; err != nil {
			return err
		}
	}
	for i := range im.in.Known {
		row := im.rows[i]
		if row == nil {
			continue
		}
		err := im.tx.Create(row).Error
		if store.IsTaken(err) {
			return im.in.lineError(i, "value", errors.New("the application knows somebody else by it"))
		}
		if err != nil {
			return err
		}
	}
	return nil
}

// one decides on a line, and gives the person's number before, 0 for a new one,
// and the value the application knew them by.
func (im *importing) one(i int, l crossing.Link) (person int64, have string, err error) {
	value := im.in.Known[i].Value
	var links []store.LinkRow // at most one; no error for none
	if err := im.tx.Where("key = ?", store.Hash(l.Key)).Limit(1).Find(&links).Error; err != nil {
		return 0, "", err
	}
	if len(links) > 0 {
		person = links[0].Person
		if first, twice := im.persons[person]; twice {
			return 0, "", im.in.again(i, "person", first)
		}
		im.persons[person] = i
		if have, err = im.g.subjectOf(im.tx, im.app, person); err != nil {
			return 0, "", err
		}
	}
	if have == value {
		im.out.Already++
		return person, have, nil
	}
	if have != "" && !im.in.Replace {
		return 0, "", im.in.lineError(i, "value", fmt.Errorf("the application knows person %d as %q already; say that values are to be replaced, or leave the line", person, have))
	}
	to := person
	if to == 0 {
		if to, err = im.g.newPerson(im.tx, randomText(16), l); err != nil {
			return 0, "", err
		}
		im.out.People++
	}
	if have != "" {
		im.out.Replaced++
	}
	im.out.Subjects++
	im.rows[i] = im.g.subjectRow(im.app, to, value, SubjectImported)
	return person, have, nil
}
