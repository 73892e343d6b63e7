package xmlsec

import (
	"bytes"
	"crypto"
	"encoding/base64"
	"fmt"
	"hash"
	"io"
	"sync"

	"github.com/cespare/xxhash/v2"

	"innergate.example/innergate/internal/core/finding"
)

// Stream reads a document whose outermost element may be signed, and gives its
// parts one by one: memory does not grow with the document. The signature's own
// value is checked as soon as it is read, the digest grows with every part, and
// the end of the document is reached only if the digest holds. Whatever was read
// before that is to be treated as unconfirmed.
//
// The signature must be the first child of the outermost element, as the schemas
// of SAML demand; one further down is refused. Reading and canonicalising run
// side by side on two processors.
type Stream struct {
	r     *Reader
	keys  []crypto.PublicKey
	root  *Element // start tag only
	sig   *signature
	sum   hash.Hash // nil if nothing is to be verified
	print *xxhash.Digest
	c14n  *Canonicalizer
	parts chan part
	quit  chan struct{}
	once  sync.Once
}

// part is a piece of the document on its way from the reader to the caller.
type part struct {
	kind  Kind // StartElement of one that is opened, EndElement, or of a node between elements
	whole bool // el is complete
	el    *Element
	node  Node
	err   error
}

// largest single part, in octets.
const partLimit = 8 << 20

// NewStream reads the outermost start tag and the signature, if there is one.
// With keys given the signature must be there and be made with one of them;
// without keys it is only held against itself, see [Intact]. opened says which elements are not read as
// a whole but opened, so that their children come one by one. Close ends it.
func NewStream(src io.Reader, limits Limits, keys []crypto.PublicKey, p Policy,
	opened func(space, local string) bool) (*Stream, error) {
	s := &Stream{r: NewReader(src, limits), keys: keys, parts: make(chan part, 32), quit: make(chan struct{})}
	p.WholeDoc = true
	b := newBuilder()
	b.limit = partLimit
	for s.root == nil {
		ev, err := s.r.Next()
		if err != nil {
			return nil, err
		}
		if ev.Kind == StartElement {
			if s.root, err = b.open(ev); err != nil {
				return nil, err
			}
		}
	}
	s.print = xxhash.New()
	var before []Node
	for {
		ev, err := s.r.Next()
		if err != nil {
			return nil, err
		}
		if ev.Kind == StartElement && ev.Local == "Signature" && ev.Space == NSDSig {
			if err := s.signature(b, ev, p, before); err != nil {
				return nil, err
			}
			ev = nil
		} else if ev.Kind != StartElement && ev.Kind != EndElement && len(before) < 64 {
			before = append(before, Node{Kind: ev.Kind, Target: ev.Local, Data: bytes.Clone(ev.Text)})
			continue
		} else if len(keys) > 0 {
			return nil, finding.New(finding.SignatureMissing, finding.Fact("Element", s.root.Local))
		}
		if s.c14n == nil {
			s.c14n = NewCanonicalizer(s.print, Exclusive)
			s.root.tag(s.c14n)
		}
		go s.read(b, ev, opened)
		return s, nil
	}
}

func (s *Stream) signature(b *builder, ev *Event, p Policy, before []Node) error {
	el, err := b.subtree(s.r, ev)
	if err != nil {
		return err
	}
	keys := s.keys
	if len(keys) == 0 {
		p.AllowSHA1 = true // it proves nothing but that nothing was altered
	}
	holder := &Element{Prefix: s.root.Prefix, Local: s.root.Local, Space: s.root.Space, Attrs: s.root.Attrs,
		NS: s.root.NS}
	holder.Add(el)
	if s.sig, err = parseSignature(holder, p); err != nil {
		if len(keys) == 0 && unreadable(err) {
			return nil // nobody relies on it
		}
		return err
	}
	if len(keys) == 0 {
		keys = p.own(s.sig.el)
	}
	if len(keys) > 0 {
		if _, err := s.sig.whose(keys); err != nil {
			return err
		}
	}
	s.sum = newHash(s.sig.digest)
	s.c14n = NewCanonicalizer(io.MultiWriter(s.sum, s.print), s.sig.c14n)
	s.root.tag(s.c14n)
	for _, n := range before {
		s.c14n.Event(&Event{Kind: n.Kind, Local: n.Target, Text: n.Data}, s.root)
	}
	return nil
}

