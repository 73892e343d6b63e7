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
	"innergate.example/innergate/internal/client"
)

// people is what the gate knows of people: their links to providers.
func (e *environment) people() *ucli.Command {
	return &ucli.Command{Name: "person", Usage: "people, and the providers that let them in",
		Commands: slices.Concat(e.persons(), e.roll(), []*ucli.Command{
			{Name: "links", Usage: "list links: a provider's name for a person", Flags: []ucli.Flag{
				&ucli.StringFlag{Name: "provider", Usage: "of this provider: its short name, or the ID of one that was removed"},
				&ucli.Int64Flag{Name: "person", Usage: "of the person with this number"},
				&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100},
				&ucli.StringFlag{Name: "after", Usage: "go on after the link with this key (see --output json)"}},
				Action: e.action(nil, e.listLinks)},
			{Name: "providers", Usage: "list the providers that people are linked to, also those that were removed",
				Action: e.action(nil, e.listLinkProviders)},
			{Name: "carry", Usage: "let the people of one provider in by another too", ArgsUsage: "FROM TO",
				Description: "FROM is a short name, or the ID of a provider that was removed. Look at --preview first: it prints the digest to carry over with.",
				Flags: []ucli.Flag{
					&ucli.BoolFlag{Name: "preview", Usage: "only tell what would be"},
					&ucli.StringFlag{Name: "digest", Usage: "of the preview that was looked at"}},
				Action: e.action([]string{"FROM", "TO"}, e.carryLinks)},
			{Name: "subjects", Usage: "list the lasting names by which an application knows people", ArgsUsage: "APPLICATION",
				Flags: []ucli.Flag{
					&ucli.IntFlag{Name: "limit", Usage: "at most so many", Value: 100},
					&ucli.Int64Flag{Name: "after", Usage: "go on after the person with this number"}},
				Action: e.action([]string{"APPLICATION"}, e.listSubjects)},
			{Name: "import-subjects", Usage: "have an application go on to know people by the values it knows them by",
				ArgsUsage: "APPLICATION FILE",
				Description: "FILE is CSV as any program writes it, with the headings provider, name, value and, if wanted, format; JSON, an array of\n" +
					"objects with these members; or - for standard input. " +
					"Look at --preview first: it prints the digest to import with. All lines are taken, or none.",
				Flags: []ucli.Flag{
					&ucli.BoolFlag{Name: "replace", Usage: "values that people have there already, too"},
					&ucli.BoolFlag{Name: "preview", Usage: "only tell what would be"},
					&ucli.StringFlag{Name: "digest", Usage: "of the preview that was looked at"}},
				Action: e.action([]string{"APPLICATION", "FILE"}, e.importSubjects)},
		})}
}

func (e *environment) listLinks(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	if cmd.IsSet("person") && cmd.Int64("person") < 1 {
		return &usageError{fmt.Sprintf("--person: there is no person %d", cmd.Int64("person")),
			"People are numbered from 1."}
	}
	l, err := client.Call(ctx, c, api.ListLinks, api.LinkFilter{Provider: cmd.String("provider"),
		Person: cmd.Int64("person"),
		Limit:  cmd.Int("limit"), After: cmd.String("after")})
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		e.linkTable(w, l.Items, "Nobody is linked so.")
		if n := int64(len(l.Items)); n < l.Total {
			fmt.Fprintf(w, "\n%d of %d; for the next ones add --after %s\n", n, l.Total, l.Items[n-1].Key)
		}
	})
}

func (e *environment) linkTable(w io.Writer, links []api.Link, empty string) {
	var t table
	for _, k := range links {
		name, format := "not kept: made by an earlier build", "-"
		if s := k.Subject; s != nil {
			name, format = s.Value, dash(s.Format[strings.LastIndex(s.Format, ":")+1:])
		}
		added := "-"
		if !k.Added.IsZero() {
			added = brief(k.Added, time.Now())
		}
		t.add("person!", fmt.Sprint(k.Person), "provider", linkName(k.Provider), "name!", name,
			"format", format, "linked@", added)
	}
	e.tell(w, t, empty)
}

