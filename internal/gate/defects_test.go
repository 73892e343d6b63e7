package gate

import (
	"fmt"
	"strings"
	"sync"
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
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

func (r *rig) count(row any) (n int64) {
	require.NoError(r.t, r.st.Read.Model(row).Count(&n).Error)
	return n
}

func TestSwitchedOffInTheMiddle(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	b, id := keep(driving.Browser{}, o), r.asked(o).ID
	require.NoError(t, r.change(func(s federation.Settings) { s["phase"] = "paused" }))
	got := r.answer(b, id, nil)
	require.Nil(t, got.Departure)
	require.Equal(t, finding.ApplicationDisabled, got.Finding.Code)
	require.Equal(t, finding.ApplicationDisabled, r.Crossings.Continue(ctx, b, o.Crossing).Finding.Code)
}

// Two tabs of one crossing: whoever is second finds it moved on, or ended; it is
// never opened again.
func TestTurnsOfOneCrossingExcludeEachOther(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	b, id := keep(driving.Browser{}, o), r.asked(o).ID
	var second driving.Outcome
	r.at(2, func() { second = r.Crossings.Continue(ctx, b, o.Crossing) }) // the first look is when it is found
	lost := r.Crossings.Continue(ctx, b, o.Crossing)
	require.NotNil(t, second.Departure, "reloaded: asked again")
	require.Equal(t, "https://gate.example/crossing/"+o.Crossing, lost.Next, "another tab was first")
	require.Equal(t, finding.InResponseToOther, r.answer(b, id, nil).Finding.Code,
		"the former question is answered no more")

	o = r.Crossings.Continue(ctx, b, o.Crossing)
	r.at(3, func() { second = r.answer(b, r.asked(o).ID, nil) })
	lost = r.Crossings.Continue(ctx, b, o.Crossing)
	require.NotNil(t, second.Departure)
	require.NotEmpty(t, lost.Next, "a turn that began before the end")
	require.Equal(t, crossing.PageFinished, r.Crossings.Continue(ctx, b, o.Crossing).Page)
	r.restart()
	require.Equal(t, crossing.PageFinished, r.Crossings.Continue(ctx, b, o.Crossing).Page, "not after a restart either")
	require.Zero(t, r.Crossings.Waiting())
}

// A sign-in that is written together with something that does not fit on the disk
// is written again, and is whole.
func TestASignInBesideAFullDisk(t *testing.T) {
	r := newRig(t)
	o := r.request(driving.Browser{}, nil)
	b, id := keep(driving.Browser{}, o), r.asked(o).ID
	var pages int
	require.NoError(t, r.st.Read.Raw("PRAGMA page_count").Scan(&pages).Error)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec(fmt.Sprintf("PRAGMA max_page_count = %d", pages+60)).Error
	}))
	gather := make(chan struct{})
	var wg sync.WaitGroup
	wg.Go(func() { _ = r.st.Write(ctx, func(*gorm.DB) error { <-gather; return nil }) })
	time.Sleep(50 * time.Millisecond)
	var out driving.Outcome
	wg.Go(func() { out = r.answer(b, id, nil) })
	time.Sleep(200 * time.Millisecond)
	var full error
	wg.Go(func() {
		full = r.st.Write(ctx, func(tx *gorm.DB) error {
			return tx.Create(&store.SettingRow{Key: "large", Value: strings.Repeat("x", 4<<20)}).Error
		})
	})
	time.Sleep(50 * time.Millisecond)
	close(gather)
	wg.Wait()
	require.Error(t, full)
	require.NotNil(t, out.Departure, "%+v", out.Finding)
	s := r.sessions.Find(ctx, keep(b, out).Session)
	require.NotNil(t, s)
	var link store.LinkRow
	require.NoError(t, r.st.Read.Take(&link).Error)
	require.Equal(t, link.Person, s.Person.ID)
	require.EqualValues(t, 1, r.count(&store.PersonRow{}))
	require.EqualValues(t, 1, r.count(&store.IssuedRow{}))
	require.Zero(t, r.Crossings.Waiting())
}

