package cli

import (
	"context"
	"encoding/base64"
	"encoding/pem"
	"fmt"
	"io"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

var metadataFlag = &ucli.StringFlag{Name: "metadata", Usage: "metadata: a file, an address, or - for standard input"}
var titleFlag = &ucli.StringFlag{Name: "title", Usage: "what people read; taken from the metadata if absent"}
var searchFlag = &ucli.StringFlag{Name: "search", Usage: "part of a name, title or entity ID"}

// action wraps what every command on a gate begins with.
func (e *environment) action(want []string, do func(ctx context.Context, cmd *ucli.Command, c *client.Client,
	args []string) error) ucli.ActionFunc {
	return func(ctx context.Context, cmd *ucli.Command) error {
		args, err := names(cmd, want...)
		if err != nil {
			return err
		}
		c, err := e.gate(cmd)
		if err != nil {
			return err
		}
		return do(ctx, cmd, c, args)
	}
}

// sourceFlags are what the other side's values come in by.
func sourceFlags(more ...ucli.Flag) []ucli.Flag {
	return append([]ucli.Flag{metadataFlag,
		&ucli.StringFlag{Name: "from", Usage: "record whose document holds this role too, like provider/wrenmoor-staff"},
		&ucli.StringFlag{Name: "entity-id", Usage: "entity ID, typed by hand"},
		&ucli.StringFlag{Name: "certificate", Usage: "signing certificate: a file in PEM or DER"},
		&ucli.StringFlag{Name: "nameid-format", Usage: "NameID format it works with"},
		&ucli.BoolFlag{Name: "preview", Usage: "show what would be set or changed, and the findings; save nothing"},
	}, more...)
}

// startFlags are those of a new record.
func startFlags(more ...ucli.Flag) []ucli.Flag {
	return append(sourceFlags(titleFlag,
		&ucli.StringFlag{Name: "phase", Usage: "live or paused; live if absent, unless values are missing"},
		&ucli.BoolFlag{Name: "draft", Usage: "keep the record even if values are still missing"},
		&ucli.StringFlag{Name: "trust-key", Usage: "file with the certificate that must have signed the metadata"},
		&ucli.BoolFlag{Name: "approve-changes", Usage: "changes of keys, addresses or entity ID wait for approval"}), more...)
}

var (
	redirectFlag = &ucli.StringFlag{Name: "sso-redirect", Usage: "SingleSignOnService by HTTP-Redirect, typed by hand"}
	postFlag     = &ucli.StringFlag{Name: "sso-post", Usage: "SingleSignOnService by HTTP-POST, typed by hand"}
	acsFlag      = &ucli.StringFlag{Name: "acs", Usage: "AssertionConsumerService by HTTP-POST, typed by hand"}
)

// typedFlags are the flags for values typed by hand, by field.
var typedFlags = map[string]string{"entityId": "entity-id", "ssoRedirect": "sso-redirect", "ssoPost": "sso-post",
	"acs": "acs", "nameIdFormat": "nameid-format", "link": "address"}

var protocolFlag = &ucli.StringFlag{Name: "protocol",
	Usage: "what it speaks, like link for an application that is only a bookmark; see gate show"}
var addressFlag = &ucli.StringFlag{Name: "address", Usage: "where a link leads"}

// given reads what the other side handed over.
func (e *environment) given(cmd *ucli.Command) (g api.Given, err error) {
	g.Record = cmd.String("from")
	g.Typed = federation.Typed{}
	for field, flag := range typedFlags {
		if value := cmd.String(flag); value != "" {
			g.Typed[field] = value
		}
	}
	if file := cmd.String("certificate"); file != "" {
		octets, _, err := e.readDocument(file)
		if err != nil {
			return g, err
		}
		if g.Typed["certificate"] = string(octets); !utf8.Valid(octets) {
			g.Typed["certificate"] = base64.StdEncoding.EncodeToString(octets)
		}
	}
	metadata := cmd.String("metadata")
	if metadata == "" {
		if g.Record == "" && g.Typed.Empty() && !cmd.Bool("draft") {
			return g, &usageError{"--metadata is missing",
				"Give a file, an address, or - for standard input; or type values by hand, like --entity-id."}
		}
		return g, nil
	}
	octets, address, err := e.readDocument(metadata)
	if g.Address = address; err != nil || address != "" {
		return g, err
	}
	if utf8.Valid(octets) {
		g.Metadata = string(octets)
	} else {
		g.MetadataBase64 = base64.StdEncoding.EncodeToString(octets)
	}
	return g, nil
}

// start reads what a new record begins with.
func (e *environment) start(cmd *ucli.Command) (s api.Start, err error) {
	if s.Given, err = e.given(cmd); err != nil {
		return s, err
	}
	s.Draft, s.ApproveChanges, s.Phase = cmd.Bool("draft"), cmd.Bool("approve-changes"),
		federation.Phase(cmd.String("phase"))
	if p := string(s.Phase); p != "" && !slices.Contains(federation.Phases, p) {
		return s, &usageError{fmt.Sprintf("there is no phase %q", p), "Use " + strings.Join(federation.Phases, " or ") + "."}
	}
	s.TrustKey, err = e.pemFile(cmd.String("trust-key"))
	return s, err
}

// pemFile reads a certificate from a file, if one is named.
func (e *environment) pemFile(file string) (string, error) {
	if file == "" {
		return "", nil
	}
	octets, _, err := e.readDocument(file)
	if err == nil && !utf8.Valid(octets) {
		octets = pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: octets})
	}
	return string(octets), err
}

