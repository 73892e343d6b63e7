package gate

import (
	"encoding/json"
	"errors"
	"log/slog"
	"net/url"
	"os"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/checking"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

// Who gains by lying about who they are: a row for each way to set a value, and what it may
// not do. The table in docs/people.md is the same.
func TestWhoGainsByLying(t *testing.T) {
	const colleague = "bram@wrenmoor.example"
	for _, c := range []struct {
		lie      string
		staff    federation.Settings
		settings federation.Settings // of club, by which the liar came before
		before   []string            // what they brought then
		brings   []string            // what somebody brings by staff, as whose they are taken
		typed    []string            // what they type, as pairs, page by page
		code     bool
		found    bool // they are linked to person 1, who was there before
	}{
		{lie: "types an address that the provider vouches for", staff: federation.Settings{"vouchesFor": "wrenmoor.example",
			"askFor": "emails=verified"},
			typed: []string{"value.emails", colleague, "code", "000000", "value.emails", "", "do", ""}},
		{lie: "types it where nobody asks for proof", staff: federation.Settings{"vouchesFor": "wrenmoor.example",
			"askFor": "emails"},
			typed: []string{"value.emails", colleague, "code", "111111"}},
		{lie: "proves an address with a letter that looks alike", staff: federation.Settings{"askFor": "emails=verified"},
			typed: []string{"value.emails", "br\u00e4m@wrenmoor.example"}, code: true},
		{lie: "proves the address that is theirs", staff: federation.Settings{"askFor": "emails=verified"},
			typed: []string{"value.emails", strings.ToUpper(colleague)}, code: true, found: true},
		{lie: "brings a domain that looks alike", staff: federation.Settings{"vouchesFor": "wrenmoor.example"},
			brings: []string{"mail=bram@wren\ufb00oor.example"}},
		{lie: "claimed an address at a provider that verifies nothing",
			staff:    federation.Settings{"vouchesFor": "post.example"},
			settings: federation.Settings{"update": "emails"}, before: []string{"mail=real@post.example"},
			brings: []string{"mail=real@post.example"}},
		{lie: "claimed a number at a provider that is not trusted with it",
			staff:    federation.Settings{"matchBy": "employeeNumber"},
			settings: federation.Settings{"update": "employeeNumber"}, before: []string{"employeeNumber=W-9"},
			brings: []string{"employeeNumber=W-9"}},
		{lie: "brought a number by a provider that is trusted with it",
			staff: federation.Settings{"matchBy": "employeeNumber"}, found: true,
			settings: federation.Settings{"update": "employeeNumber", "trustedFor": "employeeNumber"},
			before:   []string{"employeeNumber=W-9"}, brings: []string{"employeeNumber=W-9"}},
		{lie: "has a rule of another provider say that it is verified",
			staff: federation.Settings{"vouchesFor": "post.example"},
			settings: federation.Settings{"update": "emails",
				"intakeMapping": json.RawMessage(`{"rest":true,"rules":[{"to":{"name":"email_verified"},"from":[{"constant":"true"}]}]}`)},
			before: []string{"mail=real@post.example"}, brings: []string{"mail=real@post.example"}},
		{lie: "six addresses of which the sixth is vouched for, past welcome",
			staff:  federation.Settings{"firstSignIn": "known", "askFor": "emails=verified", "vouchesFor": "wrenmoor.example"},
			brings: []string{"mail=a@x.example|b@x.example|c@x.example|d@x.example|e@x.example|f@wrenmoor.example"}},
	} {
		t.Run(c.lie, func(t *testing.T) {
			r := newRig(t)
			_, newest := r.mailbox()
			set := federation.Settings{"matchBy": "emails", "update": "emails"}
			for k, v := range c.staff {
				set[k] = v
			}
			r.staff(set)
			if c.before == nil {
				r.knows("emails="+colleague, "displayName=Bram")
			} else {
				r.byClub(c.settings, c.before...)
			}
			o, b := r.brings("liar", c.brings...)
			for i := 0; i < len(c.typed) && o.Form != nil; i += 2 {
				form := url.Values{"question": {o.Form.Question}}
				form.Set(c.typed[i], c.typed[i+1])
				o = r.Crossings.Submit(ctx, b, o.Crossing, form)
			}
			if c.code && o.Form != nil {
				require.True(t, profile.Same("emails", c.typed[1], newest().To), "what is compared is what was mailed to")
				o = r.Crossings.Submit(ctx, b, o.Crossing, url.Values{"question": {o.Form.Question},
					"code": {sixDigits.FindString(newest().Text)}})
				o = r.Crossings.Continue(ctx, b, o.Crossing)
			}
			links, want := r.person(1).Links, 0
			if c.before != nil {
				want++
			}
			if c.found {
				want++
			}
			require.Len(t, links, want, "%+v", o.Finding)
			if c.typed != nil && !c.code {
				require.Nil(t, o.Departure, "nobody is told anything before it is proved")
			}
			if c.staff["firstSignIn"] == "known" {
				require.Equal(t, finding.PersonUnknown, o.Finding.Code)
			}
		})
	}
}

// byClub has somebody come by another provider, club.
func (r *rig) byClub(settings federation.Settings, attributes ...string) {
	if _, err := r.Records.Provider("club"); err != nil {
		_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "club", Settings: settings,
			Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:club",
				SSO: "https://club.example/sso", Keys: []keys.Certificate{r.idp.Certificate}})}})
		require.NoError(r.t, err)
	}
	tie := func(provider string) {
		require.NoError(r.t, r.change(func(s federation.Settings) { s["provider"] = provider }))
	}
	tie("club")
	defer tie("staff")
	o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "roster", Via: "club"})
	b := keep(driving.Browser{}, o)
	q := string(o.Departure.Octets)
	id := q[strings.Index(q, ` ID="`)+5:]
	a := saml.Answer{ResponseID: messageID(), AssertionID: messageID(), At: r.clock.get(), Lifetime: time.Minute,
		Issuer:      "urn:club",
		Destination: "https://gate.example/saml/sp/club/acs", InResponseTo: id[:strings.Index(id, `"`)],
		Audience: "https://gate.example/saml/sp/club", NameID: saml.NameID{Format: saml.FormatPersistent, Value: "member"},
		AuthnInstant: r.clock.get(), Context: saml.ContextPassword}
	for _, w := range attributes {
		name, values, _ := strings.Cut(w, "=")
		a.Attributes = append(a.Attributes, saml.Attribute{Name: name, Values: saml.Texts(strings.Split(values, "|")...)})
	}
	octets, err := saml.WriteResponse(a, saml.Protection{Pair: r.idp})
	require.NoError(r.t, err)
	require.NotNil(r.t, r.respond(b, "club", saml.Inbound{Octets: octets}).Departure)
}

