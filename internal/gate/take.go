package gate

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"strings"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// Source is what the other side handed over: a document, the address of one,
// values typed by hand, the document of another record for its other role, or
// one entity of an aggregate. Typed values are laid over a document.
type Source struct {
	Document  []byte
	Address   string
	Typed     federation.Typed
	Record    string // like provider/wrenmoor-staff
	Aggregate string
	EntityID  string // in the aggregate
	// Expect is the SHA-256, in hexadecimal, of the document that was previewed;
	// another one is refused.
	Expect string
}

// field is the one that a problem with the document belongs to.
func (s Source) field() string {
	switch {
	case s.Address != "":
		return "address"
	case s.Record != "":
		return "record"
	case s.Aggregate != "":
		return "entity"
	}
	return "metadata"
}

// largest metadata of one entity, in octets.
const metadataLimit = 1 << 20

// document gets the document of a source, nil if there is none, and says where
// it is from.
func (g *Gate) document(ctx context.Context, s Source) (octets []byte, from string, err error) {
	ways := 0
	for _, given := range []bool{s.Document != nil, s.Address != "", s.Record != "", s.Aggregate != ""} {
		if given {
			ways++
		}
	}
	if ways > 1 {
		return nil, "", field(s.field(), errors.New("more than one source was given; give a document, an address, a record or an aggregate"))
	}
	switch {
	case s.Document != nil:
		octets, from = s.Document, federation.SourceDocument
	case s.Address != "":
		got, err := g.fetch.get(ctx, s.Address, conditions{}, metadataLimit)
		if err != nil {
			return nil, "", field("address", err)
		}
		octets, from = got.octets, s.Address
	case s.Record != "":
		kind, name, ok := strings.Cut(s.Record, "/")
		if !ok || kind != KindProvider && kind != KindApplication {
			return nil, "", field("record", errors.New("this names no record; write provider/NAME or application/NAME"))
		}
		other, err := g.object(kind, name)
		if err != nil {
			return nil, "", field("record", err)
		}
		if octets, err = g.Document(ctx, kind, name); err != nil {
			return nil, "", field("record", err)
		}
		from = other.intake().Source
	case s.Aggregate != "":
		if octets, err = g.cut(ctx, s.Aggregate, s.EntityID); err != nil {
			var nf *NotFoundError
			if errors.As(err, &nf) && nf.Kind == KindAggregate {
				return nil, "", field("aggregate", err)
			}
			return nil, "", field("entity", err)
		}
		from = federation.SourceAggregate + s.Aggregate
	}
	if octets != nil && s.Expect != "" {
		if sum := hashOf(octets); sum != s.Expect {
			return nil, "", field(s.field(), finding.New(finding.SinceThePreview, finding.Compare("SHA-256 of the document", s.Expect, sum)))
		}
	}
	return octets, from, nil
}

func hashOf(octets []byte) string {
	sum := sha256.Sum256(octets)
	return hex.EncodeToString(sum[:])
}

// fill reads the other side's values into a record and gives the document to
// keep. With draft, values may be missing.
func (g *Gate) fill(ctx context.Context, r object, title string, s Source, draft bool) ([]byte, error) {
	octets, from, err := g.document(ctx, s)
	if err != nil {
		return nil, err
	}
	if octets == nil && s.Typed.Empty() && !draft {
		return nil, field("metadata", finding.New(finding.MetadataEmpty))
	}
	trust, err := r.trusting(g.now())
	if err != nil {
		return nil, err
	}
	if certs := keys.Read(octets); len(certs) > 0 && (draft || len(r.missing()) == 0) {
		// A certificate alone: the one value it is.
		s.Typed.Certificate, octets = string(octets), nil
	}
	if octets != nil {
		m, err := saml.TakeMetadata(octets, trust)
		if err != nil {
			return nil, field(s.field(), sender(err, r.side()))
		}
		if err := r.role(m, draft || !s.Typed.Empty()); err != nil {
			return nil, field(s.field(), err)
		}
		*r.intake() = federation.TakenFrom(m, from, hashOf(octets))
	} else if !s.Typed.Empty() || r.intake().Source == "" {
		*r.intake() = federation.Intake{Source: federation.SourceTyped}
	}
	if err := r.overlay(s.Typed); err != nil {
		return nil, checked(err)
	}
	if missing := r.missing(); len(missing) > 0 && !draft {
		return nil, field(s.Typed.Lacks(missing), finding.New(finding.DraftIncomplete, finding.Fact("Missing", strings.Join(missing, "; "))).From(r.side()))
	}
	r.settle(title)
	return octets, nil
}

// role takes the wanted role out of metadata. Unless it may be unfinished, it
// must be usable.
func (r object) role(m *saml.Metadata, unfinished bool) (err error) {
	if p := r.provider; p != nil {
		if unfinished && m.IDP != nil {
			p.SAML.IDP = m.IDP
			return nil
		}
		idp, err := m.AsProvider()
		if err == nil {
			p.SAML.IDP = idp
		}
		return err
	}
	if unfinished && m.SP != nil {
		r.app.SAML.SP = m.SP
		return nil
	}
	sp, err := m.AsApplication()
	if err == nil {
		r.app.SAML.SP = sp
	}
	return err
}

