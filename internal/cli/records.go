package cli

import (
	"context"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/app"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// kindOf is a kind of records, and how the command line calls it.
type kindOf struct {
	kind, command string
	aliases       []string
	what          string // several of them
	other         string // command of the other kind
}

var (
	ofProvider    = kindOf{kind: "provider", command: "provider", what: "identity providers", other: "app"}
	ofApplication = kindOf{kind: "application", command: "app", aliases: []string{"application"}, what: "applications",
		other: "provider"}
)

// searchFlag narrows lists of records.
var searchFlag = &ucli.StringFlag{Name: "search", Usage: "part of a name, title or identity"}

// records are the commands for one kind of records.
func (e *environment) records(k kindOf) *ucli.Command {
	name := []string{"NAME"}
	add := []ucli.Flag{&ucli.BoolFlag{Name: "draft", Usage: "keep the record even if values are still missing"},
		&ucli.StringFlag{Name: "protocol",
			Usage: "what it speaks, as gate show lists it; with --help, only its options are listed"},
		&ucli.StringFlag{Name: "title", Usage: "the setting title"}, &ucli.StringFlag{Name: "phase",
			Usage: "the setting phase"}}
	if k.kind == "application" {
		add = append(add, &ucli.StringFlag{Name: "provider", Usage: "the setting provider"})
	}
	if k.kind == "provider" {
		add = append(add, &ucli.StringFlag{Name: "identifier", Usage: "the setting identifier, of OAuth 2.0"},
			&ucli.StringFlag{Name: "scopes", Usage: "the setting scopes"})
	}
	more := []*ucli.Command{}
	if k.kind == "application" {
		more = e.clients()
	}
	return &ucli.Command{Name: k.command, Aliases: k.aliases, Usage: k.what, Commands: append([]*ucli.Command{
		{Name: "add", Usage: "add " + federation.Article(k.kind) + " from its metadata, or from values typed by hand",
			ArgsUsage: "NAME [SETTING=VALUE …]", Metadata: takes("", k.kind), Flags: append(k.sourceFlags(), add...),
			Action: e.addRecord(k)},
		{Name: "update", Usage: "take newer metadata, or typed values, into " + federation.Article(k.kind),
			ArgsUsage: "NAME",
			Metadata:  takes(k.kind, ""), Flags: append(k.sourceFlags(), settingFlags(add)...),
			Action: e.action(name, e.updateRecord(k))},
		{Name: "list", Usage: "list " + k.what, Flags: listFlags(searchFlag), Action: e.action(nil, e.listRecords(k))},
		{Name: "show", Usage: "show " + federation.Article(k.kind) + ": whether it works, and everything known of it",
			ArgsUsage: "NAME",
			Metadata:  takes(k.kind, ""), Action: e.action(name, e.showRecord(k))},
		e.exchange(k),
		{Name: "set", Usage: "change settings of " + k.what + ", like phase=paused",
			ArgsUsage: "NAME … SETTING=VALUE …", Metadata: takes(k.kind, k.kind), Flags: manyFlags(),
			Action: e.setRecords(k, nil)},
		{Name: "pause", Usage: "let nobody pass, and change nothing else", ArgsUsage: "NAME …", Metadata: takes(k.kind, ""),
			Flags: manyFlags(), Action: e.setRecords(k, []string{"phase=paused"})},
		{Name: "resume", Usage: "go back to the phase and the cohort of before", ArgsUsage: "NAME …",
			Metadata: takes(k.kind, ""), Flags: manyFlags(),
			Action: e.setRecords(k, []string{"phase=before"})},
		e.rollout(k),
		{Name: "remove", Usage: "remove " + k.what, ArgsUsage: "NAME …", Metadata: takes(k.kind, ""), Flags: manyFlags(),
			Action: e.removeRecords(k)},
	}, more...)}
}

func (e *environment) addRecord(k kindOf) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		names, words := split(cmd.Args().Slice())
		if len(names) != 1 {
			return &usageError{"give one name", "Call it as " + cmd.FullName() + " NAME [SETTING=VALUE …]; see --help."}
		}
		for _, option := range standIn {
			if v := cmd.String(option); v != "" {
				words = append(words, option+"="+v)
			}
		}
		settings, err := e.assign(settingList(k.kind), words)
		if err != nil {
			return err
		}
		n := api.NewRecord{Name: names[0], Protocol: cmd.String("protocol"), Settings: settings, Draft: cmd.Bool("draft")}
		if n.Given, err = e.given(cmd, k); err != nil {
			return err
		}
		c, err := e.dial(cmd)
		if err != nil {
			return err
		}
		if cmd.Bool("preview") {
			p, err := client.Call(ctx, c, api.RecordsOf(k.kind).Preview, api.Body(n))
			if err != nil {
				return e.ofFile(cmd, err)
			}
			return worst(e.print(cmd, p, func(w io.Writer) { e.preview(w, p) }), p.Findings)
		}
		r, err := client.Call(ctx, c, api.RecordsOf(k.kind).Add, api.Body(n))
		if err != nil {
			return e.ofFile(cmd, err)
		}
		var whole any = r
		if k.kind == "provider" {
			whole = api.Provider{Record: r.Record}
		}
		return e.done(ctx, cmd, c, done{k, r.Record, whole, func(w io.Writer) { e.added(w, k, r) }})
	}
}