// What is proved is told from what is not, wherever it is shown, and survives a list; what is
// not is listed by the checks.
func TestProofsAreKeptAndShown(t *testing.T) {
	r := newRig(t)
	r.staff(federation.Settings{"matchBy": "emails userName", "vouchesFor": "wrenmoor.example",
		"update": "emails userName nickName"})
	r.byClub(federation.Settings{"update": "emails userName"}, "mail=x@post.example|y@post.example", "uid=member")
	r.said(first(r.brings("ada", "mail=ada@wrenmoor.example|ada@post.example", "uid=ada", "nickname=Ad")))
	proofs := func(id int64) map[string][]person.Proof {
		out := map[string][]person.Proof{}
		for _, v := range r.person(id).Values {
			out[v.Name] = v.Proofs
		}
		return out
	}
	require.Equal(t, map[string][]person.Proof{"emails": {"", ""}, "userName": {""}}, proofs(1))
	require.Equal(t, map[string][]person.Proof{"emails": {"domain", ""}, "userName": {"record"}, "nickName": {""}},
		proofs(2))
	found := func() (out []string) {
		all, err := r.Checking.Check(ctx, checking.Filter{Code: string(finding.MatchUnproved), Quiet: true})
		require.NoError(t, err)
		for _, c := range all {
			for _, f := range c.Findings {
				out = append(out, c.Name+" "+f.Evidence[0].Found+" "+f.Evidence[1].Found)
			}
		}
		return out
	}
	require.ElementsMatch(t, []string{"club emails 1", "club userName 1", "staff emails 2"}, found())

	var list strings.Builder
	require.NoError(t, r.Roll.Export(ctx, people.Filter{}, roll.CSV, &list))
	require.Contains(t, list.String(), "emails|userName", "in the column unproved")
	out, err := r.takes(roll.Import{Document: []byte(list.String())})
	require.NoError(t, err)
	require.Equal(t, 2, out.Same, "what is exported comes in as it was")
	_, err = r.takes(roll.Import{Document: []byte("number,unproved\n1,emails\n")})
	require.ErrorContains(t, err, "none of the attributes that the row has values of")

	// Whoever types a value here says that it is theirs; what was proved stays so, whoever says it next.
	_, err = r.People.Change(ctx, tester, 1, people.Edit{Values: map[string][]string{"emails": {"x@post.example",
		"y@post.example"}}})
	require.NoError(t, err)
	require.Equal(t, []person.Proof{"engineer", "engineer"}, proofs(1)["emails"])
	r.byClub(nil, "mail=y@post.example|z@post.example", "uid=member")
	require.Equal(t, []person.Proof{"engineer", ""}, proofs(1)["emails"])
}

