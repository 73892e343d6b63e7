package federation

import (
	"cmp"
	"errors"
	"fmt"
	"net/mail"
	"net/url"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/nearword"
)

// KindRehearsal is the kind of rehearsals.
const KindRehearsal Kind = "rehearsal"

// Sides on which a rehearsal starts.
const (
	StartApplication = "application"
	StartGate        = "gate"
	StartProvider    = "provider"
)

// Rehearsals describes saved sign-in tests.
var Rehearsals = &Description{Kind: KindRehearsal, Check: checkRehearsal, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200,
		Text: "What is rehearsed, like A driver enters from the roster"},
	{Name: "application", Label: "Application", Type: Named, Refers: KindApplication, Most: 63,
		Text: "What somebody signs in to"},
	{Name: "provider", Label: "Provider", Type: Named, Refers: KindProvider, Most: 63, Text: "By which they come",
		Default: "as the rules decide"},
	{Name: "start", Label: "Starts at", Type: OneOf, Choices: []string{StartGate, StartApplication, StartProvider},
		Words: map[string]string{StartGate: "the gate", StartApplication: "the application",
			StartProvider: "the provider"},
		Default: "gate",
		Text:    "Which side begins: the application is opened and asks itself, the gate starts as a portal does, or the provider sends an answer that nobody asked for"},
	{Name: "force", Label: "Sign in afresh", Type: Switch, Group: GroupWish,
		Text: "The provider is asked not to let a session of before do"},
	{Name: "passive", Label: "Without asking anything", Type: Switch, Group: GroupWish,
		Text: "Of a start at the gate: nobody is shown a page"},
	{Name: "context", Label: "Sign in at least as strongly as", Type: OneLine, Most: 1000, Group: GroupWish,
		Text: "Of a start at the gate: an authentication context of the ranking"},
	{Name: "role", Label: "Role that is asked for", Type: OneLine, Most: 63, Group: GroupWish,
		Text: "Of a start at the gate: one of the application's"},
	{Name: "expect", Label: "Expected", Type: Values, Most: 2000,
		Text: "One a line: entered; refused; refused by FINDING-CODE; refused by rule NAME; name is VALUE; name matches PATTERN; " +
			"attribute NAME is VALUE (exactly those that lines name), has VALUE, matches PATTERN, present or absent; " +
			"role is NAME; person is NUMBER; within 30s",
		Default: "entered"},
	{Name: "username", Label: "User name of the test account", Type: OneLine, Most: 300, Group: GroupUnattended,
		Text: "At the provider; its password is given apart, and kept sealed"},
	{Name: "every", Label: "Runs by itself every", Type: OneLine, Most: 10, Group: GroupUnattended,
		Text: "Such as 15m, 6h or 24h; 5m at least", Default: "never on a schedule"},
	{Name: "afterChanges", Label: "Runs by itself after changes", Type: Switch, Group: GroupUnattended,
		Text: "Of the application, the provider, their mappings, rules and keys; several at once become one run"},
	{Name: "hosts", Label: "Further hosts of the sign-in", Type: List, Most: 1000, Group: GroupUnattended,
		Text: "Through which it passes beside those on record; their forms may be given the password"},
	{Name: "opens", Label: "Address that starts it", Type: OneLine, Most: 2000, Group: GroupUnattended,
		Text:    "Of a start at the provider or the application: what the tester would open there",
		Default: "where the gate sends whoever opens the link"},
	{Name: "mails", Label: "Mailed when it turns", Type: List, Most: 1000, Group: GroupUnattended,
		Text:    "Addresses that are mailed once when its runs by itself begin to fail, and once when they pass again",
		Default: "the owners of the application"},
	{Name: "notes", Label: "Notes", Type: Lines, Most: 20000, Text: "Why it is rehearsed so"},
}}

// Groups of settings of rehearsals.
const (
	GroupWish       = "What is wished"
	GroupUnattended = "Without anybody there"
)

// RehearsalPlan is a rehearsal as it was saved.
type RehearsalPlan struct {
	Name           Name
	Title          string
	App, Provider  Name
	Start          string
	Force, Passive bool
	Context, Role  string
	Expect         []Expectation
	ByItself
	Revision int
	Added    time.Time
}

// ByItself says how a rehearsal runs while nobody is there.
type ByItself struct {
	Username     string // of the test account, "" for none
	Every        time.Duration
	AfterChanges bool
	Hosts        []string // beside those on record
	Opens        string
	Mails        []string
}

// shortestEvery and longestEvery bound how often a rehearsal runs by itself: no run takes so long as the shortest.
const (
	shortestEvery = 5 * time.Minute
	longestEvery  = 31 * 24 * time.Hour
)

// byItself reads how a rehearsal runs by itself.
func (in *said) byItself() (out ByItself) {
	words := func(name string) []string { return strings.Fields(in.text(name)) }
	out = ByItself{Username: in.text("username"), AfterChanges: in.is("afterChanges"), Hosts: words("hosts"),
		Opens: in.text("opens"), Mails: words("mails")}
	if every := in.text("every"); every != "" {
		var err error
		if out.Every, err = time.ParseDuration(every); err != nil {
			err = fmt.Errorf("%.40q is no length of time; write it like 15m, 6h or 24h", every)
		} else if out.Every < shortestEvery || out.Every > longestEvery {
			err = fmt.Errorf("%s is shorter than a run may take, or longer than a month; use 5m to 744h", every)
		}
		in.bad("every", err)
	}
	for i, h := range out.Hosts {
		out.Hosts[i] = strings.ToLower(h)
		if u, err := url.Parse("https://" + h); err != nil || u.Host != h || u.Hostname() == "" {
			in.bad("hosts", fmt.Errorf("%.100q is no host; write it like login.oakhollow.example", h))
		}
	}
	if out.Opens != "" && !IsAddress(out.Opens) {
		in.bad("opens", fmt.Errorf("%.200q is no whole http or https address", out.Opens))
	}
	for _, m := range out.Mails {
		if a, err := mail.ParseAddress(m); err != nil || a.Address != m {
			in.bad("mails", fmt.Errorf("%.100q is no e-mail address", m))
		}
	}
	return out
}

