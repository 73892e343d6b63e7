// Package unattended runs rehearsals while nobody is there: it signs in with test accounts as a browser without scripts
// would, on a schedule, after changes and when it is told to, and tells when one begins to fail or passes again. What
// to do on a page is decided in the core; the crossing is driven as all others are.
package unattended

import (
	"context"
	"encoding/json"
	"errors"
	"log/slog"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/fetch"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/gate/rehearsing"
	"innergate.example/innergate/internal/store"
)

// Parts are what the room works with.
type Parts struct {
	Store      *store.Store
	Log        *slog.Logger
	Now        func() time.Time
	Base       string
	Records    *records.Room
	Rehearsals *rehearsing.Room
	Fetch      *fetch.Fetcher
	Mailer     *mailing.Room
	Context    context.Context // ends when the gate stops
	Go         func(func())    // has work waited for then
}

// Room runs rehearsals that nobody attends.
type Room struct {
	Parts
	base   *url.URL
	inside http.RoundTripper

	mu      sync.Mutex
	queue   []*job
	busy    map[string]bool             // accounts in use
	under   []*job                      // that are under way
	plans   []*federation.RehearsalPlan // those that run by themselves, in looked
	looked  *federation.Snapshot        // that was looked at for changes
	quiet   time.Time                   // when it last became another one
	stands  map[federation.Name]string
	changed map[federation.Name]time.Time // since when something that a rehearsal goes by is another
	began   map[federation.Name]time.Time // when the last run by schedule began
}

// New makes the room.
func New(p Parts) (*Room, error) {
	base, err := url.Parse(p.Base)
	return &Room{Parts: p, base: base, busy: map[string]bool{}, changed: map[federation.Name]time.Time{},
		began: map[federation.Name]time.Time{}}, err
}

// Serves has the gate's own pages answered within the process.
func (rm *Room) Serves(inside http.RoundTripper) { rm.inside = inside }

// Account is a test account, without its password.
type Account struct {
	Provider federation.Name
	Username string
	Hosts    []string // whose forms may be given the password
	Given    time.Time
	Giver    string
	Refused  time.Time        // when the provider did not take it; zero while it is used
	Finding  *finding.Finding // of then
}

// Password gives a test account its password, for the hosts of the provider as they are on record now.
func (rm *Room) Password(ctx context.Context, by change.By, name, password string) (Account, error) {
	switch {
	case password == "":
		return Account{}, change.Field("password", errors.New("it is empty"))
	case len(password) > 1000 || strings.ContainsAny(password, "\r\n\x00"):
		return Account{}, change.Field("password", errors.New("it has more than 1,000 octets, or several lines"))
	}
	return rm.account(ctx, by, name, "password of the test account given",
		func(tx *store.Writing, row *store.TestAccountRow) error {
			row.Sealed, row.Given, row.Giver = rm.Store.Seal(sealing(row), []byte(password)), rm.Now().UTC(), by.Who
			return rm.Store.PutTestAccount(tx, row)
		})
}

// Forget forgets the password of a test account; all rehearsals that use it run by their links then.
func (rm *Room) Forget(ctx context.Context, by change.By, name string) error {
	_, err := rm.account(ctx, by, name, "password of the test account forgotten",
		func(tx *store.Writing, row *store.TestAccountRow) error {
			return rm.Store.DropTestAccount(tx, row.Provider, row.Username)
		})
	return err
}

// account changes the test account of a rehearsal, with an entry in its history.
func (rm *Room) account(ctx context.Context, by change.By, name, what string,
	do func(*store.Writing, *store.TestAccountRow) error) (out Account, err error) {
	if _, _, err := rm.Rehearsals.Plan(name); err != nil {
		return out, err
	}
	err = rm.Records.Change(ctx, by, func(snap *federation.Snapshot) (records.Plan, error) {
		o, there := snap.Object(federation.Ref{Kind: federation.KindRehearsal, Name: federation.Name(name)})
		plan, is := snap.Rehearsal(federation.Name(name))
		if !there || !is {
			return records.Plan{}, change.NotFound("rehearsal", name, "")
		}
		p, err := providerOf(snap, plan)
		if err != nil {
			return records.Plan{}, err
		}
		row := store.TestAccountRow{Provider: string(p.ID), Username: plan.Username,
			Hosts: strings.Join(trusted(snap, p, plan.Username), " ")}
		out = Account{Provider: p.Name, Username: plan.Username, Hosts: strings.Fields(row.Hosts), Given: rm.Now().UTC(),
			Giver: by.Who}
		next := o.Next(o.At()+1, o, rm.Now())
		return records.Plan{Put: []records.Put{{Object: next, What: what}},
			More: func(tx store.Tx) error { return do(tx.Rows(), &row) }}, nil
	})
	return out, err
}

