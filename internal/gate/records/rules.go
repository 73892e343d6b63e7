package records

import (
	"fmt"
	"slices"
	"strconv"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// namesPeople sees that the people whom an access rule, a role or a starting point names are known, too.
func (rm *Room) namesPeople(fits func(before, after *federation.Snapshot, p Put) error) func(before,
	after *federation.Snapshot, p Put) error {
	return func(before, after *federation.Snapshot, p Put) error {
		if err := fits(before, after, p); err != nil {
			return err
		}
		named, err := federation.PeopleOf(p.Object.(*federation.Plain))
		if err != nil || len(named) == 0 {
			return change.OfSetting(err)
		}
		var there []int64
		if err := rm.store.Read.Model(&store.PersonRow{}).Where("id IN ?", named).Pluck("id", &there).Error; err != nil {
			return err
		}
		for _, n := range named {
			if !slices.Contains(there, n) {
				return change.Field("people", fmt.Errorf("there is no person %s", strconv.FormatInt(n, 10)))
			}
		}
		return nil
	}
}

// withRules puts before applications that are removed the access rules, starting points, rehearsals and roles that are
// theirs: they go with them, and come back with them.
func withRules(now *federation.Snapshot, removed []federation.Object) (out []federation.Object) {
	goes := func(app federation.Name, r federation.Ref) {
		if slices.ContainsFunc(removed, func(o federation.Object) bool {
			return o.Ref() == federation.Ref{Kind: federation.KindApplication, Name: app}
		}) && !slices.ContainsFunc(removed, func(o federation.Object) bool { return o.Ref() == r }) {
			o, _ := now.Object(r)
			out = append(out, o)
		}
	}
	for _, r := range now.Rules() {
		goes(r.App, federation.Ref{Kind: federation.KindRule, Name: r.Name})
	}
	for _, r := range now.Starts() {
		goes(r.App, federation.Ref{Kind: federation.KindStart, Name: r.Name})
	}
	for _, r := range now.AllRehearsals() {
		goes(r.App, federation.Ref{Kind: federation.KindRehearsal, Name: r.Name})
	}
	for _, r := range now.AllRoles() {
		goes(r.App, federation.Ref{Kind: federation.KindRole, Name: r.Name})
	}
	return append(out, removed...)
}
