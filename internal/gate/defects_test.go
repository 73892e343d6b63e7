package gate

import (
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/store"
)

func (r *rig) count(row any) (n int64) {
	require.NoError(r.t, r.st.Read.Model(row).Count(&n).Error)
	return n
}

func TestSwitchedOffInTheMiddle(t *testing.T) {
	r := newRig(t)
	o := r.request(Browser{}, nil)
	b, id := keep(Browser{}, o), r.asked(o).ID
	require.NoError(t, r.change(func(s federation.Settings) { s["phase"] = "paused" }))
	got := r.answer(b, id, nil)
	require.Nil(t, got.Departure)
	require.Equal(t, finding.ApplicationDisabled, got.Finding.Code)
	require.Equal(t, finding.ApplicationDisabled, r.Continue(ctx, b, o.Crossing).Finding.Code)
}

// Two tabs of one crossing: whoever is second finds it moved on, or ended; it is
// never opened again.
func TestTurnsOfOneCrossingExcludeEachOther(t *testing.T) {
	r := newRig(t)
	o := r.request(Browser{}, nil)
	b, id := keep(Browser{}, o), r.asked(o).ID
	stale := r.crossings.find(o.Crossing, r.time)
	require.Equal(t, stale.State.Resting(), stale.State, "no message is kept in memory between turns")
	back := crossing.Event{Kind: crossing.Continued}
	require.NotNil(t, r.Continue(ctx, b, o.Crossing).Departure, "reloaded: asked again")
	lost := r.drive(ctx, b, stale, back)
	require.Equal(t, "https://gate.example/crossing/"+o.Crossing, lost.Next, "another tab was first")
	require.Equal(t, finding.InResponseToOther, r.answer(b, id, nil).Finding.Code, "the former question is answered no more")
	require.Len(t, r.crossings.byHandle, 1, "the request ID of before is forgotten")

	o = r.Continue(ctx, b, o.Crossing)
	stale = r.crossings.find(o.Crossing, r.time)
	require.NotNil(t, r.answer(b, r.asked(o).ID, nil).Departure)
	require.NotEmpty(t, r.drive(ctx, b, stale, back).Next, "a turn that began before the end")
	require.Equal(t, crossing.PageFinished, r.Continue(ctx, b, o.Crossing).Page)
	var row store.CrossingRow
	require.NoError(t, r.st.Read.Where("id = ?", o.Crossing).Take(&row).Error)
	require.True(t, row.Ended)
	loaded, err := loadCrossings(r.st, r.time)
	require.NoError(t, err)
	require.Equal(t, crossing.Ended, loaded.find(o.Crossing, r.time).State.Stage, "not after a restart either")
	require.Zero(t, loaded.waiting())
}

func TestSessionsAreReplaced(t *testing.T) {
	r := newRig(t)
	_, err := r.AddProvider(ctx, tester, NewProvider{Name: "card", Source: Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:card", SSO: "https://card.example/sso", Keys: []keys.Certificate{r.idp.Certificate}})}})
	require.NoError(t, err)
	via := func(b Browser, provider, who string) Browser {
		o := r.Open(ctx, b, "roster", "", provider)
		if o.Departure.Message == "Response" {
			return keep(b, o)
		}
		b = keep(b, o)
		q := string(o.Departure.Octets)
		id := q[strings.Index(q, ` ID="`)+5:]
		octets, err := saml.WriteResponse(saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.time, Lifetime: time.Minute, Issuer: map[string]string{"staff": "urn:idp", "card": "urn:card"}[provider],
			Destination: "https://gate.example/saml/sp/" + provider + "/acs", InResponseTo: id[:strings.Index(id, `"`)], Audience: "https://gate.example/saml/sp/" + provider,
			NameID: saml.NameID{Format: saml.FormatPersistent, Value: who}, AuthnInstant: r.time, Context: saml.ContextPassword}, saml.Protection{Pair: r.idp})
		require.NoError(t, err)
		done := r.respond(b, provider, saml.Inbound{Octets: octets})
		require.NotNil(t, done.Departure, "%+v", done.Finding)
		return keep(b, done)
	}
	first := via(Browser{}, "staff", "ada")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
	second := via(keep(Browser{Session: first.Session}, Outcome{}), "card", "bram")
	require.NotEqual(t, first.Session, second.Session)
	require.Nil(t, r.sessions.find(ctx, first.Session), "the session of somebody else has ended")
	r.sessions.clear()
	require.Nil(t, r.sessions.find(ctx, first.Session), "on the disk, too")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
	require.EqualValues(t, 1, r.count(&store.IssuedRow{}), "and what hung on it")

	of := func(s *crossing.Session, name string) *crossing.Answer {
		p, err := r.Provider(name)
		require.NoError(t, err)
		return s.Of(p)
	}
	// The same person by another provider: one session with both words.
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error { return tx.Model(&store.LinkRow{}).Where("1 = 1").Update("person", 1).Error }))
	third := via(second, "staff", "ada")
	s := r.sessions.find(ctx, third.Session)
	require.EqualValues(t, 1, s.Person.ID)
	require.NotNil(t, of(s, "staff"))
	require.Nil(t, of(s, "card"), "it was another person's until now")
	fourth := via(third, "card", "bram")
	r.sessions.clear()
	s = r.sessions.find(ctx, fourth.Session)
	require.NotNil(t, of(s, "staff"))
	require.NotNil(t, of(s, "card"))
	require.EqualValues(t, 2, r.count(&store.IssuedRow{}), "what the same person was given stays")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
	require.Equal(t, "Response", r.Open(ctx, fourth, "roster", "", "staff").Departure.Message)

	require.NoError(t, r.RemoveProvider(ctx, tester, "card"))
	require.Nil(t, r.sessions.find(ctx, fourth.Session), "a session that rests on a removed provider's word ends")
}

