package app

import (
	"context"
	"maps"
	"net/http"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/demo"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/standin"
)

// demoProvider and demoApplication start a stand-in of a protocol and say what
// its record is added from; what is ready is filled in. These tables are the
// stand-ins' part of plugging a protocol in.
var (
	demoProviders = map[string]func(d *running, p scenarioProvider, n *records.NewRecord, out *ReadyProvider) error{
		"saml":   (*running).samlProvider,
		"oidc":   (*running).issuer,
		"oauth2": (*running).issuer,
	}
	demoApplications = map[string]func(d *running, a scenarioApplication, n *records.NewRecord,
		out *ReadyApplication) error{
		"saml": (*running).samlApplication,
		"link": (*running).linkApplication,
		"oidc": (*running).oidcApplication,
	}
)

func (d *running) providers(ctx context.Context, sc *scenario) error {
	g := d.service.gate
	for _, p := range sc.Providers {
		out := ReadyProvider{Name: p.Name, Protocol: p.Protocol}
		if p.People == nil {
			p.People = sc.People
		}
		for _, person := range p.People {
			out.People = append(out.People, ReadyPerson{person.Username, person.Password})
		}
		n := records.NewRecord{Name: p.Name, Title: p.Title, Protocol: p.Protocol}
		if err := demoProviders[p.Protocol](d, p, &n, &out); err != nil {
			return err
		}
		if n.Settings == nil {
			n.Settings = federation.Settings{}
		}
		maps.Copy(n.Settings, p.Settings)
		if _, err := g.Records.Provider(p.Name); err != nil {
			if _, err := g.Records.AddProvider(ctx, change.By{Who: "demo"}, n); err != nil {
				return err
			}
			d.added = append(d.added, p.Name)
		}
		d.ready.Providers = append(d.ready.Providers, out)
	}
	return nil
}

func (d *running) samlProvider(p scenarioProvider, n *records.NewRecord, out *ReadyProvider) error {
	pair, err := standin.LoadPair(filepath.Join(d.options.Data, "standins", p.Name+".pem"), p.Name)
	if err != nil {
		return err
	}
	base, err := d.serve(func(base string) (http.Handler, error) {
		return (&standin.Provider{Name: p.Name, Title: p.Title, Base: base, EntityID: p.EntityID,
			Gate: d.service.gate.Base() + "/saml/sp/" + p.Name, People: p.People, Pair: pair}).Handler()
	})
	out.Home, out.Metadata = base+"/", base+"/metadata"
	n.Source = records.Source{Address: out.Metadata}
	return err
}

// issuer starts a stand-in OpenID provider, or one of OAuth 2.0.
func (d *running) issuer(p scenarioProvider, n *records.NewRecord, out *ReadyProvider) error {
	pair, err := standin.LoadPair(filepath.Join(d.options.Data, "standins", p.Name+".pem"), p.Name)
	if err != nil {
		return err
	}
	plain := p.Protocol == "oauth2"
	base, err := d.serve(func(base string) (http.Handler, error) {
		return (&standin.Issuer{Name: p.Name, Title: p.Title, Base: base, Plain: plain, Gate: d.service.gate.Base(),
			ClientID: p.ClientID, Secret: p.ClientSecret, SecretID: p.SecretID, Domain: p.Domain, People: p.People,
			Pair: pair}).Handler()
	})
	t := federation.Typed{"clientId": p.ClientID, "clientSecret": p.ClientSecret}
	if plain {
		t["authorize"], t["token"] = base+"/authorize", base+"/token"
		t["userinfo"] = base + "/api/me " + base + "/api/me/emails"
		n.Settings = federation.Settings{"identifier": p.Identifier}
	} else {
		t["issuer"], out.Issuer = base, base
		n.Settings = federation.Settings{"scopes": p.Scopes, "allowUnsolicited": true}
	}
	out.Home, n.Source = base+"/", records.Source{Typed: t}
	return err
}

