package federation

import (
	"maps"
	"slices"
)

// doors finds applications that somebody may be able to enter, by what could let them in. Whoever is found there is
// decided on; whoever is not is denied for certain.
type doors struct {
	open          []Name // to whoever nothing else is about, or by a rule that does not say first whom it is about
	byPerson      map[int64][]Name
	byGroup, byOf map[Name][]Name
	asked         []Name // that people who are denied may ask for
	coming        []Name // that open by themselves at a moment
	shut          []Name // all others
	gateGroups    []Name // by a rule of the gate all may be open to these
	gateOf        []Name
	gatePeople    []int64
	everything    bool // likewise, to anybody
}

// readDoors gathers what could let somebody in to each application.
func (s *Snapshot) readDoors() {
	d := &doors{byPerson: map[int64][]Name{}, byGroup: map[Name][]Name{}, byOf: map[Name][]Name{}}
	for _, r := range s.Book("").Rules {
		if r.Then != Deny {
			switch {
			case len(r.People) > 0:
				d.gatePeople = append(d.gatePeople, r.People...)
			case len(r.Groups) > 0:
				d.gateGroups = append(d.gateGroups, r.Groups...)
			case len(r.Organisations) > 0:
				d.gateOf = append(d.gateOf, r.Organisations...)
			default:
				d.everything = true
			}
		}
	}
	for _, name := range slices.Sorted(maps.Keys(s.apps)) {
		a := s.apps[name]
		if !a.Attended() {
			continue
		}
		if a.AskForEntry {
			d.asked = append(d.asked, name)
		}
		if a.NextAt != "" {
			d.coming = append(d.coming, name)
		}
		if d.everything || a.Everyone != EveryoneNo {
			d.open = append(d.open, name)
			continue
		}
		d.shut = append(d.shut, name)
		d.own(s.books[name], a)
	}
	s.doors = d
}

// sameDoor reports whether doors are made alike of two states of an application, its rules and admissions left aside.
func (a *Application) sameDoor(b *Application) bool {
	return a.Everyone == b.Everyone && a.AskForEntry == b.AskForEntry && (a.NextAt == "") == (b.NextAt == "") &&
		a.Attended() == b.Attended()
}

// own are the doors that an application's own rules and admissions make.
func (d *doors) own(b *Book, a *Application) {
	if b == nil {
		return
	}
	for _, r := range b.Rules {
		if r.App != a.Name || r.Then == Deny {
			continue
		}
		switch {
		case len(r.People) > 0:
			for _, n := range r.People {
				d.byPerson[n] = append(d.byPerson[n], a.Name)
			}
		case len(r.Groups) > 0:
			for _, g := range r.Groups {
				d.byGroup[g] = append(d.byGroup[g], a.Name)
			}
		case len(r.Organisations) > 0:
			for _, o := range r.Organisations {
				d.byOf[o] = append(d.byOf[o], a.Name)
			}
		default:
			d.open = append(d.open, a.Name)
		}
	}
	for g, said := range b.admits {
		if !said.Out {
			d.byGroup[g] = append(d.byGroup[g], a.Name)
		}
	}
}

// Visitor is whom doors are looked for.
type Visitor struct {
	Person        int64
	Around        []Name // all groups that they are in, those around their own, too
	Organisations []Name
	Admitted      []ID // applications that they were admitted to by name
}

// Doors gives the applications that somebody may be able to enter, each once, by name: all others deny them.
func (s *Snapshot) Doors(v Visitor) []Name {
	d := s.doors
	if d == nil {
		return nil
	}
	out := slices.Clone(d.open)
	if slices.Contains(d.gatePeople, v.Person) || slices.ContainsFunc(d.gateGroups,
		func(g Name) bool { return slices.Contains(v.Around, g) }) ||
		slices.ContainsFunc(d.gateOf, func(o Name) bool { return slices.Contains(v.Organisations, o) }) {
		out = append(out, d.shut...)
	} else {
		out = append(out, d.byPerson[v.Person]...)
		for _, g := range v.Around {
			out = append(out, d.byGroup[g]...)
		}
		for _, o := range v.Organisations {
			out = append(out, d.byOf[o]...)
		}
		for _, id := range v.Admitted {
			if name, there := s.byID[id]; there {
				out = append(out, name)
			}
		}
	}
	slices.Sort(out)
	return slices.Compact(out)
}

// Asked are the applications that people who are denied may ask for.
func (s *Snapshot) Asked() []Name {
	if s.doors == nil {
		return nil
	}
	return s.doors.asked
}

// Coming are the applications that open, or close, by themselves at a moment.
func (s *Snapshot) Coming() []Name {
	if s.doors == nil {
		return nil
	}
	return s.doors.coming
}
