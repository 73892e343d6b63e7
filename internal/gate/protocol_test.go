package gate

import (
	"encoding/hex"
	"encoding/json"
	"errors"
	"io"
	"net/http"
	"net/http/httptest"
	"net/url"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/traces"
)

// quay is a protocol that only tests know. Its provider shows a page of ours, or
// challenges the browser, makes two calls outside, and queues a third; its
// application gets a code and redeems it later. The driver knows nothing of it.
type quay struct{}

func (quay) Fleeting() crossing.Fleeting                                       { return crossing.Fleeting{} }
func (quay) Name() string                                                      { return "quay" }
func (quay) Providers() bool                                                   { return true }
func (quay) Applications() bool                                                { return true }
func (quay) Own(string) map[string]string                                      { return nil }
func (quay) Purposes() []federation.Purpose                                    { return nil }
func (quay) Contexts() federation.Ranking                                      { return nil }
func (quay) Reserved(federation.Kind, federation.Name) bool                    { return false }
func (quay) Recognizes(federation.Kind, []byte, string, federation.Typed) bool { return false }
func (quay) About(*federation.Gate) []federation.Value                         { return nil }
func (quay) NewProvider(*federation.Gate, federation.Name) federation.ProviderSide {
	return &quayProvider{}
}
func (quay) NewApplication(*federation.Gate, federation.Name) federation.ApplicationSide {
	return &quayApplication{}
}
func (quay) ReadProvider(data []byte, _ time.Time) (federation.ProviderSide, *federation.Intake, error) {
	p := &quayProvider{}
	return p, nil, json.Unmarshal(data, p)
}
func (quay) ReadApplication(data []byte, _ time.Time) (federation.ApplicationSide, *federation.Intake, error) {
	a := &quayApplication{}
	return a, nil, json.Unmarshal(data, a)
}

// quaySide is what both sides have in common: an address.
type quaySide struct {
	Address string `json:"quay"`
}

func (quaySide) Protocol() string                   { return "quay" }
func (s quaySide) Identity() string                 { return s.Address }
func (s quaySide) Missing() (out []federation.Lack) { return nil }
func (quaySide) Title() string                      { return "" }
func (quaySide) Endpoints() []federation.Endpoint   { return nil }
func (quaySide) Keys() []federation.Key             { return nil }
func (quaySide) Describe() []federation.Value       { return nil }
func (quaySide) SettingList() []federation.Setting  { return nil }
func (quaySide) Fields() []federation.Setting {
	return []federation.Setting{{Name: "quay", Type: federation.OneLine, Identifies: true}}
}
func (quaySide) Settings() any { return struct{}{} }
func (quaySide) Take([]byte, federation.Trusting) (federation.Side, federation.Intake, error) {
	return nil, federation.Intake{}, errors.New("no documents")
}

type quayProvider struct{ quaySide }

func (p *quayProvider) With([]byte) (federation.Side, error)                    { return p, nil }
func (p *quayProvider) Named(*federation.Gate, federation.Name) federation.Side { return p }
func (p *quayProvider) Data() any                                               { return p }
func (*quayProvider) Check(*federation.Provider) error                          { return nil }
func (*quayProvider) Sheet(*federation.Snapshot, *federation.Provider) federation.Sheet {
	return federation.Sheet{}
}
func (*quayProvider) Overlay(t federation.Typed) (federation.Side, error) {
	return &quayProvider{quaySide{t["quay"]}}, t.Only(quaySide{}.Fields())
}

