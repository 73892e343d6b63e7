package crossing

import (
	"crypto/subtle"
	"fmt"
	"slices"
	"strconv"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
)

// Gave is what a person did on a page that asked them something, as it is recorded: no
// code is in it.
type Gave struct {
	Values map[string]string `json:"values,omitempty"`
	Picked int64             `json:"picked,omitempty"`
	Role   string            `json:"role,omitempty"`
	Code   string            `json:"code,omitempty"` // CodeRight or CodeWrong, "" if none was typed
	Do     string            `json:"do,omitempty"`   // one of the words below
}

// What a code was, and what else can be wanted of the page that asks for one.
const (
	CodeRight = "right"
	CodeWrong = "wrong"
	DoAgain   = "again" // mail another one
	DoOther   = "other" // to another address
	DoAsk     = "ask"   // for entry
	DoLeave   = "leave" // for the application, which hears of the refusal
)

// Mail is a message to somebody, with a code that whoever sends it makes up.
type Mail struct {
	To, Subject string
	Person      string // who asks for it: the key of their link, for counting
	Text        string // with CodeMark where the code is to stand
	Question    string // for CodeSum
}

// CodeMark stands in a mail for the code.
const CodeMark = "{code}"

// Mailed is what became of a mail.
type Mailed struct {
	Sum  []byte           `json:"-"` // of the code that was sent
	Fail *finding.Finding `json:"fail,omitempty"`
}

func (m Mailed) failed() error {
	if m.Fail == nil {
		return nil
	}
	return m.Fail
}

// lacking are the attributes that the person is to be asked for.
func (d *drive) lacking() []federation.Asked {
	return d.standing().Lacking()
}

// ChangePath is where on the portal somebody changes an attribute, whose name stands behind it.
const ChangePath = "/person/change/"

// changing is the attribute that the person wants to change themselves and may, until they said what it is to be.
func (d *drive) changing() (a federation.Asked, changes bool) {
	name := d.s.Wish.Change
	if name == "" || d.app.Name != federation.PortalName || !slices.Contains(d.snap.Changeable(), profile.Word(name)) ||
		slices.ContainsFunc(d.s.Given, func(g person.Given) bool { return g.Name == name }) || !d.theirs(name) {
		return a, false
	}
	return federation.Asked{Name: name, Verified: profile.Means(name, profile.ClaimEmail)}, true
}

// theirs reports whether what is kept of an attribute, if anything is, was said by the person themselves.
func (d *drive) theirs(name string) bool {
	return !slices.ContainsFunc(d.s.here.person.Values, func(k person.KeptValue) bool {
		return profile.Word(k.Name) == profile.Word(name) && k.From != person.FromPerson
	})
}

// question asks the person for what is missing, and goes on if nothing is.
func (d *drive) question(lacking []federation.Asked, then step) step {
	if len(lacking) == 0 || d.s.here.person.Key == "" { // of a passing name nothing could be kept
		return then
	}
	st := d.here(StepQuestion)
	st.Reasons.Add(reason.QuestionMissing, names(lacking))
	if d.s.Wish.Passive {
		return d.refuse(finding.New(finding.QuestionNeeded))
	}
	if g := d.hears(); g != nil {
		return d.take(*g, lacking)
	}
	said := ""
	if d.s.here.reshown { // the page again, as it was
		said = d.s.Said
	}
	if d.s.Proof != nil {
		return d.askCode(said)
	}
	if g := d.s.here.gave; g != nil && len(g.Values) > 0 {
		return d.askValues(lacking, "Fill in the fields that are still empty.")
	}
	return d.askValues(lacking, said)
}

func names(asked []federation.Asked) string {
	words := make([]string, len(asked))
	for i, a := range asked {
		words[i] = a.Name
	}
	return strings.Join(words, ", ")
}

