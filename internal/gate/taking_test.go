package gate

import (
	"bytes"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"log/slog"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

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
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/freshness"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/keyring"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/standin"
	"innergate.example/innergate/internal/store"
)

// source is an address whose document a test changes, and what was asked of it.
type source struct {
	*httptest.Server
	document    []byte
	status      int
	full, spare int // answers with the document, and without because it is unchanged
	during      func()
}

func (r *rig) source(document []byte) *source {
	s := &source{document: document, status: http.StatusOK}
	s.Server = httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		if do := s.during; do != nil {
			s.during = nil
			do()
		}
		if s.status != http.StatusOK {
			w.WriteHeader(s.status)
			return
		}
		tag := `"` + records.HashOf(s.document)[:16] + `"`
		w.Header().Set("ETag", tag)
		if q.Header.Get("If-None-Match") == tag {
			s.spare++
			w.WriteHeader(http.StatusNotModified)
			return
		}
		s.full++
		_, _ = w.Write(s.document)
	}))
	r.t.Cleanup(s.Close)
	return s
}

func (r *rig) newPair() *keys.Pair {
	p, err := keys.Generate("pair", r.clock.get(), rand.Reader)
	require.NoError(r.t, err)
	return p
}

func idp(id, sso, attributes string, p *keys.Pair) []byte {
	octets := saml.WriteIDPMetadata(saml.IDPFace{EntityID: saml.EntityID(id), SSO: sso,
		Keys: []keys.Certificate{p.Certificate}})
	return bytes.Replace(octets, []byte("entityID="), []byte(attributes+" entityID="), 1)
}

// decide looks at what waits for a provider, and decides on that.
func (r *rig) decide(name string, apply bool) error {
	waiting, err := r.Exchange.Waiting(ctx, change.KindProvider, name)
	require.NoError(r.t, err)
	require.Len(r.t, waiting, 1)
	return r.Exchange.Decide(ctx, tester, exchange.Decision{Kind: change.KindProvider, Name: name,
		Digest: waiting[0].Digest,
		Apply:  apply})
}

// What is decided on is what was looked at: not what the metadata has become
// meanwhile, nor the same beside other values of the record.
func TestOnlyWhatWasSeenIsApproved(t *testing.T) {
	r := newRig(t)
	p, q := r.newPair(), r.newPair()
	s := r.source(idp("urn:a", "https://a.example/sso", "", p))
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "a", Source: records.Source{Address: s.URL},
		Keeping: federation.Keeping{ApproveChanges: true}})
	require.NoError(t, err)
	refresh := func(document []byte) exchange.Refreshed {
		s.document = document
		out, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
		require.NoError(t, err)
		require.Equal(t, exchange.Awaiting, out.Outcome)
		waiting, err := r.Exchange.Waiting(ctx, change.KindProvider, "a")
		require.NoError(t, err)
		require.Equal(t, out.Digest, waiting[0].Digest)
		return out
	}
	seen := refresh(idp("urn:a", "https://a.example/sso", "", q))
	refresh(idp("urn:a", "https://evil.example/sso", "", q))
	for digest, says := range map[string]string{"": "digest", seen.Digest: "another one than was looked at"} {
		for _, apply := range []bool{true, false} {
			err := r.Exchange.Decide(ctx, tester, exchange.Decision{Kind: change.KindProvider, Name: "a", Digest: digest,
				Apply: apply})
			require.ErrorContains(t, err, says)
		}
	}
	now, err := r.Records.Provider("a")
	require.NoError(t, err)
	require.Equal(t, "https://a.example/sso", now.Side.Endpoints()[0].Location)
	require.NoError(t, r.decide("a", true))
}

