// Package comparing holds the accounts that an application keeps against the people whom it
// would be told of, and keeps what came of it.
package comparing

import (
	"bytes"
	"compress/gzip"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"slices"
	"strconv"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/compare"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Room compares.
type Room struct {
	store   *store.Store
	now     func() time.Time
	records *records.Room
	traces  *traces.Room
	turn    chan struct{} // one at a time: it holds all people
}

// New makes a room.
func New(s *store.Store, now func() time.Time, r *records.Room, t *traces.Room) *Room {
	return &Room{s, now, r, t, make(chan struct{}, 1)}
}

// Wish is a comparison that is wanted.
type Wish struct {
	App        string
	Column     string // heading of the list; "" for the one that fits best
	Identifier string // what identifies people; "" likewise
	Group      string // only people in this group, "" for all who may come
	Document   []byte
}

// Comparison is what one came to.
type Comparison struct {
	ID    int64
	At    time.Time
	Who   string
	Group string `json:",omitempty"`
	compare.Result
	Rates     []compare.Rate
	Bad       []table.BadRow // rows of the list that could not be read
	BadRows   int
	Separator string
	Encoding  string
	Before    *Since `json:",omitempty"`
	// Rule would have the application told what people are identified by here; nil if it is
	// told that already.
	Rule *profile.Rule `json:",omitempty"`
}

// Since is what differs from the comparison before, by the same heading and identifier.
type Since struct {
	ID           int64
	Counts       map[compare.Verdict]int
	Fit, Unfit   []string // accounts that fit exactly now and did not, and the other way round; the first ones
	Came, Went   int      // accounts
	FitN, UnfitN int
}

// Progress is how far a comparison is.
type Progress interface {
	Set(done int64)
	Total(n int64)
}

// kept is how many comparisons of one application are kept, and told how many changes.
const (
	kept = 10
	told = 100
)

// mostAccounts is how many accounts one list may have.
const mostAccounts = 500_000

// errBusy says that another comparison is under way.
var errBusy = change.Conflict("another comparison is under way", "wait until it is done")

// Compare compares a list of accounts with people, and keeps what came of it.
func (rm *Room) Compare(ctx context.Context, by change.By, w Wish, p Progress) (*Comparison, error) {
	select {
	case rm.turn <- struct{}{}:
		defer func() { <-rm.turn }()
	default:
		return nil, errBusy
	}
	app, err := rm.records.Application(w.App)
	if err != nil {
		return nil, err
	}
	t, err := table.Read(ctx, w.Document, mostAccounts)
	if err != nil {
		return nil, change.Field("document", err)
	}
	if len(t.Rows) == 0 {
		return nil, change.Field("document", errors.New("there are headings, and no accounts below them"))
	}
	all, err := rm.candidates(ctx, app, w.Group, p)
	if err != nil {
		return nil, err
	}
	c := compare.New(t, all)
	out := &Comparison{At: rm.now().UTC(), Who: by.Who, Group: w.Group, Rates: c.Rates(), BadRows: len(t.Bad),
		Bad:       t.Bad[:min(len(t.Bad), told)],
		Separator: string(t.Separator), Encoding: t.Encoding}
	column, identifier, err := chosen(w, t, all, out.Rates)
	if err != nil {
		return nil, err
	}
	out.Result = *c.Compare(column, identifier)
	out.Rule = telling(app, out.Identifier)
	if out.Before, err = rm.since(ctx, app, out); err != nil {
		return nil, err
	}
	return out, rm.keep(ctx, by, app, out)
}

// chosen are the heading and the identifier: as they were wished, else those that fit best.
func chosen(w Wish, t *table.Table, all compare.People, rates []compare.Rate) (column, identifier int, err error) {
	column, identifier = t.Column(w.Column), slices.Index(all.Identifiers, w.Identifier)
	unknown := func(field, name string, names []string) error {
		err := fmt.Errorf("there is no %s %q", field, name)
		if near := nearword.Of(name, names); near != "" {
			return change.Field(field, fmt.Errorf("%w; did you mean %s?", err, near))
		}
		return change.Field(field, fmt.Errorf("%w; there are %s", err, quoted(names)))
	}
	switch {
	case w.Column != "" && column < 0:
		return 0, 0, unknown("column", w.Column, t.Head)
	case w.Identifier != "" && identifier < 0:
		return 0, 0, unknown("identifier", w.Identifier, all.Identifiers)
	}
	for _, r := range rates {
		if (w.Column == "" || r.Column == column) && (w.Identifier == "" || r.Identifier == identifier) {
			return r.Column, r.Identifier, nil
		}
	}
	if column >= 0 && identifier >= 0 {
		return column, identifier, nil
	}
	if len(all.Identifiers) == 0 {
		return 0, 0, change.Field("document",
			errors.New("nobody is known of whom the application could be told; import people first, or have some sign in"))
	}
	return max(column, 0), max(identifier, 0), nil // nothing fits: that is the answer
}

func quoted(names []string) string {
	var b bytes.Buffer
	for i, n := range names[:min(len(names), 30)] {
		if i > 0 {
			b.WriteString(", ")
		}
		b.WriteString(n)
	}
	return b.String()
}

// keep keeps a comparison, and drops the oldest ones of the application.
func (rm *Room) keep(ctx context.Context, by change.By, app *federation.Application, c *Comparison) error {
	summary, sealed, err := rm.sealed(c)
	if err != nil {
		return err
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		row := &store.ComparisonRow{App: string(app.ID), At: c.At, Who: c.Who, Summary: summary, Sealed: sealed}
		if err := tx.Create(row).Error; err != nil {
			return err
		}
		c.ID = row.ID
		err := tx.Exec("DELETE FROM comparison_rows WHERE app = ? AND id NOT IN (SELECT id FROM comparison_rows WHERE app = ? ORDER BY id DESC LIMIT ?)",
			string(app.ID), string(app.ID), kept).Error
		if err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, What: fmt.Sprintf("compared accounts: %d of %d fit",
			c.Counts[compare.Exact], c.Accounts)}.WriteOf(tx, app)
	})
}

