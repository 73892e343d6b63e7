package profile

import (
	"fmt"
	"regexp"
	"regexp/syntax"
	"slices"
	"strconv"
	"strings"
	"time"
)

// Do is what a step does.
type Do string

// What steps do. Those on the left work value by value, the others on the list.
const (
	Trim       Do = "trim"       // white space around it
	Lower      Do = "lower"      // small letters
	Upper      Do = "upper"      // capital letters
	Before     Do = "before"     // the part before the first Text; all of it where there is none
	BeforeLast Do = "beforeLast" // the part before the last Text
	After      Do = "after"      // the part after the first Text
	AfterLast  Do = "afterLast"  // the part after the last Text
	Prefix     Do = "prefix"     // Text is put in front
	Suffix     Do = "suffix"     // Text is put behind
	Capture    Do = "capture"    // what the first group of the pattern Text matched, or all of it; else nothing
	Replace    Do = "replace"    // every match of the pattern Text becomes With, which may name groups as ${1}
	LookUp     Do = "lookUp"     // what Table has for it; what it does not have becomes Else, or nothing
	Date       Do = "date"       // a date in the form Text takes the form With
	AsNumber   Do = "number"     // a number; what is none is left out
	AsBoolean  Do = "boolean"    // true or false; also 1, 0, yes, no, on, off, in any case
	Keep       Do = "keep"       // only values that the pattern Text matches
	Drop       Do = "drop"       // only values that it does not match
	Split      Do = "split"      // parts between Text, without white space around them; empty ones are left out
	Join       Do = "join"       // all values become one, with Text between them
	First      Do = "first"      // the first value alone
	Distinct   Do = "distinct"   // each value once
)

// Step changes values.
type Step struct {
	Do    Do     `json:"do"`
	Text  string `json:"text,omitempty"` // separator, text, pattern (RE2), or form of a date
	With  string `json:"with,omitempty"` // what comes in place, or the form that a date takes
	Table []Pair `json:"table,omitempty"`
	Else  string `json:"else,omitempty"` // for what the table does not have; "" leaves the value out
}

// Pair is a line of a look-up table.
type Pair struct {
	From string `json:"from"`
	To   string `json:"to"`
}

// String says it for people.
func (s Step) String() string {
	switch {
	case s.Do == LookUp:
		return fmt.Sprintf("%s in %d", s.Do, len(s.Table))
	case s.Do == Replace || s.Do == Date:
		return fmt.Sprintf("%s %q with %q", s.Do, s.Text, s.With)
	case s.Text != "":
		return fmt.Sprintf("%s %q", s.Do, s.Text)
	}
	return string(s.Do)
}

// doing is a step that is ready to run. What it leaves out is said.
type doing func(in []Value, out *ran)

// forms of dates by name, beside which one may be written as Go's reference time.
var forms = map[string]string{"date": time.DateOnly, "dateTime": time.RFC3339, "seconds": ""}

// mostWork bounds what a pattern may cost: instructions of its automaton, which are
// visited at most once for each octet of a value (RE2).
const mostWork = 1000

// pattern compiles one, and says where it is wrong, or how many instructions it has.
func pattern(field, text string, bad wrong) (re *regexp.Regexp, size int, err error) {
	if text == "" {
		return nil, 0, bad(field, "the pattern is empty; give one")
	}
	if len(text) > longestText {
		return nil, 0, bad(field, "the pattern has %d octets; at most %d", len(text), longestText)
	}
	tree, err := syntax.Parse(text, syntax.Perl)
	if err != nil {
		cause, at := err.Error(), 1
		if e, ok := err.(*syntax.Error); ok {
			cause = fmt.Sprintf("%s: %q", e.Code, e.Expr)
			if i := strings.Index(text, e.Expr); i >= 0 {
				at = i + 1
			}
		}
		return nil, 0, bad(field, "the pattern does not compile at character %d: %s", at, cause)
	}
	prog, err := syntax.Compile(tree.Simplify())
	if err != nil || len(prog.Inst) > mostWork {
		return nil, 0, bad(field, "the pattern costs too much; give smaller repetitions than those it has")
	}
	re, err = regexp.Compile(text)
	return re, len(prog.Inst), err
}

// named finds what a replacement names.
var named = regexp.MustCompile(`\$(\$|\{?(\w+))`)

