package gate

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/exchange"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/standin"
)

// Metadata in which a certificate was pasted with its PEM lines is metadata: what
// it says of addresses and keys is taken, by every way in.
func TestMetadataWithPEMLinesIsMetadata(t *testing.T) {
	r := newRig(t)
	p, q := r.newPair(), r.newPair()
	pasted := func(sso string, c []byte) []byte {
		doc := string(idp("urn:a", sso, "", p))
		from, to := strings.Index(doc, "<ds:X509Certificate>"), strings.Index(doc, "</ds:X509Certificate>")
		return []byte(doc[:from] + "<ds:X509Certificate>\n" + string(c) + doc[to:])
	}
	first, second := pasted("https://a.example/sso", p.Certificate.PEM()), pasted("https://b.example/sso",
		q.Certificate.PEM())
	n := records.NewRecord{Kind: federation.KindProvider, Name: "a", Source: records.Source{Document: first}, Draft: true}
	v, err := r.Records.Preview(ctx, n)
	require.NoError(t, err)
	require.Empty(t, v.Missing)
	_, err = r.Records.AddProvider(ctx, tester, n)
	require.NoError(t, err)
	n.Source.Document = second
	v, err = r.Records.Preview(ctx, n)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(v.Differences), "https://b.example/sso")
	require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "a", 1, n.Source))
	now, err := r.Records.Provider("a")
	require.NoError(t, err)
	require.Equal(t, "https://b.example/sso", now.Side.Endpoints()[0].Location)
	require.Equal(t, q.Certificate.SHA256(), now.Side.Keys()[0].Certificate.SHA256())
}

// A document with several entities offers them; the one that was picked is found
// again at every refresh.
func TestOneOfSeveralIsKept(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	entity := func(id, sso string) string {
		doc := string(idp(id, sso, "", p))
		return doc[strings.Index(doc, "<md:EntityDescriptor"):]
	}
	group := func(sso string) []byte {
		return []byte(`<md:EntitiesDescriptor xmlns:md="` + saml.NSMetadata + `">` + entity("urn:a", sso) +
			entity("urn:b", "https://b.example/sso") + `</md:EntitiesDescriptor>`)
	}
	s := r.source(group("https://a.example/sso"))
	n := records.NewRecord{Kind: federation.KindProvider, Name: "a", Source: records.Source{Address: s.URL}}
	v, err := r.Records.Preview(ctx, n)
	require.NoError(t, err)
	require.Equal(t, []federation.Choice{{Identity: "urn:a"}, {Identity: "urn:b"}}, v.Choices)
	_, err = r.Records.AddProvider(ctx, tester, n)
	require.True(t, finding.Is(err, finding.MetadataSeveral), "%v", err)
	n.Source.EntityID = "urn:a"
	_, err = r.Records.AddProvider(ctx, tester, n)
	require.NoError(t, err)
	s.document = group("https://new.example/sso")
	out, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Contains(t, out.Differences[0].After, "https://new.example/sso")
}

// A document over the limit is told in megabytes, and what to do with it.
func TestTooMuchIsToldInMegabytes(t *testing.T) {
	r := newRig(t)
	long := bytes.Replace(idp("urn:a", "https://a.example/sso", "", r.newPair()), []byte("<md:IDPSSO"),
		[]byte("<!--"+strings.Repeat("x", 2<<20)+"--><md:IDPSSO"), 1)
	for _, s := range []records.Source{{Document: long}, {Address: r.source(long).URL}} {
		_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "a", Source: s})
		require.True(t, finding.Is(err, finding.MetadataTooLarge), "%v", err)
		require.ErrorContains(t, err, "1.0 MB")
		require.ErrorContains(t, err, "aggregate")
	}
}

// Signed metadata says by whom, and whether anybody vouches for that.
func TestSignedAndNotVouchedFor(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	doc := saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:a", SSO: "https://a.example/sso",
		Keys: []keys.Certificate{p.Certificate}, Publisher: saml.Publisher{Sign: p, ID: "_1"}})
	n := records.NewRecord{Kind: federation.KindProvider, Name: "a", Source: records.Source{Document: doc}}
	v, err := r.Records.Preview(ctx, n)
	require.NoError(t, err)
	require.Equal(t, finding.MetadataUnvouched, v.Findings[0].Code)
	require.Contains(t, v.Findings[0].Error(), p.Certificate.SHA256())
	n.TrustKey = string(p.Certificate.PEM())
	v, err = r.Records.Preview(ctx, n)
	require.NoError(t, err)
	require.Empty(t, v.Findings)
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// An aggregate over the limit is refused as such, and leaves no file.
func TestAnAggregateTooLarge(t *testing.T) {
	r := newRig(t)
	_, err := r.Exchange.AddAggregate(ctx, tester, "lines", editions.Settings{}, io.LimitReader(zeros{}, 257<<20))
	require.True(t, finding.Is(err, finding.AggregateTooLarge), "%v", err)
	require.ErrorContains(t, err, "268 MB")
	left, err := os.ReadDir(editions.New(r.st).Folder())
	require.NoError(t, err)
	require.Empty(t, left)
}

