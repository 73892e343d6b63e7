package cli

import (
	"context"
	"fmt"
	"io"
	"time"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
)

// follow waits for a job and shows how far it is, with its rate and what is left.
func (e *environment) follow(ctx context.Context, c *client.Client, j api.Job) (api.Job, error) {
	if !terminal(e.err) {
		return c.Wait(ctx, j, func(api.Job) {})
	}
	began := time.Now()
	defer fmt.Fprint(e.err, "\r\x1b[K")
	return c.Wait(ctx, j, func(j api.Job) {
		text := j.What
		spent := time.Since(began).Seconds()
		amount := func(n int64) string {
			if j.Unit == "octets" {
				return fmt.Sprintf("%.1f MB", float64(n)/1e6)
			}
			return fmt.Sprint(n)
		}
		if j.Total > 0 && j.Done > 0 && spent > 0 {
			rate := float64(j.Done) / spent
			text += fmt.Sprintf("  %s of %s, %s a second, %.0f s left", amount(j.Done), amount(j.Total), amount(int64(rate)),
				float64(j.Total-j.Done)/rate)
		}
		fmt.Fprint(e.err, "\r\x1b[K")
		fmt.Fprint(&shown{w: e.err}, shorten(text, lineWidth(e.err)-1))
	})
}

// outcome shows what a job has changed, and what it refused.
func (e *environment) outcome(w io.Writer, r *api.Report) {
	if r == nil {
		return
	}
	if r.Entities > 0 {
		fmt.Fprintf(w, "%d entities, %d of them cannot be used\n", r.Entities, r.Broken)
	}
	if c := r.Changes; c != nil {
		fmt.Fprintf(w, "since the edition before: %d came, %d went, %d changed\n", c.Added, c.Removed, c.Changed)
		for _, part := range []struct {
			word string
			ids  []string
		}{{"came", c.AddedIDs}, {"went", c.GoneIDs}, {"changed", c.OtherIDs}} {
			for _, id := range part.ids[:min(len(part.ids), 20)] {
				fmt.Fprintf(w, "  %-8s %s\n", part.word, id)
			}
		}
	}
	for _, x := range r.Records {
		e.refreshed(w, x)
	}
	if len(r.Taken) > 0 {
		var t table
		for _, x := range r.Taken[:min(len(r.Taken), 50)] {
			t.add("added", x.Kind, "name!", x.Name, "entity id!", x.EntityID)
		}
		e.tell(w, t, "")
		if len(r.Taken) > 50 {
			fmt.Fprintf(w, "and %d more; all with --output json\n", len(r.Taken)-50)
		}
	}
	if len(r.Found) > 0 {
		fmt.Fprintln(w, "\nfound on them")
		var t table
		for _, f := range r.Found {
			t.add("severity", string(f.Severity), "code!", string(f.Code), "records!", fmt.Sprint(f.Records),
				"what is wrong", f.Title)
		}
		e.tell(w, t, "")
	}
	if r.RefusedN > 0 {
		if r.Entities > 0 || len(r.Taken) > 0 {
			fmt.Fprintln(w)
		}
		fmt.Fprintf(w, "%d refused\n", r.RefusedN)
		for _, x := range r.Refused[:min(len(r.Refused), 50)] {
			fmt.Fprintf(w, "  %s\n    %s [%s]\n", dash(x.EntityID), x.Finding.Title, x.Finding.Code)
			for _, ev := range x.Finding.Evidence {
				if ev.Label == "Near to it" {
					fmt.Fprintf(w, "    did you mean %s?\n", ev.Found)
				}
			}
		}
	}
	if r.Change > 0 && !e.quiet {
		fmt.Fprintln(w, backTo(r.Change))
	}
}
