package web

import (
	"bytes"
	"cmp"
	"context"
	"html/template"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"
	"github.com/gofiber/fiber/v3"
	"github.com/gofiber/fiber/v3/middleware/compress"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/portal"
)

// portalRoutes are the pages of people: their applications, and what is known of them.
func (s *server) portalRoutes(app *fiber.App) {
	small := compress.New(compress.Config{Level: compress.LevelBestSpeed}) // there is no secret in these pages
	app.Get("/assets/portal.js", s.script("portal.js"))
	app.Get("/", small, s.applications)
	app.Post("/ask", s.ours(s.askForEntry))
	app.Get("/person", small, s.ownPage)
	app.Post("/person/change", s.ours(s.changeValue))
	app.Post("/person/sessions", s.ours(s.endSessions))
	app.Post("/person/consents", s.ours(s.withdraw))
	app.Get("/sign-out", func(c fiber.Ctx) error {
		c.Set("Cache-Control", "no-store")
		if s.gate.Leaving.Session(c.Context(), c.Cookies(s.cookie("session"))) == nil {
			return s.page(c, http.StatusOK, "message.html", view{Title: "You are signed out",
				Text: "You can close this window.", Home: true})
		}
		return (&Site{s}).AskToLeave(c, "/sign-out", "/", nil)
	})
	app.Post("/sign-out", s.ours(s.signOut))
}

// ours lets forms through that a page of the gate's own sent, and no other site.
func (s *server) ours(next fiber.Handler) fiber.Handler {
	return func(c fiber.Ctx) error {
		c.Set("Cache-Control", "no-store")
		origin, site := c.Get("Origin"), c.Get("Sec-Fetch-Site")
		if origin != s.gate.Base() && (origin != "" || site != "same-origin") {
			return s.page(c, http.StatusForbidden, "message.html", view{Title: "This came from another page",
				Text: "Nothing was done. Open your page here, and press the button there.", Home: true})
		}
		if c.Locals(tooLargeKey) != nil {
			return fiber.ErrRequestEntityTooLarge
		}
		return next(c)
	}
}

func (s *server) visitor(c fiber.Ctx) portal.Visitor {
	return portal.Visitor{Token: strings.Clone(c.Cookies(s.cookie("session"))), Network: s.network(c)}
}

func field(c fiber.Ctx, name string) string { return string(c.Request().PostArgs().Peek(name)) }

func (s *server) see(c fiber.Ctx, to string) error {
	return c.Redirect().Status(http.StatusSeeOther).To(s.gate.Base() + to)
}

// tile is one on the page.
type tile struct {
	Title, Text, Path string
	Marks             []string
	Asked             bool   // for, and nobody has decided
	App               string // to be asked for
}

// section is tiles under a heading, "" for none.
type section struct {
	Title string
	Tiles []tile
}

// List is the tiles as HTML: the template would take longer for them than it takes to decide on them.
func (s section) List() template.HTML {
	var b bytes.Buffer
	put := func(before, text, after string) {
		b.WriteString(before)
		template.HTMLEscape(&b, []byte(text))
		b.WriteString(after)
	}
	for _, t := range s.Tiles {
		put(`<li><a href="`, t.Path, `">`)
		put("<b>", t.Title, "</b>")
		if t.Text != "" {
			put("<span>", t.Text, "</span>")
		}
		for _, m := range t.Marks {
			put("<i>", m, "</i>")
		}
		b.WriteString("</a>\n")
	}
	return template.HTML(b.String())
}

// portalView is the page of applications.
type portalView struct {
	view
	Name           string
	Sections       []section
	Coming, Offers []tile
	Search         string
	All            int // before they were searched
}