func TestMetadataIsKeptFresh(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	s := r.source(idp("urn:a", "https://a.example/sso", `cacheDuration="PT2H"`, p))
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "a", Source: records.Source{Address: s.URL}})
	require.NoError(t, err)
	fresh := func() freshness.State {
		f, err := r.Freshness.Of(ctx, change.KindProvider, "a")
		require.NoError(t, err)
		return f
	}
	due := func() { require.NoError(t, r.Exchange.RefreshDue(ctx)); r.Jobs.Wait() }
	require.WithinDuration(t, r.clock.get().Add(2*time.Hour), fresh().Next, time.Second, "cacheDuration is honoured")
	due()
	require.Equal(t, 1, s.full, "nothing is due yet")
	r.clock.set(r.clock.get().Add(2*time.Hour + time.Second))
	due()
	require.Equal(t, 2, s.full)
	r.clock.set(fresh().Next.Add(time.Second))
	due()
	require.Equal(t, [2]int{2, 1}, [2]int{s.full, s.spare}, "asked whether it has changed, not for the document again")

	// A failure keeps the last good copy, says so, and is tried again sooner and
	// then later and later.
	for _, broken := range []func(){
		func() { s.status = http.StatusBadGateway },
		func() { s.status, s.document = http.StatusOK, []byte("<html></html>") },
		func() { s.document = idp("urn:a", "https://a.example/sso", `validUntil="2020-01-01T00:00:00Z"`, p) },
		func() { s.document = idp("urn:idp", "https://a.example/sso", "", p) }, // that of another record
	} {
		broken()
		before := fresh()
		r.clock.set(before.Next.Add(time.Second))
		due()
		after := fresh()
		require.NotNil(t, after.Failure)
		require.Equal(t, before.Checked, after.Checked)
		require.Equal(t, before.Failures+1, after.Failures)
		require.WithinDuration(t, r.clock.get().Add(5*time.Minute<<after.Failures), after.Next, time.Second)
		a, err := r.Records.Provider("a")
		require.NoError(t, err)
		require.Equal(t, "urn:a", a.Identity())
	}
	found, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"a"}})
	require.NoError(t, err)
	require.Equal(t, finding.RefreshFailed, found[0].Findings[0].Code)

	// What changes nothing leaves no trace; what does is told of.
	revision := func() int { a, err := r.Records.Provider("a"); require.NoError(t, err); return a.Revision }
	s.document = idp("urn:a", "https://a.example/sso", `validUntil="2099-01-01T00:00:00Z"`, p)
	out, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, exchange.Unchanged, out.Outcome)
	require.Equal(t, 1, revision(), "another validUntil is no change that history should tell of")
	a, _ := r.Records.Provider("a")
	require.Equal(t, 2099, a.Intake.ValidUntil.Year())
	s.document = idp("urn:a", "https://a.example/other", "", p)
	out, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, exchange.Applied, out.Outcome)
	require.Equal(t, finding.ChangedAddress, out.Findings[0].Code)
	require.Equal(t, 2, revision())

	// A trust key: the document must be signed with it.
	settings := func(edit func(federation.Settings)) { require.NoError(t, r.changeOf(change.KindProvider, "a", edit)) }
	settings(func(n federation.Settings) { n["trustKey"] = string(p.Certificate.PEM()) })
	out, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, finding.MetadataUnsigned, out.Findings[0].Code, "also the document that is on record already")
	s.document = idp("urn:a", "https://a.example/third", "", p)
	out, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, finding.MetadataUnsigned, out.Findings[0].Code)
	s.document = saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:a", SSO: "https://a.example/third",
		Keys: []keys.Certificate{p.Certificate}, Publisher: saml.Publisher{Sign: p, ID: "_1"}})
	out, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, exchange.Applied, out.Outcome)

	settings(func(n federation.Settings) { n["trustKey"] = string(r.newPair().Certificate.PEM()) })
	out, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Equal(t, finding.MetadataOtherSigner, out.Findings[0].Code, "another trust key proves it anew")

	// Approval: waits, is declined, is not proposed again, is approved.
	settings(func(n federation.Settings) { n["approveChanges"], n["trustKey"] = true, "" })
	other := r.newPair()
	s.document = idp("urn:a", "https://a.example/third", "", other)
	key := func() string {
		a, _ := r.Records.Provider("a")
		return a.Side.(*samlside.Provider).IDP.Keys[0].Certificate.SHA256()
	}
	for _, want := range []string{exchange.Awaiting, exchange.Awaiting, exchange.Declined} {
		if want == exchange.Declined {
			require.NoError(t, r.decide("a", false))
		}
		d, err := r.Freshness.Load(ctx, change.KindProvider, "a")
		require.NoError(t, err)
		d.Conditions = fetch.Conditions{}
		require.NoError(t, r.store.Write(ctx,
			func(tx *gorm.DB) error { return freshness.Save(tx, change.KindProvider, "a", d) }))
		out, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
		require.NoError(t, err)
		require.Equal(t, want, out.Outcome)
		require.Equal(t, p.Certificate.SHA256(), key())
	}
	s.document = idp("urn:a", "https://a.example/third", `cacheDuration="P1D"`, other)
	_, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	settings(func(n federation.Settings) { n["owner"] = "meanwhile" })
	require.NoError(t, r.decide("a", true))
	require.Equal(t, other.Certificate.SHA256(), key())
	a, _ = r.Records.Provider("a")
	require.Equal(t, "meanwhile", a.Owner, "what was changed meanwhile stays")
	require.Error(t, r.Exchange.Decide(ctx, tester, exchange.Decision{Kind: change.KindProvider, Name: "a", Digest: "x"}))
}

