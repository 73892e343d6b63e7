package cli

import (
	"context"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

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
		fmt.Fprintf(e.err, "\r\x1b[K%s", shorten(text, width))
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
		rows := [][]string{}
		for _, t := range r.Taken {
			rows = append(rows, []string{t.Kind, t.Name, t.EntityID})
		}
		e.table(w, []string{"added", "name", "entity id"}, []int{1, 2}, rows[:min(len(rows), 50)], "")
		if len(rows) > 50 {
			fmt.Fprintf(w, "and %d more; all with --output json\n", len(rows)-50)
		}
	}
	if r.RefusedN > 0 {
		fmt.Fprintf(w, "\n%d refused\n", r.RefusedN)
		for _, x := range r.Refused[:min(len(r.Refused), 50)] {
			fmt.Fprintf(w, "  %s\n    %s [%s]\n", dash(x.EntityID), x.Finding.Title, x.Finding.Code)
		}
	}
}

func (e *environment) aggregates() *ucli.Command {
	name := []string{"NAME"}
	runs := func(do func(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job, error)) ucli.ActionFunc {
		return e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
			j, err := do(ctx, cmd, c, args[0])
			if err == nil {
				j, err = e.follow(ctx, c, j)
			}
			if err != nil {
				return err
			}
			return e.print(cmd, j, func(w io.Writer) { e.outcome(w, j.Report) })
		})
	}
	kindFlag := &ucli.StringFlag{Name: "as", Usage: "what they become: provider or app"}
	return &ucli.Command{Name: "aggregate", Usage: "metadata of whole federations", Commands: []*ucli.Command{
		{Name: "add", Usage: "take an aggregate in", ArgsUsage: "NAME", Flags: []ucli.Flag{metadataFlag, titleFlag,
			&ucli.StringFlag{Name: "trust-key", Usage: "file with the certificate its publisher signs with"}},
			Action: runs(func(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job, error) {
				n := api.NewAggregate{Name: name}
				n.Title = cmd.String("title")
				var err error
				if n.TrustKey, err = e.pemFile(cmd.String("trust-key")); err != nil {
					return api.Job{}, err
				}
				document, address, err := e.stream(cmd.String("metadata"))
				if err != nil {
					return api.Job{}, err
				}
				if n.Address = address; address != "" {
					return c.AddAggregate(ctx, n)
				}
				defer document.Close()
				return c.UploadAggregate(ctx, n, document)
			})},
		{Name: "update", Usage: "take the next edition of an aggregate in from a file", ArgsUsage: "NAME",
			Flags: []ucli.Flag{metadataFlag},
			Action: runs(func(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job, error) {
				document, address, err := e.stream(cmd.String("metadata"))
				if err != nil {
					return api.Job{}, err
				}
				if address != "" {
					return api.Job{}, &usageError{"an address is a setting of the aggregate",
						"Set it with innergate aggregate set " + name + " address=" + address + ", then refresh."}
				}
				defer document.Close()
				return c.UploadEdition(ctx, name, document)
			})},
		{Name: "refresh", Usage: "fetch an aggregate anew, and show what changed", ArgsUsage: "NAME",
			Action: runs(func(ctx context.Context, _ *ucli.Command, c *client.Client, name string) (api.Job, error) {
				return c.RefreshAggregate(ctx, name)
			})},
		{Name: "take", Usage: "make records of entities: those named, or all that match --search",
			ArgsUsage: "NAME [ENTITY-ID …]", Flags: []ucli.Flag{kindFlag, searchFlag,
				&ucli.BoolFlag{Name: "all", Usage: "all that have the role"},
				&ucli.StringFlag{Name: "provider", Usage: "tie applications to this provider"},
				&ucli.StringFlag{Name: "name", Usage: "short name, of a single entity; made from its title if absent"}},
			Action: func(ctx context.Context, cmd *ucli.Command) error {
				args := cmd.Args().Slice()
				kind := map[string]string{"provider": "provider", "app": "application",
					"application": "application"}[cmd.String("as")]
				switch {
				case len(args) == 0:
					return &usageError{"name is missing", "Call it as " + cmd.FullName() + " NAME [ENTITY-ID …]"}
				case kind == "":
					return &usageError{fmt.Sprintf("--as is %q", cmd.String("as")), "Say what the entities become: provider or app."}
				case cmd.String("name") != "" && len(args) != 2:
					return &usageError{"--name is for a single entity", "Name one entity ID with it."}
				}
				t := api.TakeOver{Kind: kind, Entities: args[1:], Search: cmd.String("search"), All: cmd.Bool("all"),
					Provider: cmd.String("provider")}
				if n := cmd.String("name"); n != "" {
					t.Names = map[string]string{args[1]: n}
				}
				c, err := e.gate(cmd)
				if err != nil {
					return err
				}
				j, err := c.TakeOver(ctx, args[0], t)
				if err == nil {
					j, err = e.follow(ctx, c, j)
				}
				if err != nil {
					return err
				}
				err = e.print(cmd, j, func(w io.Writer) { e.outcome(w, j.Report) })
				if err == nil && len(j.Report.Taken) == 0 {
					return errFound
				}
				return err
			}},
		{Name: "search", Usage: "search the entities of an aggregate", ArgsUsage: "NAME [TEXT]", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "role", Usage: "provider or app"},
			&ucli.BoolFlag{Name: "broken", Usage: "those that cannot be used"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50}},
			Action: func(ctx context.Context, cmd *ucli.Command) error {
				args := cmd.Args().Slice()
				if len(args) == 0 || len(args) > 2 {
					return &usageError{"name of the aggregate, and at most one text", "Call it as " + cmd.FullName() + " NAME [TEXT]"}
				}
				f := client.EntityFilter{Limit: cmd.Int("limit"), Search: strings.Join(args[1:], " "),
					Role: map[string]string{"app": "application"}[cmd.String("role")]}
				if f.Role == "" {
					f.Role = cmd.String("role")
				}
				if cmd.Bool("broken") {
					f.State = "broken"
				}
				c, err := e.gate(cmd)
				if err != nil {
					return err
				}
				l, err := c.Entities(ctx, args[0], f)
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, x := range l.Items {
						roles := []string{}
						for _, r := range x.Roles {
							roles = append(roles, map[string]string{"IDPSSODescriptor": "provider", "SPSSODescriptor": "app"}[r])
						}
						last := dash(strings.Join(x.Records, ", "))
						if x.Problem != nil {
							last = string(x.Problem.Code)
						}
						rows = append(rows, []string{strings.Join(roles, ", "), x.Title, x.EntityID, last})
					}
					e.table(w, []string{"roles", "title", "entity id", "on record"}, []int{1, 2, 3}, rows, "Nothing matches.")
					if int(l.Total) > len(l.Items) {
						fmt.Fprintf(w, "%d of %d; more with --limit\n", len(l.Items), l.Total)
					}
				})
			}},
		{Name: "list", Usage: "list aggregates",
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := c.Aggregates(ctx)
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, a := range l.Items {
						verified := "not verified"
						if a.Verified {
							verified = "verified"
						}
						rows = append(rows, []string{a.Name, a.Title, fmt.Sprint(a.Entities), fmt.Sprint(a.Broken), verified,
							until(a.ValidUntil)})
					}
					e.table(w, []string{"name", "title", "entities", "broken", "signature", "valid until"}, []int{1}, rows,
						"No aggregate yet. Take one in: innergate aggregate add NAME --metadata FILE --trust-key FILE")
				})
			})},
		{Name: "show", Usage: "show an aggregate", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				a, err := c.Aggregate(ctx, args[0])
				if err != nil {
					return err
				}
				return e.print(cmd, a, func(w io.Writer) {
					rows := [][2]string{{"name", a.Name}, {"title", a.Title},
						{"entities", fmt.Sprintf("%d, %d of them broken", a.Entities, a.Broken)},
						{"size", fmt.Sprintf("%.1f MB", float64(a.Size)/1e6)},
						{"valid until", until(a.ValidUntil)}, {"taken in", local(a.TakenAt)}}
					if a.Settings.Address != "" {
						rows = append(rows, [2]string{"address", a.Settings.Address}, [2]string{"next refresh", local(a.Fresh.Next)})
					}
					fields(w, rows)
					e.outcome(w, &api.Report{Changes: a.Changes})
					for _, f := range a.Findings {
						e.told(w, f, string(f.Severity))
					}
				})
			})},
		e.set("aggregate", func(ctx context.Context, c *client.Client, name string, edit edit) error {
			a, err := c.Aggregate(ctx, name)
			if err == nil {
				err = over(&a.Settings, edit)
			}
			if err == nil {
				err = c.ChangeAggregate(ctx, name, api.AggregateChange{Revision: a.Revision, Settings: a.Settings})
			}
			return err
		}),
		{Name: "remove", Usage: "remove an aggregate; records taken from it stay", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, _ *ucli.Command, c *client.Client, args []string) error {
				if err := c.RemoveAggregate(ctx, args[0]); err != nil {
					return err
				}
				fmt.Fprintln(e.out, "removed "+args[0])
				return nil
			})},
	}}
}

