package unattended

import (
	"context"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/store"
)

// longest is how long a run that nobody attends may take.
const longest = 90 * time.Second

// himself is who a run is noted of that the gate attends itself.
const himself = "the gate"

// drive goes through the sign-in of a run. The error is a finding where it got stuck; nil if the run has its verdict.
func (rm *Room) drive(ctx context.Context, j *job) error {
	snap := rm.Records.Snapshot()
	row, p, err := rm.usable(ctx, snap, j.plan)
	if err != nil {
		return err
	}
	password, err := rm.Store.Open(sealing(&row), row.Sealed)
	if err != nil {
		return err
	}
	app, there := snap.Application(j.plan.App)
	if !there {
		return nil
	}
	link, err := url.Parse(j.link)
	if err != nil {
		return err
	}
	d := &driven{room: rm, job: j, password: string(password), provider: map[string]bool{},
		typist:  rehearsal.Typist{Username: row.Username, Hosts: strings.Fields(row.Hosts), Plain: rm.Fetch.Plain()},
		browser: newBrowser(rm.inside, rm.base, rm.hosts(p, app, j.plan))}
	for _, h := range d.typist.Hosts {
		d.provider[h] = true
	}
	ctx, cancel := context.WithTimeout(ctx, longest)
	defer cancel()
	err = d.goes(ctx, rehearsal.Goes(link))
	if ctx.Err() != nil {
		err = rehearsal.Undriven(d.at(), "it took more than 90 seconds")
	}
	refused := d.refused(ctx, err)
	if refused == nil {
		return err
	}
	now := rm.Now().UTC()
	octets, _ := json.Marshal(refused) // always of what JSON has
	row.Refused, row.Finding = &now, string(octets)
	if failed := rm.Store.RefuseTestAccount(context.WithoutCancel(ctx), row); failed != nil {
		return failed
	}
	return err
}

// refused is why the account is not to be used any more, nil if it may be: the provider did not take it; or, in a run
// that nobody started, it kept the browser once it had the password. Whatever it showed then, it would be shown again
// and again.
func (d *driven) refused(ctx context.Context, err error) *finding.Finding {
	f := finding.Of(err)
	alone := d.job.by.Who == bySchedule || d.job.by.Who == byChange
	switch {
	case finding.Is(err, finding.TestAccountRefused):
		return f
	case f == nil || !d.typist.Typed || !alone:
		return nil
	}
	run, failed := d.room.Rehearsals.Get(context.WithoutCancel(ctx), d.job.run)
	if failed != nil || run.Seen.Stage != rehearsal.AtProvider {
		return nil
	}
	return finding.New(finding.TestAccountRefused, append([]finding.Evidence{finding.Fact("User name", d.typist.Username),
		finding.Fact("After the password", f.Title)}, f.Evidence...)...)
}

// hosts are those that a sign-in may pass through, and how each is asked.
func (rm *Room) hosts(p *federation.Provider, app *federation.Application,
	plan *federation.RehearsalPlan) map[string]*fetch.Fetcher {
	out := map[string]*fetch.Fetcher{}
	of := func(hosts []string, by *fetch.Fetcher) {
		for _, h := range hosts {
			if out[h] == nil {
				out[h] = by
			}
		}
	}
	of(append(addressHosts(p), plan.Hosts...), rm.Fetch.Trusting(p.Keeping))
	of(addressHosts(app), rm.Fetch.Trusting(app.Keeping))
	for _, address := range []string{app.OwnStart, plan.Opens} {
		if u, err := url.Parse(address); err == nil && u.Host != "" {
			of([]string{strings.ToLower(u.Host)}, rm.Fetch.Trusting(app.Keeping))
		}
	}
	return out
}

// driven is a run while it is gone through.
type driven struct {
	room     *Room
	job      *job
	password string
	typist   rehearsal.Typist
	browser  *browser
	provider map[string]bool // its hosts
	opened   bool            // the run was begun at the address that starts it
}

func (d *driven) at() *url.URL {
	if d.browser.last != nil {
		return d.browser.last
	}
	return d.room.base
}

// goes makes one move after another, until nothing more is to be done.
func (d *driven) goes(ctx context.Context, m rehearsal.Move) error {
	for {
		came, err := d.browser.goes(ctx, m, d.password)
		if err != nil {
			return err
		}
		d.typist.Typed = d.typist.Typed || m.Password != ""
		next, over, err := d.next(ctx, came)
		if err != nil || over {
			return err
		}
		m = next
	}
}

