package crossing

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/reason"
)

// What the person says when they are asked whether an application may be told: the
// field "agree" of the form, with the digest of what they saw beside it.
const (
	SaidYes = "yes"
	SaidNo  = "no"
)

// agree asks the person whether the application may be told, where they have to be
// asked: they have not agreed before, or not to as much.
func (d *drive) agree() step {
	h := &d.s.here
	c := h.consent
	if h.person.ID != 0 && d.f.agreed() == nil {
		return d.need(Lack(AgreedBefore{App: d.app.ID, Person: h.person.ID}), (*drive).agree)
	}
	st := d.here(StepAgree)
	if c.settled(d.f.agreed()) {
		st.Reasons.Add(reason.ConsentBefore, strings.Join(c.Scopes, " "))
		return d.end(h.plan)
	}
	switch d.said() {
	case SaidYes:
		st.Reasons.Add(reason.ConsentNow, strings.Join(c.Scopes, " "))
		h.agreed = c.Scopes
		return d.end(h.plan)
	case SaidNo:
		return d.refuse(finding.New(finding.ConsentDeclined))
	}
	if d.s.Wish.Passive {
		return d.refuse(finding.New(finding.ConsentNeeded, finding.Fact("Scopes", strings.Join(c.Scopes, " "))))
	}
	d.pause(Agreeing)
	d.keep()
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "consent page", Values: c.Shown})
	return d.ends(&Show{Page: PageAgree, App: d.app.Title, Agree: &Agree{Consent: *c, Digest: d.digest(),
		Policy: d.app.Policy}}, Waiting)
}

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

// goOn takes the sign-in up again after the person was asked: by the provider's
// word of then, with everything else as it is now. A session that has ended
// meanwhile begins it anew.
func (d *drive) goOn() step {
	st := d.arrive(TraceStep{From: BrowserLane, To: GateLane, Name: string(d.e.Kind)})
	st.Reasons.Add(reason.ConsentAnswer)
	if d.p == nil {
		return d.refuse(finding.New(finding.ProviderUnknown, finding.Fact("Name", string(d.s.Provider))))
	}
	if err := policy.Open(d.p, d.now); err != nil {
		return d.refuse(err)
	}
	if !d.s.ByWord {
		a := d.f.Session.Of(d.p)
		if a == nil || !a.At.Equal(d.s.Word.At) || a.Subject != d.s.Word.Subject {
			return (*drive).choose
		}
		d.s.here.by = d.f.Session
	}
	d.s.here.answer = d.s.Word
	return (*drive).intake
}