func (d *running) applications(ctx context.Context, sc *scenario) error {
	g := d.service.gate
	for _, a := range sc.Applications {
		n := records.NewRecord{Name: a.Name, Title: a.Title, Protocol: a.Protocol, Provider: a.Provider}
		out := ReadyApplication{Name: a.Name, Protocol: a.Protocol}
		if err := demoApplications[a.Protocol](d, a, &n, &out); err != nil {
			return err
		}
		if _, err := g.Records.Application(a.Name); err != nil {
			if n.Settings = maps.Clone(n.Settings); n.Settings == nil {
				n.Settings = federation.Settings{}
			}
			maps.Copy(n.Settings, a.Settings)
			if a.Kind != "service" { // whose tokens are about nobody
				n.Settings["everyone"] = federation.EveryoneYes
			}
			if _, err := g.Records.AddApplication(ctx, change.By{Who: "demo"}, n); err != nil {
				return err
			}
			d.added = append(d.added, a.Name)
		}
		d.ready.Applications = append(d.ready.Applications, out)
	}
	return nil
}

func (d *running) samlApplication(a scenarioApplication, n *records.NewRecord, out *ReadyApplication) error {
	pair, err := standin.LoadPair(filepath.Join(d.options.Data, "standins", a.Name+".pem"), a.Name)
	if err != nil {
		return err
	}
	base, err := d.serve(func(base string) (http.Handler, error) {
		return (&standin.Application{Name: a.Name, Title: a.Title, Base: base, EntityID: a.EntityID,
			Gate: d.service.gate.Base() + "/saml/idp", OnlyOwn: a.OnlyOwnStarts, Pair: pair, Accounts: a.Accounts}).Handler()
	})
	out.Start, out.Metadata = base+"/", base+"/metadata"
	n.Source = records.Source{Address: out.Metadata}
	if a.OnlyOwnStarts {
		n.OwnStart = base + "/start"
	}
	return err
}

// linkApplication starts a page that a bookmark leads to.
func (d *running) linkApplication(a scenarioApplication, n *records.NewRecord, out *ReadyApplication) error {
	base, err := d.serve(func(string) (http.Handler, error) {
		return (&standin.Page{Name: a.Name, Title: a.Title, Text: a.Text}).Handler(), nil
	})
	out.Start = d.service.gate.Base() + "/open/" + a.Name
	n.Source = records.Source{Typed: federation.Typed{"link": base + "/"}}
	return err
}

// oidcApplication starts a stand-in that speaks OpenID Connect; commands are started
// by whoever tries them.
func (d *running) oidcApplication(a scenarioApplication, n *records.NewRecord, out *ReadyApplication) (err error) {
	issuer, base := d.service.gate.Base(), ""
	t := federation.Typed{"kind": a.Kind, "clientId": a.ClientID, "clientSecret": a.ClientSecret}
	switch a.Kind {
	case "web":
		base, err = d.serve(func(base string) (http.Handler, error) {
			return (&standin.Client{Name: a.Name, Title: a.Title, Base: base, Issuer: issuer, ClientID: a.ClientID,
				Secret: a.ClientSecret, Audience: a.Audience, Accounts: a.Accounts}).Handler()
		})
		t["redirectUris"], t["postLogoutRedirectUris"] = base+"/callback", base+"/signed-out"
		t["backchannelLogoutUri"], t["initiateLoginUri"] = base+"/backchannel-logout", base+"/start"
		out.Start = base + "/"
	case "browser":
		base, err = d.serve(func(string) (http.Handler, error) {
			return (&standin.Browser{Name: a.Name, Title: a.Title, Issuer: issuer, ClientID: a.ClientID}).Handler()
		})
		t["redirectUris"], t["postLogoutRedirectUris"] = base+"/", base+"/"
		out.Start = base + "/"
	case "native":
		t["redirectUris"] = "http://127.0.0.1/callback"
	}
	out.ClientID = a.ClientID
	n.Source = records.Source{Typed: t}
	n.Settings = federation.Settings{"scopes": a.Scopes, "resources": a.Resources, "description": a.Text}
	return err
}

