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
