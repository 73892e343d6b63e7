package federation

import (
	"fmt"
)

// KindDefaults is the kind of what the gate takes where nobody says otherwise.
const KindDefaults Kind = "defaults"

// NewRecordsName is the short name of the one object that says what new records begin with.
const NewRecordsName Name = "new-records"

// Defaults describes what new records begin with. It says nothing of those that are there.
var Defaults = &Description{Kind: KindDefaults, Always: NewRecordsName, Settings: []Setting{
	{Name: "everyone", Label: "Whoever nothing else is about, at a new application", Type: OneOf,
		Choices: []string{"", "yes", "no"},
		Words: map[string]string{"": "enters, and a finding says that nobody decided on it", "yes": "enters",
			"no": "does not enter"},
		Text:    "What the setting everyone of a new application is, where the call that adds it does not say",
		Default: "not set"},
	{Name: "providerPhase", Label: "Phase of a new provider", Type: OneOf, Choices: []string{"", "live", "paused",
		"draft"},
		Words: map[string]string{"": "live", "live": "live", "paused": "paused", "draft": "draft"},
		Text:  "What the phase of a new provider is, where the call that adds it does not say", Default: "live"},
	{Name: "applicationPhase", Label: "Phase of a new application", Type: OneOf,
		Choices: []string{"", "live", "paused", "draft"},
		Words:   map[string]string{"": "live", "live": "live", "paused": "paused", "draft": "draft"},
		Text:    "What the phase of a new application is, where the call that adds it does not say", Default: "live"},
}, Check: func(_ *Snapshot, p *Plain) error {
	if p.Name != NewRecordsName {
		return &SettingError{"name", fmt.Errorf("there is one alone, %s; change that", NewRecordsName)}
	}
	return nil
}}

// NewRecord is what a new record begins with: its phase, "" for live, and of an application the setting everyone.
func (s *Snapshot) NewRecord(k Kind) (phase Phase, everyone string) {
	p, is := s.others[Ref{KindDefaults, NewRecordsName}].(*Plain)
	if !is {
		return "", ""
	}
	text := func(name string) string { v, _ := p.Said[name].(string); return v }
	if k == KindProvider {
		return Phase(text("providerPhase")), ""
	}
	return Phase(text("applicationPhase")), text("everyone")
}
