package app

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/web"
)

// Tour goes through classic mistakes on the stand-ins of the demo: one is made, a rehearsal fails, its finding
// explains, the mistake is mended, and the rehearsal passes. It exists in the demo alone.
type Tour struct {
	mu     sync.Mutex
	demo   *running
	sc     *scenario
	ready  bool
	broken string // name of the stop whose mistake is in force
	last   map[string]int64
}

// tourStop is one mistake.
type tourStop struct {
	name, title, story string
	rehearsal          string
	// finding is what explains it; "" where the line of the verdict does that letter by letter.
	finding finding.Code
	mend    string // what the press does
	atGate  bool   // the mistake is made, and mended, at the gate
	breaks  func(*Tour, context.Context) error
	mends   func(*Tour, context.Context) error
}

// fault is a mistake of a stand-in: a fault that is switched on, and off.
func fault(at, name string) (breaks, mends func(*Tour, context.Context) error) {
	return func(t *Tour, ctx context.Context) error {
			return t.press(ctx, at, "fault", url.Values{"fault": {name}})
		},
		func(t *Tour, ctx context.Context) error { return t.press(ctx, at, "fault", url.Values{"fault": {""}}) }
}

// setting is a mistake in a setting of a record of the gate.
func setting(kind, record, name string, wrong, right any) (breaks, mends func(*Tour, context.Context) error) {
	return func(t *Tour, ctx context.Context) error {
			return t.set(ctx, kind, record, federation.Settings{name: wrong})
		},
		func(t *Tour, ctx context.Context) error {
			return t.set(ctx, kind, record, federation.Settings{name: right})
		}
}

// at fills in how a mistake of a stop is made and mended.
func (s tourStop) at(breaks, mends func(*Tour, context.Context) error) tourStop {
	s.breaks, s.mends = breaks, mends
	return s
}

