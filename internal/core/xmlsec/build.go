package xmlsec

import (
	"bytes"
	"encoding/base64"
	"strings"
)

// New makes an element. Declarations that it lacks are added by [Element.Octets].
func New(prefix, space, local string) *Element {
	return &Element{Prefix: prefix, Space: space, Local: local}
}

// Set sets an attribute without namespace; an empty value leaves it out.
func (e *Element) Set(local, value string) *Element {
	if value != "" {
		e.Attrs = append(e.Attrs, Attr{Local: local, Value: []byte(value)})
	}
	return e
}

// SetNS sets an attribute in a namespace.
func (e *Element) SetNS(prefix, space, local, value string) *Element {
	e.Attrs = append(e.Attrs, Attr{Prefix: prefix, Space: space, Local: local, Value: []byte(value)})
	return e
}

// Declare binds a prefix, for use in values or by many descendants.
func (e *Element) Declare(prefix, uri string) *Element {
	e.NS = append(e.NS, NSDecl{prefix, uri})
	return e
}

// Add appends children; nil is passed over.
func (e *Element) Add(children ...*Element) *Element {
	for _, c := range children {
		if c != nil {
			c.Parent = e
			e.Children = append(e.Children, Node{Kind: StartElement, Element: c})
		}
	}
	return e
}

// AddText appends text.
func (e *Element) AddText(s string) *Element {
	e.Children = append(e.Children, Node{Kind: Text, Data: []byte(s)})
	return e
}

// insert puts a child element before the child with this index.
func (e *Element) insert(at int, c *Element) {
	c.Parent = e
	e.Children = append(e.Children, Node{})
	copy(e.Children[at+1:], e.Children[at:])
	e.Children[at] = Node{Kind: StartElement, Element: c}
}

// complete adds the declarations that names in the tree need.
func (e *Element) complete() {
	needs := func(prefix, space string) {
		if uri, ok := e.Lookup(prefix); prefix != "xml" && (!ok || uri != space) {
			e.NS = append(e.NS, NSDecl{prefix, space})
		}
	}
	needs(e.Prefix, e.Space)
	for _, a := range e.Attrs {
		if a.Prefix != "" {
			needs(a.Prefix, a.Space)
		}
	}
	for _, n := range e.Children {
		if n.Kind == StartElement {
			n.Element.complete()
		}
	}
}

// Octets gives the element as a document of its own, declarations included.
func (e *Element) Octets() []byte {
	e.complete()
	var b bytes.Buffer
	// A buffer takes everything; the one other error, a relative namespace,
	// shows when the other side canonicalises.
	_ = e.Canonical(&b, Method{Inclusive: true, Comments: true}, nil)
	return b.Bytes()
}

// Indented gives a copy of the element for people to read: each element that
// holds elements on lines of its own. It must not be verified or sent.
func (e *Element) Indented() []byte {
	var b bytes.Buffer
	_ = e.indented(0).Canonical(&b, Method{Inclusive: true, Comments: true}, nil)
	return b.Bytes()
}

func (e *Element) indented(depth int) *Element {
	c := &Element{Prefix: e.Prefix, Local: e.Local, Space: e.Space, Attrs: e.Attrs, NS: e.NS}
	if depth == 0 {
		ns, _ := e.inherited()
		c.NS = append(append([]NSDecl(nil), e.NS...), ns...)
	}
	_, leaf := e.Value()
	for _, n := range e.Children {
		switch {
		case n.Kind == StartElement:
			child := n.Element.indented(depth + 1)
			c.AddText("\n" + strings.Repeat("  ", depth+1)).Add(child)
		case leaf || n.Kind != Text || !isSpace(n.Data):
			c.Children = append(c.Children, n)
		}
	}
	if !leaf {
		c.AddText("\n" + strings.Repeat("  ", depth))
	}
	return c
}

// Base64 decodes base64 with any white space in it (XML Schema, base64Binary).
func Base64(s string) ([]byte, error) {
	if strings.ContainsAny(s, " \t") { // the decoder passes over line ends by itself
		s = strings.Map(func(r rune) rune {
			if r == ' ' || r == '\t' {
				return -1
			}
			return r
		}, s)
	}
	return base64.StdEncoding.DecodeString(s)
}
