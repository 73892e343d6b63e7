package driving

import (
	"crypto/subtle"
	"maps"
	"net/url"
	"slices"
	"sort"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// Browser is what a request tells about the browser it came from.
type Browser struct {
	Session   string            // value of the session cookie
	Crossings map[string]string // crossing → value of its cookie
	Address   string            // network address
	Rehearsal string            // value of the cookie that marks it for a run
}

// Cookie is a cookie to be set; an empty value deletes it. Crossing cookies must
// come along with cross-site posts, the session cookie must not.
type Cookie struct {
	Crossing string // of which crossing; "" means the session cookie
	Value    string
	Life     time.Duration
}

// Outcome is what a browser gets: a message to carry on, an address of our own,
// or a page, with a challenge if one is asked.
type Outcome struct {
	Departure *crossing.Departure
	Next      string // address to go to, by a GET
	Page      crossing.Page
	Challenge []string // values of WWW-Authenticate
	Finding   *finding.Finding
	Reference string
	Title     string // of the application, if known
	Crossing  string
	Choices   []crossing.Choice
	Form      *crossing.Form
	Agree     *crossing.Agree
	Address   *crossing.AddressAsked
	Refusal   *crossing.RefusalRead
	Continue  string // address to go on to
	Portal    bool   // it is for the gate's own portal
	Again     string // address where the person can choose another provider, if there are several
	Cookies   []Cookie
	// Rehearsal is the title of the application that is rehearsed, "" for a real sign-in: every page says so.
	Rehearsal string
}

func (o *Outcome) show(s *crossing.Show) {
	o.Page, o.Title, o.Choices, o.Form, o.Continue, o.Again, o.Address = s.Page, s.App, s.Choices, s.Form, s.Continue,
		s.Again, s.Address
	o.Agree, o.Refusal, o.Portal = s.Agree, s.Refusal, s.Portal
}

// newCookie gives the value of a new crossing cookie: time and secret.
func newCookie(now time.Time) (value string, hash []byte) {
	value = strconv.FormatInt(now.Unix(), 36) + "." + random.Text(16)
	return value, store.Hash(value)
}

// secret is what the core compares to know whether this browser began a crossing.
func (b Browser) secret(id string) []byte {
	if v := b.Crossings[id]; v != "" {
		return store.Hash(v)
	}
	return nil
}

// began reports whether this browser began a crossing.
func (b Browser) began(s crossing.State) bool {
	return len(s.Browser.Secret) > 0 && subtle.ConstantTimeCompare(s.Browser.Secret, b.secret(s.ID)) == 1
}

// surplus gives deletions of the oldest crossing cookies, so that one more can
// be set.
func (b Browser) surplus() []Cookie {
	type held struct {
		id string
		at int64
	}
	var all []held
	for id, v := range b.Crossings {
		at, _, _ := strings.Cut(v, ".")
		n, _ := strconv.ParseInt(at, 36, 64)
		all = append(all, held{id, n})
	}
	sort.Slice(all, func(i, j int) bool { return all[i].at < all[j].at })
	var out []Cookie
	for len(all) >= maxCrossingCookies {
		out = append(out, Cookie{Crossing: all[0].id})
		all = all[1:]
	}
	return out
}

// Asks reports whether a question of the gate's own waits for the person, which its crossing
// shows again whenever they come to it.
func (o Outcome) Asks() bool {
	return o.Page == crossing.PageAgree || o.Refusal != nil && o.Refusal.Question != "" || o.Page == crossing.PageForm &&
		o.Form != nil && o.Form.Question != ""
}

// goes sends the browser to an address, with parameters as they came.
func (o *Outcome) goes(n *crossing.Go) {
	switch fields, err := url.ParseQuery(n.Asked); {
	case n.Asked == "":
		o.Next = n.To
	case !n.Posted && strings.Contains(n.To, "?"):
		o.Next = n.To + "&" + n.Asked
	case !n.Posted:
		o.Next = n.To + "?" + n.Asked
	case err != nil:
		o.Next = n.To
	default:
		o.Departure = &crossing.Departure{Location: n.To, Form: []crossing.Field{}}
		for _, name := range slices.Sorted(maps.Keys(fields)) {
			for _, v := range fields[name] {
				o.Departure.Form = append(o.Departure.Form, crossing.Field{Name: name, Value: v})
			}
		}
	}
}