// read turns events into parts, until the document ends or the stream is closed.
func (s *Stream) read(b *builder, ev *Event, opened func(space, local string) bool) {
	defer close(s.parts)
	send := func(p part) bool {
		select {
		case s.parts <- p:
			return p.err == nil
		case <-s.quit:
			return false
		}
	}
	for at := s.root; ; {
		if ev == nil {
			var err error
			if ev, err = s.r.Next(); err != nil {
				send(part{err: err}) // io.EOF comes after the outermost element only
				return
			}
		}
		p := part{kind: ev.Kind}
		switch ev.Kind {
		case StartElement:
			if opened(ev.Space, ev.Local) {
				if p.el, p.err = b.open(ev); p.err == nil {
					p.el.Parent = at
					at = p.el
				}
				break
			}
			if ev.Space == NSDSig && ev.Local == "Signature" && at == s.root {
				p.err = finding.New(finding.SignatureLayout, finding.Fact("Signature", "not the first child of <"+s.root.Local+
					">"))
				break
			}
			b.afresh() // so that one part does not keep the memory of all before it
			if p.el, p.err = b.subtree(s.r, ev); p.err == nil {
				p.el.Parent, p.whole = at, true
			}
		case EndElement:
			p.el = at
			if at = at.Parent; at == nil {
				if !send(p) {
					return
				}
				for p.err == nil { // nothing but comments may follow
					_, p.err = s.r.Next()
				}
			}
		default:
			p.el, p.node = at, Node{Kind: ev.Kind, Target: ev.Local, Data: bytes.Clone(ev.Text)}
		}
		if !send(p) {
			return
		}
		ev = nil
	}
}

// Close ends the reading. It may be called at any time, and again.
func (s *Stream) Close() { s.once.Do(func() { close(s.quit) }) }

// Root is the outermost element, without its children.
func (s *Stream) Root() *Element { return s.root }

// Methods gives the identifiers of the methods the document says it was signed
// with, empty if it is not signed. Only with keys given were they verified.
func (s *Stream) Methods() (signature, digest string) {
	if s.sig == nil {
		return "", ""
	}
	return s.sig.methodURI, s.sig.digestURI
}

// Signature is that of the outermost element, for explanation; nil if there is
// none that could be checked.
func (s *Stream) Signature() *Element {
	if s.sig == nil {
		return nil
	}
	return s.sig.el
}

// Warnings are findings about the signature that do not refuse.
func (s *Stream) Warnings() []*finding.Finding {
	if s.sig == nil {
		return nil
	}
	return s.sig.warnings
}

// Next gives the next element that was read as a whole, with the opened ones as
// its parents; io.EOF after the end of a document whose digest held.
func (s *Stream) Next() (*Element, error) {
	for p := range s.parts {
		if p.err != nil {
			return nil, p.err
		}
		switch {
		case p.whole:
			if err := s.c14n.Flush(); err != nil {
				return nil, err
			}
			s.print.Reset()
			p.el.emit(s.c14n, nil)
			return p.el, s.c14n.Flush()
		case p.kind == StartElement:
			p.el.tag(s.c14n)
		case p.kind == EndElement:
			s.c14n.Event(&Event{Kind: EndElement, Prefix: p.el.Prefix, Local: p.el.Local, Space: p.el.Space}, p.el)
			if p.el != s.root {
				break
			}
			if err := s.holds(); err != nil {
				return nil, err
			}
		default:
			s.c14n.Event(&Event{Kind: p.node.Kind, Local: p.node.Target, Text: p.node.Data}, p.el)
		}
	}
	return nil, fmt.Errorf("the reading was ended: %w", io.ErrClosedPipe)
}

// Sum is a short sum over the canonical octets of the element that Next gave
// last: it tells whether the element has changed, and proves nothing.
func (s *Stream) Sum() uint64 { return s.print.Sum64() }

func (s *Stream) holds() error {
	if s.sum == nil {
		return nil
	}
	if err := s.c14n.Flush(); err != nil {
		return err
	}
	if sum := s.sum.Sum(nil); !bytes.Equal(sum, s.sig.sum) {
		return finding.New(finding.SignatureAltered,
			finding.Compare("Digest of <"+s.root.Local+">", base64.StdEncoding.EncodeToString(s.sig.sum),
				base64.StdEncoding.EncodeToString(sum)))
	}
	return nil
}