// tourStops are the twelve, in the order in which somebody who connects an application meets them.
var tourStops = []tourStop{
	tourStop{name: "secret", title: "The secret's identifier in place of its value",
		story:     "Oakhollow's console shows a list of secrets: an identifier, and once, at its making, the value. Somebody copied the column that is still there.",
		rehearsal: "tour-track-access", finding: finding.ClientRefused, atGate: true,
		mend: "Give the gate the value of the secret"}.at(
		func(t *Tour, ctx context.Context) error {
			return t.secret(ctx, func(p scenarioProvider) string { return p.SecretID })
		},
		func(t *Tour, ctx context.Context) error {
			return t.secret(ctx, func(p scenarioProvider) string { return p.ClientSecret })
		}),
	tourStop{name: "slash", title: "A trailing slash too many",
		story:     "The possession planner asks to be answered at its redirect URI with a slash behind it. To a person it is the same address.",
		rehearsal: "tour-planner", finding: finding.RedirectUnregistered,
		mend: "Have the planner ask with the address that is registered"}.at(fault("possession-planner", "redirect-slash")),
	tourStop{name: "letter", title: "An entity ID off by a letter",
		story:     "Somebody typed the crew roster's entity ID into the roster instead of pasting it.",
		rehearsal: "tour-roster", finding: finding.ApplicationUnknown,
		mend: "Correct the entity ID at the roster"}.at(fault("crew-roster", "unknown-issuer")),
	tourStop{name: "name-format", title: "A NameID format that nobody agreed on",
		story:     "The roster was moved from another directory, and still asks for names of the kind that this one gave.",
		rehearsal: "tour-roster", finding: finding.NameIDPolicyUnmet,
		mend: "Have the roster leave the format to the gate"}.at(fault("crew-roster", "name-format")),
	tourStop{name: "sha1", title: "SHA-1 against SHA-256",
		story:     "The provider was set up years ago, and signs as was usual then.",
		rehearsal: "tour-roster", finding: finding.SignatureSHA1,
		mend: "Have the provider sign with SHA-256"}.at(fault("wrenmoor-staff", "sha1")),
	tourStop{name: "certificate", title: "The wrong certificate",
		story:     "The provider began to sign with its next key, and nobody gave the gate the certificate.",
		rehearsal: "tour-roster", finding: finding.SignatureKey,
		mend: "Have the provider sign with the key that is on record"}.at(fault("wrenmoor-staff", "wrong-key")),
	tourStop{name: "never-on", title: "Never switched on",
		story:     "Oakhollow registered the gate as a client, and left the switch as it was: off.",
		rehearsal: "tour-track-access", finding: finding.ProviderRequest,
		mend: "Have Oakhollow enable the client"}.at(fault("oakhollow", "not-enabled")),
	tourStop{name: "nobody", title: "Nobody is assigned",
		story:     "Track access was connected and tested by its owner, and then closed to everybody who is not admitted. Nobody was admitted.",
		rehearsal: "tour-track-access", finding: finding.AccessNobody, atGate: true,
		mend: "Admit everybody who can sign in"}.at(setting("application", "track-access", "everyone", "no", "")),
	tourStop{name: "no-account", title: "No account over there",
		story:     "The answer is valid, and the planner lets in only those whom it knows. Ada is not among them.",
		rehearsal: "tour-planner-newcomer", finding: finding.ApplicationRefuses,
		mend: "Have the planner make accounts at first sign-in"}.at(
		func(t *Tour, ctx context.Context) error {
			return t.press(ctx, "possession-planner", "accounts", url.Values{"onlyKnown": {"1"}})
		},
		func(t *Tour, ctx context.Context) error {
			return t.press(ctx, "possession-planner", "accounts", url.Values{})
		}),
	tourStop{name: "clocks", title: "Clocks apart",
		story:     "The provider's virtual machine was paused over the night. Its clock is an hour behind.",
		rehearsal: "tour-roster", finding: finding.AssertionExpired,
		mend: "Have the provider set its clock by NTP"}.at(fault("wrenmoor-staff", "expired")),
	tourStop{name: "unasked", title: "A start that nobody asked for",
		story:     "Staff open the roster from the page of their provider. The gate takes no answer from it that it did not ask for.",
		rehearsal: "tour-roster-from-provider", finding: finding.UnsolicitedRefused, atGate: true,
		mend: "Accept answers from this provider that nobody asked for"}.at(
		setting("provider", "wrenmoor-staff", "allowUnsolicited", false, true)),
	tourStop{name: "group", title: "A group value that is spelled otherwise",
		story:     "The roster's role hangs on the group drivers. The provider sends driver. Everything passes, and the role is another one.",
		rehearsal: "tour-roster",
		mend:      "Have the provider send drivers"}.at(fault("wrenmoor-staff", "groups-misspelled")),
}

// tourRehearsals are what the stops run, with the people who sign in.
func (t *Tour) rehearsals() []scenarioRule {
	d := t.demo
	home := func(name string) string {
		for _, p := range d.ready.Providers {
			if p.Name == name {
				return p.Home
			}
		}
		return ""
	}
	rule := func(name, app, user string, s federation.Settings) scenarioRule {
		s["application"], s["username"] = app, user
		if s["start"] == federation.StartApplication {
			s["opens"] = d.started(app)
		}
		return scenarioRule{Name: name, Application: app, Settings: s}
	}
	return []scenarioRule{
		rule("tour-roster", "crew-roster", "ada.fenwick", federation.Settings{"title": "Tour: Ada opens the roster",
			"start": "application", "expect": []any{"entered", "attribute role is DRIVER"}}),
		rule("tour-roster-from-provider", "crew-roster", "ada.fenwick", federation.Settings{
			"title": "Tour: Ada comes from her provider", "start": "provider", "expect": []any{"entered"},
			"opens": home("wrenmoor-staff") + "unsolicited?target=" + url.QueryEscape(d.ready.Base+"/open/crew-roster")}),
		rule("tour-planner", "possession-planner", "dov.petrak", federation.Settings{"title": "Tour: Dov opens the planner",
			"start": "application", "expect": []any{"entered"}}),
		rule("tour-planner-newcomer", "possession-planner", "ada.fenwick", federation.Settings{
			"title": "Tour: Ada opens the planner", "start": "application", "expect": []any{"entered"}}),
		rule("tour-track-access", "track-access", "mina.thorne", federation.Settings{"title": "Tour: Mina opens track access",
			"start": "gate", "provider": "oakhollow", "expect": []any{"entered"}}),
	}
}

