package web

import (
	"context"
	"encoding/csv"
	"errors"
	"fmt"
	"io"
	"net/netip"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/traces"
)

// accessCalls registers what is asked about who may enter.
func (s *server) accessCalls(a huma.API) {
	call(s, a, api.ListRules, func(ctx context.Context, in *api.RuleFilter) (*body[api.List[api.AccessRule]], error) {
		snap := s.gate.Records.Snapshot()
		if in.Application != "" {
			if _, err := s.gate.Records.Application(in.Application); err != nil {
				return nil, change.Field("application", err)
			}
		}
		counts, err := s.gate.Traces.Decided(ctx, in.Application)
		if err != nil {
			return nil, err
		}
		out := api.List[api.AccessRule]{Items: []api.AccessRule{}}
		for _, r := range looked(snap, federation.Name(in.Application)) {
			out.Items = append(out.Items, ruleShown(r, counts[r.Name], s.gate.Now()))
		}
		out.Total = int64(len(out.Items))
		return &body[api.List[api.AccessRule]]{out}, nil
	})
	call(s, a, api.Simulate, s.simulate)
	call(s, a, api.ShowBrowser, func(ctx context.Context, _ *api.None) (*body[api.Browser], error) {
		from, _ := ctx.Value(browserKey).(api.Browser)
		return &body[api.Browser]{from}, nil
	})
	s.admissionCalls(a)
	s.entrantCalls(a)
	s.selectionCalls(a)
	s.roleCalls(a)
	s.portalCalls(a)
	s.requestCalls(a)
	s.rolloutCalls(a)
}

// looked are the rules that are looked at for an application, or for "" all there are: denials of the gate, those of
// each application, others of the gate.
func looked(snap *federation.Snapshot, app federation.Name) []*federation.Rule {
	if app != "" {
		return snap.Book(app).Rules
	}
	gate := snap.Book("")
	out := slices.Clone(gate.Rules[:gate.Last])
	for _, a := range snap.Applications() {
		for _, r := range snap.Book(a.Name).Rules {
			if r.App == a.Name {
				out = append(out, r)
			}
		}
	}
	return append(out, gate.Rules[gate.Last:]...)
}

// attended finds an application that people sign in to.
func (s *server) attended(name string) (*federation.Application, error) {
	app, err := s.gate.Records.Application(name)
	if err == nil && !app.Attended() {
		err = change.Conflict("the application "+name+" is a service: nobody signs in to it",
			"name another one; rules and admissions do not touch it")
	}
	return app, err
}

func (s *server) simulate(ctx context.Context, in *api.SentTo[api.Simulation]) (*body[api.Simulated], error) {
	snap, g := s.gate.Records.Snapshot(), s.gate
	app, err := s.attended(in.Name)
	if err != nil {
		return nil, err
	}
	x := traces.Simulation{App: app, Person: in.Body.Person, Context: in.Body.Context, Role: in.Body.Role,
		SignedIn: in.Body.SignedIn, Now: in.Body.At}
	switch bare := len(in.Body.Attributes)+len(in.Body.Groups) > 0; {
	case bare && x.Person != 0:
		return nil, change.Field("attributes",
			errors.New("give a person, or the attributes and groups of somebody without an account, not both"))
	case !bare && x.Person == 0:
		return nil, change.Field("person",
			errors.New("say who would enter: a person, or attributes of somebody without an account"))
	}
	for name, values := range in.Body.Attributes {
		if err := people.CheckValues(name, values); err != nil && name != profile.AttributeGroups &&
			name != profile.AttributeOrganization {
			return nil, change.Field("attributes."+name, err)
		}
		x.Attributes = append(x.Attributes, profile.Attribute{Name: name, Values: profile.Texts(values...)})
	}
	for i, group := range in.Body.Groups {
		if _, err := g.Records.Unit(federation.KindGroup, group); err != nil {
			return nil, change.Field(fmt.Sprintf("groups[%d]", i), err)
		}
		x.Groups = append(x.Groups, federation.Name(group))
	}
	if in.Body.Provider != "" {
		if x.Provider, err = g.Records.Provider(in.Body.Provider); err != nil {
			return nil, change.Field("provider", err)
		}
	}
	if in.Body.Network != "" {
		if _, err := netip.ParseAddr(in.Body.Network); err != nil {
			return nil, change.Field("network", errors.New("this is no address; give that of a browser, like 192.0.2.7"))
		}
		x.Network = limit.Network(in.Body.Network)
	}
	got, err := g.Traces.Simulate(ctx, snap, x)
	return &body[api.Simulated]{simulated(snap, got)}, err
}