// An account of somebody who left, joined into another one, lets them in no more; it says so.
func TestJoiningSomebodyWhoLeft(t *testing.T) {
	for _, c := range []struct{ left, enable, lets bool }{{true, false, false}, {true, true, true},
		{false, false, true}} {
		r := newRig(t)
		b := r.enter(nil)
		o, _ := r.brings("leaver")
		r.said(o)
		if c.left {
			_, err := r.People.Disable(ctx, tester, 2)
			require.NoError(t, err)
		}
		j := people.Joining{Into: 1, Other: 2, Preview: true, Enable: c.enable}
		seen, err := r.People.Join(ctx, tester, j)
		require.NoError(t, err)
		require.Equal(t, []any{c.left, c.lets}, []any{len(seen.Disabled) == 1, seen.Stays})
		j.Preview, j.Digest, j.Enable = false, seen.Digest, !c.enable
		_, err = r.People.Join(ctx, tester, j)
		require.ErrorContains(t, err, "look at it again", "what is done is what was seen")
		j.Enable = c.enable
		_, err = r.People.Join(ctx, tester, j)
		require.NoError(t, err)
		again, _ := r.brings("leaver")
		if c.lets {
			r.said(again)
			require.NotNil(t, r.sessions.Find(ctx, b.Session))
		} else {
			require.Equal(t, finding.PersonDisabled, again.Finding.Code)
			require.Nil(t, r.sessions.Find(ctx, b.Session), "nor does the one that stays come in")
		}
	}
	r := newRig(t)
	r.said(first(r.brings("one")))
	_, err := r.People.Link(ctx, tester, 1, "staff", profile.Subject{Format: string(saml.FormatPersistent), Value: "two"})
	require.NoError(t, err)
	_, err = r.People.Disable(ctx, tester, 1)
	require.NoError(t, err)
	made, err := r.People.Part(ctx, tester, 1, r.person(1).Links[1].Key)
	require.NoError(t, err)
	require.False(t, made.Disabled.IsZero(), "nor by a part of it")
}

// A data directory with what schema 12 kept of people starts; sessions and grants go on,
// a sign-in under way ends, and what is kept is trusted as far as it may be.
func TestTrustOfEarlierBuilds(t *testing.T) {
	e := restoreEarlier(t, "schema-12")
	var about struct {
		Refresh  string
		Cookies  map[string]string
		Question struct {
			Action string
			Fields url.Values
		}
	}
	octets, err := os.ReadFile(filepath.Join("testdata", "schema-12", "about.json"))
	require.NoError(t, err)
	require.NoError(t, json.Unmarshal(octets, &about))
	st, err := e.open(t)
	require.NoError(t, err)
	g, err := New(ctx, Options{Base: e.Base, Store: st, Log: slog.New(slog.DiscardHandler), Skew: time.Minute,
		Now: func() time.Time { return e.At.Add(time.Minute) }, Protocols: protocols})
	require.NoError(t, err)
	defer func() { g.Close(); _ = st.Close() }()

	proofs := func(id int64, name string) []person.Proof {
		p, err := g.People.Get(ctx, id)
		require.NoError(t, err)
		for _, v := range p.Values {
			if v.Name == name {
				return v.Proofs
			}
		}
		return nil
	}
	for _, c := range []struct {
		person int64
		name   string
		proofs []person.Proof
	}{
		{1, "emails", []person.Proof{person.ByDomain}},    // by wrenmoor-staff, which vouches for its domain
		{2, "emails", []person.Proof{person.ByEngineer}},  // by a list
		{17, "emails", []person.Proof{person.NoProof}},    // by oakhollow: what it said of it then was not kept
		{19, "emails", []person.Proof{person.ByEngineer}}, // typed
		{22, "emails", []person.Proof{person.NoProof}},    // by season-club, which vouches for nothing
		{22, "nickName", []person.Proof{person.NoProof}},  // the person said so
		{23, "emails", []person.Proof{person.ByMail}},     // proved
	} {
		require.Equal(t, c.proofs, proofs(c.person, c.name), "%d %s", c.person, c.name)
	}
	all, err := g.Checking.Check(ctx, checking.Filter{Quiet: true})
	require.NoError(t, err)
	said := map[string]string{}
	for _, c := range all {
		for _, f := range c.Findings {
			said[c.Name+" "+string(f.Code)] = f.Evidence[len(f.Evidence)-1].Found
		}
	}
	require.Equal(t, "17", said["oakhollow match-unproved"])
	require.Equal(t, "19, 20", said["gate match-alike"], "those who fell together are listed, and stay as they are")

	b := driving.Browser{Session: e.Session}
	require.Equal(t, "Response", g.Crossings.Open(ctx, b, driving.Start{App: "crew-roster"}).Departure.Message)
	s := g.Leaving.Session(ctx, e.Session)
	var told int64
	require.NoError(t, st.Read.Model(&store.IssuedRow{}).Where("session = ?", []byte(s.Lasting)).Count(&told).Error)
	require.GreaterOrEqual(t, told, int64(3), "what it was told hangs on it still")
	got, err := g.Redeeming.Token(ctx, caller(url.Values{"grant_type": {"refresh_token"},
		"refresh_token": {about.Refresh}, "client_id": {"depot-terminal"}}))
	require.NoError(t, err)
	require.NotEmpty(t, got.RefreshToken)

	id := strings.Split(about.Question.Action, "/")[4]
	mine := driving.Browser{Crossings: map[string]string{}}
	for name, value := range about.Cookies {
		mine.Crossings[strings.TrimPrefix(name, "ig-c-")] = value
	}
	o := g.Crossings.Submit(ctx, mine, id, url.Values{"question": about.Question.Fields["question"],
		"value.nickName": {"Sten"}})
	require.NotNil(t, o.Departure, "%+v", o.Finding)
}