// added says what to do next with a new record.
func added(w io.Writer, kind, name, entityID string, missing []string, otherRole bool) {
	command := map[string]string{"provider": "provider", "application": "app"}[kind]
	if len(missing) > 0 {
		fmt.Fprintf(w, "kept %s unfinished; still missing from its administrator: %s\n", name, strings.Join(missing, ", "))
		fmt.Fprintf(w, "next: innergate %s update %s --metadata FILE, then innergate %s set %s phase=live\n", command, name,
			command, name)
		return
	}
	fmt.Fprintf(w, "added %s, %s\n", name, entityID)
	if otherRole {
		other := map[string]string{"provider": "app", "application": "provider"}[kind]
		fmt.Fprintf(w, "its metadata holds the other role as well: innergate %s add NAME --from %s/%s\n", other, kind, name)
	}
	fmt.Fprintf(w, "next: give the other side what it needs, innergate %s exchange %s\n", command, name)
}

// knownAs is what people know the other side by: its identity, else its address.
func knownAs(r api.Record) string {
	if r.EntityID == "" && len(r.Endpoints) > 0 {
		return r.Endpoints[0].Location
	}
	return r.EntityID
}

// preview shows what would be set.
func (e *environment) preview(w io.Writer, p api.Preview) {
	verb := "would be added"
	if p.Existing {
		verb = "would change"
	}
	fields(w, [][2]string{{p.Kind, p.Name + ", which " + verb}, {"title", p.Title}, {"entity ID", dash(p.EntityID)}})
	if len(p.Missing) > 0 {
		fmt.Fprintf(w, "still missing from the %s's administrator: %s\n", p.Kind, strings.Join(p.Missing, ", "))
	}
	if p.OtherRole {
		fmt.Fprintln(w, "the document holds the other role as well")
	}
	fmt.Fprintln(w)
	if p.Existing {
		e.differences(w, p.Differences)
	} else {
		rows := [][2]string{}
		for _, v := range p.Values {
			if v.Value != "" && v.Value != "false" {
				rows = append(rows, [2]string{v.Label, v.Value})
			}
		}
		fields(w, rows)
	}
	if len(p.Findings) > 0 {
		fmt.Fprintln(w)
	}
	for _, f := range p.Findings {
		e.told(w, f, string(f.Severity))
	}
}

// differences shows before and after, one below the other, with a mark under
// where they part.
func (e *environment) differences(w io.Writer, ds []federation.Difference) {
	if len(ds) == 0 {
		fmt.Fprintln(w, "nothing differs")
	}
	for _, d := range ds {
		fmt.Fprintln(w, d.Label)
		if d.Before != "" {
			fmt.Fprintf(w, "  before  %s\n", e.tint("91", d.Before))
		}
		if d.After != "" {
			fmt.Fprintf(w, "  after   %s\n", e.tint("92", d.After))
		}
		if d.Before != "" && d.After != "" {
			b, a := []rune(d.Before), []rune(d.After)
			n := 0
			for n < len(a) && n < len(b) && a[n] == b[n] {
				n++
			}
			if n < 88 {
				fmt.Fprintf(w, "          %s^\n", strings.Repeat(" ", n))
			}
		}
	}
}

