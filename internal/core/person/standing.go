package person

import (
	"slices"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/policy"
	"innergate.example/innergate/internal/core/profile"
)

// Standing is somebody as the gate has them at one moment: as a sign-in leaves them, or as they are on record. What
// follows from that is found out once.
type Standing struct {
	Person Person // as they were looked up
	Given  []Given

	snap  *federation.Snapshot
	by    *federation.Provider // that brings something now, nil for nobody
	marks *federation.Provider // whose record may mark them
	came  profile.Profile
	in    profile.Profile // with what the intake's rules keep of earlier sign-ins
	stays Person          // without what such a sign-in no longer keeps

	members []Membership
	belongs bool // members are known
	known   *profile.Profile
	mark    *string
	proved  *policy.Proved
}

// Stand is somebody whom a provider brings, with what it says of them, through its intake; a provider that is nil says
// nothing, and what came is their profile already.
func Stand(snap *federation.Snapshot, by *federation.Provider, came profile.Profile, who Person,
	given []Given) *Standing {
	s := &Standing{Person: who, Given: given, snap: snap, by: by, marks: by, came: came, in: came, stays: who}
	if by != nil {
		s.stays = staying(by, who)
		s.in = ruled(by, came, s.stays)
	}
	return s
}

// OnRecord is somebody whom nobody brings now, by the name that they have at a provider: its record may mark them.
func OnRecord(snap *federation.Snapshot, marks *federation.Provider, named profile.Profile, who Person,
	given []Given) *Standing {
	s := Stand(snap, nil, named, who, given)
	s.marks = marks
	return s
}

// By reports whether somebody stands so by a configuration.
func (s *Standing) By(snap *federation.Snapshot) bool { return s.snap == snap }

// WithAdmission is the same somebody, admitted to an application by name beside.
func (s *Standing) WithAdmission(a Admitted) *Standing {
	out := *s
	out.Person.Admitted = append(slices.Clone(s.Person.Admitted), a)
	return &out
}

// ruled is what came in, with what the intake's rules of the provider keep of earlier sign-ins: it counts as if it had
// come.
func ruled(p *federation.Provider, in profile.Profile, who Person) profile.Profile {
	_, names := p.Mapping().Lasting(nil)
	for _, v := range who.Values {
		if v.From == p.ID && slices.Contains(names, v.Name) && len(profile.Find(in.Attributes, v.Name)) == 0 {
			in.Attributes = append(slices.Clip(in.Attributes), v.Attribute)
		}
	}
	return in
}

// Members are where they belong, as a sign-in leaves it: what the provider's values of groups make is what it says
// now, all else stays. Whoever comes by a provider for the first time lands where its organisation says.
func (s *Standing) Members() []Membership {
	if !s.belongs {
		s.belongs, s.members = true, s.Person.Members
		if s.by != nil {
			s.members = belonging(s.snap, s.by, s.in, s.Person, s.Given)
		}
	}
	return s.members
}

func belonging(snap *federation.Snapshot, p *federation.Provider, in profile.Profile, who Person,
	given []Given) []Membership {
	var out []Membership
	for _, m := range who.Members {
		if m.Kind != federation.KindGroup || m.Source != p.ID || p.GroupValues == "" {
			out = append(out, m)
		}
	}
	if p.GroupValues != "" {
		for _, g := range groupsSaid(snap, p, in) {
			out = append(out, Membership{federation.KindGroup, g, p.ID})
		}
	}
	if who.ID != 0 && !who.Linking {
		return out
	}
	if o := landing(snap, p, in, given); o != nil {
		out = append(out, Membership{federation.KindOrganisation, o.Name, p.ID})
		for _, g := range o.Groups {
			m := Membership{federation.KindGroup, g, Landed}
			if !slices.ContainsFunc(out, func(x Membership) bool {
				return x.Kind == m.Kind && x.Name == g &&
					x.Source == Landed
			}) {
				out = append(out, m)
			}
		}
	}
	return out
}

// Mark is how they are marked (userType), by somebody who is trusted for it: without what a provider says of its own
// accord. What rules of its intake keep of earlier sign-ins counts, as it does in what is told.
func (s *Standing) Mark() string {
	if s.mark == nil {
		in := profile.Profile{}
		if s.by != nil {
			if in = s.in; !marks(s.by) {
				in.Attributes = profile.Put(slices.Clone(in.Attributes), profile.AttributeUserType, nil)
			}
		}
		mark := Marked(s.snap, s.marks, in, s.stays.Values, s.Members())
		s.mark = &mark
	}
	return *s.mark
}

// Known is their profile with what the gate knows of them: what is kept with them, what they said when asked, their
// groups with all that these lie in, their organisations, and how they are marked.
func (s *Standing) Known() profile.Profile {
	if s.known == nil {
		known := s.knowing()
		s.known = &known
	}
	return *s.known
}

