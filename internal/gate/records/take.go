package records

import (
	"bytes"
	"cmp"
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/store"
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
	EntityID  string // in the aggregate, or in a document with several entities
	// Expect is the SHA-256, in hexadecimal, of the document that was previewed;
	// another one is refused.
	Expect string
}

// field is the one that a problem with the document belongs to, or with an identity that was typed.
func (s Source) field(r federation.Record) string {
	switch {
	case s.Address != "":
		return "address"
	case s.Record != "":
		return "record"
	case s.Aggregate != "":
		return "entity"
	}
	if s.Document == nil && r != nil {
		for _, typed := range slices.Backward(federation.IdentityFields(r.Part())) {
			if s.Typed[typed] != "" {
				return typed
			}
		}
	}
	return "metadata"
}

// largest metadata of one entity, in octets.
const MetadataLimit = 1 << 20

// document gets the document of a source, nil if there is none, and says where
// it is from.
func (rm *Room) document(ctx context.Context, s Source, k federation.Keeping) (octets []byte, from string, err error) {
	ways := 0
	for _, given := range []bool{s.Document != nil, s.Address != "", s.Record != "", s.Aggregate != ""} {
		if given {
			ways++
		}
	}
	if ways > 1 {
		return nil, "", change.Field(s.field(nil),
			errors.New("more than one source was given; give a document, an address, a record or an aggregate"))
	}
	switch {
	case s.Document != nil:
		octets, from = s.Document, federation.SourceDocument
	case s.Address != "":
		got, err := rm.fetch.Trusting(k).Get(ctx, s.Address, fetch.Conditions{}, MetadataLimit)
		if err != nil {
			return nil, "", change.Field("address", err)
		}
		octets, from = got.Octets, s.Address
	case s.Record != "":
		kind, name, ok := strings.Cut(s.Record, "/")
		if !ok || kind != change.KindProvider && kind != change.KindApplication {
			return nil, "", change.Field("record", errors.New("this names no record; write provider/NAME or application/NAME"))
		}
		other, err := rm.Record(kind, name)
		if err != nil {
			return nil, "", change.Field("record", err)
		}
		if octets, err = rm.Document(ctx, kind, name); err != nil {
			return nil, "", change.Field("record", err)
		}
		from = other.Basic().Intake.Source
	case s.Aggregate != "":
		if octets, err = rm.editions.Cut(ctx, s.Aggregate, s.EntityID); err != nil {
			var nf *change.NotFoundError
			if errors.As(err, &nf) && nf.Kind == change.KindAggregate {
				return nil, "", change.Field("aggregate", err)
			}
			return nil, "", change.Field("entity", err)
		}
		from = federation.SourceAggregate + s.Aggregate
	}
	if octets != nil && s.Expect != "" {
		if sum := HashOf(octets); sum != s.Expect {
			return nil, "", change.Field(s.field(nil), finding.New(finding.SinceThePreview,
				finding.Compare("SHA-256 of the document", s.Expect, sum)))
		}
	}
	return octets, from, nil
}

// HashOf is the SHA-256 of a document, in hexadecimal.
func HashOf(octets []byte) string {
	sum := sha256.Sum256(octets)
	return hex.EncodeToString(sum[:])
}

// fill reads the other side's values into a record and gives the document to
// keep. With draft, values may be missing.
func (rm *Room) fill(ctx context.Context, r federation.Record, s Source, draft bool) ([]byte, error) {
	s, typedField := located(s, r.Part())
	octets, from, err := rm.document(ctx, s, r.Basic().Keeping)
	if typedField != "" && err != nil {
		var fe *change.FieldError
		if errors.As(err, &fe) {
			err = change.Field(typedField, fe.Err)
		}
	}
	if err != nil {
		return nil, err
	}
	if octets == nil && s.Typed.Empty() && !draft {
		return nil, change.Field("metadata", finding.New(finding.MetadataEmpty))
	}
	if certs := keys.Read(octets); len(certs) > 0 && (draft || len(r.Part().Missing()) == 0) {
		// A certificate alone: the one value it is.
		text := string(octets)
		s.Typed, octets = maps.Clone(s.Typed), nil
		if s.Typed == nil {
			s.Typed = federation.Typed{}
		}
		s.Typed["certificate"] = text
	}
	if octets != nil {
		how := Taking{From: from, Unfinished: draft || !s.Typed.Empty(), Entity: cmp.Or(s.EntityID, rm.meant(s),
			strings.TrimSpace(s.Typed[federation.IdentityField(r.Part())]), r.Part().Identity())}
		if err := rm.TakeIn(r, octets, how); err != nil {
			var fe *change.FieldError
			if errors.As(err, &fe) {
				return nil, err
			}
			return nil, change.Field(cmp.Or(typedField, s.field(r)), sender(err, r.Kind().Side()))
		}
	} else if replaces(r.Part(), s.Typed) || r.Basic().Intake.Source == "" {
		r.Basic().Intake = federation.Intake{Source: federation.SourceTyped}
	}
	for name, value := range s.Typed {
		if err := federation.CheckText(strings.TrimRight(value, "\r\n"), federation.Field(r.Part().Fields(),
			name).SeveralLines()); err != nil {
			return nil, change.Field(name, err)
		}
	}
	if !s.Typed.Empty() {
		side, err := r.Part().Overlay(s.Typed)
		if err != nil {
			return nil, change.OfSetting(err)
		}
		federation.Replace(r, side)
		r.Basic().Intake.Typing(s.Typed, r.Part().Fields())
	}
	if missing := r.Part().Missing(); len(missing) > 0 && !draft {
		return nil, change.Field(s.Typed.Lacks(missing), finding.New(finding.DraftIncomplete,
			finding.Fact("Missing", strings.Join(federation.Lacking(missing), "; "))).From(r.Kind().Side()))
	}
	Settle(r)
	return octets, nil
}

