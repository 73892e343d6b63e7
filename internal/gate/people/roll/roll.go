// Package roll takes lists of people in and gives them out: CSV as any program writes it,
// and JSON.
package roll

import (
	"bytes"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"iter"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/strictjson"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// Room takes lists in and gives them out.
type Room struct {
	store   *store.Store
	now     func() time.Time
	records *records.Room
	people  *people.Room
	traces  *traces.Room
	turn    chan struct{} // one list at a time: it is in memory
}

// New makes a room.
func New(s *store.Store, now func() time.Time, r *records.Room, p *people.Room, t *traces.Room) *Room {
	return &Room{s, now, r, p, t, make(chan struct{}, 1)}
}

// Headings that are none of attributes; ColumnLink is followed by the name of a provider.
const (
	ColumnNumber        = "number"
	ColumnState         = "state"
	ColumnUnproved      = "unproved"
	ColumnMarks         = "marks"
	ColumnGroups        = "groups"
	ColumnOrganisations = "organisations"
	ColumnLink          = "link:"
)

// Between stands between several values in a cell.
const Between = "|"

// usual are the attributes that lists have (RFC 7643 §4.1, §4.3).
var usual = []string{"userName", "displayName", "name.givenName", "name.familyName", "name.middleName", "nickName",
	"title",
	"userType", "employeeNumber", "department", "division", "costCenter", "emails", "phoneNumbers", "locale", "timezone",
	"profileUrl", "preferredLanguage"}

// Import is a list that is to be taken in.
type Import struct {
	Document  []byte
	By        string // heading by which people on record are found; "" for number, else the first usual one
	KnownOnly bool   // nobody is made
	SkipBad   bool   // rows that cannot be used are left out
	Empties   bool   // an empty cell takes away what is there; otherwise it changes nothing
	Digest    string // of the preview that was looked at; "" only tells what would be
}

// mostValues is how many values one cell may have.
const mostValues = 200

// longestObject is how many octets one object of a list in JSON may have.
const longestObject = 256 << 10

// mostBad is how many people of a list may be unusable before it is given up.
const mostBad = 10000

// mostRows is how many people one list may have.
const mostRows = 500_000

// entry is what one row says.
type entry struct {
	line   int
	number int64
	state  string
	values map[string][]string
	// unproved are those of values that the list marks as unproved: attributes, or NAME=VALUE.
	unproved []string
	marks    []string                     // of values, in lines
	units    map[federation.Kind][]string // nil for a kind that it says nothing of
	links    []people.NewPerson           // of which the provider and the subject count
}

// has notes values that the list gives somebody. Maps are made for those only who need them: a list may have many
// people.
func (e *entry) has(name string, values []string) {
	if e.values == nil {
		e.values = map[string][]string{}
	}
	e.values[name] = values
}

// in notes units that the list has somebody in.
func (e *entry) in(kind federation.Kind, names []string) {
	if e.units == nil {
		e.units = map[federation.Kind][]string{}
	}
	e.units[kind] = names
}

// list is a document as it was read.
type list struct {
	entries   []entry
	bad       []table.BadRow
	by        string
	columns   []string
	separator string
	encoding  string
}

// read reads a document of either form.
func (rm *Room) read(ctx context.Context, in Import) (*list, error) {
	trimmed := strings.TrimLeft(string(in.Document[:min(len(in.Document), 100)]), "\ufeff \t\r\n")
	if strings.HasPrefix(trimmed, "[") || strings.HasPrefix(trimmed, "{") {
		return rm.readJSON(ctx, in)
	}
	t, err := table.Read(ctx, in.Document, mostRows)
	if err != nil {
		return nil, change.Field("document", err)
	}
	if err := rm.headings(t.Head); err != nil {
		return nil, err
	}
	l := &list{bad: t.Bad, columns: t.Head, separator: string(t.Separator), encoding: t.Encoding}
	if l.by, err = found(in.By, t.Head); err != nil {
		return nil, err
	}
	for _, row := range t.Rows {
		e := entry{line: row.Line}
		var bad *table.BadRow
		for i, cell := range row.Cells {
			if why := e.cell(t.Head[i], strings.TrimSpace(cell), in.Empties); why != nil && bad == nil {
				bad = &table.BadRow{Line: row.Line, Column: t.Head[i], Cause: why.Error()}
			}
		}
		l.add(rm, e, bad)
	}
	return l, nil
}

// headings sees that each heading means something.
func (rm *Room) headings(head []string) error {
	known := append(slices.Clone(usual), ColumnUnproved, ColumnMarks, ColumnNumber, ColumnState, ColumnGroups,
		ColumnOrganisations)
	for i, h := range head {
		at := fmt.Sprintf("line 1, column %d", i+1)
		if name, ok := strings.CutPrefix(h, ColumnLink); ok {
			if _, err := rm.records.Provider(name); err != nil {
				return change.Field("document", fmt.Errorf("%s: %w", at, err))
			}
			continue
		}
		if slices.Contains(known, h) {
			continue
		}
		if near := nearword.Of(h, known); near != "" {
			return change.Field("document",
				fmt.Errorf("%s: the heading %q is near to %s, which is known; write it so, or choose another name", at, h, near))
		}
		if err := people.CheckValues(h, nil); err != nil {
			return change.Field("document", fmt.Errorf("%s: %w", at, err))
		}
	}
	return nil
}

// apart tells people apart, the best first.
var apart = []string{"userName", "employeeNumber", "emails"}

// found is the heading by which people are found.
func found(by string, head []string) (string, error) {
	if by != "" {
		if !slices.Contains(head, by) {
			err := fmt.Errorf("there is no heading %q", by)
			if near := nearword.Of(by, head); near != "" {
				err = fmt.Errorf("%w; did you mean %s?", err, near)
			}
			return "", change.Field("by", err)
		}
		if by == ColumnState || by == ColumnUnproved || by == ColumnMarks || by == ColumnGroups ||
			by == ColumnOrganisations {
			return "", change.Field("by", fmt.Errorf("%s tells nobody apart; name another heading", by))
		}
		return by, nil
	}
	for _, h := range append([]string{ColumnNumber}, apart...) {
		if slices.Contains(head, h) {
			return h, nil
		}
	}
	for _, h := range head {
		if strings.HasPrefix(h, ColumnLink) {
			return h, nil
		}
	}
	return "", change.Field("by", errors.New("nothing tells people apart; name the heading by which they are found"))
}

// cell takes what a cell says.
func (e *entry) cell(head, cell string, empties bool) error {
	var values []string
	for v := range strings.SplitSeq(cell, Between) {
		if len(values) == mostValues {
			return fmt.Errorf("it has more than %d values", mostValues)
		}
		if v = strings.TrimSpace(v); v != "" && !slices.Contains(values, v) {
			values = append(values, v)
		}
	}
	if len(values) == 0 && !empties {
		return nil
	}
	switch provider, isLink := strings.CutPrefix(head, ColumnLink); {
	case isLink:
		for _, v := range values {
			format, value := "", v
			if f, rest, ok := strings.Cut(v, " "); ok && strings.HasPrefix(f, "urn:") {
				format, value = f, rest
			}
			e.links = append(e.links, people.NewPerson{Provider: provider, Subject: profile.Subject{Format: format,
				Value: value}})
		}
	case head == ColumnNumber && len(values) > 0:
		n, err := strconv.ParseInt(values[0], 10, 64)
		if err != nil || n < 1 || len(values) > 1 {
			return fmt.Errorf("%.50q is no number of a person", cell)
		}
		e.number = n
	case head == ColumnNumber:
	case head == ColumnState:
		e.state = strings.ToLower(cell)
	case head == ColumnGroups:
		e.in(federation.KindGroup, append([]string{}, values...))
	case head == ColumnOrganisations:
		e.in(federation.KindOrganisation, append([]string{}, values...))
	case head == ColumnUnproved:
		e.unproved = values
	case head == ColumnMarks:
		e.marks = values
	default:
		e.has(head, values)
	}
	return nil
}

// add takes an entry, if it can be used.
func (l *list) add(rm *Room, e entry, bad *table.BadRow) {
	if bad == nil {
		bad = rm.unfit(e)
	}
	if bad != nil {
		l.bad = append(l.bad, *bad)
		return
	}
	l.entries = append(l.entries, e)
}

// unfit says why an entry cannot be used, nil if it can.
func (rm *Room) unfit(e entry) *table.BadRow {
	bad := func(column string, err error) *table.BadRow {
		return &table.BadRow{Line: e.line, Column: column, Cause: err.Error()}
	}
	if e.state != "" && e.state != "enabled" && e.state != "disabled" {
		return bad(ColumnState, fmt.Errorf("%.50q is no state; use enabled or disabled", e.state))
	}
	for name, values := range e.values {
		if err := people.CheckValues(name, values); err != nil {
			return bad(name, err)
		}
	}
	for _, u := range e.unproved {
		name, _, _ := strings.Cut(u, "=")
		if len(e.values[name]) == 0 {
			return bad(ColumnUnproved, fmt.Errorf("%.100q is none of the attributes that the row has values of", name))
		}
	}
	for _, m := range e.marks {
		if _, err := person.MarkOf(m); err != nil {
			return bad(ColumnMarks, err)
		}
	}
	for kind, column := range map[federation.Kind]string{federation.KindGroup: ColumnGroups,
		federation.KindOrganisation: ColumnOrganisations} {
		for _, n := range e.units[kind] {
			if _, err := rm.records.Unit(kind, n); err != nil {
				return bad(column, err)
			}
		}
	}
	for _, k := range e.links {
		if _, _, err := rm.people.LinkOf(k.Provider, k.Subject); err != nil {
			return bad(ColumnLink+k.Provider, err)
		}
	}
	return nil
}

// Listed is somebody as lists in JSON have them.
type Listed struct {
	Number        int64               `json:"number,omitempty"`
	State         string              `json:"state,omitempty"`
	Values        map[string][]string `json:"values,omitempty"`
	Unproved      []string            `json:"unproved,omitempty"` // attributes, or NAME=VALUE, that nothing proves
	Marks         []string            `json:"marks,omitempty"`    // like emails=ada@wrenmoor.example:work+primary
	Groups        []string            `json:"groups,omitempty"`
	Organisations []string            `json:"organisations,omitempty"`
	Links         []ListedLink        `json:"links,omitempty"`
}

// ListedLink is one of their links.
type ListedLink struct {
	Provider string `json:"provider"`
	Subject  string `json:"subject"`
	Format   string `json:"format,omitempty"`
}

const notListed = "it is no object with number, state, values, unproved, marks, groups, organisations and links as the export writes them: "

// readListed reads somebody; a member that comes twice or that nobody knows is refused.
func readListed(octets []byte) (p Listed, err error) {
	if _, err := strictjson.Object(octets, 4); err != nil {
		return p, err
	}
	d := json.NewDecoder(bytes.NewReader(octets))
	d.DisallowUnknownFields()
	if err := d.Decode(&p); err != nil {
		cause := strings.ReplaceAll(err.Error(), "Go value of type roll.Listed", "it")
		return p, errors.New(strings.TrimPrefix(cause, "json: "))
	}
	return p, nil
}

// readJSON reads a list of objects. What one does not have, it says nothing of.
func (rm *Room) readJSON(ctx context.Context, in Import) (*list, error) {
	l := &list{encoding: "JSON"}
	seen := map[string]bool{}
	line := 0
	refuse := func(why error) (*list, error) { return nil, change.Field("document", why) }
	for octets, err := range members(in.Document) {
		if err != nil {
			return refuse(err)
		}
		switch line++; {
		case line > mostRows:
			return refuse(fmt.Errorf("there are more than %d people; give it in parts", mostRows))
		case len(l.bad) > mostBad:
			return refuse(fmt.Errorf("%d people cannot be read, the first: %w", len(l.bad), l.bad[0]))
		case line%1000 == 0 && ctx.Err() != nil:
			return nil, ctx.Err()
		}
		p, err := readListed(octets)
		if err != nil {
			l.bad = append(l.bad, table.BadRow{Line: line, Cause: notListed + err.Error()})
			continue
		}
		l.add(rm, in.entry(line, p, seen), nil)
	}
	for name := range seen {
		l.columns = append(l.columns, name)
	}
	slices.Sort(l.columns)
	var err error
	l.by, err = found(in.By, l.columns)
	return l, err
}

// entry takes one person of a list, and notes what it says something of.
func (in Import) entry(line int, p Listed, seen map[string]bool) entry {
	e := entry{line: line, number: p.Number, state: p.State, unproved: p.Unproved, marks: p.Marks}
	for name, values := range p.Values {
		if len(values) > 0 || in.Empties {
			e.has(name, values)
		}
		seen[name] = true
	}
	for kind, names := range map[federation.Kind][]string{federation.KindGroup: p.Groups,
		federation.KindOrganisation: p.Organisations} {
		if names != nil && (len(names) > 0 || in.Empties) {
			e.in(kind, names)
		}
	}
	for _, k := range p.Links {
		e.links = append(e.links, people.NewPerson{Provider: k.Provider, Subject: profile.Subject{Format: k.Format,
			Value: k.Subject}})
	}
	if p.Number != 0 {
		seen[ColumnNumber] = true
	}
	return e
}

// members are those of a list in JSON, one after the other as they stand there: each
// is read by itself, so that no shape of the whole takes more than the whole. The last one
// is an error where it is no such list.
func members(document []byte) iter.Seq2[[]byte, error] {
	return func(yield func([]byte, error) bool) {
		fail := func(format string, args ...any) { yield(nil, fmt.Errorf("it is no list in JSON: "+format, args...)) }
		rest := bytes.TrimLeft(bytes.TrimPrefix(document, []byte("\xef\xbb\xbf")), " \t\r\n")
		if len(rest) == 0 || rest[0] != '[' {
			fail("it does not begin with [")
			return
		}
		for first := true; ; first = false {
			rest = bytes.TrimLeft(rest[1:], " \t\r\n")
			if first && len(rest) > 0 && rest[0] == ']' {
				break
			}
			n := memberEnd(rest)
			if n == 0 {
				fail("at octet %d nothing stands that ends within %d octets", len(document)-len(rest), longestObject)
				return
			}
			if !yield(rest[:n], nil) {
				return
			}
			if rest = bytes.TrimLeft(rest[n:], " \t\r\n"); len(rest) > 0 && rest[0] == ']' {
				break
			}
			if len(rest) == 0 || rest[0] != ',' {
				fail("at octet %d neither , nor ] stands", len(document)-len(rest))
				return
			}
		}
		if rest = bytes.TrimLeft(rest[1:], " \t\r\n"); len(rest) > 0 {
			fail("something follows it")
		}
	}
}

// memberEnd is how many octets the member of a list has that text begins with, 0 if there is
// none or it is too long. Whether it is right inside is seen by whoever reads it.
func memberEnd(text []byte) int {
	depth, quoted := 0, false
	for i := 0; i < min(len(text), longestObject); i++ {
		switch c := text[i]; {
		case quoted && c == '\\':
			i++
		case c == '"':
			quoted = !quoted
		case quoted:
		case depth == 0 && (c == ',' || c == ']'):
			return i
		case c == '{' || c == '[':
			depth++
		case c == '}' || c == ']':
			if depth--; depth <= 0 {
				return i + 1
			}
		}
	}
	return 0
}
