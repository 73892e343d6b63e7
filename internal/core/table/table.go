// Package table reads lists as people have them: CSV (RFC 4180) as programs write it out,
// with a byte order mark or without, separated by commas, semicolons or tabs, in UTF-8 or
// in Windows-1252 and Latin-1.
//
//	t, err := table.Read(ctx, octets, 1000)
//	t.Head      // the headings
//	t.Rows[0]   // the cells of the first row, and the line in which it begins
package table

import (
	"bufio"
	"bytes"
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"
)

// Bounds of what is read: octets, columns, octets of one cell and of one row, rows that
// cannot be read, and what the rows take in memory whatever their shape.
const (
	MaxOctets  = 128 << 20
	maxColumns = 200
	maxCell    = 4096
	maxRow     = maxColumns * maxCell
	maxBad     = 10000
	MaxHeld    = 160 << 20
)

// Table is a list with headings.
type Table struct {
	Head      []string
	Rows      []Row
	Separator rune
	Encoding  string   // as it was found
	Bad       []BadRow // rows that cannot be read, which are not among Rows
}

// Row is one row.
type Row struct {
	Line  int // in which it begins, from 1
	Cells []string
}

// BadRow is a row that cannot be used, and why.
type BadRow struct {
	Line   int    `json:"line"`
	Column string `json:"column,omitempty"` // "" for the row as a whole
	Cause  string `json:"cause"`
}

// Error says where and why.
func (b BadRow) Error() string {
	if b.Column == "" {
		return fmt.Sprintf("line %d: %s", b.Line, b.Cause)
	}
	return fmt.Sprintf("line %d, %s: %s", b.Line, b.Column, b.Cause)
}

// Read reads a list of at most so many rows, whose first row has the headings. What makes
// the whole of it useless is an error; rows that do not fit are in Bad. It is read as it
// comes: bounds are met where they are, and an end of the context ends it there.
func Read(ctx context.Context, octets []byte, most int) (*Table, error) {
	if len(octets) > MaxOctets {
		return nil, fmt.Errorf("it has %d octets; give at most 128 MiB, or parts of it", len(octets))
	}
	text, encoding, err := decode(octets)
	if err != nil {
		return nil, err
	}
	buffered := bufio.NewReaderSize(text, 64<<10)
	t := &Table{Encoding: encoding, Separator: separator(buffered)}
	r := csv.NewReader(&bounded{from: buffered})
	r.Comma, r.FieldsPerRecord, r.LazyQuotes = t.Separator, -1, false
	head, err := r.Read()
	if err == io.EOF {
		return nil, errors.New("it is empty; the first line has the headings")
	}
	if err != nil {
		return nil, err
	}
	if err := t.head(head); err != nil {
		return nil, err
	}
	for held, n := 0, 0; ; n++ {
		cells, err := r.Read()
		var pe *csv.ParseError
		switch {
		case err == io.EOF:
			return t, nil
		case errors.As(err, &pe):
			t.Bad = append(t.Bad, BadRow{Line: pe.StartLine, Cause: pe.Err.Error()})
		case err != nil:
			return nil, err
		default:
			line, _ := r.FieldPos(0)
			held += t.row(line, cells)
		}
		switch {
		case len(t.Rows)+len(t.Bad) > most:
			return nil, fmt.Errorf("there are more than %d rows; give it in parts", most)
		case len(t.Bad) > maxBad:
			return nil, fmt.Errorf("%d rows cannot be read, the first: %w", len(t.Bad), t.Bad[0])
		case held > MaxHeld:
			return nil, fmt.Errorf("its cells take more than %d MiB; leave columns out, or give it in parts", MaxHeld>>20)
		case n%1000 == 0 && ctx.Err() != nil:
			return nil, ctx.Err()
		}
	}
}

// bounded passes a list on, and fails in a row that is too long: nothing behind it reads a
// row in pieces.
type bounded struct {
	from   io.Reader
	row    int
	quoted bool
}

// Read passes on what there is.
func (b *bounded) Read(p []byte) (int, error) {
	n, err := b.from.Read(p)
	for _, octet := range p[:n] {
		b.row++
		switch {
		case octet == '"':
			b.quoted = !b.quoted
		case octet == '\n' && !b.quoted:
			b.row = 0
		}
		if b.row > maxRow {
			return 0, fmt.Errorf("a row has more than %d octets; look for a quotation mark that is not closed", maxRow)
		}
	}
	return n, err
}