// overlay lays typed values over what is known.
func (r object) overlay(t federation.Typed) error {
	if t.Empty() {
		return nil
	}
	if p := r.provider; p != nil {
		idp, err := t.Provider(*p.SAML.IDP)
		if err == nil {
			p.SAML.IDP = idp
		}
		return err
	}
	sp, err := t.Application(*r.app.SAML.SP)
	if err == nil {
		r.app.SAML.SP = sp
	}
	return err
}

// settle gives a new record its title, and enables it if nothing is missing.
func (r object) settle(title string) {
	if *r.revision() != 1 || r.title() != "" {
		return
	}
	if p := r.provider; p != nil {
		p.Title, p.Enabled = firstOf(title, p.SAML.IDP.Title, string(p.Name)), len(r.missing()) == 0
		return
	}
	r.app.Title, r.app.Enabled = firstOf(title, r.app.SAML.SP.Title, string(r.app.Name)), len(r.missing()) == 0
}

// Preview is what would be set, before anything is.
type Preview struct {
	Kind, Name  string // as they would be; Name is a proposal if none was given
	Title       string
	EntityID    string
	Existing    bool   // it is a change of a record that is there
	Known       string // another record of the kind that has this entity ID
	Revision    int
	Document    string // SHA-256, to be given back when saving
	OtherRole   bool   // the document also holds the entity's other role
	Values      []federation.Value
	Differences []federation.Difference
	Missing     []string
	Findings    []*finding.Finding
}

// PreviewProvider shows what adding a provider would set; if there is one of the
// name already, what would change.
func (g *Gate) PreviewProvider(ctx context.Context, n NewProvider) (Preview, error) {
	return g.preview(ctx, g.newProvider(n), n.Title, n.Source)
}

// PreviewApplication shows what adding an application would set, or change.
func (g *Gate) PreviewApplication(ctx context.Context, n NewApplication) (Preview, error) {
	return g.preview(ctx, g.newApplication(n), n.Title, n.Source)
}

func (g *Gate) preview(ctx context.Context, r object, title string, s Source) (Preview, error) {
	out := Preview{Kind: r.kind()}
	var before []federation.Value
	draft := false
	if old, err := g.object(r.kind(), r.name()); err == nil {
		before, out.Existing, draft = old.describe(), true, len(old.missing()) > 0
		r = old.copied()
	}
	octets, err := g.fill(ctx, r, title, s, true)
	if err != nil {
		return out, err
	}
	out.Name, out.Title, out.EntityID, out.Revision = r.name(), r.title(), r.entityID(), *r.revision()
	snap := g.Snapshot()
	if err := g.fits(snap, r, s.field()); err != nil {
		f := finding.Of(err)
		out.Known, out.Findings = f.Evidence[1].Found, append(out.Findings, f)
	}
	if !out.Existing {
		if out.Name == "" {
			out.Name = g.freeName(snap, r.kind(), r.title(), r.entityID(), nil)
			r.rename(g.base, out.Name)
		} else if err := free(snap, r.kind(), out.Name); err != nil {
			return out, err
		}
	}
	if octets != nil {
		out.Document = hashOf(octets)
	}
	out.OtherRole = r.intake().OtherRole
	out.Values, out.Missing = r.describe(), r.missing()
	out.Differences = federation.Differences(before, out.Values)
	if out.Existing {
		for _, f := range checks.Change(r.side(), out.Differences) {
			if !draft || f.Code != finding.ChangedKey && f.Code != finding.ChangedAddress { // a draft lacked them
				out.Findings = append(out.Findings, f)
			}
		}
	}
	out.Findings = checks.Sort(append(out.Findings, findings(checks.New(r.into(snap), g.now()), r)...))
	return out, nil
}

// rename gives a new record its name and what is made of it.
func (r object) rename(base, name string) {
	if p := r.provider; p != nil {
		p.Name, p.OwnEntityID, p.SAML.Address = federation.Name(name), base+"/saml/sp/"+name, base+"/saml/sp/"+name+"/acs"
		return
	}
	r.app.Name = federation.Name(name)
}

// Retake takes newer values of the other side into a record that is there.
// revision is the one that the change was made from.
func (g *Gate) Retake(ctx context.Context, who, kind, name string, revision int, s Source) error {
	old, err := g.object(kind, name)
	if err != nil {
		return err
	}
	r := old.copied()
	octets, err := g.fill(ctx, r, "", s, len(old.missing()) > 0)
	if err != nil {
		return err
	}
	g.saving.Lock()
	defer g.saving.Unlock()
	now, err := g.object(kind, name)
	if err != nil {
		return err
	}
	if *now.revision() != revision || *old.revision() != revision {
		return stale(kind, name, *now.revision(), revision)
	}
	for _, err := range []error{r.check(), g.fits(g.Snapshot(), r, s.field())} {
		if err != nil {
			return err
		}
	}
	*r.revision()++
	return g.put(ctx, who, []change{{object: r, what: "changed", document: octets}}, func(tx *gorm.DB) error {
		if err := dropPending(tx, kind, name); err != nil {
			return err
		}
		return g.dueAt(r, g.now().Add(g.interval(*r.intake())))(tx)
	})
}

// Document gives the document that a record was taken in from.
func (g *Gate) Document(ctx context.Context, kind, name string) ([]byte, error) {
	r, err := g.object(kind, name)
	if err != nil {
		return nil, err
	}
	hash := r.intake().Document
	if hash == "" {
		return nil, &ConflictError{"the values of " + kind + " " + name + " were typed by hand", "there is no document; take one in"}
	}
	return g.store.Document(ctx, hash)
}
