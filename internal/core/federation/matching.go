package federation

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/profile"
)

// KnownOnly lets in by a provider only people who have an account already.
const KnownOnly = "known"

// AskSeveral has the person choose, where several accounts match.
const AskSeveral = "ask"

// What becomes of the values of groups: memberships in groups that there are, or in those
// that are made for them too.
const (
	GroupsKnown  = "known"
	GroupsCreate = "create"
)

// Matching is how the people of a provider are found among those whom the gate knows, and
// what is kept of them. Names in its lists are those of attributes in the profile.
type Matching struct {
	// FirstSignIn is KnownOnly, or "" for a provider whose people get an account when they
	// first come.
	FirstSignIn string `json:"firstSignIn"`
	// MatchBy are attributes by which somebody who comes by a new name is found, in order.
	MatchBy listed.Words `json:"matchBy"`
	// SeveralMatches is AskSeveral, or "" to refuse.
	SeveralMatches string `json:"severalMatches"`
	// VouchesFor are the domains whose e-mail addresses count as verified.
	VouchesFor listed.Words `json:"vouchesFor"`
	// TrustedFor are further attributes whose values count as proved when the provider
	// brings them; those of MatchBy do so anyway.
	TrustedFor listed.Words `json:"trustedFor"`
	// Update says what is kept with the person at sign-in, as NAME or NAME=HOW.
	Update listed.Pairs `json:"update"`
	// AskFor is what people are asked for who lack it, as NAME or NAME=verified. E-mail
	// addresses that people type are always verified, whatever their domain.
	AskFor listed.Pairs `json:"askFor"`
	// GroupValues is GroupsKnown or GroupsCreate, or "" to make nothing of groups.
	GroupValues string `json:"groupValues"`
	// UserType marks its people, where rules make no userType of their own.
	UserType string `json:"userType"`
}

// How a value is kept at sign-ins.
const (
	UpdateAlways = "always" // each sign-in replaces it; one that does not bring it leaves it
	UpdateFollow = "follow" // likewise, and one that does not bring it takes it away
	UpdateOnce   = "once"   // the first one sets it, others leave it
)

// Updated is an attribute that is kept with people.
type Updated struct{ Name, How string }

// Asked is an attribute that people are asked for.
type Asked struct {
	Name     string
	Verified bool // an e-mail address is proved by a code that is mailed to it
}

// By are the attributes of MatchBy.
func (m *Matching) By() []string { return m.MatchBy }

// Vouches reports whether the provider stands for the domain of an e-mail address.
func (m *Matching) Vouches(address string) bool {
	domain := profile.DomainOf(address)
	return domain != "" && slices.Contains(m.VouchesFor, domain)
}

// TrustedWith reports whether values of an attribute count as proved when the provider
// brings them. Of e-mail addresses that is decided one by one: see Vouches.
func (m *Matching) TrustedWith(name string) bool {
	word := profile.Word(name)
	return !profile.Means(name, profile.ClaimEmail) && slices.ContainsFunc(slices.Concat(m.MatchBy, m.TrustedFor),
		func(n string) bool { return profile.Word(n) == word })
}

// earlierTrust is what stood for TrustedFor before there was such a setting.
func (m *Matching) earlierTrust() listed.Words {
	return slices.DeleteFunc(slices.Clone(m.MatchBy), func(n string) bool { return profile.Means(n, profile.ClaimEmail) })
}

// Updates are the attributes of Update.
func (m *Matching) Updates() (out []Updated) {
	out, _ = m.updates() // it was read before it was saved
	return out
}

// Asks are the attributes of AskFor.
func (m *Matching) Asks() (out []Asked) {
	out, _ = m.asks()
	return out
}

func (m *Matching) updates() (out []Updated, err error) {
	return each(m.Update, func(name, how string) (Updated, error) {
		switch how {
		case "":
			how = UpdateAlways
		case UpdateAlways, UpdateFollow, UpdateOnce:
		default:
			return Updated{}, fmt.Errorf("%q is no way to keep %s; use always, follow or once", how, name)
		}
		return Updated{name, how}, nil
	})
}

