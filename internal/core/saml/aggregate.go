package saml

import (
	"errors"
	"io"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Aggregate is what is known of an aggregate as a whole (SAML metadata §2.3.1).
type Aggregate struct {
	Name          string
	ValidUntil    time.Time // the earliest of the outermost element, zero if not given
	CacheDuration time.Duration
	// How it was signed, empty if it was not; Verified tells whether against a
	// trust key.
	SignatureMethod, DigestMethod string
	SignedBy                      string // whose key its signature names, in words
	Verified                      bool
	Warnings                      []*finding.Finding
	Entities, Broken              int
}

// Entity is one entity of an aggregate, as ReadAggregate hands it out. Until
// ReadAggregate has returned without an error, nothing confirms it.
type Entity struct {
	EntityID, Title string
	Roles           []string // IDPSSODescriptor, SPSSODescriptor
	Problem         error    // why it cannot be used, nil if it can
	Sum             uint64   // changes when anything in it does
	Start, End      int64    // where it stands in the document, in octets of UTF-8
	Wrap            string   // start tag that gives it the namespaces and lifetime of its groups
}

// ReadAggregate reads an aggregate from src in one pass and in bounded memory,
// and hands out its entities in their order. Single entities that are broken, or
// that come a second time, are handed out with a Problem. The signature is
// verified if there are keys to trust; an error of ReadAggregate, also one at the
// very end, means that nothing of it may be used. An error of each ends it.
//
// One that nobody vouches for is held against itself, if it is signed.
func ReadAggregate(src io.Reader, t Trusting, each func(*Entity) error) (*Aggregate, error) {
	a, err := readAggregate(src, t, each)
	return a, ofMetadata(err)
}

func readAggregate(src io.Reader, t Trusting, each func(*Entity) error) (*Aggregate, error) {
	head := make([]byte, 8<<10)
	n, err := io.ReadFull(src, head)
	if err != nil && !errors.Is(err, io.ErrUnexpectedEOF) && err != io.EOF {
		return nil, err
	}
	head = head[:n]
	if f := recognise(head); f != nil {
		return nil, f
	}
	skipped := xmlsec.LeadingSpace(head)
	s, err := xmlsec.NewStream(io.MultiReader(strings.NewReader(string(head[skipped:])), src), xmlsec.AggregateLimits,
		t.Keys, t.policy(),
		func(space, local string) bool { return space == NSMetadata && local == "EntitiesDescriptor" })
	if err != nil {
		return nil, err
	}
	defer s.Close()
	root := s.Root()
	if !root.Is(NSMetadata, "EntitiesDescriptor") {
		return nil, finding.New(finding.AggregateOther, finding.Compare("Outermost element",
			"EntitiesDescriptor in "+NSMetadata, kindOf(root)))
	}
	a := &Aggregate{Name: root.Attr("Name"), Verified: len(t.Keys) > 0, Warnings: s.Warnings()}
	a.SignatureMethod, a.DigestMethod = s.Methods()
	if sig := s.Signature(); sig != nil {
		a.SignedBy = signer(sig)
	}
	if a.ValidUntil, a.CacheDuration, err = lifetime(root); err != nil {
		return nil, err
	}
	if !a.ValidUntil.IsZero() && !t.Now.Before(a.ValidUntil) {
		return nil, pastValidity(a.ValidUntil, t.Now)
	}
	seen := map[string]bool{}
	var group *xmlsec.Element
	var wrap string
	for {
		el, err := s.Next()
		if err == io.EOF {
			if a.Entities == 0 {
				return nil, finding.New(finding.AggregateEmpty)
			}
			return a, nil
		}
		if err != nil {
			return nil, err
		}
		if !el.Is(NSMetadata, "EntityDescriptor") {
			continue // Extensions, and the signature of a nested group
		}
		if el.Parent != group {
			group = el.Parent
			wrap = wrapper(group)
		}
		e := &Entity{Start: el.Start + int64(skipped), End: el.End + int64(skipped), Sum: s.Sum(), Wrap: wrap}
		e.read(el, t.Now, seen)
		a.Entities++
		if e.Problem != nil {
			a.Broken++
		}
		if err := each(e); err != nil {
			return nil, err
		}
	}
}

func (e *Entity) read(el *xmlsec.Element, now time.Time, seen map[string]bool) {
	m, err := readEntity(el, now)
	if err != nil {
		e.EntityID, e.Problem = strings.TrimSpace(el.Attr("entityID")), err
		return
	}
	e.EntityID, e.Roles = string(m.EntityID), m.Roles()
	switch {
	case seen[string(m.EntityID)]:
		e.Problem = finding.New(finding.AggregateTwice, finding.Fact("Entity ID", m.EntityID))
	case m.IDP != nil:
		e.Title = m.IDP.Title
		if _, err := m.AsProvider(); err != nil && m.SP == nil {
			e.Problem = err
		}
	case m.SP != nil:
		e.Title = m.SP.Title
		if _, err := m.AsApplication(); err != nil {
			e.Problem = err
		}
	default:
		e.Problem = finding.New(finding.AggregateNoRole, finding.Fact("Entity ID", m.EntityID))
	}
	seen[string(m.EntityID)] = true
}

// wrapper is a start tag with the namespaces in scope inside an element, and the
// lifetime that its groups set, so that a piece cut out of it can be read alone.
func wrapper(group *xmlsec.Element) string {
	if group == nil {
		return ""
	}
	var until, cache string
	w := xmlsec.New(group.Prefix, group.Space, "EntitiesDescriptor")
	known := map[string]bool{}
	for at := group; at != nil; at = at.Parent {
		for _, d := range at.NS {
			if !known[d.Prefix] {
				known[d.Prefix] = true
				w.Declare(d.Prefix, d.URI)
			}
		}
		if t, d, err := lifetime(at); err == nil {
			if !t.IsZero() && (until == "" || formatTime(t) < until) {
				until = formatTime(t)
			}
			if d > 0 && cache == "" {
				cache = at.Attr("cacheDuration")
			}
		}
	}
	tag, _, _ := strings.Cut(string(w.Set("validUntil", until).Set("cacheDuration", cache).Octets()), "</")
	return tag
}

// Cut makes a document of its own from an entity that ReadAggregate told of, and
// the octets between its Start and End.
func Cut(wrap string, octets []byte) []byte {
	name := strings.FieldsFunc(wrap[1:], func(r rune) bool { return r == ' ' || r == '>' })[0]
	return append(append(append(xmlHead(), wrap...), octets...), "</"+name+">\n"...)
}
