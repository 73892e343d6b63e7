package cli

import (
	"bytes"
	"cmp"
	"crypto/rand"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	ucli "github.com/urfave/cli/v3"
	"golang.org/x/term"

	"innergate.example/innergate/internal/core/nearword"
)

// defaultWidth is how wide lines for people get where no terminal says.
const defaultWidth = 100

// lineWidth is how wide the lines of an output may be.
func lineWidth(w io.Writer) int {
	if s, ok := w.(*shown); ok {
		w = s.w
	}
	if f, ok := w.(*os.File); ok && terminal(f) {
		if n, _, err := term.GetSize(int(f.Fd())); err == nil && n >= 40 {
			return n
		}
	}
	if n, err := strconv.Atoi(os.Getenv("COLUMNS")); err == nil && n >= 40 {
		return n
	}
	return defaultWidth
}

// print writes a record: as table for people, as JSON or YAML for programs.
func (e *environment) print(cmd *ucli.Command, record any, table func(io.Writer)) error {
	switch format := cmd.String("output"); format {
	case "table":
		table(&shown{w: e.out})
		return nil
	case "json", "yaml":
		octets, err := documented(record, format == "yaml")
		if err != nil {
			return err
		}
		_, err = fmt.Fprintln(e.out, strings.TrimRight(string(octets), "\n"))
		return err
	default:
		return &usageError{fmt.Sprintf("there is no output %q", format), "Use table, json or yaml."}
	}
}

// acts reports whether a character does something to a terminal, or to the order in which
// the others are read.
func acts(r rune) bool {
	return r != '\n' && r != '\t' && (unicode.IsControl(r) || unicode.Is(unicode.Bidi_Control, r))
}

// text is a string of JSON with escapes for such characters.
var text = regexp.MustCompile(`"(?:[^"\\]|\\.)*"`)

// documented gives a record in JSON or YAML, in which such characters stand as escapes: a
// string with one is written as JSON writes it, which YAML reads (YAML 1.2 §5.7).
func documented(record any, inYAML bool) ([]byte, error) {
	var b bytes.Buffer
	enc := json.NewEncoder(&b)
	enc.SetEscapeHTML(false)
	enc.SetIndent("", "  ")
	if err := enc.Encode(record); err != nil {
		return nil, err
	}
	escaped := strings.Builder{}
	for _, r := range b.String() {
		if acts(r) {
			fmt.Fprintf(&escaped, `\u%04x`, r)
		} else {
			escaped.WriteRune(r)
		}
	}
	if !inYAML {
		return []byte(escaped.String()), nil
	}
	var kept []string
	mark := "innergate-" + rand.Text() + "-" // in no record: it was made up just now
	plain := text.ReplaceAllStringFunc(escaped.String(), func(s string) string {
		var plain string
		if json.Unmarshal([]byte(s), &plain) != nil || strings.IndexFunc(plain, acts) < 0 {
			return s
		}
		kept = append(kept, s)
		return fmt.Sprintf(`"%s%d."`, mark, len(kept)-1)
	})
	octets, err := yaml.JSONToYAML([]byte(plain))
	if err != nil {
		return nil, err
	}
	for i, s := range kept {
		octets = bytes.ReplaceAll(octets, fmt.Appendf(nil, "%s%d.", mark, i), []byte(s))
	}
	return octets, nil
}

// shown shows control characters as escapes, but for line ends and the colours that
// are our own: what came from outside does nothing to a terminal.
type shown struct{ w io.Writer }

// ours are the colours that tint writes.
var ours = regexp.MustCompile(`^\x1b\[(0|1|2|9[0-7]|3[0-7])m`)

// Write takes whole runes only, as those who print give them.
func (s *shown) Write(b []byte) (int, error) {
	var out strings.Builder
	for rest := string(b); rest != ""; {
		if c := ours.FindString(rest); c != "" {
			out.WriteString(c)
			rest = rest[len(c):]
			continue
		}
		r, n := utf8.DecodeRuneInString(rest)
		switch {
		case r == '\n' || r == '\t':
			out.WriteRune(r)
		case acts(r) || r == utf8.RuneError && n == 1:
			quoted := strconv.QuoteToASCII(rest[:n])
			out.WriteString(quoted[1 : len(quoted)-1])
		default:
			out.WriteString(rest[:n])
		}
		rest = rest[n:]
	}
	if _, err := io.WriteString(s.w, out.String()); err != nil {
		return 0, err
	}
	return len(b), nil
}

// fields writes names and values below each other.
func fields(w io.Writer, rows [][2]string) {
	wide := 0
	for _, r := range rows {
		wide = max(wide, utf8.RuneCountInString(r[0]))
	}
	for _, r := range rows {
		if r[1] == "" {
			r[1] = "-"
		}
		fmt.Fprintf(w, "%-*s  %s\n", wide, r[0], strings.ReplaceAll(r[1], "\n", "\n"+strings.Repeat(" ", wide+2)))
	}
}