// update takes newer values of the other side into a record.
func (e *environment) update(kind string, flags ...ucli.Flag) *ucli.Command {
	return &ucli.Command{Name: "update", Usage: "take newer metadata, or typed values, into a " + kind, ArgsUsage: "NAME",
		Flags: sourceFlags(flags...),
		Action: e.action([]string{"NAME"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				g, err := e.given(cmd)
				if err != nil {
					return err
				}
				var p api.Preview
				if kind == "provider" {
					if _, err = c.Provider(ctx, args[0]); err == nil {
						p, err = c.PreviewProvider(ctx, api.NewProvider{Name: args[0], Start: api.Start{Given: g}})
					}
				} else if _, err = c.Application(ctx, args[0]); err == nil {
					p, err = c.PreviewApplication(ctx, api.NewApplication{Name: args[0], Start: api.Start{Given: g}})
				}
				if err != nil {
					return err
				}
				if !cmd.Bool("preview") {
					g.Expect = p.Document
					if err := c.Retake(ctx, kind, args[0], api.Retake{Revision: p.Revision, Given: g}); err != nil {
						return err
					}
				}
				return e.print(cmd, p, func(w io.Writer) {
					e.preview(w, p)
					if !cmd.Bool("preview") {
						fmt.Fprintf(w, "\nchanged %s; it acts from the next request on\n", args[0])
					}
				})
			})}
}

func (e *environment) providers() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "provider", Usage: "identity providers", Commands: []*ucli.Command{
		{Name: "add", Usage: "add a provider from its metadata", ArgsUsage: "NAME", Flags: startFlags(redirectFlag, postFlag,
			&ucli.BoolFlag{Name: "allow-unsolicited", Usage: "accept answers that nobody asked for"}),
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				n := api.NewProvider{Name: args[0], Title: cmd.String("title"), AllowUnsolicited: cmd.Bool("allow-unsolicited")}
				var err error
				if n.Start, err = e.start(cmd); err != nil {
					return err
				}
				if cmd.Bool("preview") {
					p, err := c.PreviewProvider(ctx, n)
					if err != nil {
						return err
					}
					return e.print(cmd, p, func(w io.Writer) { e.preview(w, p) })
				}
				p, err := c.AddProvider(ctx, n)
				if err != nil {
					return err
				}
				return e.print(cmd, p, func(w io.Writer) {
					added(w, "provider", p.Name, knownAs(p.Record), p.Missing, p.Taken.OtherRole)
				})
			})},
		{Name: "list", Usage: "list providers", Flags: []ucli.Flag{searchFlag},
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := c.Providers(ctx, cmd.String("search"))
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, p := range l.Items {
						rows = append(rows, []string{state(p), p.Name, p.Title, p.Protocol, dash(p.EntityID), expiry(p.Ends)})
					}
					e.table(w, []string{"state", "name", "title", "protocol", "entity id", "certificate ends"}, []int{2}, rows,
						"No provider yet. Add one: innergate provider add NAME --metadata FILE")
				})
			})},
		{Name: "show", Usage: "show a provider", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				p, err := c.Provider(ctx, args[0])
				if err != nil {
					return err
				}
				return e.print(cmd, p, func(w io.Writer) {
					rows := [][2]string{{"name", p.Name}, {"id", p.ID}, {"title", p.Title}, {"protocol", p.Protocol},
						{"entity ID", p.EntityID}, {"metadata from", p.Source}}
					rows = append(taken(rows, p.Missing, p.Taken), settingRows(p.Settings)...)
					e.object(w, rows, p.Record)
				})
			})},
		e.update("provider", redirectFlag, postFlag),
		e.exchange(func(ctx context.Context, c *client.Client, name string) (api.Sheet, error) {
			return c.ProviderSheet(ctx, name)
		}),
		e.set("provider", func(ctx context.Context, c *client.Client, name string, edit edit) error {
			p, err := c.Provider(ctx, name)
			if err != nil {
				return err
			}
			changed, err := edit(p.Settings)
			if err == nil {
				_, err = c.ChangeProvider(ctx, name, api.ProviderChange{Revision: p.Revision, Settings: changed})
			}
			return err
		}),
		{Name: "remove", Usage: "remove a provider", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				was, err := c.Provider(ctx, args[0])
				if err != nil {
					return err
				}
				if err := c.RemoveProvider(ctx, args[0]); err != nil {
					return err
				}
				fmt.Fprintln(e.out, "removed "+args[0])
				fmt.Fprintln(e.out, "whom it let in is nobody to another provider under this name, until it is restored from the history, or their links are carried over: innergate person carry "+was.ID+" NAME --preview")
				return nil
			})},
	}}
}

