package gate

import (
	"context"
	"crypto/rand"
	"encoding/json"
	"errors"
	"net/url"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/store"
)

// AuthnRequest takes a SAML AuthnRequest from an application. decode takes it
// out of its binding.
// face names the application whose own face received it, "" for the shared one.
func (g *Gate) AuthnRequest(ctx context.Context, b Browser, face string, in saml.Inbound, undecodable error) Outcome {
	t := g.newTracer("application")
	if undecodable != nil {
		return t.refuse(t.arrived("AuthnRequest", crossing.Application, in, time.Time{}), sender(undecodable, finding.Application))
	}
	st := t.arrived("AuthnRequest", crossing.Application, in, time.Time{})
	snap := g.Snapshot()
	issuer, err := saml.RequestIssuer(in.Octets)
	if err != nil {
		return t.refuse(st, sender(err, finding.Application))
	}
	app, ok := snap.ApplicationByEntityID(issuer)
	if face != "" {
		app, ok = snap.Application(federation.Name(face))
		ok = ok && app.OwnFace
	}
	if !ok {
		return t.refuse(st, finding.New(finding.ApplicationUnknown, finding.Fact("Issuer", issuer)))
	}
	t.head.Application = string(app.Name)
	if !app.Enabled {
		return t.refuse(st, finding.New(finding.ApplicationDisabled, finding.Fact("Application", string(app.Name))))
	}
	own, _ := snap.Gate.FaceFor(app)
	req, err := saml.ReadAuthnRequest(in, app.SAML.SP, saml.Demand{SSO: own.Address, Signed: app.RequireSignedRequests,
		Policy: xmlsec.Policy{AllowSHA1: app.AllowSHA1}, Now: g.now(), Skew: snap.Gate.Skew}, &st.Checks)
	if err != nil {
		return t.refuse(st, sender(err, finding.Application))
	}
	reply, wish, unmet := samlside.Request(req, in.RelayState)
	r, cookies, err := g.begin(b, t, app, reply, wish, "")
	if err != nil {
		return t.refuse(st, err)
	}
	if unmet != nil {
		return g.refuseTo(ctx, t, app, r, st, unmet, nil)
	}
	if in.Binding == saml.BindingPOST {
		// The session cookie does not come along with a cross-site post: go on with
		// a GET of our own.
		if err := g.crossings.keep(ctx, r); err != nil {
			return t.broken(err)
		}
		t.flush(crossing.Waiting, nil)
		return Outcome{Next: g.base + "/crossing/" + r.ID, Cookies: cookies}
	}
	return g.proceed(ctx, b, t, snap, app, r, cookies)
}

// Open starts a sign-in to an application at the gate. target is the RelayState
// asked for; via names the provider to use, if any.
func (g *Gate) Open(ctx context.Context, b Browser, name, target, via string) Outcome {
	t := g.newTracer("gate")
	st := t.add(crossing.TraceStep{From: crossing.Browser, To: crossing.GateLane, Name: string(crossing.StepStart), Address: g.base + "/open/" + name, RelayState: target})
	snap := g.Snapshot()
	app, ok := snap.Application(federation.Name(name))
	if !ok {
		return t.refuse(st, finding.New(finding.ApplicationUnknown, finding.Fact("Name", name)))
	}
	t.head.Application = string(app.Name)
	if !app.Enabled {
		return t.refuse(st, finding.New(finding.ApplicationDisabled, finding.Fact("Application", name)))
	}
	if app.OwnStart != "" {
		st.Checks.Pass("Start", "the application accepts only sign-ins that it started: sent to "+app.OwnStart)
		t.drop()
		return Outcome{Next: app.OwnStart}
	}
	if app.OnlyOwnStarts {
		return t.refuse(st, finding.New(finding.OwnStartMissing, finding.Fact("Application", name)))
	}
	reply, err := g.protocols[app.Protocol].Application.Unasked(app)
	if err != nil {
		return t.refuse(st, err)
	}
	if target != "" {
		if !allowedTarget(target, app) {
			return t.refuse(st, finding.New(finding.TargetForeign, finding.Fact("RelayState", target), finding.Fact("Application", reply.Address)))
		}
		st.Checks.Pass("RelayState", target)
		reply.State = target
	}
	r, cookies, err := g.begin(b, t, app, reply, crossing.Wish{}, federation.Name(via))
	if err != nil {
		return t.refuse(st, err)
	}
	return g.proceed(ctx, b, t, snap, app, r, cookies)
}