// column is one of a table.
type column struct {
	name  string
	point bool // what the table is about: never cut, never left out
	time  bool
}

// columns reads them from words: a name with ! is the point of the table, one with
// @ is a time.
func columns(words ...string) []column {
	out := make([]column, len(words))
	for i, w := range words {
		out[i] = column{name: strings.Trim(w, "!@"), point: strings.HasSuffix(w, "!"), time: strings.HasSuffix(w, "@")}
	}
	return out
}

// table is rows whose columns are named where their values stand.
type table struct {
	cols []column
	rows [][]string
}

// add adds a row: the name of each column, as columns reads it, and its value.
func (t *table) add(pairs ...string) {
	names, row := []string{}, []string{}
	for i := 0; i+1 < len(pairs); i += 2 {
		names, row = append(names, pairs[i]), append(row, pairs[i+1])
	}
	if t.rows = append(t.rows, row); t.cols == nil {
		t.cols = columns(names...)
	}
}

// tell writes a table; empty says what to do where it has no rows.
func (e *environment) tell(w io.Writer, t table, empty string) { e.table(w, t.cols, t.rows, empty) }

// table writes aligned columns without frames, as wide as the terminal. A column in
// which all is the same is told once, below. What is not the point of the table
// loses its middle when a line gets too wide.
func (e *environment) table(w io.Writer, cols []column, rows [][]string, empty string) {
	if len(rows) == 0 {
		fmt.Fprintln(w, empty)
		return
	}
	cols, rows, same := e.varying(cols, rows)
	wide := e.widths(w, cols, rows)
	header := make([]string, len(cols))
	times := false
	for i, c := range cols {
		header[i], times = c.name, times || c.time
	}
	for n, r := range append([][]string{header}, rows...) {
		var b strings.Builder
		for i, c := range r {
			c = shorten(c, wide[i])
			pad := strings.Repeat(" ", wide[i]-utf8.RuneCountInString(c))
			if n == 0 {
				c = strings.ToUpper(c)
			} else {
				c = e.colour(c)
			}
			b.WriteString(c + pad)
			if i < len(r)-1 {
				b.WriteString("  ")
			}
		}
		fmt.Fprintln(w, strings.TrimRight(b.String(), " "))
	}
	if times {
		same = append(same, "times in "+zone())
	}
	if len(same) > 0 {
		fmt.Fprintf(w, "(%s)\n", strings.Join(same, "; "))
	}
}

// varying leaves out columns in which all is the same, and tells what it is.
func (e *environment) varying(cols []column, rows [][]string) (kept []column, out [][]string, same []string) {
	if e.wide || len(rows) < 3 {
		return cols, rows, nil
	}
	out = make([][]string, len(rows))
	for i, c := range cols {
		first := rows[0][i]
		if !c.point && !slices.ContainsFunc(rows, func(r []string) bool { return r[i] != first }) {
			if first != "-" {
				same = append(same, c.name+" "+first)
			}
			continue
		}
		kept = append(kept, c)
		for n, r := range rows {
			out[n] = append(out[n], r[i])
		}
	}
	return kept, out, same
}

