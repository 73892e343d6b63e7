package checks

import (
	"fmt"
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// editable are claims and attributes that people commonly set themselves, or that belong
// to several at once.
var editable = map[string]bool{"displayName": true, "nickName": true, "name.givenName": true, "name.familyName": true,
	"name.middleName": true, "phoneNumbers": true, "title": true, "locale": true, "department": true, "profileUrl": true,
	"photos":    true,
	"addresses": true, "website": true, "birthdate": true, "gender": true, "timezone": true}

// Kept is what is kept with people and lets nobody in, as far as checks look at it.
type Kept struct {
	Attributes []string                     // names of all that is kept with anybody
	Unproved   map[federation.ID][]Unproved // by the provider that brought it
	Alike      []int64                      // people with values that only look alike
	UserTypes  []string                     // those that rules name and that are kept with somebody
	Admitted   map[federation.ID]bool       // applications that somebody is admitted to by name
	Subjects   map[string]bool              // which names of applications in tokens are subjects of people
}

// Unproved is how many people have values of an attribute that nothing proves, and the first
// of them.
type Unproved struct {
	Attribute string
	Count     int64
	People    []int64
}

// MatchedBy are the attributes that people are found by at some provider.
func MatchedBy(snap *federation.Snapshot) (out []string) {
	for _, p := range snap.Providers() {
		for _, name := range p.By() {
			if word := profile.Word(name); !slices.Contains(out, word) {
				out = append(out, word)
			}
		}
	}
	slices.Sort(out)
	return out
}

func numbers(ids []int64, of int64) string {
	words := make([]string, len(ids))
	for i, id := range ids {
		words[i] = strconv.FormatInt(id, 10)
	}
	out := strings.Join(words, ", ")
	if more := of - int64(len(ids)); more > 0 {
		out += fmt.Sprintf(" and %d more", more)
	}
	return out
}

// matching notes where somebody could come to be taken for another person.
func (c *Checker) matching(l *List, p *federation.Provider) {
	proves := false
	for _, a := range p.Asks() {
		proves = proves || a.Verified
	}
	if proves && !c.Snap.Gate.Mails {
		l.Add(finding.New(finding.MailMissing, finding.Fact("Asked for", p.AskFor.String())))
	}
	for _, u := range c.Kept.Unproved[p.ID] {
		l.Add(finding.New(finding.MatchUnproved, finding.Fact("Attribute", u.Attribute),
			finding.Fact("People", numbers(u.People, u.Count))))
	}
	for _, name := range p.By() {
		word := profile.Word(name)
		cause := ""
		switch {
		case editable[word]:
			cause = "people commonly set it themselves, or share it"
		case word == "userName":
			cause = "a user name may change, and be somebody else's later"
		}
		if cause != "" {
			l.Add(finding.New(finding.MatchOpen, finding.Fact("Attribute", name), finding.Fact("Why", cause)))
		}
	}
	for _, d := range p.VouchesFor {
		if o, ok := c.Snap.OrganisationAt(d); ok {
			if mine, owned := c.Snap.OwnerOf(p.Name); !owned || mine.Name != o.Name {
				l.Add(finding.New(finding.MatchOpen, finding.Fact("Domain that it stands for", d),
					finding.Fact("Why", "the domain is that of the organisation "+string(o.Name)+
						", which the provider does not belong to")))
			}
		}
	}
}

// spoken sees that no name of an application in tokens is somebody else's.
func (c *Checker) spoken(l *List, a *federation.Application) {
	side := a.Side.Can().Speaking
	if side == nil {
		return
	}
	if f := finding.Of(Once(c, "speakers", c.Snap.Speakers).Clash(a)); f != nil {
		l.Add(f)
	}
	if own, _ := side.Spoken(); c.Kept.Subjects[own] {
		l.Add(finding.New(finding.NameShared, finding.Fact("Name", own),
			finding.Fact("Is already", "the subject of a person")))
	}
}
