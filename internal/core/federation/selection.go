package federation

import (
	"cmp"
	"errors"
	"fmt"
	"maps"
	"net/netip"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/profile"
)

// KindSelection is the kind of rules of provider selection.
const KindSelection Kind = "selection"

// Way is a rule of provider selection: by which providers somebody comes to an application. All conditions that it
// has must hold; of each, one of those named is enough. Those on groups, organisations and user types are about
// somebody who is known.
type Way struct {
	Name  Name
	Title string
	Order int // the lowest first

	Apps          []Name
	Domains       []MailDomain
	Networks      []netip.Prefix
	Groups        []Name
	Organisations []Name
	UserTypes     []string
	Hints         []string // what the application hints at
	Typed         bool     // an address that is typed stands for whoever has it, before they have signed in

	Providers []Name // in the order in which they are offered; none for all
	Ask       bool   // the person is asked for their address first

	Revision int
	Broken   bool
}

// Everybody reports whether a rule is about everybody who wants to enter its applications.
func (w *Way) Everybody() bool {
	conditions := len(w.Domains) + len(w.Networks) + len(w.Groups) + len(w.Organisations) + len(w.UserTypes) + len(w.Hints)
	return !w.Broken && conditions == 0
}

// MailDomain is a domain of e-mail addresses, with those below it or without them.
type MailDomain struct {
	Domain string
	Below  bool // sub-domains count, too
}

// ParseMailDomain reads a domain as it is typed; one that begins with a dot takes its sub-domains, too. Domains are
// compared as IDNA has them (UTS 46).
func ParseMailDomain(text string) (MailDomain, error) {
	name, below := strings.CutPrefix(strings.TrimSpace(text), ".")
	domain, ok := profile.Domain(strings.TrimSuffix(name, "."))
	if !ok || CheckDomain(domain) != nil {
		return MailDomain{}, fmt.Errorf("%.100q is no domain; write it like wrenmoor.example, or .wrenmoor.example with its sub-domains", text)
	}
	return MailDomain{domain, below}, nil
}

// String writes it as it is typed.
func (m MailDomain) String() string {
	if m.Below {
		return "." + m.Domain
	}
	return m.Domain
}

// Has reports whether a domain, in its compared form, is meant.
func (m MailDomain) Has(domain string) bool {
	return domain == m.Domain || m.Below && strings.HasSuffix(domain, "."+m.Domain)
}

// SelectionRules describes them.
var SelectionRules = &Description{Kind: KindSelection, Check: checkWay, Settings: []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Most: 200,
		Text: "What people read, like Staff come by their accounts"},
	{Name: "order", Label: "Place", Type: OneLine, Most: 6, Text: "The lowest is looked at first, like 10", Default: "0"},
	{Name: "applications", Label: "Applications", Type: Values, Refers: KindApplication, Group: GroupWho, Most: 63,
		Text: "They want to enter one of these", Default: "every one that names no provider"},
	{Name: "domains", Label: "E-mail domains", Type: Values, Group: GroupWho, Most: 260,
		Text: "Their address is at one of these: typed, or as the application hints; .wrenmoor.example takes sub-domains, too"},
	{Name: "networks", Label: "Networks", Type: Values, Group: GroupWho, Most: 50,
		Text: "Their browser is in one of these, like 192.0.2.0/24 or 2001:db8::/48"},
	{Name: "groups", Label: "Groups", Type: Values, Refers: KindGroup, Group: GroupWho, Most: 63,
		Text: "Somebody who is known is in one of these, or in one that lies in it"},
	{Name: "organisations", Label: "Organisations", Type: Values, Refers: KindOrganisation, Group: GroupWho, Most: 63,
		Text: "Somebody who is known belongs to one of these"},
	{Name: "userTypes", Label: "User types", Type: Values, Group: GroupWho, Most: 100,
		Text: "Somebody who is known is marked as one of these"},
	{Name: "typed", Label: "A typed address stands for who has it", Type: Switch, Group: GroupWho,
		Text: "Groups, organisations and user types are those of whoever has the address that is typed, at these domains: it tells a stranger which " +
			"way that address takes. Once they have signed in the rule is asked again with who they are"},
	{Name: "hints", Label: "Hints of the application", Type: Values, Group: GroupWho, Most: 1000,
		Text: "The application names one of these: a provider of its request (IDPList), an authentication context, or the parameter provider"},
	{Name: "providers", Label: "Providers", Type: Values, Refers: KindProvider, Group: GroupThen, Most: 63,
		Text:    "They come by one of these, in this order: one alone is gone to at once, of several the person chooses",
		Default: "all that are live"},
	{Name: "ask", Label: "Ask for the address first", Type: Switch, Group: GroupThen,
		Text: "The page asks for their e-mail address; its domain says which of the providers it is"},
}}

