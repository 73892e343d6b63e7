// Package compare holds the accounts that an application keeps against the people whom the
// gate would tell it of, before anything is switched on: who fits, who nearly does, and who
// is missing on which side.
//
//	c := compare.New(table, people)
//	best := c.Rates()[0]              // which heading fits which identifier
//	r := c.Compare(best.Column, best.Identifier)
//
// It is a function of the two lists alone.
package compare

import (
	"cmp"
	"slices"
	"strings"
	"unicode"

	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
)

// Verdict is how an account and people fit.
type Verdict string

// Verdicts. What two texts may differ in is looked at in this order.
const (
	Exact        Verdict = "exact"         // one person, letter by letter
	Case         Verdict = "case"          // one person, but for the case of letters
	Space        Verdict = "white space"   // one person, but for white space, too
	Domain       Verdict = "domain"        // one person, but for what stands behind @ or before \
	Ambiguous    Verdict = "ambiguous"     // several people fit, or the one who does has another account
	Disabled     Verdict = "disabled"      // it fits, and the person is let in no more
	MissingHere  Verdict = "missing here"  // an account, and nobody that it would be of
	MissingThere Verdict = "missing there" // a person, and no account
)

// Verdicts are all of them, in the order in which they are told.
var Verdicts = []Verdict{Exact, Case, Space, Domain, Ambiguous, Disabled, MissingHere, MissingThere}

// Person is somebody the application would be told of.
type Person struct {
	Number   int64
	Name     string     // that people read
	Disabled bool       // an account of theirs is one too many
	Values   [][]string // of each identifier, none where they have none
}

// People are those who may have accounts, and what identifies them.
type People struct {
	Identifiers []string
	Shared      []bool // by identifier: several people may have the same, such as a name; none means that nothing is
	All         []Person
}

func (p *People) shared(identifier int) bool {
	return identifier < len(p.Shared) && p.Shared[identifier]
}

// Comparer compares one list of accounts with people.
type Comparer struct {
	accounts *table.Table
	people   People
	byName   map[int]*index
}

// New makes a comparer.
func New(accounts *table.Table, people People) *Comparer {
	return &Comparer{accounts: accounts, people: people, byName: map[int]*index{}}
}

// Line is one account, or one person without any.
type Line struct {
	Verdict Verdict `json:"verdict"`
	Line    int     `json:"line,omitempty"`    // of the account in the list, 0 for none
	Account string  `json:"account,omitempty"` // as the application has it
	Person  int64   `json:"person,omitempty"`
	Name    string  `json:"name,omitempty"`
	Value   string  `json:"value,omitempty"` // what the application would be told
	Others  []int64 `json:"others,omitempty"`
}

// Improvement is a change of what is told that would have more accounts fit exactly.
type Improvement struct {
	Steps []profile.Step `json:"steps"` // of a rule of the release
	Say   string         `json:"say"`
	Gains int            `json:"gains"` // how many more accounts fit exactly then
}

// Result is what comparing came to.
type Result struct {
	Column     string          `json:"column"`
	Identifier string          `json:"identifier"`
	Accounts   int             `json:"accounts"`
	People     int             `json:"people"`
	Counts     map[Verdict]int `json:"counts"`
	Changes    []Improvement   `json:"changes,omitempty"` // the best first
	Lines      []Line          `json:"-"`
}

// levels are the ways in which texts are held against each other, each more forgiving.
var levels = []struct {
	verdict Verdict
	of      func(string) string
}{{Exact, func(s string) string { return s }}, {Case, profile.Small}, {Space, squeezed}, {Domain, local}}

// squeezed is a text without white space, in small letters.
func squeezed(s string) string {
	return profile.Small(strings.Map(func(r rune) rune {
		if unicode.IsSpace(r) {
			return -1
		}
		return r
	}, s))
}

