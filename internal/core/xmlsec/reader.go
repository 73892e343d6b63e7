package xmlsec

import (
	"bytes"
	"fmt"
	"io"
	"strconv"
	"sync"

	"golang.org/x/text/encoding/unicode"
	"golang.org/x/text/transform"

	"innergate.example/innergate/internal/core/finding"
)

// Kind is the kind of an event or node.
type Kind uint8

// Kinds of events.
const (
	StartElement Kind = iota + 1
	EndElement
	Text
	Comment
	ProcInst
)

// Attr is an attribute that is not a namespace declaration.
type Attr struct {
	Prefix, Local, Space string
	Value                []byte
}

// NSDecl is a namespace declaration; the empty prefix is the default namespace.
type NSDecl struct{ Prefix, URI string }

// Event is one step through a document. Its slices are valid until the next
// event is read.
type Event struct {
	Kind                 Kind
	Prefix, Local, Space string // name of the element; Local is the target of a ProcInst
	Attrs                []Attr
	NS                   []NSDecl
	Text                 []byte // of Text (references resolved), Comment, ProcInst
	Start, End           int64  // offsets of the octets, in UTF-8
}

// Limits bound what a reader takes, so that the work a document causes grows with
// its size alone. Zero fields are not bounded, except depth and counts, which fall
// back to those of MessageLimits.
type Limits struct {
	Octets int64 // of the document
	Token  int   // of one tag, comment or CDATA section
	Depth  int   // of nested elements
	Attrs  int   // of attributes and declarations on one element
	Count  int   // of elements; 0 for any number
	Scope  int   // of namespace declarations in scope at one place: looking a prefix up goes through them
}

// MessageLimits are those for messages: 1 MiB, 64 levels, 50,000 elements, which
// take some 15 MiB of memory as a tree.
var MessageLimits = Limits{Octets: 1 << 20, Token: 1 << 20, Depth: 64, Attrs: 128, Count: 50000, Scope: 256}

// AggregateLimits are those for metadata: 256 MiB, 64 levels.
var AggregateLimits = Limits{Octets: 256 << 20, Token: 1 << 20, Depth: 64, Attrs: 128, Scope: 256}

type frame struct {
	qname   []byte // as written, to match the end tag
	prefix  string
	local   string
	space   string
	scope   int // length of Reader.scope before this element
	nameOff int // length of Reader.qnames before this element
}

// Reader turns octets into events. It holds no more of the document than one
// token, so its memory does not grow with the document.
type Reader struct {
	src    io.Reader
	limits Limits

	buf     []byte
	pos     int   // next octet in buf
	mark    int   // octets from here on are kept when the buffer moves
	base    int64 // offset of buf[0] in the document
	lines   int   // newlines before buf[0]
	eof     bool
	srcErr  error
	started bool
	rooted  bool // the outermost element has begun
	prolog  bool // only the declaration may still come

	*nameTable
	stack   []frame
	qnames  []byte
	scope   []NSDecl
	attrs   []Attr
	ns      []NSDecl
	arena   []byte
	count   int
	pending bool // an EndElement for an empty-element tag comes next
	ev      Event
}

// NewReader reads a document from src. UTF-16 is accepted with a byte order mark.
func NewReader(src io.Reader, limits Limits) *Reader { return newReader(src, limits, newNames()) }

func newReader(src io.Reader, limits Limits, names *nameTable) *Reader {
	if limits.Depth == 0 {
		limits.Depth = MessageLimits.Depth
	}
	if limits.Attrs == 0 {
		limits.Attrs = MessageLimits.Attrs
	}
	if limits.Scope == 0 {
		limits.Scope = MessageLimits.Scope
	}
	if limits.Token == 0 {
		limits.Token = MessageLimits.Token
	}
	return &Reader{src: src, limits: limits, nameTable: names, prolog: true}
}

// nameTable keeps names that were read once.
type nameTable struct {
	names map[string]string
	split map[string]qname
}

func newNames() *nameTable {
	return &nameTable{make(map[string]string, 64), make(map[string]qname, 64)}
}

// tables are those of messages that were read whole: most messages have the same names.
var tables = sync.Pool{New: func() any { return newNames() }}

// release has the table of a reader, which is not used any more, serve another one.
func (r *Reader) release() {
	if r.nameTable.small() {
		tables.Put(r.nameTable)
	}
	r.nameTable = nil
}