// sealed is how a comparison is stored: its figures, and its lists.
func (rm *Room) sealed(c *Comparison) (summary, lists []byte, err error) {
	plain, err := json.Marshal(c)
	if err != nil {
		return nil, nil, err
	}
	var packed bytes.Buffer
	z := gzip.NewWriter(&packed)
	err = errors.Join(json.NewEncoder(z).Encode(c.Lines), z.Close())
	return rm.store.Seal("comparison", plain), rm.store.Seal("comparison", packed.Bytes()), err
}

// Forget takes a person, and the accounts that were found to be theirs, out of what is kept.
func (rm *Room) Forget(ctx context.Context, person int64) error {
	select {
	case rm.turn <- struct{}{}: // one that is under way still knows them
		defer func() { <-rm.turn }()
	case <-ctx.Done():
		return ctx.Err()
	}
	for _, app := range rm.records.Snapshot().Applications() {
		all, err := rm.List(ctx, string(app.Name))
		if err != nil {
			return err
		}
		for _, c := range all {
			if c.Lines, err = rm.lines(ctx, app, c.ID); err != nil {
				return err
			}
			if !c.without(person) {
				continue
			}
			summary, sealed, err := rm.sealed(&c)
			if err != nil {
				return err
			}
			err = rm.store.Write(ctx, func(tx *gorm.DB) error {
				return tx.Model(&store.ComparisonRow{}).Where("id = ?", c.ID).Updates(map[string]any{"summary": summary,
					"sealed": sealed}).Error
			})
			if err != nil {
				return err
			}
		}
	}
	return nil
}

