package people

import (
	"cmp"
	"context"
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/traces"
	"innergate.example/innergate/internal/store"
)

// NewPerson is somebody who is known before they come: by the name of a provider for them,
// or by values that they can be found by, or both.
type NewPerson struct {
	Provider string // short name, "" for no link
	Subject  profile.Subject
	Edit
}

// Edit is what changes about somebody. What it does not name stays.
type Edit struct {
	Values map[string][]string // by attribute; without values it is taken away
	Marks  []person.ValueMark
	Join   []Belongs
	Leave  []Belongs
}

// Belongs names a group or an organisation.
type Belongs struct {
	Kind federation.Kind
	Name string
}

// bounds of what is kept with a person: attributes, values of one, octets of a value.
const (
	mostValues    = 60
	mostOfOne     = 100
	longestOctets = 2000
)

// LinkOf reads the link that is to be made.
func (rm *Room) LinkOf(provider string, s profile.Subject) (*federation.Provider, person.Link, error) {
	p, err := rm.Records.Provider(provider)
	if err != nil {
		return nil, person.Link{}, change.Field("provider", err)
	}
	s.Value = strings.TrimSpace(s.Value)
	if s.Format, err = rm.formatOf(p, s.Format); err != nil {
		return nil, person.Link{}, change.Field("format", err)
	}
	switch {
	case s.Value == "":
		err = change.Field("subject", errors.New("it is empty; give the name by which the provider calls the person"))
	case len(s.Value) > 1024 || federation.CheckText(s.Value, false) != nil:
		err = change.Field("subject", errors.New("it has more than 1024 octets, or control characters"))
	case s.Transient || strings.HasSuffix(s.Format, ":transient"):
		err = change.Field("format", errors.New("a transient name is another one at each sign-in; give one that lasts"))
	}
	return p, person.Link{Provider: p.ID, Key: person.LinkKey(p.ID, s), Subject: s}, err
}

// formatOf is the format that a name will come in: as it is said, else as the provider's people
// have it so far, else as its record expects it.
func (rm *Room) formatOf(p *federation.Provider, said string) (string, error) {
	side := p.Side.Can().Formatting
	switch {
	case side == nil && said != "":
		return "", fmt.Errorf("names of %s have no format; leave it out", p.Name)
	case side == nil:
		return "", nil
	case said != "":
		return side.FormatOf(said)
	}
	usual, err := rm.usualFormat(p.ID)
	return cmp.Or(usual, side.Expected()), err
}

func taken(provider string) error {
	return change.Conflict(fmt.Sprintf("somebody is linked to %s by that name already", provider),
		"see innergate person links --provider "+provider)
}

// Add makes an account.
func (rm *Room) Add(ctx context.Context, b change.By, n NewPerson) (Person, error) {
	var link person.Link
	if n.Provider != "" {
		var err error
		if _, link, err = rm.LinkOf(n.Provider, n.Subject); err != nil {
			return Person{}, err
		}
	} else if len(n.Values) == 0 {
		return Person{}, change.Field("provider",
			errors.New("nobody could be known again; give a provider and its name for the person, or values"))
	}
	edit, err := rm.checked(n.Edit)
	if err != nil {
		return Person{}, err
	}
	c := by(b, 0)
	c.Identifier, c.Typed, c.Join = Identifier(), edit.typing(), edit.joins()
	if n.Provider != "" {
		c.Link = []person.Link{link}
	}
	var id int64
	err = rm.Store.Change(ctx, func(tx store.Tx) error {
		done, err := rm.Apply(tx, c)
		if isLost(err, person.GuardLink) {
			return taken(n.Provider)
		}
		if err != nil {
			return refused(err)
		}
		id = done[0].Person
		return rm.note(tx, b, id, "added")
	})
	if err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, id)
}

// isLost reports whether an error says that one guard failed.
func isLost(err error, g person.Guard) bool {
	var lost *person.LostError
	return errors.As(err, &lost) && lost.Guard == g
}

// typing is what an edit says of values, nil for nothing.
func (e Edit) typing() *person.Typing {
	if len(e.Values)+len(e.Marks) == 0 {
		return nil
	}
	return &person.Typing{From: person.FromHand, Values: e.Values, Marks: e.Marks, Most: mostValues}
}