// Step: a page or a challenge, then two calls, then the answer.
func (p *quayProvider) Step(in crossing.In) crossing.Out {
	own := json.RawMessage(`{"pier":7}`)
	form := crossing.Show{Page: crossing.PageForm, Form: &crossing.Form{Title: "Which boat?",
		Fields: []crossing.Input{{Name: "boat", Label: "Boat"}, {Name: "word", Label: "Password", Secret: true}},
		Submit: "Board"}}
	call := func(path, body string) *crossing.Lacks {
		return crossing.Lack(&crossing.Call{Name: "Signal", Binding: "semaphore", Address: p.Address + path,
			Limit: 1000, Plan: signal(body)}, tide{7})
	}
	if in.Begins && in.Wish.Force {
		return crossing.Out{Own: own, Next: &crossing.Challenge{Schemes: []string{"Flag"}, Show: form}}
	}
	if in.Begins {
		return crossing.Out{Own: own, Next: &form}
	}
	if string(in.Own) != string(own) {
		return crossing.Out{Err: errors.New("its own state is gone")}
	}
	reply, _ := crossing.Fact(in.Facts, &crossing.Call{})
	if reply.Fail != nil {
		return crossing.Out{Own: own, Err: reply.Fail}
	}
	if high, known := crossing.Fact(in.Facts, tide{}); in.Held != nil && (!known || high != "high at pier 7") {
		return crossing.Out{Own: own, Err: errors.New("nobody knows the tide")}
	}
	st := &crossing.TraceStep{From: crossing.Provider, To: crossing.GateLane, Name: "Signal",
		Octets: string(reply.Octets)}
	switch in.Held {
	case nil:
		boat := in.Event.Form.Get("boat") + strings.TrimPrefix(in.Event.Header, "Flag ")
		if boat == "" {
			return crossing.Out{Own: own, Next: &form}
		}
		return crossing.Out{Own: own, Held: "first", Next: call("/first", boat), Effects: []crossing.Effect{
			crossing.Once{Provider: in.Provider.Name, ID: "ticket of " + boat, Until: in.Now.Add(time.Hour)},
			crossing.Queue{Address: p.Address + "/later", Body: []byte(boat), Until: in.Now.Add(24 * time.Hour)}}}
	case "first":
		return crossing.Out{Own: own, Held: "second", Replied: st, Next: call("/second", string(reply.Octets))}
	}
	a := &crossing.Answer{Subject: profile.Subject{Value: string(reply.Octets)}}
	a.At, a.Context = in.Now, "urn:quay:flag"
	return crossing.Out{Own: own, Replied: st, Answer: a, Verified: true}
}

// tide is a kind of need that the gate knows nothing of before it is told who satisfies it.
type tide struct{ pier int }

func (tide) Key() string       { return "tide" }
func (tide) Outside() bool     { return false }
func (tide) Gives(string)      {}
func (tide) Keep(fact any) any { return fact }

// signal is a call with a credential by reference.
type signal string

func (s signal) Render(_ *federation.Gate, m crossing.Made) (crossing.CallOctets, error) {
	secret, err := m.Secret("quay")
	return crossing.CallOctets{Header: map[string]string{"Authorization": secret}, Body: []byte(s),
		Shown: []byte("signal")}, err
}

type quayApplication struct{ quaySide }

func (a *quayApplication) With([]byte) (federation.Side, error)                    { return a, nil }
func (a *quayApplication) Named(*federation.Gate, federation.Name) federation.Side { return a }
func (a *quayApplication) Data() any                                               { return a }
func (*quayApplication) Check(*federation.Application) error                       { return nil }
func (*quayApplication) OwnKeys() bool                                             { return false }
func (*quayApplication) Shared() federation.Sharing                                { return federation.Together }
func (*quayApplication) Sheet(*federation.Snapshot, *federation.Application) federation.Sheet {
	return federation.Sheet{}
}
func (*quayApplication) Overlay(t federation.Typed) (federation.Side, error) {
	return &quayApplication{quaySide{t["quay"]}}, t.Only(quaySide{}.Fields())
}
func (*quayApplication) Receive(_ *federation.Gate, _ *federation.Application, in *crossing.Arrival,
	_ time.Time) (crossing.Request, finding.Checks, error) {
	return crossing.Request{Own: json.RawMessage(`{}`), Wish: in.Message.(crossing.Wish)}, nil, nil
}
func (*quayApplication) Unasked(*federation.Gate, *federation.Application, crossing.Landing) (json.RawMessage, error) {
	return json.RawMessage(`{}`), nil
}
func (*quayApplication) Usual(*federation.Application) json.RawMessage { return nil }
func (*quayApplication) Naming(*federation.Application, json.RawMessage) (profile.Wanted, error) {
	return profile.Wanted{Kind: profile.Given}, nil
}
func (a *quayApplication) Answer(in crossing.AnswerIn) (crossing.Plan, error) {
	return code{a.Address, in.Released.Name.Value}, nil
}
func (*quayApplication) Refuse(*federation.Gate, *federation.Application, json.RawMessage, crossing.Refusal,
	*finding.Finding) crossing.Plan {
	return nil
}