func until(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format(time.DateOnly) + ", " + days(t, time.Now())
}

// stream opens what --metadata names, without reading it.
func (e *environment) stream(given string) (document io.ReadCloser, address string, err error) {
	switch {
	case given == "":
		return nil, "", &usageError{"--metadata is missing", "Give a file, an address, or - for standard input."}
	case given == "-":
		return io.NopCloser(e.in), "", nil
	case strings.HasPrefix(given, "http://"), strings.HasPrefix(given, "https://"):
		return nil, given, nil
	}
	f, err := os.Open(given)
	if err != nil {
		return nil, "", &usageError{"the file cannot be read: " + err.Error(),
			"Give an existing file, an address beginning with https://, or - for standard input."}
	}
	info, err := f.Stat()
	if err != nil || info.IsDir() {
		return nil, "", &usageError{given + " is a directory", "Give the document in it."}
	}
	if !terminal(e.err) {
		return f, "", nil
	}
	return &sending{Closer: f, file: f, total: info.Size(), began: time.Now(), out: e.err}, "", nil
}

// sending is a file on its way to the gate, which tells how far it is.
type sending struct {
	io.Closer
	file              io.Reader
	sent, told, total int64
	began             time.Time
	out               io.Writer
}

// Read tells of every megabyte or so.
func (s *sending) Read(b []byte) (int, error) {
	n, err := s.file.Read(b)
	if s.sent += int64(n); s.sent-s.told > 1<<20 || err != nil {
		s.told = s.sent
		rate := float64(s.sent) / max(time.Since(s.began).Seconds(), 0.001)
		fmt.Fprintf(s.out, "\r\x1b[Ksending  %.1f MB of %.1f MB, %.0f s left", float64(s.sent)/1e6, float64(s.total)/1e6,
			float64(s.total-s.sent)/max(rate, 1))
	}
	if err != nil {
		fmt.Fprint(s.out, "\r\x1b[K")
	}
	return n, err
}