// An aggregate is checked like a record; one that was removed comes back with its
// settings, from its address or with the next upload; duplicates are no change.
func TestAggregatesAreCheckedAndRestored(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	entity := func(id, sso string) string {
		doc := string(idp(id, sso, "", p))
		return doc[strings.Index(doc, "<md:EntityDescriptor"):]
	}
	group := func(sso string) []byte {
		return []byte(`<md:EntitiesDescriptor xmlns:md="` + saml.NSMetadata + `">` + entity("urn:a", sso) +
			entity("urn:b", "https://b.example/sso") + entity("urn:b", "https://twice.example/sso") +
			`</md:EntitiesDescriptor>`)
	}
	s := r.source(group("https://a.example/sso"))
	r.done(r.Exchange.AddAggregate(ctx, tester, "lines", editions.Settings{Address: s.URL}, nil))
	found := func() []finding.Code {
		all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"lines"}})
		require.NoError(t, err)
		require.Equal(t, change.KindAggregate, all[0].Kind)
		codes := []finding.Code{}
		for _, f := range all[0].Findings {
			codes = append(codes, f.Code)
		}
		return codes
	}
	require.Equal(t, []finding.Code{finding.AggregateUnverified}, found())
	j := r.done(r.Exchange.UploadAggregate(ctx, tester, "lines", bytes.NewReader(group("https://new.example/sso"))))
	require.Equal(t, []string{"urn:a"}, reported(j).Changes.OtherIDs)
	require.Equal(t, 0, reported(j).Changes.Added+reported(j).Changes.Removed)
	s.status = 404
	r.done(r.Exchange.RefreshAggregate(ctx, tester, "lines"))
	require.Contains(t, found(), finding.RefreshFailed)
	s.status = 200

	all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"lines"},
		Code: string(finding.AggregateUnverified)})
	require.NoError(t, err)
	require.NoError(t, r.Checking.Acknowledge(ctx, tester, checking.Acknowledge{Kind: change.KindAggregate, Name: "lines",
		Marks: []string{all[0].Findings[0].Mark()}, Remark: "known", Until: r.clock.get().Add(time.Hour)}))
	require.NotContains(t, found(), finding.AggregateUnverified)
	require.NoError(t, r.Exchange.RemoveAggregate(ctx, tester, "lines"))
	changes, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindAggregate, Name: "lines", Limit: 9})
	require.NoError(t, err)
	require.True(t, changes[0].Restorable)
	_, _, err = r.Records.Restore(ctx, tester, changes[0].ID)
	require.NoError(t, err)
	require.Contains(t, found(), finding.AggregateDamaged, "until it is fetched")
	require.Contains(t, found(), finding.AggregateUnverified, "what was known of the one before")
	notes := "settings can be changed before the document is there"
	require.NoError(t, r.Exchange.ChangeAggregate(ctx, tester, "lines", 4, editions.Edit{Notes: &notes}))
	require.NoError(t, r.Exchange.RefreshDue(ctx))
	r.Jobs.Wait()
	a, err := r.Exchange.Aggregate(ctx, "lines")
	require.NoError(t, err)
	require.Equal(t, 3, a.Entities)
	require.NotContains(t, found(), finding.AggregateDamaged)
	// Settings of then, over the edition of now.
	title := "Lines"
	require.NoError(t, r.Exchange.ChangeAggregate(ctx, tester, "lines", a.Revision, editions.Edit{Title: &title}))
	_, _, err = r.Records.Restore(ctx, tester, changes[0].ID)
	require.NoError(t, err)
	a, err = r.Exchange.Aggregate(ctx, "lines")
	require.NoError(t, err)
	require.Equal(t, 3, a.Entities)
	require.Empty(t, a.Title)
	_, err = r.Records.Revision(ctx, changes[0].ID)
	require.NoError(t, err)
	_, err = editions.New(r.st).Cut(ctx, "lines", "urn:c")
	require.ErrorContains(t, err, "did you mean")
}