// A client ID is nobody else's name: no person's subject, none of the gate's, no audience of
// another application; wherever it comes from, for every kind, and told by checks where a
// build before let it be.
func TestClientIDsAreNobodyElsesName(t *testing.T) {
	r := newRig(t)
	planner := r.client("planner", nil, federation.Settings{"provider": "staff", "serves": "https://api.example/"})
	code, _ := r.code(driving.Browser{}, nil)
	got, err := r.Redeeming.Token(ctx, caller(redemption(code), "planner", planner.Shown))
	require.NoError(t, err)
	sub := r.claims(got.IDToken, oidc.IDToken)["sub"].(string)
	add := func(kind, id string, document []byte, preview bool) error {
		n := records.NewRecord{Kind: federation.KindApplication, Name: "other", Protocol: "oidc", Provider: "staff",
			Source: records.Source{Document: document}}
		if document == nil {
			n.Source.Typed = federation.Typed{"kind": kind, "clientId": id, "redirectUris": "com.example.x:/back"}
			if kind == "service" {
				delete(n.Source.Typed, "redirectUris")
			} else if kind != "native" {
				n.Source.Typed["redirectUris"] = "https://other.example/back"
			}
		}
		if preview {
			seen, err := r.Records.Preview(ctx, n)
			for _, f := range seen.Findings {
				err = errors.Join(err, f)
			}
			return err
		}
		_, err := r.Records.AddApplication(ctx, tester, n)
		return err
	}
	for _, id := range []string{sub, "https://gate.example", "https://gate.example/saml/idp", "https://api.example/"} {
		for _, kind := range []string{"web", "browser", "native", "service"} {
			require.ErrorContains(t, add(kind, id, nil, false), "the same name in tokens", "%s %s", kind, id)
		}
		require.ErrorContains(t, add("web", id, nil, true), "the same name in tokens", "in the preview")
		document, err := json.Marshal(map[string]any{"client_id": id,
			"redirect_uris": []string{"https://other.example/back"}})
		require.NoError(t, err)
		require.ErrorContains(t, add("", "", document, false), "the same name in tokens", "in client metadata")
	}
	require.NoError(t, add("service", "fine", nil, false))
	err = r.changeOf("application", "other", func(s federation.Settings) { s["serves"] = "planner" })
	require.ErrorContains(t, err, "the same name in tokens")
	_, err = r.People.ImportSubjects(ctx, tester, "planner", people.Import{Preview: true,
		Known: []people.Known{{Provider: "staff", Format: string(saml.FormatEmail), Name: "ada@wrenmoor.example",
			Value: "fine"}}, Replace: true})
	require.ErrorContains(t, err, "client ID of an application")

	p, err := r.Records.Application("planner")
	require.NoError(t, err)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error { // as earlier builds let it be
		return tx.Model(&store.SubjectRow{}).Where("app = ?", string(p.ID)).Update("name", store.Hash("name\x1ffine")).Error
	}))
	all, err := r.Checking.Check(ctx, checking.Filter{Code: string(finding.NameShared), Quiet: true})
	require.NoError(t, err)
	require.Len(t, all, 1)
	require.Equal(t, "other", all[0].Name)
}