func TestHistoryTellsAndRestores(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.change(func(s federation.Settings) { s["provider"], s["owner"] = "staff", "roster office" }))
	all := func(name string) []records.Change {
		list, total, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindApplication, Name: name,
			Limit: 50})
		require.NoError(t, err)
		require.EqualValues(t, len(list), total)
		return list
	}
	list := all("roster")
	rev, err := r.Records.Revision(ctx, list[0].ID)
	require.NoError(t, err)
	require.Equal(t, []federation.Difference{{Label: "owner", After: "roster office"},
		{Label: "provider", After: "staff"}}, rev.Differences)
	require.Empty(t, rev.FromNow)

	require.NoError(t, r.Records.RemoveApplication(ctx, change.By{Who: "test", Why: " no longer needed "}, "roster"))
	require.Equal(t, "no longer needed", all("roster")[0].Why)
	require.NoError(t, r.Records.RemoveProvider(ctx, tester, "staff"))
	_, _, err = r.Records.Restore(ctx, tester, list[0].ID)
	var fe *change.FieldError
	require.ErrorAs(t, err, &fe, "it names a provider that is gone")
	require.Equal(t, "provider", fe.Field)
	_, name, err := r.Records.Restore(ctx, tester, list[1].ID)
	require.NoError(t, err)
	a, err := r.Records.Application(name)
	require.NoError(t, err)
	require.Empty(t, a.Owner)
	require.Equal(t, 4, a.Revision)
	require.Equal(t, "https://roster.example/acs", a.Side.(*samlside.Application).SP.ACS[0].Location)
	document, err := r.Records.Document(ctx, change.KindApplication, "roster")
	require.NoError(t, err)
	require.Contains(t, string(document), "urn:roster", "its document is there again")

	// Somebody else has the entity ID by now.
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "roster"))
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "other",
		Source: records.Source{Document: document}})
	require.NoError(t, err)
	_, _, err = r.Records.Restore(ctx, tester, list[1].ID)
	require.True(t, finding.Is(err, finding.MetadataKnown), "%v", err)

	// What is secret has no data in the history.
	_, secret, err := r.Operators.AddToken(ctx, tester, "robot", time.Time{})
	require.NoError(t, err)
	require.NoError(t, r.Rollover.Announce(ctx, tester, "idp", ""))
	var rows []store.HistoryRow
	require.NoError(t, r.st.Read.Find(&rows).Error)
	for _, row := range rows {
		require.NotContains(t, string(row.Data), secret)
		require.NotContains(t, string(row.Data), "PRIVATE")
		if row.Kind == "key" || row.Kind == "token" {
			require.Empty(t, row.Data)
			_, _, err := r.Records.Restore(ctx, tester, row.ID)
			require.ErrorContains(t, err, "cannot be set back")
		}
	}
}

// Rows of before documents were kept apart hold the metadata themselves.
func TestRowsOfEarlierFormAreRead(t *testing.T) {
	r := newRig(t)
	data, err := json.Marshal(map[string]any{"metadata": saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:old",
		ACS: "https://old.example/acs"}), "source": "document", "settings": map[string]any{"title": "Old", "enabled": true}})
	require.NoError(t, err)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.ApplicationRow{Name: "old", Protocol: "saml", EntityID: "urn:old", Revision: 3,
			Added: r.clock.get(), Data: data}).Error
	}))
	r.restart()
	a, ok := r.Records.Snapshot().ApplicationBy("saml", "urn:old")
	require.True(t, ok)
	require.Equal(t, "https://old.example/acs", a.Side.(*samlside.Application).SP.ACS[0].Location)
	require.Equal(t, "document", a.Intake.Source)
}

func (r *rig) done(j jobs.Job, err error) jobs.Job {
	r.t.Helper()
	require.NoError(r.t, err)
	r.Jobs.Wait()
	j, err = r.Jobs.Job(j.ID)
	require.NoError(r.t, err)
	return j
}