func (s *Standing) knowing() profile.Profile {
	in := s.in
	if s.by != nil && asksProof(s.by, profile.ClaimEmail) {
		in.Attributes = provedOnly(s.by, in, s.stays, s.Given)
	}
	out := knowing(in, s.stays)
	out.Attributes = slices.Clip(out.Attributes)
	for _, g := range s.Given {
		if g.Verified || g.used() && len(profile.Find(out.Attributes, g.Name)) == 0 {
			out.Attributes = profile.Put(out.Attributes, g.Name, profile.Texts(g.Value))
		}
	}
	out.Attributes = attested(out.Attributes, in, s.stays, s.Given)
	if s.by != nil && s.by.GroupValues != "" {
		out.Attributes = profile.Put(out.Attributes, profile.AttributeGroups, nil)
	}
	if groups := s.snap.Around(UnitsOf(federation.KindGroup, s.Members())); len(groups) > 0 {
		out.Attributes = addValues(out.Attributes, profile.AttributeGroups, groups)
	}
	if orgs := UnitsOf(federation.KindOrganisation, s.Members()); len(orgs) > 0 &&
		len(profile.Find(out.Attributes, profile.AttributeOrganization)) == 0 {
		out.Attributes = addValues(out.Attributes, profile.AttributeOrganization, orgs)
	}
	if mark := Marked(s.snap, s.by, in, s.stays.Values, s.Members()); mark != "" {
		out.Attributes = profile.Put(out.Attributes, profile.AttributeUserType, profile.Texts(mark))
	}
	return in.Beside(out.Attributes)
}

// Proved are their attributes as conditions see them: of all that the gate knows, the values that are proved; groups
// and organisations where they belong, and the mark that is trusted.
func (s *Standing) Proved() policy.Proved {
	if s.proved == nil {
		proved := s.vouched()
		s.proved = &proved
	}
	return *s.proved
}

func (s *Standing) vouched() policy.Proved {
	out := policy.Proved{Subject: s.came.Subject.Value, Values: map[string][]any{}}
	for _, a := range s.Known().Attributes {
		var proved []profile.Value
		switch word := profile.Word(a.Name); word {
		case profile.AttributeGroups:
			proved = textsOf(s.snap.Around(UnitsOf(federation.KindGroup, s.Members())))
		case profile.AttributeOrganization:
			proved = textsOf(UnitsOf(federation.KindOrganisation, s.Members()))
		case profile.AttributeUserType:
			if mark := s.Mark(); mark != "" {
				proved = profile.Texts(mark)
			}
		default:
			for _, v := range a.Values {
				if provedValue(s.by, s.in, s.stays, s.Given, a.Name, v.String()) {
					proved = append(proved, v)
				}
			}
			if len(proved) < len(a.Values) {
				out.Left = append(out.Left, word)
			}
		}
		for _, name := range []string{profile.Word(a.Name), a.Name, a.Friendly} {
			if name != "" {
				out.Values[name] = profile.Natives(proved)
			}
		}
	}
	return out
}

// Lacking are the attributes that they are to be asked for at their sign-in, because nobody says them or, where they
// are to be proved, nobody but themselves stands for them.
func (s *Standing) Lacking() (out []federation.Asked) {
	for _, a := range s.by.Asks() {
		values := profile.Find(s.Known().Attributes, a.Name)
		ok := len(values) > 0
		if a.Verified {
			ok = slices.ContainsFunc(values, func(v profile.Value) bool {
				return addressProof(s.by, s.in, s.Person, s.Given, v.String()) != NoProof
			})
		}
		if !ok {
			out = append(out, a)
		}
	}
	return out
}

// Addresses are their e-mail addresses that are proved: those on record, then those that come now.
func (s *Standing) Addresses() (out []string) {
	for _, v := range append(keptProved(s.Person), profile.Find(s.came.Attributes, profile.ClaimEmail)...) {
		if addressProof(s.by, s.came, s.Person, s.Given, v.String()) != NoProof {
			out = append(out, v.String())
		}
	}
	return out
}

// Updating is what a sign-in keeps with them: what rules keep, what the provider's record says, what they were asked
// for, and how they are marked.
func (s *Standing) Updating() PutValues {
	p, who := s.by, s.Person
	put := PutValues{From: p.ID}
	lasting, _ := p.Mapping().Lasting(s.came.Attributes)
	for _, a := range lasting {
		put.bring(p, s.came, a)
	}
	put.Names = lastingNames(p)
	for _, u := range p.Updates() {
		values := keepable(profile.Find(s.came.Attributes, u.Name))
		if len(values) == 0 || u.How == federation.UpdateOnce && keeps(who, u.Name) ||
			profile.Means(u.Name, profile.ClaimEmail) && unproved(p, s.came, who, s.Given) && len(keptProved(who)) > 0 {
			continue
		}
		put.bring(p, s.came, profile.Attribute{Name: u.Name, Values: values})
	}
	for _, g := range s.Given {
		if !g.used() {
			continue
		}
		by := NoProof
		if g.Verified {
			by = ByMail
		}
		put.lay(KeptValue{Attribute: profile.Attribute{Name: g.Name, Values: profile.Texts(g.Value)},
			From: FromPerson, Proofs: []Proof{by}})
	}
	put.Values = slices.DeleteFunc(put.Values,
		func(k KeptValue) bool { return named(profile.AttributeUserType)(k.Attribute) })
	mark := Marked(s.snap, p, s.came, who.Values, s.Members())
	typed := slices.ContainsFunc(who.Values, func(k KeptValue) bool {
		return k.Name == profile.AttributeUserType && (k.From == FromHand || k.From == FromImport)
	})
	if mark != "" && !typed {
		a := profile.Attribute{Name: profile.AttributeUserType, Values: profile.Texts(mark)}
		if slices.Equal(profile.Find(s.came.Attributes, a.Name), a.Values) {
			put.bring(p, s.came, a)
		} else { // the gate's own records say so
			put.lay(KeptValue{Attribute: a, From: p.ID, Proofs: []Proof{ByRecord}})
		}
	}
	return put
}
