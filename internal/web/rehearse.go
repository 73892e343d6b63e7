package web

import (
	"context"
	"errors"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/happening"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/gate/traces"
)

// rehearsalRoutes are the pages of a run's link. Opening one shows a page with a button, and only the press uses it
// up: what scans mail or shows previews opens links, too.
func (s *server) rehearsalRoutes(app *fiber.App) {
	app.Get("/rehearsal/started", func(c fiber.Ctx) error {
		r := s.gate.Rehearsals.OfBrowser(c.Cookies(s.cookie("rehearsal")))
		if r == nil {
			return s.unlinked(c, finding.New(finding.RehearsalLink))
		}
		v := view{Title: "Now start at " + startedAt(*r), Text: howToStart(*r), Rehearsal: r.AppTitle}
		return s.page(c, http.StatusOK, "message.html", v)
	})
	app.Get("/rehearsal/:token", func(c fiber.Ctx) error {
		c.Set("Cache-Control", "no-store")
		r, err := s.gate.Rehearsals.Linked(c.Params("token"), s.network(c))
		if err != nil {
			return s.unlinked(c, err)
		}
		return s.page(c, http.StatusOK, "rehearsal.html", view{Title: "Rehearse signing in to " + r.AppTitle,
			Text: "You sign in as yourself, and see whether it works. Use a private window: what is open elsewhere in this browser stays out of it.",
			Verb: "Start the rehearsal", Location: "/rehearsal/" + c.Params("token"), Rehearsal: r.AppTitle})
	})
	app.Post("/rehearsal/:token", s.ours(func(c fiber.Ctx) error {
		_, mark, to, err := s.gate.Rehearsals.Press(c.Context(), c.Params("token"), s.network(c))
		if err != nil {
			return s.unlinked(c, err)
		}
		site := "Lax"
		if s.secure {
			site = "None" // messages of the other side come by posts from there
		}
		s.setCookie(c, "rehearsal", mark, site, rehearsing.RunLife)
		if to == "" {
			to = s.gate.Base() + "/rehearsal/started"
		}
		return c.Redirect().Status(http.StatusSeeOther).To(to)
	}))
}

// unlinked answers a link that is none.
func (s *server) unlinked(c fiber.Ctx, err error) error {
	f := finding.Of(err)
	if f == nil {
		return err
	}
	say := crossing.ForPerson(f)
	return s.page(c, faults[say.Fault], "message.html", view{Title: say.Title, Text: say.Text})
}

// startedAt is who starts, in words.
func startedAt(r rehearsing.Run) string {
	if r.Start == federation.StartProvider {
		return string(r.About.Provider)
	}
	return r.AppTitle
}

// howToStart tells whoever rehearses what to do where the gate cannot send them.
func howToStart(r rehearsing.Run) string {
	if r.Start == federation.StartProvider {
		return "Open " + r.AppTitle + " in this window from the page of applications at " + string(r.About.Provider) +
			". The rehearsal goes on by itself when it comes here."
	}
	return "Open " + r.AppTitle +
		" in this window as you always do, and sign in there. The rehearsal goes on by itself when it comes here."
}