// done is a record that was added or changed.
type done struct {
	kind   kindOf
	record api.Record
	whole  any // as scripts get it
	what   func(io.Writer)
}

// done prints it, its findings, and how to take the change back; the exit status
// tells of findings that are errors.
func (e *environment) done(ctx context.Context, cmd *ucli.Command, c *client.Client, d done) error {
	back := e.back(ctx, c, d.kind.kind, d.record.Name, d.record.Revision)
	err := e.print(cmd, d.whole, func(w io.Writer) {
		if !e.quiet {
			d.what(w)
		}
		e.founds(w, d.record.Standing.Findings)
		if back != "" && !e.quiet {
			fmt.Fprintln(w, back)
		}
	})
	return worst(err, plain(d.record.Standing.Findings))
}

// worst has the exit status tell of findings that are errors.
func worst(err error, found []*finding.Finding) error {
	if err == nil && slices.ContainsFunc(found, func(f *finding.Finding) bool { return f.Severity == finding.Error }) {
		return errFound
	}
	return err
}

// plain are the findings without their marks.
func plain(found []api.Found) []*finding.Finding {
	out := []*finding.Finding{}
	for i := range found {
		out = append(out, &found[i].Finding)
	}
	return out
}

func (e *environment) founds(w io.Writer, found []api.Found) {
	for _, f := range plain(found) {
		e.told(w, f, string(f.Severity))
	}
}

// back says how to take the change back that made a revision.
func (e *environment) back(ctx context.Context, c *client.Client, kind, name string, revision int) string {
	l, err := client.Call(ctx, c, api.ListHistory, api.HistoryFilter{Kind: kind, Name: name, Limit: 5})
	if err != nil {
		return "" // the change is made all the same
	}
	for _, h := range l.Items {
		if h.Revision == revision {
			return backTo(h.ID)
		}
	}
	return ""
}

func backTo(change int64) string {
	return fmt.Sprintf("take it back: innergate history undo %d", change)
}

// added says what to do next with a new record.
func (e *environment) added(w io.Writer, k kindOf, a api.Application) {
	r := a.Record
	if len(r.Missing) > 0 {
		fmt.Fprintf(w, "kept %s unfinished; still missing from its administrator: %s\n", r.Name, strings.Join(r.Missing,
			", "))
		fmt.Fprintf(w, "next: innergate %s exchange %s shows what they need; what comes back goes in with innergate %s update %s, which opens it once nothing is missing\n",
			k.command, r.Name, k.command, r.Name)
		e.secret(w, a.ClientID, a.ClientSecret)
		return
	}
	fmt.Fprintf(w, "added %s, %s\n", r.Name, knownAs(r))
	e.secret(w, a.ClientID, a.ClientSecret)
	if r.Taken.OtherRole {
		fmt.Fprintf(w, "its metadata holds the other role as well: innergate %s add NAME --from %s/%s\n", k.other, k.kind,
			r.Name)
	}
	e.consequence(w, r.Consequence, "are")
	fmt.Fprintf(w, "next: give the other side what it needs, innergate %s exchange %s\n", k.command, r.Name)
}