// kindFlag tells records of the same name apart.
var kindFlag = &ucli.StringFlag{Name: "kind", Usage: "provider or app, where both have the name"}

// named finds the records that names stand for: kind and name each.
func (e *environment) named(ctx context.Context, cmd *ucli.Command, c *client.Client, names []string) ([][2]string,
	error) {
	kind := map[string]string{"": "", "provider": "provider", "app": "application", "application": "application"}
	want, ok := kind[cmd.String("kind")]
	if !ok {
		return nil, &usageError{fmt.Sprintf("there is no kind %q", cmd.String("kind")), "Use provider or app."}
	}
	l, err := c.Checks(ctx, client.CheckFilter{Names: names, All: true})
	if err != nil {
		return nil, err
	}
	var out [][2]string
	for _, x := range l.Items {
		if want == "" || x.Kind == want {
			out = append(out, [2]string{x.Kind, x.Name})
		}
	}
	return out, nil
}

func (e *environment) refresh() *ucli.Command {
	return &ucli.Command{Name: "refresh", Usage: "ask metadata addresses now, and show what differs",
		ArgsUsage: "[NAME …]", Flags: []ucli.Flag{kindFlag},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			args := cmd.Args().Slice()
			records, err := e.named(ctx, cmd, c, args)
			if err != nil {
				return err
			}
			out := []api.Refreshed{}
			failed := false
			for _, r := range records {
				x, err := c.Refresh(ctx, r[0], r[1])
				if p, ok := err.(*api.Problem); ok && p.Status == 409 && len(args) == 0 {
					continue // has no address of its own
				}
				if err != nil {
					return err
				}
				failed = failed || x.Outcome == "failed"
				out = append(out, x)
			}
			err = e.print(cmd, out, func(w io.Writer) {
				for _, x := range out {
					e.refreshed(w, x)
				}
				if len(out) == 0 {
					fmt.Fprintln(w, "No record has a metadata address.")
				}
			})
			if err == nil && failed {
				return errFound
			}
			return err
		}}
}