// people makes the groups and organisations, and takes in the list of those who are known
// before they come, as an import does.
func (d *running) people(ctx context.Context, sc *scenario) error {
	g, by := d.service.gate, change.By{Who: "demo"}
	if err := d.units(ctx, federation.KindGroup, sc.Groups); err != nil {
		return err
	}
	if err := d.units(ctx, federation.KindOrganisation, sc.Organisations); err != nil {
		return err
	}
	page, err := g.People.List(ctx, people.Filter{Limit: 1})
	if err != nil || page.Total > 0 {
		return err // they are there already, or somebody removed some
	}
	in := roll.Import{Document: demo.People, By: "emails", SkipBad: true}
	seen, err := g.Roll.Import(ctx, by, in, quiet{})
	if err != nil {
		return err
	}
	in.Digest = seen.Digest
	_, err = g.Roll.Import(ctx, by, in, quiet{})
	return err
}

func (d *running) units(ctx context.Context, kind federation.Kind, all []scenarioUnit) error {
	g := d.service.gate
	for _, u := range all {
		if _, err := g.Records.Unit(kind, u.Name); err == nil {
			continue
		}
		_, err := g.Records.PutUnit(ctx, change.By{Who: "demo"}, federation.Unit{Kind: kind, Name: federation.Name(u.Name),
			Title: u.Title,
			Notes: u.Notes, UserType: u.UserType, Inside: u.Inside, Values: u.Values, Providers: u.Providers,
			Domains: u.Domains, Groups: u.Groups})
		if err != nil {
			return err
		}
	}
	return nil
}

// rules makes the rules of access and of provider selection, the roles, the starting points and the rehearsals, and
// what the portal is like.
func (d *running) rules(ctx context.Context, sc *scenario) error {
	for _, of := range []struct {
		kind federation.Kind
		all  []scenarioRule
	}{{federation.KindRule, sc.Rules}, {federation.KindRole, sc.Roles}, {federation.KindStart,
		sc.Starts}, {federation.KindRehearsal, sc.Rehearsals}} {
		for _, r := range of.all {
			said := maps.Clone(r.Settings)
			said["application"] = r.Application
			if said["start"] == federation.StartApplication {
				said["opens"] = d.started(r.Application)
			}
			if err := d.rule(ctx, of.kind, r, said); err != nil {
				return err
			}
		}
	}
	if err := d.testAccounts(ctx, sc); err != nil {
		return err
	}
	if len(d.added) > 0 {
		g := d.service.gate
		if _, err := g.Records.Lay(ctx, change.By{Who: "demo"}, string(federation.KindPortal), string(federation.KindPortal),
			1, sc.Portal); err != nil {
			return err
		}
	}
	for _, r := range sc.Selection {
		if err := d.rule(ctx, federation.KindSelection, r, maps.Clone(r.Settings)); err != nil {
			return err
		}
	}
	return nil
}

// started is where a stand-in application starts a sign-in.
func (d *running) started(app string) string {
	for _, a := range d.ready.Applications {
		if a.Name == app && a.Start != "" {
			return strings.TrimSuffix(a.Start, "/") + "/start"
		}
	}
	return ""
}

// testAccounts gives the passwords with which rehearsals run by themselves.
func (d *running) testAccounts(ctx context.Context, sc *scenario) error {
	g := d.service.gate
	has, err := g.Unattended.Accounts(ctx)
	if err != nil {
		return err
	}
	for _, r := range sc.Rehearsals {
		plan, there := g.Snapshot().Rehearsal(federation.Name(r.Name))
		if _, given := has[federation.Name(r.Name)]; given || !there || plan.Username == "" || len(d.added) == 0 {
			continue
		}
		for _, p := range sc.People {
			if p.Username != plan.Username {
				continue
			}
			if _, err := g.Unattended.Password(ctx, change.By{Who: "demo"}, r.Name, p.Password); err != nil {
				return err
			}
		}
	}
	return nil
}

// pilots opens providers to a cohort, and to everybody some days from now.
func (d *running) pilots(ctx context.Context, sc *scenario) error {
	for _, p := range sc.Pilots {
		if !slices.Contains(d.added, p.Provider) {
			continue
		}
		at := time.Now().UTC().AddDate(0, 0, p.Days).Format(time.DateOnly) + " " + p.Clock
		_, err := d.service.gate.Records.Configure(ctx, change.By{Who: "demo", Meant: true}, string(federation.KindProvider),
			p.Provider, 0,
			federation.Settings{"phase": "pilot", "cohort": p.Cohort, "nextAt": at, "nextPhase": "live"})
		if err != nil {
			return err
		}
	}
	return nil
}

