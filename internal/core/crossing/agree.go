package crossing

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
)

// What the person says when they are asked whether an application may be told: the
// field "agree" of the form, with the digest of what they saw beside it.
const (
	SaidYes = "yes"
	SaidNo  = "no"
)

// said is what the person said, "" if they said nothing, or about something else
// than what they are shown now.
func (d *drive) said() string {
	if d.e.Said != "" || d.e.Form == nil {
		return d.e.Said
	}
	if d.s.here.consent != nil &&
		subtle.ConstantTimeCompare([]byte(d.e.Form.Get("digest")), []byte(d.digest())) != 1 {
		return ""
	}
	return d.e.Form.Get("agree")
}

// digest is the sum of what is shown, with a number that only this browser was
// told: nobody else can make it say yes.
func (d *drive) digest() string {
	said, err := json.Marshal(struct {
		Question, App string
		Asked         *Consent
	}{d.s.Question, d.app.Title, d.s.here.consent})
	if err != nil {
		panic(err) // texts only
	}
	sum := sha256.Sum256(said)
	return base64.RawURLEncoding.EncodeToString(sum[:])
}