// local is a text without a domain, squeezed.
func local(s string) string {
	s = squeezed(s)
	if at := strings.LastIndex(s, "@"); at > 0 {
		s = s[:at]
	}
	return s[strings.LastIndex(s, `\`)+1:]
}

// index finds people by an identifier, at each level.
type index struct {
	values  []held
	byText  [4]map[uint64]int32 // first of values whose text has this sum
	another [4][]int32          // the next one of the same sum, -1 for none
}

type held struct {
	text   string
	person int32
}

// sum is FNV-1a over a text; what has the same sum is compared.
func sum(s string) uint64 {
	h := uint64(14695981039346656037)
	for i := range len(s) {
		h = (h ^ uint64(s[i])) * 1099511628211
	}
	return h
}

// of gives the index of an identifier.
func (c *Comparer) of(identifier int) *index {
	if x := c.byName[identifier]; x != nil {
		return x
	}
	x := &index{}
	for i := range c.people.All {
		for _, v := range c.people.All[i].Values[identifier] {
			x.values = append(x.values, held{v, int32(i)})
		}
	}
	c.byName[identifier] = x
	return x
}

// level makes the look-up of one level, when it is first needed.
func (x *index) level(l int) (map[uint64]int32, []int32) {
	if x.byText[l] == nil {
		x.byText[l], x.another[l] = make(map[uint64]int32, len(x.values)), make([]int32, len(x.values))
		for i := len(x.values) - 1; i >= 0; i-- {
			s := sum(levels[l].of(x.values[i].text))
			x.another[l][i] = -1
			if first, ok := x.byText[l][s]; ok {
				x.another[l][i] = first
			}
			x.byText[l][s] = int32(i)
		}
	}
	return x.byText[l], x.another[l]
}

// most is how many people of one account are told of.
const most = 5

// find gives the people whose identifier is a text, at a level: places in values.
func (x *index) find(l int, text string) (out []int32) {
	byText, another := x.level(l)
	want := levels[l].of(text)
	if want == "" {
		return nil
	}
	first, ok := byText[sum(want)]
	if !ok {
		return nil
	}
	for at := first; at >= 0 && len(out) < most; at = another[at] {
		if levels[l].of(x.values[at].text) == want && !slices.ContainsFunc(out, func(o int32) bool {
			return x.values[o].person == x.values[at].person
		}) {
			out = append(out, at)
		}
	}
	return out
}

// Compare holds the accounts, by a heading, against what identifies people.
func (c *Comparer) Compare(column, identifier int) *Result {
	x := c.of(identifier)
	out := &Result{Column: c.accounts.Head[column], Identifier: c.people.Identifiers[identifier],
		Accounts: len(c.accounts.Rows),
		People:   len(c.people.All), Counts: map[Verdict]int{}}
	out.Lines = make([]Line, 0, len(c.accounts.Rows))
	of := make([]int32, len(c.people.All)) // line of the account of each person, from 1
	for _, row := range c.accounts.Rows {
		line := c.line(x, row, column)
		if line.Person != 0 {
			c.settle(out, of, x, &line, column)
		}
		out.Lines = append(out.Lines, line)
	}
	for i := range c.people.All {
		p := &c.people.All[i]
		if of[i] == 0 && !p.Disabled {
			l := Line{Verdict: MissingThere, Person: p.Number, Name: p.Name}
			if v := p.Values[identifier]; len(v) > 0 {
				l.Value = v[0]
			}
			out.Lines = append(out.Lines, l)
		}
	}
	for i := range out.Lines {
		out.Counts[out.Lines[i].Verdict]++
	}
	out.Changes = changes(out.Lines)
	return out
}

// line finds whose an account is.
func (c *Comparer) line(x *index, row table.Row, column int) Line {
	line := Line{Line: row.Line, Account: row.Cells[column], Verdict: MissingHere}
	for l := range levels {
		found := x.find(l, line.Account)
		switch {
		case len(found) == 0:
			continue
		case len(found) > 1:
			line.Verdict = Ambiguous
			for _, at := range found {
				line.Others = append(line.Others, c.people.All[x.values[at].person].Number)
			}
			return line
		}
		p := c.people.All[x.values[found[0]].person]
		line.Verdict, line.Person, line.Name, line.Value = levels[l].verdict, p.Number, p.Name, x.values[found[0]].text
		line.Others = []int64{int64(x.values[found[0]].person)} // the place, until it is settled
		return line
	}
	return line
}

// settle sees that nobody has two accounts: of several, one that fits exactly is theirs.
func (c *Comparer) settle(out *Result, of []int32, x *index, line *Line, column int) {
	place := line.Others[0]
	line.Others = nil
	before := of[place]
	if before == 0 {
		of[place] = int32(len(out.Lines)) + 1
		if c.people.All[place].Disabled {
			line.Verdict = Disabled
		}
		return
	}
	first := &out.Lines[before-1]
	if line.Verdict == Exact && first.Verdict != Exact && first.Verdict != Disabled {
		of[place] = int32(len(out.Lines)) + 1
		first.Verdict, first.Others = Ambiguous, []int64{line.Person}
		return
	}
	line.Verdict, line.Others = Ambiguous, []int64{line.Person}
	if first.Verdict != Exact && first.Verdict != Disabled {
		first.Verdict, first.Others = Ambiguous, []int64{line.Person}
	}
}

// Rate is how well a heading fits an identifier.
type Rate struct {
	Column     int    `json:"-"`
	Identifier int    `json:"-"`
	Heading    string `json:"column"`
	Name       string `json:"identifier"`
	Exact      int    `json:"exact"` // accounts
	Near       int    `json:"near"`  // that would fit after a change of what is told
	Of         int    `json:"of"`
}

// mostRates is how many pairs are told of.
const mostRates = 8

// sampled is how many accounts are looked at to find which pairs are worth a whole look.
const sampled = 500

// Rates gives how well each heading fits each identifier, the best first, of those that
// fit anybody. Pairs that fit hardly anybody of a sample are left out.
func (c *Comparer) Rates() (out []Rate) {
	rows := c.accounts.Rows
	var sample []table.Row
	for i := 0; i < len(rows); i += max(1, len(rows)/sampled) {
		sample = append(sample, rows[i])
	}
	for column := range c.accounts.Head {
		for identifier := range c.people.Identifiers {
			if r := c.rate(sample, column, identifier); r.Exact+r.Near > 0 {
				out = append(out, r)
			}
		}
	}
	slices.SortStableFunc(out, c.better)
	for i, r := range out { // what fits hardly anybody beside the best is not worth a whole look
		if i == mostRates || (r.Exact+r.Near)*20 < out[0].Exact+out[0].Near && !c.people.shared(r.Identifier) {
			out = out[:i]
			break
		}
	}
	if len(sample) < len(rows) {
		for i, r := range out {
			out[i] = c.rate(rows, r.Column, r.Identifier)
		}
		slices.SortStableFunc(out, c.better)
	}
	return out
}

// better puts what tells people apart before what several may share.
func (c *Comparer) better(a, b Rate) int {
	if x, y := c.people.shared(a.Identifier), c.people.shared(b.Identifier); x != y {
		return map[bool]int{true: 1, false: -1}[x]
	}
	return cmp.Or(cmp.Compare(b.Exact+b.Near, a.Exact+a.Near), cmp.Compare(b.Exact, a.Exact))
}

func (c *Comparer) rate(rows []table.Row, column, identifier int) Rate {
	r := Rate{Column: column, Identifier: identifier, Heading: c.accounts.Head[column],
		Name: c.people.Identifiers[identifier],
		Of:   len(rows)}
	x := c.of(identifier)
	if len(x.values) == 0 {
		return r
	}
	for _, row := range rows {
		for l := range levels {
			found := x.find(l, row.Cells[column])
			if len(found) == 0 {
				continue
			}
			switch {
			case len(found) > 1:
			case l == 0:
				r.Exact++
			default:
				r.Near++
			}
			break
		}
	}
	return r
}