// located gives a source with the address of the document, where what was typed tells
// it, and the field that does.
func located(s Source, side federation.Side) (Source, string) {
	by := side.Can().Locating
	if by == nil || s.Document != nil || s.Address != "" || s.Record != "" || s.Aggregate != "" {
		return s, ""
	}
	address, field := by.Locate(s.Typed)
	s.Address = address
	return s, field
}

// replaces reports whether something was typed that a document would bring.
func replaces(side federation.Side, t federation.Typed) bool {
	by := side.Can().Registered
	for field, v := range t {
		if v != "" && (by == nil || !by.Beside(field)) {
			return true
		}
	}
	return false
}

// meant is the identity of the record whose document is taken.
func (rm *Room) meant(s Source) string {
	kind, name, _ := strings.Cut(s.Record, "/")
	if other, err := rm.Record(kind, name); err == nil {
		return other.Part().Identity()
	}
	return ""
}

// Taking is how a document is read into a record.
type Taking struct {
	From       string // source
	Unfinished bool   // otherwise it must be usable
	Entity     string // the one that is meant, where it holds several
}

// TakeIn reads a document into a record.
func (rm *Room) TakeIn(r federation.Record, octets []byte, how Taking) error {
	trust, err := r.Basic().Trust()
	if err != nil {
		return change.OfSetting(err)
	}
	if side := r.Part().Can().Redacting; side != nil && strings.Contains(how.From, "://") &&
		!bytes.Equal(side.Kept(octets), octets) {
		return finding.New(finding.ClientMetadata, finding.Fact("Cause",
			"it holds a secret at an address that everybody can ask; take it out there, and give it with the record"))
	}
	side, in, err := r.Part().Take(octets, federation.Trusting{Now: rm.now(), Keys: trust, Unfinished: how.Unfinished,
		Entity: how.Entity})
	if err != nil {
		return err
	}
	federation.Replace(r, side)
	in.Source, in.Document = how.From, HashOf(octets)
	r.Basic().Intake = in
	return nil
}

// oneLine is a name out of metadata as a title: without line ends, which
// formatters put in, and without control characters.
func oneLine(s string) string {
	s = strings.Map(func(r rune) rune {
		if federation.CheckText(string(r), true) != nil {
			return -1
		}
		return r
	}, s)
	return strings.Join(strings.Fields(s), " ")
}

// Settle gives a new record its title, and lets it go live if nothing is missing,
// where nothing else was said.
func Settle(r federation.Record) {
	b := r.Basic()
	if b.Revision != 1 {
		return
	}
	b.Title = cmp.Or(b.Title, oneLine(r.Part().Title()), string(b.Name))
	if side := r.Part().Can().Presenting; side != nil {
		says := side.Presents()
		b.Contact = cmp.Or(b.Contact, oneLine(says.Contact))
		if a, ok := r.(*federation.Application); ok {
			a.Logo, a.Policy = cmp.Or(a.Logo, says.Logo), cmp.Or(a.Policy, says.Policy)
		}
	}
	switch {
	case b.Phase != "": // said with it
	case len(r.Part().Missing()) == 0:
		b.Phase = federation.Live
	default:
		b.Phase = federation.Draft
	}
}

// Preview is what would be set, before anything is.
type Preview struct {
	Kind, Name  string // as they would be; Name is a proposal if none was given
	Title       string
	EntityID    string
	Existing    bool   // it is a change of a record that is there
	Known       string // another record of the kind that has this entity ID
	Revision    int
	Document    string              // SHA-256, to be given back when saving
	Choices     []federation.Choice // what is meant, where the document holds several; nothing else is told then
	OtherRole   bool                // the document also holds the entity's other role
	Values      []federation.Value
	Differences []federation.Difference
	Missing     []string
	Findings    []*finding.Finding
	Consequence change.Consequence // of adding a record, as it would be
}

