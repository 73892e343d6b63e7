package person

import (
	"cmp"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/reason"
	"slices"
	"strconv"
	"strings"
)

// LinkKey is what a person is recognised by when they come again: the provider's
// ID, format, qualifiers and value. A transient name gives "".
func LinkKey(p federation.ID, s profile.Subject) string {
	if s.Transient {
		return ""
	}
	key := ""
	for _, part := range []string{string(p), s.Format, s.NameQualifier, s.SPNameQualifier, s.Value} {
		key += part + "\x1f"
	}
	return key
}

// PersonNeed is what has to be looked up before it is known who somebody is.
type Need struct {
	Links  []string // who has these link keys?
	Having []Sought // who has these values?
}

// Match finds the person among those looked up by their link keys. A key that
// was not looked up is a need.
func Match(p *federation.Provider, who profile.Profile, people map[string]Person) (Person,
	reason.Reason, *Need) {
	key := LinkKey(p.ID, who.Subject)
	if key == "" {
		return Person{}, reason.New(reason.PersonTransient), nil
	}
	known, looked := people[key]
	near, same := nearby(p, who.Subject)
	if !looked {
		need := &Need{Links: []string{key}}
		for _, s := range near[:same] {
			need.Links = append(need.Links, LinkKey(p.ID, s))
		}
		return Person{}, reason.Reason{}, need
	}
	for _, s := range near[:same] { // the same name, written otherwise
		if known.ID == 0 {
			key = LinkKey(p.ID, s)
			known = people[key]
		}
	}
	if known.ID == 0 {
		return Person{Key: LinkKey(p.ID, who.Subject)}, reason.New(reason.PersonNew), nil
	}
	known.Key = key
	return known, reason.New(reason.PersonKnown), nil
}

// nearby are names that differ in their format only: those that mean the same first, and how
// many these are.
func nearby(p *federation.Provider, s profile.Subject) (out []profile.Subject, same int) {
	side := p.Side.Can().Formatting
	if side == nil {
		return nil, 0
	}
	all, same := side.Nearby(s.Format)
	for _, f := range all {
		near := s
		near.Format = f
		out = append(out, near)
	}
	return out, same
}

// Welcome sees whether somebody may come who is not known yet: not where only those are
// let in who were made known before. A link by the same name in another format is told, if it
// was looked up.
func Welcome(p *federation.Provider, who Person, came profile.Subject, people map[string]Person) (*Need, error) {
	if p.FirstSignIn != federation.KnownOnly || who.ID != 0 {
		return nil, nil
	}
	f := finding.New(finding.PersonUnknown, finding.Fact("Provider", string(p.Name)))
	near, _ := nearby(p, came)
	need := &Need{}
	for _, s := range near {
		known, looked := people[LinkKey(p.ID, s)]
		switch {
		case !looked:
			need.Links = append(need.Links, LinkKey(p.ID, s))
		case known.ID != 0:
			f = f.With(finding.Compare("Format of a link by this name", cmp.Or(s.Format, "none"), cmp.Or(came.Format, "none")))
		}
	}
	if len(need.Links) > 0 && who.Key != "" {
		return need, nil
	}
	return nil, f
}

// Sought is a value of an attribute by which people are looked for.
type Sought struct {
	Attribute string `json:"attribute"` // by its one name in the profile
	Value     string `json:"value"`     // as it is compared (profile.Key)
}

// String names it as a key.
func (s Sought) String() string { return s.Attribute + "\x1f" + s.Value }

// MostCandidates is how many people are looked at of those who have a value.
const MostCandidates = 10

// Comes is somebody who comes by a name that nobody is linked by, and what is known of them.
type Comes struct {
	Key    string // of the link that they would have
	Who    profile.Profile
	Given  []Given             // what they said themselves
	Picked int64               // which account they chose, 0 for none
	Having map[string][]Person // those looked up so far, by Sought
}

// Seen is what looking for somebody came to.
type Seen struct {
	Person  Person         // ID 0 for nobody
	By      Sought         // the value that they were found by
	Several []Person       // one of which the person has to choose
	Looked  []Sought       // values by which nobody was found
	Prove   string         // attribute whose value counts once the person has proved it
	Reasons reason.Reasons // in order
}

// Seek finds, by the attributes that the provider is trusted for, somebody who comes by a
// name that nobody is linked by: exactly one or nobody. A value counts only if it is proved,
// on both sides: that which comes (of an e-mail address the provider says that it is
// verified, stands for its domain, or the person proved it), and that which is kept.
func Seek(p *federation.Provider, c Comes) (out Seen, need *Need, err error) {
	for _, name := range p.By() {
		values, why := trusted(p, name, c)
		if why != "" {
			out.Reasons.Add(why, name)
		}
		if len(values) == 0 {
			if why == reason.MatchUnverified && out.Prove == "" && asksProof(p, name) {
				out.Prove = name
			}
			continue
		}
		if len(values) > mostSought {
			return out, nil, finding.New(finding.MatchMany, finding.Fact("Attribute", name),
				finding.Compare("Values", "at most "+strconv.Itoa(mostSought), strconv.Itoa(len(values))))
		}
		found, missing := c.having(&out, name, values)
		if len(missing) > 0 {
			return out, &Need{Having: missing}, nil
		}
		if len(found) > 0 {
			return out, nil, out.one(p, name, found, c.Picked)
		}
		out.Reasons.Add(reason.MatchNobody, name)
	}
	return out, nil, nil
}

