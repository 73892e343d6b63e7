package records

import (
	"fmt"
	"slices"
	"strconv"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/store"
)

// ruleFits sees that the people whom an access rule names are known, too.
func (rm *Room) ruleFits(fits func(before, after *federation.Snapshot, p Put) error) func(before, after *federation.Snapshot, p Put) error {
	return func(before, after *federation.Snapshot, p Put) error {
		if err := fits(before, after, p); err != nil {
			return err
		}
		r, err := federation.RuleOf(p.Object.(*federation.Plain))
		if err != nil || len(r.People) == 0 {
			return change.OfSetting(err)
		}
		var there []int64
		if err := rm.store.Read.Model(&store.PersonRow{}).Where("id IN ?", r.People).Pluck("id", &there).Error; err != nil {
			return err
		}
		for _, n := range r.People {
			if !slices.Contains(there, n) {
				return change.Field("people", fmt.Errorf("there is no person %s", strconv.FormatInt(n, 10)))
			}
		}
		return nil
	}
}

// withRules puts before applications that are removed the access rules that are theirs: they go with them, and come
// back with them.
func withRules(now *federation.Snapshot, removed []federation.Object) (out []federation.Object) {
	for _, r := range now.Rules() {
		if slices.ContainsFunc(removed, func(o federation.Object) bool {
			return o.Ref() == federation.Ref{Kind: federation.KindApplication, Name: r.App}
		}) {
			o, _ := now.Object(federation.Ref{Kind: federation.KindRule, Name: r.Name})
			out = append(out, o)
		}
	}
	return append(out, removed...)
}