// A session as builds before this one stored it still counts: those had no IDs
// of providers, and links were made by their names.
func TestSessionOfAnEarlierBuild(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE provider_rows SET data = CAST(json_remove(CAST(data AS TEXT), '$.id') AS BLOB)").Error
	}))
	require.NoError(t, r.load(ctx, r.Snapshot().Gate))
	p, err := r.Provider("staff")
	require.NoError(t, err)
	require.EqualValues(t, "staff", p.ID)
	old := `{"provider":"staff","answer":{"subject":{"format":"` + saml.FormatEmail + `","value":"ada@wrenmoor.example"},"authnInstant":"` + r.time.UTC().Format(time.RFC3339) +
		`","context":"` + saml.ContextPassword + `","until":"0001-01-01T00:00:00Z","NoProxy":false,"ProxyAudiences":null},"person":{"ID":0,"Key":"","Identifier":""},"expires":"` + r.time.Add(time.Hour).UTC().Format(time.RFC3339) + `"}`
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.SessionRow{Hash: store.Hash("token"), Provider: "staff", Expires: r.time.Add(time.Hour).UTC(), Sealed: r.st.Seal("session", []byte(old))}).Error
	}))
	a, _ := r.said(r.request(Browser{Session: "token"}, nil))
	require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
	require.Equal(t, saml.ContextPassword, a.Context)
	r.time = r.time.Add(2 * time.Hour)
	r.asked(r.request(Browser{Session: "token"}, nil))
}

// Only what is unfinished counts; where all places are taken, the oldest of the
// network that holds most gives way.
func TestPlacesAreSharedFairly(t *testing.T) {
	r := newRig(t)
	office := Browser{Address: "192.0.2.10"}
	in := keep(office, r.enter(nil).outcome())
	in.Address = office.Address
	for range 30 {
		o := r.request(office, nil)
		require.NotNil(t, r.answer(keep(Browser{Address: office.Address}, o), r.asked(o).ID, nil).Departure)
	}
	require.Zero(t, r.crossings.waiting())
	require.Empty(t, r.crossings.networks)

	c := r.crossings
	put := func(network, id string, size int) {
		dropped, err := c.admit(network)
		require.NoError(t, err)
		require.Empty(t, dropped)
		c.put(record{State: crossing.State{ID: id, Began: r.time, Browser: crossing.Tie{Network: network}}}, size)
	}
	for n := range 40 {
		for i := range 50 {
			put(fmt.Sprint("stranger-", n), fmt.Sprint(n, "-", i), 1000)
		}
	}
	put("flood", "flood-0", 100)
	for i := range 90 {
		put("flood", fmt.Sprint("flood-", i+1), 1000)
	}
	c.open += maxCrossings - c.waiting() // as if the rest were taken as well
	dropped, err := c.admit("192.0.2.99")
	require.NoError(t, err)
	require.Equal(t, []string{"flood-0"}, dropped, "the oldest of the one that holds most, not anybody else's")
	c.open = 0
	c.octets = maxCrossingOctets
	dropped, err = c.admit("192.0.2.99")
	require.NoError(t, err)
	require.Equal(t, []string{"flood-1"}, dropped, "octets are bounded, not only their number")
}