// hears is what the person did on the page, once; nil if they did nothing, or on another
// page than the one that is shown.
func (d *drive) hears() *Gave {
	h := d.s.here
	if h.gave != nil || d.s.Stage != Questioned && d.s.Stage != Refusing {
		return nil
	}
	if d.e.Gave != nil {
		h.gave = d.e.Gave
		return h.gave
	}
	f := d.e.Form
	if f == nil || subtle.ConstantTimeCompare([]byte(f.Get("question")), []byte(d.s.Question)) != 1 {
		return nil
	}
	g := &Gave{Values: map[string]string{}}
	asked := d.p.Asks()
	if a, changes := d.changing(); changes {
		asked = []federation.Asked{a}
	}
	for _, a := range asked {
		if v := strings.TrimSpace(f.Get("value." + a.Name)); v != "" {
			g.Values[a.Name] = v[:min(len(v), 2*person.LongestSaid)]
		}
	}
	known := []string{DoAgain, DoOther}
	if d.s.Stage == Refusing {
		known = []string{DoAsk, DoLeave}
	}
	if g.Do = f.Get("do"); !slices.Contains(known, g.Do) {
		g.Do = ""
	}
	g.Role = finding.Clip(f.Get("role"))
	g.Picked, _ = strconv.ParseInt(f.Get("account"), 10, 64)
	if code := person.Digits(f.Get("code")); code != "" && d.s.Proof != nil && g.Do == "" {
		g.Code = CodeWrong
		if p := d.s.Proof; len(p.Sum) > 0 && subtle.ConstantTimeCompare(p.Sum, person.CodeSum(d.s.Question, code)) == 1 {
			g.Code = CodeRight
		}
	}
	h.gave = g
	return g
}

// take goes on with what the person did.
func (d *drive) take(g Gave, lacking []federation.Asked) step {
	p := d.s.Proof
	switch {
	case g.Do == DoOther:
		d.s.Proof = nil
		return d.askValues(lacking, "")
	case p != nil && g.Do == DoAgain:
		return d.mail(p.Name, p.Address)
	case p != nil && g.Code != "":
		return d.takeCode(g.Code)
	case len(g.Values) > 0:
		return d.takeValues(g.Values, lacking)
	case p != nil && len(p.Sum) > 0:
		return d.askCode("Type the code of the newest message.")
	case p != nil:
		return d.askCode("Have another code sent, or use another address.")
	}
	return d.askValues(lacking, "Fill in what is empty.")
}

// takeCode looks at a code that was typed.
func (d *drive) takeCode(code string) step {
	p := *d.s.Proof
	switch {
	case len(p.Sum) == 0 || d.now.Sub(p.At) > person.CodeLife:
		p.Sum = nil
		d.s.Proof = &p
		return d.askCode("The code is too old, or was tried too often. Have another one sent.")
	case code == CodeRight:
		d.at(StepQuestion).Reasons.Add(reason.QuestionProved, p.Name)
		d.s.Proof = nil
		d.s.Given = append(slices.DeleteFunc(slices.Clone(d.s.Given), func(g person.Given) bool { return g.Name == p.Name }),
			person.Given{Name: p.Name, Value: p.Address, Verified: true})
		// The guess counts only once it is stored: of many at once, one is made.
		d.keep()
		return d.ends(&Go{To: d.address()}, Waiting)
	}
	p.Failed++
	d.s.Proof = &p
	if p.Failed >= person.CodeTries {
		p.Sum = nil
		if d.s.Mails >= person.CodeMails {
			return d.refuse(finding.New(finding.CodeGuessed, finding.Fact("Attribute", p.Name)))
		}
		return d.askCode("The code was tried too often. Have another one sent.")
	}
	return d.askCode("That is not the code. Look at the newest message.")
}

