package roll

import (
	"fmt"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
)

// emails is the attribute by whose values, one person each, sign-ins find people most.
const emails = "emails"

// stands is who has an address in the list.
type stands struct {
	address string
	lines   []int
	people  []int64 // on record, of these lines
}

// oddities are what a list has taken in as it is, and what whoever looks at it should see: an address of several
// people, a link by which another person comes from now on, a value that nobody proves.
type oddities struct {
	told  []table.BadRow
	count int
	mails map[string]*stands
}

func (o *oddities) tell(line int, column, cause string) {
	if o.count++; len(o.told) < mostTold {
		o.told = append(o.told, table.BadRow{Line: line, Column: column, Cause: cause})
	}
}

// look looks at what becomes of one entry.
func (o *oddities) look(p *plan) {
	for name, values := range p.values {
		if !profile.Means(name, profile.ClaimEmail) {
			continue
		}
		for _, v := range values {
			key := profile.Key(emails, v)
			s := o.mails[key]
			if s == nil {
				s = &stands{address: v}
				o.mails[key] = s
			}
			if n := len(s.lines); n == 0 || s.lines[n-1] != p.line {
				s.lines, s.people = append(s.lines, p.line), append(s.people, p.person)
			}
		}
	}
	if p.same() {
		return
	}
	if p.person != 0 {
		for _, link := range p.change.Link {
			o.tell(p.line, ColumnLink+string(link.Provider),
				fmt.Sprintf("whoever comes by the name %q is person %d from now on", link.Subject.Value, p.person))
		}
	}
	if len(p.unproved) > 0 {
		o.tell(p.line, ColumnUnproved, fmt.Sprintf("nobody proves %s: it finds nobody at a sign-in, and rules leave it out",
			strings.Join(p.unproved, ", ")))
	}
}

// shared tells of addresses that several people have, in the list or on record: a sign-in finds none of them by these.
func (w *weighing) shared(o *oddities) error {
	held, err := w.on.Matching(profile.Word(emails), slices.Sorted(maps.Keys(o.mails)))
	if err != nil {
		return err
	}
	for _, key := range slices.Sorted(maps.Keys(o.mails)) {
		s := o.mails[key]
		others := slices.DeleteFunc(slices.Clone(held[key]), func(id int64) bool { return slices.Contains(s.people, id) })
		switch n := len(s.lines) + len(others); {
		case n < 2:
		case len(others) == 0:
			o.tell(s.lines[0], emails, fmt.Sprintf("%s stands for %d people of the list: a sign-in finds none of them by it",
				s.address, n))
		default:
			o.tell(s.lines[0], emails, fmt.Sprintf("%s is that of person %d, too: a sign-in finds neither by it", s.address,
				others[0]))
		}
	}
	slices.SortStableFunc(o.told, func(a, b table.BadRow) int { return a.Line - b.Line })
	return nil
}