// outcome lets a browser be made from one that is there.
func (b Browser) outcome() Outcome { return Outcome{Cookies: []Cookie{{Value: b.Session}}} }

// An application that gets a face of its own is answered by the shared one until
// it has come by its own.
func TestMovingToAFaceOfItsOwn(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	before := r.Snapshot().Gate.Keys["idp"].Current.Certificate.SHA256()
	require.NoError(t, r.change(func(s federation.Settings) { s["ownFace"] = true }))
	a, octets := r.said(r.request(b, nil))
	require.Equal(t, "https://gate.example/saml/idp", a.Issuer)
	require.Contains(t, octets, "SignatureValue")
	issuer := func(o Outcome) string {
		require.NotNil(t, o.Departure, "%+v", o.Finding)
		x := string(o.Departure.Octets)
		return x[strings.Index(x, "Issuer>")+7 : strings.Index(x, "</saml:Issuer>")]
	}
	require.Equal(t, "https://gate.example/saml/idp", issuer(r.Open(ctx, b, "roster", "", "")), "unasked, too")
	own := func() Outcome {
		out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: messageID(), IssueInstant: r.time, Issuer: "urn:roster", ACS: "https://roster.example/acs"}, saml.Endpoint{Binding: saml.BindingRedirect, Location: "https://gate.example/saml/idp/app/roster/sso"}, "", nil)
		require.NoError(t, err)
		in, err := saml.FromRedirect(out.Location[strings.Index(out.Location, "?")+1:], "SAMLRequest")
		require.NoError(t, err)
		return r.Arrive(ctx, b, samlside.Request(in, "roster", nil))
	}
	revision := func() int { a, _ := r.Application("roster"); return a.Revision }
	was := revision()
	require.Equal(t, "https://gate.example/saml/idp/app/roster", issuer(own()))
	require.Equal(t, was, revision(), "that it has moved is no change of the record")
	require.Equal(t, finding.ApplicationUnknown, r.request(b, nil).Finding.Code, "now the shared one answers it no more")
	require.Equal(t, "https://gate.example/saml/idp/app/roster", issuer(r.Open(ctx, b, "roster", "", "")))
	app, err := r.Application("roster")
	require.NoError(t, err)
	require.NotEqual(t, before, app.Keys.Current.Certificate.SHA256())
	require.NoError(t, r.load(ctx, r.Snapshot().Gate))
	require.Equal(t, finding.ApplicationUnknown, r.request(b, nil).Finding.Code, "and not after a restart")
	require.NoError(t, r.change(func(s federation.Settings) { s["ownFace"] = false }))
	r.said(r.request(b, nil))
}

// The ranking of contexts is the engineer's to change; it acts at once.
func TestRankingOfContexts(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	better := func(q *saml.AuthnRequest) { q.Contexts, q.Comparison = []string{"urn:weak"}, "better" }
	r.asked(r.request(b, better))
	ranks, revision, err := r.Contexts(ctx)
	require.NoError(t, err)
	require.NotEmpty(t, ranks)
	require.NoError(t, r.ChangeContexts(ctx, tester, revision, append(federation.Ranking{{"urn:weak"}}, ranks...)))
	require.Equal(t, "Response", r.request(b, better).Departure.Message)
	var ce *ConflictError
	require.ErrorAs(t, r.ChangeContexts(ctx, tester, revision, ranks), &ce, "made from an old revision")
	var fe *FieldError
	require.ErrorAs(t, r.ChangeContexts(ctx, tester, revision+1, federation.Ranking{{"a"}, {"a"}}), &fe)
	list, _, err := r.History(ctx, HistoryFilter{Kind: KindRanking, Limit: 5})
	require.NoError(t, err)
	change, err := r.Revision(ctx, list[0].ID)
	require.NoError(t, err)
	require.Contains(t, change.Values, federation.Value{Label: "Rank 1", Value: "urn:weak"})
	again, revision, err := r.Contexts(ctx)
	require.NoError(t, err)
	require.Equal(t, 2, revision)
	require.Equal(t, "urn:weak", again[0][0])
}