func TestAggregateIsTakenInWholeOrNotAtAll(t *testing.T) {
	r := newRig(t)
	signer := r.newPair()
	edition := func(fault string, n int) []byte {
		octets, err := (&standin.Federation{Title: "Lines", Entities: 600, Pair: signer, Fault: fault}).Aggregate(n,
			r.clock.get())
		require.NoError(t, err)
		return octets
	}
	settings := editions.Settings{TrustKey: string(signer.Certificate.PEM())}
	entities := func() (n int64) {
		require.NoError(t, r.st.Read.Model(&store.EntityRow{}).Count(&n).Error)
		return n
	}
	files := func() []os.DirEntry { out, _ := os.ReadDir(editions.New(r.st).Folder()); return out }
	for fault, want := range map[string]finding.Code{"cut": finding.XMLMalformed, "altered": finding.MetadataAltered} {
		j := r.done(r.Exchange.AddAggregate(ctx, tester, "lines", settings, bytes.NewReader(edition(fault, 0))))
		require.Equal(t, jobs.Failed, j.State)
		require.Equal(t, want, j.Refused.Code)
		require.Zero(t, entities(), "what was staged is gone")
		require.Empty(t, files())
		_, err := r.Exchange.Aggregate(ctx, "lines")
		require.Error(t, err)
	}
	j := r.done(r.Exchange.AddAggregate(ctx, tester, "lines", settings, bytes.NewReader(edition("", 0))))
	require.Equal(t, jobs.Done, j.State, "%+v", j)
	require.EqualValues(t, 600, entities())

	// Taking over: what cannot be taken is told of, the rest is there.
	list, total, err := r.Exchange.Entities(ctx, "lines", editions.Filter{Search: "crew roster",
		Role: change.KindApplication, Limit: 10})
	require.NoError(t, err)
	require.EqualValues(t, 50, total)
	ids := []string{list[0].EntityID, list[0].EntityID, list[1].EntityID, list[2].EntityID + "l"}
	j = r.done(r.Exchange.TakeEntities(ctx, tester, "lines", exchange.Take{Kind: change.KindApplication, Entities: ids,
		Names: map[string]string{list[1].EntityID: "roster"}}))
	require.Len(t, reported(j).Taken, 1)
	require.Equal(t, 2, reported(j).RefusedN, "%+v", reported(j).Refused)
	require.Equal(t, finding.AggregateUnknown, reported(j).Refused[0].Finding.Code)
	require.Contains(t, reported(j).Refused[0].Finding.Error(), "Near to it: "+list[2].EntityID)
	name := reported(j).Taken[0].Name
	j = r.done(r.Exchange.TakeEntities(ctx, tester, "lines", exchange.Take{Kind: change.KindApplication,
		Entities: ids[:1]}))
	require.Equal(t, finding.MetadataKnown, reported(j).Refused[0].Finding.Code)
	j = r.done(r.Exchange.TakeEntities(ctx, tester, "lines", exchange.Take{Kind: change.KindProvider,
		Filter: editions.Filter{State: "usable"}}))
	require.Len(t, reported(j).Taken, 150)
	require.Zero(t, reported(j).RefusedN)
	_, err = r.Exchange.Refresh(ctx, tester, change.KindApplication, name)
	require.ErrorContains(t, err, "refresh the aggregate")

	// The next edition renews what came from it, as each record allows.
	p := reported(j).Taken[0].Name
	require.NoError(t, r.changeOf(change.KindProvider, p, func(s federation.Settings) { s["approveChanges"] = true }))
	j = r.done(r.Exchange.UploadAggregate(ctx, tester, "lines",
		bytes.NewReader(bytes.ReplaceAll(edition("unsigned", 0), []byte("/sso/post"), []byte("/sso/new")))))
	require.Equal(t, finding.MetadataUnsigned, j.Refused.Code, "without its signature nothing of it counts")
	a, err := r.Exchange.Aggregate(ctx, "lines")
	require.NoError(t, err)
	require.NoError(t, r.Exchange.ChangeAggregate(ctx, tester, "lines", a.Revision, editions.Edit{TrustKey: new(string)}))
	j = r.done(r.Exchange.UploadAggregate(ctx, tester, "lines",
		bytes.NewReader(bytes.ReplaceAll(edition("unsigned", 1), []byte("/sso/post"), []byte("/sso/new")))))
	require.Equal(t, jobs.Done, j.State)
	outcomes := map[string]int{}
	for _, x := range reported(j).Records {
		outcomes[x.Outcome]++
	}
	require.Equal(t, map[string]int{exchange.Failed: 1, exchange.Applied: 150}, outcomes,
		"the first went with this edition, the others have new addresses and keys")
	gone, err := r.Checking.Check(ctx, checking.Filter{Names: []string{p}})
	require.NoError(t, err)
	require.Contains(t, gone[0].Findings[0].Code+gone[0].Findings[len(gone[0].Findings)-1].Code, finding.AggregateGone)
	require.EqualValues(t, 600, entities(), "the edition before is gone")

	// What a crash leaves behind is swept at the next start.
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.EntityRow{Aggregate: "lines", Edition: 99, EntityID: "urn:half"}).Error
	}))
	require.NoError(t, os.WriteFile(filepath.Join(editions.New(r.st).Folder(), "coming-1"), nil, 0o600))
	r.restart()
	require.EqualValues(t, 600, entities())
	require.Len(t, files(), 1)
	require.NoError(t, r.Exchange.RemoveAggregate(ctx, tester, "lines"))
	require.Zero(t, entities())
	require.Empty(t, files())
	_, err = r.Records.Provider(reported(j).Records[1].Name)
	require.NoError(t, err, "records taken from it stay")
}