// What would be taken over is told before; what is taken is what was told.
func TestTakingOverIsToldBefore(t *testing.T) {
	r := newRig(t)
	fed := &standin.Federation{Title: "Lines", Entities: 60, Pair: r.newPair()}
	octets, err := fed.Aggregate(0, r.clock.get())
	require.NoError(t, err)
	r.done(r.Exchange.AddAggregate(ctx, tester, "lines", editions.Settings{}, bytes.NewReader(octets)))
	all := exchange.Take{Kind: change.KindApplication, Phase: federation.Paused, Filter: editions.Filter{State: "usable"}}
	p, err := r.Exchange.PreviewTake(ctx, "lines", all)
	require.NoError(t, err)
	require.Equal(t, 0, p.Known)
	require.Positive(t, p.New)
	all.Digest = "another"
	_, err = r.Exchange.TakeEntities(ctx, tester, "lines", all)
	require.ErrorContains(t, err, "not what was looked at")
	all.Digest = p.Digest
	j := r.done(r.Exchange.TakeEntities(ctx, tester, "lines", all))
	require.Len(t, reported(j).Taken, p.New)
	a, err := r.Records.Application(reported(j).Taken[0].Name)
	require.NoError(t, err)
	require.Equal(t, federation.Paused, a.Phase)
	p, err = r.Exchange.PreviewTake(ctx, "lines", all)
	require.NoError(t, err)
	require.Equal(t, 0, p.New)
	undone, err := r.Records.Undo(ctx, tester, reported(j).Change)
	require.NoError(t, err)
	require.Len(t, undone.Removed, len(reported(j).Taken), "they are taken back as one")
	for _, bad := range []exchange.Take{{Kind: "person"}, {Kind: change.KindProvider, Provider: "staff"},
		{Kind: change.KindApplication, Provider: "stuff"}, {Kind: change.KindApplication, Phase: "asleep"}} {
		_, err := r.Exchange.PreviewTake(ctx, "lines", bad)
		require.Error(t, err)
	}
}

// A finding is acknowledged as it was looked at, with a remark and an end; it counts
// again when it says something else, when the date is past, or when it is withdrawn.
func TestFindingsAreAcknowledged(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["allowSHA1"] = true }))
	look := func() checking.Checked {
		all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"staff"}, Kind: change.KindProvider})
		require.NoError(t, err)
		return all[0]
	}
	f := look().Findings[0]
	require.Equal(t, finding.ExceptionInForce, f.Code)
	ack := checking.Acknowledge{Kind: change.KindProvider, Name: "staff", Marks: []string{f.Mark()},
		Remark: "until the move",
		Until:  r.clock.get().AddDate(0, 1, 0)}
	for rule, edit := range map[string]func(*checking.Acknowledge){
		"say why": func(a *checking.Acknowledge) { a.Remark = "" },
		"past":    func(a *checking.Acknowledge) { a.Until = r.clock.get() },
		"two years": func(a *checking.Acknowledge) {
			a.Until = r.clock.get().AddDate(5, 0, 0)
		},
		"no finding":   func(a *checking.Acknowledge) { a.Marks = []string{"0000"} },
		"did you mean": func(a *checking.Acknowledge) { a.Name = "stuff" },
		"application":  func(a *checking.Acknowledge) { a.Kind, a.Name = change.KindProvider, "roster" },
	} {
		bad := ack
		edit(&bad)
		require.ErrorContains(t, r.Checking.Acknowledge(ctx, tester, bad), rule)
	}
	require.NoError(t, r.Checking.Acknowledge(ctx, tester, ack))
	require.Empty(t, look().Findings)
	require.Equal(t, "until the move", look().Acknowledged[0].Remark)
	r.restart()
	require.Empty(t, look().Findings)
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["allowCBC"] = true }))
	require.Len(t, look().Findings, 1, "another exception is another finding")
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["allowCBC"] = false }))
	now := r.clock.get()
	r.clock.set(ack.Until.Add(time.Second))
	require.Len(t, look().Findings, 1, "after its date it counts")
	r.clock.set(now)
	require.NoError(t, r.Checking.Withdraw(ctx, tester, change.KindProvider, "staff", ack.Marks))
	require.Len(t, look().Findings, 1)
	require.Error(t, r.Checking.Withdraw(ctx, tester, change.KindProvider, "staff", ack.Marks))
	changes, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindProvider, Name: "staff", Limit: 2})
	require.NoError(t, err)
	require.Equal(t, "withdrew an acknowledgement", changes[0].What)
	require.False(t, changes[0].Restorable)
	rev, err := r.Records.Revision(ctx, changes[1].ID-1)
	require.NoError(t, err)
	require.NotEmpty(t, rev.Values, "what changed no record stands in nobody's way")
	_, err = r.Checking.Check(ctx, checking.Filter{Code: "acess-plain"})
	require.ErrorContains(t, err, "there is no finding")
	all, err := r.Checking.Check(ctx, checking.Filter{Code: string(finding.ExceptionInForce), Side: "gate", Quiet: true})
	require.NoError(t, err)
	require.Len(t, all, 1)
	all, err = r.Checking.Check(ctx, checking.Filter{Code: string(finding.ExceptionInForce), Side: "provider",
		Quiet: true})
	require.NoError(t, err)
	require.Empty(t, all)
}