// allowedTarget reports whether an address to go on to lies at the application:
// same scheme, host and port as one of its consumer addresses.
func allowedTarget(target string, app *federation.Application) bool {
	u, err := url.Parse(target)
	if err != nil || u.User != nil || strings.ContainsAny(target, "\\\r\n\t ") || len(target) > saml.MaxRelayState {
		return false
	}
	return slices.ContainsFunc(app.SAML.SP.ACS, func(e saml.Endpoint) bool {
		v, err := url.Parse(e.Location)
		return err == nil && u.Scheme == v.Scheme && strings.EqualFold(u.Host, v.Host)
	})
}

// begin makes the record of a crossing and the cookie that ties it to the
// browser.
func (g *Gate) begin(b Browser, t *tracer, app *federation.Application, reply crossing.Reply, wish crossing.Wish, chosen federation.Name) (*record, []Cookie, error) {
	from := network(b.Address)
	if err := g.crossings.admit(from); err != nil {
		return nil, nil, err
	}
	value, hash := newCookie(g.now())
	r := &record{ID: randomText(16), Application: app.Name, Reply: reply, Wish: wish, Chosen: chosen, Secret: hash, From: from, Expires: g.now().Add(crossingLife)}
	t.record(r)
	return r, append(b.surplus(), Cookie{Crossing: r.ID, Value: value, Life: crossingLife}), nil
}

// Continue goes on with a crossing of this browser; chosen is the provider the
// person picked, if any. With again the person wants to choose anew.
func (g *Gate) Continue(ctx context.Context, b Browser, id, chosen string, again bool) Outcome {
	snap, r := g.Snapshot(), g.crossings.find(id, g.now())
	if r == nil {
		t := g.newTracer("application")
		return t.refuse(t.add(here(crossing.StepContinue)), finding.New(finding.CrossingUnknown))
	}
	t := g.resume(r)
	app, ok := snap.Application(r.Application)
	switch {
	case !b.holds(r):
		return t.refuseAside(here(crossing.StepContinue), finding.New(finding.CrossingOtherBrowser))
	case !ok:
		return t.refuse(t.add(here(crossing.StepContinue)), finding.New(finding.ApplicationUnknown, finding.Fact("Name", string(r.Application))))
	case r.Ended:
		return g.finished(app, r)
	}
	if chosen != "" || again {
		next := *r
		next.Chosen = federation.Name(chosen)
		r = &next
		if again {
			b.Session = "" // or the session would choose by itself
		}
	}
	return g.proceed(ctx, b, t, snap, app, r, nil)
}

// proceed lets the person in by their session, or sends them to a provider.
func (g *Gate) proceed(ctx context.Context, b Browser, t *tracer, snap *federation.Snapshot, app *federation.Application, r *record, cookies []Cookie) Outcome {
	st := t.add(here(crossing.StepSelect))
	p, reasons, err := crossing.Select(snap, app, r.Chosen)
	if s := g.session(ctx, b.Session); s != nil && crossing.NeedOf(err) != nil && r.Chosen == "" && slices.Contains(crossing.NeedOf(err).Choose, s.Provider) {
		// Somebody who is in already is not asked again by which way.
		p, reasons, err = crossing.Select(snap, app, s.Provider)
	}
	st.Checks = append(st.Checks, reasons...)
	if need := crossing.NeedOf(err); need != nil {
		if r.Wish.Passive {
			return g.refuseTo(ctx, t, app, r, st, finding.New(finding.PassiveImpossible), cookies)
		}
		if err := g.crossings.keep(ctx, r); err != nil {
			return t.broken(err)
		}
		t.add(crossing.TraceStep{From: crossing.GateLane, To: crossing.Browser, Name: "choose page"})
		t.flush(crossing.Waiting, nil)
		out := Outcome{Page: PageChoose, Crossing: r.ID, Title: app.Title, Reference: t.head.ID, Cookies: cookies}
		for _, n := range need.Choose {
			c, _ := snap.Provider(n)
			out.Choices = append(out.Choices, Choice{Name: string(n), Title: c.Title})
		}
		return out
	}
	if err != nil {
		return g.refuseTo(ctx, t, app, r, st, err, cookies)
	}
	t.head.Provider = string(p.Name)
	if s := g.session(ctx, b.Session); s != nil && s.Provider == p.Name && !r.Wish.Force && satisfies(r.Wish, s.Answer.Context) {
		st.Checks.Pass("Session", "already signed in at "+p.Title+" since "+s.Answer.AuthnInstant.Format(time.RFC3339))
		return g.finish(ctx, t, snap, app, p, r, &s.Answer, s, nil, cookies)
	}
	return g.ask(ctx, t, snap, app, p, r, cookies)
}