// RehearsalOf reads a rehearsal. The error is a SettingError.
func RehearsalOf(p *Plain) (*RehearsalPlan, error) {
	in := saidBy(p)
	out := &RehearsalPlan{Name: p.Name, Title: in.text("title"), App: Name(in.text("application")),
		Provider: Name(in.text("provider")), Start: cmp.Or(in.text("start"), StartGate), Force: in.is("force"),
		Passive: in.is("passive"), Context: in.text("context"), Role: in.text("role"), Revision: p.Revision, Added: p.Added}
	var err error
	out.Expect, err = ParseExpectations(listOf[string](in.Settings, "expect"))
	in.bad("expect", err)
	out.ByItself = in.byItself()
	return out, in.err
}

// By is the provider by which a rehearsal comes, "" where the rules decide.
func (r *RehearsalPlan) By(app *Application) Name { return cmp.Or(r.Provider, app.Provider) }

// checkByItself sees whether a rehearsal can run by itself as it says.
func (r *RehearsalPlan) checkByItself(app *Application) error {
	runs := r.Every > 0 || r.AfterChanges
	switch {
	case r.Username == "" && runs:
		return &SettingError{"username",
			errors.New("it is to run by itself, and names no test account; give its user name at the provider")}
	case r.Username != "" && r.By(app) == "":
		return &SettingError{"provider", errors.New("it has a test account, and nothing says at which provider; name that")}
	case r.Username != "" && !app.Attended():
		return &SettingError{"username", errors.New("nobody signs in to a service; leave it empty")}
	}
	return nil
}

// mostRehearsals bounds how many there are of one application.
const mostRehearsals = 200

// checkRehearsal sees whether a rehearsal can be so, and whether what it expects can ever hold.
func checkRehearsal(after *Snapshot, p *Plain) error {
	r, err := RehearsalOf(p)
	if err != nil {
		return err
	}
	app, there := after.Application(r.App)
	switch {
	case r.App == "":
		return &SettingError{"application", errors.New("it is empty; say what somebody signs in to")}
	case !there:
		return &SettingError{"application", fmt.Errorf("there is no application %q", r.App)}
	case r.Title == "":
		return &SettingError{"title", errors.New("the title is empty; say what is rehearsed")}
	case len(after.RehearsalsOf(r.App)) > mostRehearsals:
		return &SettingError{"application", fmt.Errorf("there are more than %d rehearsals of it", mostRehearsals)}
	case app.Provider != "" && r.Provider != "" && app.Provider != r.Provider:
		return &SettingError{"provider",
			fmt.Errorf("the application is tied to %s: nobody comes by %s; leave it empty, or set provider of the application",
				app.Provider, r.Provider)}
	case r.Start == StartProvider && r.Provider == "" && app.Provider == "":
		return &SettingError{"provider", errors.New("a rehearsal that starts at the provider has to name it")}
	case r.Start == StartApplication && (r.Passive || r.Context != "" || r.Role != ""):
		return &SettingError{"start",
			errors.New("an application that starts says itself what it wishes; leave out passive, context and role")}
	}
	if err := r.checkByItself(app); err != nil {
		return err
	}
	return checkExpected(after, r)
}

// checkExpected sees that roles and rules which are expected are there.
func checkExpected(after *Snapshot, r *RehearsalPlan) error {
	roles := []string{}
	for _, one := range after.Book(r.App).Roles {
		roles = append(roles, one.As)
	}
	role := func(field, name string) error {
		if slices.Contains(roles, name) {
			return nil
		}
		err := fmt.Errorf("%s has no role %q", r.App, name)
		if near := nearword.Of(name, roles); near != "" {
			err = fmt.Errorf("%w; did you mean %s?", err, near)
		}
		return &SettingError{field, err}
	}
	if r.Role != "" {
		if err := role("role", r.Role); err != nil {
			return err
		}
	}
	for _, e := range r.Expect {
		switch {
		case e.Of == "role":
			if err := role("expect", e.Value); err != nil {
				return err
			}
		case e.Rule() != "":
			if rule, there := after.Rule(e.Rule()); !there || rule.App != "" && rule.App != r.App {
				return &SettingError{"expect", fmt.Errorf("there is no access rule %q that is about %s", e.Rule(), r.App)}
			}
		}
	}
	return nil
}

// Rehearsal finds a rehearsal by name.
func (s *Snapshot) Rehearsal(n Name) (*RehearsalPlan, bool) {
	p, is := s.others[Ref{KindRehearsal, n}].(*Plain)
	if !is {
		return nil, false
	}
	r, err := RehearsalOf(p)
	return r, err == nil
}

// AllRehearsals are those there are, by name.
func (s *Snapshot) AllRehearsals() (out []*RehearsalPlan) {
	for ref := range s.others {
		if r, there := s.Rehearsal(ref.Name); there && ref.Kind == KindRehearsal {
			out = append(out, r)
		}
	}
	slices.SortFunc(out, func(a, b *RehearsalPlan) int { return cmp.Compare(a.Name, b.Name) })
	return out
}

// RehearsalsOf are those of an application, by name.
func (s *Snapshot) RehearsalsOf(app Name) []*RehearsalPlan {
	return slices.DeleteFunc(s.AllRehearsals(), func(r *RehearsalPlan) bool { return r.App != app })
}
