package federation

import (
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"strings"
	"time"
)

// Settled is an object that settings say everything about. Apply gives a copy with settings laid
// over; names that are none are refused, and what is not named stays. The error is a SettingError.
type Settled interface {
	Object
	Settings() Settings
	Apply(s Settings) (Object, error)
}

// Description is a kind of objects that are what their settings say and nothing else. Adding,
// changing, undoing, history, the API, the command line and the console need no more of it.
type Description struct {
	Kind     Kind
	Settings []Setting
	// Check sees whether an object can be so in a snapshot; nil for no more than each setting says.
	Check func(after *Snapshot, p *Plain) error
	// Always is the name of the one that there always is, and no other; "" for any number.
	Always Name
}

// Plain is an object of a described kind.
type Plain struct {
	Of       *Description
	Name     Name
	Revision int
	Added    time.Time
	Said     Settings
}

// Plain makes an object of the kind of which nothing is said yet.
func (d *Description) Plain(n Name) *Plain { return &Plain{Of: d, Name: n, Said: Settings{}} }

// Read gives an object of what is stored of it.
func (d *Description) Read(s Stored) (Object, error) {
	p := d.Plain(Name(s.Name))
	p.Revision, p.Added = s.Revision, s.Added
	return p, json.Unmarshal(s.Data, &p.Said)
}

// MarshalJSON gives what is stored of it: its settings.
func (p *Plain) MarshalJSON() ([]byte, error) { return json.Marshal(p.Said) }

// Ref names the object.
func (p *Plain) Ref() Ref { return Ref{p.Of.Kind, p.Name} }

// At is the revision.
func (p *Plain) At() int { return p.Revision }

// Since is when it was added.
func (p *Plain) Since() time.Time { return p.Added }

// Next gives a copy at another revision.
func (p *Plain) Next(revision int, old Object, now time.Time) Object {
	q := *p
	q.Revision, q.Added = revision, since(old, p.Added, now)
	return &q
}

// Describe gives its settings under their labels.
func (p *Plain) Describe() []Value { return describeSettings(p.Of.Settings, p.Said) }

// Refers are the objects that settings name.
func (p *Plain) Refers() []Reference { return refers(p.Of.Settings, p.Said) }

// Settings are all of them.
func (p *Plain) Settings() Settings {
	out := Settings{}
	for _, s := range p.Of.Settings {
		if out[s.Name] = s.none(); p.Said[s.Name] != nil {
			out[s.Name] = p.Said[s.Name]
		}
	}
	return out
}

// Apply lays settings over.
func (p *Plain) Apply(s Settings) (Object, error) {
	said, err := laidOver(p.Of.Settings, p.Settings(), s)
	if err != nil {
		return nil, err
	}
	q := *p
	q.Said = said
	return &q, nil
}

// none is the value of a setting that nobody gave.
func (s Setting) none() any {
	switch s.Type {
	case Switch:
		return false
	case Values:
		return []any{}
	case Rules:
		return map[string]any{}
	}
	return ""
}

// laidOver lays settings over others, each in its form.
func laidOver(list []Setting, under, over Settings) (Settings, error) {
	out := Settings{}
	for name, v := range under {
		out[name] = v
	}
	for name, v := range over {
		at := slices.IndexFunc(list, func(k Setting) bool { return k.Name == name })
		if at < 0 {
			return nil, unknownSetting(name, list)
		}
		v = list[at].line(v)
		if err := list[at].fits(v); err != nil {
			return nil, err
		}
		out[name] = v
	}
	if title, has := out["title"].(string); has && strings.TrimSpace(title) == "" {
		return nil, &SettingError{"title", errors.New("the title is empty; give what people should read")}
	}
	return out, nil
}

// describeSettings gives settings as people read them.
func describeSettings(list []Setting, values Settings) (out []Value) {
	for _, s := range list {
		v := values[s.Name]
		if v == nil {
			v = s.none()
		}
		text := fmt.Sprint(v)
		if all, is := v.([]any); is {
			text = strings.Join(texts(all), ", ")
		}
		out = append(out, Value{Label: s.Label, Value: text})
	}
	return out
}

// refers are the objects that settings name.
func refers(list []Setting, values Settings) (out []Reference) {
	for _, s := range list {
		switch v := values[s.Name].(type) {
		case string:
			if s.Refers != "" {
				out = append(out, References(s.Name, s.Refers, Name(v))...)
			}
		case []any:
			for i, name := range texts(v) {
				if s.Refers != "" {
					out = append(out, References(fmt.Sprintf("%s[%d]", s.Name, i), s.Refers, Name(name))...)
				}
			}
		}
	}
	return out
}

func texts(all []any) []string {
	out := make([]string, len(all))
	for i, x := range all {
		out[i] = fmt.Sprint(x)
	}
	return out
}

// settingsOf gives the members of a structure by their names in JSON, those that are absent as
// nobody gave them.
func settingsOf(list []Setting, x any) Settings {
	out := Settings{}
	octets, err := json.Marshal(x)
	if err == nil {
		err = json.Unmarshal(octets, &out)
	}
	if err != nil {
		panic(err) // structures of texts, lists of texts and rules
	}
	all := Settings{}
	for _, s := range list {
		if all[s.Name] = s.none(); out[s.Name] != nil {
			all[s.Name] = out[s.Name]
		}
	}
	return all
}

// applied puts settings into a structure.
func applied(list []Setting, under, s Settings, into any) error {
	all, err := laidOver(list, under, s)
	if err != nil {
		return err
	}
	octets, err := json.Marshal(all)
	if err != nil {
		return err
	}
	return json.Unmarshal(octets, into)
}

// Settings are title, notes, mark, and what people come to it by.
func (x *Unit) Settings() Settings { return settingsOf(kindSettings[x.Kind], x) }

// Apply lays settings over.
func (x *Unit) Apply(s Settings) (Object, error) {
	y := Unit{Kind: x.Kind, Name: x.Name, Revision: x.Revision, Added: x.Added}
	return &y, applied(kindSettings[x.Kind], x.Settings(), s, &y)
}

// Settings are title, way, notes and rules.
func (s *Set) Settings() Settings { return settingsOf(kindSettings[KindSet], s) }

// Apply lays settings over.
func (s *Set) Apply(over Settings) (Object, error) {
	t := Set{Name: s.Name, Revision: s.Revision, Added: s.Added}
	return &t, applied(kindSettings[KindSet], s.Settings(), over, &t)
}