func TestDraftsAndPreviews(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	preview, err := r.Records.Preview(ctx, records.NewRecord{Kind: federation.KindProvider,
		Source: records.Source{Document: idp("urn:new", "https://new.example/sso", "", p)},
		Title:  "Branch line: accounts"})
	require.NoError(t, err)
	require.Equal(t, "branch-line-accounts", preview.Name, "a name is proposed")
	require.Contains(t, preview.Values, federation.Value{Label: "ownEntityId",
		Value: "https://gate.example/saml/sp/branch-line-accounts"})
	_, err = r.Records.Provider(preview.Name)
	require.Error(t, err, "nothing is stored")
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "new",
		Source: records.Source{Document: idp("urn:new", "https://other.example/sso", "", p), Expect: preview.Document}})
	require.True(t, finding.Is(err, finding.SinceThePreview), "%v", err)

	known, err := r.Records.Preview(ctx, records.NewRecord{Kind: federation.KindProvider, Name: "again",
		Source: records.Source{Document: idp("urn:idp", "https://idp.example/sso", "", p)}})
	require.NoError(t, err)
	require.Equal(t, "staff", known.Known)
	require.Equal(t, finding.MetadataKnown, known.Findings[0].Code)

	// Two drafts without an entity ID do not disturb each other, nor anybody.
	for _, name := range []string{"one", "two"} {
		d, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: name, Title: name, Draft: true})
		require.NoError(t, err)
		require.Equal(t, federation.Draft, d.Phase)
		require.Len(t, federation.Lacking(d.Side.Missing()), 3)
	}
	o := r.request(driving.Browser{}, nil)
	require.Equal(t, "urn:idp", func() string { r.asked(o); return "urn:idp" }(), "a draft is nobody's choice")
	r.restart()
	require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "one", 1,
		records.Source{Document: p.Certificate.PEM()}), "a certificate is one value more")
	err = r.Records.Retake(ctx, tester, change.KindProvider, "one", 1,
		records.Source{Typed: federation.Typed{"entityId": "urn:one"}})
	require.ErrorContains(t, err, "changed meanwhile")
	err = r.Records.Retake(ctx, tester, change.KindProvider, "one", 2,
		records.Source{Typed: federation.Typed{"entityId": "urn:idp"}})
	require.True(t, finding.Is(err, finding.MetadataKnown), "%v", err)
	require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "one", 2,
		records.Source{Typed: federation.Typed{"entityId": " urn:one ", "ssoRedirect": "https://one.example/sso"}}))
	one, err := r.Records.Provider("one")
	require.NoError(t, err)
	require.Empty(t, federation.Lacking(one.Side.Missing()))
	require.Equal(t, "urn:one", one.Identity())
	require.Equal(t, federation.Live, one.Phase, "complete, as one that is added complete")

	for _, c := range []struct {
		typed federation.Typed
		field string
	}{
		{federation.Typed{"entityId": strings.Repeat("x", 1025)}, "entityId"},
		{federation.Typed{"ssoRedirect": "one.example"}, "ssoRedirect"},
		{federation.Typed{"ssoPost": "ftp://one.example"}, "ssoPost"}, {federation.Typed{"acs": "https://one.example"},
			"acs"}, {federation.Typed{"certificate": "none"}, "certificate"},
	} {
		err := r.Records.Retake(ctx, tester, change.KindProvider, "one", 3, records.Source{Typed: c.typed})
		var fe *change.FieldError
		require.ErrorAs(t, err, &fe, c.field)
		require.Equal(t, c.field, fe.Field)
	}
	for _, s := range []records.Source{{Record: "provider"}, {Record: "provider/nobody"}, {Record: "provider/one"},
		{Aggregate: "none", EntityID: "x"}, {Document: []byte("x"), Address: "https://a.example"}} {
		_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "odd", Source: s})
		require.Error(t, err, "%+v", s)
	}
}

func TestAddressesAreAskedOnDemand(t *testing.T) {
	r := newRig(t)
	s := r.source(idp("urn:a", "https://a.example/sso", "", r.newPair()))
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "a", Source: records.Source{Address: s.URL,
		Typed: federation.Typed{"ssoRedirect": s.URL + "/sso"}}})
	require.NoError(t, err)
	found := func() (codes []finding.Code) {
		all, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"a"}, Reach: true, Severity: "warning"})
		require.NoError(t, err)
		for _, f := range all[0].Findings {
			if f.Code != finding.AddressLoopback { // where the other side of the test is
				codes = append(codes, f.Code)
			}
		}
		return codes
	}
	require.Equal(t, []finding.Code{finding.EndpointUnreachable}, found(), "the address by POST, which nobody serves")
	require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "a", 1,
		records.Source{Typed: federation.Typed{"ssoPost": s.URL + "/sso"}}))
	require.Empty(t, found())
	r.clock.set(r.clock.get().Add(3 * time.Minute))
	require.Equal(t, []finding.Code{finding.ClockApart}, found(), "told once, not for every address")

	j := r.done(r.Exchange.AddAggregate(ctx, tester, "plain", editions.Settings{Address: s.URL}, nil))
	require.Equal(t, finding.AggregateOther, j.Refused.Code)
	s.document = []byte(`<EntitiesDescriptor xmlns="` + saml.NSMetadata + `" validUntil="` +
		r.clock.get().Add(time.Hour).UTC().Format(time.RFC3339) +
		`"><EntityDescriptor entityID="urn:x"/></EntitiesDescriptor>`)
	j = r.done(r.Exchange.AddAggregate(ctx, tester, "plain", editions.Settings{Address: s.URL}, nil))
	require.Equal(t, jobs.Done, j.State, "%+v", j)
	a, err := r.Exchange.Aggregate(ctx, "plain")
	require.NoError(t, err)
	require.Equal(t, []finding.Code{finding.AggregateUnverified, finding.MetadataExpiring},
		[]finding.Code{a.Findings[0].Code, a.Findings[1].Code})
	require.WithinDuration(t, r.clock.get().Add(30*time.Minute), a.Fresh.Next, 5*time.Second,
		"half of what is left until validUntil")
	full := s.full
	r.done(r.Exchange.RefreshAggregate(ctx, tester, "plain"))
	require.Equal(t, full, s.full, "unchanged, so not sent again")
	s.status = http.StatusNotFound
	j = r.done(r.Exchange.RefreshAggregate(ctx, tester, "plain"))
	require.Equal(t, finding.AddressUnreachable, j.Refused.Code)
	a, err = r.Exchange.Aggregate(ctx, "plain")
	require.NoError(t, err)
	require.Equal(t, finding.RefreshFailed, a.Findings[2].Code)
	require.Equal(t, 1, a.Entities, "the last good copy stays")
}

