package people

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/strictjson"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

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
		return change.Field("csv", fmt.Errorf("line %d, %s: %w", line, what, err))
	}
	return change.Field(fmt.Sprintf("known[%d].%s", i, what), err)
}

// again is the error of a line that has what an earlier one had.
func (in *Import) again(i int, what string, first int) error {
	where := fmt.Sprintf("known[%d]", first)
	if line := in.Known[first].line; line > 0 {
		where = fmt.Sprintf("line %d", line)
	}
	return in.lineError(i, what, fmt.Errorf("it stands in %s already; leave one of them", where))
}

// knownColumns are the headings of such a list; the last one may be absent.
var knownColumns = []string{"provider", "name", "value", "format"}

// ReadKnown reads a list: CSV as any program writes it, whose headings are provider, name, value and, if wanted, format; or
// JSON, an array of objects with these members.
func ReadKnown(ctx context.Context, document string) ([]Known, error) {
	if text := strings.TrimSpace(strings.TrimPrefix(document, "\ufeff")); strings.HasPrefix(text, "[") {
		return knownOfJSON(text)
	}
	t, err := table.Read(ctx, []byte(document), maxImport)
	if err != nil {
		return nil, change.Field("csv", err)
	}
	if len(t.Bad) > 0 {
		return nil, change.Field("csv", t.Bad[0])
	}
	at := map[string]int{}
	for i, name := range t.Head {
		name = strings.ToLower(strings.TrimSpace(name))
		if !slices.Contains(knownColumns, name) {
			return nil, change.Field("csv", fmt.Errorf("line 1: there is no column %.100q; use %s", name, strings.Join(knownColumns, ", ")))
		}
		at[name] = i
	}
	for _, name := range knownColumns[:3] {
		if _, ok := at[name]; !ok {
			return nil, change.Field("csv", fmt.Errorf("line 1: the column %q is missing; the first line names the columns", name))
		}
	}
	var out []Known
	for _, row := range t.Rows {
		k := Known{Provider: row.Cells[at["provider"]], Name: row.Cells[at["name"]], Value: row.Cells[at["value"]], line: row.Line}
		if i, ok := at["format"]; ok {
			k.Format = row.Cells[i]
		}
		out = append(out, k)
	}
	return out, nil
}

// knownOfJSON reads such a list in JSON.
func knownOfJSON(text string) ([]Known, error) {
	wrong := func(err error) ([]Known, error) {
		return nil, change.Field("csv", fmt.Errorf("%w; in JSON the list is an array of objects with provider, name, value and, if wanted, format", err))
	}
	if err := strictjson.Once([]byte(text), 3); err != nil {
		return wrong(err)
	}
	var all []struct{ Provider, Name, Value, Format string }
	d := json.NewDecoder(strings.NewReader(text))
	d.DisallowUnknownFields()
	if err := d.Decode(&all); err != nil {
		return wrong(err)
	}
	out := make([]Known, len(all))
	for i, k := range all {
		out[i] = Known{Provider: k.Provider, Name: k.Name, Value: k.Value, Format: k.Format}
	}
	return out, nil
}

// ImportSubjects has an application go on to know people by the values it knows
// them by. All lines are taken or none, and only what was previewed.
func (rm *Room) ImportSubjects(ctx context.Context, by change.By, app string, in Import) (*Imported, error) {
	if _, err := rm.records.Application(app); err != nil {
		return nil, err
	}
	if in.CSV != "" {
		if len(in.Known) > 0 {
			return nil, change.Field("csv", errors.New("give csv or known, not both"))
		}
		var err error
		if in.Known, err = ReadKnown(ctx, in.CSV); err != nil {
			return nil, err
		}
	}
	if len(in.Known) == 0 || len(in.Known) > maxImport {
		return nil, change.Field("known", fmt.Errorf("%d lines; give 1 to %d at once", len(in.Known), maxImport))
	}
	if in.Preview {
		im, _, err := rm.importing(ctx, app, in)
		if err != nil {
			return nil, err
		}
		return &im.out, im.weigh(rm.store.Read.WithContext(ctx))
	}
	var im *importing
	err := rm.records.Change(ctx, by, func(*federation.Snapshot) (p records.Plan, err error) {
		var a *federation.Application
		if im, a, err = rm.importing(ctx, app, in); err != nil {
			return p, err
		}
		p.More = func(tx *gorm.DB) error {
			if err := im.weigh(tx); err != nil {
				return err
			}
			if err := change.Seen(in.Digest, im.out.Digest, "what is known of people has changed since the preview"); err != nil {
				return err
			}
			if err := im.store(tx); err != nil {
				return err
			}
			what := fmt.Sprintf("imported subjects: %d", im.out.Subjects)
			return change.Note{At: rm.now(), By: by, What: what, Revision: a.Revision}.WriteOf(tx, a)
		}
		return p, nil
	})
	if err != nil {
		return nil, err
	}
	return &im.out, nil
}