// satisfies reports whether a session's context is what was asked for.
func satisfies(w crossing.Wish, context string) bool {
	r := saml.AuthnRequest{Contexts: w.Contexts, Comparison: w.Comparison}
	return r.Satisfies(context)
}

// ask sends the person to the provider.
func (g *Gate) ask(ctx context.Context, t *tracer, snap *federation.Snapshot, app *federation.Application, p *federation.Provider, r *record, cookies []Cookie) Outcome {
	next := *r
	next.Provider = p.Name
	next.Asked = &crossing.Asked{ID: messageID(), At: g.now().UTC(), Wish: r.Wish}
	if len(r.Wish.Contexts) == 0 && p.AskContext != "" {
		next.Asked.Contexts, next.Asked.Comparison = []string{p.AskContext}, "exact"
	}
	t.record(&next)
	d, err := g.protocols[p.Protocol].Provider.Ask(&snap.Gate, p, *next.Asked, r.ID)
	if err != nil {
		return g.refuseTo(ctx, t, app, r, t.add(here(crossing.StepAsk)), err, cookies)
	}
	if err := g.crossings.keep(ctx, &next); err != nil {
		return t.broken(err)
	}
	t.departed(d, crossing.Provider, time.Time{})
	t.flush(crossing.Waiting, nil)
	return Outcome{Departure: &d, Cookies: cookies, Reference: t.head.ID}
}

// Response takes a SAML Response from a provider, at the consumer address of
// the named provider, or with no name at the shared one, where the issuer says
// which provider it is.
func (g *Gate) Response(ctx context.Context, b Browser, provider string, in saml.Inbound, undecodable error) Outcome {
	snap, now := g.Snapshot(), g.now()
	if in.Binding == saml.BindingRedirect && undecodable == nil {
		undecodable = finding.New(finding.ResponseRedirect)
	}
	shared := provider == ""
	if shared && undecodable == nil {
		if p, ok := snap.ProviderByEntityID(saml.ResponseIssuer(in.Octets)); ok && p.SharedFace {
			provider = string(p.Name)
		}
	}
	var r *record
	if undecodable == nil {
		if to := saml.ResponseTo(in.Octets); to != "" {
			r = g.crossings.asked(to, now)
		}
	}
	if r == nil {
		r = g.crossings.find(in.RelayState, now)
	}
	if r != nil && (string(r.Provider) != provider || r.Asked == nil) {
		r = nil
	}
	mine := r != nil && b.holds(r)
	if mine && r.Ended {
		if app, ok := snap.Application(r.Application); ok {
			return g.finished(app, r)
		}
	}
	t := g.newTracer("provider")
	if mine {
		t = g.resume(r)
	}
	st := t.arrived("Response", crossing.Provider, in, now.Add(time.Hour))
	if in.Binding == saml.BindingArtifact && undecodable == nil {
		st.Checks.Pass("Artifact", "exchanged for the Response through the back channel")
	}
	p, ok := snap.Provider(federation.Name(provider))
	if shared && undecodable != nil {
		return t.refuse(st, sender(undecodable, finding.Provider))
	}
	if !ok || shared != p.SharedFace {
		return t.refuse(st, finding.New(finding.ProviderUnknown, finding.Fact("Name", provider), finding.Fact("Issuer", saml.ResponseIssuer(in.Octets))))
	}
	t.head.Provider = provider
	if !p.Enabled {
		return t.refuse(st, finding.New(finding.ProviderDisabled, finding.Fact("Provider", provider)))
	}
	if undecodable != nil {
		return t.refuse(st, sender(undecodable, finding.Provider))
	}
	var asked *crossing.Asked
	if r != nil {
		asked = r.Asked
	}
	v, err := g.verify(ctx, snap, p, b, in, asked)
	st.Checks = append(st.Checks, v.Reasons...)
	if v.Consume != nil {
		st.HoldUntil = v.Consume.Until
	}
	if v.Opened != nil {
		opened := here(crossing.StepDecrypt)
		opened.Octets, opened.HoldUntil = string(v.Opened), st.HoldUntil
		t.add(opened)
	}
	if v.Answer != nil {
		t.head.Person = v.Answer.Subject.Value
	}
	if err == nil && r != nil && !mine {
		err = st.Checks.Fail("Browser", finding.New(finding.CrossingOtherBrowser))
	}
	if err == nil && r == nil && !p.AllowUnsolicited {
		err = st.Checks.Fail("Unsolicited", finding.New(finding.UnsolicitedRefused))
	}
	if err != nil || r == nil {
		if v.Consume != nil {
			err = errors.Join(err, g.consume(ctx, p, v.Consume))
		}
	}
	if err != nil {
		f := finding.Of(err)
		if f == nil {
			return t.broken(err)
		}
		if app, ok := g.applicationOf(snap, r); ok && mine && !r.Ended {
			return g.refuseTo(ctx, t, app, r, st, f, nil)
		}
		return t.refuse(st, f)
	}
	if r == nil {
		return g.unsolicited(t, st, snap, p, in.RelayState)
	}
	app, ok := g.applicationOf(snap, r)
	if !ok {
		return t.refuse(st, finding.New(finding.ApplicationUnknown, finding.Fact("Name", string(r.Application))))
	}
	return g.finish(ctx, t, snap, app, p, r, v.Answer, nil, v.Consume, nil)
}

