package cli

import (
	"context"
	"fmt"
	"io"
	"strings"
	"time"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

var titleFlag = &ucli.StringFlag{Name: "title", Usage: "what people read; taken from the metadata if absent"}

var searchFlag = &ucli.StringFlag{Name: "search", Usage: "part of a name, title or entity ID"}

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

// doing is a command on a gate, with the arguments it wants.
type doing func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error

// action wraps what every command on a gate begins with.
func (e *environment) action(want []string, do doing) ucli.ActionFunc {
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
