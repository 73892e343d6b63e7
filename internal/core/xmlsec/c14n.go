package xmlsec

import (
	"bytes"
	"fmt"
	"io"
	"slices"
	"strings"
	"sync"

	"innergate.example/innergate/internal/core/finding"
)

// Method is a canonicalisation: Exclusive XML Canonicalization 1.0, or
// Canonical XML 1.0 (inclusive), each with or without comments.
type Method struct {
	Inclusive bool
	Comments  bool
	Prefixes  []string // InclusiveNamespaces PrefixList; "" stands for #default
}

// Exclusive is exclusive canonicalisation without comments.
var Exclusive = Method{}

// Canonicalizer turns events into canonical octets. Octets are gathered and
// handed to the writer in pieces; call Flush at the end.
type Canonicalizer struct {
	method   Method
	w        io.Writer
	out      []byte
	rendered []NSDecl
	marks    []int
	ns       []NSDecl
	attrs    []Attr
	done     bool // the outermost element has ended
	left     int  // octets that may still be written; 0 for any number
	err      error
}

// NewCanonicalizer writes the canonical form of the events it is given to w.
func NewCanonicalizer(w io.Writer, m Method) *Canonicalizer {
	return &Canonicalizer{method: m, w: w, out: make([]byte, 0, 8<<10)}
}

// canonicalizers are those that are done with an element that is there as a tree.
var canonicalizers = sync.Pool{New: func() any { return NewCanonicalizer(nil, Method{}) }}

// canonicalizer is NewCanonicalizer, and may have served before.
func canonicalizer(w io.Writer, m Method) *Canonicalizer {
	c := canonicalizers.Get().(*Canonicalizer)
	*c = Canonicalizer{method: m, w: w, out: c.out[:0], rendered: c.rendered[:0], marks: c.marks[:0], ns: c.ns[:0],
		attrs: c.attrs[:0]}
	return c
}

// release has it serve again. It holds on to nothing of what it wrote but room.
func (c *Canonicalizer) release() {
	clear(c.rendered[:cap(c.rendered)])
	clear(c.ns[:cap(c.ns)])
	clear(c.attrs[:cap(c.attrs)])
	if c.w = nil; cap(c.out) <= 64<<10 && cap(c.attrs) <= 256 {
		canonicalizers.Put(c)
	}
}

// Flush hands on what is left and reports the first error.
func (c *Canonicalizer) Flush() error {
	if c.err == nil && len(c.out) > 0 {
		if c.left > 0 {
			if c.left -= len(c.out); c.left <= 0 {
				c.err = finding.New(finding.XMLTooLarge,
					finding.Fact("Reason", "the canonical form is many times as long as what it is of"))
				return c.err
			}
		}
		_, c.err = c.w.Write(c.out)
		c.out = c.out[:0]
	}
	return c.err
}

// scope tells what a prefix is bound to where an event stands.
type scope interface {
	Lookup(prefix string) (string, bool)
}

// Event takes the next event. at knows the namespaces in scope there.
func (c *Canonicalizer) Event(ev *Event, at scope) {
	if len(c.out) > 4<<10 && c.Flush() != nil {
		return
	}
	switch ev.Kind {
	case StartElement:
		c.begin(ev, at)
	case EndElement:
		c.out = append(c.out, '<', '/')
		c.qname(ev.Prefix, ev.Local)
		c.out = append(c.out, '>')
		n := len(c.marks) - 1
		c.rendered, c.marks = c.rendered[:c.marks[n]], c.marks[:n]
		c.done = n == 0
	case Text:
		c.out = appendText(c.out, ev.Text)
	case Comment:
		if c.method.Comments {
			c.outer(func() {
				c.out = append(append(append(c.out, "<!--"...), ev.Text...), "-->"...)
			})
		}
	case ProcInst:
		c.outer(func() {
			c.out = append(append(c.out, "<?"...), ev.Local...)
			if len(ev.Text) > 0 {
				c.out = append(append(c.out, ' '), ev.Text...)
			}
			c.out = append(c.out, "?>"...)
		})
	}
}

// outer sets a comment or processing instruction outside the outermost element
// on a line of its own (Canonical XML §2.3).
func (c *Canonicalizer) outer(write func()) {
	outside := len(c.marks) == 0
	if outside && c.done {
		c.out = append(c.out, '\n')
	}
	write()
	if outside && !c.done {
		c.out = append(c.out, '\n')
	}
}

func (c *Canonicalizer) qname(prefix, local string) {
	if prefix != "" {
		c.out = append(append(c.out, prefix...), ':')
	}
	c.out = append(c.out, local...)
}

