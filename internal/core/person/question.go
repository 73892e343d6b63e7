package person

import (
	"crypto/sha256"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"strconv"
	"strings"
	"time"
)

// How a mailed code is bounded: how long it counts, how often it may be guessed, and how
// many are mailed in one crossing.
const (
	CodeLife  = 10 * time.Minute
	CodeTries = 5
	CodeMails = 3
)

// Proving is that a person proves an e-mail address by a code that was mailed to it.
type Proving struct {
	Name    string    `json:"name"` // of the attribute
	Address string    `json:"address"`
	Sum     []byte    `json:"sum,omitempty"` // of the code (CodeSum); none if it could not be mailed
	At      time.Time `json:"at,omitzero"`   // when it was mailed
	Failed  int       `json:"failed,omitempty"`
}

// CodeSum is what is kept of a code: with a number that nobody else knows.
func CodeSum(question, code string) []byte {
	sum := sha256.Sum256([]byte("code\x1f" + question + "\x1f" + code))
	return sum[:]
}

// longestSaid is how long a value may be that a person types, in octets.
const LongestSaid = 200

// unfit says what is wrong with a value that a person typed, "" if nothing is.
func Unfit(a federation.Asked, v string) string {
	if len(v) > LongestSaid || federation.CheckText(v, false) != nil {
		return Label(a.Name) + ": this is too long, or has characters that are not allowed."
	}
	if !profile.Means(a.Name, profile.ClaimEmail) {
		return ""
	}
	if _, ok := profile.Address(v); !ok {
		return Label(a.Name) + ": this is not an e-mail address."
	}
	return ""
}

// NameOf is what people read of an account: what is kept of its name, else the first of other
// names that there is, else its number.
func NameOf(p Person, others ...string) string {
	kept := func(name string) string {
		for _, k := range p.Values {
			if profile.Word(k.Name) == name && len(k.Attribute.Values) > 0 {
				return k.Attribute.Values[0].String()
			}
		}
		return ""
	}
	whole := strings.TrimSpace(kept("name.givenName") + " " + kept("name.familyName"))
	for _, name := range append([]string{kept("displayName"), whole, kept("userName"), kept("emails")}, others...) {
		if name != "" {
			return name
		}
	}
	return "Person " + strconv.FormatInt(p.ID, 10)
}

// Called is what people tell accounts of one name apart by.
func Called(p Person) string {
	words := []string{}
	for _, name := range []string{"displayName", "userName", "emails"} {
		for _, k := range p.Values {
			if profile.Word(k.Name) == name && len(k.Attribute.Values) > 0 && len(words) < 2 {
				words = append(words, k.Attribute.Values[0].String())
			}
		}
	}
	if len(words) == 0 {
		return "Account " + strconv.FormatInt(p.ID, 10)
	}
	return strings.Join(words, " · ")
}

// labels are how people read the names of attributes.
var labels = map[string]string{"displayName": "Your name", "name.givenName": "Given name",
	"name.familyName": "Family name",
	"emails":          "E-mail address", "phoneNumbers": "Telephone number", "employeeNumber": "Employee number",
	"userName": "User name",
	"title":    "Job title", "department": "Department", "nickName": "Nickname", "locale": "Language"}

func Label(name string) string {
	if l := labels[profile.Word(name)]; l != "" {
		return l
	}
	return strings.ToUpper(name[:1]) + name[1:]
}

// Digits are those of a text, which people write with spaces.
func Digits(s string) string {
	return strings.Map(func(r rune) rune {
		if r < '0' || r > '9' {
			return -1
		}
		return r
	}, s[:min(len(s), 100)])
}
