package cli

import (
	"fmt"
	"io"
	"strings"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
)

// identityIn is what a protocol calls an identity that is among values.
func identityIn(values []federation.Value, identity string) string {
	for _, v := range values {
		if v.Value == identity && v.Touches == federation.TouchIdentity {
			return v.Label
		}
	}
	return "identity"
}

// preview shows what would be set.
func (e *environment) preview(w io.Writer, p api.Preview) {
	for _, f := range p.Findings {
		if len(p.Choices) > 0 {
			e.told(w, f, string(f.Severity))
		}
	}
	if len(p.Choices) > 0 {
		var t table
		for _, c := range p.Choices {
			t.add("entity id!", c.Identity, "title", dash(c.Title))
		}
		e.tell(w, t, "")
		fmt.Fprintln(w, "next: the same with --entity-id and the one that is meant")
		return
	}
	verb := "would be added"
	if p.Existing {
		verb = "would change"
	}
	fields(w, [][2]string{{p.Kind, p.Name + ", which " + verb}, {"title", p.Title},
		{identityIn(p.Values, p.EntityID), dash(p.EntityID)}})
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
				rows = append(rows, [2]string{v.Name(), v.Value})
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
		fmt.Fprintln(w, d.Name())
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
			if n < lineWidth(w)-12 {
				fmt.Fprintf(w, "          %s^\n", strings.Repeat(" ", n))
			}
		}
	}
}