// groups sees whether a replacement names only groups that the pattern has: others
// would become nothing, without a word.
func groups(field, with string, re *regexp.Regexp, bad wrong) error {
	for _, m := range named.FindAllStringSubmatch(with, -1) {
		n, err := strconv.Atoi(m[2])
		if m[1] == "$" || err == nil && n <= re.NumSubexp() || err != nil && re.SubexpIndex(m[2]) >= 0 {
			continue
		}
		return bad(field, "the pattern has no group %s; it has %d. Write ${1} for the first, and $$ for a dollar", m[2],
			re.NumSubexp())
	}
	return nil
}

// needs says which of its parts a step needs.
var needs = map[Do]string{Before: "text", BeforeLast: "text", After: "text", AfterLast: "text", Prefix: "text",
	Suffix: "text", Capture: "text", Replace: "text", Keep: "text", Drop: "text", Split: "text", LookUp: "table",
	Date: "text and with", Trim: "", Lower: "", Upper: "", AsNumber: "", AsBoolean: "", First: "", Distinct: "",
	Join: "any text"}

func (s Step) check(field string, bad wrong) error {
	need, known := needs[s.Do]
	switch {
	case !known:
		return bad(field+".do", "there is no step %q; use %s", s.Do, strings.Join(steps(), ", "))
	case strings.Contains(need, "text") && need != "any text" && s.Text == "":
		return bad(field+".text", "%s needs one", s.Do)
	case need == "" && s.Text != "":
		return bad(field+".text", "%s takes none; leave it out", s.Do)
	case s.Do != Replace && s.Do != Date && s.With != "":
		return bad(field+".with", "%s takes none; leave it out", s.Do)
	case s.Do != LookUp && (len(s.Table) > 0 || s.Else != ""):
		return bad(field+".table", "%s takes none; leave it out", s.Do)
	case len(s.Text) > longestText || len(s.With) > longestText || len(s.Else) > longestText:
		return bad(field, "a text has more than %d octets", longestText)
	case strings.ContainsFunc(s.Text+s.With+s.Else, control):
		return bad(field, "a text has control characters; leave them out")
	}
	return nil
}

func steps() (out []string) {
	for d := range needs {
		out = append(out, string(d))
	}
	slices.Sort(out)
	return out
}

// compile makes a step ready to run.
func (s Step) compile(field string, bad wrong) (doing, error) {
	if err := s.check(field, bad); err != nil {
		return nil, err
	}
	switch s.Do {
	case Capture, Replace, Keep, Drop:
		re, size, err := pattern(field+".text", s.Text, bad)
		if err == nil {
			err = groups(field+".with", s.With, re, bad)
		}
		if err != nil {
			return nil, err
		}
		return s.matching(re, int64(size)), nil
	case LookUp:
		return s.table(field, bad)
	case Date:
		return s.date(field, bad)
	case Split, Join, First, Distinct:
		return s.list(), nil
	case AsNumber, AsBoolean:
		return s.typed(), nil
	}
	change := s.change()
	return each(func(text string, _ *ran) (string, bool) { return change(text), true }), nil
}

// each works on the texts of values. A structure has none.
func each(change func(text string, out *ran) (string, bool)) doing {
	return func(in []Value, out *ran) {
		for _, v := range in {
			if v.Type() == Structure {
				out.leaves(v, "is a structure")
			} else if text, ok := change(v.text, out); ok {
				out.add(TextOf(text))
			}
		}
	}
}

// change is what becomes of a text.
func (s Step) change() func(string) string {
	side := func(cut func(string, string) int, before bool) func(string) string {
		return func(text string) string {
			switch at := cut(text, s.Text); {
			case at < 0:
				return text
			case before:
				return text[:at]
			default:
				return text[at+len(s.Text):]
			}
		}
	}
	switch s.Do {
	case Trim:
		return strings.TrimSpace
	case Lower:
		return Small
	case Upper:
		return capitals
	case Before:
		return side(strings.Index, true)
	case BeforeLast:
		return side(strings.LastIndex, true)
	case After:
		return side(strings.Index, false)
	case AfterLast:
		return side(strings.LastIndex, false)
	case Prefix:
		return func(text string) string { return s.Text + text }
	}
	return func(text string) string { return text + s.Text }
}