func TestSessionsAreReplaced(t *testing.T) {
	r := newRig(t)
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "card",
		Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:card",
			SSO: "https://card.example/sso", Keys: []keys.Certificate{r.idp.Certificate}})}})
	require.NoError(t, err)
	via := func(b driving.Browser, provider, who string) driving.Browser {
		o := r.Crossings.Open(ctx, b, driving.Start{App: "roster", Via: provider})
		if o.Departure.Message == "Response" {
			return keep(b, o)
		}
		b = keep(b, o)
		q := string(o.Departure.Octets)
		id := q[strings.Index(q, ` ID="`)+5:]
		octets, err := saml.WriteResponse(saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(),
			Lifetime: time.Minute, Issuer: saml.EntityID(map[string]string{"staff": "urn:idp", "card": "urn:card"}[provider]),
			Destination: "https://gate.example/saml/sp/" + provider + "/acs", InResponseTo: id[:strings.Index(id, `"`)],
			Audience: saml.EntityID("https://gate.example/saml/sp/" + provider),
			NameID:   saml.NameID{Format: saml.FormatPersistent, Value: who}, AuthnInstant: r.clock.get(),
			Context: saml.ContextPassword}, saml.Protection{Pair: r.idp})
		require.NoError(t, err)
		done := r.respond(b, provider, saml.Inbound{Octets: octets})
		require.NotNil(t, done.Departure, "%+v", done.Finding)
		return keep(b, done)
	}
	first := via(driving.Browser{}, "staff", "ada")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
	second := via(keep(driving.Browser{Session: first.Session}, driving.Outcome{}), "card", "bram")
	require.NotEqual(t, first.Session, second.Session)
	require.Nil(t, r.sessions.Find(ctx, first.Session), "the session of somebody else has ended")
	r.sessions.Clear()
	require.Nil(t, r.sessions.Find(ctx, first.Session), "on the disk, too")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
	require.EqualValues(t, 1, r.count(&store.IssuedRow{}), "and what hung on it")

	of := func(s *crossing.Session, name string) *crossing.Answer {
		p, err := r.Records.Provider(name)
		require.NoError(t, err)
		return s.Of(p)
	}
	// The same person by another provider: one session with both words.
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.LinkRow{}).Where("1 = 1").Update("person", 1).Error
	}))
	third := via(second, "staff", "ada")
	s := r.sessions.Find(ctx, third.Session)
	require.EqualValues(t, 1, s.Person.ID)
	require.NotNil(t, of(s, "staff"))
	require.Nil(t, of(s, "card"), "it was another person's until now")
	fourth := via(third, "card", "bram")
	r.sessions.Clear()
	s = r.sessions.Find(ctx, fourth.Session)
	require.NotNil(t, of(s, "staff"))
	require.NotNil(t, of(s, "card"))
	require.EqualValues(t, 2, r.count(&store.IssuedRow{}), "what the same person was given stays")
	require.EqualValues(t, 1, r.count(&store.SessionRow{}))
	require.Equal(t, "Response", r.Crossings.Open(ctx, fourth, driving.Start{App: "roster",
		Via: "staff"}).Departure.Message)

	require.NoError(t, r.Records.RemoveProvider(ctx, tester, "card"))
	require.Nil(t, r.sessions.Find(ctx, fourth.Session), "a session that rests on a removed provider's word ends")
}

// A session as builds before this one stored it still counts: those had no IDs
// of providers, and links were made by their names.
func TestSessionOfAnEarlierBuild(t *testing.T) {
	r := newRig(t)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Exec("UPDATE provider_rows SET data = CAST(json_remove(CAST(data AS TEXT), '$.id') AS BLOB)").Error
	}))
	r.restart()
	p, err := r.Records.Provider("staff")
	require.NoError(t, err)
	require.EqualValues(t, "staff", p.ID)
	old := `{"provider":"staff","answer":{"subject":{"format":"` + string(saml.FormatEmail) +
		`","value":"ada@wrenmoor.example"},"authnInstant":"` + r.clock.get().UTC().Format(time.RFC3339) +
		`","context":"` + saml.ContextPassword +
		`","until":"0001-01-01T00:00:00Z","NoProxy":false,"ProxyAudiences":null},"person":{"ID":0,"Key":"","Identifier":""},"expires":"` + r.clock.get().Add(time.Hour).UTC().Format(time.RFC3339) + `"}`
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.SessionRow{Hash: store.Hash("token"), Lasting: "l", Provider: "staff",
			Expires: r.clock.get().Add(time.Hour).UTC(), Sealed: r.st.Seal("session", []byte(old))}).Error
	}))
	a, _ := r.said(r.request(driving.Browser{Session: "token"}, nil))
	require.Equal(t, "ada@wrenmoor.example", a.NameID.Value)
	require.Equal(t, saml.ContextPassword, a.Context)
	r.clock.set(r.clock.get().Add(2 * time.Hour))
	r.asked(r.request(driving.Browser{Session: "token"}, nil))
}