// having are those who have one of the values, each once, and the values that were not looked
// up yet.
func (c Comes) having(out *Seen, name string, values []string) (found []Person, missing []Sought) {
	for _, v := range values {
		sought := Sought{profile.Word(name), profile.Key(name, v)}
		people, looked := c.Having[sought.String()]
		if !looked {
			missing = append(missing, sought)
			continue
		}
		here := Candidates(people, sought)
		if len(here) == 0 {
			out.Looked = append(out.Looked, sought)
		} else if len(found) == 0 {
			out.By = sought
		}
		for _, x := range here {
			if !slices.ContainsFunc(found, func(y Person) bool { return x.ID == y.ID }) {
				found = append(found, x)
			}
		}
	}
	return found, missing
}

// one settles on one of those who have a value.
func (s *Seen) one(p *federation.Provider, name string, found []Person, picked int64) error {
	if len(found) > 1 {
		if at := slices.IndexFunc(found, func(x Person) bool { return x.ID == picked }); at >= 0 {
			found = found[at : at+1]
			s.Reasons.Add(reason.MatchChosen)
		} else if p.SeveralMatches == federation.AskSeveral && len(found) < MostCandidates {
			s.Several = found
			s.Reasons.Add(reason.MatchAsked, strconv.Itoa(len(found)), name)
			return nil
		} else {
			return finding.New(finding.MatchSeveral, finding.Fact("Attribute", name),
				finding.Fact("People", numbers(found)))
		}
	}
	if s.Person = found[0]; slices.Contains(s.Person.Links, p.ID) {
		return finding.New(finding.MatchLinked, finding.Fact("Attribute", name),
			finding.Fact("Person", strconv.FormatInt(s.Person.ID, 10)), finding.Fact("Provider", string(p.Name)))
	}
	s.Reasons.Add(reason.MatchFound, name)
	return nil
}

func numbers(people []Person) string {
	words := make([]string, len(people))
	for i, x := range people {
		words[i] = strconv.FormatInt(x.ID, 10)
	}
	return strings.Join(words, ", ")
}

// candidates are those of several for whom the value is proved.
func Candidates(people []Person, s Sought) (out []Person) {
	for _, x := range people {
		if slices.ContainsFunc(x.Values, func(k KeptValue) bool {
			return profile.Word(k.Name) == s.Attribute && k.ProvedBy(s.Value) != NoProof
		}) {
			out = append(out, x)
		}
	}
	return out
}

// mostSought is how many values of one attribute people are looked for by.
const mostSought = 1000

// trusted are the values of an attribute that count, and why others do not.
func trusted(p *federation.Provider, name string, c Comes) (out []string, why reason.Code) {
	for _, g := range c.Given {
		if g.Verified && profile.Word(g.Name) == profile.Word(name) {
			return []string{g.Value}, ""
		}
	}
	values := profile.Find(c.Who.Attributes, name)
	if len(values) == 0 {
		return nil, reason.MatchLacking
	}
	for _, v := range values {
		if Brought(p, c.Who, name, v.String()) != NoProof {
			out = append(out, v.String())
			continue
		}
		why = reason.MatchUnverified
	}
	return out, why
}

// asksProof reports whether people are asked to prove the value of an attribute.
func asksProof(p *federation.Provider, name string) bool {
	return slices.ContainsFunc(p.Asks(), func(a federation.Asked) bool {
		return a.Verified && profile.Word(a.Name) == profile.Word(name)
	})
}

// Identified is who came, and how they were found.
type Identified struct {
	Person // Linking if this sign-in links them
	Seen   Seen
	Why    reason.Reason
}

// Identify finds out who comes: by the name that they are linked by, among people, else by the
// attributes that the provider is trusted for. Of an error Key and Seen tell as far as it came.
func Identify(p *federation.Provider, c Comes, people map[string]Person) (out Identified, need *Need, err error) {
	if out.Person, out.Why, need = Match(p, c.Who, people); need != nil || out.Key == "" || out.ID != 0 ||
		len(p.MatchBy) == 0 {
		return out, need, nil
	}
	c.Key = out.Key
	if out.Seen, need, err = Seek(p, c); need == nil && err == nil && out.Seen.Person.ID != 0 {
		out.Person, out.Why = out.Seen.Person, reason.New(reason.PersonLinked)
		out.Key, out.Bare, out.Linking = c.Key, false, true
	}
	return out, need, err
}