// small reports whether a table may serve other messages: what somebody made up to fill it is not kept for them.
func (t *nameTable) small() bool {
	octets := 0
	for name := range t.names { // namespaces are among them
		octets += len(name)
	}
	for name := range t.split {
		octets += len(name)
	}
	return len(t.names)+len(t.split) <= 200 && octets <= 8<<10
}

// Lookup gives the namespace that a prefix is bound to at this place.
func (r *Reader) Lookup(prefix string) (string, bool) { return lookup(r.scope, prefix) }

func lookup(scope []NSDecl, prefix string) (string, bool) {
	if prefix == "xml" {
		return NSXML, true
	}
	for i := len(scope) - 1; i >= 0; i-- {
		if scope[i].Prefix == prefix {
			return scope[i].URI, true
		}
	}
	return "", prefix == ""
}

func (r *Reader) fail(code finding.Code, format string, args ...any) error {
	line := r.lines + 1
	if r.pos <= len(r.buf) {
		line += bytes.Count(r.buf[:r.pos], []byte{'\n'})
	}
	return finding.New(code, finding.Fact("Reason", fmt.Sprintf(format, args...)),
		finding.Fact("Place", "line "+strconv.Itoa(line)+", octet "+strconv.FormatInt(r.base+int64(r.pos), 10)))
}

func (r *Reader) malformed(format string, args ...any) error {
	return r.fail(finding.XMLMalformed, format, args...)
}

// fill reads more octets, moving those from mark on to the front. It reports
// false at the end of the document.
func (r *Reader) fill() (bool, error) {
	if r.eof {
		return false, nil
	}
	if r.mark > 0 {
		r.lines += bytes.Count(r.buf[:r.mark], []byte{'\n'})
		n := copy(r.buf, r.buf[r.mark:])
		r.buf = r.buf[:n]
		r.base += int64(r.mark)
		r.pos -= r.mark
		r.mark = 0
	}
	if len(r.buf) > r.limits.Token {
		return false, r.fail(finding.XMLTooLarge, "one tag, comment or section is longer than %d octets", r.limits.Token)
	}
	if cap(r.buf)-len(r.buf) < 4096 {
		size := max(32<<10, 2*cap(r.buf))
		bigger := make([]byte, len(r.buf), size)
		copy(bigger, r.buf)
		r.buf = bigger
	}
	for tries := 0; tries < 100; tries++ {
		n, err := r.src.Read(r.buf[len(r.buf):cap(r.buf)])
		r.buf = r.buf[:len(r.buf)+n]
		if r.limits.Octets > 0 && r.base+int64(len(r.buf)) > r.limits.Octets {
			return false, r.fail(finding.XMLTooLarge, "the document is larger than %d octets", r.limits.Octets)
		}
		if err == io.EOF {
			r.eof = true
			return n > 0, nil
		}
		if err != nil {
			return false, fmt.Errorf("reading the document: %w", err)
		}
		if n > 0 {
			return true, nil
		}
	}
	return false, io.ErrNoProgress
}

// need makes sure that n octets from pos on are in the buffer, if the document
// has them.
func (r *Reader) need(n int) (bool, error) {
	for len(r.buf)-r.pos < n {
		more, err := r.fill()
		if err != nil {
			return false, err
		}
		if !more {
			return false, nil
		}
	}
	return true, nil
}

// start looks at the first octets: byte order marks and the XML declaration
// (XML 1.0 §2.8, §4.3.3).
func (r *Reader) start() error {
	r.started = true
	if _, err := r.need(3); err != nil {
		return err
	}
	b := r.buf
	switch {
	case bytes.HasPrefix(b, []byte("\xEF\xBB\xBF")):
		r.pos, r.mark = 3, 3
	case bytes.HasPrefix(b, []byte{0xFE, 0xFF}), bytes.HasPrefix(b, []byte{0xFF, 0xFE}):
		decoder := unicode.UTF16(unicode.BigEndian, unicode.ExpectBOM).NewDecoder()
		whole := io.MultiReader(bytes.NewReader(append([]byte(nil), b...)), r.src)
		r.src, r.buf, r.eof = transform.NewReader(whole, decoder), nil, false
		if _, err := r.need(3); err != nil {
			return err
		}
		return r.declaration(true)
	}
	return r.declaration(false)
}