// While a change waits, and after it was declined, a refresh says so, also when
// nothing new came; a declined one can be called back.
func TestADeclinedChangeIsCalledBack(t *testing.T) {
	r := newRig(t)
	p, q := r.newPair(), r.newPair()
	s := r.source(idp("urn:a", "https://a.example/sso", "", p))
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "a", Source: records.Source{Address: s.URL},
		Keeping: federation.Keeping{ApproveChanges: true}})
	require.NoError(t, err)
	s.document = idp("urn:a", "https://a.example/sso", "", q)
	refresh := func() exchange.Refreshed {
		out, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
		require.NoError(t, err)
		return out
	}
	require.Equal(t, exchange.Awaiting, refresh().Outcome)
	again := refresh()
	require.Equal(t, exchange.Awaiting, again.Outcome, "though the address says that nothing is new")
	require.NotEmpty(t, again.Digest)
	require.NotEmpty(t, again.Differences)
	require.NoError(t, r.decide("a", false))
	require.Equal(t, exchange.Declined, refresh().Outcome)
	found, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"a"}})
	require.NoError(t, err)
	codes := fmt.Sprint(found[0].Findings)
	require.Contains(t, codes, "A change of the metadata was declined")
	require.Equal(t, finding.ChangeDeclined, finding.New(finding.ChangeDeclined).Code)
	out, err := r.Exchange.RefreshAgain(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, exchange.Awaiting, out.Outcome)
	require.NoError(t, r.decide("a", true))
	require.Equal(t, exchange.Unchanged, refresh().Outcome)
}

// Another entity ID of ours keeps the former one by itself, and says whom to tell.
func TestAMovingEntityIDKeepsTheFormer(t *testing.T) {
	r := newRig(t)
	was := mustProvider(r).Side.Sheet(r.Records.Snapshot(), mustProvider(r)).Values[0].Value
	require.NoError(t, r.changeProvider(func(s federation.Settings) {
		delete(s, "formerEntityId")
		s["ownEntityId"], s["contact"] = "urn:moved", "depot@oakhollow.example"
	}))
	require.Equal(t, was, federation.SettingsOf(mustProvider(r))["formerEntityId"])
	all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"staff"}})
	require.NoError(t, err)
	require.Equal(t, finding.EntityIDMoving, all[0].Findings[0].Code)
	require.Contains(t, all[0].Findings[0].Error(), "depot@oakhollow.example")
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["formerEntityId"] = "" }))
	require.Empty(t, federation.SettingsOf(mustProvider(r))["formerEntityId"])
	require.NoError(t, r.changeProvider(func(s federation.Settings) { s["askNameIdFormat"] = "emailaddress" }))
	require.EqualValues(t, saml.FormatEmail, federation.SettingsOf(mustProvider(r))["askNameIdFormat"],
		"short names are taken")
}

// Who is unknown is named with what is near, for whoever reads the trace; a wrong
// address at the gate does not blame an application.
func TestTheUnknownAreToldWithWhatIsNear(t *testing.T) {
	r := newRig(t)
	o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "rooster"})
	require.Equal(t, finding.StartUnknown, o.Finding.Code)
	require.Equal(t, finding.Browser, o.Finding.Side)
	snap := r.Records.Snapshot()
	require.Contains(t, checks.Nearest(snap, o.Finding).Error(), "Near to it: roster")
	a, err := r.Records.Application("roster")
	require.NoError(t, err)
	unknown := func(id string) string {
		return checks.Nearest(snap, finding.New(finding.ApplicationUnknown, finding.Fact("Issuer", id))).Error()
	}
	require.Contains(t, unknown(a.Identity()+"/"), "They differ by: slash")
	require.Contains(t, unknown(a.Identity()+"x"), "Nearest on record: expected “"+a.Identity())
	require.NotContains(t, unknown("urn:something:else:altogether"), "Nearest")
	require.NoError(t, r.change(func(s federation.Settings) { s["ownFace"] = true }))
	a, err = r.Records.Application("roster")
	require.NoError(t, err)
	moved := a.Copy()
	federation.Replace(moved, a.Side.(*samlside.Application).HasMoved())
	snap = r.Records.Snapshot().With(moved)
	require.Contains(t, unknown(a.Identity()), "has a face of its own: use https://gate.example/saml/idp/app/roster")
}