// without takes a person's lines out; the figures stay.
func (c *Comparison) without(person int64) bool {
	theirs := map[string]bool{}
	c.Lines = slices.DeleteFunc(c.Lines, func(l compare.Line) bool {
		is := l.Person == person || slices.Contains(l.Others, person)
		theirs[l.Account] = theirs[l.Account] || is
		return is
	})
	found := false
	for _, is := range theirs {
		found = found || is
	}
	if b := c.Before; b != nil && found {
		b.Fit = slices.DeleteFunc(b.Fit, func(a string) bool { return theirs[a] })
		b.Unfit = slices.DeleteFunc(b.Unfit, func(a string) bool { return theirs[a] })
	}
	return found
}

// since holds a comparison against the one before of the same heading and identifier.
func (rm *Room) since(ctx context.Context, app *federation.Application, c *Comparison) (*Since, error) {
	all, err := rm.List(ctx, string(app.Name))
	if err != nil {
		return nil, err
	}
	for _, old := range all {
		if old.Column != c.Column || old.Identifier != c.Identifier || old.Group != c.Group {
			continue
		}
		lines, err := rm.lines(ctx, app, old.ID)
		if err != nil {
			return nil, err
		}
		was := map[string]compare.Verdict{}
		for _, l := range lines {
			if l.Line != 0 {
				was[l.Account] = l.Verdict
			}
		}
		return differing(old, was, c.Lines), nil
	}
	return nil, nil
}

func differing(old Comparison, was map[string]compare.Verdict, lines []compare.Line) *Since {
	s := &Since{ID: old.ID, Counts: old.Counts, Went: len(was)}
	for _, l := range lines {
		if l.Line == 0 {
			continue
		}
		before, there := was[l.Account]
		if !there {
			s.Came++
			continue
		}
		s.Went--
		switch fits, did := l.Verdict == compare.Exact, before == compare.Exact; {
		case fits && !did:
			if s.FitN++; len(s.Fit) < told {
				s.Fit = append(s.Fit, l.Account)
			}
		case did && !fits:
			if s.UnfitN++; len(s.Unfit) < told {
				s.Unfit = append(s.Unfit, l.Account)
			}
		}
	}
	s.Went = max(s.Went, 0)
	return s
}

// List gives the comparisons of an application, the newest first, without their lists.
func (rm *Room) List(ctx context.Context, app string) ([]Comparison, error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return nil, err
	}
	var rows []store.ComparisonRow
	if err := rm.store.Read.WithContext(ctx).Omit("sealed").Where("app = ?",
		string(a.ID)).Order("id DESC").Find(&rows).Error; err != nil {
		return nil, err
	}
	out := []Comparison{}
	for _, r := range rows {
		c, err := rm.read(r)
		if err != nil {
			return nil, err
		}
		out = append(out, c)
	}
	return out, nil
}

func (rm *Room) read(row store.ComparisonRow) (c Comparison, err error) {
	plain, err := rm.store.Open("comparison", row.Summary)
	if err == nil {
		err = json.Unmarshal(plain, &c)
	}
	c.ID, c.At, c.Who = row.ID, row.At, row.Who
	return c, err
}

// Fits are how many accounts of each application fitted when they were last compared.
type Fits struct {
	At      time.Time
	Fit, Of int
}

// Latest gives that, by the name of the application.
func (rm *Room) Latest(ctx context.Context) (map[federation.Name]Fits, error) {
	var rows []store.ComparisonRow
	err := rm.store.Read.WithContext(ctx).Omit("sealed").Where("id IN (SELECT max(id) FROM comparison_rows GROUP BY app)").Find(&rows).Error
	out := map[federation.Name]Fits{}
	for _, r := range rows {
		a, ok := rm.records.Snapshot().ApplicationOf(federation.ID(r.App))
		if err != nil || !ok {
			continue
		}
		var c Comparison
		if c, err = rm.read(r); err == nil {
			out[a.Name] = Fits{c.At, c.Counts[compare.Exact], c.Accounts}
		}
	}
	return out, err
}

