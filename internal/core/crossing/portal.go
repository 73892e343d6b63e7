package crossing

import (
	"cmp"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
)

// Visit is somebody who comes to the portal: by their session, or, where an engineer looks at it, by what their
// providers said last.
type Visit struct {
	Session *Session
	People  map[string]person.Person // those looked up so far, by link key
	Network string                   // of the browser
	Links   []federation.ID          // providers that they are linked to
	Used    map[federation.ID]int64  // how often they entered which application
	Asked   []federation.ID          // to which they asked for entry, and nobody has decided
}

// Tile is an application on the portal, or a starting point of one.
type Tile struct {
	App   *federation.Application
	Start *federation.Start // nil for the application itself
	Entry policy.Entry
	Used  int64 // how often they entered the application

	StartsItself bool                 // it is sent to its own start
	Link         bool                 // it is told nothing, and opens an address
	StepUp       bool                 // it asks for a stronger or newer sign-in first
	By           *federation.Provider // they have to sign in there first; nil for no other than by which they are in
	Opens        string               // it is not open yet, and opens at this moment; "" for it is open
	MayAsk       bool                 // they may not enter, and may ask for it
	Asked        bool                 // and did
}

// Title is what people read.
func (t Tile) Title() string {
	if t.Start != nil {
		return t.Start.Title
	}
	return t.App.Title
}

// Text is what they read below.
func (t Tile) Text() string {
	if t.Start != nil {
		return cmp.Or(t.Start.Text, t.App.Title)
	}
	return t.App.Description
}

// Path is where the tile leads, at the gate.
func (t Tile) Path() string {
	to := "/open/" + string(t.App.Name)
	if t.Start != nil {
		to += "?start=" + string(t.Start.Name)
	}
	return to
}

// Shown is the portal of somebody.
type Shown struct {
	Out    bool // nobody is in, or not as the portal asks for: they have to sign in
	Person person.Person
	Name   string // as they are called
	By     []*federation.Provider
	Tiles  []Tile // that they may open now, in their order
	Coming []Tile // that open at a moment
	Offers []Tile // that they may ask for
	Hidden []Tile // that they may open, and that are not on the portal: for engineers
}

// portal is one look at it.
type portal struct {
	snap *federation.Snapshot
	now  time.Time
	in   Visit
	all  []inside
	here []Entrant // by each word in the session
	is   federation.Portal

	ways  map[wayKey]policy.Choice
	under map[federation.ID]Entrant // by providers that they did not come by now
}

// wayKey is by what provider selection may tell one application from another.
type wayKey struct {
	provider federation.Name
	ways     *federation.Ways
	of       federation.Name
}

// Portal decides what somebody finds on the portal: each application as a sign-in to it would be decided now. The
// need is that they are looked up.
func Portal(snap *federation.Snapshot, in Visit, now time.Time) (out Shown, need *Lacks) {
	if in.Session == nil {
		return Shown{Out: true}, nil
	}
	all, need := insides(snap, in.Session, "", in.People, now)
	if need != nil {
		return out, need
	}
	if who := in.Session.Person.ID; who != 0 { // a link that somebody else has by now shows nobody the other's page
		all = slices.DeleteFunc(all, func(i inside) bool { return i.person.ID != who })
	}
	v := &portal{snap: snap, now: now, in: in, all: all, is: snap.Portal(), ways: map[wayKey]policy.Choice{},
		under: map[federation.ID]Entrant{}}
	out.Out = true
	for i := range all {
		e := Entrant{Stands: all[i].standing(snap), Proofs: []Authentication{all[i].word.Authentication},
			Network: in.Network}
		v.here = append(v.here, e.everywhere(snap))
		out.By = append(out.By, all[i].provider)
		if snap.Gate.Portal != nil && out.Out {
			e.App = snap.Gate.Portal
			entry, err := Admit(snap, e, now)
			out.Out = err != nil || entry.Outcome != federation.Allow
		}
	}
	if out.Out {
		return out, nil
	}
	called := []string{all[0].who.Subject.Value}
	if said := profile.Find(all[0].who.Attributes, "displayName"); len(said) > 0 {
		called = []string{said[0].String()}
	}
	out.Person, out.Name = all[0].person, person.NameOf(all[0].person, called...)
	v.decide(&out)
	return out, nil
}

// decide goes through the applications that could be open to somebody.
func (v *portal) decide(out *Shown) {
	s := *v.here[0].known
	who := federation.Visitor{Person: s.Person, Around: s.Around(v.snap), Organisations: s.Organisations}
	for _, a := range out.Person.Admitted {
		who.Admitted = append(who.Admitted, a.App)
	}
	for _, name := range v.snap.Doors(who) {
		app, _ := v.snap.Application(name)
		t, shut := v.tile(app)
		if shut != nil {
			continue
		}
		if out.Tiles = append(out.Tiles, v.starts(t)...); app.Hidden {
			out.Hidden = append(out.Hidden, t)
		} else {
			out.Tiles = append(out.Tiles, t)
		}
	}
	v.sort(out.Tiles)
	if v.is.NotYet {
		out.Coming = v.coming()
	}
	if v.is.Offers && out.Person.Key != "" {
		out.Offers = v.offers(out.Tiles)
	}
}

