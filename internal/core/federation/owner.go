package federation

import (
	"net/mail"
	"net/url"
	"strings"
)

// Answering is somebody who answers for a record: a name, an e-mail address or a link.
type Answering struct {
	Words string
	Mail  string // address, "" for none
	Link  string // beginning with https://, "" for none
}

// Mails are the e-mail addresses among those who answer, at most so many.
func Mails(owner string, most int) (out []string) {
	for _, x := range Answers(owner) {
		if x.Mail != "" && len(out) < most {
			out = append(out, x.Mail)
		}
	}
	return out
}

// Answers reads the setting owner: names, e-mail addresses and links, separated by commas or semicolons.
func Answers(owner string) (out []Answering) {
	for _, text := range strings.FieldsFunc(owner, func(r rune) bool { return r == ',' || r == ';' }) {
		text = strings.TrimSpace(text)
		one := Answering{Words: text}
		if u, err := url.Parse(text); err == nil && u.Scheme == "https" && u.Host != "" && u.User == nil {
			one.Words, one.Link = u.Host+strings.TrimSuffix(u.Path, "/"), u.String()
		} else if a, err := mail.ParseAddress(text); err == nil {
			one.Mail = a.Address
			if a.Name != "" {
				one.Words = a.Name
			}
		}
		if text != "" {
			out = append(out, one)
		}
	}
	return out
}