// linkName is how a provider is named that may be gone.
func linkName(p api.LinkProvider) string {
	if p.Removed.IsZero() && p.Name != "" {
		return p.Name
	}
	return dash(p.Name) + " (removed)"
}

func (e *environment) listLinkProviders(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
	l, err := client.Call(ctx, c, api.ListLinkProviders, api.None{})
	if err != nil {
		return err
	}
	return e.print(cmd, l.Items, func(w io.Writer) {
		var t table
		for _, p := range l.Items {
			removed := "-"
			if !p.Removed.IsZero() {
				removed = brief(p.Removed, time.Now())
			}
			t.add("provider!", dash(p.Name), "id!", p.ID, "links", fmt.Sprint(p.Links),
				"people", fmt.Sprint(p.People), "removed", removed)
		}
		e.tell(w, t, "Nobody is linked to a provider yet.")
	})
}

// looked sees that something is only looked at, or was: what is done is what was seen.
func looked(preview bool, digest string) error {
	if preview || digest != "" {
		return nil
	}
	return &usageError{"--digest is missing: what is done is what was looked at",
		"See it with --preview first; that prints the digest."}
}

func (e *environment) carryLinks(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	in := api.Carry{From: args[0], To: args[1], Preview: cmd.Bool("preview"), Digest: cmd.String("digest")}
	if err := looked(in.Preview, in.Digest); err != nil {
		return err
	}
	out, err := client.Call(ctx, c, api.CarryLinks, api.Body(in))
	if err != nil {
		return err
	}
	return e.print(cmd, out, func(w io.Writer) {
		said := "carried over"
		if out.Preview {
			said = "to carry over"
		}
		fields(w, [][2]string{{"from", linkName(out.From)}, {"to", linkName(out.To)}, {said, fmt.Sprint(out.Links)},
			{"there already", fmt.Sprint(out.Already)},
			{"without a name", fmt.Sprint(out.Unnamed)}, {"of somebody else", fmt.Sprint(len(out.Taken))}})
		if len(out.Taken) > 0 {
			fmt.Fprintln(w, "\nThese names belong to other people at "+out.To.Name+", and stay theirs:")
			e.linkTable(w, out.Taken[:min(len(out.Taken), 50)], "")
		}
		if out.Preview {
			fmt.Fprintf(w, "\nNothing is stored yet. Carry over with --digest %s\n", out.Digest)
		}
	})
}

func (e *environment) listSubjects(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	l, err := client.Call(ctx, c, api.ListSubjects, api.SubjectFilter{Named: api.Name(args[0]), After: cmd.Int64("after"),
		Limit: cmd.Int("limit")})
	if err != nil {
		return err
	}
	return e.print(cmd, l, func(w io.Writer) {
		var t table
		for _, s := range l.Items {
			t.add("person!", fmt.Sprint(s.Person), "value!", s.Value, "source", s.Source,
				"since@", brief(s.Added, time.Now()))
		}
		e.tell(w, t, "It knows nobody by a lasting name yet.")
		if n := len(l.Items); n > 0 && int64(n) < l.Total {
			fmt.Fprintf(w, "\n%d of %d; for the next ones add --after %d\n", n, l.Total, l.Items[n-1].Person)
		}
	})
}

func (e *environment) importSubjects(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	text, err := e.readFile("FILE", args[1])
	if err != nil {
		return err
	}
	in := api.Import{CSV: string(text), Replace: cmd.Bool("replace"), Preview: cmd.Bool("preview"),
		Digest: cmd.String("digest")}
	if err := looked(in.Preview, in.Digest); err != nil {
		return err
	}
	out, err := client.Call(ctx, c, api.ImportSubjects, api.To(args[0], in))
	if err != nil {
		return err
	}
	return e.print(cmd, out, func(w io.Writer) {
		said := "imported"
		if out.Preview {
			said = "to import"
		}
		fields(w, [][2]string{{said, fmt.Sprint(out.Subjects)}, {"of them replaced", fmt.Sprint(out.Replaced)},
			{"there already", fmt.Sprint(out.Already)}, {"people made", fmt.Sprint(out.People)}})
		if out.Preview {
			fmt.Fprintf(w, "\nNothing is stored yet. Import with --digest %s\n", out.Digest)
		}
	})
}