func simulated(snap *federation.Snapshot, in traces.Simulated) api.Simulated {
	out := api.Simulated{Decision: string(in.Decision), Person: in.Person, Why: []string{}, Finding: in.Finding,
		Rules:  []api.JudgedRule{},
		Ground: ground(snap, traces.GroundOf(in.Foreseen))}
	if in.Person != 0 {
		out.Name = in.Name
	}
	for _, r := range in.Entry.Reasons {
		out.Why = append(out.Why, r.Text())
	}
	out.Roles, out.Choose = held(in.Entry, in.Decision != federation.Deny), in.Entry.Pick
	if in.Decision == federation.StepUp {
		out.Asks = string(in.Entry.Rule.Name)
	}
	for _, j := range in.Judged {
		one := api.JudgedRule{By: string(j.By), Sentence: j.Says, Then: string(j.Then), About: j.About, Why: j.Why}
		if j.Rule != nil {
			one.Name, one.Title = string(j.Rule.Name), j.Rule.Title
		}
		out.Rules = append(out.Rules, one)
	}
	told := mapped(traces.Tried{Mapped: in.Mapped})
	out.Released = &told
	return out
}

// ground is what a decision rests on, nil for none of rules, admissions and the default.
func ground(snap *federation.Snapshot, g traces.Ground) *api.Ground {
	if g.By == "" {
		return nil
	}
	out := &api.Ground{By: string(g.By), Name: string(g.Name)}
	if r, there := snap.Rule(g.Name); there && g.By == policy.ByRule {
		out.Title = r.Title
	}
	return out
}

// admissionCalls registers who enters by name.
func (s *server) admissionCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListAdmissions, func(ctx context.Context, in *api.AdmissionFilter) (*body[api.Admissions], error) {
		return s.admissions(ctx, *in)
	})
	call(s, a, api.Admit, func(ctx context.Context, in *api.SentTo[api.AdmissionChange]) (*body[api.Admissions], error) {
		return s.admitting(ctx, in, g.People.Admit)
	})
	call(s, a, api.Unadmit, func(ctx context.Context, in *api.SentTo[api.AdmissionChange]) (*body[api.Admissions],
		error) {
		return s.admitting(ctx, in, func(ctx context.Context, by change.By, app string, e people.Entry) (int64, error) {
			return 0, g.People.Unadmit(ctx, by, app, e)
		})
	})
	s.listed(a, api.AdmitList, "admit a list of people", func(ctx context.Context, who change.By, app string,
		in roll.Import, p jobs.Progress) (any, error) {
		return g.Roll.Admit(ctx, who, app, in, p)
	})
	s.listed(a, api.SimulateList, "simulate the entry of a list of people",
		func(ctx context.Context, _ change.By, app string, in roll.Import, p jobs.Progress) (any, error) {
			got, err := g.Roll.Simulate(ctx, app, in, p)
			if err != nil {
				return nil, err
			}
			out := entrants(g.Records.Snapshot(), got, traces.Whose{Limit: mostOfJob})
			return &out, nil
		})
}

// mostOfJob is how many people the report of a job lists.
const mostOfJob = 10_000

// listed registers a call that takes a list of people in.
func (s *server) listed(a huma.API, o api.Operation[api.Named, api.Job], what string,
	do func(ctx context.Context, who change.By, app string, in roll.Import, p jobs.Progress) (any, error)) {
	taking(s, a, o, func(ctx context.Context, name string, in *upload) (*body[api.Job], error) {
		if _, err := s.attended(name); err != nil {
			return nil, err
		}
		var how api.ListSent
		document, release, err := in.whole(&how)
		if err != nil {
			return nil, err
		}
		who := by(ctx)
		return &body[api.Job]{jobShown(s.gate.Jobs.Start(what, "people", func(ctx context.Context, p jobs.Progress) (any,
			error) {
			defer release()
			return do(ctx, who, name, roll.Import{Document: document, By: how.By, SkipBad: how.SkipBad, Digest: how.Digest}, p)
		}))}, nil
	})
}