// What strangers send is kept sparingly, at a rate of its own; what was sent and
// asked for is told; a signature value is held back as long as it could be used,
// and nothing else with it.
func TestTracesTellWhatWasSentAndKeepStrangersShort(t *testing.T) {
	r := newRig(t)
	r.enter(nil)
	rows, _, err := r.Traces(ctx, store.TraceFilter{Search: "ADA@wren", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "ada@wrenmoor.example", rows[0].Person, "found by part of a sealed name")
	_, steps, err := r.Trace(ctx, rows[0].ID)
	require.NoError(t, err)
	last := steps[len(steps)-1]
	for label, want := range map[string]string{"NameID": "ada@wrenmoor.example", "NameID Format": saml.FormatEmail, "Signed": "assertion", "Encrypted": "no"} {
		require.Contains(t, last.Values, federation.Value{Label: label, Value: want})
	}
	require.Contains(t, last.Octets, "held back")
	require.Contains(t, last.Octets, "DigestValue")
	r.time = r.time.Add(3 * time.Minute)
	_, steps, err = r.Trace(ctx, rows[0].ID)
	require.NoError(t, err)
	for _, s := range steps {
		require.Equal(t, s.To == crossing.Application, strings.Contains(s.Octets, "held back"), "the provider's assertion has expired, ours has not: %s", s.Name)
	}
	refused := r.request(Browser{}, func(q *saml.AuthnRequest) { q.NameIDFormat = "urn:x" })
	refused = r.answer(keep(Browser{}, refused), r.asked(refused).ID, nil)
	_, steps, err = r.Trace(ctx, refused.Reference)
	require.NoError(t, err)
	require.Contains(t, steps[0].Values, federation.Value{Label: "NameIDPolicy Format", Value: "urn:x"})
	require.Contains(t, steps[len(steps)-1].Values, federation.Value{Label: "nested StatusCode", Value: saml.StatusInvalidNameIDPolicy})

	// A request of a megabyte that inflates from next to nothing.
	big := "<a>" + strings.Repeat("x", 1<<20-100) + "</a>"
	in := saml.Inbound{Binding: saml.BindingRedirect, Octets: []byte(big), Raw: strings.Repeat("y", 2000)}
	o := r.Arrive(ctx, Browser{Address: "198.51.100.1"}, samlside.Request(in, "", nil))
	_, steps, err = r.Trace(ctx, o.Reference)
	require.NoError(t, err)
	require.LessOrEqual(t, len(steps[0].Octets)+len(steps[0].Raw), strangerOctets)
	require.Greater(t, steps[0].Cut, 1<<19)
	for range flowOfOne + 50 {
		r.Arrive(ctx, Browser{Address: "198.51.100.1"}, samlside.Request(in, "", nil))
	}
	_, counts, err := r.Traces(ctx, store.TraceFilter{Search: "message-other", Limit: 1})
	require.NoError(t, err)
	require.LessOrEqual(t, counts["refused"], int64(flowOfOne), "more of one network are counted only")
	require.NotNil(t, r.request(Browser{Address: "198.51.100.2"}, nil).Departure)

	waits := r.request(Browser{}, nil)
	r.time = r.time.Add(crossing.Life + 2*time.Minute)
	require.NoError(t, r.st.Traces.Prune(ctx, waited(r.time)))
	head, _, err := r.Trace(ctx, waits.Reference)
	require.NoError(t, err)
	require.Equal(t, crossing.Left, head.Result)
}

// What has to be remembered of a request, and what is shown of it, is bounded.
func TestOversizedValuesAreNotKept(t *testing.T) {
	r := newRig(t)
	long := strings.Repeat("x", 200<<10)
	for rule, edit := range map[string]func(*saml.AuthnRequest){
		"ID": func(q *saml.AuthnRequest) { q.ID = "_" + long }, "format": func(q *saml.AuthnRequest) { q.NameIDFormat = "urn:" + long },
		"context": func(q *saml.AuthnRequest) { q.Contexts = []string{long} }, "subject": func(q *saml.AuthnRequest) { q.Subject = long },
		"contexts": func(q *saml.AuthnRequest) { q.Contexts = strings.Split(strings.Repeat("urn:x ", 60), " ") },
	} {
		require.Equal(t, finding.MessageUndecodable, r.request(Browser{}, edit).Finding.Code, rule)
	}
	o := r.request(Browser{}, func(q *saml.AuthnRequest) { q.ACS = "https://evil.example/" + long })
	require.Equal(t, finding.ACSUnregistered, o.Finding.Code)
	_, steps, err := r.Trace(ctx, o.Reference)
	require.NoError(t, err)
	require.Less(t, len(fmt.Sprint(steps[0].Checks, steps[0].Finding)), 30<<10, "evidence is cut")
	require.Contains(t, steps[0].Finding.Evidence[0].Found, "https://evil.example/xxx")
	o = r.Open(ctx, Browser{}, "roster", "", long)
	require.Empty(t, r.crossings.find(o.Crossing, r.time).State.Chosen, "a provider that is none")
}

// A bookmark is opened like any application, and told nothing.
func TestLink(t *testing.T) {
	r := newRig(t)
	add := func(name, address string) error {
		_, err := r.AddApplication(ctx, tester, NewApplication{Name: name, Title: "Archive", Protocol: "link", Source: Source{Typed: federation.Typed{"link": address}}})
		return err
	}
	require.NoError(t, add("archive", "https://archive.example/shelf?from=gate"))
	require.NoError(t, add("again", "https://archive.example/shelf?from=gate"), "two bookmarks may lead to one place")
	o := r.Open(ctx, Browser{}, "archive", "", "")
	b := keep(Browser{}, o)
	done := r.answer(b, r.asked(o).ID, nil)
	require.Equal(t, "https://archive.example/shelf?from=gate", done.Departure.Location)
	require.Nil(t, done.Departure.Form)
	require.Equal(t, "https://archive.example/shelf?from=gate", r.Open(ctx, keep(b, done), "again", "", "").Departure.Location, "by the session")
	require.Equal(t, finding.TargetForeign, r.Open(ctx, b, "archive", "https://evil.example", "").Finding.Code, "no open redirect")
	o = r.Open(ctx, Browser{}, "archive", "", "")
	refusal, err := saml.WriteStatus(saml.Answer{ResponseID: messageID(), At: r.time, Issuer: "urn:idp", Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: r.asked(o).ID}, saml.StatusResponder, saml.StatusAuthnFailed, "", r.idp)
	require.NoError(t, err)
	require.Equal(t, crossing.PageRefused, r.respond(keep(Browser{}, o), "staff", saml.Inbound{Octets: refusal}).Page)
	require.NotNil(t, r.respond(Browser{}, "archive", saml.Inbound{Octets: refusal}).Finding)

	var fe *FieldError
	for address, field := range map[string]string{"archive.example": "link", "javascript:alert(1)": "link", "https://u:p@x.example/": "link", "https://x.example/\\y": "link", "https://x.example/" + strings.Repeat("x", 3000): "link", "": "metadata"} {
		require.ErrorAs(t, add("bad", address), &fe, address)
		require.Equal(t, field, fe.Field, address)
	}
	_, err = r.AddApplication(ctx, tester, NewApplication{Name: "bad", Protocol: "link", Source: Source{Document: []byte("<a/>")}})
	require.ErrorContains(t, err, "no metadata")
	_, err = r.AddProvider(ctx, tester, NewProvider{Name: "bad", Protocol: "link"})
	require.ErrorAs(t, err, &fe)
	require.Equal(t, "protocol", fe.Field)
	_, err = r.AddApplication(ctx, tester, NewApplication{Name: "bad", Protocol: "lnik"})
	require.ErrorContains(t, err, "saml, link")
	require.ErrorAs(t, r.changeOf(KindApplication, "archive", func(s federation.Settings) { s["ownStart"] = "https://x.example" }), &fe)
	require.ErrorAs(t, r.changeOf(KindApplication, "archive", func(s federation.Settings) { s["sign"] = "both" }), &fe, "a setting of another protocol")

	require.NoError(t, r.Retake(ctx, tester, KindApplication, "archive", 1, Source{Typed: federation.Typed{"link": "https://new.example/"}}))
	require.Equal(t, "https://new.example/", r.Open(ctx, keep(b, done), "archive", "", "").Departure.Location)
	list, _, err := r.History(ctx, HistoryFilter{Name: "archive", Limit: 5})
	require.NoError(t, err)
	_, _, err = r.Restore(ctx, tester, list[len(list)-1].ID)
	require.NoError(t, err)
	require.NoError(t, r.load(ctx, r.Snapshot().Gate))
	require.Equal(t, "https://archive.example/shelf?from=gate", r.Open(ctx, keep(b, done), "archive", "", "").Departure.Location)
	found, err := r.Check(ctx, CheckFilter{Names: []string{"archive"}})
	require.NoError(t, err)
	require.Empty(t, found[0].Findings)
	require.Equal(t, []string{"archive"}, func() (out []string) {
		page, _ := r.Snapshot().FindApplications("archive.example", 0, 10)
		for _, a := range page {
			out = append(out, string(a.Name))
		}
		return out[1:]
	}())
}