// widths are those of the columns, as far as the line allows.
func (e *environment) widths(w io.Writer, cols []column, rows [][]string) []int {
	wide := make([]int, len(cols))
	total := 2 * (len(wide) - 1)
	for i, c := range cols {
		wide[i] = utf8.RuneCountInString(c.name)
		for _, r := range rows {
			wide[i] = max(wide[i], utf8.RuneCountInString(r[i]))
		}
		total += wide[i]
	}
	for limit := lineWidth(w); total > limit && !e.wide; total-- {
		widest := -1
		for i, c := range cols {
			if !c.point && wide[i] > max(10, utf8.RuneCountInString(c.name)) && (widest < 0 || wide[i] > wide[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		wide[widest]--
	}
	return wide
}

// listing is which part of a list is wanted, and in which order.
type listing struct {
	limit, offset int
	sort          string
}

// listFlags are those of commands that list much.
func listFlags(more ...ucli.Flag) []ucli.Flag {
	return append(more, &ucli.IntFlag{Name: "limit", Usage: "at most so many"},
		&ucli.IntFlag{Name: "offset", Usage: "leave the first ones out"},
		&ucli.StringFlag{Name: "sort", Usage: "by a column, in descending order with - before it"})
}

func listed(cmd *ucli.Command) (listing, error) {
	l := listing{cmd.Int("limit"), cmd.Int("offset"), cmd.String("sort")}
	if l.limit < 0 || l.offset < 0 {
		return l, &usageError{"--limit and --offset cannot be negative", "Give a number from 0 on."}
	}
	return l, nil
}

// page is what to ask the gate for: all, if it is sorted here.
func (l listing) page() (limit, offset int) {
	if l.sort != "" {
		return 0, 0
	}
	return l.limit, l.offset
}

// moments are those behind columns that tell of a time in words, by which they are
// sorted.
type moments[T any] map[string]func(T) time.Time

// part sorts entries by a column, if that is wanted, and gives the part that is.
// row shows an entry.
func part[T any](l listing, cols []column, items []T, row func(T) []string, times moments[T]) ([]T, error) {
	if l.sort == "" {
		return items, nil
	}
	name, down := strings.CutPrefix(l.sort, "-")
	hyphened := func(s string) string { return strings.ReplaceAll(s, " ", "-") }
	at := slices.IndexFunc(cols, func(c column) bool { return strings.EqualFold(hyphened(c.name), hyphened(name)) })
	if at < 0 {
		var names []string
		for _, c := range cols {
			names = append(names, hyphened(c.name))
		}
		do := "Sort by " + strings.Join(names, ", ") + "."
		if near := nearword.Of(name, names); near != "" {
			do = fmt.Sprintf("Did you mean %s?", near)
		}
		return nil, &usageError{fmt.Sprintf("there is no column %q", name), do}
	}
	items = slices.Clone(items)
	order := func(a, b T) int { return compareCells(row(a)[at], row(b)[at]) }
	if when, ok := times[cols[at].name]; ok {
		order = func(a, b T) int { return when(a).Compare(when(b)) }
	}
	slices.SortStableFunc(items, func(a, b T) int {
		if down {
			a, b = b, a
		}
		return order(a, b)
	})
	from := min(l.offset, len(items))
	to := len(items)
	if l.limit > 0 {
		to = min(from+l.limit, to)
	}
	return items[from:to], nil
}

// compareCells puts numbers in their order, and words without regard to case.
func compareCells(x, y string) int {
	n, errN := strconv.Atoi(x)
	m, errM := strconv.Atoi(y)
	if errN == nil && errM == nil {
		return cmp.Compare(n, m)
	}
	return cmp.Compare(strings.ToLower(x), strings.ToLower(y))
}

// rest tells of entries that are not shown.
func (l listing) rest(w io.Writer, shown int, total int64) {
	if left := total - int64(l.offset) - int64(shown); left > 0 && shown > 0 {
		fmt.Fprintf(w, "%d to %d of %d; the next ones with --offset %d\n", l.offset+1, l.offset+shown, total, l.offset+shown)
	}
}

// shorten cuts the middle out of a value.
func shorten(s string, n int) string {
	r := []rune(s)
	if len(r) <= n {
		return s
	}
	head := (n - 1) / 2
	return string(r[:head]) + "…" + string(r[len(r)-(n-1-head):])
}

// colour colours words of state, on a terminal only.
func (e *environment) colour(s string) string {
	code := map[string]string{"entered": "92", "ok": "92", "refused": "91", "waiting": "93", "warning": "93",
		"note": "94",
		"live": "92", "paused": "93", "unfinished": "93", "error": "91", "applied": "92", "failed": "91", "broken": "91",
		"failing": "91", "attention": "93", "works": "92"}[s]
	if code == "" {
		return s
	}
	return e.tint(code, s)
}

// tint colours anything, on a terminal only.
func (e *environment) tint(code, s string) string {
	if !terminal(e.out) || os.Getenv("NO_COLOR") != "" {
		return s
	}
	return "\x1b[" + code + "m" + s + "\x1b[0m"
}

func terminal(w any) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

// zone names the time zone that times are shown in.
func zone() string {
	name, offset := time.Now().Zone()
	if offset == 0 {
		return "UTC"
	}
	return fmt.Sprintf("%s (%s)", name, time.Now().Format("-07:00"))
}

func local(t time.Time) string {
	if t.IsZero() {
		return "-"
	}
	return t.Local().Format("2006-01-02 15:04:05 MST")
}

// brief leaves out the date of today.
func brief(t, now time.Time) string {
	switch {
	case t.IsZero():
		return "-"
	case t.Local().Format(time.DateOnly) == now.Local().Format(time.DateOnly):
		return t.Local().Format("15:04:05")
	case t.Local().Year() != now.Local().Year():
		return t.Local().Format(time.DateOnly)
	}
	return t.Local().Format("01-02 15:04")
}

// days says how far away a date is.
func days(t, now time.Time) string {
	n := int(t.Sub(now).Hours() / 24)
	switch {
	case n < 0:
		return fmt.Sprintf("%d days ago", -n)
	case n == 0:
		return "today"
	case n == 1:
		return "in 1 day"
	}
	return fmt.Sprintf("in %d days", n)
}

func dash(s string) string {
	if s == "" {
		return "-"
	}
	return s
}
