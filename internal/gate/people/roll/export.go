package roll

import (
	"bufio"
	"context"
	"encoding/csv"
	"encoding/json"
	"errors"
	"io"
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/table"
	"innergate.example/innergate/internal/gate/people"
)

// Forms of a list.
const (
	CSV  = "csv"
	JSON = "json"
)

// Export writes those whom a filter lets through, as Import reads them.
func (rm *Room) Export(ctx context.Context, f people.Filter, form string, to io.Writer) error {
	f.Limit, f.After, f.Uncounted = atOnce, "", true
	w := bufio.NewWriter(to)
	var columns []string
	if form == CSV {
		var err error
		if columns, err = rm.columns(ctx, f); err != nil {
			return err
		}
	}
	out := csv.NewWriter(w)
	if form == CSV {
		if err := out.Write(columns); err != nil {
			return err
		}
	} else if _, err := w.WriteString("[\n"); err != nil {
		return err
	}
	first := true
	err := rm.each(ctx, f, func(p people.Person) error {
		if form == CSV {
			return out.Write(cells(columns, listed(p)))
		}
		octets, err := json.Marshal(listed(p))
		if err == nil && !first {
			_, err = w.WriteString(",\n")
		}
		if first = false; err == nil {
			_, err = w.Write(octets)
		}
		return err
	})
	if out.Flush(); form == JSON && err == nil {
		_, err = w.WriteString("\n]\n")
	}
	return errors.Join(err, out.Error(), w.Flush())
}

// each goes through those whom a filter lets through.
func (rm *Room) each(ctx context.Context, f people.Filter, do func(people.Person) error) error {
	for {
		page, err := rm.people.List(ctx, f)
		if err != nil {
			return err
		}
		for _, p := range page.People {
			if err := do(p); err != nil {
				return err
			}
		}
		if page.Next == "" {
			return nil
		}
		f.After = page.Next
	}
}

// columns are the headings: those that every list has, and the attributes that somebody has.
func (rm *Room) columns(ctx context.Context, f people.Filter) ([]string, error) {
	names, providers, unproved, marks := map[string]bool{}, map[string]bool{}, false, false
	err := rm.each(ctx, f, func(p people.Person) error {
		for _, v := range p.Values {
			names[profile.Word(v.Name)] = true
			for i := range v.Attribute.Values {
				unproved, marks = unproved || v.Proof(i) == person.NoProof, marks || v.Mark(i) != person.Mark{}
			}
		}
		for _, l := range p.Links {
			if l.Provider.Name != "" && l.Provider.Removed.IsZero() && l.Subject != nil {
				providers[string(l.Provider.Name)] = true
			}
		}
		return nil
	})
	out := []string{ColumnNumber, ColumnState}
	for _, n := range usual {
		if names[n] {
			out = append(out, n)
			delete(names, n)
		}
	}
	if unproved {
		out = append(out, ColumnUnproved)
	}
	if marks {
		out = append(out, ColumnMarks)
	}
	rest := []string{}
	for n := range names {
		rest = append(rest, n)
	}
	for p := range providers {
		rest = append(rest, ColumnLink+p)
	}
	slices.Sort(rest)
	return append(append(out, ColumnGroups, ColumnOrganisations), rest...), err
}

// listed is somebody as lists have them.
func listed(p people.Person) Listed {
	out := Listed{Number: p.ID, State: "enabled", Values: map[string][]string{}}
	if !p.Disabled.IsZero() {
		out.State = "disabled"
	}
	for _, v := range p.Values {
		word := profile.Word(v.Name)
		var unproved []string
		for i, one := range v.Attribute.Values {
			out.Values[word] = append(out.Values[word], one.String())
			if v.Proof(i) == person.NoProof {
				unproved = append(unproved, word+"="+one.String())
			}
			if m := v.Mark(i); m != (person.Mark{}) {
				out.Marks = append(out.Marks, person.ValueMark{Attribute: word, Value: one.String(), Mark: m}.String())
			}
		}
		if len(unproved) == len(v.Attribute.Values) {
			unproved = []string{word}
		}
		out.Unproved = append(out.Unproved, unproved...)
	}
	for _, m := range p.Members {
		to := &out.Groups
		if m.Kind == federation.KindOrganisation {
			to = &out.Organisations
		}
		if !slices.Contains(*to, string(m.Name)) {
			*to = append(*to, string(m.Name))
		}
	}
	for _, l := range p.Links {
		if l.Subject != nil && l.Provider.Name != "" && l.Provider.Removed.IsZero() {
			out.Links = append(out.Links, ListedLink{string(l.Provider.Name), l.Subject.Value, l.Subject.Format})
		}
	}
	return out
}

func cells(columns []string, p Listed) []string {
	out := make([]string, len(columns))
	for i, c := range columns {
		switch provider, isLink := strings.CutPrefix(c, ColumnLink); {
		case c == ColumnNumber:
			out[i] = strconv.FormatInt(p.Number, 10)
		case c == ColumnState:
			out[i] = p.State
		case c == ColumnUnproved:
			out[i] = strings.Join(p.Unproved, Between)
		case c == ColumnMarks:
			out[i] = strings.Join(p.Marks, Between)
		case c == ColumnGroups:
			out[i] = strings.Join(p.Groups, Between)
		case c == ColumnOrganisations:
			out[i] = strings.Join(p.Organisations, Between)
		case isLink:
			var all []string
			for _, l := range p.Links {
				if l.Provider == provider {
					all = append(all, strings.TrimSpace(l.Format+" "+l.Subject))
				}
			}
			out[i] = strings.Join(all, Between)
		default:
			out[i] = strings.Join(p.Values[c], Between)
		}
		out[i] = table.Guarded(out[i])
	}
	return out
}
