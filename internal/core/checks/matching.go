package checks

import (
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// editable are claims and attributes that people commonly set themselves, or that belong
// to several at once.
var editable = map[string]bool{"displayName": true, "nickName": true, "name.givenName": true, "name.familyName": true,
	"name.middleName": true, "phoneNumbers": true, "title": true, "locale": true, "department": true, "profileUrl": true, "photos": true,
	"addresses": true, "website": true, "birthdate": true, "gender": true, "timezone": true}

// matching notes where somebody could come to be taken for another person.
func (c *Checker) matching(l *List, p *federation.Provider) {
	proves := false
	for _, a := range p.Asks() {
		proves = proves || a.Verified
	}
	if proves && !c.Snap.Gate.Mails {
		l.Add(finding.New(finding.MailMissing, finding.Fact("Asked for", p.AskFor)))
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
	for _, d := range strings.Fields(p.VouchesFor) {
		if o, ok := c.Snap.OrganisationAt(d); ok {
			if mine, owned := c.Snap.OwnerOf(p.Name); !owned || mine.Name != o.Name {
				l.Add(finding.New(finding.MatchOpen, finding.Fact("Domain that it stands for", d),
					finding.Fact("Why", "the domain is that of the organisation "+string(o.Name)+", which the provider does not belong to")))
			}
		}
	}
}