// knownAs is what people know the other side by: its identity, else its address.
func knownAs(r api.Record) string {
	if r.EntityID == "" && len(r.Endpoints) > 0 {
		return r.Endpoints[0].Location
	}
	return r.EntityID
}

// updateRecord takes newer values of the other side into a record.
func (e *environment) updateRecord(k kindOf) doing {
	return func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		g, err := e.given(cmd, k)
		if err != nil {
			return err
		}
		if _, err = client.Call(ctx, c, api.RecordsOf(k.kind).Show, api.Name(args[0])); err != nil {
			return err
		}
		if err := e.alsoSet(ctx, cmd, c, k, args[0]); err != nil {
			return err
		}
		p, err := client.Call(ctx, c, api.RecordsOf(k.kind).Preview, api.Body(api.NewRecord{Name: args[0], Given: g}))
		if err != nil {
			return e.ofFile(cmd, err)
		}
		if len(p.Choices) > 0 || cmd.Bool("preview") {
			return worst(e.print(cmd, p, func(w io.Writer) { e.preview(w, p) }), p.Findings)
		}
		g.Expect = p.Document
		r, err := client.Call(ctx, c, api.RecordsOf(k.kind).Retake, api.To(args[0],
			api.Retake{Revision: p.Revision, Given: g}))
		if err != nil {
			return e.ofFile(cmd, err)
		}
		if r.Revision == p.Revision {
			return worst(e.print(cmd, r, func(w io.Writer) {
				fmt.Fprintf(w, "nothing differs; %s stays at revision %d\n", r.Name, r.Revision)
				e.founds(w, r.Standing.Findings)
			}), plain(r.Standing.Findings))
		}
		return e.done(ctx, cmd, c, done{k, r, r, func(w io.Writer) {
			e.differences(w, p.Differences)
			fmt.Fprintf(w, "\nchanged %s; it acts from the next request on\n", args[0])
		}})
	}
}

// standIn are options that stand for settings.
var standIn = []string{"title", "phase", "provider", "identifier", "scopes"}

// settingFlags are those of options that stand for settings.
func settingFlags(add []ucli.Flag) (out []ucli.Flag) {
	for _, f := range add {
		if slices.Contains(standIn, f.Names()[0]) {
			out = append(out, f)
		}
	}
	return out
}

// alsoSet changes the settings that options of an update stand for.
func (e *environment) alsoSet(ctx context.Context, cmd *ucli.Command, c *client.Client, k kindOf, name string) error {
	words := []string{}
	for _, option := range standIn {
		if v := cmd.String(option); v != "" {
			words = append(words, option+"="+v)
		}
	}
	if len(words) == 0 || cmd.Bool("preview") {
		return nil
	}
	set, err := e.assign(settingList(k.kind), words)
	if err != nil {
		return err
	}
	m := api.Many{Kind: k.kind, Names: []string{name}, Set: set}
	p, err := client.Call(ctx, c, api.PreviewChanges, api.Body(m))
	if err == nil && len(p.Changes) > 0 {
		m.Digest = p.Digest
		_, err = client.Call(ctx, c, api.ChangeMany, api.Body(m))
	}
	return err
}

func (e *environment) listRecords(k kindOf) doing {
	cols := columns("state", "name!", "title", "protocol", "provider", "identity!", "ends")
	if k.kind == "provider" {
		cols = slices.Delete(cols, 4, 5)
	} else {
		cols = cols[:6]
	}
	row := func(r api.Row) []string {
		out := []string{state(r), r.Name, r.Title, r.Protocol}
		if k.kind == "provider" {
			return append(out, dash(r.EntityID), expiry(r.Ends))
		}
		provider := r.Provider
		if provider == "" {
			provider = "routed"
		}
		return append(out, provider, dash(r.EntityID))
	}
	return func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
		want, err := listed(cmd)
		if err != nil {
			return err
		}
		f := api.Listing{Search: cmd.String("search")}
		f.Limit, f.Offset = want.page()
		l, err := client.Call(ctx, c, api.RecordsOf(k.kind).List, f)
		if err != nil {
			return err
		}
		items, err := part(want, cols, l.Items, row, moments[api.Row]{
			"ends": func(r api.Row) time.Time { return r.Ends }})
		if err != nil {
			return err
		}
		return e.print(cmd, items, func(w io.Writer) {
			rows := [][]string{}
			for _, r := range items {
				rows = append(rows, row(r))
			}
			e.table(w, cols, rows, e.nothing(ctx, c, k, f.Search))
			want.rest(w, len(items), l.Total)
		})
	}
}