func (e *environment) applications() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "app", Usage: "applications", Commands: []*ucli.Command{
		{Name: "add", Usage: "add an application from its metadata, or a link from its address", ArgsUsage: "NAME",
			Flags: startFlags(acsFlag, protocolFlag, addressFlag,
				&ucli.StringFlag{Name: "provider", Usage: "tie it to this provider; without, the routing decides"},
				&ucli.BoolFlag{Name: "own-face", Usage: "give it an identity provider face of its own"},
				&ucli.StringFlag{Name: "own-hosts", Usage: "hosts it owns beside that of its entity ID"},
				&ucli.StringFlag{Name: "own-start", Usage: "address of its own start, if it accepts only sign-ins it started"}),
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				n := api.NewApplication{Name: args[0], Protocol: cmd.String("protocol"), Title: cmd.String("title"),
					Provider: cmd.String("provider"), OwnStart: cmd.String("own-start"), OwnHosts: cmd.String("own-hosts"),
					OwnFace: cmd.Bool("own-face")}
				var err error
				if n.Start, err = e.start(cmd); err != nil {
					return err
				}
				if cmd.Bool("preview") {
					p, err := c.PreviewApplication(ctx, n)
					if err != nil {
						return err
					}
					return e.print(cmd, p, func(w io.Writer) { e.preview(w, p) })
				}
				a, err := c.AddApplication(ctx, n)
				if err != nil {
					return err
				}
				return e.print(cmd, a, func(w io.Writer) {
					added(w, "application", a.Name, knownAs(a.Record), a.Missing, a.Taken.OtherRole)
				})
			})},
		{Name: "list", Usage: "list applications", Flags: []ucli.Flag{searchFlag},
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := c.Applications(ctx, cmd.String("search"))
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, a := range l.Items {
						provider := a.Provider
						if provider == "" {
							provider = "routed"
						}
						rows = append(rows, []string{state(a), a.Name, a.Title, a.Protocol, provider, dash(a.EntityID)})
					}
					e.table(w, []string{"state", "name", "title", "protocol", "provider", "entity id"}, []int{2, 4}, rows,
						"No application yet. Add one: innergate app add NAME --metadata FILE")
				})
			})},
		{Name: "show", Usage: "show an application", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				a, err := c.Application(ctx, args[0])
				if err != nil {
					return err
				}
				return e.print(cmd, a, func(w io.Writer) {
					provider := a.Provider
					if provider == "" {
						provider = "decided by the routing"
					}
					rows := [][2]string{{"name", a.Name}, {"id", a.ID}, {"title", a.Title}, {"protocol", a.Protocol},
						{"entity ID", dash(a.EntityID)}, {"metadata from", a.Source}, {"provider", provider},
						{"start at the gate", a.Open}}
					rows = append(taken(rows, a.Missing, a.Taken), settingRows(a.Settings)...)
					e.object(w, rows, a.Record)
				})
			})},
		e.update("application", acsFlag, addressFlag),
		e.exchange(func(ctx context.Context, c *client.Client, name string) (api.Sheet, error) {
			return c.ApplicationSheet(ctx, name)
		}),
		e.set("application", func(ctx context.Context, c *client.Client, name string, edit edit) error {
			a, err := c.Application(ctx, name)
			if err != nil {
				return err
			}
			changed, err := edit(a.Settings)
			if err == nil {
				_, err = c.ChangeApplication(ctx, name, api.ApplicationChange{Revision: a.Revision, Settings: changed})
			}
			return err
		}),
		{Name: "remove", Usage: "remove an application", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				if err := c.RemoveApplication(ctx, args[0]); err != nil {
					return err
				}
				fmt.Fprintln(e.out, "removed "+args[0])
				return nil
			})},
	}}
}

func expiry(ends time.Time) string {
	if ends.IsZero() {
		return "-"
	}
	return days(ends, time.Now())
}

