package policy

import (
	"cmp"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/reason"
)

// Holding is a role that somebody holds, and by what.
type Holding struct {
	Role *federation.Role
	By   federation.Holder
}

// Holds are the roles of an application that somebody holds, in their order; the default role where they hold none.
// The reasons tell of conditions that cannot be evaluated: nobody holds a role by such a one.
func Holds(snap *federation.Snapshot, app *federation.Application, s *Subject, now time.Time) (out []Holding,
	why reason.Reasons) {
	book := snap.Book(app.Name)
	if len(book.Roles) == 0 {
		return nil, nil
	}
	named, ruled := book.Cast(snap, s.Person, s.Groups, s.Organisations)
	for _, i := range ruled {
		if named[i].How != "" {
			continue
		}
		switch lacks, err := s.under(snap, book.Roles[i].Rule, now); {
		case err != nil:
			why.Add(reason.RoleFailed, book.Roles[i].As, err.Error())
		case lacks == allHold:
			named[i].How = federation.HeldByRule
		}
	}
	out = make([]Holding, 0, len(book.Roles))
	for i, r := range book.Roles {
		if by := named[i]; by.How != "" {
			out = append(out, Holding{r, by})
		}
	}
	if r, there := snap.Role(app.DefaultRole); there && len(out) == 0 && !r.Broken {
		out = append(out, Holding{r, federation.Holder{How: federation.HeldByDefault}})
	}
	return out, why
}

// as decides with which roles somebody enters who may: with the one that was asked for or chosen, if they hold it,
// else with those that the application wants sent.
func as(snap *federation.Snapshot, app *federation.Application, s *Subject, e Entry, now time.Time) (Entry, error) {
	held, why := Holds(snap, app, s, now)
	e.Reasons = append(e.Reasons, why...)
	if e.Held = held; s.Role != "" {
		i := slices.IndexFunc(held, func(h Holding) bool { return h.Role.As == s.Role })
		if i < 0 {
			e.Outcome = federation.Deny
			return e, finding.New(finding.RoleNotHeld, finding.Fact("Application", app.Name),
				finding.Fact("Role asked for", finding.Clip(s.Role)), finding.Fact("Roles held", heldNames(held)))
		}
		held = held[i : i+1]
	}
	if len(held) == 0 {
		if app.RoleNeeded {
			e.Outcome = federation.Deny
			return e, finding.New(finding.RoleNone, finding.Fact("Application", app.Name))
		}
		return e, nil
	}
	if app.SentRoles == federation.RolesFirst {
		held = held[:1]
	}
	e.Pick = len(held) > 1 && app.SentRoles == federation.RolesChosen
	e.Roles = make([]*federation.Role, len(held))
	for i, h := range held {
		e.Roles[i] = h.Role
	}
	if !e.Pick {
		e.Reasons.Add(reason.RoleHeld, heldBy(held))
	}
	return e, nil
}

// mostSaid is how many roles a reason names.
const mostSaid = 10

// heldBy says which roles, and by what.
func heldBy(all []Holding) string {
	words := make([]string, min(len(all), mostSaid))
	for i := range words {
		words[i] = all[i].Role.As + " (" + all[i].By.String() + ")"
	}
	out := strings.Join(words, ", ")
	if more := len(all) - mostSaid; more > 0 {
		out += " and " + strconv.Itoa(more) + " more"
	}
	return out
}

func heldNames(all []Holding) string {
	words := make([]string, len(all))
	for i, h := range all {
		words[i] = h.Role.As
	}
	return cmp.Or(strings.Join(words, ", "), "none")
}

// RoleNames are the names of the roles that somebody enters with; of several to choose from they have one.
func (e Entry) RoleNames() (out []string) {
	for _, r := range e.Roles {
		out = append(out, r.As)
	}
	return out
}

// RoleValues are the values that are sent for the roles that somebody enters with, each once; none while they have to
// choose.
func (e Entry) RoleValues() (out []string) {
	if e.Pick {
		return nil
	}
	for _, r := range e.Roles {
		for _, v := range r.Values {
			if !slices.Contains(out, v) {
				out = append(out, v)
			}
		}
	}
	return out
}

// RoleSentence reads aloud who holds a role.
func RoleSentence(r *federation.Role) string {
	var who []string
	if len(r.People) > 0 {
		who = append(who, "is person "+numbers(r.People))
	}
	if len(r.Groups) > 0 {
		who = append(who, "is in "+names(r.Groups))
	}
	if len(r.Organisations) > 0 {
		who = append(who, "belongs to "+names(r.Organisations))
	}
	if r.Rule != nil {
		who = append(who, strings.Join(conditions(r.Rule), " and "))
	}
	if r.Broken {
		return "Nobody: it cannot be read any more."
	}
	if len(who) == 0 {
		return "Nobody yet."
	}
	return "Whoever " + strings.Join(who, ", or ") + "."
}

// StartSentence reads aloud whom a starting point is shown to.
func StartSentence(snap *federation.Snapshot, s *federation.Start) string {
	var who []string
	if s.Seen != nil {
		who = conditions(s.Seen)
	}
	if r, there := snap.Role(s.Role); there {
		who = append(who, "holds the role "+r.As)
	}
	switch {
	case s.Broken:
		return "Nobody: it cannot be read any more."
	case len(who) == 0:
		return "Everybody who enters."
	}
	return "Whoever enters and " + strings.Join(who, " and ") + "."
}