// rule makes one. Its person is found by address, and its end is days from now: the demo can be looked at in any year.
func (d *running) rule(ctx context.Context, kind federation.Kind, r scenarioRule, said federation.Settings) error {
	g, by := d.service.gate, change.By{Who: "demo"}
	if _, err := g.Records.Object(string(kind), r.Name); err == nil {
		return nil
	}
	if !slices.Contains(d.added, r.Application) {
		return nil // in a data directory of before everybody enters what they entered
	}
	if r.Days > 0 {
		said["until"] = time.Now().UTC().AddDate(0, 0, r.Days).Format(time.DateOnly)
	}
	if r.Person != "" {
		page, err := g.People.List(ctx, people.Filter{Search: r.Person, Limit: 2})
		if err != nil {
			return err
		}
		if len(page.People) != 1 {
			return nil // somebody removed them
		}
		said["people"] = []any{strconv.FormatInt(page.People[0].ID, 10)}
	}
	got, err := g.Records.Lay(ctx, by, string(kind), r.Name, 0, said)
	if got.Consequence.Finding != nil { // it is meant
		by.Confirms = got.Consequence.Digest
		_, err = g.Records.Lay(ctx, by, string(kind), r.Name, 0, said)
	}
	return err
}

// quiet hears of progress, and tells nobody.
type quiet struct{}

// Set does nothing.
func (quiet) Set(int64) {}

// Total does nothing.
func (quiet) Total(int64) {}

// mailbox shows what the gate mails.
func (d *running) mailbox(context.Context, *scenario) (err error) {
	d.ready.Mailbox, err = d.serve(func(string) (http.Handler, error) { return d.box.Handler(), nil })
	d.ready.Mailbox += "/"
	return err
}

// payroll starts a recipient of events, and has it told what is done to people from now on.
func (d *running) payroll(ctx context.Context, _ *scenario) (err error) {
	g := d.service.gate
	base, err := d.serve(func(base string) (http.Handler, error) {
		return (&standin.Recipient{Name: "payroll", Title: "Payroll of Wrenmoor Rail", Issuer: g.Base(),
			Base: base}).Handler(), nil
	})
	if d.ready.Recipient = base + "/"; err != nil || len(d.added) == 0 {
		return err // another run added it; its address is as it was then
	}
	_, err = g.Records.Lay(ctx, change.By{Who: "demo"}, string(federation.KindRecipient), "payroll", 0,
		federation.Settings{"title": "Payroll of Wrenmoor Rail", "address": base + "/events"})
	return err
}

func (d *running) federations(ctx context.Context, sc *scenario) error {
	g := d.service.gate
	for _, f := range sc.Federations {
		folder := filepath.Join(d.options.Data, "standins")
		pair, err := standin.LoadPair(filepath.Join(folder, f.Name+".pem"), f.Name)
		if err != nil {
			return err
		}
		base, err := d.serve(func(base string) (http.Handler, error) {
			return (&standin.Federation{Title: f.Title, Base: base, Entities: f.Entities, Pair: pair,
				Keys: filepath.Join(folder, f.Name)}).Handler()
		})
		if err != nil {
			return err
		}
		if _, err := g.Exchange.Aggregate(ctx, f.Name); err != nil {
			s := editions.Settings{Title: f.Title, Address: base + "/metadata", TrustKey: string(pair.Certificate.PEM())}
			job, err := g.Exchange.AddAggregate(ctx, change.By{Who: "demo"}, f.Name, s, nil)
			for err == nil && job.State == jobs.Running {
				time.Sleep(10 * time.Millisecond)
				job, err = g.Jobs.Job(job.ID)
			}
			if err != nil {
				return err
			}
		}
		d.ready.Federations = append(d.ready.Federations, ReadyFederation{Name: f.Name, Metadata: base + "/metadata",
			Certificate: base + "/certificate"})
	}
	return nil
}