// takeValues keeps what the person typed, and has addresses proved that are to be.
func (d *drive) takeValues(values map[string]string, lacking []federation.Asked) step {
	given := slices.Clone(d.s.Given)
	for _, a := range lacking {
		v := values[a.Name]
		if v == "" {
			continue
		}
		if say := person.Unfit(a, v); say != "" {
			return d.askValues(lacking, say)
		}
		if profile.Means(a.Name, profile.ClaimEmail) { // what is kept, compared and mailed to is the same
			v, _ = profile.Address(v)
			values[a.Name] = v
		}
		if !a.Verified { // what has to be proved is nothing before it is
			given = append(slices.DeleteFunc(given, func(g person.Given) bool { return g.Name == a.Name }),
				person.Given{Name: a.Name, Value: v})
		}
	}
	d.s.Given = given
	for _, a := range lacking {
		if p := d.s.Proof; a.Verified && p != nil && p.Name == a.Name && p.Address == values[a.Name] && len(p.Sum) > 0 {
			return d.askCode("") // sent twice: the code on its way stays good
		}
		if a.Verified && values[a.Name] != "" {
			return d.mail(a.Name, values[a.Name])
		}
	}
	return (*drive).match
}

// mail has a code sent to an address.
func (d *drive) mail(name, address string) step {
	if d.s.Mails >= person.CodeMails {
		return d.refuse(finding.New(finding.CodeMails, finding.Fact("Attribute", name)))
	}
	d.pause(Questioned)
	d.s.Mails++
	d.s.Proof = &person.Proving{Name: name, Address: address}
	d.keep()
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "code by mail"})
	return d.need(Lack(&Mail{To: address, Person: d.s.here.person.Key, Question: d.s.Question, Subject: "Your code for " +
		d.app.Title,
		Text: "Somebody, probably you, signs in to " + d.app.Title + " and gave this address.\n\nThe code is " + CodeMark +
			"\n\nType it on the page that asks for it, within ten minutes. If it was not you, do nothing: nobody can go on without the code.\n"}),
		(*drive).mailed)
}

// mailed goes on once the mail is out, or could not be sent: then nothing is lost.
func (d *drive) mailed() step {
	p := *d.s.Proof
	f, mailed := Fact(d.f, &Mail{})
	if mailed && f.Fail == nil {
		p.Sum, p.At, p.Failed = f.Sum, d.now, 0
		d.s.Proof = &p
		return d.askCode("")
	}
	if f.failed() != nil {
		d.here(StepQuestion).Finding = f.Fail
	}
	d.s.Mails-- // it did not go out
	d.s.Proof = &p
	if finding.Is(f.failed(), finding.MailLimit) {
		return d.askCode("Too many codes were asked for. Wait a quarter of an hour, then have one sent; nothing is lost, and this page can be left open.")
	}
	return d.askCode("The message could not be sent. Try again in a few minutes; nothing is lost, and this page can be left open.")
}

// pause has the crossing wait for the person, with the provider's word in its leg.
func (d *drive) pause(stage Stage) {
	if d.s.Stage == stage {
		return
	}
	d.s.Stage, d.s.Question = stage, d.f.New
}

// asks shows a page that asks something.
func (d *drive) asks(f Form) step {
	d.pause(Questioned)
	d.s.Said = f.Wrong
	d.keep()
	f.Question = d.s.Question
	d.trace(TraceStep{From: GateLane, To: BrowserLane, Name: "question page"})
	return d.ends(&Show{Page: PageForm, App: d.app.Title, Form: &f}, Waiting)
}

// askValues shows the page for what is missing.
func (d *drive) askValues(lacking []federation.Asked, wrong string) step {
	f := Form{Submit: "Go on", Wrong: wrong}
	f.Title, f.Text = d.asking(lacking)
	known := d.standing().Known()
	for _, a := range lacking {
		in := Input{Name: "value." + a.Name, Label: person.Label(a.Name), Autofill: autofills[a.Name]}
		if profile.Means(a.Name, profile.ClaimEmail) {
			in.Type, in.Autofill = "email", "email"
		}
		if a.Verified {
			in.Hint = "We mail you a code, to see that it is yours."
		}
		if v := d.s.here.gaveValue(a.Name); v != "" {
			in.Fill = v
		} else if said := append(profile.Find(known.Attributes, a.Name),
			profile.Find(d.s.here.who.Attributes, a.Name)...); len(said) > 0 {
			in.Fill = said[0].String()
		}
		f.Fields = append(f.Fields, in)
	}
	return d.asks(f)
}