func (r *Reader) declaration(utf16 bool) error {
	if ok, err := r.need(6); err != nil || !ok {
		return err
	}
	rest := r.buf[r.pos:]
	if !bytes.HasPrefix(rest, []byte("<?xml")) || class[rest[5]]&classSpace == 0 {
		return nil
	}
	end, err := r.find("?>")
	if err != nil {
		return err
	}
	decl := r.buf[r.pos+5 : end]
	want := []string{"version", "encoding", "standalone"}
	for {
		trimmed := bytes.TrimLeft(decl, " \t\r\n")
		if len(trimmed) == 0 {
			break
		}
		if len(trimmed) == len(decl) {
			return r.malformed("the XML declaration is malformed")
		}
		name, value, rest, ok := pseudoAttr(trimmed)
		if !ok {
			return r.malformed("the XML declaration is malformed")
		}
		decl = rest
		for len(want) > 0 && want[0] != name {
			if want[0] == "version" {
				return r.malformed("the XML declaration does not begin with a version")
			}
			want = want[1:]
		}
		if len(want) == 0 {
			return r.malformed("the XML declaration holds %q", name)
		}
		want = want[1:]
		switch name {
		case "version":
			if value != "1.0" {
				return r.malformed("XML version %q is not supported, only 1.0", value)
			}
		case "encoding":
			lower := string(bytes.ToLower([]byte(value)))
			if utf16 && (lower == "utf-16" || lower == "utf-16le" || lower == "utf-16be") {
				break
			}
			if utf16 || lower != "utf-8" && lower != "us-ascii" && lower != "ascii" {
				return r.fail(finding.XMLEncoding, "the encoding is declared as %q", value)
			}
		case "standalone":
			if value != "yes" && value != "no" {
				return r.malformed("standalone is %q", value)
			}
		}
	}
	if len(want) == 3 {
		return r.malformed("the XML declaration has no version")
	}
	r.pos = end + 2
	return nil
}

func pseudoAttr(s []byte) (name, value string, rest []byte, ok bool) {
	eq := bytes.IndexByte(s, '=')
	if eq <= 0 {
		return
	}
	name = string(bytes.TrimRight(s[:eq], " \t\r\n"))
	v := bytes.TrimLeft(s[eq+1:], " \t\r\n")
	if len(v) < 2 || v[0] != '"' && v[0] != '\'' {
		return
	}
	end := bytes.IndexByte(v[1:], v[0])
	if end < 0 {
		return
	}
	return name, string(v[1 : 1+end]), v[2+end:], true
}

// find gives the index in buf of the next occurrence of s at or after pos.
func (r *Reader) find(s string) (int, error) {
	from := r.pos
	for {
		if i := bytes.Index(r.buf[from:], []byte(s)); i >= 0 {
			return from + i, nil
		}
		rel := max(len(r.buf)-len(s)+1, from) - r.mark
		more, err := r.fill()
		if err != nil {
			return 0, err
		}
		if !more {
			return 0, r.malformed("the document ends where %q was still to come", s)
		}
		from = rel + r.mark
	}
}

// Next gives the next event, io.EOF at the end of a whole document, or a
// finding. A run of text may come in several events.
func (r *Reader) Next() (*Event, error) {
	if !r.started {
		if err := r.start(); err != nil {
			return nil, err
		}
	}
	if r.pending {
		r.pending = false
		return r.endElement(), nil
	}
	for {
		r.mark = r.pos
		if r.pos == len(r.buf) {
			more, err := r.fill()
			if err != nil {
				return nil, err
			}
			if !more {
				return nil, r.finish()
			}
		}
		ev, err := r.token()
		if ev != nil || err != nil {
			return ev, err
		}
	}
}

func (r *Reader) finish() error {
	switch {
	case len(r.stack) > 0:
		return r.malformed("the document ends inside <%s>", r.stack[len(r.stack)-1].qname)
	case !r.rooted:
		return r.malformed("the document has no element")
	}
	return io.EOF
}

// token reads what begins at pos; a nil event means that nothing is to be told.
func (r *Reader) token() (*Event, error) {
	if r.buf[r.pos] != '<' {
		return r.text()
	}
	if ok, err := r.need(2); err != nil {
		return nil, err
	} else if !ok {
		return nil, r.malformed("the document ends after <")
	}
	switch r.buf[r.pos+1] {
	case '/':
		return r.endTag()
	case '?':
		return r.procInst()
	case '!':
		return r.bang()
	}
	return r.startTag()
}

func (r *Reader) event(kind Kind, text []byte, end int) *Event {
	r.ev = Event{Kind: kind, Text: text, Start: r.base + int64(r.mark), End: r.base + int64(end)}
	r.pos = end
	return &r.ev
}