// Resume has a test account tried again that the provider did not take.
func (rm *Room) Resume(ctx context.Context, name string) (Account, error) {
	plan, _, err := rm.Rehearsals.Plan(name)
	if err != nil {
		return Account{}, err
	}
	row, p, err := rm.find(ctx, rm.Records.Snapshot(), plan)
	if err != nil {
		return Account{}, err
	}
	row.Refused, row.Finding = nil, ""
	return accountOf(p.Name, row), rm.Store.RefuseTestAccount(ctx, row)
}

// Accounts are the test accounts, by rehearsal.
func (rm *Room) Accounts(ctx context.Context) (map[federation.Name]Account, error) {
	rows, err := rm.Store.TestAccounts(ctx)
	if err != nil {
		return nil, err
	}
	snap, out := rm.Records.Snapshot(), map[federation.Name]Account{}
	for _, plan := range snap.AllRehearsals() {
		p, err := providerOf(snap, plan)
		if err != nil {
			continue
		}
		for _, row := range rows {
			if row.Provider == string(p.ID) && row.Username == plan.Username {
				out[plan.Name] = accountOf(p.Name, row)
			}
		}
	}
	return out, nil
}

func accountOf(provider federation.Name, row store.TestAccountRow) Account {
	a := Account{Provider: provider, Username: row.Username, Hosts: strings.Fields(row.Hosts), Given: row.Given,
		Giver: row.Giver}
	if row.Refused != nil {
		a.Refused, a.Finding = *row.Refused, &finding.Finding{}
		if json.Unmarshal([]byte(row.Finding), a.Finding) != nil || a.Finding.Code == "" {
			a.Finding = finding.New(finding.TestAccountRefused, finding.Fact("User name", row.Username))
		}
	}
	return a
}

// sealing is what the password of an account is sealed for: it opens for no other.
func sealing(row *store.TestAccountRow) string {
	return "test account " + row.Provider + "\x1f" + row.Username
}

// providerOf is where the test account of a rehearsal is. The error says what is missing.
func providerOf(snap *federation.Snapshot, plan *federation.RehearsalPlan) (*federation.Provider, error) {
	app, there := snap.Application(plan.App)
	if !there || plan.Username == "" {
		return nil, change.Conflict("the rehearsal "+string(plan.Name)+" names no test account", "set its user name: "+
			"innergate rehearsal put "+string(plan.Name)+" username=USER, and give its password")
	}
	p, there := snap.Provider(plan.By(app))
	if !there {
		return nil, change.Conflict("nothing says at which provider the test account of "+string(plan.Name)+" is",
			"set provider of the rehearsal, or of the application")
	}
	return p, nil
}

// find gives the test account of a rehearsal. The error is a finding if it cannot be used now.
func (rm *Room) find(ctx context.Context, snap *federation.Snapshot, plan *federation.RehearsalPlan) (
	row store.TestAccountRow, p *federation.Provider, err error) {
	if p, err = providerOf(snap, plan); err != nil {
		return row, p, err
	}
	rows, err := rm.Store.TestAccounts(ctx)
	if err != nil {
		return row, p, err
	}
	at := slices.IndexFunc(rows, func(r store.TestAccountRow) bool {
		return r.Provider == string(p.ID) && r.Username == plan.Username
	})
	if at < 0 {
		return row, p, finding.New(finding.TestAccountMissing, finding.Fact("Provider", p.Name),
			finding.Fact("User name", plan.Username))
	}
	return rows[at], p, nil
}

// usable gives the test account of a rehearsal, if it may be used now. The error is a finding if not.
func (rm *Room) usable(ctx context.Context, snap *federation.Snapshot, plan *federation.RehearsalPlan) (
	row store.TestAccountRow, p *federation.Provider, err error) {
	if row, p, err = rm.find(ctx, snap, plan); err != nil {
		return row, p, err
	}
	if row.Refused != nil {
		return row, p, accountOf(p.Name, row).Finding
	}
	given := strings.Fields(row.Hosts)
	for _, h := range trusted(snap, p, plan.Username) {
		if !slices.Contains(given, h) {
			return row, p, finding.New(finding.TestAccountHosts, finding.Fact("Host", h),
				finding.Fact("Given for", row.Hosts), finding.Fact("On", row.Given.UTC().Format(time.DateOnly)))
		}
	}
	return row, p, nil
}

// trusted are the hosts whose forms may be given the password of an account: those of the provider's addresses, and
// those that rehearsals with the account name.
func trusted(snap *federation.Snapshot, p *federation.Provider, username string) []string {
	out := addressHosts(p)
	for _, plan := range snap.AllRehearsals() {
		if q, err := providerOf(snap, plan); err == nil && q.ID == p.ID && plan.Username == username {
			out = append(out, plan.Hosts...)
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// addressHosts are the hosts of a record's addresses.
func addressHosts(r federation.Record) (out []string) {
	for _, e := range r.Part().Endpoints() {
		if u, err := url.Parse(e.Location); err == nil && u.Host != "" {
			out = append(out, strings.ToLower(u.Host))
		}
	}
	return out
}