// want puts a namespace on the list of those to write, unless an ancestor that
// was written has bound it the same way.
func (c *Canonicalizer) want(prefix, uri string) {
	if prefix == "xml" {
		return
	}
	for _, d := range c.ns {
		if d.Prefix == prefix {
			return
		}
	}
	have := ""
	for i := len(c.rendered) - 1; i >= 0; i-- {
		if c.rendered[i].Prefix == prefix {
			have = c.rendered[i].URI
			break
		}
	}
	if have == uri {
		return
	}
	if uri != "" && !strings.Contains(uri, ":") && c.err == nil {
		c.err = finding.New(finding.XMLMalformed,
			finding.Fact("Reason", fmt.Sprintf("the namespace %q is relative and cannot be canonicalised", uri)))
	}
	c.ns = append(c.ns, NSDecl{prefix, uri})
}

// apex is implemented by a scope that knows what the outermost element of a
// subset inherits; inclusive canonicalisation needs it (Canonical XML §2.4).
type apex interface {
	inherited() (ns []NSDecl, xml []Attr)
}

// listed wants the namespaces of the PrefixList. Below the outermost element only
// a declaration can change what a prefix is bound to.
func (c *Canonicalizer) listed(ev *Event, at scope) {
	if len(c.marks) == 0 {
		for _, p := range c.method.Prefixes {
			if uri, ok := at.Lookup(p); ok {
				c.want(p, uri)
			}
		}
		return
	}
	for _, d := range ev.NS {
		if slices.Contains(c.method.Prefixes, d.Prefix) {
			c.want(d.Prefix, d.URI)
		}
	}
}

func (c *Canonicalizer) begin(ev *Event, at scope) {
	c.ns, c.attrs = c.ns[:0], append(c.attrs[:0], ev.Attrs...)
	if c.method.Inclusive {
		for _, d := range ev.NS {
			c.want(d.Prefix, d.URI)
		}
		if a, ok := at.(apex); ok && len(c.marks) == 0 {
			ns, xml := a.inherited()
			for _, d := range ns {
				c.want(d.Prefix, d.URI)
			}
			for _, x := range xml {
				if !slices.ContainsFunc(c.attrs, func(y Attr) bool { return y.Space == x.Space && y.Local == x.Local }) {
					c.attrs = append(c.attrs, x)
				}
			}
		}
	} else {
		c.want(ev.Prefix, ev.Space)
		for i := range ev.Attrs {
			if ev.Attrs[i].Prefix != "" {
				c.want(ev.Attrs[i].Prefix, ev.Attrs[i].Space)
			}
		}
		c.listed(ev, at)
	}
	c.marks = append(c.marks, len(c.rendered))
	c.rendered = append(c.rendered, c.ns...)
	if len(c.ns) > 1 {
		slices.SortFunc(c.ns, func(a, b NSDecl) int { return strings.Compare(a.Prefix, b.Prefix) })
	}
	if len(c.attrs) > 1 {
		slices.SortFunc(c.attrs, func(a, b Attr) int {
			if n := strings.Compare(a.Space, b.Space); n != 0 {
				return n
			}
			return strings.Compare(a.Local, b.Local)
		})
	}
	c.out = append(c.out, '<')
	c.qname(ev.Prefix, ev.Local)
	for _, d := range c.ns {
		c.out = append(c.out, " xmlns"...)
		if d.Prefix != "" {
			c.out = append(append(c.out, ':'), d.Prefix...)
		}
		c.out = append(c.out, '=', '"')
		c.out = appendAttr(c.out, []byte(d.URI))
		c.out = append(c.out, '"')
	}
	for i := range c.attrs {
		c.out = append(c.out, ' ')
		c.qname(c.attrs[i].Prefix, c.attrs[i].Local)
		c.out = append(c.out, '=', '"')
		c.out = appendAttr(c.out, c.attrs[i].Value)
		c.out = append(c.out, '"')
	}
	c.out = append(c.out, '>')
}

func appendText(out, s []byte) []byte {
	for {
		i := bytes.IndexAny(s, "&<>\r")
		if i < 0 {
			return append(out, s...)
		}
		out = append(out, s[:i]...)
		switch s[i] {
		case '&':
			out = append(out, "&amp;"...)
		case '<':
			out = append(out, "&lt;"...)
		case '>':
			out = append(out, "&gt;"...)
		case '\r':
			out = append(out, "&#xD;"...)
		}
		s = s[i+1:]
	}
}

func appendAttr(out, s []byte) []byte {
	for _, b := range s {
		switch b {
		case '&':
			out = append(out, "&amp;"...)
		case '<':
			out = append(out, "&lt;"...)
		case '"':
			out = append(out, "&quot;"...)
		case '\t':
			out = append(out, "&#x9;"...)
		case '\n':
			out = append(out, "&#xA;"...)
		case '\r':
			out = append(out, "&#xD;"...)
		default:
			out = append(out, b)
		}
	}
	return out
}