// WayOf reads a rule of provider selection. The error is a SettingError.
func WayOf(p *Plain) (*Way, error) {
	in := saidBy(p)
	s := in.Settings
	w := &Way{Name: p.Name, Title: in.text("title"), Apps: listOf[Name](s, "applications"),
		Groups:        listOf[Name](s, "groups"),
		Organisations: listOf[Name](s, "organisations"), UserTypes: listOf[string](s, "userTypes"),
		Hints:     listOf[string](s, "hints"),
		Providers: listOf[Name](s, "providers"), Ask: in.is("ask"), Typed: in.is("typed"), Order: in.place(),
		Revision: p.Revision}
	for _, t := range listOf[string](s, "domains") {
		d, err := ParseMailDomain(t)
		w.Domains = append(w.Domains, d)
		in.bad("domains", err)
	}
	for _, t := range listOf[string](s, "networks") {
		n, err := network(t)
		w.Networks = append(w.Networks, n)
		in.bad("networks", err)
	}
	return w, in.err
}

// checkWay sees whether a rule can be so.
func checkWay(after *Snapshot, p *Plain) error {
	w, err := WayOf(p)
	if err != nil {
		return err
	}
	for _, name := range w.Apps {
		if a, there := after.Application(name); there && a.Provider != "" {
			return &SettingError{"applications", fmt.Errorf("the application %s is tied to %s, so nothing is selected there; "+
				"empty its setting provider first", name, a.Provider)}
		}
	}
	switch {
	case w.Title == "":
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	case len(w.Providers) == 0 && !w.Ask:
		return &SettingError{"providers",
			errors.New("say by which providers they come, or that they are asked for their address first")}
	case w.Typed && (len(w.Domains) == 0 || len(w.Groups)+len(w.Organisations)+len(w.UserTypes) == 0):
		return &SettingError{"typed",
			errors.New("name the domains whose addresses decide so, and groups, organisations or " +
				"user types that it decides by")}
	case w.Ask && len(w.Domains) > 0:
		return &SettingError{"ask", errors.New("a rule about domains knows the address already; leave one of the two out")}
	}
	return nil
}

// Ways are the rules of provider selection that are looked at for one application, in their order.
type Ways struct {
	Rules []*Way
	Known bool         // some ask for what is known of the person
	Typed []MailDomain // at which a typed address stands for who has it
	// by what a rule asks for first: rules by their place
	byDomain map[string][]int
	below    map[string][]int
	any      []int
}

// Mark tells which rules these are, at which revisions.
func (w *Ways) Mark() string {
	var b strings.Builder
	for _, r := range w.Rules {
		fmt.Fprintf(&b, "%s@%d ", r.Name, r.Revision)
	}
	return b.String()
}

