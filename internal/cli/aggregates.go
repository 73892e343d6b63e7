package cli

import (
	"cmp"
	"context"
	"encoding/json"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
)

func (e *environment) aggregates() *ucli.Command {
	name := []string{"NAME"}
	kindFlag := &ucli.StringFlag{Name: "as", Usage: "what they become: provider or app"}
	ofAggregate := takes("aggregate", "")
	return &ucli.Command{Name: "aggregate", Usage: "metadata of whole federations", Commands: []*ucli.Command{
		{Name: "add", Usage: "take an aggregate in", ArgsUsage: "NAME [SETTING=VALUE …]", Metadata: takes("", "aggregate"),
			Flags: []ucli.Flag{metadataFlag}, Action: e.addAggregate},
		{Name: "update", Usage: "take the next edition of an aggregate in from a file", ArgsUsage: "NAME",
			Metadata: ofAggregate, Flags: []ucli.Flag{metadataFlag}, Action: e.begins(e.updateAggregate)},
		{Name: "refresh", Usage: "fetch an aggregate anew, and show what changed", ArgsUsage: "NAME", Metadata: ofAggregate,
			Action: e.begins(func(ctx context.Context, _ *ucli.Command, c *client.Client, name string) (api.Job, error) {
				return client.Call(ctx, c, api.RefreshAggregate, api.Name(name))
			})},
		{Name: "take", Usage: "make records of entities: those named, or all that match --search",
			ArgsUsage: "NAME [ENTITY-ID …]", Metadata: ofAggregate, Flags: []ucli.Flag{kindFlag, searchFlag,
				&ucli.BoolFlag{Name: "all", Usage: "all that have the role"},
				&ucli.StringFlag{Name: "provider", Usage: "tie applications to this provider"},
				&ucli.StringFlag{Name: "phase", Usage: "of the records that are made: live or paused; live if absent"},
				&ucli.StringFlag{Name: "name", Usage: "short name, of a single entity; made from its title if absent"},
				&ucli.BoolFlag{Name: "dry-run", Usage: "only tell what would be made"}, yesFlag},
			Action: e.takeAggregate},
		{Name: "search", Usage: "search the entities of an aggregate", ArgsUsage: "NAME [TEXT]", Metadata: ofAggregate,
			Flags: []ucli.Flag{
				&ucli.StringFlag{Name: "role", Usage: "provider or app"},
				&ucli.BoolFlag{Name: "broken", Usage: "those that cannot be used"},
				&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 50},
				&ucli.IntFlag{Name: "offset", Usage: "leave the first ones out"}},
			Action: e.searchAggregate},
		{Name: "list", Usage: "list aggregates", Flags: listFlags(), Action: e.action(nil, e.listAggregates)},
		{Name: "show", Usage: "show an aggregate", ArgsUsage: "NAME", Metadata: ofAggregate,
			Action: e.action(name, e.showAggregate)},
		{Name: "set", Usage: "change settings of an aggregate", ArgsUsage: "NAME SETTING=VALUE …",
			Metadata: takes("aggregate", "aggregate"), Action: e.setAggregate},
		{Name: "remove", Usage: "remove an aggregate; records taken from it stay", ArgsUsage: "NAME", Metadata: ofAggregate,
			Flags: []ucli.Flag{yesFlag}, Action: e.action(name, e.removeAggregate)},
	}}
}

// beginning is a command that begins a job for an aggregate.
type beginning func(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job, error)

// begins wraps a command that begins a job: it is followed to its end.
func (e *environment) begins(do beginning) ucli.ActionFunc {
	return e.action([]string{"NAME"}, func(ctx context.Context, cmd *ucli.Command, c *client.Client,
		args []string) error {
		j, err := do(ctx, cmd, c, args[0])
		return e.followed(ctx, cmd, c, j, err)
	})
}