// importing reads what is to be imported.
func (rm *Room) importing(ctx context.Context, app string, in Import) (*importing, *federation.Application, error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return nil, nil, err
	}
	links, err := rm.knownLinks(ctx, &in)
	return &importing{rm: rm, app: a.ID, in: in, links: links}, a, err
}

// knownLinks reads the lines: the link by which each person comes.
func (rm *Room) knownLinks(ctx context.Context, in *Import) ([]crossing.Link, error) {
	snap := rm.records.Snapshot()
	clients := snap.Speakers().ByName
	out, names, values := make([]crossing.Link, len(in.Known)), map[string]int{}, map[string]int{}
	for i, k := range in.Known {
		p, ok := snap.Provider(federation.Name(k.Provider))
		if !ok {
			return nil, in.lineError(i, "provider", change.NotFound(change.KindProvider, k.Provider,
				nearword.Of(k.Provider, snap.Names(change.KindProvider))))
		}
		if err := lasting(k.Name, 1024); err != nil {
			return nil, in.lineError(i, "name", err)
		}
		if err := lasting(k.Value, 256); err != nil {
			return nil, in.lineError(i, "value", err)
		}
		if app, is := clients[k.Value]; is {
			return nil, in.lineError(i, "value", finding.New(finding.SubjectIsClient,
				finding.Fact("Application", string(app))))
		}
		side := p.Side.Can().Formatting
		format, err := k.Format, error(nil)
		if side != nil && format != "" {
			format, err = side.FormatOf(format)
		} else if format == "" {
			format, err = rm.UsualFormat(p.ID)
		}
		if err != nil {
			return nil, in.lineError(i, "format", err)
		}
		if format == "" && side != nil {
			format = side.Expected()
		}
		l := crossing.Link{Provider: p.ID, Subject: profile.Subject{Format: format, Value: k.Name}}
		if l.Subject.Format == "" {
			return nil, in.lineError(i, "format",
				fmt.Errorf("nobody is linked to %q yet, so it is not known which format its names have; say it", p.Name))
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

// usual is the format in which a provider named somebody, as it was looked up a moment ago.
type usual struct {
	format string
	until  time.Time
}

// UsualFormat is the format in which a provider named somebody last; "" if nobody is linked to it.
func (rm *Room) UsualFormat(p federation.ID) (string, error) {
	if known, ok := rm.usual.Load(p); ok && rm.now().Before(known.(usual).until) {
		return known.(usual).format, nil
	}
	var rows []store.LinkRow
	err := rm.store.Read.Where("provider = ? AND sealed IS NOT NULL", string(p)).Order("added DESC").Limit(1).Find(&rows).Error
	if err != nil || len(rows) == 0 {
		return "", err
	}
	s, err := rm.subject(rows[0])
	if err != nil {
		return "", err
	}
	rm.usual.Store(p, usual{s.Format, rm.now().Add(10 * time.Second)})
	return s.Format, nil
}

// importing is an import: weighed, and then stored.
type importing struct {
	rm    *Room
	app   federation.ID
	in    Import
	links []crossing.Link // of each line
	out   Imported
	put   []given // what is to be stored
}

// given is a value that a person gets; person is 0 for one still to be made.
type given struct {
	line   int
	person int64
}

// at once: rows that are looked up or stored by one statement.
const atOnce = 500

// weigh decides on every line.
func (im *importing) weigh(db *gorm.DB) error {
	im.out, im.put = Imported{}, nil
	people, err := im.people(db)
	if err != nil {
		return err
	}
	have, err := im.have(db, people)
	if err != nil {
		return err
	}
	sum, lines, free := sha256.New(), map[int64]int{}, map[int64]bool{}
	for i, k := range im.in.Known {
		person := people[i]
		was := have[person]
		if first, twice := lines[person]; twice && person != 0 {
			return im.in.again(i, "person", first)
		}
		lines[person] = i
		fmt.Fprintf(sum, "%d %q %q\n", person, was, k.Value)
		switch {
		case was == k.Value:
			im.out.Already++
			continue
		case was != "" && !im.in.Replace:
			return im.in.lineError(i, "value",
				fmt.Errorf("the application knows person %d as %q already; say that values are to be replaced, or leave the line",
					person, was))
		case was != "":
			im.out.Replaced++
			free[person] = true
		case person == 0:
			im.out.People++
		}
		im.put = append(im.put, given{i, person})
	}
	im.out.Subjects, im.out.Digest = len(im.put), hex.EncodeToString(sum.Sum(nil))
	return im.untaken(db, free)
}

// people finds the person of each line, 0 for nobody.
func (im *importing) people(db *gorm.DB) ([]int64, error) {
	keys := make([][]byte, len(im.links))
	for i, l := range im.links {
		keys[i] = store.Hash(l.Key)
	}
	known := map[string]int64{}
	for chunk := range slices.Chunk(keys, atOnce) {
		var rows []store.LinkRow
		if err := db.Select("key, person").Where("key IN ?", chunk).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			known[string(r.Key)] = r.Person
		}
	}
	out := make([]int64, len(keys))
	for i, k := range keys {
		out[i] = known[string(k)]
	}
	return out, nil
}

// have gives by what the application knows people.
func (im *importing) have(db *gorm.DB, people []int64) (map[int64]string, error) {
	out := map[int64]string{}
	for chunk := range slices.Chunk(people, atOnce) {
		var rows []store.SubjectRow
		if err := db.Where("app = ? AND person IN ?", string(im.app), chunk).Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			plain, err := im.rm.store.Open("subject", r.Sealed)
			if err != nil {
				return nil, err
			}
			out[r.Person] = string(plain)
		}
	}
	return out, nil
}

// untaken sees that the application knows nobody else by the values. free are
// people who get another one, so that two may change theirs.
func (im *importing) untaken(db *gorm.DB, free map[int64]bool) error {
	for chunk := range slices.Chunk(im.put, atOnce) {
		lines, hashes := map[string]int{}, [][]byte{}
		for _, p := range chunk {
			hash := subjectHash(im.app, im.in.Known[p.line].Value)
			lines[string(hash)], hashes = p.line, append(hashes, hash)
		}
		var rows []store.SubjectRow
		if err := db.Select("hash, person").Where("hash IN ?", hashes).Find(&rows).Error; err != nil {
			return err
		}
		for _, r := range rows {
			if !free[r.Person] {
				return im.in.lineError(lines[string(r.Hash)], "value", errors.New("the application knows somebody else by it"))
			}
		}
	}
	return nil
}

// store makes the people who are not known yet, and puts the values in place.
func (im *importing) store(tx *gorm.DB) error {
	now := im.rm.now().UTC()
	for chunk := range slices.Chunk(im.put, atOnce) {
		var made []store.PersonRow
		var people []int64
		for _, p := range chunk {
			if people = append(people, p.person); p.person == 0 {
				made = append(made, store.PersonRow{Identifier: random.Text(16), Added: now})
			}
		}
		if err := tx.Where("app = ? AND person IN ?", string(im.app), people).Delete(&store.SubjectRow{}).Error; err != nil {
			return err
		}
		if len(made) == 0 {
			continue
		}
		if err := tx.Create(&made).Error; err != nil {
			return err
		}
		var links []*store.LinkRow
		for i := range chunk {
			if p := &chunk[i]; p.person == 0 {
				p.person, made = made[0].ID, made[1:]
				link, err := im.rm.linkRow(im.links[p.line], p.person)
				if err != nil {
					return err
				}
				links = append(links, link)
			}
		}
		if err := im.rm.createLinks(tx, links); err != nil {
			return err
		}
	}
	for chunk := range slices.Chunk(im.put, atOnce) {
		var rows []*store.SubjectRow
		for _, p := range chunk {
			rows = append(rows, im.rm.subjectRow(im.app, p.person, im.in.Known[p.line].Value, SubjectImported))
		}
		if err := tx.Create(rows).Error; err != nil {
			return err
		}
	}
	return nil
}
