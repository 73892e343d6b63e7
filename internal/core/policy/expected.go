package policy

import (
	"strings"

	"innergate.example/innergate/internal/core/federation"
)

// Expected is a value that a provider may send of groups, and what it does.
type Expected struct {
	Value   string // as it is to be sent, letter by letter
	Group   federation.Name
	Title   string
	Effects []string // what follows for whoever is in the group, in words
}

// mostExpected bounds the values on one sheet.
const mostExpected = 1000

// ExpectedOf are the values of groups that act here when a provider sends them: those of each group of which something
// is said, by its values, else by its short name. None where its values make nobody a member.
func ExpectedOf(snap *federation.Snapshot, p *federation.Provider) (out []Expected) {
	if p.GroupValues == "" {
		return nil
	}
	said := sayings(snap)
	for _, g := range snap.Units(federation.KindGroup) {
		effects := effectsOf(snap, said, g.Name)
		if len(effects)+len(g.Values) == 0 {
			continue
		}
		for _, v := range CalledOf(g) {
			if out = append(out, Expected{v, g.Name, g.Title, effects}); len(out) == mostExpected {
				return out
			}
		}
	}
	return out
}

// CalledOf are the values by which providers call a group: those on its record, else its short name.
func CalledOf(g *federation.Unit) []string {
	if len(g.Values) > 0 {
		return g.Values
	}
	return []string{string(g.Name)}
}

// Effects are what is said of whoever is in a group: by the rules, roles and admissions that name it, or one that it
// lies in.
func Effects(snap *federation.Snapshot, group federation.Name) []string {
	return effectsOf(snap, sayings(snap), group)
}

// saying is what is said of a group. Of roles and admissions to one application the nearest counts alone.
type saying struct {
	words   string
	nearest string // what only the nearest group says, "" if all count, or ownMembers
}

// ownMembers stands for what is said of the members of a group alone, not of those that lie in it.
const ownMembers = "its own members"

// effectsOf gives what is said of a group, its own first.
func effectsOf(snap *federation.Snapshot, all map[federation.Name][]saying, group federation.Name) (out []string) {
	nearer := map[string]bool{}
	seen := map[federation.Name]bool{}
	for at := group; at != "" && !seen[at]; {
		seen[at] = true
		for _, s := range all[at] {
			switch {
			case s.nearest != "" && s.nearest != ownMembers && nearer[s.nearest] || s.nearest == ownMembers && at != group:
			case at == group:
				out = append(out, s.words)
			default:
				out = append(out, s.words+", as one of "+string(at))
			}
		}
		for _, s := range all[at] {
			nearer[s.nearest] = true
		}
		u, there := snap.Unit(federation.KindGroup, at)
		if at = ""; there {
			at = u.Inside
		}
	}
	return out
}

// sayings are what rules, roles and admissions say of each group.
func sayings(snap *federation.Snapshot) map[federation.Name][]saying {
	out := map[federation.Name][]saying{}
	say := func(groups []federation.Name, nearest string, words ...string) {
		for _, g := range groups {
			out[g] = append(out[g], saying{strings.Join(words, ""), nearest})
		}
	}
	then := map[federation.Outcome]string{federation.Allow: "enters ", federation.Deny: "does not enter ",
		federation.StepUp: "signs in more strongly for "}
	for _, r := range snap.Rules() {
		app := string(r.App)
		if app == "" {
			app = "every application"
		}
		whose := ""
		if r.Alone {
			whose = ownMembers
		}
		say(r.Groups, whose, then[r.Then], app, " (rule ", string(r.Name), ")")
	}
	for _, a := range snap.Applications() {
		admitted, _ := a.Admissions.Read()
		for _, g := range a.Admissions.Groups() {
			words := "enters " + string(a.Name) + " (admitted)"
			if admitted[g].Out {
				words = "is kept out of " + string(a.Name)
			}
			say([]federation.Name{g}, "admission "+string(a.Name), words)
		}
		for _, r := range snap.Book(a.Name).Roles {
			say(r.Groups, "role "+string(a.Name), "is ", r.As, " in ", string(a.Name))
		}
	}
	for _, w := range snap.AllWays() {
		say(w.Groups, "", "comes by ", federation.Listed(w.Providers), " (selection ", string(w.Name), ")")
	}
	for _, g := range snap.Units(federation.KindGroup) {
		if g.UserType != "" {
			say([]federation.Name{g.Name}, "mark", "is marked as ", g.UserType)
		}
	}
	return out
}