// matching is what goes by a pattern of so many instructions.
func (s Step) matching(re *regexp.Regexp, size int64) doing {
	return each(func(text string, out *ran) (string, bool) {
		if !out.spend(size * int64(len(text)+1)) {
			return "", false
		}
		switch s.Do {
		case Replace:
			return re.ReplaceAllString(text, s.With), true
		case Capture:
			m := re.FindStringSubmatch(text)
			if m == nil {
				out.leaves(TextOf(text), "is not matched by "+s.Text)
				return "", false
			}
			return m[min(1, len(m)-1)], true
		}
		if re.MatchString(text) != (s.Do == Keep) {
			out.leaves(TextOf(text), "is left out by "+s.String())
			return "", false
		}
		return text, true
	})
}

// table is a look-up in one.
func (s Step) table(field string, bad wrong) (doing, error) {
	if len(s.Table) == 0 || len(s.Table) > mostPairs {
		return nil, bad(field+".table", "it has %d lines; it is to have 1 to %d", len(s.Table), mostPairs)
	}
	table := make(map[string]string, len(s.Table))
	for i, p := range s.Table {
		if _, twice := table[p.From]; twice {
			return nil, bad(fmt.Sprintf("%s.table[%d]", field, i), "%.60q stands in an earlier line already; leave out one",
				p.From)
		}
		if len(p.From)+len(p.To) > longestText || strings.ContainsFunc(p.From+p.To, control) {
			return nil, bad(fmt.Sprintf("%s.table[%d]", field, i), "it is too long, or has control characters")
		}
		table[p.From] = p.To
	}
	return each(func(text string, out *ran) (string, bool) {
		to, ok := table[text]
		if !ok {
			if to = s.Else; to == "" {
				out.leaves(TextOf(text), "is not in the table")
			}
		}
		return to, ok || to != ""
	}), nil
}

// date changes the form of dates.
func (s Step) date(field string, bad wrong) (doing, error) {
	from, known := forms[s.Text]
	if !known {
		from = s.Text
	}
	to, known := forms[s.With]
	if !known {
		to = s.With
	}
	for name, form := range map[string]string{"text": from, "with": to} {
		if form != "" && time.Date(2001, 11, 23, 0, 0, 0, 0, time.UTC).Format(form) == form {
			return nil, bad(field+"."+name, "%q is no form of a date; use date, dateTime, seconds, or the reference "+
				"Mon Jan 2 15:04:05 MST 2006 as it would be written, like 02.01.2006", form)
		}
	}
	if s.With == "" {
		return nil, bad(field+".with", "date needs the form that it is to take")
	}
	return each(func(text string, out *ran) (string, bool) {
		at, ok := moment(from, text)
		switch {
		case !ok:
			out.leaves(TextOf(text), "is no date in the form "+s.Text)
			return "", false
		case to == "":
			return fmt.Sprint(at.Unix()), true
		}
		return at.UTC().Format(to), true
	}), nil
}

func moment(form, text string) (time.Time, bool) {
	if form != "" {
		at, err := time.Parse(form, text)
		return at, err == nil
	}
	var n int64
	if _, err := fmt.Sscanf(text, "%d", &n); err != nil || fmt.Sprint(n) != text {
		return time.Time{}, false
	}
	return time.Unix(n, 0), true
}

// list is what works on all values.
func (s Step) list() doing {
	switch s.Do {
	case First:
		return func(in []Value, out *ran) { out.add(in[:min(1, len(in))]...) }
	case Distinct:
		return func(in []Value, out *ran) {
			seen := make(map[Value]bool, len(in))
			for _, v := range in {
				if !seen[v] {
					seen[v] = true
					out.add(v)
				}
			}
		}
	case Join:
		return func(in []Value, out *ran) {
			texts := make([]string, len(in))
			for i, v := range in {
				texts[i] = v.text
			}
			if len(in) > 0 {
				out.add(TextOf(strings.Join(texts, s.Text)))
			}
		}
	}
	return func(in []Value, out *ran) {
		for _, v := range in {
			for part := range strings.SplitSeq(v.text, s.Text) {
				if part = strings.TrimSpace(part); part != "" && !out.add(TextOf(part)) {
					return
				}
			}
		}
	}
}

// typed gives values another type.
func (s Step) typed() doing {
	return func(in []Value, out *ran) {
		for _, v := range in {
			if s.Do == AsNumber {
				if n, ok := v.as(Number); ok {
					out.add(n)
				} else {
					out.leaves(v, "is no number")
				}
				continue
			}
			switch strings.ToLower(strings.TrimSpace(v.text)) {
			case "true", "1", "yes", "on":
				out.add(BooleanOf(true))
			case "false", "0", "no", "off":
				out.add(BooleanOf(false))
			default:
				out.leaves(v, "is neither true nor false")
			}
		}
	}
}
