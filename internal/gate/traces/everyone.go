package traces

import (
	"cmp"
	"context"
	"slices"
	"strconv"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// Entrant is somebody, and whether they enter an application.
type Entrant struct {
	Person   int64
	Name     string
	Decision federation.Outcome
	By       Ground
	Finding  string   // title of the finding, of who does not enter
	Roles    []string // that they enter with; of Pick one of these
	Pick     bool
}

// Ground is what a decision rests on.
type Ground struct {
	By   policy.By       // "" for none of them: the account is disabled, the application closed
	Name federation.Name // of the rule, or of the group that is admitted
}

// Counted is how many a decision is about, by what it rests on.
type Counted struct {
	Decision federation.Outcome
	By       Ground
	Title    string // of the rule
	Count    int
}

// CountedRole is how many enter with a role, by its name; "" for none.
type CountedRole struct {
	Role, Title string
	Count       int
}

// Everyone is who enters an application, of all who are known, and who does not, by number.
type Everyone struct {
	At     time.Time
	People []Entrant
	Counts []Counted
	Roles  []CountedRole // of those who enter
	snap   *federation.Snapshot
}

// Bounds of lists of everyone that are kept: how many, for how long, and of how many people at least.
const (
	mostKept  = 3
	keptFor   = time.Minute
	keptAbove = 5000
)

// kept are the lists of many people that were made lately: whoever turns pages, or asks for them as CSV, is shown
// one list.
type kept struct {
	mu  sync.Mutex
	all map[federation.ID]*Everyone
}

// Progress is how far a list is.
type Progress interface {
	Set(done int64)
	Total(n int64)
}

// Everyone decides on the entry of everybody who is known, as their next sign-in would.
func (rm *Room) Everyone(ctx context.Context, snap *federation.Snapshot, app *federation.Application,
	p Progress) (*Everyone, error) {
	rm.kept.mu.Lock()
	defer rm.kept.mu.Unlock()
	now := rm.now()
	if old := rm.kept.all[app.ID]; old != nil && old.snap == snap && now.Sub(old.At) < keptFor && !now.Before(old.At) {
		p.Total(int64(len(old.People)))
		p.Set(int64(len(old.People)))
		return old, nil
	}
	total, err := rm.store.People(ctx).Count()
	if err != nil {
		return nil, err
	}
	p.Total(total)
	out := &Everyone{At: now, snap: snap}
	var mu sync.Mutex
	var failed error
	err = rm.Each(ctx, snap, 0, func(r *Reach) bool {
		one, err := r.entrant(app, now)
		mu.Lock()
		defer mu.Unlock()
		failed = cmp.Or(failed, err)
		if out.People = append(out.People, one); len(out.People)%1000 == 0 {
			p.Set(int64(len(out.People)))
		}
		return failed == nil
	})
	if err = cmp.Or(err, failed); err != nil {
		return nil, err
	}
	p.Set(total)
	out.count(snap, app)
	rm.keep(app, out)
	return out, nil
}

// keep keeps a list of many, in place of the oldest.
func (rm *Room) keep(app *federation.Application, e *Everyone) {
	if delete(rm.kept.all, app.ID); len(e.People) < keptAbove {
		return
	}
	for len(rm.kept.all) >= mostKept {
		var oldest federation.ID
		for id, x := range rm.kept.all {
			if oldest == "" || x.At.Before(rm.kept.all[oldest].At) {
				oldest = id
			}
		}
		delete(rm.kept.all, oldest)
	}
	rm.kept.all[app.ID] = e
}

// Some decides on the entry of some people.
func (rm *Room) Some(ctx context.Context, snap *federation.Snapshot, app *federation.Application, ids []int64,
	p Progress) (*Everyone, error) {
	words, err := rm.allWords(ctx, snap, 0)
	if err != nil {
		return nil, err
	}
	out := &Everyone{At: rm.now(), snap: snap}
	p.Total(int64(len(ids)))
	for chunk := range slices.Chunk(ids, pageOfPeople) {
		some, err := rm.store.People(ctx).Many(chunk, "", "")
		if err != nil {
			return nil, err
		}
		for _, who := range some {
			one, err := (&Reach{snap: snap, who: who, words: words[who.ID]}).entrant(app, out.At)
			if err != nil {
				return nil, err
			}
			out.People = append(out.People, one)
		}
		p.Set(int64(len(out.People)))
	}
	out.count(snap, app)
	return out, nil
}

// entrant decides on somebody's entry.
func (r *Reach) entrant(app *federation.Application, now time.Time) (Entrant, error) {
	got, err := r.Foresee(app, now)
	return r.entrantBy(got), err
}

func (r *Reach) entrantBy(got crossing.Foreseen) Entrant {
	out := Entrant{Person: r.who.ID, Name: person.NameOf(r.who.Person, r.who.Subject.Value), Decision: got.Decision,
		By: GroundOf(got)}
	if got.Finding != nil {
		out.Finding = got.Finding.Title
		return out
	}
	out.Roles, out.Pick = got.Entry.RoleNames(), got.Entry.Pick
	return out
}

func numberOf(person int64) string { return strconv.FormatInt(person, 10) }

// GroundOf is what a decision rests on.
func GroundOf(f crossing.Foreseen) Ground {
	g := Ground{By: f.Entry.By, Name: f.Entry.Unit}
	if f.Entry.Rule != nil {
		g.Name = f.Entry.Rule.Name
	}
	return g
}

// count puts people in order, and counts them by what decides.
func (e *Everyone) count(snap *federation.Snapshot, app *federation.Application) {
	slices.SortFunc(e.People, func(a, b Entrant) int { return cmp.Compare(a.Person, b.Person) })
	at := map[Counted]int{}
	for _, p := range e.People {
		at[Counted{Decision: p.Decision, By: p.By}]++
	}
	for c, n := range at {
		c.Count = n
		if r, there := snap.Rule(c.By.Name); there && c.By.By == policy.ByRule {
			c.Title = r.Title
		}
		e.Counts = append(e.Counts, c)
	}
	if roles := snap.Book(app.Name).Roles; len(roles) > 0 {
		e.Roles = countRoles(roles, e.People)
	}
	slices.SortFunc(e.Counts, func(a, b Counted) int {
		return cmp.Or(strings.Compare(string(a.Decision), string(b.Decision)), b.Count-a.Count,
			strings.Compare(string(a.By.Name), string(b.By.Name)))
	})
}

// countRoles counts who enters with each role, in the order of the roles, and who with none.
func countRoles(roles []*federation.Role, people []Entrant) (out []CountedRole) {
	count := map[string]int{}
	for _, p := range people {
		if p.Decision == federation.Deny {
			continue
		}
		for _, as := range p.Roles {
			count[as]++
		}
		if len(p.Roles) == 0 {
			count[""]++
		}
	}
	for _, r := range roles {
		out = append(out, CountedRole{r.As, r.Title, count[r.As]})
	}
	return append(out, CountedRole{Count: count[""]})
}

// Whose narrows a list of everyone.
type Whose struct {
	Search   string             // in names, and numbers
	Decision federation.Outcome // Enters for all but deny
	By       *Ground
	Role     *string // by its name; "" for those who enter with none
	After    int64
	Limit    int // 0 for all
}

// Enters is every decision but a denial.
const Enters federation.Outcome = "enters"

func (w Whose) decision(p Entrant) bool {
	return w.Decision == "" || w.Decision == p.Decision || w.Decision == Enters && p.Decision != federation.Deny
}

// has reports whether somebody enters with a role, "" for with none.
func (p Entrant) has(role string) bool {
	return p.Decision != federation.Deny && (slices.Contains(p.Roles, role) || role == "" && len(p.Roles) == 0)
}

// Page gives those who fit, from a number on, and how many fit in all.
func (e *Everyone) Page(w Whose) (out []Entrant, total int) {
	words := strings.Fields(strings.ToLower(w.Search))
	for _, p := range e.People {
		if !w.decision(p) || w.By != nil && p.By != *w.By || w.Role != nil && !p.has(*w.Role) {
			continue
		}
		name := strings.ToLower(p.Name)
		if slices.ContainsFunc(words, func(word string) bool {
			return !strings.Contains(name, word) &&
				numberOf(p.Person) != word
		}) {
			continue
		}
		if total++; p.Person > w.After && (w.Limit == 0 || len(out) < w.Limit) {
			out = append(out, p)
		}
	}
	return out, total
}

// Entering is whether somebody enters an application, and by what.
type Entering struct {
	App     *federation.Application
	Entrant Entrant
	Entry   policy.Entry
	Why     string
}

// EntriesOf tells of each application whether somebody enters it.
func (rm *Room) EntriesOf(ctx context.Context, snap *federation.Snapshot, person int64) (out []Entering, err error) {
	some, err := rm.store.People(ctx).Many([]int64{person}, "", "")
	if err == nil && len(some) == 0 {
		err = &change.NotFoundError{Kind: "person", Name: numberOf(person)}
	}
	if err != nil {
		return nil, err
	}
	r := &Reach{snap: snap, who: some[0]}
	if r.words, err = rm.words(ctx, snap, person); err != nil {
		return nil, err
	}
	now := rm.now()
	for _, a := range snap.Applications() {
		if !a.Attended() {
			continue
		}
		got, err := r.Foresee(a, now)
		if err != nil {
			return nil, err
		}
		out = append(out, Entering{App: a, Entrant: r.entrantBy(got), Entry: got.Entry, Why: got.InWords()})
	}
	return out, nil
}

// Decided is how often something decided at sign-ins in the last days, and when last.
type Decided = store.Decided

// Decided tells it of rules, of one application or of all.
func (rm *Room) Decided(ctx context.Context, app string) (map[federation.Name]Decided, error) {
	return rm.decided(ctx, app, string(policy.ByRule))
}

// DecidedWays tells it of rules of provider selection.
func (rm *Room) DecidedWays(ctx context.Context, app string) (map[federation.Name]Decided, error) {
	return rm.decided(ctx, app, "way")
}

func (rm *Room) decided(ctx context.Context, app, by string) (map[federation.Name]Decided, error) {
	all, err := rm.store.Traces.Decided(ctx, app)
	out := map[federation.Name]Decided{}
	for _, d := range all {
		if name, is := strings.CutPrefix(d.Ground, by+" "); is {
			sum := out[federation.Name(name)]
			if sum.Count += d.Count; d.Last.After(sum.Last) {
				sum.Last = d.Last
			}
			out[federation.Name(name)] = sum
		}
	}
	return out, err
}

// DecidedBeside tells how often admissions decided on entry to an application, and the default.
func (rm *Room) DecidedBeside(ctx context.Context, app string) (admissions, other int64, err error) {
	all, err := rm.store.Traces.Decided(ctx, app)
	for _, d := range all {
		switch by, _, _ := strings.Cut(d.Ground, " "); policy.By(by) {
		case policy.ByAdmission:
			admissions += d.Count
		case policy.ByDefault:
			other += d.Count
		}
	}
	return admissions, other, err
}