// rehearsalCalls registers rehearsals, their runs, and what happens while it happens.
func (s *server) rehearsalCalls(a huma.API) {
	call(s, a, api.ListRehearsals, s.listRehearsals)
	call(s, a, api.ProposeRehearsal, s.proposeRehearsal)
	call(s, a, api.BeginRun, func(ctx context.Context, in *api.Named) (*body[api.Run], error) {
		r, link, err := s.gate.Rehearsals.Begin(ctx, by(ctx), in.Name, false)
		out := run(r)
		out.Link = link
		return &body[api.Run]{out}, err
	})
	call(s, a, api.ListRuns, func(ctx context.Context, in *api.RunFilter) (*body[api.List[api.Run]], error) {
		all, total, err := s.gate.Rehearsals.List(ctx, in.Name, in.Offset, in.Limit)
		if err != nil {
			return nil, err
		}
		return rows(all, int(total), run), nil
	})
	call(s, a, api.ShowRun, func(ctx context.Context, in *api.Numbered) (*body[api.Run], error) {
		r, err := s.gate.Rehearsals.Get(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		out, err := s.runWithSteps(ctx, r)
		return &body[api.Run]{out}, err
	})
	call(s, a, api.EndRun, func(ctx context.Context, in *api.Numbered) (*body[api.Run], error) {
		r, err := s.gate.Rehearsals.End(ctx, in.ID)
		return &body[api.Run]{run(r)}, err
	})
	call(s, a, api.SayOfRun, func(ctx context.Context, in *api.SaidOfRun) (*body[api.Run], error) {
		r, err := s.gate.Rehearsals.Say(ctx, by(ctx), in.ID, rehearsal.Word{Symptom: in.Body.Symptom, Text: in.Body.Text})
		return &body[api.Run]{run(r)}, err
	})
	call(s, a, api.ListMade, func(ctx context.Context, _ *api.None) (*body[api.List[api.MadePerson]], error) {
		all, err := s.gate.Rehearsals.Made(ctx)
		if err != nil {
			return nil, err
		}
		names, err := namesIn(ctx, s, all, func(m rehearsing.Made) int64 { return m.Person })
		return rows(all, len(all), func(m rehearsing.Made) api.MadePerson {
			return api.MadePerson{Person: m.Person, Name: names[m.Person], Run: m.Run, At: m.At}
		}), err
	})
	s.unattendedCalls(a)
	s.tourCalls(a)
	s.bundleCalls(a)
	watches(s, a, api.WatchRun, s.watchRun)
	watches(s, a, api.WatchTraces, s.watchTraces)
}

// run shows a run.
func run(r rehearsing.Run) api.Run {
	out := api.Run{ID: r.ID, Rehearsal: string(r.Rehearsal), Title: r.Title, Application: string(r.About.App),
		Provider: string(r.About.Provider), Start: r.Start, By: r.By, Unattended: r.Unattended, Began: r.Began, Ends: r.Ends, Ended: r.Ended,
		Value:   r.Value,
		Pressed: r.Pressed, Stage: r.Seen.Stage, Verdict: r.Verdict, Halted: r.Halted, Said: r.Seen.Said,
		Name: r.Seen.Name, Person: r.Seen.Person, Traces: r.Traces}
	if out.Provider == "" {
		out.Provider = string(r.Seen.Provider)
	}
	for _, d := range r.Seen.Told {
		told := api.RunTold{Name: d.Name, Values: []string{}}
		for _, v := range d.Values {
			told.Values = append(told.Values, v.String())
		}
		out.Told = append(out.Told, told)
	}
	return out
}

// runWithSteps shows a run with the steps of its sign-ins so far, as the traces have them.
func (s *server) runWithSteps(ctx context.Context, r rehearsing.Run) (api.Run, error) {
	out := run(r)
	for _, reference := range r.Traces {
		_, steps, err := s.steps(ctx, reference)
		if missing := (*change.NotFoundError)(nil); errors.As(err, &missing) {
			continue // it made room for others
		}
		if err != nil {
			return out, err
		}
		out.Steps = append(out.Steps, steps...)
	}
	return out, nil
}

func (s *server) listRehearsals(ctx context.Context, in *api.RehearsalFilter) (*body[api.List[api.Rehearsal]], error) {
	proofs, err := s.gate.Rehearsals.Proofs(ctx)
	if err != nil {
		return nil, err
	}
	accounts, err := s.gate.Unattended.Accounts(ctx)
	if err != nil {
		return nil, err
	}
	proved := map[federation.Name]rehearsing.Proof{}
	for _, of := range proofs {
		for _, p := range of {
			proved[p.Rehearsal] = p
		}
	}
	all := slices.DeleteFunc(s.gate.Snapshot().AllRehearsals(), func(r *federation.RehearsalPlan) bool {
		text := strings.ToLower(strings.Join([]string{string(r.Name), r.Title, string(r.App), string(r.Provider)}, " "))
		return in.Application != "" && string(r.App) != in.Application || !strings.Contains(text, strings.ToLower(in.Search))
	})
	return rows(all, len(all), func(r *federation.RehearsalPlan) api.Rehearsal {
		p := proved[r.Name]
		out := api.Rehearsal{Name: string(r.Name), Title: r.Title, Application: string(r.App), Provider: string(r.Provider),
			Start: r.Start, Expect: p.Expect, State: p.State, At: p.At, Before: p.Before, Run: p.Run, Username: r.Username,
			Next: s.gate.Unattended.Next(r)}
		if account, has := accounts[r.Name]; has {
			out.Account = testAccount(account)
		}
		return out
	}), nil
}

// proposeRehearsal writes down what the connection would come to for somebody, or what a recorded sign-in came to, by
// the functions that a sign-in uses.
func (s *server) proposeRehearsal(ctx context.Context, in *api.RehearsalProposal) (*body[api.ProposedRehearsal],
	error) {
	snap := s.gate.Snapshot()
	if in.Trace != "" {
		return s.proposeOfTrace(ctx, snap, in.Trace)
	}
	app, err := s.gate.Records.Application(in.Application)
	if err != nil {
		return nil, err
	}
	var p *federation.Provider
	if in.Provider != "" {
		if p, err = s.gate.Records.Provider(in.Provider); err != nil {
			return nil, err
		}
	}
	if in.Person == 0 {
		return nil, change.Field("person",
			errors.New("give the number of an account, or the reference of a sign-in (trace)"))
	}
	open := snap.Rehearsing(app, federation.Name(in.Provider))
	app, _ = open.Application(app.Name)
	if p != nil {
		p, _ = open.Provider(p.Name)
	}
	got, err := s.gate.Traces.Simulate(ctx, open, traces.Simulation{App: app, Person: in.Person, Provider: p})
	if err != nil {
		return nil, err
	}
	d := crossing.Decision{Result: crossing.Entered, Person: in.Person, Released: got.Mapped.Released,
		Told: got.Mapped.Told}
	rule := ""
	if got.Decision != federation.Allow || got.Finding != nil || got.Mapped.Refused != nil {
		d.Result = crossing.Refused
		if f := got.Finding; f != nil {
			d.Finding = f.Code
		} else if f := got.Mapped.Refused; f != nil {
			d.Finding = f.Code
		}
		if got.Entry.Rule != nil {
			rule = string(got.Entry.Rule.Name)
		}
	}
	title := "Signing in to " + app.Title
	if got.Name != "" {
		title = got.Name + " signs in to " + app.Title
	}
	return &body[api.ProposedRehearsal]{api.ProposedRehearsal{Title: title, Application: string(app.Name),
		Provider: in.Provider, Start: federation.StartGate, Expect: rehearsal.Propose(d, rule)}}, nil
}

// proposeOfTrace keeps a recorded sign-in as a rehearsal: what it came to, decided again with the configuration of
// now.
func (s *server) proposeOfTrace(ctx context.Context, snap *federation.Snapshot, reference string) (
	*body[api.ProposedRehearsal], error) {
	head, _, err := s.gate.Traces.Get(ctx, reference)
	if err != nil {
		return nil, err
	}
	app, there := snap.Application(federation.Name(head.Application))
	if !there {
		return nil, change.Conflict("this sign-in belongs to no application on record", "choose one that an application has")
	}
	_, now, err := s.gate.Traces.Replay(ctx, snap.Rehearsing(app, federation.Name(head.Provider)), reference)
	if err != nil {
		return nil, err
	}
	var last crossing.Decision
	for _, d := range now {
		if d.Result == crossing.Entered || d.Result == crossing.Refused {
			last = d
		}
	}
	if last.Result == "" {
		return nil, change.Conflict("this sign-in did not come to an end", "choose one that was let in or refused")
	}
	start := head.StartedBy
	if start != federation.StartApplication && start != federation.StartProvider {
		start = federation.StartGate
	}
	return &body[api.ProposedRehearsal]{api.ProposedRehearsal{Title: "As in sign-in " + reference,
		Application: head.Application, Provider: head.Provider, Start: start, Expect: rehearsal.Propose(last, "")}}, nil
}

// watchRun tells a run each time that it is another one, all of it: whoever lost the connection misses nothing.
func (s *server) watchRun(ctx context.Context, in *api.Numbered) (*listening, error) {
	if _, err := s.gate.Rehearsals.Get(ctx, in.ID); err != nil {
		return nil, err
	}
	w, room := s.gate.Rehearsals.Watch(in.ID)
	if !room {
		return nil, change.Conflict("too many watch at once", "try again in a moment")
	}
	first := true
	return &listening{end: w.End, next: func(ctx context.Context) (any, error) {
		if !first {
			select {
			case <-w.Came():
			case <-ctx.Done():
				return nil, nil
			}
		}
		first = false
		r, err := s.gate.Rehearsals.Get(ctx, in.ID)
		if err != nil {
			return nil, err
		}
		return s.runWithSteps(ctx, r)
	}}, nil
}

// watchTraces tells what happens while it happens, as far as the listener keeps up.
func (s *server) watchTraces(context.Context, *api.None) (*listening, error) {
	w, room := s.gate.Happenings.Watch(nil)
	if !room {
		return nil, change.Conflict("too many watch at once", "try again in a moment")
	}
	return &listening{end: w.End, next: func(ctx context.Context) (any, error) {
		select {
		case h := <-w.Came():
			return news(h, w.Missed(), s.gate.Now()), nil
		case <-ctx.Done():
			return nil, nil
		}
	}}, nil
}

// news shows what happened. Steps are as the trace has them: what it is not to keep is not in them, and what could
// still be used is held back.
func news(h happening.Happening, missed int64, now time.Time) api.TraceNews {
	out := api.TraceNews{Trace: h.Trace, Missed: missed}
	if h.Head.ID != "" {
		head := traceHead(traces.Head(h.Head))
		out.Head = &head
	}
	for _, x := range h.Steps {
		if st, is := x.(crossing.TraceStep); is {
			out.Steps = append(out.Steps, traces.Shown(st, now))
		}
	}
	return out
}