// A trust key that is set while an aggregate is read is not overwritten by what
// was read without it.
func TestSettingsOutliveAJob(t *testing.T) {
	r := newRig(t)
	during := func() {}
	s := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, _ *http.Request) {
		during()
		_, _ = w.Write([]byte(strings.ReplaceAll(`<EntitiesDescriptor xmlns="NS"><EntityDescriptor entityID="urn:x"/></EntitiesDescriptor>`, "NS", saml.NSMetadata)))
	}))
	defer s.Close()
	j := r.done(r.Exchange.AddAggregate(ctx, tester, "plain", editions.Settings{Address: s.URL}, nil))
	require.Equal(t, jobs.Done, j.State, "%+v", j)
	key := string(r.newPair().Certificate.PEM())
	during = func() {
		require.NoError(t, r.Exchange.ChangeAggregate(ctx, tester, "plain", 1, editions.Edit{TrustKey: &key}))
	}
	j = r.done(r.Exchange.RefreshAggregate(ctx, tester, "plain"))
	require.Equal(t, jobs.Failed, j.State)
	require.Contains(t, j.Failure, "was changed meanwhile")
	a, err := r.Exchange.Aggregate(ctx, "plain")
	require.NoError(t, err)
	require.Equal(t, []string{key, s.URL}, []string{a.TrustKey, a.Address}, "what is not named stays")
	files, err := os.ReadDir(editions.New(r.st).Folder())
	require.NoError(t, err)
	require.Len(t, files, 1, "nothing is left of what was read")
}

// What is taken in while the address of before is asked stays, and so does how
// current that is; a record that is removed then leaves nothing behind.
func TestChangesDuringARefresh(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	old, moved := r.source(idp("urn:a", "https://a.example/sso", "", p)),
		r.source(idp("urn:a", "https://a.example/two", "", p))
	added, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "a",
		Source: records.Source{Address: old.URL}})
	require.NoError(t, err)
	for _, status := range []int{http.StatusOK, http.StatusBadGateway} {
		old.status, old.document = status, idp("urn:a", "https://a.example/late", "", p)
		revision := added.Revision
		old.during = func() {
			require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "a", revision,
				records.Source{Address: moved.URL}))
		}
		out, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
		require.NoError(t, err)
		require.Equal(t, exchange.Unchanged, out.Outcome)
		added, err = r.Records.Provider("a")
		require.NoError(t, err)
		require.Equal(t, []string{moved.URL, "https://a.example/two"},
			[]string{added.Intake.Source, added.Side.Endpoints()[0].Location})
		kept, err := r.Freshness.Load(ctx, change.KindProvider, "a")
		require.NoError(t, err)
		require.Empty(t, kept.ETag, "that of the address of before is not sent to another")
		require.Nil(t, kept.Failure)
		old.status = http.StatusOK
		require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "a", added.Revision,
			records.Source{Address: old.URL}))
		added, err = r.Records.Provider("a")
		require.NoError(t, err)
	}
	old.during = func() { require.NoError(t, r.Records.RemoveProvider(ctx, tester, "a")) }
	_, err = r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	var nf *change.NotFoundError
	require.ErrorAs(t, err, &nf)
	require.Zero(t, r.count(&store.FreshRow{}))
}

// A document that is lost or cut off is a finding, and healed by the next refresh
// even if nothing has changed; until then nothing is taken over.
func TestADamagedDocumentOfAnAggregateHeals(t *testing.T) {
	r := newRig(t)
	s := r.source([]byte(strings.ReplaceAll(`<EntitiesDescriptor xmlns="NS"><EntityDescriptor entityID="urn:x"/></EntitiesDescriptor>`,
		"NS", saml.NSMetadata)))
	r.done(r.Exchange.AddAggregate(ctx, tester, "plain", editions.Settings{Address: s.URL}, nil))
	file := func() string {
		files, err := os.ReadDir(editions.New(r.st).Folder())
		require.NoError(t, err)
		require.Len(t, files, 1)
		return filepath.Join(editions.New(r.st).Folder(), files[0].Name())
	}
	codes := func() (out []finding.Code) {
		a, err := r.Exchange.Aggregate(ctx, "plain")
		require.NoError(t, err)
		for _, f := range a.Findings {
			out = append(out, f.Code)
		}
		return out
	}
	at := file()
	for rule, harm := range map[string]func() error{"lost": func() error { return os.Remove(at) },
		"cut": func() error { return os.Truncate(at, 20) }} {
		require.NotContains(t, codes(), finding.AggregateDamaged)
		require.NoError(t, harm())
		require.Contains(t, codes(), finding.AggregateDamaged, rule)
		r.restart()
		require.NoError(t, r.Exchange.RefreshDue(ctx))
		r.Jobs.Wait()
		require.NotContains(t, codes(), finding.AggregateDamaged, rule)
		at = file()
	}
	require.Equal(t, []int{3, 0}, []int{s.full, s.spare})
}