// row finds one comparison of an application.
func (rm *Room) row(ctx context.Context, app *federation.Application, id int64) (row store.ComparisonRow, err error) {
	err = rm.store.Read.WithContext(ctx).Where("app = ? AND id = ?", string(app.ID), id).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		err = change.NotFound("comparison of "+string(app.Name), strconv.FormatInt(id, 10), "")
	}
	return row, err
}

func (rm *Room) lines(ctx context.Context, app *federation.Application, id int64) (out []compare.Line, err error) {
	row, err := rm.row(ctx, app, id)
	if err != nil {
		return nil, err
	}
	packed, err := rm.store.Open("comparison", row.Sealed)
	if err != nil {
		return nil, err
	}
	z, err := gzip.NewReader(bytes.NewReader(packed))
	if err != nil {
		return nil, err
	}
	return out, json.NewDecoder(z).Decode(&out)
}

// Page is a page of the lists of a comparison.
type Page struct {
	Comparison
	Lines []compare.Line
	Total int
}

// Get gives a comparison with a page of its lists: those of one verdict, or all.
func (rm *Room) Get(ctx context.Context, app string, id int64, verdict string, offset, limit int) (Page, error) {
	a, err := rm.records.Application(app)
	if err != nil {
		return Page{}, err
	}
	if verdict != "" && !slices.Contains(compare.Verdicts, compare.Verdict(verdict)) {
		return Page{}, change.Field("verdict", fmt.Errorf("%q is no verdict; they are %v", verdict, compare.Verdicts))
	}
	row, err := rm.row(ctx, a, id)
	if err != nil {
		return Page{}, err
	}
	out := Page{}
	if out.Comparison, err = rm.read(row); err != nil {
		return out, err
	}
	lines, err := rm.lines(ctx, a, id)
	if verdict != "" {
		lines = slices.DeleteFunc(lines, func(l compare.Line) bool { return string(l.Verdict) != verdict })
	}
	out.Total = len(lines)
	from := min(max(offset, 0), len(lines))
	out.Lines = lines[from:min(from+limit, len(lines))]
	return out, err
}

// Export writes the lines of one verdict, or all, as CSV.
func (rm *Room) Export(ctx context.Context, app string, id int64, verdict string, to io.Writer) error {
	p, err := rm.Get(ctx, app, id, verdict, 0, 1<<31-1)
	if err != nil {
		return err
	}
	w := csv.NewWriter(to)
	rows := [][]string{{"verdict", "line", "account", "person", "name", "told", "others"}}
	for _, l := range p.Lines {
		row := []string{string(l.Verdict), number(int64(l.Line)), l.Account, number(l.Person), l.Name, l.Value, ""}
		for i, o := range l.Others {
			if i > 0 {
				row[6] += " "
			}
			row[6] += number(o)
		}
		for i := range row {
			row[i] = table.Guarded(row[i])
		}
		rows = append(rows, row)
	}
	return w.WriteAll(rows)
}

func number(n int64) string {
	if n == 0 {
		return ""
	}
	return strconv.FormatInt(n, 10)
}

// Remove removes a comparison.
func (rm *Room) Remove(ctx context.Context, by change.By, app string, id int64) error {
	a, err := rm.records.Application(app)
	if err != nil {
		return err
	}
	if _, err := rm.row(ctx, a, id); err != nil {
		return err
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Where("app = ? AND id = ?", string(a.ID), id).Delete(&store.ComparisonRow{}).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, What: "removed a comparison of accounts"}.WriteOf(tx, a)
	})
}

// Has tells whether an application has an account by exactly a name, by its newest comparison; compared is false if
// there is none.
func (rm *Room) Has(ctx context.Context, name federation.Name, account string) (has, compared bool, err error) {
	app, there := rm.records.Snapshot().Application(name)
	if !there {
		return false, false, nil
	}
	all, err := rm.List(ctx, string(name))
	if err != nil || len(all) == 0 {
		return false, false, err
	}
	lines, err := rm.lines(ctx, app, all[0].ID)
	return slices.ContainsFunc(lines, func(l compare.Line) bool { return l.Account == account }), true, err
}