func (e *environment) addAggregate(ctx context.Context, cmd *ucli.Command) error {
	names, words := split(cmd.Args().Slice())
	if len(names) != 1 {
		return &usageError{"give one name", "Call it as " + cmd.FullName() + " NAME [SETTING=VALUE …]; see --help."}
	}
	set, err := e.assign(settingList("aggregate"), words)
	if err != nil {
		return err
	}
	n := api.NewAggregate{Name: names[0]}
	octets, err := json.Marshal(set)
	if err == nil {
		err = json.Unmarshal(octets, &n.AggregateSettings)
	}
	if err != nil {
		return err
	}
	document, address, err := e.stream(cmp.Or(cmd.String("metadata"), n.Address))
	if err != nil {
		return err
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	if address != "" && n.Address != "" && address != n.Address {
		return &usageError{"two addresses are given", "Give the one to fetch it from, as --metadata or as address=."}
	}
	var j api.Job
	if n.Address = cmp.Or(n.Address, address); address != "" {
		j, err = client.Call(ctx, c, api.AddAggregate, api.Body(n))
	} else {
		defer document.Close()
		j, err = client.Upload(ctx, c, api.UploadAggregate, api.None{}, n, document)
	}
	return e.followed(ctx, cmd, c, j, err)
}

// followed waits for a job and shows what it came to.
func (e *environment) followed(ctx context.Context, cmd *ucli.Command, c *client.Client, j api.Job, err error) error {
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	return e.print(cmd, j, func(w io.Writer) { e.outcome(w, j.Report) })
}

func (e *environment) updateAggregate(ctx context.Context, cmd *ucli.Command, c *client.Client, name string) (api.Job,
	error) {
	document, address, err := e.stream(cmd.String("metadata"))
	if err != nil {
		return api.Job{}, err
	}
	if address != "" {
		return api.Job{}, &usageError{"an address is a setting of the aggregate",
			"Set it with innergate aggregate set " + name + " address=" + address + ", then refresh."}
	}
	defer document.Close()
	return client.Upload(ctx, c, api.UploadEdition, api.Name(name), nil, document)
}

func (e *environment) takeAggregate(ctx context.Context, cmd *ucli.Command) error {
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
		Provider: cmd.String("provider"), Phase: federation.Phase(cmd.String("phase"))}
	if n := cmd.String("name"); n != "" {
		t.Names = map[string]string{args[1]: n}
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	if stop, err := e.previewTake(ctx, cmd, c, args[0], &t); err != nil || stop {
		return err
	}
	j, err := client.Call(ctx, c, api.TakeEntities, api.To(args[0], t))
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	err = e.print(cmd, j, func(w io.Writer) { e.outcome(w, j.Report) })
	if err == nil && (len(j.Report.Taken) == 0 || slices.ContainsFunc(j.Report.Found, func(f api.CodeCount) bool {
		return f.Severity == finding.Error
	})) {
		return errFound
	}
	return err
}

// previewTake tells what taking entities over would make, and asks where they were
// not named one by one.
func (e *environment) previewTake(ctx context.Context, cmd *ucli.Command, c *client.Client, name string,
	t *api.TakeOver) (stop bool, err error) {
	if len(t.Entities) > 0 && !cmd.Bool("dry-run") {
		return false, nil
	}
	p, err := client.Call(ctx, c, api.PreviewTakeOver, api.To(name, *t))
	if err != nil {
		return true, err
	}
	what := fmt.Sprintf("%d %ss would be made, phase %s", p.New, p.Kind, p.Phase)
	if t.Provider != "" {
		what += ", tied to " + t.Provider
	}
	if p.Known > 0 {
		what += fmt.Sprintf("; %d are on record already and stay as they are", p.Known)
	}
	if p.New == 0 || cmd.Bool("dry-run") {
		return true, e.print(cmd, p, func(w io.Writer) {
			fmt.Fprintln(w, what)
			for _, id := range p.First {
				fmt.Fprintln(w, "  "+id)
			}
			if more := p.New - len(p.First); more > 0 {
				fmt.Fprintf(w, "  and %d more\n", more)
			}
		})
	}
	t.Digest = p.Digest
	return false, e.confirm(cmd, what)
}

func (e *environment) searchAggregate(ctx context.Context, cmd *ucli.Command) error {
	args := cmd.Args().Slice()
	if len(args) == 0 || len(args) > 2 {
		return &usageError{"name of the aggregate, and at most one text", "Call it as " + cmd.FullName() + " NAME [TEXT]"}
	}
	f := api.EntityFilter{Named: api.Name(args[0]), Limit: cmd.Int("limit"), Offset: cmd.Int("offset"),
		Search: strings.Join(args[1:], " "),
		Role:   map[string]string{"app": "application"}[cmd.String("role")]}
	if f.Role == "" {
		f.Role = cmd.String("role")
	}
	if cmd.Bool("broken") {
		f.State = "broken"
	}
	c, err := e.dial(cmd)
	if err != nil {
		return err
	}
	l, err := client.Call(ctx, c, api.ListEntities, f)
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, x := range l.Items {
			last := dash(strings.Join(x.Records, ", "))
			if x.Problem != nil {
				last = string(x.Problem.Code)
			}
			t.add("roles", strings.Join(x.Roles, ", "), "title", x.Title, "entity id!", x.EntityID,
				"on record", last)
		}
		e.tell(w, t, nothingOf(f.Search))
		listing{limit: f.Limit, offset: f.Offset}.rest(w, len(l.Items), l.Total)
	})
}