// Past its validUntil metadata only warns, unless the record says that it stops
// sign-ins; documents that nothing refers to any more are dropped.
func TestMetadataPastItsValidUntil(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	until := r.clock.get().Add(time.Hour).UTC().Format(time.RFC3339)
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "late",
		Source: records.Source{Document: idp("urn:late", "https://late.example/sso", `validUntil="`+until+`"`, p)}})
	require.NoError(t, err)
	opens := func() *finding.Finding {
		return r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: "late"}).Finding
	}
	found := func() string {
		out, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"late"}})
		require.NoError(t, err)
		return fmt.Sprint(out[0].Findings)
	}
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	require.Nil(t, opens())
	require.Contains(t, found(), "strictValidity would stop them")
	var log bytes.Buffer
	r.Checking.Remind(slog.New(slog.NewTextHandler(&log, nil)))
	require.Contains(t, log.String(), "name=late")
	require.NoError(t, r.changeOf(change.KindProvider, "late",
		func(s federation.Settings) { s["strictValidity"] = true }))
	require.Contains(t, found(), "stopped, by strictValidity")
	require.NoError(t, r.change(func(s federation.Settings) { s["provider"] = "late" }))
	require.Equal(t, finding.MetadataExpired, opens().Code)
	r.clock.set(r.clock.get().Add(-90 * time.Minute))
	require.Nil(t, opens())

	before := r.count(&store.DocumentRow{})
	ofNobody, err := store.Pack([]byte("of nobody"))
	require.NoError(t, err)
	require.NoError(t, r.st.Write(ctx, ofNobody.Put))
	require.NoError(t, r.st.SweepDocuments(ctx))
	require.Equal(t, before, r.count(&store.DocumentRow{}))
}

func TestHistoryIsSearchedPageByPage(t *testing.T) {
	r := newRig(t)
	for i := range 12 {
		require.NoError(t, r.change(func(s federation.Settings) { s["notes"] = strings.Repeat("x", i+1) }))
	}
	var seen []int
	for before := int64(0); ; {
		page, total, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindApplication, Name: "roster",
			Limit: 5, Before: before})
		require.NoError(t, err)
		require.EqualValues(t, 13, total)
		for _, c := range page {
			seen = append(seen, c.Revision)
		}
		if len(page) < 5 {
			break
		}
		before = page[len(page)-1].ID
	}
	require.Equal(t, []int{13, 12, 11, 10, 9, 8, 7, 6, 5, 4, 3, 2, 1}, seen)
	a, err := r.Records.Application("roster")
	require.NoError(t, err)
	_, err = r.Records.Configure(ctx, change.By{Who: "gwen", Why: "50%_off"}, change.KindApplication, "roster",
		a.Revision,
		federation.Settings{"notes": "anew"})
	require.NoError(t, err)
	for search, want := range map[string]int64{"": 16, "gwen": 1, "50%_": 1, "5_%": 0, "added": 2, "roster": 14,
		"nobody": 0} {
		_, total, err := r.Records.History(ctx, records.HistoryFilter{Search: search, Limit: 1})
		require.NoError(t, err)
		if search != "" {
			require.Equal(t, want, total, search)
		}
	}
	rev, err := r.Records.Revision(ctx, 1)
	require.NoError(t, err)
	require.NotEmpty(t, rev.Values)
	_, err = r.Records.Revision(ctx, 999)
	var nf *change.NotFoundError
	require.ErrorAs(t, err, &nf)
}

func TestChecksFollowEveryChange(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.change(func(s federation.Settings) { s["everyone"] = "yes" }))
	found := func(f checking.Filter) map[string]int {
		all, err := r.Checking.Check(ctx, f)
		require.NoError(t, err)
		out := map[string]int{}
		for _, c := range all {
			out[c.Kind+"/"+c.Name] = len(c.Findings)
		}
		return out
	}
	never := map[string]int{"application/roster": 1} // no rehearsal proved it
	require.Equal(t, never, found(checking.Filter{Quiet: true}))
	require.Equal(t, map[string]int{"gate/gate": 0, "provider/staff": 0, "application/roster": 1},
		found(checking.Filter{}))
	require.NoError(t, r.change(func(s federation.Settings) { s["onlyOwnStarts"] = true }))
	require.Equal(t, map[string]int{"application/roster": 2}, found(checking.Filter{Quiet: true}),
		"at once, though findings are kept for a minute")
	require.Equal(t, 2, found(checking.Filter{Names: []string{"roster"}})["application/roster"])
	require.Empty(t, found(checking.Filter{Quiet: true, Kind: change.KindProvider}))
	o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster"})
	require.Equal(t, finding.OwnStartMissing, o.Finding.Code, "what checks foretold happens at the start")
	require.NoError(t, r.change(func(s federation.Settings) { s["ownStart"] = "https://roster.example/start" }))
	require.Equal(t, never, found(checking.Filter{Quiet: true}))
	require.Equal(t, "https://roster.example/start", r.Crossings.Open(ctx, driving.Browser{},
		driving.Start{App: "roster"}).Next)

	// Time passes: what ends is told of ahead, by its weight.
	r.clock.set(r.idp.Certificate.X509.NotAfter.Add(-20 * 24 * time.Hour))
	require.Equal(t, map[string]int{"provider/staff": 1, "gate/gate": 3},
		found(checking.Filter{Quiet: true, Severity: "warning"}))
	require.Empty(t, found(checking.Filter{Quiet: true, Severity: "error"}))
	_, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"rooster"}})
	require.ErrorContains(t, err, `did you mean "roster"`)
}

