package cli

import (
	"encoding/json"
	"fmt"
	"io"
	"os"
	"regexp"
	"strconv"
	"strings"
	"time"
	"unicode"
	"unicode/utf8"

	"github.com/goccy/go-yaml"
	ucli "github.com/urfave/cli/v3"
	"golang.org/x/term"
)

// width is the widest a line for people gets.
const width = 100

// print writes a record: as table for people, as JSON or YAML for programs.
func (e *environment) print(cmd *ucli.Command, record any, table func(io.Writer)) error {
	switch format := cmd.String("output"); format {
	case "table":
		table(&shown{w: e.out})
		return nil
	case "json", "yaml":
		octets, err := json.MarshalIndent(record, "", "  ")
		if err == nil && format == "yaml" {
			octets, err = yaml.JSONToYAML(octets)
		}
		if err != nil {
			return err
		}
		_, err = fmt.Fprintln(e.out, strings.TrimRight(string(octets), "\n"))
		return err
	default:
		return &usageError{fmt.Sprintf("there is no output %q", format), "Use table, json or yaml."}
	}
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
		case unicode.IsControl(r) || r == utf8.RuneError && n == 1 || unicode.Is(unicode.Bidi_Control, r):
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
		wide = max(wide, len(r[0]))
	}
	for _, r := range rows {
		fmt.Fprintf(w, "%-*s  %s\n", wide, r[0], r[1])
	}
}

// table writes aligned columns without frames. Columns marked flexible give way
// when a line gets too wide, losing their middle.
func (e *environment) table(w io.Writer, header []string, flexible []int, rows [][]string, empty string) {
	if len(rows) == 0 {
		fmt.Fprintln(w, empty)
		return
	}
	wide := make([]int, len(header))
	for _, r := range append([][]string{header}, rows...) {
		for i, c := range r {
			wide[i] = max(wide[i], utf8.RuneCountInString(c))
		}
	}
	total := 2 * (len(wide) - 1)
	for _, n := range wide {
		total += n
	}
	for total > width {
		widest := -1
		for _, i := range flexible {
			if wide[i] > 8 && (widest < 0 || wide[i] > wide[widest]) {
				widest = i
			}
		}
		if widest < 0 {
			break
		}
		wide[widest]--
		total--
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
	code := map[string]string{"entered": "92", "ok": "92", "refused": "91", "waiting": "93", "warning": "93", "note": "94",
		"live": "92", "paused": "93", "unfinished": "93", "error": "91", "applied": "92", "failed": "91"}[s]
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

func terminal(w io.Writer) bool {
	f, ok := w.(*os.File)
	return ok && term.IsTerminal(int(f.Fd()))
}

func local(t time.Time) string { return t.Local().Format("2006-01-02 15:04:05") }

// brief leaves out the date of today.
func brief(t, now time.Time) string {
	if t.Local().Format(time.DateOnly) == now.Local().Format(time.DateOnly) {
		return t.Local().Format("15:04:05")
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
