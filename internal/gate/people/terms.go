package people

import (
	"cmp"
	"context"
	"slices"
	"strings"
	"unicode"

	"golang.org/x/text/unicode/norm"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/store"
)

// What people are looked for by is bounded: how long a term is, in octets, and how many
// there are of a person's values.
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

// Terms are what somebody is looked for by, of what is kept with them.
func Terms(person int64, values []crossing.KeptValue) (out []store.TermRow) {
	add := func(term, attribute string) {
		row := store.TermRow{Term: term, Attribute: attribute, Person: person}
		if term != "" && len(term) <= longestTerm && len(out) < mostTerms && !slices.Contains(out, row) {
			out = append(out, row)
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
					add(p, store.TermPart)
				}
			}
			for _, p := range words {
				add(bare(p), store.TermPart)
			}
		}
	}
	return out
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
var worded = map[string]bool{"displayName": true, "userName": true, "emails": true, "name.givenName": true, "name.familyName": true,
	"name.formatted": true, "nickName": true}

func subjectTerms(person int64, s profile.Subject) (out []store.TermRow) {
	term := profile.Fold(s.Value)
	if term == "" || len(term) > longestTerm {
		return nil
	}
	out = append(out, store.TermRow{Term: term, Attribute: store.TermSubject, Person: person})
	local, _, _ := strings.Cut(term, "@")
	for _, p := range parts(local) {
		out = append(out, store.TermRow{Term: p, Attribute: store.TermSubjectPart, Person: person})
	}
	return out
}

// PutTerms adds terms, as far as they are not there.
func PutTerms(tx *gorm.DB, rows []store.TermRow) error {
	slices.SortFunc(rows, func(a, b store.TermRow) int { // in the order in which they lie on the disk
		return cmp.Or(strings.Compare(a.Term, b.Term), strings.Compare(a.Attribute, b.Attribute), cmp.Compare(a.Person, b.Person))
	})
	for chunk := range slices.Chunk(rows, 300) {
		args := make([]any, 0, 3*len(chunk))
		for _, r := range chunk {
			args = append(args, r.Term, r.Attribute, r.Person)
		}
		marks := strings.TrimSuffix(strings.Repeat("(?,?,?),", len(chunk)), ",")
		if err := tx.Exec("INSERT OR IGNORE INTO term_rows (term, attribute, person) VALUES "+marks, args...).Error; err != nil {
			return err
		}
	}
	return nil
}

// valueTerms has somebody looked for by what is kept with them now.
func valueTerms(tx *gorm.DB, person int64, values []crossing.KeptValue) error {
	err := tx.Exec("DELETE FROM term_rows WHERE person = ? AND attribute NOT IN (?, ?)", person, store.TermSubject,
		store.TermSubjectPart).Error
	if err != nil {
		return err
	}
	return PutTerms(tx, Terms(person, values))
}

// createLinks stores links, and has their people looked for by the names in them.
func (rm *Room) createLinks(tx *gorm.DB, rows []*store.LinkRow) error {
	if err := tx.CreateInBatches(rows, 200).Error; err != nil {
		return err
	}
	var terms []store.TermRow
	for _, row := range rows {
		s, err := rm.subject(*row)
		if err != nil {
			return err
		}
		if s != nil {
			terms = append(terms, subjectTerms(row.Person, *s)...)
		}
	}
	return PutTerms(tx, terms)
}

// SubjectTerms has somebody looked for by the links that they have now.
func (rm *Room) SubjectTerms(tx *gorm.DB, person int64) error {
	err := tx.Exec("DELETE FROM term_rows WHERE person = ? AND attribute IN (?, ?)", person, store.TermSubject,
		store.TermSubjectPart).Error
	var rows []store.LinkRow
	if err == nil {
		err = tx.Where("person = ?", person).Find(&rows).Error
	}
	var terms []store.TermRow
	for _, row := range rows {
		if err != nil {
			return err
		}
		var s *profile.Subject
		if s, err = rm.subject(row); s != nil {
			terms = append(terms, subjectTerms(person, *s)...)
		}
	}
	if err != nil {
		return err
	}
	return PutTerms(tx, terms)
}

// indexed is the setting that says that people of earlier builds are looked for, too.
const indexed = "people-terms"

// Index has people looked for who were stored by builds that did not keep terms.
func (rm *Room) Index(ctx context.Context) error {
	if done, err := rm.store.Setting(ctx, indexed, "no"); err != nil || done != "no" {
		return err
	}
	for after := int64(0); ; {
		var rows []store.PersonRow
		err := rm.store.Read.WithContext(ctx).Where("id > ?", after).Order("id").Limit(500).Find(&rows).Error
		if err != nil {
			return err
		}
		if len(rows) == 0 {
			break
		}
		after = rows[len(rows)-1].ID
		err = rm.store.Write(ctx, func(tx *gorm.DB) error {
			for _, row := range rows {
				values, err := rm.Values(row.Sealed)
				if err == nil {
					err = valueTerms(tx, row.ID, values)
				}
				if err == nil {
					err = rm.SubjectTerms(tx, row.ID)
				}
				if err != nil {
					return err
				}
			}
			return nil
		})
		if err != nil {
			return err
		}
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Save(&store.SettingRow{Key: indexed, Value: "yes"}).Error
	})
}