func TestDraftsAreInNobodysWay(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "half", Draft: true, AllowUnsolicited: true,
		Source: records.Source{Typed: federation.Typed{"entityId": "urn:half", "certificate": string(p.Certificate.PEM())}}})
	require.NoError(t, err)
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "planner", Draft: true,
		Source: records.Source{Typed: federation.Typed{"entityId": "urn:planner"}}})
	require.NoError(t, err)
	for rule, o := range map[string]struct {
		got  driving.Outcome
		want finding.Code
	}{
		"a start at the gate": {r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "planner"}),
			finding.ApplicationDisabled},
		"a request of the application": {r.request(driving.Browser{},
			func(q *saml.AuthnRequest) { q.Issuer = "urn:planner" }), finding.ApplicationDisabled},
		"an answer nobody asked for": {func() driving.Outcome {
			octets, err := saml.WriteResponse(saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(),
				Lifetime: time.Minute, Issuer: "urn:half", Destination: "https://gate.example/saml/sp/half/acs",
				Audience: "https://gate.example/saml/sp/half", NameID: saml.NameID{Value: "ada"}, AuthnInstant: r.clock.get()},
				saml.Protection{Pair: p})
			require.NoError(t, err)
			return r.respond(driving.Browser{}, "half", saml.Inbound{Binding: saml.BindingPOST, Octets: octets})
		}(), finding.ProviderDisabled},
	} {
		require.NotNil(t, o.got.Finding, rule)
		require.Equal(t, o.want, o.got.Finding.Code, rule)
	}
	r.enter(nil) // others go on as before
	err = r.change(func(s federation.Settings) { s["provider"] = "half" })
	require.NoError(t, err, "the application may be tied to it already")
	require.Equal(t, finding.ProviderDisabled, r.request(driving.Browser{}, nil).Finding.Code)
	p2, err := r.Records.Provider("half")
	require.NoError(t, err)
	a2, err := r.Records.Application("planner")
	require.NoError(t, err)
	for _, sheet := range []federation.Sheet{p2.Side.Sheet(r.Records.Snapshot(), p2), a2.Side.Sheet(r.Records.Snapshot(),
		a2)} {
		require.NotEmpty(t, sheet.Values, "what the other side needs stands there from the first moment")
		require.NotEmpty(t, sheet.Metadata)
	}
}

// A record with a face of its own keeps its keys through removal and restoring,
// and restoring respects what has been taken by others meanwhile.
func TestRestoringAFaceOfItsOwn(t *testing.T) {
	r := newRig(t)
	document := saml.WriteSPMetadata(saml.SPFace{EntityID: "urn:tenants", ACS: "https://tenants.example/acs"})
	for _, name := range []string{"north", "south"} {
		_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: name,
			Settings: federation.Settings{"ownFace": true}, Source: records.Source{Document: document}})
		require.NoError(t, err)
	}
	key := func(name string) string {
		a, err := r.Records.Application(name)
		require.NoError(t, err)
		return a.Keys.Current.Certificate.SHA256()
	}
	before := key("north")
	require.NotEqual(t, before, key("south"))
	found, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"north"}})
	require.NoError(t, err)
	require.Equal(t, finding.EntityIDTwice, found[0].Findings[0].Code, "told of, and no harm")
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "north"))
	list, _, err := r.Records.History(ctx, records.HistoryFilter{Name: "north", Limit: 5})
	require.NoError(t, err)
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "north",
		Settings: federation.Settings{"ownFace": true}, Source: records.Source{Document: document}})
	require.NoError(t, err)
	require.NotEqual(t, before, key("north"), "another one under its name does not speak as it")
	all, err := r.Rollover.Keys(ctx)
	require.NoError(t, err)
	left := slices.IndexFunc(all, func(k keyring.Key) bool { return k.Certificate.SHA256() == before })
	require.NotEqual(t, "app/north", all[left].Purpose)
	require.NoError(t, r.Records.RemoveApplication(ctx, tester, "north"))
	_, _, err = r.Records.Restore(ctx, tester, list[0].ID)
	require.NoError(t, err, "the removal itself holds the record as it was last")
	require.Equal(t, before, key("north"), "its counterpart has that key")
	all, err = r.Rollover.Keys(ctx)
	require.NoError(t, err)
	for _, k := range all {
		err := r.Rollover.Remove(ctx, tester, k.ID)
		stays := slices.Contains([]string{"idp", "sp", "enc", "app/north", "app/south"}, k.Purpose)
		require.Equal(t, stays, err != nil, "%+v: that of the one in between goes: %v", k, err)
	}

	// Onto the shared face only one of them can go, also by restoring.
	shared := func(s federation.Settings) { s["ownFace"] = false }
	require.NoError(t, r.changeOf(change.KindApplication, "south", shared))
	err = r.changeOf(change.KindApplication, "north", shared)
	require.True(t, finding.Is(err, finding.MetadataKnown), "%v", err)
}

// reported is what a job of the exchange changed.
func reported(j jobs.Job) *exchange.Report { return j.Report.(*exchange.Report) }
