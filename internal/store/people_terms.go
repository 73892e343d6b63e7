package store

import (
	"bytes"
	"cmp"
	"errors"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
)

// What people are searched for by is bounded: how long a term is, in octets, and how many
// there are of one attribute. Nobody is matched by it: see matches.
const (
	longestTerm = 200
	mostTerms   = 60
)

// parts are the words in a term, if there are several.
func parts(term string) []string {
	words := strings.FieldsFunc(term, func(r rune) bool {
		return unicode.IsSpace(r) || strings.ContainsRune("@._-,;/'\"()", r)
	})
	if len(words) == 1 && words[0] == term {
		return nil
	}
	return slices.DeleteFunc(words, func(w string) bool { return len(w) < 2 })
}

// terms are what somebody is searched for by, of what is kept with them.
func terms(who int64, values []person.KeptValue) (out []TermRow) {
	of := map[string]int{}
	add := func(term, attribute string) {
		row := TermRow{Term: term, Attribute: attribute, Person: who}
		if term != "" && len(term) <= longestTerm && of[attribute] < mostTerms && !slices.Contains(out, row) {
			out = append(out, row)
			of[attribute]++
		}
	}
	for _, k := range values {
		for _, v := range k.Attribute.Values {
			if v.Type() != profile.Structure {
				add(profile.Fold(v.String()), profile.Word(k.Name))
			}
		}
	}
	for _, row := range slices.Clone(out) {
		if worded[row.Attribute] {
			local, _, _ := strings.Cut(row.Term, "@") // everybody has the domain
			words := parts(local)
			if len(words) == 0 {
				words = []string{local}
			}
			for _, p := range append(words, local) {
				if p != row.Term {
					add(p, TermPart)
				}
			}
			for _, p := range words {
				add(bare(p), TermPart)
			}
		}
	}
	return out
}

// matches are what somebody is found by at a first sign-in: every value that is kept with
// them, as it is compared, with whether it is proved.
func matches(who int64, values []person.KeptValue) (out []MatchRow) {
	for _, k := range values {
		word := profile.Word(k.Name)
		for i, v := range k.Attribute.Values {
			if v.Type() == profile.Structure {
				continue
			}
			row := MatchRow{Attribute: word, Value: matchValue(profile.Key(k.Name, v.String())), Person: who,
				Source: string(k.From), Proved: k.Proof(i) != person.NoProof}
			at := slices.IndexFunc(out, func(r MatchRow) bool {
				return r.Attribute == word && bytes.Equal(r.Value, row.Value)
			})
			if at < 0 {
				out = append(out, row)
			} else if row.Proved {
				out[at] = row
			}
		}
	}
	return out
}

// matchValue is how a value is stored as it is compared: whoever is found by it is held against
// the value itself.
func matchValue(key string) []byte { return Hash(key)[:16] }

// lookUp has many looked for by what is kept with them from now on. anew says that they were
// not looked for before.
func lookUp(tx *gorm.DB, anew bool, of ...Looked) error {
	var words []TermRow
	var found []MatchRow
	for _, l := range of {
		if !anew {
			err := errors.Join(tx.Exec("DELETE FROM term_rows WHERE person = ? AND attribute NOT IN (?, ?)",
				l.Person, TermSubject,
				TermSubjectPart).Error, tx.Where("person = ?", l.Person).Delete(&MatchRow{}).Error)
			if err != nil {
				return err
			}
		}
		words, found = append(words, terms(l.Person, l.Values)...), append(found, matches(l.Person, l.Values)...)
	}
	if err := putTerms(tx, words); err != nil {
		return err
	}
	slices.SortFunc(found, func(a, b MatchRow) int {
		return cmp.Or(strings.Compare(a.Attribute, b.Attribute), bytes.Compare(a.Value, b.Value),
			cmp.Compare(a.Person, b.Person))
	})
	for chunk := range slices.Chunk(found, 200) {
		args := make([]any, 0, 5*len(chunk))
		for _, r := range chunk {
			args = append(args, r.Attribute, r.Value, r.Person, r.Source, r.Proved)
		}
		marks := strings.TrimSuffix(strings.Repeat("(?,?,?,?,?),", len(chunk)), ",")
		err := tx.Exec("INSERT INTO match_rows (attribute, value, person, source, proved) VALUES "+marks,
			args...).Error
		if err != nil {
			return err
		}
	}
	return nil
}

// Looked is somebody with what is kept with them.
type Looked struct {
	Person int64
	Values []person.KeptValue
}

// Matching gives who has one of several values of an attribute, proved, by the value as it
// is compared (profile.Key).
func (p People) Matching(attribute string, keys []string) (map[string][]int64, error) {
	out, of := map[string][]int64{}, map[string]string{}
	hashes := make([][]byte, len(keys))
	for i, k := range keys {
		hashes[i] = matchValue(k)
		of[string(hashes[i])] = k
	}
	for chunk := range slices.Chunk(hashes, atOnce) {
		var rows []MatchRow
		if err := p.db.Where("attribute = ? AND value IN ? AND proved", attribute,
			chunk).Order("person").Find(&rows).Error; err != nil {
			return nil, err
		}
		for _, r := range rows {
			k := of[string(r.Value)]
			out[k] = append(out[k], r.Person)
		}
	}
	return out, nil
}

// bare is a word without accents, "" if it has none: many keyboards lack them.
func bare(word string) string {
	if !strings.ContainsFunc(word, func(r rune) bool { return r > unicode.MaxASCII }) {
		return ""
	}
	out := strings.Map(func(r rune) rune {
		if unicode.Is(unicode.Mn, r) {
			return -1
		}
		return r
	}, norm.NFD.String(word))
	if out == word {
		return ""
	}
	return out
}

// worded are attributes that people are looked for by each word of.
var worded = map[string]bool{"displayName": true, "userName": true, "emails": true, "name.givenName": true,
	"name.familyName": true,
	"name.formatted":  true, "nickName": true}

func subjectTerms(person int64, s profile.Subject) (out []TermRow) {
	term := profile.Fold(s.Value)
	if term == "" || len(term) > longestTerm {
		return nil
	}
	out = append(out, TermRow{Term: term, Attribute: TermSubject, Person: person})
	local, _, _ := strings.Cut(term, "@")
	for _, p := range parts(local) {
		out = append(out, TermRow{Term: p, Attribute: TermSubjectPart, Person: person})
	}
	return out
}

// putTerms adds terms, as far as they are not there.
func putTerms(tx *gorm.DB, rows []TermRow) error {
	slices.SortFunc(rows, func(a, b TermRow) int { // in the order in which they lie on the disk
		return cmp.Or(strings.Compare(a.Term, b.Term), strings.Compare(a.Attribute, b.Attribute),
			cmp.Compare(a.Person, b.Person))
	})
	for chunk := range slices.Chunk(rows, 300) {
		args := make([]any, 0, 3*len(chunk))
		for _, r := range chunk {
			args = append(args, r.Term, r.Attribute, r.Person)
		}
		marks := strings.TrimSuffix(strings.Repeat("(?,?,?),", len(chunk)), ",")
		if err := tx.Exec("INSERT OR IGNORE INTO term_rows (term, attribute, person) VALUES "+marks,
			args...).Error; err != nil {
			return err
		}
	}
	return nil
}
