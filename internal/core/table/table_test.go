package table

import (
	"context"
	"fmt"
	"runtime"
	"strings"
	"testing"
	"unicode/utf16"

	"github.com/stretchr/testify/require"
)

// Lists are read as programs write them, and what cannot be used is told by its line.
func TestRead(t *testing.T) {
	wide := []byte{0xff, 0xfe}
	for _, u := range utf16.Encode([]rune("a\tb\nÄ\tx\n")) {
		wide = append(wide, byte(u), byte(u>>8))
	}
	for _, c := range []struct {
		rule, text string
		rows       []Row
		bad        []string
		refused    string
	}{
		{"commas", "a,b\nx,y\n", []Row{{2, []string{"x", "y"}}}, nil, ""},
		{"a byte order mark, semicolons, CRLF", "\ufeffa;b\r\nx;\"y;z\"\r\n", []Row{{2, []string{"x", "y;z"}}}, nil, ""},
		{"Latin-1", "a;b\nPetr\xe1k;x\n", []Row{{2, []string{"Petrák", "x"}}}, nil, ""},
		{"UTF-16 with tabs", string(wide), []Row{{2, []string{"Ä", "x"}}}, nil, ""},
		{"a cell of several lines", "a,b\n\"x\n1\",y\nz,\n", []Row{{2, []string{"x\n1", "y"}}, {4, []string{"z", ""}}}, nil,
			""},
		{"a separator in a quoted heading", "\"a;b;c\",d\nx,y\n", []Row{{2, []string{"x", "y"}}}, nil, ""},
		{"rows too short are filled, empty ones left out", "a,b\nx\n\n,\ny,z,\n",
			[]Row{{2, []string{"x", ""}}, {4, []string{"", ""}}, {5, []string{"y", "z"}}}, nil, ""},
		{"rows too long, and control characters", "a,b\nx,y,z\nu\x07,v\nw,x\n", []Row{{4, []string{"w", "x"}}},
			[]string{"line 2: it has 3 cells, there are 2 headings",
				"line 3, a: it has more than 4096 octets, or control characters"}, ""},
		{"a quotation mark in the middle", "a,b\nx\"y,z\nu,v\n", []Row{{3, []string{"u", "v"}}},
			[]string{`line 2: bare " in non-quoted-field`}, ""},
		{"a quotation mark left open", "a,b\nx,y\n\"z,\n", []Row{{2, []string{"x", "y"}}},
			[]string{`line 3: extraneous or missing " in quoted-field`}, ""},
		{"nothing", "", nil, nil, "it is empty"},
		{"no text", "PK\x03\x04\x00\x00", nil, nil, "this is no text"},
		{"no heading", "a,,b\n", nil, nil, "column 2 has no heading"},
		{"a heading twice", "a,A\n", nil, nil, "stands there twice"},
		{"too many columns", strings.Repeat("a,", 300) + "\n", nil, nil, "at most 200"},
	} {
		got, err := Read(t.Context(), []byte(c.text), 100)
		if c.refused != "" {
			require.ErrorContains(t, err, c.refused, c.rule)
			continue
		}
		require.NoError(t, err, c.rule)
		require.Equal(t, c.rows, got.Rows, c.rule)
		var bad []string
		for _, b := range got.Bad {
			bad = append(bad, b.Error())
		}
		require.Equal(t, c.bad, bad, c.rule)
	}
}

// Whatever its shape, a list takes a bounded part of memory, and its bounds are met where
// they are; an end of the context ends it.
func TestListsAreBounded(t *testing.T) {
	over, end := context.WithCancel(t.Context())
	end()
	for _, c := range []struct {
		rule, text, refused string
		ctx                 context.Context
	}{
		{"one row of cells", "a,b\n" + strings.Repeat("1,", 20<<20), "a row has more than", nil},
		{"one heading row of cells", strings.Repeat("1,", 20<<20), "a row has more than", nil},
		{"a cell that never ends", "a\n\"" + strings.Repeat("x\n", 20<<20), "a row has more than", nil},
		{"short rows", "a\n" + strings.Repeat("1\n", 20<<20), "more than 500000 rows", nil},
		{"many columns of nothing", strings.Repeat("a", 1) + strings.Join(numbered(199), "") + "\n" +
			strings.Repeat(strings.Repeat(",", 199)+"\n", 200_000), "take more than", nil},
		{"rows that are none", "a\n" + strings.Repeat("x\"y\n", 5<<20), "rows cannot be read", nil},
		{"Latin-1", "a;b\nPetr\xe1k;x\n" + strings.Repeat("\xe1;", 20<<20), "a row has more than", nil},
		{"cancelled", "a\n" + strings.Repeat("1\n", 5000), "canceled", over},
	} {
		var before, after runtime.MemStats
		runtime.ReadMemStats(&before)
		if c.ctx == nil {
			c.ctx = t.Context()
		}
		_, err := Read(c.ctx, []byte(c.text), 500_000)
		runtime.ReadMemStats(&after)
		require.ErrorContains(t, err, c.refused, c.rule)
		require.Less(t, after.TotalAlloc-before.TotalAlloc, uint64(len(c.text)+400<<20), c.rule)
	}
	for _, cell := range []string{"=1+1", "+4", "-x", "@a", "\tx", "plain", ""} {
		got, err := Read(t.Context(), []byte("a,b\n\""+Guarded(cell)+"\",x\n"), 10)
		require.NoError(t, err)
		require.Equal(t, strings.TrimSpace(cell), strings.TrimSpace(got.Rows[0].Cells[0]))
		require.False(t, strings.ContainsAny(got.Rows[0].Cells[0][:min(1, len(got.Rows[0].Cells[0]))], "=+-@\t"))
	}
}

func numbered(n int) (out []string) {
	for i := range n {
		out = append(out, fmt.Sprint(",a", i))
	}
	return out
}

func FuzzRead(f *testing.F) {
	f.Add([]byte("a;b\n\"x\n;y"))
	f.Add([]byte("\xff\xfea\x00"))
	f.Fuzz(func(t *testing.T, octets []byte) {
		got, err := Read(t.Context(), octets, 1000)
		if err != nil {
			return
		}
		for _, r := range got.Rows {
			require.Len(t, r.Cells, len(got.Head))
		}
	})
}