func (m *Matching) asks() (out []Asked, err error) {
	return each(m.AskFor, func(name, how string) (Asked, error) {
		switch {
		case how != "" && how != "verified":
			return Asked{}, fmt.Errorf("%q is no way to ask for %s; use verified, or the name alone", how, name)
		case how == "verified" && !profile.Means(name, profile.ClaimEmail):
			return Asked{}, fmt.Errorf("%s cannot be verified by a mailed code; only emails can", name)
		}
		return Asked{name, profile.Means(name, profile.ClaimEmail)}, nil
	})
}

// each reads what is said of attributes, of each once.
func each[T any](pairs listed.Pairs, read func(name, how string) (T, error)) (out []T, err error) {
	seen := []string{}
	for _, p := range pairs {
		if p.Name == "" {
			return nil, fmt.Errorf("%q names no attribute; write NAME or NAME=HOW", "="+p.Value)
		}
		if slices.Contains(seen, p.Name) {
			return nil, fmt.Errorf("%s is named twice; name it once", p.Name)
		}
		seen = append(seen, p.Name)
		one, err := read(p.Name, p.Value)
		if err != nil {
			return nil, err
		}
		out = append(out, one)
	}
	return out, nil
}

// belonging are attributes that say where somebody belongs, and are kept in another way.
var belonging = map[string]string{"groups": "what becomes of groups is said by groupValues",
	"userType":       "who is marked how is said by userType",
	"email_verified": "it says something of the address that it came with alone"}

// check sees whether it can be used.
func (m *Matching) check() error {
	updates, err := m.updates()
	if err != nil {
		return &SettingError{"update", err}
	}
	for _, u := range updates {
		if say := belonging[u.Name]; say != "" {
			return &SettingError{"update", errors.New(say)}
		}
	}
	asks, err := m.asks()
	if err != nil {
		return &SettingError{"askFor", err}
	}
	for _, a := range asks {
		if say := belonging[a.Name]; say != "" {
			return &SettingError{"askFor", fmt.Errorf("nobody is asked for %s: %s", a.Name, say)}
		}
	}
	if len(asks) > 10 {
		return &SettingError{"askFor", fmt.Errorf("%d values are asked for; ask for at most 10", len(asks))}
	}
	if n := len(m.MatchBy); n > 5 {
		return &SettingError{"matchBy", fmt.Errorf("%d attributes are matched by; use at most 5", n)}
	}
	for field, names := range map[string]listed.Words{"matchBy": m.MatchBy, "trustedFor": m.TrustedFor} {
		if err := alone(names); err != nil {
			return &SettingError{field, err}
		}
	}
	for _, name := range m.TrustedFor {
		if profile.Means(name, profile.ClaimEmail) {
			return &SettingError{"trustedFor", errors.New("addresses count by their domains; use vouchesFor")}
		}
	}
	for _, d := range m.VouchesFor {
		if err := CheckDomain(d); err != nil {
			return &SettingError{"vouchesFor", err}
		}
	}
	return nil
}

// alone sees whether words are names of attributes, each once.
func alone(names listed.Words) error {
	for i, name := range names {
		switch {
		case strings.Contains(name, "="):
			return fmt.Errorf("%s is no name of an attribute", name)
		case slices.Contains(names[:i], name):
			return fmt.Errorf("%s is named twice; name it once", name)
		}
	}
	return nil
}

// CheckDomain sees whether a text is the domain of e-mail addresses, in lower case.
func CheckDomain(d string) error {
	ok := len(d) <= 253 && strings.Contains(d, ".")
	for _, label := range strings.Split(d, ".") {
		ok = ok && label != "" && len(label) <= 63 && strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-") == "" &&
			label[0] != '-' && label[len(label)-1] != '-'
	}
	if !ok {
		return fmt.Errorf("%.100q is no domain; write it like wrenmoor.example, in small letters, without @ and *", d)
	}
	return nil
}