// At gives the places of rules that can be about a domain, "" for an unknown one: in their order, each once. Those
// that ask for a domain are all given while it is unknown.
func (w *Ways) At(domain string) []int {
	out := append(make([]int, 0, len(w.any)+8), w.any...)
	if domain == "" {
		for _, places := range []map[string][]int{w.byDomain, w.below} {
			for _, some := range places {
				out = append(out, some...)
			}
		}
	} else {
		out = append(out, w.byDomain[domain]...)
		for d := domain; d != ""; _, d, _ = strings.Cut(d, ".") {
			out = append(out, w.below[d]...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// waysBook holds the rules by application; "" is for those that no rule names.
type waysBook struct {
	of  map[Name]*Ways
	all map[*Plain]*Way
}

// readWays gathers the rules of provider selection.
func (s *Snapshot) readWays() {
	book := &waysBook{of: map[Name]*Ways{}, all: map[*Plain]*Way{}}
	apps := map[Name]bool{"": true}
	for r, o := range s.others {
		p, is := o.(*Plain)
		if r.Kind != KindSelection || !is {
			continue
		}
		var way *Way
		if s.ways != nil {
			way = s.ways.all[p]
		}
		if way == nil {
			var err error
			if way, err = WayOf(p); err != nil {
				way.Broken = true
			}
		}
		book.all[p] = way
		for _, a := range way.Apps {
			apps[a] = true
		}
	}
	all := slices.SortedFunc(maps.Values(book.all), func(x, y *Way) int {
		return cmp.Or(x.Order-y.Order, strings.Compare(string(x.Name), string(y.Name)))
	})
	for app := range apps {
		w := &Ways{byDomain: map[string][]int{}, below: map[string][]int{}}
		for _, r := range all {
			if len(r.Apps) > 0 && !slices.Contains(r.Apps, app) {
				continue
			}
			w.place(len(w.Rules), r)
			w.Rules = append(w.Rules, r)
			if r.Typed && !r.Broken {
				w.Typed = append(w.Typed, r.Domains...)
			}
			w.Known = w.Known || len(r.Groups)+len(r.Organisations)+len(r.UserTypes) > 0
		}
		book.of[app] = w
	}
	s.ways = book
}

// place notes where a rule is found.
func (w *Ways) place(i int, r *Way) {
	if len(r.Domains) == 0 || r.Broken {
		w.any = append(w.any, i)
		return
	}
	for _, d := range r.Domains {
		if d.Below {
			w.below[d.Domain] = append(w.below[d.Domain], i)
		} else {
			w.byDomain[d.Domain] = append(w.byDomain[d.Domain], i)
		}
	}
}

// Ways gives the rules of provider selection that are looked at for an application.
func (s *Snapshot) Ways(app Name) *Ways {
	if s.ways == nil {
		return &Ways{}
	}
	if w, own := s.ways.of[app]; own {
		return w
	}
	return s.ways.of[""]
}

// AllWays are all rules of provider selection, in their order.
func (s *Snapshot) AllWays() []*Way {
	if s.ways == nil {
		return nil
	}
	return slices.SortedFunc(maps.Values(s.ways.all), func(x, y *Way) int {
		return cmp.Or(x.Order-y.Order, strings.Compare(string(x.Name), string(y.Name)))
	})
}

// mailIndex are the providers by the domains of addresses that are theirs: each as it is compared, and as it is typed.
type mailIndex struct{ at, below, typed map[string][]Name }

func (s *Snapshot) readMail() {
	m := &mailIndex{map[string][]Name{}, map[string][]Name{}, map[string][]Name{}}
	byName := func(a, b *Provider) int { return cmp.Compare(a.Name, b.Name) }
	for _, p := range slices.SortedFunc(maps.Values(s.providers), byName) {
		for _, text := range p.Domains {
			d, err := ParseMailDomain(text)
			if err != nil {
				continue // it was looked at when it was saved
			}
			in := m.at
			if d.Below {
				in = m.below
			}
			in[d.Domain] = append(in[d.Domain], p.Name)
			m.typed[d.String()] = append(m.typed[d.String()], p.Name)
		}
	}
	s.mail = m
}

// ProvidersAt are the providers that a domain of addresses, in its compared form, belongs to: those that name it, else
// those that name the nearest one above it with its sub-domains.
func (s *Snapshot) ProvidersAt(domain string) []Name {
	if s.mail == nil || domain == "" {
		return nil
	}
	for d := domain; d != ""; _, d, _ = strings.Cut(d, ".") {
		var out []Name
		if d == domain {
			out = append(out, s.mail.at[d]...)
		}
		if out = append(out, s.mail.below[d]...); len(out) > 0 {
			slices.Sort(out)
			return slices.Compact(out)
		}
	}
	return nil
}

// DomainsOf are the domains that providers name, by domain. They are not to be changed.
func (s *Snapshot) DomainsOf() map[string][]Name {
	if s.mail == nil {
		return nil
	}
	return s.mail.typed
}

// SameDomains reports whether providers name the same domains in two snapshots.
func (s *Snapshot) SameDomains(other *Snapshot) bool {
	return s.mail == other.mail || maps.EqualFunc(s.DomainsOf(), other.DomainsOf(), slices.Equal[[]Name])
}
