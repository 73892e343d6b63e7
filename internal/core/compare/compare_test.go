package compare

import (
	"context"
	"fmt"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/table"
)

func accounts(t testing.TB, text string) *table.Table {
	out, err := table.Read(context.Background(), []byte(text), 1000)
	require.NoError(t, err)
	return out
}

// Every account has one verdict, and every person without one is missing there.
func TestCompare(t *testing.T) {
	people := People{Identifiers: []string{"name told", "mail"}}
	for i, mail := range []string{"ada@w.example", "bram@w.example", "Celia@w.example", "dov@w.example", "edda@w.example",
		"two@w.example",
		"Two@w.example", "gone@w.example", "left@w.example", "twice@w.example", ""} {
		p := Person{Number: int64(i + 1), Name: mail, Values: [][]string{{fmt.Sprint("opaque-", i)}, {mail}},
			Disabled: mail == "left@w.example"}
		if mail == "" {
			p.Values[1] = nil
		}
		people.All = append(people.All, p)
	}
	c := New(accounts(t, "Nr;Login\n1;ada@w.example\n2;BRAM@w.example\n3; celia@w.example \n4;dov@depot.example\n5;edda\n6;TWO@w.example\n"+
		"7;two@w.example\n8;nobody@w.example\n9;left@w.example\n10;twice@w.example\n11;TWICE@w.example\n12;\n"), people)
	rates := c.Rates()
	require.Equal(t, "Login and mail, 4 and 5 of 12", fmt.Sprintf("%s and %s, %d and %d of %d", rates[0].Heading,
		rates[0].Name,
		rates[0].Exact, rates[0].Near, rates[0].Of))
	r := c.Compare(rates[0].Column, rates[0].Identifier)
	verdicts := map[string]Verdict{}
	missing := []int64{}
	for _, l := range r.Lines {
		if l.Line == 0 {
			missing = append(missing, l.Person)
			require.Equal(t, MissingThere, l.Verdict)
			continue
		}
		verdicts[l.Account] = l.Verdict
	}
	require.Equal(t, map[string]Verdict{"ada@w.example": Exact, "BRAM@w.example": Case, " celia@w.example ": Space,
		"dov@depot.example": Domain,
		"edda":              Domain, "TWO@w.example": Ambiguous, "two@w.example": Exact, "nobody@w.example": MissingHere,
		"left@w.example":  Disabled,
		"twice@w.example": Exact, "TWICE@w.example": Ambiguous, "": MissingHere}, verdicts)
	require.Equal(t, []int64{7, 8, 11}, missing, "not the one who is let in no more")
	total := 0
	for _, n := range r.Counts {
		total += n
	}
	require.Equal(t, len(r.Lines), total)
	require.Empty(t, c.Compare(0, 0).Counts[Exact])
}

// The change that is proposed is the one that has most accounts fit, and one that would
// break what fits is none.
func TestImprovements(t *testing.T) {
	for _, c := range []struct {
		rule, accounts string
		people         []string
		say            string
		gains          int
	}{
		{"case", "L\nada@w.example\nbram@w.example\n", []string{"Ada@w.example", "bram@w.example"}, "small letters", 1},
		{"capital letters", "L\nADA@W.EXAMPLE\nBRAM@W.EXAMPLE\n", []string{"ada@w.example", "Bram@w.example"},
			"capital letters", 2},
		{"the part before the @", "L\nada\nbram\n", []string{"ada@w.example", "bram@w.example"}, "before the @", 2},
		{"another domain", "L\nada@new.example\nbram@new.example\n", []string{"ada@w.example", "bram@w.example"},
			"new.example in place of w.example", 2},
		{"both", "L\nada@new.example\nbram@new.example\n", []string{"Ada@W.example", "bram@w.example"},
			"small letters, with the domain new.example", 2},
		{"one gained, two broken", "L\nADA@w.example\nBRAM@w.example\ncleo@w.example\n",
			[]string{"ADA@w.example", "BRAM@w.example", "CLEO@w.example"}, "", 0},
	} {
		p := People{Identifiers: []string{"mail"}}
		for i, v := range c.people {
			p.All = append(p.All, Person{Number: int64(i + 1), Values: [][]string{{v}}})
		}
		got := New(accounts(t, c.accounts), p).Compare(0, 0).Changes
		if c.say == "" {
			require.Empty(t, got, c.rule)
			continue
		}
		require.Contains(t, got[0].Say, c.say, c.rule)
		require.Equal(t, c.gains, got[0].Gains, c.rule)
		for i, v := range c.people {
			_ = i
			require.NotEmpty(t, apply(got[0].Steps, v))
		}
	}
}

func BenchmarkCompare(b *testing.B) {
	for _, n := range []int{2000, 200_000} {
		p := People{Identifiers: []string{"name told", "mail"}}
		t := &table.Table{Head: []string{"Login"}}
		for i := range n {
			p.All = append(p.All, Person{Number: int64(i + 1), Values: [][]string{{fmt.Sprintf("s-%x", i*7919)},
				{fmt.Sprintf("first%d.last@w.example", i)}}})
			t.Rows = append(t.Rows, table.Row{Line: i + 2, Cells: []string{fmt.Sprintf("First%d.last@w.example", i)}})
		}
		b.Run(fmt.Sprint(n), func(b *testing.B) {
			for b.Loop() {
				c := New(t, p)
				r := c.Rates()[0]
				c.Compare(r.Column, r.Identifier)
			}
			b.ReportMetric(float64(b.Elapsed().Nanoseconds())/float64(b.N)/float64(n), "ns/account")
		})
	}
}