// next is what to do about a page, and whether that was the last one.
func (d *driven) next(ctx context.Context, came answer) (m rehearsal.Move, over bool, err error) {
	run, err := d.room.Rehearsals.Get(ctx, d.job.run)
	if err != nil || !run.Ended.IsZero() {
		return m, true, err
	}
	page, done := came.page, run.Seen.Stage == rehearsal.Done
	own, atProvider := d.browser.own(page.Address), d.provider[strings.ToLower(page.Address.Host)]
	switch {
	case own && page.Address.Path == "/rehearsal/started":
		return d.opens(page)
	case own && came.status >= 400:
		if run.Verdict.State == rehearsal.Waiting && len(run.Verdict.Findings) == 0 {
			return m, true, page.Stays()
		}
		return m, true, nil // it was refused, and is judged
	case own:
		if m, err = d.typist.Next(page); err != nil && done {
			return m, true, nil // it has its verdict, and leads nowhere
		}
		return m, false, err
	case done:
		return m, true, d.arrived(ctx, run, came)
	case came.status >= 400 && !atProvider:
		return m, true, rehearsal.Undriven(page.Address, fmt.Sprintf("the application answers %d there: %s", came.status,
			finding.Clip(page.Text)))
	}
	if m, err = d.typist.Next(page); came.status >= 400 && finding.Is(err, finding.RehearsalUndriven) {
		return m, true, page.Stays()
	}
	if came.status >= 400 && err == nil && m.Password == "" {
		return m, true, page.Stays() // what it shows beside an error is not what goes on
	}
	return m, false, err
}

// opens goes to the address that starts a run which the gate cannot begin.
func (d *driven) opens(page rehearsal.Page) (m rehearsal.Move, over bool, err error) {
	to, err := url.Parse(d.job.plan.Opens)
	if err != nil || d.job.plan.Opens == "" || d.opened {
		return m, true, rehearsal.Undriven(page.Address,
			"it starts at the "+d.job.plan.Start+", and no address is on record that starts it there")
	}
	d.opened = true
	return rehearsal.Goes(to), false, nil
}

// arrived notes what the application answered to what it was given: an error is what it did, as a tester would say.
func (d *driven) arrived(ctx context.Context, run rehearsing.Run, came answer) error {
	if came.status < 400 || run.Seen.Result != crossing.Entered {
		return nil
	}
	d.room.Rehearsals.Also(ctx, run.About.Run, finding.New(finding.ApplicationRefuses,
		finding.Fact("Status", fmt.Sprint(came.status)), finding.Fact("Page", came.page.Where()),
		finding.Passing("It says", came.page.Text)), run.Seen.Trace)
	text := fmt.Sprintf("%d at %s: %s", came.status, came.page.Address.Path, came.page.Text)
	_, err := d.room.Rehearsals.Say(ctx, change.By{Who: himself}, d.job.run,
		rehearsal.Word{Symptom: rehearsal.ErrorText, Text: finding.ClipTo(text, 600)})
	return err
}

// run goes through a run from its link to its end.
func (rm *Room) run(ctx context.Context, j *job) (out rehearsing.Run, err error) {
	stuck := rm.drive(ctx, j)
	f := finding.Of(stuck)
	if f == nil && stuck != nil {
		rm.Log.Error("a rehearsal stopped by the gate's own fault", "rehearsal", j.plan.Name, "error", stuck)
		f = finding.New(finding.GateFailure)
	}
	ctx = context.WithoutCancel(ctx)
	if f != nil {
		if err := rm.Rehearsals.Stuck(ctx, j.run, f); err != nil {
			rm.Log.Error("why a rehearsal got stuck cannot be kept", "run", j.run, "error", err)
		}
	}
	if out, err = rm.Rehearsals.End(ctx, j.run); err != nil {
		return out, err
	}
	return out, rm.turned(ctx, out)
}

// turned notes that a rehearsal began to fail, or passes again.
func (rm *Room) turned(ctx context.Context, run rehearsing.Run) error {
	row := store.TurnRow{At: rm.Now().UTC(), Rehearsal: string(run.Rehearsal), Application: string(run.About.App),
		State: string(run.Verdict.State), Run: run.ID}
	if len(run.Verdict.Findings) > 0 {
		row.Finding = string(run.Verdict.Findings[0].Code)
	}
	return rm.Store.Write(ctx, func(tx *store.Writing) error {
		_, err := rm.Store.Turn(tx, row)
		return err
	})
}