// Guarded is a cell that no spreadsheet takes for a formula: what begins like one gets a
// space before it, which reading takes away again.
func Guarded(cell string) string {
	if cell != "" && strings.ContainsRune("=+-@\t\r", rune(cell[0])) {
		return " " + cell
	}
	return cell
}

// head takes the headings.
func (t *Table) head(head []string) error {
	if len(head) > maxColumns {
		return fmt.Errorf("there are %d columns; give at most %d", len(head), maxColumns)
	}
	seen := map[string]bool{}
	for i, h := range head {
		h = strings.TrimSpace(h)
		if h == "" && i == len(head)-1 && i > 0 {
			head = head[:i] // a separator at the end of the line
			break
		}
		if h == "" {
			return fmt.Errorf("line 1: column %d has no heading; the first line has the headings", i+1)
		}
		if seen[strings.ToLower(h)] {
			return fmt.Errorf("line 1: the heading %q stands there twice", h)
		}
		seen[strings.ToLower(h)] = true
		t.Head = append(t.Head, h)
	}
	return nil
}

// row takes a row, if it fits the headings, and gives what it takes in memory.
func (t *Table) row(line int, cells []string) (held int) {
	for len(cells) > len(t.Head) && cells[len(cells)-1] == "" {
		cells = cells[:len(cells)-1]
	}
	switch {
	case len(cells) == 1 && strings.TrimSpace(cells[0]) == "":
		return 0
	case len(cells) > len(t.Head):
		t.Bad = append(t.Bad, BadRow{Line: line, Cause: fmt.Sprintf("it has %d cells, there are %d headings", len(cells),
			len(t.Head))})
		return 0
	}
	for i, c := range cells {
		if len(c) > maxCell || strings.ContainsFunc(c, func(r rune) bool {
			return r < ' ' && r != '\t' && r != '\n' ||
				r == 0x7f
		}) {
			t.Bad = append(t.Bad, BadRow{Line: line, Column: t.Head[i],
				Cause: fmt.Sprintf("it has more than %d octets, or control characters", maxCell)})
			return 0
		}
	}
	for len(cells) < len(t.Head) {
		cells = append(cells, "")
	}
	t.Rows = append(t.Rows, Row{line, cells})
	held = 40 + 16*cap(cells)
	for _, c := range cells {
		held += len(c)
	}
	return held
}

// Column gives the place of a heading, in any case; -1 if there is none.
func (t *Table) Column(name string) int {
	for i, h := range t.Head {
		if strings.EqualFold(h, name) {
			return i
		}
	}
	return -1
}

// decode gives the text in UTF-8, as it is read.
func decode(octets []byte) (text io.Reader, encoding string, err error) {
	switch {
	case bytes.HasPrefix(octets, []byte{0xef, 0xbb, 0xbf}):
		octets = octets[3:]
	case bytes.HasPrefix(octets, []byte{0xff, 0xfe}) || bytes.HasPrefix(octets, []byte{0xfe, 0xff}):
		if len(octets)%2 != 0 {
			return nil, "", errors.New("it is cut off in the middle of a character")
		}
		wide := unicode.UTF16(unicode.LittleEndian, unicode.ExpectBOM).NewDecoder()
		return transform.NewReader(bytes.NewReader(octets), wide), "UTF-16", nil
	}
	if bytes.IndexByte(octets, 0) >= 0 {
		return nil, "", errors.New("this is no text; save the list as CSV")
	}
	if utf8.Valid(octets) {
		return bytes.NewReader(octets), "UTF-8", nil
	}
	narrow := charmap.Windows1252.NewDecoder()
	return transform.NewReader(bytes.NewReader(octets), narrow), "Windows-1252 or Latin-1", nil
}

// separator is what stands between cells: of what can, whatever the first line has most of
// outside quotation marks.
func separator(text *bufio.Reader) rune {
	begin, _ := text.Peek(text.Size()) // as much as there is
	line, _, _ := bytes.Cut(begin, []byte("\n"))
	best, most := ',', 0
	for _, s := range []byte{',', ';', '\t', '|'} {
		n, quoted := 0, false
		for _, octet := range line {
			switch {
			case octet == '"':
				quoted = !quoted
			case octet == s && !quoted:
				n++
			}
		}
		if n > most {
			best, most = rune(s), n
		}
	}
	return best
}
