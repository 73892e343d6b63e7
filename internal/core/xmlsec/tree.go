package xmlsec

import (
	"bytes"
	"io"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// Node is a child of an element: an element, or a piece of text, a comment or a
// processing instruction.
type Node struct {
	Kind    Kind
	Element *Element // of StartElement
	Target  string   // of ProcInst
	Data    []byte   // of Text, Comment, ProcInst
}

// Element is an element of a small tree. Trees that were read are not changed
// afterwards; trees that are built are changed only by their builder.
type Element struct {
	Prefix, Local, Space string
	Attrs                []Attr
	NS                   []NSDecl
	Children             []Node
	Parent               *Element
	Start, End           int64 // offsets in the source, when read
}

// Document is a whole document as a tree.
type Document struct {
	Root           *Element
	Before, Behind []Node // comments and processing instructions around Root
}

// Parse reads a document into a tree. IDs must be unique in it.
func Parse(octets []byte, limits Limits) (*Document, error) {
	src := bytes.NewReader(octets)
	r := newReader(src, limits, tables.Get().(*nameTable))
	defer r.release()
	if len(octets) <= r.limits.Token && (limits.Octets == 0 || int64(len(octets)) <= limits.Octets) {
		r.buf, r.eof = octets[:len(octets):len(octets)], true // it is only read: nothing need be copied
		src.Reset(nil)
	}
	return ParseFrom(r)
}

// ParseFrom reads all events that are left in r into a tree.
func ParseFrom(r *Reader) (*Document, error) {
	doc := &Document{}
	b := newBuilder()
	for {
		ev, err := r.Next()
		if err == io.EOF {
			return doc, nil
		}
		if err != nil {
			return nil, err
		}
		if ev.Kind == StartElement {
			if doc.Root, err = b.subtree(r, ev); err != nil {
				return nil, err
			}
			continue
		}
		n := Node{Kind: ev.Kind, Target: ev.Local, Data: bytes.Clone(ev.Text)}
		if doc.Root == nil {
			doc.Before = append(doc.Before, n)
		} else {
			doc.Behind = append(doc.Behind, n)
		}
	}
}

// builder makes trees out of events. It takes memory for many small things at
// once, and knows the IDs of the document.
type builder struct {
	ids    map[string]bool
	limit  int64 // of one subtree, in octets; 0 for none
	octets []byte
	els    []Element
	attrs  []Attr
	nodes  []Node
}

func newBuilder() *builder { return &builder{ids: map[string]bool{}} }

// afresh lets the memory of what was built go with it.
func (b *builder) afresh() { b.octets, b.els, b.attrs, b.nodes = nil, nil, nil, nil }

// add appends a child. Most elements hold one text; those that hold more soon
// hold many.
func (b *builder) add(at *Element, n Node) {
	if have := len(at.Children); have == cap(at.Children) {
		want := 1
		if have > 0 {
			want = max(8, 2*have)
		}
		if cap(b.nodes)-len(b.nodes) < want {
			b.nodes = make([]Node, 0, max(64, want))
		}
		from := len(b.nodes)
		b.nodes = b.nodes[:from+want]
		at.Children = append(b.nodes[from:from:from+want], at.Children...)
	}
	at.Children = append(at.Children, n)
}

func (b *builder) clone(octets []byte) []byte {
	if len(octets) == 0 {
		return nil
	}
	if cap(b.octets)-len(b.octets) < len(octets) {
		b.octets = make([]byte, 0, max(4<<10, len(octets)))
	}
	from := len(b.octets)
	b.octets = append(b.octets, octets...)
	return b.octets[from:len(b.octets):len(b.octets)]
}

// subtree reads the element that begins with ev, up to its end.
func (b *builder) subtree(r *Reader, ev *Event) (*Element, error) {
	root, err := b.open(ev)
	if err != nil {
		return nil, err
	}
	for at := root; ; {
		if ev, err = r.Next(); err != nil {
			return nil, err
		}
		if b.limit > 0 && ev.End-root.Start > b.limit {
			return nil, r.fail(finding.XMLTooLarge, "the element <%s> is longer than %d octets", root.Local, b.limit)
		}
		switch ev.Kind {
		case StartElement:
			child, err := b.open(ev)
			if err != nil {
				return nil, err
			}
			child.Parent = at
			b.add(at, Node{Kind: StartElement, Element: child})
			at = child
		case EndElement:
			at.End = ev.End
			if at == root {
				return root, nil
			}
			at = at.Parent
		case Text:
			if n := len(at.Children); n > 0 && at.Children[n-1].Kind == Text {
				at.Children[n-1].Data = append(at.Children[n-1].Data, ev.Text...)
				continue
			}
			b.add(at, Node{Kind: Text, Data: b.clone(ev.Text)})
		default:
			b.add(at, Node{Kind: ev.Kind, Target: ev.Local, Data: b.clone(ev.Text)})
		}
	}
}

func (b *builder) open(ev *Event) (*Element, error) {
	if len(b.els) == cap(b.els) {
		b.els = make([]Element, 0, 32)
	}
	b.els = append(b.els, Element{Prefix: ev.Prefix, Local: ev.Local, Space: ev.Space, Start: ev.Start})
	e := &b.els[len(b.els)-1]
	if len(ev.NS) > 0 {
		e.NS = append([]NSDecl(nil), ev.NS...)
	}
	if n := len(ev.Attrs); n > 0 {
		if cap(b.attrs)-len(b.attrs) < n {
			b.attrs = make([]Attr, 0, max(32, n))
		}
		from := len(b.attrs)
		b.attrs = append(b.attrs, ev.Attrs...)
		e.Attrs = b.attrs[from : from+n : from+n]
	}
	for i := range e.Attrs {
		a := &e.Attrs[i]
		a.Value = b.clone(a.Value)
		if a.Space == "" && (a.Local == "ID" || a.Local == "Id") || a.Space == NSXML && a.Local == "id" {
			if id := string(a.Value); b.ids[id] {
				return nil, finding.New(finding.XMLDuplicate, finding.Fact("ID", id))
			} else {
				b.ids[id] = true
			}
		}
	}
	return e, nil
}

// Is reports whether the element has this name.
func (e *Element) Is(space, local string) bool { return e.Local == local && e.Space == space }

// Attr gives an attribute without namespace, "" if absent.
func (e *Element) Attr(local string) string {
	v, _ := e.LookAttr("", local)
	return v
}

// LookAttr gives an attribute and whether it is there.
func (e *Element) LookAttr(space, local string) (string, bool) {
	for i := range e.Attrs {
		if e.Attrs[i].Local == local && e.Attrs[i].Space == space {
			return string(e.Attrs[i].Value), true
		}
	}
	return "", false
}

// Elements gives the child elements of this name, in order; an empty local name
// stands for all.
func (e *Element) Elements(space, local string) []*Element {
	var out []*Element
	for _, n := range e.Children {
		if n.Kind == StartElement && (local == "" || n.Element.Is(space, local)) {
			out = append(out, n.Element)
		}
	}
	return out
}

// Child gives the first child element of this name, nil if there is none.
func (e *Element) Child(space, local string) *Element {
	for _, n := range e.Children {
		if n.Kind == StartElement && n.Element.Is(space, local) {
			return n.Element
		}
	}
	return nil
}

// Value is all text directly in the element, CDATA included, comments and
// processing instructions left out, white space around it trimmed. The second
// result is false if the element holds other elements, so that it has no value.
func (e *Element) Value() (string, bool) {
	var b strings.Builder
	for _, n := range e.Children {
		switch n.Kind {
		case StartElement:
			return "", false
		case Text:
			b.Write(n.Data)
		}
	}
	return strings.Trim(b.String(), " \t\r\n"), true
}

// Lookup gives the namespace that a prefix is bound to inside the element.
func (e *Element) Lookup(prefix string) (string, bool) {
	for at := e; at != nil; at = at.Parent {
		if uri, ok := lookup(at.NS, prefix); ok && (prefix != "" || uri != "" || declares(at.NS, "")) {
			return uri, true
		}
	}
	return "", prefix == ""
}

func declares(ns []NSDecl, prefix string) bool {
	for _, d := range ns {
		if d.Prefix == prefix {
			return true
		}
	}
	return false
}

// inherited gives what the element has from its ancestors (see apex).
func (e *Element) inherited() (ns []NSDecl, xml []Attr) {
	for at := e.Parent; at != nil; at = at.Parent {
		for _, d := range at.NS {
			if !declares(ns, d.Prefix) && !declares(e.NS, d.Prefix) {
				ns = append(ns, d)
			}
		}
		for _, a := range at.Attrs {
			if a.Space == NSXML {
				known := false
				for _, x := range xml {
					known = known || x.Local == a.Local
				}
				if !known {
					xml = append(xml, a)
				}
			}
		}
	}
	return ns, xml
}

// Canonical writes the canonical form of the element to w, leaving out the
// subtree of omit, if given. One that is many times as long as an element that
// was read is an error: namespaces can be repeated at every element.
func (e *Element) Canonical(w io.Writer, m Method, omit *Element) error {
	c := canonicalizer(w, m)
	defer c.release()
	if read := int(e.End - e.Start); read > 0 {
		c.left = 16*read + 1<<20
	}
	e.emit(c, omit)
	return c.Flush()
}

// Canonical writes the canonical form of the document to w.
func (d *Document) Canonical(w io.Writer, m Method, omit *Element) error {
	c := canonicalizer(w, m)
	defer c.release()
	emitOthers(c, d.Before, d.Root)
	d.Root.emit(c, omit)
	emitOthers(c, d.Behind, d.Root)
	return c.Flush()
}

func emitOthers(c *Canonicalizer, nodes []Node, at *Element) {
	for _, n := range nodes {
		c.Event(&Event{Kind: n.Kind, Local: n.Target, Text: n.Data}, at)
	}
}

func (e *Element) emit(c *Canonicalizer, omit *Element) {
	if e == omit {
		return
	}
	e.tag(c)
	var ev Event
	for _, n := range e.Children {
		if n.Kind == StartElement {
			n.Element.emit(c, omit)
			continue
		}
		ev = Event{Kind: n.Kind, Local: n.Target, Text: n.Data}
		c.Event(&ev, e)
	}
	ev = Event{Kind: EndElement, Prefix: e.Prefix, Local: e.Local, Space: e.Space}
	c.Event(&ev, e)
}

// tag gives the start tag alone to a canonicalizer.
func (e *Element) tag(c *Canonicalizer) {
	c.Event(&Event{Kind: StartElement, Prefix: e.Prefix, Local: e.Local, Space: e.Space, Attrs: e.Attrs, NS: e.NS}, e)
}