func (g *Gate) applicationOf(snap *federation.Snapshot, r *record) (*federation.Application, bool) {
	if r == nil {
		return nil, false
	}
	return snap.Application(r.Application)
}

// verify runs the step until its needs are satisfied.
func (g *Gate) verify(ctx context.Context, snap *federation.Snapshot, p *federation.Provider, b Browser, in saml.Inbound, asked *crossing.Asked) (crossing.Verification, error) {
	// A flood of messages that cannot be decrypted may be somebody asking an
	// oracle: after a few, none from that network is tried for a while. Others are
	// not held up, or anybody could close a provider's way in.
	key := "decrypt " + string(p.Name) + " " + network(b.Address)
	if !g.tries.open(key, g.now()) {
		var v crossing.Verification
		return v, v.Reasons.Fail("Decryption", finding.New(finding.DecryptionFailed))
	}
	v, err := g.verifyWith(ctx, snap, p, in, asked)
	if finding.Is(err, finding.DecryptionFailed) {
		g.tries.fail(key, g.now())
	}
	return v, err
}

func (g *Gate) verifyWith(ctx context.Context, snap *federation.Snapshot, p *federation.Provider, in saml.Inbound, asked *crossing.Asked) (crossing.Verification, error) {
	side := g.protocols[p.Protocol].Provider
	v, err := side.Verify(&snap.Gate, p, in.Octets, asked, crossing.Facts{BackChannel: in.Binding == saml.BindingArtifact}, g.now())
	need := crossing.NeedOf(err)
	if need == nil {
		return v, err
	}
	var n int64
	if err := g.store.Read.WithContext(ctx).Model(&store.UsedRow{}).Where("key = ?", usedKey(p, need.Used)).Count(&n).Error; err != nil {
		return v, err
	}
	return side.Verify(&snap.Gate, p, in.Octets, asked, crossing.Facts{UsedKnown: true, Used: n > 0, BackChannel: in.Binding == saml.BindingArtifact}, g.now())
}

func usedKey(p *federation.Provider, id string) []byte {
	return store.Hash(string(p.Name) + "\x1f" + id)
}

// consume remembers that an assertion was used. One that was used before is no
// error here: verify has said so, or will.
func (g *Gate) consume(ctx context.Context, p *federation.Provider, u *crossing.Used) error {
	err := g.store.Write(ctx, func(tx *gorm.DB) error { return useIn(tx, p, u) })
	if finding.Is(err, finding.AssertionReplayed) {
		return nil
	}
	return err
}

func useIn(tx *gorm.DB, p *federation.Provider, u *crossing.Used) error {
	err := tx.Create(&store.UsedRow{Key: usedKey(p, u.ID), Until: u.Until.UTC()}).Error
	if store.IsTaken(err) {
		return finding.New(finding.AssertionReplayed, finding.Fact("Assertion", u.ID))
	}
	return err
}