func nothingOf(search string) string {
	if search == "" {
		return "Nothing matches."
	}
	return fmt.Sprintf("Nothing matches %q.", search)
}

func (e *environment) listAggregates(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListAggregates, api.None{})
	if err != nil {
		return err
	}
	row := func(a api.Aggregate) []string {
		verified := "not verified"
		if a.Verified {
			verified = "verified"
		}
		return []string{a.Name, a.Title, fmt.Sprint(a.Entities), fmt.Sprint(a.Broken), verified, until(a.ValidUntil)}
	}
	return listAll(e, cmd, l.Items, columns("name!", "title", "entities", "broken", "signature", "valid until"), row,
		"No aggregate yet. Take one in: innergate aggregate add NAME --metadata FILE trustKey=@FILE")
}

func (e *environment) showAggregate(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	a, err := client.Call(ctx, c, api.ShowAggregate, api.Name(args[0]))
	if err != nil {
		return err
	}
	return e.print(cmd, a, func(w io.Writer) {
		rows := [][2]string{{"name", a.Name}, {"title", a.Title},
			{"entities", fmt.Sprintf("%d, %d of them broken", a.Entities, a.Broken)},
			{"size", fmt.Sprintf("%.1f MB", float64(a.Size)/1e6)},
			{"valid until", until(a.ValidUntil)}, {"taken in", local(a.TakenAt)}}
		switch {
		case a.Verified:
			rows = append(rows, [2]string{"signed", "by the trust key"})
		case a.SignedBy != "":
			rows = append(rows, [2]string{"signed", "by " + a.SignedBy + ", not vouched for"})
		}
		for _, k := range a.TrustKeys {
			rows = append(rows, [2]string{"trust key", k.Subject + ", SHA-256 " + k.SHA256})
		}
		if a.Settings.Address != "" {
			rows = append(rows, [2]string{"address", a.Settings.Address}, [2]string{"next refresh", local(a.Fresh.Next)})
		}
		fields(w, rows)
		e.outcome(w, &api.Report{Changes: a.Changes})
		for _, f := range a.Findings {
			e.told(w, f, string(f.Severity))
		}
	})
}

func (e *environment) removeAggregate(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	if err := e.confirm(cmd, "the aggregate "+args[0]+" would be removed; records taken from it stay"); err != nil {
		return err
	}
	if err := client.Do(ctx, c, api.RemoveAggregate, api.Name(args[0])); err != nil {
		return err
	}
	e.said("removed %s", args[0])
	l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: "aggregate", Name: args[0], Limit: 1})
	if err == nil && len(l.Items) > 0 {
		e.said("take it back: innergate history restore %d", l.Items[0].ID)
	}
	return nil
}

func until(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format(time.DateOnly) + ", " + days(t, time.Now())
}