func (e *environment) refreshed(w io.Writer, x api.Refreshed) {
	fmt.Fprintf(w, "%-9s %s %s\n", e.colour(x.Outcome), x.Kind, x.Name)
	if len(x.Differences) > 0 {
		e.differences(w, x.Differences)
	}
	for _, f := range x.Findings {
		e.finding(w, f)
	}
	if x.Outcome == "waiting" {
		fmt.Fprintf(w, "next: innergate approve %s, or innergate decline %s\n", x.Name, x.Name)
	}
}

func (e *environment) waiting() *ucli.Command {
	return &ucli.Command{Name: "waiting", Usage: "changes of metadata that wait for approval",
		Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
			l, err := c.Waiting(ctx)
			if err != nil {
				return err
			}
			return e.print(cmd, l.Items, func(w io.Writer) {
				for _, p := range l.Items {
					fmt.Fprintf(w, "%s %s, since %s\n", p.Kind, p.Name, local(p.Since))
					e.differences(w, p.Differences)
				}
				if len(l.Items) == 0 {
					fmt.Fprintln(w, "Nothing waits.")
				}
			})
		})}
}

func (e *environment) decide(verb, usage string) *ucli.Command {
	return &ucli.Command{Name: verb, Usage: usage, ArgsUsage: "NAME", Flags: []ucli.Flag{kindFlag},
		Action: e.action([]string{"NAME"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				records, err := e.named(ctx, cmd, c, args)
				if err != nil {
					return err
				}
				if len(records) != 1 {
					return &usageError{fmt.Sprintf("%q names %d records", args[0], len(records)),
						"Say which with --kind provider or --kind app."}
				}
				if err := c.Decide(ctx, records[0][0], records[0][1], verb); err != nil {
					return err
				}
				fmt.Fprintf(e.out, "%s the change of %s\n", map[string]string{"approve": "approved", "decline": "declined"}[verb],
					args[0])
				return nil
			})}
}

