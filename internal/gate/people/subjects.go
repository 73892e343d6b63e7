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

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/strictjson"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
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

// ReadKnown reads a list: CSV as any program writes it, whose headings are provider, name, value and, if wanted,
// format; or JSON, an array of objects with these members.
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
			return nil, change.Field("csv", fmt.Errorf("line 1: there is no column %.100q; use %s", name,
				strings.Join(knownColumns, ", ")))
		}
		at[name] = i
	}
	for _, name := range knownColumns[:3] {
		if _, ok := at[name]; !ok {
			return nil, change.Field("csv", fmt.Errorf("line 1: the column %q is missing; the first line names the columns",
				name))
		}
	}
	var out []Known
	for _, row := range t.Rows {
		k := Known{Provider: row.Cells[at["provider"]], Name: row.Cells[at["name"]], Value: row.Cells[at["value"]],
			line: row.Line}
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
		return nil, change.Field("csv",
			fmt.Errorf("%w; in JSON the list is an array of objects with provider, name, value and, if wanted, format", err))
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
func (rm *Room) ImportSubjects(ctx context.Context, b change.By, app string, in Import) (*Imported, error) {
	if _, err := rm.Records.Application(app); err != nil {
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
		im, _, err := rm.importing(ctx, b, app, in)
		if err != nil {
			return nil, err
		}
		return &im.out, im.weigh(rm.Store.People(ctx))
	}
	var im *importing
	err := rm.Records.Change(ctx, b, func(*federation.Snapshot) (p records.Plan, err error) {
		var a *federation.Application
		if im, a, err = rm.importing(ctx, b, app, in); err != nil {
			return p, err
		}
		p.More = func(tx store.Tx) error {
			if err := im.weigh(tx.People()); err != nil {
				return err
			}
			if err := change.Seen(in.Digest, im.out.Digest,
				"what is known of people has changed since the preview"); err != nil {
				return err
			}
			if _, err := rm.Apply(tx, im.put...); err != nil {
				return refused(err)
			}
			what := fmt.Sprintf("imported subjects: %d", im.out.Subjects)
			return change.Note{At: rm.Now(), By: b, What: what, Revision: a.Revision}.WriteOf(tx.Rows(), a)
		}
		return p, nil
	})
	if err != nil {
		return nil, err
	}
	return &im.out, nil
}

// importing reads what is to be imported.
func (rm *Room) importing(ctx context.Context, b change.By, app string, in Import) (*importing,
	*federation.Application, error) {
	a, err := rm.Records.Application(app)
	if err != nil {
		return nil, nil, err
	}
	links, err := rm.knownLinks(ctx, &in)
	return &importing{rm: rm, by: b, app: a.ID, in: in, links: links}, a, err
}

// knownLinks reads the lines: the link by which each person comes.
func (rm *Room) knownLinks(ctx context.Context, in *Import) ([]person.Link, error) {
	snap := rm.Records.Snapshot()
	clients := snap.Speakers().ByName
	out, names, values := make([]person.Link, len(in.Known)), map[string]int{}, map[string]int{}
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
			format, err = rm.usualFormat(p.ID)
		}
		if err != nil {
			return nil, in.lineError(i, "format", err)
		}
		if format == "" && side != nil {
			format = side.Expected()
		}
		l := person.Link{Provider: p.ID, Subject: profile.Subject{Format: format, Value: k.Name}}
		if l.Subject.Format == "" {
			return nil, in.lineError(i, "format",
				fmt.Errorf("nobody is linked to %q yet, so it is not known which format its names have; say it", p.Name))
		}
		l.Key = person.LinkKey(p.ID, l.Subject)
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

// usualFormat is the format in which a provider named somebody last; "" if nobody is linked to it.
func (rm *Room) usualFormat(p federation.ID) (string, error) {
	if known, ok := rm.usual.Load(p); ok && rm.Now().Before(known.(usual).until) {
		return known.(usual).format, nil
	}
	format, err := rm.Store.People(context.Background()).UsualFormat(p)
	if err == nil && format != "" {
		rm.usual.Store(p, usual{format, rm.Now().Add(10 * time.Second)})
	}
	return format, err
}

// importing is an import: weighed, and then stored.
type importing struct {
	rm    *Room
	by    change.By
	app   federation.ID
	in    Import
	links []person.Link // of each line
	out   Imported
	put   []person.Change // what is to be stored
	lines []int           // of each
}

// weigh decides on every line.
func (im *importing) weigh(p store.People) error {
	im.out, im.put, im.lines = Imported{}, nil, nil
	people, err := im.people(p)
	if err != nil {
		return err
	}
	have, err := p.SubjectsAt(im.app, people)
	if err != nil {
		return err
	}
	sum, lines, free := sha256.New(), map[int64]int{}, map[int64]bool{}
	for i, k := range im.in.Known {
		who := people[i]
		was := have[who]
		if first, twice := lines[who]; twice && who != 0 {
			return im.in.again(i, "person", first)
		}
		lines[who] = i
		fmt.Fprintf(sum, "%d %q %q\n", who, was, k.Value)
		switch {
		case was == k.Value:
			im.out.Already++
			continue
		case was != "" && !im.in.Replace:
			return im.in.lineError(i, "value",
				fmt.Errorf("the application knows person %d as %q already; say that values are to be replaced, or leave the line",
					who, was))
		case was != "":
			im.out.Replaced++
			free[who] = true
		case who == 0:
			im.out.People++
		}
		im.add(i, who)
	}
	im.out.Subjects, im.out.Digest = len(im.put), hex.EncodeToString(sum.Sum(nil))
	return im.untaken(p, free)
}

// add has the person of a line known by its value; 0 is somebody still to be made.
func (im *importing) add(line int, who int64) {
	c := person.Change{Person: who, Via: person.ByList, Who: im.by.Who, Replace: true,
		Known: []person.Subject{{App: im.app, Value: im.in.Known[line].Value, Source: person.SubjectImported}}}
	if who == 0 {
		c.Identifier, c.Link = Identifier(), []person.Link{im.links[line]}
	}
	im.put, im.lines = append(im.put, c), append(im.lines, line)
}

// people finds the person of each line, 0 for nobody.
func (im *importing) people(p store.People) ([]int64, error) {
	keys := make([]string, len(im.links))
	for i, l := range im.links {
		keys[i] = l.Key
	}
	known, err := p.ByKeys(keys)
	out := make([]int64, len(keys))
	for i, k := range keys {
		out[i] = known[k]
	}
	return out, err
}

// untaken sees that the application knows nobody else by the values. free are people who get another one, so that two
// may change theirs.
func (im *importing) untaken(p store.People, free map[int64]bool) error {
	values := make([]string, len(im.put))
	for i, line := range im.lines {
		values[i] = im.in.Known[line].Value
	}
	by, err := p.KnownBy(im.app, values)
	for i, line := range im.lines {
		if who, taken := by[values[i]]; err == nil && taken && !free[who] {
			err = im.in.lineError(line, "value", errors.New("the application knows somebody else by it"))
		}
	}
	return err
}

// Subjects lists by what an application knows people, in the order of their numbers after a number, and how many
// there are.
func (rm *Room) Subjects(ctx context.Context, app string, after int64, limit int) ([]store.Subject, int64, error) {
	a, err := rm.Records.Application(app)
	if err != nil {
		return nil, 0, err
	}
	return rm.Store.People(ctx).Subjects(a.ID, after, limit)
}