// unsolicited turns a valid answer that nobody asked for into a start of our
// own, so that it can never put another person's session in place of one.
func (g *Gate) unsolicited(t *tracer, st *crossing.TraceStep, snap *federation.Snapshot, p *federation.Provider, relayState string) Outcome {
	name := strings.TrimPrefix(relayState, g.base+"/open/")
	app, ok := snap.Application(federation.Name(name))
	if !ok {
		return t.refuse(st, finding.New(finding.UnsolicitedTarget, finding.Compare("RelayState", g.base+"/open/NAME", relayState)))
	}
	t.head.Application = name
	st.Checks.Pass("Unsolicited", "allowed; turned into a start at the gate")
	t.flush(crossing.Entered, nil)
	return Outcome{Next: g.base + "/open/" + string(app.Name) + "?via=" + string(p.Name)}
}

// finish takes a person whom the provider vouches for to the application:
// intake, match, access, release, build, and one transaction for all of it. by
// is the session they came by, if any; used the assertion to be consumed.
func (g *Gate) finish(ctx context.Context, t *tracer, snap *federation.Snapshot, app *federation.Application, p *federation.Provider, r *record, a *crossing.Answer, by *session, used *crossing.Used, cookies []Cookie) Outcome {
	t.head.Person = a.Subject.Value
	st := t.add(here(crossing.StepIntake))
	who, reasons := crossing.Intake(p, a)
	st.Checks = reasons

	var known *crossing.Person
	for attempt := 0; ; attempt++ {
		st = t.add(here(crossing.StepMatch))
		person, reasons, err := crossing.Match(p, who, known)
		if need := crossing.NeedOf(err); need != nil {
			if known, err = g.personBy(ctx, need.Person); err != nil {
				return t.broken(err)
			}
			person, reasons, err = crossing.Match(p, who, known)
		}
		st.Checks = reasons
		if err != nil {
			return g.refuseTo(ctx, t, app, r, st, err, cookies)
		}
		st = t.add(here(crossing.StepAccess))
		if st.Checks, err = crossing.Access(app, a); err != nil {
			return g.refuseTo(ctx, t, app, r, st, err, cookies)
		}
		st = t.add(here(crossing.StepRelease))
		out, reasons := crossing.Release(app, who)
		st.Checks = reasons
		if person.Key != "" && person.ID == 0 {
			person.Identifier = randomText(16)
		}
		fresh := crossing.Fresh{Message: messageID(), Assertion: messageID(), Session: messageID(), Name: messageID(), Random: rand.Reader, Handle: newHandle()}
		now := g.now()
		d, err := g.protocols[app.Protocol].Application.Build(&snap.Gate, app, r.Reply, out, person, a, fresh, now)
		if err != nil {
			return g.refuseTo(ctx, t, app, r, t.add(here(crossing.StepBuild)), err, cookies)
		}
		ended := end{held: d, record: r, provider: p, person: person, by: by, used: used, answer: a, app: app, fresh: fresh, name: out.Subject}
		cookie, err := g.commit(ctx, ended)
		if errors.Is(err, errPersonRace) && attempt < 3 {
			known = nil
			continue
		}
		if f := finding.Of(err); f != nil {
			if f.Code == finding.CrossingEnded {
				return g.finished(app, r)
			}
			return t.refuse(t.add(here(crossing.StepEnd)), f)
		}
		if err != nil {
			return t.broken(err)
		}
		t.departed(d, crossing.Application, now.Add(time.Hour))
		t.flush(crossing.Entered, nil)
		if cookie.Value != "" {
			cookies = append(cookies, cookie)
		}
		return Outcome{Departure: &d, Cookies: cookies, Reference: t.head.ID}
	}
}

var errPersonRace = errors.New("another crossing made this person first")

// end is everything that ending a crossing stores.
type end struct {
	record   *record
	provider *federation.Provider
	app      *federation.Application
	person   crossing.Person
	by       *session
	used     *crossing.Used
	answer   *crossing.Answer
	fresh    crossing.Fresh
	name     any
	held     crossing.Departure // a message to be kept for a back channel, if it is one
}