func (s *server) admitting(ctx context.Context, in *api.SentTo[api.AdmissionChange],
	do func(context.Context, change.By, string, people.Entry) (request int64, err error)) (*body[api.Admissions], error) {
	e := people.Entry{Everyone: in.Body.Everyone, Groups: in.Body.Groups, People: in.Body.People, Out: in.Body.Out,
		AtOnce: in.Body.AtOnce}
	if in.Body.Until != "" {
		var err error
		if e.Until, err = federation.Ends(in.Body.Until); err != nil {
			return nil, change.Field("until", err)
		}
	}
	if _, err := s.attended(in.Name); err != nil {
		return nil, err
	}
	request, err := do(ctx, by(ctx), in.Name, e)
	if err != nil {
		return nil, err
	}
	out, err := s.admissions(ctx, api.AdmissionFilter{Named: in.Named, Limit: 100})
	if err == nil {
		out.Body.Request = request
	}
	return out, err
}

func (s *server) admissions(ctx context.Context, in api.AdmissionFilter) (*body[api.Admissions], error) {
	app, err := s.attended(in.Name)
	if err != nil {
		return nil, err
	}
	now := s.gate.Now()
	out := api.Admissions{Everyone: app.Everyone, Approval: app.Approval, Groups: []api.GroupAdmission{}}
	said, err := app.Admissions.Read()
	for _, name := range app.Admissions.Groups() {
		x := said[name]
		one := api.GroupAdmission{Group: string(name), Out: x.Out, Until: x.Until, Ended: !x.Holds(now)}
		if g, there := s.gate.Records.Snapshot().Unit(federation.KindGroup, name); there {
			one.Title = g.Title
		}
		out.Groups = append(out.Groups, one)
	}
	if err != nil {
		return nil, err
	}
	if out.Decided, out.Default, err = s.gate.Traces.DecidedBeside(ctx, in.Name); err != nil {
		return nil, err
	}
	people, total, err := s.gate.People.Admissions(ctx, app, in.After, in.Limit)
	out.People, out.Total = s.admitted(people), total
	return &body[api.Admissions]{out}, err
}

func (s *server) admitted(all []people.Admitted) []api.PersonAdmission {
	out := []api.PersonAdmission{}
	for _, x := range all {
		out = append(out, api.PersonAdmission{Person: x.Person, Name: x.Name, Application: string(x.App), Until: x.Until,
			Ended: !x.Until.IsZero() && !s.gate.Now().Before(x.Until), Source: s.source(x.Source), Author: x.Author,
			Added: x.Added})
	}
	return out
}