// byTour is who changes of the tour are noted of.
var byTour = change.By{Who: "the tour"}

// begin makes what the tour needs, once. The lock is held.
func (t *Tour) begin(ctx context.Context) error {
	if t.demo == nil {
		return change.Conflict("the demo is not up yet", "try again in a moment")
	}
	if t.ready {
		return nil
	}
	g := t.demo.service.gate
	if err := t.set(ctx, "provider", "wrenmoor-staff", federation.Settings{"allowUnsolicited": true}); err != nil {
		return err
	}
	for _, r := range t.rehearsals() {
		revision := 0
		if plan, there := g.Snapshot().Rehearsal(federation.Name(r.Name)); there {
			revision = plan.Revision // the stand-ins listen at other ports now
		}
		if _, err := g.Records.Lay(ctx, byTour, string(federation.KindRehearsal), r.Name, revision, r.Settings); err != nil {
			return err
		}
		if _, err := g.Unattended.Password(ctx, byTour, r.Name, t.password(r)); err != nil {
			return err
		}
	}
	t.ready, t.last = true, map[string]int64{}
	return nil
}

// password is that of who signs in in a rehearsal.
func (t *Tour) password(r scenarioRule) string {
	people := slices.Clone(t.sc.People)
	for _, p := range t.sc.Providers {
		people = append(people, p.People...)
	}
	for _, p := range people {
		if p.Username == r.Settings["username"] {
			return p.Password
		}
	}
	return ""
}

// set changes a record, whatever that does to people.
func (t *Tour) set(ctx context.Context, kind, name string, s federation.Settings) error {
	g, by := t.demo.service.gate, byTour
	_, err := g.Records.Configure(ctx, by, kind, name, 0, s)
	if f := finding.Of(err); f != nil {
		for _, e := range f.Evidence {
			if e.Label == "To confirm" {
				by.Confirms = e.Found
				_, err = g.Records.Configure(ctx, by, kind, name, 0, s)
			}
		}
	}
	return err
}

// secret gives the gate another client secret for Oakhollow.
func (t *Tour) secret(ctx context.Context, of func(scenarioProvider) string) error {
	for _, p := range t.sc.Providers {
		if p.Name == "oakhollow" {
			g := t.demo.service.gate
			now, err := g.Records.Provider(p.Name)
			if err != nil {
				return err
			}
			return g.Records.Retake(ctx, byTour, change.KindProvider, p.Name, now.Revision,
				records.Source{Typed: federation.Typed{"clientSecret": of(p)}})
		}
	}
	return errors.New("the scenario has no provider oakhollow")
}

// press posts a form to a stand-in, as its page does.
func (t *Tour) press(ctx context.Context, at, page string, form url.Values) error {
	home := strings.TrimSuffix(t.demo.started(at), "start")
	for _, p := range t.demo.ready.Providers {
		if p.Name == at {
			home = p.Home
		}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodPost, home+page, strings.NewReader(form.Encode()))
	if err != nil {
		return err
	}
	req.Header.Set("Content-Type", "application/x-www-form-urlencoded")
	res, err := http.DefaultClient.Do(req)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return fmt.Errorf("the stand-in %s answers %s", at, res.Status)
	}
	return nil
}

// up has the tour know the demo that it is in.
func (t *Tour) up(d *running) {
	t.mu.Lock()
	defer t.mu.Unlock()
	t.demo = d
}

// Stops are all stops, as they stand.
func (t *Tour) Stops() []web.TourStop {
	t.mu.Lock()
	defer t.mu.Unlock()
	out := []web.TourStop{}
	for _, s := range tourStops {
		out = append(out, web.TourStop{Name: s.name, Title: s.title, Story: s.story, Rehearsal: s.rehearsal,
			Finding: s.finding, Mend: s.mend, AtGate: s.atGate, Broken: t.broken == s.name, Run: t.last[s.name]})
	}
	return out
}

// Break makes the mistake of a stop, and has its rehearsal run. What is broken at another stop is mended first.
func (t *Tour) Break(ctx context.Context, name string) (rehearsing.Run, error) {
	return t.does(ctx, name, true)
}

