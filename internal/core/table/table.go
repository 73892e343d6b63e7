// Package table reads lists as people have them: CSV (RFC 4180) as programs write it out,
// with a byte order mark or without, separated by commas, semicolons or tabs, in UTF-8 or
// in Windows-1252 and Latin-1.
//
//	t, err := table.Read(octets)
//	t.Head      // the headings
//	t.Rows[0]   // the cells of the first row, and the line in which it begins
package table

import (
	"bytes"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"strings"
	"unicode/utf16"
	"unicode/utf8"

	"golang.org/x/text/encoding/charmap"
)

// Bounds of what is read: octets, columns, and octets of one cell.
const (
	MaxOctets  = 128 << 20
	maxColumns = 200
	maxCell    = 4096
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

// Read reads a list whose first row has the headings. What makes the whole of it useless
// is an error; rows that do not fit are in Bad.
func Read(octets []byte) (*Table, error) {
	if len(octets) > MaxOctets {
		return nil, fmt.Errorf("it has %d octets; give at most 128 MiB, or parts of it", len(octets))
	}
	text, encoding, err := decode(octets)
	if err != nil {
		return nil, err
	}
	t := &Table{Encoding: encoding, Separator: separator(text)}
	r := csv.NewReader(strings.NewReader(text))
	r.Comma, r.FieldsPerRecord, r.ReuseRecord = t.Separator, -1, false
	r.LazyQuotes = false
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
	for {
		cells, err := r.Read()
		if err == io.EOF {
			return t, nil
		}
		var pe *csv.ParseError
		if errors.As(err, &pe) {
			t.Bad = append(t.Bad, BadRow{Line: pe.StartLine, Cause: pe.Err.Error()})
			if len(t.Bad) < 10000 {
				continue
			}
			return nil, fmt.Errorf("10000 rows cannot be read, the first: %w", t.Bad[0])
		}
		if err != nil {
			return nil, err
		}
		line, _ := r.FieldPos(0)
		t.row(line, cells)
	}
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

// row takes a row, if it fits the headings.
func (t *Table) row(line int, cells []string) {
	for len(cells) > len(t.Head) && cells[len(cells)-1] == "" {
		cells = cells[:len(cells)-1]
	}
	switch {
	case len(cells) == 1 && strings.TrimSpace(cells[0]) == "":
		return
	case len(cells) > len(t.Head):
		t.Bad = append(t.Bad, BadRow{Line: line, Cause: fmt.Sprintf("it has %d cells, there are %d headings", len(cells), len(t.Head))})
		return
	}
	for i, c := range cells {
		if len(c) > maxCell || strings.ContainsFunc(c, func(r rune) bool { return r < ' ' && r != '\t' && r != '\n' || r == 0x7f }) {
			t.Bad = append(t.Bad, BadRow{Line: line, Column: t.Head[i],
				Cause: fmt.Sprintf("it has more than %d octets, or control characters", maxCell)})
			return
		}
	}
	for len(cells) < len(t.Head) {
		cells = append(cells, "")
	}
	t.Rows = append(t.Rows, Row{line, cells})
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

// decode gives the text in UTF-8.
func decode(octets []byte) (text, encoding string, err error) {
	switch {
	case bytes.HasPrefix(octets, []byte{0xef, 0xbb, 0xbf}):
		octets = octets[3:]
	case bytes.HasPrefix(octets, []byte{0xff, 0xfe}) || bytes.HasPrefix(octets, []byte{0xfe, 0xff}):
		text, err = wide(octets)
		return text, "UTF-16", err
	}
	if bytes.IndexByte(octets, 0) >= 0 {
		return "", "", errors.New("this is no text; save the list as CSV")
	}
	if utf8.Valid(octets) {
		return string(octets), "UTF-8", nil
	}
	decoded, err := charmap.Windows1252.NewDecoder().Bytes(octets)
	return string(decoded), "Windows-1252 or Latin-1", err
}

// wide reads UTF-16 by its byte order mark.
func wide(octets []byte) (string, error) {
	if len(octets)%2 != 0 {
		return "", errors.New("it is cut off in the middle of a character")
	}
	units := make([]uint16, 0, len(octets)/2)
	for i := 2; i < len(octets); i += 2 {
		a, b := uint16(octets[i]), uint16(octets[i+1])
		if octets[0] == 0xff {
			a, b = b, a
		}
		units = append(units, a<<8|b)
	}
	return string(utf16.Decode(units)), nil
}

// separator is what stands between cells: of what can, whatever the first line has most of
// outside quotation marks.
func separator(text string) rune {
	line, _, _ := strings.Cut(text, "\n")
	best, most := ',', 0
	for _, s := range []rune{',', ';', '\t', '|'} {
		n, quoted := 0, false
		for _, r := range line {
			switch {
			case r == '"':
				quoted = !quoted
			case r == s && !quoted:
				n++
			}
		}
		if n > most {
			best, most = s, n
		}
	}
	return best
}