// Only what is unfinished counts; where all places are taken, the oldest of the
// network that holds most gives way.
func TestPlacesAreSharedFairly(t *testing.T) {
	r := newRig(t)
	office := driving.Browser{Address: "192.0.2.10"}
	in := keep(office, outcomeOf(r.enter(nil)))
	in.Address = office.Address
	for range 30 {
		o := r.request(office, nil)
		require.NotNil(t, r.answer(keep(driving.Browser{Address: office.Address}, o), r.asked(o).ID, nil).Departure)
	}
	require.Zero(t, r.Crossings.Waiting(), "what has ended takes no place")
}

// outcomeOf lets a browser be made from one that is there.
func outcomeOf(b driving.Browser) driving.Outcome {
	return driving.Outcome{Cookies: []driving.Cookie{{Value: b.Session}}}
}

// An application that gets a face of its own is answered by the shared one until
// it has come by its own.
func TestMovingToAFaceOfItsOwn(t *testing.T) {
	r := newRig(t)
	b := r.enter(nil)
	before := r.Records.Snapshot().Gate.Keys["idp"].Current.Certificate.SHA256()
	require.NoError(t, r.change(func(s federation.Settings) { s["ownFace"] = true }))
	a, octets := r.said(r.request(b, nil))
	require.EqualValues(t, "https://gate.example/saml/idp", a.Issuer)
	require.Contains(t, octets, "SignatureValue")
	issuer := func(o driving.Outcome) string {
		require.NotNil(t, o.Departure, "%+v", o.Finding)
		x := string(o.Departure.Octets)
		return x[strings.Index(x, "Issuer>")+7 : strings.Index(x, "</saml:Issuer>")]
	}
	require.Equal(t, "https://gate.example/saml/idp", issuer(r.Crossings.Open(ctx, b, driving.Start{App: "roster"})),
		"unasked, too")
	own := func() driving.Outcome {
		out, err := saml.WriteAuthnRequest(saml.AuthnRequest{ID: messageID(), IssueInstant: r.clock.get(),
			Issuer: "urn:roster",
			ACS:    "https://roster.example/acs"}, saml.Endpoint{Binding: saml.BindingRedirect,
			Location: "https://gate.example/saml/idp/app/roster/sso"}, "", nil)
		require.NoError(t, err)
		in, err := saml.FromRedirect(out.Location[strings.Index(out.Location, "?")+1:], "SAMLRequest")
		require.NoError(t, err)
		return r.Crossings.Arrive(ctx, b, samlside.Request(in, "roster", nil))
	}
	revision := func() int { a, _ := r.Records.Application("roster"); return a.Revision }
	was := revision()
	require.Equal(t, "https://gate.example/saml/idp/app/roster", issuer(own()))
	require.Equal(t, was, revision(), "that it has moved is no change of the record")
	require.Equal(t, finding.ApplicationUnknown, r.request(b, nil).Finding.Code, "now the shared one answers it no more")
	require.Equal(t, "https://gate.example/saml/idp/app/roster", issuer(r.Crossings.Open(ctx, b,
		driving.Start{App: "roster"})))
	app, err := r.Records.Application("roster")
	require.NoError(t, err)
	require.NotEqual(t, before, app.Keys.Current.Certificate.SHA256())
	r.restart()
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
	ranks, revision := r.Records.Contexts()
	require.NotEmpty(t, ranks)
	require.NoError(t, r.Records.ChangeContexts(ctx, tester, revision, append(federation.Ranking{{"urn:weak"}},
		ranks...)))
	require.Equal(t, "Response", r.request(b, better).Departure.Message)
	var ce *change.ConflictError
	require.ErrorAs(t, r.Records.ChangeContexts(ctx, tester, revision, ranks), &ce, "made from an old revision")
	var fe *change.FieldError
	require.ErrorAs(t, r.Records.ChangeContexts(ctx, tester, revision+1, federation.Ranking{{"a"}, {"a"}}), &fe)
	list, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: string(federation.KindRanking), Limit: 5})
	require.NoError(t, err)
	change, err := r.Records.Revision(ctx, list[0].ID)
	require.NoError(t, err)
	require.Contains(t, change.Values, federation.Value{Label: "Rank 1", Value: "urn:weak"})
	again, revision := r.Records.Contexts()
	require.Equal(t, 2, revision)
	require.Equal(t, "urn:weak", again[0][0])
}