// Mend mends it, and has the rehearsal run again.
func (t *Tour) Mend(ctx context.Context, name string) (rehearsing.Run, error) {
	return t.does(ctx, name, false)
}

func (t *Tour) does(ctx context.Context, name string, breaks bool) (rehearsing.Run, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	var names []string
	for _, s := range tourStops {
		names = append(names, s.name)
	}
	at := slices.Index(names, name)
	if at < 0 {
		return rehearsing.Run{}, change.NotFound("stop", name, nearword.Of(name, names))
	}
	if err := t.begin(ctx); err != nil {
		return rehearsing.Run{}, err
	}
	for i, s := range tourStops {
		if t.broken == s.name && (i != at || !breaks) {
			if err := s.mends(t, ctx); err != nil {
				return rehearsing.Run{}, err
			}
			t.broken = ""
		}
	}
	s := tourStops[at]
	if breaks && t.broken != name {
		t.broken = name // also if it is made by half
		if err := s.breaks(t, ctx); err != nil {
			return rehearsing.Run{}, err
		}
	}
	run, err := t.demo.service.gate.Unattended.Start(ctx, byTour, s.rehearsal)
	if err == nil {
		t.last[name] = run.ID
	}
	return run, err
}

// ErrTour is that a stop of the tour did not go as it should.
var ErrTour = errors.New("a stop of the tour did not go as it should")

// walk goes through all stops by itself, and tells how each goes.
func (t *Tour) walk(ctx context.Context, out io.Writer) error {
	odd := 0
	for i, s := range tourStops {
		fmt.Fprintf(out, "\n%2d  %s\n    %s\n", i+1, s.title, s.story)
		failed, err := t.runs(ctx, s.name, t.Break)
		if err != nil {
			return err
		}
		if failed.Verdict.State != rehearsal.Passed && s.explained(failed) {
			fmt.Fprintf(out, "    %-7s %s\n", failed.Verdict.State, explains(failed))
		} else {
			odd++
			fmt.Fprintf(out, "    WRONG   it should fail by %s, and is %s: %s\n", s.finding, failed.Verdict.State,
				explains(failed))
		}
		mended, err := t.runs(ctx, s.name, t.Mend)
		if err != nil {
			return err
		}
		fmt.Fprintf(out, "    mend    %s\n    %-7s run %d\n", s.mend, mended.Verdict.State, mended.ID)
		if mended.Verdict.State != rehearsal.Passed {
			odd++
			fmt.Fprintf(out, "    WRONG   it should pass: %s\n", explains(mended))
		}
	}
	if odd > 0 {
		return fmt.Errorf("%w: %d of %d runs", ErrTour, odd, 2*len(tourStops))
	}
	fmt.Fprintf(out, "\nAll %d mistakes were found, and mended.\n", len(tourStops))
	return nil
}

// explained reports whether a run says what a stop is about.
func (s tourStop) explained(r rehearsing.Run) bool {
	if s.finding == "" {
		return slices.ContainsFunc(r.Verdict.Lines, func(l rehearsal.Held) bool { return !l.Holds })
	}
	return len(r.Verdict.Findings) > 0 && r.Verdict.Findings[0].Code == s.finding
}

// explains says what a run came to in a line or two.
func explains(r rehearsing.Run) string {
	if len(r.Verdict.Findings) > 0 {
		f := r.Verdict.Findings[0]
		return fmt.Sprintf("%s [%s]\n            %s", f.Title, f.Code, f.Remedy)
	}
	for _, l := range r.Verdict.Lines {
		if !l.Holds {
			return "expected: " + l.Expected + "; came: " + l.Came
		}
	}
	return r.Halted
}

// runs has a stop do something, and waits for the run to end.
func (t *Tour) runs(ctx context.Context, name string, does func(context.Context, string) (rehearsing.Run, error)) (
	rehearsing.Run, error) {
	run, err := does(ctx, name)
	for err == nil && run.Ended.IsZero() {
		select {
		case <-ctx.Done():
			return run, ctx.Err()
		case <-time.After(20 * time.Millisecond):
		}
		run, err = t.demo.service.gate.Rehearsals.Get(ctx, run.ID)
	}
	return run, err
}
