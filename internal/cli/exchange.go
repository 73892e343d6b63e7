package cli

import (
	"context"
	"encoding/pem"
	"fmt"
	"io"
	"os"
	"slices"
	"strings"

	ucli "github.com/urfave/cli/v3"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/client"
	"innergate.example/innergate/internal/core/nearword"
)

// exchange prints what the other side needs from the gate.
func (e *environment) exchange(k kindOf) *ucli.Command {
	return &ucli.Command{Name: "exchange", Usage: "what the other side needs from the gate", ArgsUsage: "NAME",
		Metadata: takes(k.kind, ""),
		Flags: []ucli.Flag{
			&ucli.BoolFlag{Name: "metadata", Usage: "print the metadata only"},
			&ucli.BoolFlag{Name: "certificate", Usage: "print the certificate in PEM only"},
			&ucli.StringFlag{Name: "der", Usage: "write the certificate in DER to this file, - for standard output"},
			&ucli.StringFlag{Name: "value", Usage: "print one value only, for copying, like entity-id"},
		}, Action: e.action([]string{"NAME"},
			func(ctx context.Context, cmd *ucli.Command, c *client.Client, args []string) error {
				s, err := client.Call(ctx, c, api.RecordsOf(k.kind).Sheet, api.Name(args[0]))
				if err != nil {
					return err
				}
				switch {
				case cmd.String("value") != "":
					return e.oneValue(s, cmd.String("value"))
				case cmd.Bool("metadata") && s.Metadata == "":
					return &usageError{"there is no metadata about the gate for it", "Leave --metadata out."}
				case cmd.Bool("metadata"):
					_, err := io.WriteString(e.out, s.Metadata)
					return err
				case (cmd.Bool("certificate") || cmd.String("der") != "") && len(s.Certificates) == 0:
					return &usageError{"there is no certificate: nothing is signed for it", "Leave --certificate and --der out."}
				case cmd.String("der") != "":
					return e.der(cmd.String("der"), s.Certificates[0].PEM)
				case cmd.Bool("certificate"):
					_, err := io.WriteString(e.out, s.Certificates[0].PEM)
					return err
				}
				return e.print(cmd, s, func(w io.Writer) { e.sheet(w, s) })
			})}
}

// der writes a certificate in DER.
func (e *environment) der(file, text string) error {
	block, _ := pem.Decode([]byte(text))
	if block == nil {
		return &usageError{"the key has no certificate", "Use its JWKS address, or --certificate."}
	}
	if file == "-" {
		_, err := e.out.Write(block.Bytes)
		return err
	}
	if err := os.WriteFile(file, block.Bytes, 0o644); err != nil {
		return &usageError{"--der: " + err.Error(), "Give a file that can be written, or -."}
	}
	return nil
}

func (e *environment) sheet(w io.Writer, s api.Sheet) {
	for _, v := range s.Values {
		fmt.Fprintf(w, "%s\n  %s\n", v.Label, v.Value)
		text := "also called " + strings.Join(v.AlsoCalled, ", ")
		if v.Hint != "" {
			text += "; " + v.Hint
		}
		wrap(w, "  ", text)
	}
	if s.MetadataAddress != "" {
		fmt.Fprintf(w, "Metadata\n  %s\n  or as a file: add --metadata\n", s.MetadataAddress)
	}
	e.certificates(w, s.Certificates)
	if len(s.Groups) > 0 {
		fmt.Fprint(w, "\nValues of groups that act here, letter by letter\n\n")
		var t table
		for _, g := range s.Groups {
			t.add("value!", g.Value, "group!", g.Group, "whoever has it!", dash(strings.Join(g.Effects, "; ")))
		}
		e.tell(w, t, "")
	}
	if len(s.Values) > 0 {
		fmt.Fprintf(w, "\none value for copying: --value %s\n", word(s.Values[0].Label))
	}
}

// word is the label of a value as it is written in an option.
func word(label string) string { return strings.ReplaceAll(strings.ToLower(label), " ", "-") }

// oneValue prints one value of a sheet, by its label or one of its other names.
func (e *environment) oneValue(s api.Sheet, wanted string) error {
	var names []string
	for _, v := range s.Values {
		for _, n := range append([]string{v.Label}, v.AlsoCalled...) {
			if word(n) == word(wanted) {
				_, err := fmt.Fprintln(e.out, v.Value)
				return err
			}
		}
		names = append(names, word(v.Label))
	}
	if word(wanted) == "metadata" || word(wanted) == "metadata-address" {
		_, err := fmt.Fprintln(e.out, s.MetadataAddress)
		return err
	}
	do := "There are " + strings.Join(append(slices.Clone(names), "metadata-address"), ", ") + "."
	if near := nearword.Of(word(wanted), names); near != "" {
		do = fmt.Sprintf("Did you mean %s?", near)
	}
	return &usageError{fmt.Sprintf("there is no value %q on the sheet", wanted), do}
}