// entrantCalls registers the list of everyone, and what one person enters.
func (s *server) entrantCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListEntrants, func(ctx context.Context, in *api.EntrantPage) (*body[api.Entrants], error) {
		got, w, err := s.everyone(ctx, in.EntrantFilter)
		if err != nil {
			return nil, err
		}
		w.After, w.Limit = in.After, in.Limit
		return &body[api.Entrants]{entrants(g.Records.Snapshot(), got, w)}, nil
	})
	call(s, a, api.ForeseeEntrants, func(_ context.Context, in *api.Named) (*body[api.Job], error) {
		app, err := s.attended(in.Name)
		if err != nil {
			return nil, err
		}
		return &body[api.Job]{jobShown(g.Jobs.Start("foresee who enters "+in.Name, "people",
			func(ctx context.Context, p jobs.Progress) (any, error) {
				snap := g.Records.Snapshot()
				got, err := g.Traces.Everyone(ctx, snap, app, p)
				if err != nil {
					return nil, err
				}
				out := entrants(snap, got, traces.Whose{Limit: 1})
				out.Items = []api.Entrant{}
				return &out, nil
			}))}, nil
	})
	download(s, a, api.ExportEntrants, func(ctx context.Context, in *api.EntrantFilter) (*fileOut, error) {
		got, w, err := s.everyone(ctx, *in)
		if err != nil {
			return nil, err
		}
		return s.file(roll.CSV, in.Name+"-entrants", func(to io.Writer) error { return writeEntrants(to, got, w) })
	})
	call(s, a, api.PersonMayEnter, func(ctx context.Context, in *api.OnePerson) (*body[api.PersonEntries], error) {
		snap := g.Records.Snapshot()
		all, err := g.Traces.EntriesOf(ctx, snap, in.Number)
		if err != nil {
			return nil, err
		}
		out := api.PersonEntries{Items: []api.PersonEntry{}}
		for _, e := range all {
			out.Items = append(out.Items, api.PersonEntry{Application: string(e.App.Name), Title: e.App.Title,
				Decision: string(e.Entrant.Decision),
				Ground:   ground(snap, e.Entrant.By), Why: e.Why, Roles: held(e.Entry, e.Entrant.Decision != federation.Deny)})
		}
		given, err := g.People.AdmissionsOf(ctx, in.Number)
		out.Admissions = s.admitted(given)
		return &body[api.PersonEntries]{out}, err
	})
}

// unseen is progress that nobody follows.
type unseen struct{}

func (unseen) Set(int64)   {}
func (unseen) Total(int64) {}

func (s *server) everyone(ctx context.Context, in api.EntrantFilter) (*traces.Everyone, traces.Whose, error) {
	w := traces.Whose{Search: in.Search, Decision: federation.Outcome(in.Decision)}
	if in.By != "" {
		w.By = &traces.Ground{By: policy.By(in.By), Name: federation.Name(in.Ground)}
		if in.By == "none" {
			w.By.By = ""
		}
	} else if in.Ground != "" {
		return nil, w, change.Field("by", errors.New("say what kind of ground it is: rule or admission"))
	}
	app, err := s.attended(in.Name)
	if err != nil {
		return nil, w, err
	}
	if w.Role, err = s.roleOf(app, in.Role); err != nil {
		return nil, w, err
	}
	got, err := s.gate.Traces.Everyone(ctx, s.gate.Records.Snapshot(), app, unseen{})
	return got, w, err
}

func entrants(snap *federation.Snapshot, e *traces.Everyone, w traces.Whose) api.Entrants {
	page, total := e.Page(w)
	out := api.Entrants{At: e.At, Known: len(e.People), Total: total, Counts: []api.EntrantCount{},
		Items: []api.Entrant{}}
	for _, c := range e.Counts {
		out.Counts = append(out.Counts, api.EntrantCount{Decision: string(c.Decision), Ground: ground(snap, c.By),
			Count: c.Count})
	}
	for _, c := range e.Roles {
		out.Roles = append(out.Roles, api.RoleCount(c))
	}
	for _, p := range page {
		out.Items = append(out.Items, api.Entrant{Person: p.Person, Name: p.Name, Decision: string(p.Decision),
			Ground:  ground(snap, p.By),
			Finding: p.Finding, Roles: p.Roles, Choose: p.Pick})
	}
	return out
}

func writeEntrants(to io.Writer, e *traces.Everyone, w traces.Whose) error {
	all, _ := e.Page(w)
	out := csv.NewWriter(to)
	rows := [][]string{{"number", "name", "decision", "by", "ground", "roles", "finding"}}
	for _, p := range all {
		rows = append(rows, []string{strconv.FormatInt(p.Person, 10), table.Guarded(p.Name), string(p.Decision),
			string(p.By.By), string(p.By.Name),
			table.Guarded(strings.Join(p.Roles, "|")), p.Finding})
	}
	return out.WriteAll(rows)
}

func ruleShown(r *federation.Rule, of traces.Decided, now time.Time) api.AccessRule {
	return api.AccessRule{Name: string(r.Name), Title: r.Title, Application: string(r.App), Sentence: policy.Sentence(r),
		Then: string(r.Then),
		Say:  r.Say, Holds: r.Holds(now), Broken: r.Broken, Decided: of.Count, Last: of.Last}
}