// applications is the portal.
func (s *server) applications(c fiber.Ctx) error {
	snap := s.gate.Records.Snapshot()
	if snap.Gate.Portal == nil {
		return s.see(c, "/console/")
	}
	shown, err := s.gate.Portal.Shown(c.Context(), s.visitor(c))
	if err != nil {
		return err
	}
	if via := c.Query("via"); s.out(shown, via) {
		return s.enter(c, "", via)
	}
	if c.Query("via") != "" || c.Query("in") != "" {
		return s.see(c, "/")
	}
	if snap.Portal().Straight && len(shown.Tiles) == 1 && len(shown.Coming)+len(shown.Offers) == 0 &&
		!c.Request().URI().QueryArgs().Has("all") {
		return s.see(c, shown.Tiles[0].Path())
	}
	v := portalView{view: view{Title: "Your applications", Wide: true}, Name: shown.Name, Search: c.Query("search"),
		All: len(shown.Tiles)}
	v.Script = v.All > mostAtOnce
	for _, t := range shown.Tiles {
		title := t.App.PortalSection
		if one := tileOf(t); v.found(one) {
			if n := len(v.Sections); n == 0 || v.Sections[n-1].Title != title {
				v.Sections = append(v.Sections, section{Title: title})
			}
			at := &v.Sections[len(v.Sections)-1]
			at.Tiles = append(at.Tiles, one)
		}
	}
	for _, t := range shown.Coming {
		v.Coming = append(v.Coming, tileOf(t))
	}
	for _, t := range shown.Offers {
		v.Offers = append(v.Offers, tileOf(t))
	}
	policy := pagePolicy
	if v.Script {
		policy += "; script-src 'self'"
	}
	return s.render(c, http.StatusOK, "portal.html", v, policy)
}

func (v portalView) found(t tile) bool {
	text := strings.ToLower(t.Title + " " + t.Text)
	return !slices.ContainsFunc(strings.Fields(strings.ToLower(v.Search)),
		func(w string) bool { return !strings.Contains(text, w) })
}

// longestText bounds the text of a tile, in characters.
const longestText = 120

func tileOf(t crossing.Tile) tile {
	out := tile{Title: t.Title(), Text: t.Text(), Path: t.Path(), App: string(t.App.Name), Asked: t.Asked}
	if text := []rune(out.Text); len(text) > longestText {
		out.Text = string(text[:longestText]) + "…"
	}
	mark := func(is bool, words string) {
		if is {
			out.Marks = append(out.Marks, words)
		}
	}
	mark(t.Asked, "you asked for entry; nobody has decided yet")
	mark(t.Opens != "", "not open yet, from "+t.Opens)
	if t.MayAsk || t.Opens != "" {
		return out
	}
	mark(t.StartsItself, "starts itself")
	mark(t.Link, "opens a link")
	if t.StepUp && t.Entry.Rule != nil && t.Entry.Rule.Context == "" {
		mark(true, "asks you to sign in afresh")
	} else {
		mark(t.StepUp, "asks for a second factor")
	}
	if t.By != nil {
		mark(true, "asks you to sign in with "+t.By.Title)
	}
	return out
}

// out reports whether somebody has to sign in for the portal: they are not in, or another way is wanted than theirs.
func (s *server) out(shown crossing.Shown, via string) bool {
	if shown.Out || via == "" {
		return shown.Out
	}
	_, there := s.gate.Records.Snapshot().Provider(federation.Name(via))
	return there && !slices.ContainsFunc(shown.By, func(p *federation.Provider) bool { return string(p.Name) == via })
}

// enter has somebody sign in for a page of the portal. Whoever comes back from that, and is not in, has a browser that
// keeps no cookies, or was signed out meanwhile.
func (s *server) enter(c fiber.Ctx, page, via string) error {
	if c.Query("in") != "" {
		return s.page(c, http.StatusForbidden, "message.html", view{Title: "Your browser did not keep the sign-in",
			Text:     "Allow cookies for this address and sign in again. If you were signed out meanwhile, just sign in again.",
			Continue: cmp.Or(page, "/"), Verb: "Sign in"})
	}
	return s.answer(c, s.gate.Crossings.Open(c.Context(), s.browser(c), driving.Start{App: string(federation.PortalName),
		Target: page, Via: via}))
}

// askForEntry puts an admission before whoever may approve it.
func (s *server) askForEntry(c fiber.Ctx) error {
	title, asked, err := s.gate.Portal.Ask(c.Context(), s.visitor(c), field(c, "application"))
	switch {
	case err != nil:
		return err
	case !asked:
		return s.page(c, http.StatusForbidden, "message.html", view{Title: "This cannot be asked for",
			Text: "You may have entry by now, or be signed out. Look at your applications again.", Home: true})
	}
	return s.page(c, http.StatusOK, "message.html", view{Title: "You asked for entry to " + title,
		Text: "Whoever decides on it can see that, and your name. Look at your applications again later.", Home: true})
}

// personView is somebody's own page.
type personView struct {
	view
	portal.Page
	Others int // sessions beside this one
}

