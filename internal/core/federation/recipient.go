package federation

import (
	"cmp"
	"errors"
	"fmt"
	"net/url"
	"slices"
	"time"
)

// KindRecipient is the kind of recipients of events.
const KindRecipient Kind = "recipient"

// mostRecipients bounds how many there are: each is told everything.
const mostRecipients = 50

// Recipients describes who is told of what is done to people (RFC 8935 §1.2: SET recipients).
var Recipients = &Description{Kind: KindRecipient, Check: checkRecipient, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200, Text: "Who it is, like Payroll"},
	{Name: "address", Label: "Address", Type: OneLine, Most: 2000,
		Text: "Where events are posted to, as signed security event tokens; https, in a network that the gate may reach"},
	{Name: "about", Label: "Told about", Type: OneOf, Choices: []string{"", AboutRehearsals},
		Words: map[string]string{"": "what is done to people", AboutRehearsals: "rehearsals that run by themselves"},
		Text:  "What is done to people; or when a rehearsal that runs by itself begins to fail, or passes again"},
	{Name: "paused", Label: "Paused", Type: Switch, Text: "Nothing is posted; what is kept is posted once that ends"},
}}

// AboutRehearsals is what a recipient is told about that hears nothing of people.
const AboutRehearsals = "rehearsals"

// Recipient is somebody who is told of events.
type Recipient struct {
	Name     Name
	About    string // AboutRehearsals, or "" for people
	Title    string
	Address  string
	Paused   bool
	Added    time.Time
	Revision int
}

// RecipientOf reads a recipient. The error is a SettingError.
func RecipientOf(p *Plain) (*Recipient, error) {
	in := saidBy(p)
	paused, _ := p.Said["paused"].(bool)
	out := &Recipient{Name: p.Name, About: in.text("about"), Title: in.text("title"), Address: in.text("address"),
		Paused: paused, Added: p.Added, Revision: p.Revision}
	return out, in.err
}

// checkRecipient sees whether a recipient can be so.
func checkRecipient(after *Snapshot, p *Plain) error {
	r, err := RecipientOf(p)
	if err != nil {
		return err
	}
	u, err := url.Parse(r.Address)
	switch {
	case r.Title == "":
		return &SettingError{"title", errors.New("the title is empty; say who it is")}
	case r.Address == "":
		return &SettingError{"address", errors.New("it is empty; give the address that events are posted to")}
	case err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http":
		return &SettingError{"address", fmt.Errorf("%.200q is no address; write it like https://payroll.example/events",
			r.Address)}
	case u.User != nil || u.Fragment != "":
		return &SettingError{"address", errors.New("it has a user name or a fragment; leave these out")}
	case len(after.Recipients()) > mostRecipients:
		return &SettingError{"name", fmt.Errorf("there are more than %d recipients", mostRecipients)}
	}
	return nil
}

// Recipients are those of events, by name.
func (s *Snapshot) Recipients() (out []*Recipient) {
	for r, o := range s.others {
		if p, is := o.(*Plain); is && r.Kind == KindRecipient {
			if one, err := RecipientOf(p); err == nil {
				out = append(out, one)
			}
		}
	}
	slices.SortFunc(out, func(a, b *Recipient) int { return cmp.Compare(a.Name, b.Name) })
	return out
}
