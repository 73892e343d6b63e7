package federation

import "slices"

// Rehearsing gives a snapshot in which an application is open to everybody, and so is the provider on its record and
// the one that is named, whatever their phase: that of one rehearsal. Where neither is, every provider is open that is
// not retired, for the rules decide. Everything else is as it is for everybody.
func (s *Snapshot) Rehearsing(app *Application, by ...Name) *Snapshot {
	a := app.Copy().(*Application)
	a.Rollout = Rollout{Phase: Live}
	put := []Object{a}
	names := slices.DeleteFunc(append(slices.Clone(by), app.Provider), func(n Name) bool { return n == "" })
	if len(names) == 0 {
		for _, p := range s.Providers() {
			if p.Phase != Live && p.Phase != Retired {
				names = append(names, p.Name)
			}
		}
	}
	for _, n := range names {
		if p, there := s.Provider(n); there {
			q := p.Copy().(*Provider)
			q.Rollout = Rollout{Phase: Live}
			put = append(put, q)
		}
	}
	return s.With(put...)
}