// commit stores the end of a crossing in one transaction and gives the cookie of
// a new session, if there is one.
func (g *Gate) commit(ctx context.Context, e end) (Cookie, error) {
	s, token := e.by, ""
	if s == nil {
		s, token = g.newSession(e.provider, e.answer, e.person)
	}
	name, err := json.Marshal(e.name)
	if err != nil {
		return Cookie{}, err
	}
	kept := e.record.Asked != nil || g.crossings.find(e.record.ID, g.now()) != nil
	err = g.store.Write(ctx, func(tx *gorm.DB) error {
		if kept {
			if err := endIn(tx, e.record.ID); err != nil {
				return err
			}
		}
		if e.used != nil {
			if err := useIn(tx, e.provider, e.used); err != nil {
				return err
			}
		}
		if s.Person.ID == 0 && e.person.Key != "" {
			row := store.PersonRow{Identifier: e.person.Identifier, Added: g.now().UTC()}
			if err := tx.Create(&row).Error; err != nil {
				return err
			}
			err := tx.Create(&store.LinkRow{Key: store.Hash(e.person.Key), Provider: string(e.provider.Name), Person: row.ID}).Error
			if store.IsTaken(err) {
				return errPersonRace
			}
			if err != nil {
				return err
			}
			s.Person.ID = row.ID
		}
		if e.by == nil {
			row, err := g.sessionRow(s)
			if err != nil {
				return err
			}
			if err := tx.Create(row).Error; err != nil {
				return err
			}
		}
		if err := g.holdIn(tx, e.app, e.held); err != nil {
			return err
		}
		return tx.Create(&store.IssuedRow{Session: s.Hash, Application: string(e.app.Name), SessionIndex: e.fresh.Session,
			Sealed: g.store.Seal("issued", name), At: g.now().UTC(), Expires: s.Expires.UTC()}).Error
	})
	if err != nil {
		return Cookie{}, err
	}
	if kept {
		g.crossings.ended(e.record.ID)
	}
	if token == "" {
		return Cookie{}, nil
	}
	g.sessions.put(s)
	return Cookie{Value: token, Life: s.Expires.Sub(g.now())}, nil
}

// personBy finds the person with a link key; ID 0 if there is none.
func (g *Gate) personBy(ctx context.Context, key string) (*crossing.Person, error) {
	var row store.LinkRow
	err := g.store.Read.WithContext(ctx).Where("key = ?", store.Hash(key)).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return &crossing.Person{}, nil
	}
	if err != nil {
		return nil, err
	}
	var person store.PersonRow
	err = g.store.Read.WithContext(ctx).Where("id = ?", row.Person).Take(&person).Error
	return &crossing.Person{ID: row.Person, Identifier: person.Identifier}, err
}

// refuseTo refuses a crossing: to the application, if it should hear of it, else
// on a page.
func (g *Gate) refuseTo(ctx context.Context, t *tracer, app *federation.Application, r *record, st *crossing.TraceStep, err error, cookies []Cookie) Outcome {
	f := finding.Of(err)
	if f == nil {
		return t.broken(err)
	}
	now := g.now()
	d, tell, err := g.protocols[app.Protocol].Application.Refuse(&g.Snapshot().Gate, app, r.Reply, f, crossing.Fresh{Message: messageID(), Handle: newHandle()}, now)
	if err != nil {
		return t.broken(err)
	}
	if !tell {
		out := t.refuse(st, f)
		out.Title, out.Continue, out.Cookies = app.Title, startOf(g.base, app), cookies
		if _, _, err := crossing.Select(g.Snapshot(), app, ""); crossing.NeedOf(err) != nil && g.crossings.find(r.ID, now) != nil {
			out.Again = g.base + "/crossing/" + r.ID + "?again=1"
		}
		return out
	}
	if kept := g.crossings.find(r.ID, now) != nil; kept || d.Held != "" {
		if err := g.store.Write(ctx, func(tx *gorm.DB) error {
			if kept {
				if err := endIn(tx, r.ID); err != nil {
					return err
				}
			}
			return g.holdIn(tx, app, d)
		}); err != nil {
			if finding.Is(err, finding.CrossingEnded) {
				return g.finished(app, r)
			}
			return t.broken(err)
		}
		g.crossings.ended(r.ID)
	}
	st.Finding = f
	t.departed(d, crossing.Application, time.Time{})
	t.flush(crossing.Refused, f)
	return Outcome{Departure: &d, Cookies: cookies, Reference: t.head.ID}
}

// startOf is where a person can start anew.
func startOf(base string, app *federation.Application) string {
	if app.OwnStart != "" {
		return app.OwnStart
	}
	return base + "/open/" + string(app.Name)
}

// finished is the page for an answer that was posted again.
func (g *Gate) finished(app *federation.Application, r *record) Outcome {
	return Outcome{Page: PageFinished, Title: app.Title, Continue: startOf(g.base, app), Reference: r.Trace.ID, Finding: finding.New(finding.CrossingEnded)}
}
