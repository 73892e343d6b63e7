package person

import (
	"encoding/json"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"slices"
	"time"
)

// Proof is by what a value about a person is proved to be theirs. What lets somebody into
// an account that exists is proved; what is not matches nobody.
type Proof string

// Proofs.
const (
	NoProof    Proof = ""
	ByMail     Proof = "mail"     // the person typed a code that was mailed to it
	ByEngineer Proof = "engineer" // it was typed here, or came in a list that does not mark it as unproved
	ByDomain   Proof = "domain"   // the provider that brought it stands for the domain of the address
	ByFlag     Proof = "flag"     // the provider that brought it said with it that it is verified
	ByRecord   Proof = "record"   // the record of the provider that brought it names the attribute
)

// KeptValue is an attribute that is kept with a person.
type KeptValue struct {
	profile.Attribute
	From federation.ID `json:"from"` // the provider that it came by, or one of the sources
	At   time.Time     `json:"at"`
	// Proofs are those of the values, in their order; values beyond them are unproved.
	Proofs []Proof `json:"proofs"`
	// Marks are those of the values, likewise.
	Marks []Mark `json:"marks,omitempty"`
}

// Proof is by what a value is proved, by its place.
func (k KeptValue) Proof(at int) Proof {
	if at < len(k.Proofs) {
		return k.Proofs[at]
	}
	return NoProof
}

// ProvedBy is by what one of the values that mean the same as another is proved.
func (k KeptValue) ProvedBy(value string) Proof {
	key := profile.Key(k.Name, value)
	for i, v := range k.Attribute.Values {
		if p := k.Proof(i); p != NoProof && profile.Key(k.Name, v.String()) == key {
			return p
		}
	}
	return NoProof
}

// UnmarshalJSON reads it, and what builds before there were proofs wrote: what a person
// proved, what was typed here and what came in a list is proved, and nothing else.
func (k *KeptValue) UnmarshalJSON(data []byte) error {
	type plain KeptValue
	was := struct {
		*plain
		Proofs   *[]Proof `json:"proofs"`
		Verified bool     `json:"verified"`
	}{plain: (*plain)(k)}
	if err := json.Unmarshal(data, &was); err != nil {
		return err
	}
	switch {
	case was.Proofs != nil:
		k.Proofs = *was.Proofs
	case was.Verified:
		k.Proofs = slices.Repeat([]Proof{ByMail}, len(k.Attribute.Values))
	case k.From == FromHand || k.From == FromImport:
		k.Proofs = slices.Repeat([]Proof{ByEngineer}, len(k.Attribute.Values))
	}
	return nil
}

// Brought is by what a value is proved that a provider brings now, as far as it is trusted
// for it: of an address it stands for the domain or says that it is verified, of any other
// attribute its record names it. who is what it said, through its intake.
func Brought(p *federation.Provider, who profile.Profile, name, value string) Proof {
	switch {
	case p == nil:
	case profile.Means(name, profile.ClaimEmail):
		if p.Vouches(value) {
			return ByDomain
		}
		if slices.Contains(who.Verified, profile.Key(profile.ClaimEmail, value)) {
			return ByFlag
		}
	case p.TrustedWith(name):
		return ByRecord
	}
	return NoProof
}

// brought are the proofs of values that a provider brings now.
func brought(p *federation.Provider, who profile.Profile, name string, values []profile.Value) []Proof {
	out := make([]Proof, len(values))
	for i, v := range values {
		out[i] = Brought(p, who, name, v.String())
	}
	return out
}

// mailed reports whether the person proved an address by a code, now or before.
func mailed(address string, who Person, given []Given) bool {
	return givenProved(address, given) || slices.ContainsFunc(who.Values, func(k KeptValue) bool {
		return profile.Means(k.Name, profile.ClaimEmail) && k.ProvedBy(address) == ByMail
	})
}

func givenProved(address string, given []Given) bool {
	return slices.ContainsFunc(given, func(g Given) bool {
		return g.Verified && profile.Same(profile.ClaimEmail, g.Value, address)
	})
}

// addressProof is by what an address is proved: by the provider that brings it, or by what is
// known of the person. What the person only typed, or another provider brought without proof,
// is not, whatever its domain.
func addressProof(p *federation.Provider, in profile.Profile, who Person, given []Given, address string) Proof {
	if givenProved(address, given) {
		return ByMail
	}
	for _, k := range who.Values {
		if profile.Means(k.Name, profile.ClaimEmail) {
			if by := k.ProvedBy(address); by != NoProof {
				return by
			}
		}
	}
	if slices.ContainsFunc(profile.Find(in.Attributes, profile.ClaimEmail), func(v profile.Value) bool {
		return profile.Same(profile.ClaimEmail, v.String(), address)
	}) {
		return Brought(p, in, profile.ClaimEmail, address)
	}
	return NoProof
}

func textsOf(names []federation.Name) (out []profile.Value) {
	for _, n := range names {
		out = append(out, profile.TextOf(string(n)))
	}
	return out
}

// provedValue reports whether somebody vouches for a value who is trusted for it: the provider that brings it, or
// whoever it was kept of; or the person proved it.
func provedValue(p *federation.Provider, in profile.Profile, who Person, given []Given, name, value string) bool {
	if profile.Means(name, profile.ClaimEmail) {
		return addressProof(p, in, who, given, value) != NoProof
	}
	word := profile.Word(name)
	kept := slices.ContainsFunc(who.Values, func(k KeptValue) bool {
		return profile.Word(k.Name) == word && k.ProvedBy(value) != NoProof
	})
	return kept || Brought(p, in, name, value) != NoProof &&
		slices.ContainsFunc(profile.Find(in.Attributes, name), func(v profile.Value) bool { return v.String() == value })
}

// used reports whether what a person said when asked counts: an address that they typed does
// once it is proved, whatever its domain.
func (g Given) used() bool { return g.Verified || !profile.Means(g.Name, profile.ClaimEmail) }

// keptProved are the proved addresses that are kept with somebody.
func keptProved(who Person) (out []profile.Value) {
	for _, k := range who.Values {
		if !profile.Means(k.Name, profile.ClaimEmail) {
			continue
		}
		for i, v := range k.Attribute.Values {
			if k.Proof(i) != NoProof {
				out = append(out, v)
			}
		}
	}
	return out
}