// ownPage is where people see what is known of them.
func (s *server) ownPage(c fiber.Ctx) error {
	if s.gate.Records.Snapshot().Gate.Portal == nil {
		return fiber.ErrNotFound
	}
	p, err := s.gate.Portal.Person(c.Context(), s.visitor(c))
	if err != nil {
		return err
	}
	if p.Out {
		return s.enter(c, "/person", "")
	}
	if c.Query("in") != "" {
		return s.see(c, "/person")
	}
	return s.render(c, http.StatusOK, "person.html", personView{view{Title: p.Name, Wide: true}, p, len(p.Sessions) - 1},
		pagePolicy)
}

// changeValue begins the change of a value that people may change themselves.
func (s *server) changeValue(c fiber.Ctx) error {
	name := field(c, "attribute")
	if !slices.Contains(s.gate.Records.Snapshot().Changeable(), name) {
		return s.page(c, http.StatusForbidden, "message.html", view{Title: "You cannot change this here",
			Text: "Ask your help desk to change it.", Home: true})
	}
	return s.answer(c, s.gate.Crossings.Open(c.Context(), s.browser(c), driving.Start{App: string(federation.PortalName),
		Target: crossing.ChangePath + name}))
}

func (s *server) endSessions(c fiber.Ctx) error {
	id := field(c, "session")
	if id == "" && field(c, "all") == "" {
		return s.see(c, "/person")
	}
	if _, err := s.gate.Portal.End(c.Context(), s.visitor(c), id); err != nil {
		return err
	}
	return s.see(c, "/person")
}

func (s *server) withdraw(c fiber.Ctx) error {
	if err := s.gate.Portal.Withdraw(c.Context(), s.visitor(c), field(c, "application")); err != nil {
		return err
	}
	return s.see(c, "/person")
}

// signOut ends the session, at the provider as well where that can be told.
func (s *server) signOut(c fiber.Ctx) error {
	session, back := s.gate.Leaving.Session(c.Context(), c.Cookies(s.cookie("session"))), ""
	if session != nil {
		var err error
		if back, err = s.gate.Leaving.Depart(c.Context(), session, s.gate.Base()+"/sign-out"); err != nil {
			return err
		}
	}
	(&Site{s}).Forget(c)
	if back == "" {
		back = s.gate.Base() + "/sign-out"
	}
	return c.Redirect().Status(http.StatusSeeOther).To(back)
}

// day is a moment as people read it.
func day(t time.Time) string { return t.UTC().Format("2 January 2006, 15:04") + " UTC" }

// portalCalls registers what engineers ask about the portal.
func (s *server) portalCalls(a huma.API) {
	call(s, a, api.ListStarts, func(_ context.Context, in *api.RuleFilter) (*body[api.List[api.Start]], error) {
		snap := s.gate.Records.Snapshot()
		if in.Application != "" {
			if _, err := s.gate.Records.Application(in.Application); err != nil {
				return nil, change.Field("application", err)
			}
		}
		out := api.List[api.Start]{Items: []api.Start{}}
		for _, x := range snap.Starts() {
			if in.Application == "" || in.Application == string(x.App) {
				out.Items = append(out.Items, api.Start{Name: string(x.Name), Application: string(x.App), Title: x.Title,
					Target:   x.Target,
					Address:  s.gate.Base() + "/open/" + string(x.App) + "?start=" + string(x.Name),
					Sentence: policy.StartSentence(snap, x), Broken: x.Broken})
			}
		}
		out.Total = int64(len(out.Items))
		return &body[api.List[api.Start]]{out}, nil
	})
	call(s, a, api.ShowPortal, func(ctx context.Context, in *api.OnePerson) (*body[api.Portal], error) {
		shown, there, err := s.gate.Portal.Of(ctx, in.Number)
		if err != nil {
			return nil, err
		}
		by := []string{}
		for _, p := range shown.By {
			by = append(by, p.Title)
		}
		return &body[api.Portal]{api.Portal{By: by, Person: in.Number, Name: shown.Name, In: there && !shown.Out,
			Tiles: s.tiles(shown.Tiles), Coming: s.tiles(shown.Coming),
			Offers: s.tiles(shown.Offers), Hidden: s.tiles(shown.Hidden)}}, nil
	})
}

func (s *server) tiles(all []crossing.Tile) []api.Tile {
	out := []api.Tile{}
	for _, t := range all {
		one := api.Tile{Application: string(t.App.Name), Title: t.Title(), Section: t.App.PortalSection,
			Address: s.gate.Base() + t.Path(),
			Marks:   tileOf(t).Marks, Used: t.Used, Why: crossing.Foreseen{Entry: t.Entry}.InWords()}
		if t.Start != nil {
			one.Start = string(t.Start.Name)
		}
		out = append(out, one)
	}
	return out
}
