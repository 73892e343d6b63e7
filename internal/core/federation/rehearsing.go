package federation

// Rehearsing gives a snapshot in which an application, the provider on its record and some others are open to
// everybody, whatever their phase: that of one rehearsal. Everything else is as it is for everybody.
func (s *Snapshot) Rehearsing(app *Application, by ...Name) *Snapshot {
	a := app.Copy().(*Application)
	a.Rollout = Rollout{Phase: Live}
	put := []Object{a}
	for _, n := range append(by, app.Provider) {
		if p, there := s.Provider(n); there {
			q := p.Copy().(*Provider)
			q.Rollout = Rollout{Phase: Live}
			put = append(put, q)
		}
	}
	return s.With(put...)
}
