package cli

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"os"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/federation"
)

// roll are the commands about lists of people.
func (e *environment) roll() []*ucli.Command {
	return []*ucli.Command{
		{Name: "import", Usage: "take a list of people in: CSV with headings, or JSON", ArgsUsage: "FILE",
			Description: "FILE is CSV as any program writes it, JSON as person export prints it, or - for standard input.\n" +
				"Headings are attributes, like userName, displayName, emails, employeeNumber, and number, state, groups,\n" +
				"organisations, link:PROVIDER. Several values are separated by |. Without --digest it only tells what would\n" +
				"be, and the digest to import with. If a row cannot be used nothing is imported, unless with --skip-bad.",
			Flags: []ucli.Flag{
				&ucli.StringFlag{Name: "by",
					Usage: "heading by which people on record are found; absent for number, else userName, employeeNumber or emails"},
				&ucli.BoolFlag{Name: "known-only", Usage: "make nobody"},
				&ucli.BoolFlag{Name: "skip-bad", Usage: "leave rows out that cannot be used"},
				&ucli.BoolFlag{Name: "empties", Usage: "an empty cell takes away what is there; otherwise it changes nothing"},
				&ucli.StringFlag{Name: "digest", Usage: "of what was looked at"}},
			Action: e.action([]string{"FILE"}, e.importPeople)},
		{Name: "export", Usage: "print people as a list that can be taken in again",
			Flags: append(peopleFlags(), &ucli.StringFlag{Name: "form", Usage: "csv or json", Value: "csv"}),
			Action: e.action(nil, func(ctx context.Context, cmd *ucli.Command, c *client.Client, _ []string) error {
				octets, err := client.Call(ctx, c, api.ExportPeople, api.PeopleExport{PeopleFilter: peopleFilter(cmd),
					Form: cmd.String("form")})
				if err != nil {
					return err
				}
				_, err = e.out.Write(octets)
				return err
			})},
	}
}

// opened opens a file that is sent as it is read; - is standard input.
func (e *environment) opened(name string) (io.ReadCloser, error) {
	if name == "-" {
		octets, err := e.readFile("FILE", "-")
		return io.NopCloser(bytes.NewReader(octets)), err
	}
	f, err := os.Open(name)
	if err != nil {
		return nil, &usageError{"FILE cannot be read: " + err.Error(), "Give an existing file, or - for standard input."}
	}
	return f, nil
}

func (e *environment) importPeople(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
	f, err := e.opened(args[0])
	if err != nil {
		return err
	}
	defer f.Close()
	how := api.PeopleImport{By: cmd.String("by"), KnownOnly: cmd.Bool("known-only"), SkipBad: cmd.Bool("skip-bad"),
		Empties: cmd.Bool("empties"), Digest: cmd.String("digest")}
	j, err := client.Upload(ctx, c, api.ImportPeople, api.None{}, how, f)
	if err == nil {
		j, err = e.follow(ctx, c, j)
	}
	if err != nil {
		return err
	}
	out := j.Imported
	if out == nil {
		return fmt.Errorf("the gate told nothing of the import")
	}
	err = e.print(cmd, out, func(w io.Writer) { e.imported(w, out, how) })
	if err == nil && out.BadRows > 0 && !how.SkipBad {
		return errFound
	}
	return err
}

func (e *environment) imported(w io.Writer, out *api.PeopleImported, how api.PeopleImport) {
	said := "would be made"
	if out.Stored {
		said = "made"
	}
	form := out.Encoding
	if out.Separator != "" {
		form = fmt.Sprintf("%s, separated by %q", out.Encoding, out.Separator)
	}
	fields(w, [][2]string{{"read as", form}, {"people found by", out.By}, {"rows", fmt.Sprint(out.Rows)},
		{said, fmt.Sprint(out.New)},
		{"changed", fmt.Sprint(out.Changed)}, {"the same already", fmt.Sprint(out.Same)},
		{"disabled", fmt.Sprint(out.Disabled)},
		{"enabled", fmt.Sprint(out.Enabled)}, {"cannot be used", fmt.Sprint(out.BadRows)},
		{"to be looked at", fmt.Sprint(out.OddRows)}})
	if len(out.Bad) > 0 {
		fmt.Fprintln(w)
		var t table
		for _, b := range out.Bad[:min(len(out.Bad), 30)] {
			t.add("line!", fmt.Sprint(b.Line), "heading", dash(b.Column), "what is wrong!", b.Cause)
		}
		e.tell(w, t, "")
	}
	if len(out.Odd) > 0 && !out.Stored {
		fmt.Fprintln(w)
		var t table
		for _, b := range out.Odd[:min(len(out.Odd), 30)] {
			t.add("line!", fmt.Sprint(b.Line), "heading", dash(b.Column), "look at this!", b.Cause)
		}
		e.tell(w, t, "")
	}
	if len(out.Listed) > 0 && !out.Stored {
		fmt.Fprintln(w)
		var t table
		for _, r := range out.Listed[:min(len(out.Listed), 30)] {
			who := "new"
			if r.Person != 0 {
				who = fmt.Sprint(r.Person)
			}
			t.add("line!", fmt.Sprint(r.Line), "person", who, "name", r.Name,
				"what changes", differencesInWords(r.Differences))
		}
		e.tell(w, t, "")
		if n := out.New + out.Changed; n > len(t.rows) {
			fmt.Fprintf(w, "and %d more\n", n-len(t.rows))
		}
	}
	switch {
	case out.Stored:
	case out.BadRows > 0 && !how.SkipBad:
		fmt.Fprintln(w, "\nNothing is imported while rows cannot be used. Mend them, or look again with --skip-bad.")
	case out.New+out.Changed == 0:
		fmt.Fprintln(w, "\nNothing is to be done.")
	default:
		fmt.Fprintf(w, "\nNothing is stored yet. Import with --digest %s\n", out.Digest)
	}
}

func differencesInWords(in []federation.Difference) string {
	words := []string{}
	for _, d := range in {
		switch {
		case d.After == "":
			words = append(words, d.Label+" -"+d.Before)
		case d.Before != "":
			words = append(words, d.Label+"="+d.Before+" > "+d.After)
		default:
			words = append(words, d.Label+"="+d.After)
		}
	}
	return strings.Join(words, ", ")
}
