package rehearsal

import (
	"net/netip"
	"net/url"
	"regexp"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// Typist is whoever fills in the forms of a run that nobody attends. The password is none of it: a move says where
// that goes.
type Typist struct {
	Username string
	// Hosts are those whose forms may be given the password, as in addresses: host, or host:port.
	Hosts []string
	// Plain says that a form on loopback may have it over plain http.
	Plain bool
	// Typed says that the password was given already. It is given once in a run.
	Typed bool
}

// Move is the next request of a browser that nobody sits at.
type Move struct {
	Post    bool
	Address *url.URL
	Fields  url.Values
	// Password names the field that the password goes into, "" for none.
	Password string
}

// Goes is the move to an address.
func Goes(to *url.URL) Move { return Move{Address: to} }

var (
	namesSomebody = regexp.MustCompile(`(?i)user|login|log-in|account|e-?mail|identif|^uid$|^name$|address`)
	asksForCode   = regexp.MustCompile(`(?i)otp|one-?time|totp|passcode|verif|mfa|2fa|second|factor|^code$|^pin$|token|sms`)
	asksForSight  = regexp.MustCompile(`(?i)captcha|puzzle|are you human|not a robot`)
)

// Next is what to do on a page. The error is a finding: the page cannot be driven, or it does not take the account.
func (t Typist) Next(p Page) (Move, error) {
	if f, with := p.passwordForm(); with {
		return t.signsIn(p, f)
	}
	for _, f := range p.Forms {
		if slices.ContainsFunc(f.shown(), secondFactor) {
			return Move{}, p.undriven("it asks for a code or another second factor")
		}
	}
	for _, f := range p.Forms {
		fields := f.shown()
		if len(fields) == 1 && names(fields[0]) && !t.Typed {
			out, err := f.move(p)
			if err == nil {
				out.Fields.Set(fields[0].Name, t.Username)
			}
			return out, err
		}
	}
	if p.Refresh != nil {
		return Goes(p.Refresh), nil
	}
	ready := slices.DeleteFunc(slices.Clone(p.Forms), func(f Form) bool { return len(f.shown()) > 0 })
	switch {
	case asksForSight.MatchString(p.Text + p.Title):
		return Move{}, p.undriven("it wants proof that a person sits there")
	case len(ready) == 1 && len(p.Forms) == 1:
		return ready[0].move(p)
	case len(p.Forms) > 0 && len(p.Forms[0].shown()) > 0:
		return Move{}, p.undriven("it asks for " + asked(p.Forms[0].shown()))
	case len(p.Forms) > 1:
		return Move{}, p.undriven("it has several forms, and nothing tells which one goes on")
	case p.Frames:
		return Move{}, p.undriven("what it shows is in a frame")
	case p.Scripts:
		return Move{}, p.undriven("its form is made by a script")
	}
	return Move{}, p.undriven("it has no form, and leads nowhere")
}

// passwordForm is the form of a page that asks for a password.
func (p Page) passwordForm() (Form, bool) {
	for _, f := range p.Forms {
		if len(f.of("password")) > 0 {
			return f, true
		}
	}
	return Form{}, false
}

// signsIn fills in user name and password.
func (t Typist) signsIn(p Page, f Form) (Move, error) {
	passwords, others := f.of("password"), f.shown()
	others = slices.DeleteFunc(others, func(i Input) bool { return i.Type == "password" })
	at := slices.IndexFunc(others, names)
	if at < 0 && len(others) == 1 && !secondFactor(others[0]) {
		at = 0
	}
	switch {
	case t.Typed:
		return Move{}, finding.New(finding.TestAccountRefused, finding.Fact("User name", t.Username),
			finding.Fact("Page", p.Where()), finding.Passing("It says", p.complains()))
	case len(passwords) > 1:
		return Move{}, p.undriven("it asks for a new password")
	case asksForSight.MatchString(p.Text + p.Title):
		return Move{}, p.undriven("it wants proof that a person sits there")
	case slices.ContainsFunc(others, secondFactor):
		return Move{}, p.undriven("it asks for a code or another second factor beside the password")
	case len(others) > 1, len(others) == 1 && at < 0:
		return Move{}, p.undriven("it asks for " + asked(others))
	case !f.Post:
		return Move{}, p.undriven("its form would send the password within the address")
	case !t.trusts(p.Address), f.Action == nil, !t.trusts(f.Action):
		return Move{}, p.undriven("its form does not lie, or lead, to an https address at the provider's hosts on record")
	case passwords[0].Name == "":
		return Move{}, p.undriven("its form is sent by a script")
	}
	out, err := f.move(p)
	if err != nil {
		return out, err
	}
	if at >= 0 {
		out.Fields.Set(others[at].Name, t.Username)
	}
	out.Fields.Del(passwords[0].Name)
	out.Password = passwords[0].Name
	return out, nil
}

// trusts reports whether the password may go to an address.
func (t Typist) trusts(to *url.URL) bool {
	if to.User != nil || !slices.Contains(t.Hosts, strings.ToLower(to.Host)) {
		return false
	}
	if to.Scheme == "https" {
		return true
	}
	ip, err := netip.ParseAddr(to.Hostname())
	return t.Plain && to.Scheme == "http" && (err == nil && ip.IsLoopback() || to.Hostname() == "localhost")
}

// move sends a form as it is.
func (f Form) move(p Page) (Move, error) {
	if f.Action == nil || f.Action.Scheme != "https" && f.Action.Scheme != "http" {
		return Move{}, p.undriven("its form leads to no address")
	}
	if f.Coding != "" {
		return Move{}, p.undriven("its form is sent as " + f.Coding)
	}
	return Move{Post: f.Post, Address: f.Action, Fields: f.sent()}, nil
}

// shown are the controls that somebody has to fill in. A list has something chosen, and a box may be left alone.
func (f Form) shown() (out []Input) {
	for _, i := range f.Inputs {
		switch i.Type {
		case "hidden", "submit", "button", "reset", "image", "select", "checkbox":
			if i.Type == "checkbox" && i.Unset && i.Required {
				out = append(out, i)
			}
			continue
		}
		out = append(out, i)
	}
	return out
}

func names(i Input) bool {
	return slices.Contains([]string{"text", "email", "tel"}, i.Type) && i.Name != "" && !secondFactor(i) &&
		(i.Type == "email" || strings.Contains(i.Fill, "username") || strings.Contains(i.Fill, "email") ||
			namesSomebody.MatchString(i.Name) || namesSomebody.MatchString(i.Label))
}

func secondFactor(i Input) bool {
	return i.Fill == "one-time-code" || i.Type != "password" && !strings.Contains(i.Fill, "username") &&
		i.Type != "email" && asksForCode.MatchString(i.Name)
}

// asked says what fields ask for.
func asked(list []Input) string {
	var out []string
	for _, i := range list {
		name := i.Label
		if name == "" {
			name = i.Name
		}
		if out = append(out, finding.Clip(name)); len(out) == 5 {
			break
		}
	}
	return strings.Join(out, ", ")
}

// Where is the address of a page without what could be secret in it.
func (p Page) Where() string {
	u := *p.Address
	u.RawQuery, u.User, u.Fragment = "", nil, ""
	return finding.Clip(u.String())
}

// complains is what a page says of an error.
func (p Page) complains() string {
	if p.Alert != "" {
		return p.Alert
	}
	return p.Text
}

// undriven is the finding that nobody but a person can go on from a page.
func (p Page) undriven(because string) *finding.Finding {
	f := finding.New(finding.RehearsalUndriven, finding.Fact("Page", p.Where()))
	if p.Title != "" {
		f = f.With(finding.Passing("Title", p.Title))
	}
	return f.With(finding.Fact("Because", because))
}

// Undriven is the finding that a run cannot go on by itself from an address.
func Undriven(at *url.URL, because string) *finding.Finding {
	return Page{Address: at}.undriven(because)
}

// Stays is the finding that the other side shows an error and sends nobody back.
func (p Page) Stays() *finding.Finding {
	return finding.New(finding.CrossingLeft, finding.Fact("Page", p.Where()), finding.Passing("It says", p.complains()))
}