// tile decides on one application; the finding says why it has none.
func (v *portal) tile(app *federation.Application) (Tile, *finding.Finding) {
	t := Tile{App: app, Used: v.in.Used[app.ID]}
	t.Link = Of(app.Side).Plain != nil
	t.StartsItself = app.OwnStart != "" || app.OnlyOwnStarts || Of(app.Side).Starting != nil
	if app.Start(&v.snap.Gate) == "" || app.OnlyOwnStarts && app.OwnStart == "" && Of(app.Side).Starting == nil {
		return t, finding.New(finding.OwnStartMissing)
	}
	e, by, f := v.entrant(app)
	if f != nil {
		return t, f
	}
	t.By = by
	entry, err := Admit(v.snap, e, v.now)
	if t.Entry = entry; err != nil {
		return t, whyNot(err)
	}
	t.StepUp = entry.Outcome == federation.StepUp
	return t, nil
}

// whyNot is why somebody does not enter.
func whyNot(err error) *finding.Finding {
	if f := finding.Of(err); f != nil {
		return f
	}
	return finding.New(finding.GateFailure)
}

// entrant is somebody as they would come to an application: by a word of their session, else by a provider that they
// are linked to and have to sign in at first.
func (v *portal) entrant(app *federation.Application) (e Entrant, by *federation.Provider, f *finding.Finding) {
	if err := policy.Open(app, v.now); err != nil {
		return e, nil, whyNot(err)
	}
	for i := range v.here {
		c, err := v.way(app, i)
		if err != nil {
			f = cmp.Or(f, whyNot(err))
			continue
		}
		if c.Has(v.all[i].provider.Name) {
			e = v.here[i]
			e.App = app
			return e, nil, nil
		}
		for _, n := range c.Providers {
			if p, there := v.snap.Provider(n); there && slices.Contains(v.in.Links, p.ID) && by == nil {
				by = p
			}
		}
		f = cmp.Or(f, finding.New(finding.WayOther, finding.Compare("Provider", federation.Listed(c.Providers),
			string(v.all[i].provider.Name))))
	}
	if by == nil {
		return e, nil, cmp.Or(f, finding.New(finding.NoProvider))
	}
	e, known := v.under[by.ID]
	if !known {
		e = Entrant{Stands: person.OnRecord(v.snap, by, profile.Profile{}, v.here[0].Stands.Person, nil),
			Network: v.in.Network,
			Proofs:  []Authentication{{Provider: by.Name, ProviderID: by.ID, At: v.now}}}.everywhere(v.snap)
		v.under[by.ID] = e
	}
	e.App = app
	return e, by, nil
}

// way is what provider selection comes to for somebody who is in by a word of their session.
func (v *portal) way(app *federation.Application, i int) (policy.Choice, error) {
	key := wayKey{app.Provider, v.snap.Ways(app.Name), v.all[i].provider.Name}
	if c, known := v.ways[key]; known {
		return c, nil
	}
	e := v.here[i]
	e.App = app
	c, err := policy.Select(v.snap, app, e.coming(v.snap, v.all[i].provider), v.now)
	if err == nil {
		v.ways[key] = c
	}
	return c, err
}

// starts are the starting points of an application that somebody is shown who may enter it.
func (v *portal) starts(t Tile) (out []Tile) {
	all := v.snap.StartsOf(t.App.Name)
	if len(all) == 0 {
		return nil
	}
	e, _, f := v.entrant(t.App)
	if f != nil {
		return nil
	}
	for _, s := range all {
		if s.Broken || s.Seen != nil && !policy.About(v.snap, s.Seen, e.Subject(), v.now) {
			continue
		}
		one := t
		one.Start = s
		if role, there := v.snap.Role(s.Role); there {
			as := e
			as.Role = role.As
			entry, err := Admit(v.snap, as, v.now)
			if err != nil {
				continue
			}
			one.Entry, one.StepUp = entry, entry.Outcome == federation.StepUp
		} else if s.Role != "" {
			continue
		}
		out = append(out, one)
	}
	return out
}