// Preview shows what adding a record would set; if there is one of the name already, what would
// change.
func (rm *Room) Preview(ctx context.Context, n NewRecord) (Preview, error) {
	r, err := rm.Make(n)
	if err != nil {
		return Preview{}, err
	}
	return rm.preview(ctx, r, n.Source)
}

func (rm *Room) preview(ctx context.Context, r federation.Record, s Source) (Preview, error) {
	kind, side := change.KindOf(r), r.Kind().Side()
	out := Preview{Kind: kind}
	var before []federation.Value
	unfinished := false
	old, err := rm.Record(kind, change.NameOf(r))
	if err == nil {
		before, out.Existing, unfinished = old.Describe(), true, len(old.Part().Missing()) > 0
		r = old.Copy()
	}
	octets, err := rm.fill(ctx, r, s, true)
	if several := (*federation.SeveralError)(nil); errors.As(err, &several) {
		out.Choices, out.Findings = several.Choices, []*finding.Finding{finding.Of(err)}
		out.Name, out.Title, out.Revision = change.NameOf(r), r.Basic().Title, r.Basic().Revision
		return out, nil
	}
	if err != nil {
		return out, err
	}
	b, snap := r.Basic(), rm.Snapshot()
	if out.Existing {
		completed(snap, old, r)
	}
	out.Name, out.Title, out.EntityID, out.Revision = string(b.Name), b.Title, federation.KnownAs(r), b.Revision
	if err := rm.Fits(snap, snap, r, s.field(r)); err != nil {
		if other := (*standingError)(nil); errors.As(err, &other) {
			out.Known = string(other.by)
		}
		out.Findings = append(out.Findings, finding.Of(err))
	}
	if !out.Existing {
		if out.Name == "" {
			out.Name = rm.FreeName(snap, kind, b.Title, out.EntityID, nil)
			b.Name = federation.Name(out.Name)
			federation.Replace(r, r.Part().Named(&snap.Gate, b.Name))
		} else if err := rm.Free(snap, kind, out.Name); err != nil {
			return out, err
		}
	}
	if octets != nil {
		out.Document = b.Intake.Document
	}
	out.OtherRole = b.Intake.OtherRole
	out.Values, out.Missing = r.Describe(), federation.Lacking(r.Part().Missing())
	out.Differences = federation.Differences(before, out.Values)
	if out.Existing {
		for _, f := range checks.Change(side, out.Differences) {
			if !unfinished || f.Code != finding.ChangedKey && f.Code != finding.ChangedAddress { // a draft lacked them
				out.Findings = append(out.Findings, f)
			}
		}
	}
	out.Findings = slices.CompactFunc(checks.Sort(append(out.Findings,
		checks.New(snap.With(r), rm.now()).Record(r)...)),
		func(a, b *finding.Finding) bool { return a.Mark() == b.Mark() })
	if (!out.Existing || unfinished) && out.Known == "" && len(out.Missing) == 0 {
		if federation.Fit(r) == nil {
			out.Consequence, err = rm.weighed(ctx, &draft{before: snap, after: snap.With(r)})
		}
	}
	return out, err
}

// Retake takes newer values of the other side into a record that is there.
// revision is the one that the change was made from.
func (rm *Room) Retake(ctx context.Context, by change.By, kind, name string, revision int, s Source) error {
	old, err := rm.Record(kind, name)
	if err != nil {
		return err
	}
	r := old.Copy()
	octets, err := rm.fill(ctx, r, s, len(old.Part().Missing()) > 0)
	if err != nil {
		return err
	}
	return rm.Change(ctx, by, func(snap *federation.Snapshot) (Plan, error) {
		now, err := rm.find(snap, old.Ref())
		if err != nil {
			return Plan{}, err
		}
		if now.At() != revision || old.At() != revision {
			return Plan{}, change.Stale(kind, name, now.At(), revision)
		}
		next := r.Copy()
		completed(snap, old, next)
		put := Put{Object: next, What: "changed", Document: octets, Field: s.field(r)}
		if put.Quiet = slices.Equal(now.Describe(), next.Describe()); !put.Quiet {
			next.Basic().Revision++ // otherwise it is only taken in again
		}
		return Plan{Put: []Put{put}, More: func(tx store.Tx) error { return rm.freshness.TakenIn(tx.Rows(), next) }}, nil
	})
}

// Document gives the document that a record was taken in from.
func (rm *Room) Document(ctx context.Context, kind, name string) ([]byte, error) {
	r, err := rm.Record(kind, name)
	if err != nil {
		return nil, err
	}
	hash := r.Basic().Intake.Document
	if hash == "" {
		return nil, change.Conflict("the values of "+kind+" "+name+" were typed by hand",
			"there is no document; take one in")
	}
	return rm.store.Document(ctx, hash)
}