// nothing says why a list is empty, and what to do.
func (e *environment) nothing(ctx context.Context, c *client.Client, k kindOf, search string) string {
	if search == "" {
		return fmt.Sprintf("No %s yet. Add one: innergate %s add NAME --metadata FILE", k.kind, k.command)
	}
	say := fmt.Sprintf("Nothing matches %q.", search)
	l, err := client.Call(ctx, c, api.RecordsOf(k.kind).List, api.Listing{})
	if err != nil {
		return say
	}
	var words []string
	for _, r := range l.Items {
		words = append(words, r.Name, r.EntityID)
		words = append(words, strings.Fields(r.Title)...)
	}
	if near := nearword.Of(search, words); near != "" {
		say += fmt.Sprintf(" Did you mean %q?", near)
	}
	return say
}

func (e *environment) showRecord(k kindOf) doing {
	return func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
		a, err := client.Call(ctx, c, api.RecordsOf(k.kind).Show, api.Name(args[0]))
		if err != nil {
			return err
		}
		var whole any = a
		rows := [][2]string{{"standing", e.stands(a.Standing)}, {"name", a.Name}, {"title", a.Title}, {"id", a.ID},
			{"protocol", a.Protocol}, {app.IdentityWord(k.kind, a.Protocol), a.EntityID}, {"metadata from", a.Source}}
		if k.kind == "provider" {
			whole = api.Provider{Record: a.Record}
		} else {
			provider := a.Provider
			if provider == "" {
				provider = "decided by the routing"
			}
			if a.ClientID != "" {
				rows[5][0] = "client ID"
			}
			rows = append(rows, [2]string{"provider", provider}, [2]string{"start at the gate", a.Open})
		}
		return e.print(cmd, whole, func(w io.Writer) {
			e.object(w, append(taken(rows, a.Missing, a.Taken), settingRows(a.Settings)...), a.Record)
			e.standing(w, a.Standing)
		})
	}
}

// stands says in a line whether a record works.
func (e *environment) stands(s api.Standing) string {
	out := e.colour(string(s.State))
	for _, t := range []*api.TraceHead{s.LastSignIn, s.LastUnproved} {
		if t == nil {
			continue
		}
		out += fmt.Sprintf("; last sign-in %s %s, reference %s", t.Result, local(t.Started), t.ID)
		if t.Finding != "" {
			out += " (" + t.Finding + ")"
		}
		if t == s.LastUnproved {
			out += ", from a sender who was not verified"
		}
	}
	if s.LastSignIn == nil && s.LastUnproved == nil {
		out += "; nobody has signed in yet"
	}
	return out
}

// standing shows what is found on a record, and what waits.
func (e *environment) standing(w io.Writer, s api.Standing) {
	if p := s.Waiting; p != nil {
		fmt.Fprintf(w, "\nA change of its metadata waits for approval since %s\n", local(p.Since))
		e.differences(w, p.Differences)
		decideNext(w, p.Name, p.Digest)
	}
	if len(s.Findings) > 0 {
		fmt.Fprintln(w)
	}
	e.founds(w, s.Findings)
	e.acknowledgedOnes(w, s.Acknowledged)
}

func (e *environment) acknowledgedOnes(w io.Writer, all []api.Acknowledged) {
	for _, a := range all {
		fmt.Fprintf(w, "              known    %s [%s]\n                       until %s, says %s: %s\n", a.Title, a.Code,
			a.Until.Local().Format(time.DateOnly), a.Who, a.Remark)
	}
}

func expiry(ends time.Time) string {
	if ends.IsZero() {
		return "-"
	}
	return days(ends, time.Now())
}