// sort puts tiles in their order: by section, in it those that have a place, then the most used.
func (v *portal) sort(tiles []Tile) {
	section := map[string]int{"": -1}
	for i, s := range v.is.Sections {
		section[s] = i
	}
	at := func(t Tile) int {
		if n, there := section[t.App.PortalSection]; there {
			return n
		}
		return len(v.is.Sections)
	}
	place := func(t Tile) int {
		if n := t.App.Place(); n > 0 {
			return n
		}
		return 1 << 30
	}
	order := func(t Tile) int {
		if t.Start == nil {
			return -1
		}
		return t.Start.Order
	}
	slices.SortStableFunc(tiles, func(a, b Tile) int {
		return cmp.Or(at(a)-at(b), strings.Compare(a.App.PortalSection, b.App.PortalSection), place(a)-place(b),
			cmp.Compare(b.Used, a.Used),
			strings.Compare(strings.ToLower(a.App.Title), strings.ToLower(b.App.Title)),
			strings.Compare(string(a.App.Name), string(b.App.Name)),
			order(a)-order(b), strings.Compare(strings.ToLower(a.Title()), strings.ToLower(b.Title())))
	})
}

// coming are applications that open to somebody by themselves at a moment.
func (v *portal) coming() (out []Tile) {
	for _, name := range v.snap.Coming() {
		app, _ := v.snap.Application(name)
		at := app.Pending()
		if app.Hidden || !at.After(v.now) || app.NextPhase != federation.Live && app.NextPhase != federation.Pilot {
			continue
		}
		if _, shut := v.tile(app); shut == nil {
			continue // it is open to them already
		}
		later := *v
		later.now, later.ways = at, map[wayKey]policy.Choice{}
		if t, shut := later.tile(app); shut == nil {
			t.Opens = app.NextAt
			out = append(out, t)
		}
	}
	v.sort(out)
	return out
}

// mostOffers bounds how many applications are shown that somebody may ask for.
const mostOffers = 200

// offers are applications that somebody may not enter, and would if they were admitted by name: they may ask for that.
func (v *portal) offers(have []Tile) (out []Tile) {
	for _, name := range v.snap.Asked() {
		app, _ := v.snap.Application(name)
		if app.Hidden || slices.ContainsFunc(have, func(t Tile) bool { return t.App == app }) {
			continue
		}
		if t, may := v.mayAsk(app); may {
			out = append(out, t)
		}
		if len(out) == mostOffers {
			break
		}
	}
	v.sort(out)
	return out
}

// mayAsk reports whether somebody may ask for entry to an application, as on the page that refuses them.
func (v *portal) mayAsk(app *federation.Application) (Tile, bool) {
	t, shut := v.tile(app)
	if shut == nil || !OfEntry(shut) || !app.AskForEntry {
		return t, false
	}
	e, _, f := v.entrant(app)
	if f != nil {
		return t, false
	}
	t.Asked = slices.Contains(v.in.Asked, app.ID)
	t.MayAsk = e.Stands.Person.Key != "" && !e.Stands.Person.Disabled && admissionHelps(v.snap, e, v.now)
	return t, t.MayAsk
}

// OwnValue is a value of somebody as they see it on their own page.
type OwnValue struct {
	Name, Label string
	Values      []string
	From        string // in words
	Proved      bool
	Editable    bool // they may change it themselves
}

// OwnValues are the values that are known of somebody who is in by a session, whose word each is, and which of them
// they may change.
func OwnValues(snap *federation.Snapshot, in Visit, now time.Time) (out []OwnValue) {
	all, need := insides(snap, in.Session, "", in.People, now)
	if need != nil || len(all) == 0 {
		return nil
	}
	title := func(id federation.ID) string {
		switch id {
		case person.FromHand:
			return "an engineer here"
		case person.FromImport:
			return "a list"
		case person.FromPerson:
			return "you"
		}
		for _, p := range snap.Providers() {
			if p.ID == id {
				return p.Title
			}
		}
		return "a provider that is no more"
	}
	has := func(name string) bool {
		return slices.ContainsFunc(out, func(v OwnValue) bool { return profile.Word(v.Name) == profile.Word(name) })
	}
	may := snap.Changeable()
	for _, k := range all[0].person.Values {
		v := OwnValue{Name: k.Name, Label: person.Label(k.Name), From: title(k.From), Proved: k.Proof(0) != person.NoProof,
			Editable: k.From == person.FromPerson && slices.Contains(may, profile.Word(k.Name))}
		for _, x := range k.Attribute.Values {
			v.Values = append(v.Values, x.String())
		}
		out = append(out, v)
	}
	for _, i := range all {
		for _, a := range i.who.Attributes {
			if name := cmp.Or(a.Friendly, a.Name); !has(name) && !has(a.Name) && profile.Word(name) != profile.AttributeGroups {
				v := OwnValue{Name: a.Name, Label: person.Label(name), From: i.provider.Title + ", for this sign-in"}
				for _, x := range a.Values {
					v.Values = append(v.Values, x.String())
				}
				out = append(out, v)
			}
		}
	}
	for _, name := range may {
		if !has(name) && all[0].person.Key != "" {
			out = append(out, OwnValue{Name: name, Label: person.Label(name), Editable: true})
		}
	}
	return out
}