// asking says what is missing, and what for.
func (d *drive) asking(lacking []federation.Asked) (title, text string) {
	var names []string
	proof := true
	for _, a := range lacking {
		name := person.Label(a.Name)
		if short, your := strings.CutPrefix(name, "Your "); your {
			name = short
		}
		names = append(names, strings.ToLower(name[:1])+name[1:])
		proof = proof && a.Verified
	}
	came := profile.Find(d.s.here.who.Attributes, lacking[0].Name)
	switch {
	case d.s.Wish.Change != "" && d.app.Name == federation.PortalName:
		return "Change your " + names[0], "Type what it is from now on."
	case len(lacking) == 1 && proof && len(came) > 0:
		return "Is this your " + names[0] + "?", d.app.Title +
			" needs one that is yours for certain: type it, and we mail you a code."
	case len(lacking) == 1:
		title = "What is your " + names[0] + "?"
		text = fmt.Sprintf("%s sent no %s. %s needs one: type yours", d.p.Title, names[0], d.app.Title)
		if proof {
			return title, text + ", and we mail you a code."
		}
		return title, text + "."
	}
	list := strings.Join(names[:len(names)-1], ", ") + " and " + names[len(names)-1]
	return "A few details are missing", fmt.Sprintf("%s needs your %s, and %s did not send them.", d.app.Title, list,
		d.p.Title)
}

func (h *here) gaveValue(name string) string {
	if h.gave == nil {
		return ""
	}
	return h.gave.Values[name]
}

// askCode shows the page for a code.
func (d *drive) askCode(wrong string) step {
	p := d.s.Proof
	f := Form{Title: "Type the code", Text: "We sent a code to " + p.Address + ". It is valid for ten minutes.",
		Submit: "Go on", Wrong: wrong}
	if len(p.Sum) > 0 {
		f.Fields = []Input{{Name: "code", Label: "Code", Code: true}}
	} else {
		f.Title, f.Text = "Is this your address?", "No code was sent to "+p.Address+" yet."
		f.Submit = ""
	}
	if d.s.Mails < person.CodeMails {
		f.Also = append(f.Also, Choice{DoAgain, "Send another code"})
	}
	f.Also = append(f.Also, Choice{DoOther, "Use another address"})
	return d.asks(f)
}

// whichAccount asks the person which of several accounts they are.
func (d *drive) whichAccount() step {
	h := d.s.here
	st := d.here(StepQuestion)
	if g := d.hears(); g != nil && g.Picked != 0 && d.s.Picked == 0 {
		if slices.ContainsFunc(h.seen.Several, func(p person.Person) bool { return p.ID == g.Picked }) {
			d.s.Picked = g.Picked
			return (*drive).match
		}
	}
	if d.s.Wish.Passive {
		return d.refuse(finding.New(finding.QuestionNeeded))
	}
	f := Form{Title: "Which account is yours?", Text: "Several accounts fit. The one you choose is used from now on.",
		Option: "account"}
	for _, p := range h.seen.Several {
		f.Options = append(f.Options, Choice{strconv.FormatInt(p.ID, 10), person.Called(p)})
	}
	st.Reasons.Add(reason.QuestionAccount)
	return d.asks(f)
}

// autofills are what browsers know attributes as (HTML §4.10.18.7.1).
var autofills = map[string]string{"displayName": "name", "name.givenName": "given-name",
	"name.familyName": "family-name",
	"phoneNumbers":    "tel", "userName": "username", "title": "organization-title", "nickName": "nickname",
	"locale": "language"}