// state is how a record stands, in a word.
func state(r api.Row) string {
	if len(r.Missing) > 0 {
		return "unfinished"
	}
	return r.Phase
}

// taken says how a record came in and how current it is.
func taken(rows [][2]string, missing []string, t api.Taken) [][2]string {
	if len(missing) > 0 {
		rows = append(rows, [2]string{"unfinished, missing", strings.Join(missing, ", ")})
	}
	if !t.ValidUntil.IsZero() {
		rows = append(rows, [2]string{"valid until", local(t.ValidUntil) + ", " + days(t.ValidUntil, time.Now())})
	}
	switch {
	case t.Verified:
		rows = append(rows, [2]string{"signed", "by the trust key"})
	case t.SignedBy != "":
		rows = append(rows, [2]string{"signed", "by " + t.SignedBy + ", not vouched for"})
	}
	for _, c := range t.TrustKeys {
		rows = append(rows, [2]string{"trust key", c.Subject + ", SHA-256 " + c.SHA256})
	}
	if f := t.Fresh; !f.Checked.IsZero() && f.Next.Before(time.Now().AddDate(1, 0, 0)) {
		rows = append(rows, [2]string{"refreshed", fmt.Sprintf("%s, again %s", local(f.Checked), local(f.Next))})
	}
	return rows
}

// object shows what is known of the other side below what was decided.
func (e *environment) object(w io.Writer, rows [][2]string, r api.Record) {
	for _, ep := range r.Endpoints {
		name := ep.Use
		if ep.Binding != "" {
			name += " by " + ep.Binding[strings.LastIndex(ep.Binding, ":")+1:]
		}
		rows = append(rows, [2]string{name, ep.Location})
	}
	for _, f := range r.Facts {
		rows = append(rows, [2]string{f.Name(), f.Value})
	}
	rows = append(rows, [2]string{"added", fmt.Sprintf("%s, revision %d", local(r.Added), r.Revision)})
	fields(w, rows)
	e.certificates(w, r.Certificates)
}

func (e *environment) certificates(w io.Writer, certs []api.Certificate) {
	for _, c := range certs {
		use := c.Use
		if use == "" {
			use = "signing and encryption"
		}
		rows := [][2]string{{"key", c.Key}}
		if c.SHA256 != "" {
			rows = append(rows, [2]string{"subject", c.Subject}, [2]string{"SHA-256", c.SHA256}, [2]string{"SHA-1", c.SHA1})
		}
		if !c.NotAfter.IsZero() {
			rows = append(rows, [2]string{"valid", fmt.Sprintf("%s to %s, ends %s", c.NotBefore.Format("2006-01-02"),
				c.NotAfter.Format("2006-01-02"), days(c.NotAfter, time.Now()))})
		}
		which := ""
		if c.Next {
			which = ", the next one: announced, and not in use yet"
		}
		what := "certificate"
		if c.SHA256 == "" {
			what = "key"
		}
		fmt.Fprintf(w, "\n%s for %s%s\n", what, use, which)
		fields(w, rows)
	}
}

// removeRecords removes records: those named, or all that match.
func (e *environment) removeRecords(k kindOf) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		names, words := split(cmd.Args().Slice())
		if len(words) > 0 {
			return &usageError{fmt.Sprintf("%q is no name", words[0]), "Settings are changed with innergate " + k.command +
				" set."}
		}
		return e.many(ctx, cmd, k, api.Many{Kind: k.kind, Names: names, Search: cmd.String("search"), All: cmd.Bool("all"),
			Remove: true})
	}
}

// doing is a command on a gate, with the arguments it wants.
type doing func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error

// action wraps what every command on a gate begins with.
func (e *environment) action(want []string, do doing) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		args, err := names(cmd, want...)
		if err != nil {
			return err
		}
		c, err := e.dial(cmd)
		if err != nil {
			return err
		}
		return do(ctx, cmd, c, args)
	}
}

// anyNumber is an action that takes any number of words.
func (e *environment) anyNumber(do doing) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		c, err := e.dial(cmd)
		if err != nil {
			return err
		}
		return do(ctx, cmd, c, cmd.Args().Slice())
	}
}
