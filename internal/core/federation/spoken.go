package federation

import "innergate.example/innergate/internal/core/finding"

// Speaking is implemented by applications whose own name stands in tokens beside the names of
// people: nobody and nothing else may have it (RFC 9700 §4.15).
type Speaking interface {
	// Spoken is its own name, "" for none yet, and the audiences that it is itself.
	Spoken() (own string, audiences []string)
}

// Speakers are the applications that have names of their own in tokens.
type Speakers struct {
	ByName     map[string]Name   // by their own name
	byAudience map[string][]Name // by an audience that they are
	gate       map[string]string // what the gate itself is called
}

// Speakers gives those of a snapshot.
func (s *Snapshot) Speakers() Speakers {
	out := Speakers{map[string]Name{}, map[string][]Name{}, map[string]string{s.Gate.Base: "the issuer of the gate"}}
	for _, v := range s.Gate.Own {
		if v != s.Gate.Base {
			out.gate[v] = "an entity ID of the gate"
		}
	}
	for _, a := range s.Applications() {
		if side := a.Side.Can().Speaking; side != nil {
			own, audiences := side.Spoken()
			if own != "" {
				out.ByName[own] = a.Name
			}
			for _, x := range audiences {
				out.byAudience[x] = append(out.byAudience[x], a.Name)
			}
		}
	}
	return out
}

// Clash sees that an application's own name is none of the gate's, and no audience of
// another application; nor its audiences another one's name.
func (s Speakers) Clash(a *Application) error {
	side := a.Side.Can().Speaking
	if side == nil {
		return nil
	}
	shared := func(name, whose string) error {
		return finding.New(finding.NameShared, finding.Fact("Name", name), finding.Fact("Is already", whose))
	}
	own, audiences := side.Spoken()
	if whose, is := s.gate[own]; is {
		return shared(own, whose)
	}
	if own != "" {
		for _, other := range s.byAudience[own] {
			if other != a.Name {
				return shared(own, "an audience of the application "+string(other))
			}
		}
	}
	for _, x := range audiences {
		if other, is := s.ByName[x]; is && other != a.Name {
			return shared(x, "the client ID of the application "+string(other))
		}
	}
	return nil
}