// What strangers send is kept sparingly, at a rate of its own; what was sent and
// asked for is told; a signature value is held back as long as it could be used,
// and nothing else with it.
func TestTracesTellWhatWasSentAndKeepStrangersShort(t *testing.T) {
	r := newRig(t)
	r.enter(nil)
	rows, _, err := r.Traces.List(ctx, traces.Filter{Search: "ADA@wren", Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "ada@wrenmoor.example", rows[0].Person, "found by part of a sealed name")
	_, steps, err := r.Traces.Get(ctx, rows[0].ID)
	require.NoError(t, err)
	last := steps[len(steps)-1]
	for label, want := range map[string]string{"NameID": "ada@wrenmoor.example",
		"NameID Format": string(saml.FormatEmail),
		"Signed":        "assertion", "Encrypted": "no"} {
		require.Contains(t, last.Values, federation.Value{Label: label, Value: want})
	}
	require.Contains(t, last.Octets, "held back")
	require.Contains(t, last.Octets, "DigestValue")
	r.clock.set(r.clock.get().Add(3 * time.Minute))
	_, steps, err = r.Traces.Get(ctx, rows[0].ID)
	require.NoError(t, err)
	for _, s := range steps {
		require.Equal(t, s.To == crossing.Application, strings.Contains(s.Octets, "held back"),
			"the provider's assertion has expired, ours has not: %s", s.Name)
	}
	refused := r.request(driving.Browser{}, func(q *saml.AuthnRequest) { q.NameIDFormat = "urn:x" })
	refused = r.answer(keep(driving.Browser{}, refused), r.asked(refused).ID, nil)
	_, steps, err = r.Traces.Get(ctx, refused.Reference)
	require.NoError(t, err)
	require.Contains(t, steps[0].Values, federation.Value{Label: "NameIDPolicy Format", Value: "urn:x"})
	require.Contains(t, steps[len(steps)-1].Values, federation.Value{Label: "nested StatusCode",
		Value: saml.StatusInvalidNameIDPolicy})

	// A request of a megabyte that inflates from next to nothing.
	big := "<a>" + strings.Repeat("x", 1<<20-100) + "</a>"
	in := saml.Inbound{Binding: saml.BindingRedirect, Octets: []byte(big), Raw: strings.Repeat("y", 2000)}
	o := r.Crossings.Arrive(ctx, driving.Browser{Address: "198.51.100.1"}, samlside.Request(in, "", nil))
	_, steps, err = r.Traces.Get(ctx, o.Reference)
	require.NoError(t, err)
	require.LessOrEqual(t, len(steps[0].Octets)+len(steps[0].Raw), (6 << 10))
	require.Greater(t, steps[0].Cut, 1<<19)
	const flowOfOne = 400
	for range flowOfOne + 50 {
		r.Crossings.Arrive(ctx, driving.Browser{Address: "198.51.100.1"}, samlside.Request(in, "", nil))
	}
	_, counts, err := r.Traces.List(ctx, traces.Filter{Search: "message-other", Limit: 1})
	require.NoError(t, err)
	require.LessOrEqual(t, counts["refused"], int64(flowOfOne), "more of one network are counted only")
	require.NotNil(t, r.request(driving.Browser{Address: "198.51.100.2"}, nil).Departure)

	waits := r.request(driving.Browser{}, nil)
	r.clock.set(r.clock.get().Add(crossing.Life + 2*time.Minute))
	require.NoError(t, r.Crossings.Sweep(ctx))
	head, _, err := r.Traces.Get(ctx, waits.Reference)
	require.NoError(t, err)
	require.Equal(t, crossing.Left, head.Result)
}

// What has to be remembered of a request, and what is shown of it, is bounded.
func TestOversizedValuesAreNotKept(t *testing.T) {
	r := newRig(t)
	long := strings.Repeat("x", 200<<10)
	for rule, edit := range map[string]func(*saml.AuthnRequest){
		"ID": func(q *saml.AuthnRequest) {
			q.ID = "_" + long
		}, "format": func(q *saml.AuthnRequest) { q.NameIDFormat = saml.NameIDFormat("urn:" + long) },
		"context":  func(q *saml.AuthnRequest) { q.Contexts = []string{long} },
		"subject":  func(q *saml.AuthnRequest) { q.Subject = long },
		"contexts": func(q *saml.AuthnRequest) { q.Contexts = strings.Split(strings.Repeat("urn:x ", 60), " ") },
	} {
		require.Equal(t, finding.MessageUndecodable, r.request(driving.Browser{}, edit).Finding.Code, rule)
	}
	o := r.request(driving.Browser{}, func(q *saml.AuthnRequest) { q.ACS = "https://evil.example/" + long })
	require.Equal(t, finding.ACSUnregistered, o.Finding.Code)
	_, steps, err := r.Traces.Get(ctx, o.Reference)
	require.NoError(t, err)
	require.Less(t, len(fmt.Sprint(steps[0].Checks, steps[0].Finding)), 30<<10, "evidence is cut")
	require.Contains(t, steps[0].Finding.Evidence[0].Found, "https://evil.example/xxx")
	o = r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: long})
	var row store.CrossingRow
	require.NoError(t, r.st.Read.Where("id = ?", o.Crossing).Take(&row).Error)
	require.Less(t, len(row.Sealed), 10<<10, "a provider that is none")
}

