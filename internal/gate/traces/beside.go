package traces

import (
	"context"

	"innergate.example/innergate/internal/core/crossing"
)

// LastGood is the last sign-in before another that entered the same application, by the same provider if the other came
// so far: by preference of its kind, real or rehearsed. ok is false if there is none on record.
func (rm *Room) LastGood(ctx context.Context, of Head) (h Head, ok bool, err error) {
	if of.Application == "" {
		return h, false, nil
	}
	for _, rehearsed := range []bool{of.Run != "", of.Run == ""} {
		rows, _, err := rm.List(ctx, Filter{Result: crossing.Entered, Application: of.Application, Provider: of.Provider,
			Before: of.Started, Rehearsed: rehearsed, Limit: 1})
		if err != nil {
			return h, false, err
		}
		if len(rows) == 1 {
			return rows[0], true, nil
		}
	}
	return h, false, nil
}