// code is the plan of an answer that is redeemed later.
type code struct{ address, who string }

func (c code) Render(_ *federation.Gate, m crossing.Made) (crossing.Rendered, error) {
	b := make([]byte, 16)
	_, err := io.ReadFull(m.Random, b)
	key := hex.EncodeToString(b)
	return crossing.Rendered{Departure: crossing.Departure{Message: "Code", Location: c.address + "?code=" + key},
		Hold: &crossing.Hold{Key: key, Octets: []byte("passenger " + c.who), Until: m.Now.Add(time.Minute)}}, err
}
func (c code) Sent() []federation.Value {
	return []federation.Value{{Label: "Passenger", Value: c.who}}
}
func (c code) Issues() crossing.Issue { return crossing.Issue{Name: c.who} }
func (c code) Holds() bool            { return true }

func TestAProtocolThatOnlyTestsKnow(t *testing.T) {
	protocols = append(protocols, quay{})
	defer func() { protocols = protocols[:len(protocols)-1] }()
	r := newRig(t)
	var heard []string
	down := false
	srv := httptest.NewServer(http.HandlerFunc(func(w http.ResponseWriter, q *http.Request) {
		body, _ := io.ReadAll(q.Body)
		heard = append(heard, q.URL.Path+" "+string(body)+" "+q.Header.Get("Authorization"))
		if string(body) == "Ghost" {
			_ = r.changeOf(change.KindProvider, "harbour", func(s federation.Settings) { s["phase"] = "paused" })
		}
		if down {
			w.WriteHeader(http.StatusBadGateway)
			return
		}
		_, _ = w.Write([]byte(string(body) + "!"))
	}))
	defer srv.Close()
	require.NoError(t, r.Keys.PutCredential(ctx, "quay", "hush"))
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "harbour", Protocol: "quay",
		Source: records.Source{Typed: federation.Typed{"quay": srv.URL}}})
	require.NoError(t, err)
	_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "ferry", Protocol: "quay",
		Provider: "harbour", Source: records.Source{Typed: federation.Typed{"quay": "https://ferry.example/"}}})
	require.NoError(t, err)

	o := r.Crossings.Open(ctx, driving.Browser{}, driving.Start{App: "ferry"})
	require.Equal(t, crossing.PageForm, o.Page)
	require.Equal(t, "Which boat?", o.Form.Title)
	b, id := keep(driving.Browser{}, o), o.Crossing
	require.Equal(t, crossing.PageForm, r.Crossings.Submit(ctx, b, id, url.Values{}).Page, "the same page again")
	require.Equal(t, finding.CrossingOtherBrowser, r.Crossings.Submit(ctx, driving.Browser{}, id,
		url.Values{"boat": {"Gull"}}).Finding.Code)
	require.Empty(t, heard)
	o = r.Crossings.Submit(ctx, b, id, url.Values{"boat": {"Gull"}, "word": {"s3cret"}})
	require.NotNil(t, o.Departure, "%+v", o.Finding)
	require.Equal(t, []string{"/first Gull hush", "/second Gull! hush"}, heard)
	require.Equal(t, crossing.PageFinished, r.Crossings.Submit(ctx, b, id, url.Values{"boat": {"Gull"}}).Page)

	// The code is redeemed once, by the application it was made for.
	key := strings.TrimPrefix(o.Departure.Location, "https://ferry.example/?code=")
	for _, c := range []struct {
		app  federation.Name
		want string
	}{{"roster", ""}, {"ferry", "passenger Gull!!"}, {"ferry", ""}} {
		message, err := r.Redeeming.Redeem(ctx, c.app, key)
		require.NoError(t, err)
		require.Equal(t, c.want, string(message))
	}

	// What was queued is sent later, and again until it is answered.
	down = true
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.Len(t, heard, 3, "after a failure there is a pause")
	down = false
	r.clock.set(r.clock.get().Add(2 * time.Minute))
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.NoError(t, r.Outbox.SendDue(ctx))
	require.Equal(t, []string{"/later Gull ", "/later Gull "}, heard[2:])

	// The trace shows the calls, and nothing secret of the form or the credential.
	rows, _, err := r.Traces.List(ctx, traces.Filter{Application: "ferry", Result: "entered", Limit: 1})
	require.NoError(t, err)
	_, steps, err := r.Traces.Get(ctx, rows[0].ID)
	require.NoError(t, err)
	all, err := json.Marshal(steps)
	require.NoError(t, err)
	require.Equal(t, 4, strings.Count(string(all), `"name":"Signal"`), "out and back, twice")
	require.NotContains(t, string(all), "s3cret")
	require.NotContains(t, string(all), "hush")
	then, now, err := r.Traces.Replay(ctx, r.Records.Snapshot(), rows[0].ID)
	require.NoError(t, err)
	require.Len(t, then, 3)
	for i := range then {
		require.True(t, i == 1 || then[i].Alike(now[i]), "%+v %+v", then[i], now[i])
	}

	// A challenge instead of the page; a call that fails; a ticket used twice, which
	// is stored before the call.
	force := func() (driving.Browser, string) {
		o := r.Crossings.Arrive(ctx, driving.Browser{}, &crossing.Arrival{Protocol: "quay", From: crossing.Application,
			Record: "ferry", Name: "Hail", Message: crossing.Wish{Force: true}})
		require.Equal(t, []string{"Flag"}, o.Challenge)
		return keep(driving.Browser{}, o), o.Crossing
	}
	b, id = force()
	require.NotNil(t, r.Crossings.Authorize(ctx, b, id, "Flag Tern").Departure)
	b, id = force()
	down = true
	require.Equal(t, finding.AddressUnreachable, r.Crossings.Authorize(ctx, b, id, "Flag Auk").Finding.Code)
	down = false
	require.Equal(t, finding.AssertionReplayed, r.Crossings.Authorize(ctx, b, id, "Flag Auk").Finding.Code,
		"the ticket was used, though the call failed")
	require.Equal(t, finding.ProviderUnknown, r.respond(driving.Browser{}, "harbour",
		saml.Inbound{Octets: []byte("<a/>")}).Finding.Code, "it has no address of another protocol's")
	b, id = force()
	require.Equal(t, finding.ProviderDisabled, r.Crossings.Authorize(ctx, b, id, "Flag Ghost").Finding.Code,
		"switched off while the call was under way: the newest configuration applies")
	require.Len(t, heard[len(heard)-1:], 1)
	require.Contains(t, heard[len(heard)-1], "/first Ghost", "and nothing further was asked")
	require.Equal(t, finding.ProviderDisabled, r.Crossings.Authorize(ctx, b, id, "Flag Auk").Finding.Code)
}

func (quaySide) Can() federation.Abilities      { return federation.Abilities{} }
func (quaySide) InCrossing() crossing.Abilities { return crossing.Abilities{} }