// state is how a record stands, in a word.
func state(r api.Row) string {
	switch {
	case len(r.Missing) > 0:
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
	if t.Verified {
		rows = append(rows, [2]string{"signed", "by the trust key"})
	}
	if f := t.Fresh; !f.Checked.IsZero() && f.Next.Before(time.Now().AddDate(1, 0, 0)) {
		rows = append(rows, [2]string{"refreshed", fmt.Sprintf("%s, again %s", local(f.Checked), local(f.Next))})
	}
	return rows
}

// object shows what is known of the other side below what was decided.
func (e *environment) object(w io.Writer, rows [][2]string, r api.Record) {
	for _, ep := range r.Endpoints {
		rows = append(rows, [2]string{"address",
			strings.TrimSpace(ep.Location + "  " + ep.Binding[strings.LastIndex(ep.Binding, ":")+1:])})
	}
	for _, f := range r.Facts {
		rows = append(rows, [2]string{f.Label, f.Value})
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
		fmt.Fprintf(w, "\ncertificate for %s\n", use)
		fields(w, rows)
		for _, f := range c.Findings {
			fmt.Fprintf(w, "%s: %s. %s\n", f.Severity, f.Title, f.Remedy)
		}
	}
}

// exchange prints what the other side needs from the gate.
func (e *environment) exchange(get func(context.Context, *client.Client, string) (api.Sheet, error)) *ucli.Command {
	return &ucli.Command{Name: "exchange", Usage: "what the other side needs from the gate", ArgsUsage: "NAME",
		Flags: []ucli.Flag{
			&ucli.BoolFlag{Name: "metadata", Usage: "print the metadata only"},
			&ucli.BoolFlag{Name: "certificate", Usage: "print the certificate in PEM only"},
		}, Action: e.action([]string{"NAME"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				s, err := get(ctx, c, args[0])
				if err != nil {
					return err
				}
				switch {
				case cmd.Bool("metadata") && s.Metadata == "":
					return &usageError{"there is no metadata about the gate for it", "Leave --metadata out."}
				case cmd.Bool("metadata"):
					_, err := io.WriteString(e.out, s.Metadata)
					return err
				case cmd.Bool("certificate") && len(s.Certificates) == 0:
					return &usageError{"there is no certificate: nothing is signed for it", "Leave --certificate out."}
				case cmd.Bool("certificate"):
					_, err := io.WriteString(e.out, s.Certificates[0].PEM)
					return err
				}
				return e.print(cmd, s, func(w io.Writer) {
					for _, v := range s.Values {
						fmt.Fprintf(w, "%s\n  %s\n  also called %s", v.Label, v.Value, strings.Join(v.AlsoCalled, ", "))
						if v.Hint != "" {
							fmt.Fprintf(w, "; %s", v.Hint)
						}
						fmt.Fprintln(w)
					}
					if s.MetadataAddress != "" {
						fmt.Fprintf(w, "Metadata\n  %s\n  or as a file: add --metadata\n", s.MetadataAddress)
					}
					e.certificates(w, s.Certificates)
				})
			})}
}

// keys are the gate's own keys and their roll-over.
func (e *environment) keys() *ucli.Command {
	show := func(cmd *ucli.Command, l api.List[api.Key]) error {
		return e.print(cmd, l.Items, func(w io.Writer) {
			rows := [][]string{}
			for _, k := range l.Items {
				rows = append(rows, []string{k.State, fmt.Sprint(k.ID), k.Purpose, k.Certificate.Key,
					days(k.Certificate.NotAfter, time.Now()), k.Certificate.SHA256})
			}
			e.table(w, []string{"state", "id", "purpose", "key", "ends", "sha-256"}, []int{5}, rows, "No key.")
		})
	}
	purpose := []string{"PURPOSE"}
	return &ucli.Command{Name: "key", Usage: "the gate's own keys", Commands: []*ucli.Command{
		{Name: "list", Usage: "list keys by purpose: idp signs answers, sp signs requests, enc is encrypted to",
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := c.Keys(ctx)
				if err != nil {
					return err
				}
				return show(cmd, l)
			})},
		{Name: "announce", Usage: "make the next key; metadata holds it from now on", ArgsUsage: "PURPOSE",
			Flags: []ucli.Flag{&ucli.StringFlag{Name: "kind", Usage: "rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384"}},
			Action: e.action(purpose, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				l, err := c.AnnounceKey(ctx, args[0], cmd.String("kind"))
				if err != nil {
					return err
				}
				return show(cmd, l)
			})},
		{Name: "switch", Usage: "make the announced key the current one", ArgsUsage: "PURPOSE",
			Action: e.action(purpose, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				l, err := c.SwitchKey(ctx, args[0])
				if err != nil {
					return err
				}
				return show(cmd, l)
			})},
		{Name: "remove", Usage: "remove a key that is not the current one", ArgsUsage: "ID", Action: e.action([]string{"ID"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				if err := c.RemoveKey(ctx, args[0]); err != nil {
					return err
				}
				fmt.Fprintln(e.out, "removed key "+args[0])
				return nil
			})},
	}}
}