// A bookmark is opened like any application, and told nothing.
func TestLink(t *testing.T) {
	r := newRig(t)
	add := func(name, address string) error {
		_, err := r.Records.AddApplication(ctx, tester, records.NewRecord{Name: name, Title: "Archive",
			Protocol: "link", Provider: "staff", Source: records.Source{Typed: federation.Typed{"link": address}}})
		return err
	}
	require.NoError(t, add("archive", "https://archive.example/shelf?from=gate"))
	require.NoError(t, add("again", "https://archive.example/shelf?from=gate"), "two bookmarks may lead to one place")
	o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "archive"})
	b := keep(driving.Browser{}, o)
	done := r.answer(b, r.asked(o).ID, nil)
	require.Equal(t, "https://archive.example/shelf?from=gate", done.Departure.Location)
	require.Nil(t, done.Departure.Form)
	require.Equal(t, "https://archive.example/shelf?from=gate", r.Crossings.Open(ctx, keep(b, done),
		driving.Start{App: "again"}).Departure.Location, "by the session")
	require.Equal(t, finding.TargetForeign, r.Crossings.Open(ctx, b, driving.Start{App: "archive",
		Target: "https://evil.example"}).Finding.Code,
		"no open redirect")
	o = r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "archive"})
	refusal, err := saml.WriteStatus(saml.Answer{ResponseID: messageID(), At: r.clock.get(), Issuer: "urn:idp",
		Destination: "https://gate.example/saml/sp/staff/acs", InResponseTo: r.asked(o).ID}, saml.StatusResponder,
		saml.StatusAuthnFailed, "", r.idp)
	require.NoError(t, err)
	require.Equal(t, crossing.PageRefused, r.respond(keep(driving.Browser{}, o), "staff",
		saml.Inbound{Octets: refusal}).Page)
	require.NotNil(t, r.respond(driving.Browser{}, "archive", saml.Inbound{Octets: refusal}).Finding)

	var fe *change.FieldError
	for address, field := range map[string]string{"archive.example": "link", "javascript:alert(1)": "link",
		"https://u:p@x.example/": "link", "https://x.example/\\y": "link", "https://x.example/" + strings.Repeat("x",
			3000): "link", "": "metadata"} {
		require.ErrorAs(t, add("bad", address), &fe, address)
		require.Equal(t, field, fe.Field, address)
	}
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "bad", Protocol: "link",
		Source: records.Source{Document: []byte("<a/>")}})
	require.ErrorContains(t, err, "no metadata")
	_, err = r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "bad", Protocol: "link"})
	require.ErrorAs(t, err, &fe)
	require.Equal(t, "protocol", fe.Field)
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "bad", Protocol: "lnik"})
	require.ErrorContains(t, err, "saml, link")
	require.ErrorAs(t, r.changeOf(change.KindApplication, "archive",
		func(s federation.Settings) { s["ownStart"] = "https://x.example" }), &fe)
	require.ErrorAs(t, r.changeOf(change.KindApplication, "archive", func(s federation.Settings) { s["sign"] = "both" }),
		&fe, "a setting of another protocol")

	require.NoError(t, r.Records.Retake(ctx, tester, change.KindApplication, "archive", 1,
		records.Source{Typed: federation.Typed{"link": "https://new.example/"}}))
	require.Equal(t, "https://new.example/", r.Crossings.Open(ctx, keep(b, done),
		driving.Start{App: "archive"}).Departure.Location)
	list, _, err := r.Records.History(ctx, records.HistoryFilter{Name: "archive", Limit: 5})
	require.NoError(t, err)
	_, _, err = r.Records.Restore(ctx, tester, list[len(list)-1].ID)
	require.NoError(t, err)
	r.restart()
	require.Equal(t, "https://archive.example/shelf?from=gate", r.Crossings.Open(ctx, keep(b, done),
		driving.Start{App: "archive"}).Departure.Location)
	found, err := r.Checking.Check(ctx, checking.Filter{Names: []string{"archive"}})
	require.NoError(t, err)
	require.Equal(t, []finding.Code{finding.AccessUndecided}, []finding.Code{found[0].Findings[0].Code})
	require.Equal(t, []string{"archive"}, func() (out []string) {
		page, _ := r.Records.Snapshot().FindApplications("archive.example", 0, 10)
		for _, a := range page {
			out = append(out, string(a.Name))
		}
		return out[1:]
	}())
}