func (e Edit) joins() (out []person.Membership) {
	for _, b := range e.Join {
		out = append(out, person.Membership{Kind: b.Kind, Name: federation.Name(b.Name), Source: person.FromHand})
	}
	return out
}

// change is an edit of one person, by hand.
func (e Edit) change(b change.By, id int64) person.Change {
	c := by(b, id)
	c.Typed, c.Join = e.typing(), e.joins()
	for _, l := range e.Leave {
		c.Leave = append(c.Leave, person.Membership{Kind: l.Kind, Name: federation.Name(l.Name)})
	}
	return c
}

// Change changes what is kept of somebody, and where they belong. Each part is laid over
// what is there when it is stored.
func (rm *Room) Change(ctx context.Context, b change.By, id int64, e Edit) (Person, error) {
	edit, err := rm.checked(e)
	if err != nil {
		return Person{}, err
	}
	took, err := rm.Traces.Foreseen(ctx, rm.Records.Snapshot(), []traces.Becoming{rm.becoming(edit.change(b, id))})
	if err == nil {
		err = b.Confirmed(took)
	}
	if err != nil {
		return Person{}, err
	}
	if err = rm.store(ctx, b, []person.Change{edit.change(b, id)}, "changed"); err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, id)
}

// checked sees that an edit can be made.
func (rm *Room) checked(e Edit) (Edit, error) {
	if len(e.Values) > mostValues || len(e.Join)+len(e.Leave) > 1000 {
		return e, change.Field("values", fmt.Errorf("give at most %d attributes, and 1000 groups and organisations",
			mostValues))
	}
	for name, values := range e.Values {
		if err := CheckValues(name, values); err != nil {
			return e, change.Field("values."+name, err)
		}
	}
	for i, m := range e.Marks {
		if err := m.Check(); err != nil {
			return e, change.Field(fmt.Sprintf("marks[%d]", i), err)
		}
	}
	for i, b := range slices.Concat(e.Join, e.Leave) {
		if _, err := rm.Records.Unit(b.Kind, b.Name); err != nil {
			field := fmt.Sprintf("join[%d]", i)
			if i >= len(e.Join) {
				field = fmt.Sprintf("leave[%d]", i-len(e.Join))
			}
			return e, change.Field(field, err)
		}
	}
	return e, nil
}

// CheckValues sees that values of an attribute can be kept.
func CheckValues(name string, values []string) error {
	switch {
	case strings.TrimSpace(name) == "" || len(name) > 200 || strings.ContainsAny(name, " =") ||
		federation.CheckText(name, false) != nil:
		return fmt.Errorf("%.100q is no name of an attribute", name)
	case name == profile.AttributeGroups || name == profile.AttributeOrganization:
		return errors.New("where somebody belongs is no value; join groups and organisations")
	case len(values) > mostOfOne:
		return fmt.Errorf("it has %d values; give at most %d", len(values), mostOfOne)
	}
	for _, v := range values {
		if strings.TrimSpace(v) == "" || len(v) > longestOctets || federation.CheckText(v, true) != nil {
			return fmt.Errorf("a value is empty, has more than %d octets, or control characters", longestOctets)
		}
		if _, is := profile.Address(v); !is && profile.Means(name, profile.ClaimEmail) {
			return fmt.Errorf("%.100q is no e-mail address; write it like ada@wrenmoor.example", v)
		}
	}
	return nil
}

// Link links somebody to a provider's name for them, beside those that they have.
func (rm *Room) Link(ctx context.Context, b change.By, id int64, provider string, s profile.Subject) (Person, error) {
	p, link, err := rm.LinkOf(provider, s)
	if err != nil {
		return Person{}, err
	}
	c := by(b, id)
	c.Link = []person.Link{link}
	err = rm.Store.Change(ctx, func(tx store.Tx) error {
		_, err := rm.Apply(tx, c)
		if isLost(err, person.GuardLink) {
			return taken(provider)
		}
		if err != nil {
			return refused(err, id)
		}
		return rm.note(tx, b, id, "linked to "+string(p.Name))
	})
	if err != nil {
		return Person{}, err
	}
	return rm.Get(ctx, id)
}