// password reads a password from a file or standard input, never from the
// command line, where others could see it.
func (e *environment) password(cmd *ucli.Command) (string, error) {
	if cmd.String("password-file") == "" {
		return "", &usageError{"--password-file is missing", "Give a file that holds the password, or - for standard input."}
	}
	text, _, err := e.readDocument(cmd.String("password-file"))
	return string(trim(text)), err
}

func (e *environment) owners() *ucli.Command {
	name := []string{"USERNAME"}
	file := &ucli.StringFlag{Name: "password-file", Usage: "file with the password, - for standard input"}
	say := func(what string, do func(ctx context.Context, c *client.Client, name, password string) error, secret bool) ucli.ActionFunc {
		return e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
			password := ""
			if secret {
				var err error
				if password, err = e.password(cmd); err != nil {
					return err
				}
			}
			if err := do(ctx, c, args[0], password); err != nil {
				return err
			}
			fmt.Fprintln(e.out, what+" "+args[0])
			return nil
		})
	}
	return &ucli.Command{Name: "owner", Usage: "who may sign in to the console", Commands: []*ucli.Command{
		{Name: "add", Usage: "add an owner", ArgsUsage: "USERNAME", Flags: []ucli.Flag{file},
			Action: say("added", func(ctx context.Context, c *client.Client, name, password string) error {
				_, err := c.AddOwner(ctx, name, password)
				return err
			}, true)},
		{Name: "list", Usage: "list owners",
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := c.Owners(ctx)
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, o := range l.Items {
						rows = append(rows, []string{o.Username, local(o.Added)})
					}
					e.table(w, []string{"user name", "added"}, nil, rows,
						"No owner yet. Open the set-up link that the gate prints when it starts.")
				})
			})},
		{Name: "password", Usage: "give an owner a new password", ArgsUsage: "USERNAME", Flags: []ucli.Flag{file},
			Action: say("changed the password of", func(ctx context.Context, c *client.Client, name, password string) error {
				return c.SetPassword(ctx, name, password)
			}, true)},
		{Name: "remove", Usage: "remove an owner", ArgsUsage: "USERNAME",
			Action: say("removed", func(ctx context.Context, c *client.Client, name, _ string) error {
				return c.RemoveOwner(ctx, name)
			}, false)},
	}}
}

func (e *environment) tokens() *ucli.Command {
	name := []string{"NAME"}
	return &ucli.Command{Name: "token", Usage: "API tokens", Commands: []*ucli.Command{
		{Name: "add", Usage: "make a token; its secret is shown once", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				t, err := c.AddToken(ctx, args[0])
				if err != nil {
					return err
				}
				return e.print(cmd, t, func(w io.Writer) {
					fmt.Fprintf(w, "%s\n", t.Secret)
					fmt.Fprintf(e.err, "This is the only time the secret of %q is shown.\n", t.Name)
				})
			})},
		{Name: "list", Usage: "list tokens",
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				l, err := c.Tokens(ctx)
				if err != nil {
					return err
				}
				return e.print(cmd, l.Items, func(w io.Writer) {
					rows := [][]string{}
					for _, t := range l.Items {
						rows = append(rows, []string{t.Name, t.By, local(t.Added)})
					}
					e.table(w, []string{"name", "made by", "made at"}, []int{0}, rows, "No token yet.")
				})
			})},
		{Name: "remove", Usage: "remove a token; it stops working at once", ArgsUsage: "NAME",
			Action: e.action(name, func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				if err := c.RemoveToken(ctx, args[0]); err != nil {
					return err
				}
				fmt.Fprintln(e.out, "removed "+args[0])
				return nil
			})},
	}}
}