func (e *environment) check() *ucli.Command {
	return &ucli.Command{Name: "check",
		Usage: "findings that can be known without a sign-in; exit status 3 if one is an error", ArgsUsage: "[NAME …]",
		Flags: []ucli.Flag{kindFlag,
			&ucli.BoolFlag{Name: "reach",
				Usage: "ask the addresses of the named records too: whether they answer, and their clocks"},
			&ucli.StringFlag{Name: "severity", Usage: "at least: error, warning or note", Value: "note"}},
		Action: func(ctx context.Context, cmd *ucli.Command) error {
			args := cmd.Args().Slice()
			if s := cmd.String("severity"); !slices.Contains([]string{"error", "warning", "note"}, s) {
				return &usageError{fmt.Sprintf("there is no severity %q", s), "Use error, warning or note."}
			}
			if cmd.Bool("reach") && len(args) == 0 {
				return &usageError{"--reach takes time and needs names", "Name the records whose addresses are to be asked."}
			}
			c, err := e.gate(cmd)
			if err != nil {
				return err
			}
			f := client.CheckFilter{Names: args, Severity: cmd.String("severity"), Reach: cmd.Bool("reach"), All: len(args) > 0}
			if k := cmd.String("kind"); k != "" {
				f.Kind = map[string]string{"provider": "provider", "app": "application", "application": "application"}[k]
			}
			l, err := c.Checks(ctx, f)
			if err != nil {
				return err
			}
			err = e.print(cmd, l, func(w io.Writer) {
				for _, x := range l.Items {
					fmt.Fprintf(w, "%s %s, %s\n", x.Kind, x.Name, x.Title)
					for _, f := range x.Findings {
						e.told(w, f, string(f.Severity))
					}
					if len(x.Findings) == 0 {
						fmt.Fprintln(w, "              ok       nothing found")
					}
				}
				fmt.Fprintf(w, "%d errors, %d warnings, %d notes\n", l.Counts["error"], l.Counts["warning"], l.Counts["note"])
			})
			if err == nil && l.Counts["error"] > 0 {
				return errFound
			}
			return err
		}}
}

func (e *environment) history() *ucli.Command {
	id := []string{"ID"}
	return &ucli.Command{Name: "history", Usage: "who changed what, when and why", Commands: []*ucli.Command{
		{Name: "list", Usage: "list changes, newest first", Flags: []ucli.Flag{
			&ucli.StringFlag{Name: "kind", Usage: "provider, application, aggregate, key, ranking, token or owner"},
			&ucli.StringFlag{Name: "name", Usage: "of this record"},
			&ucli.StringFlag{Name: "search", Usage: "part of a name, of who, what or why"},
			&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50}},
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				kind := cmd.String("kind")
				if kind == "app" {
					kind = "application"
				}
				l, err := c.History(ctx, client.HistoryFilter{Kind: kind, Name: cmd.String("name"), Search: cmd.String("search"),
					Limit: cmd.Int("limit")})
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, h := range l.Items {
						rows = append(rows, []string{fmt.Sprint(h.ID), brief(h.At, time.Now()), h.Who, h.What, h.Kind, h.Name,
							dash(h.Why)})
					}
					e.table(w, []string{"id", "when", "who", "what", "kind", "name", "why"}, []int{2, 5, 6}, rows,
						"No change matches.")
				})
			})},
		{Name: "show", Usage: "show one change, before and after", ArgsUsage: "ID",
			Action: e.action(id, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				r, err := c.Change(ctx, args[0])
				if err != nil {
					return err
				}
				return e.print(cmd, r, func(w io.Writer) {
					fields(w, [][2]string{{r.Kind, r.Name}, {"what", r.What}, {"who", r.Who}, {"when", local(r.At)},
						{"why", dash(r.Why)}, {"revision", fmt.Sprint(r.Revision)}})
					fmt.Fprintln(w)
					e.differences(w, r.Differences)
					if r.Restorable {
						fmt.Fprintf(w, "\nnext: innergate history restore %d would change %d values of the record as it is\n", r.ID,
							len(r.FromNow))
					}
				})
			})},
		{Name: "restore", Usage: "set a record back to what it was after a change", ArgsUsage: "ID",
			Action: e.action(id, func(ctx context.Context, _ *ucli.Command, c *client.Client, args []string) error {
				t, err := c.Restore(ctx, args[0])
				if err != nil {
					return err
				}
				fmt.Fprintf(e.out, "restored %s %s; it acts from the next request on\n", t.Kind, t.Name)
				return nil
			})},
	}}
}
