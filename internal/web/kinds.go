package web

import (
	"cmp"
	"context"
	"maps"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
)

// kindCalls registers what forms and files are made from.
func (s *server) kindCalls(a huma.API) {
	call(s, a, op("GET", "/kinds", "list-kinds",
		"The settings of every kind of objects: their names, labels, types and values; those of records by protocol"),
		func(context.Context, *struct{}) (*body[[]api.Kind], error) { return &body[[]api.Kind]{s.kinds()}, nil })
}

// kinds describes the settings of every kind.
func (s *server) kinds() []api.Kind {
	out := []api.Kind{}
	add := func(kind federation.Kind, protocol string, list []federation.Setting) {
		k := api.Kind{Kind: string(kind), Protocol: protocol, Settings: []api.Setting{}}
		for _, one := range list {
			k.Settings = append(k.Settings, setting(one))
		}
		out = append(out, k)
	}
	for _, l := range s.settingLists() {
		add(l.kind, l.protocol, l.settings)
	}
	add(federation.KindAggregate, "", federation.SettingList(federation.KindAggregate, nil))
	return out
}

// settingList is the settings that records of a kind have in a protocol.
type settingList struct {
	kind     federation.Kind
	protocol string
	settings []federation.Setting
}

func (s *server) settingLists() (out []settingList) {
	for _, p := range s.protocols {
		if side := p.NewProvider(&federation.Gate{}, ""); p.Providers() && side != nil {
			out = append(out, settingList{federation.KindProvider, p.Name(), federation.SettingList(federation.KindProvider, side)})
		}
		if side := p.NewApplication(&federation.Gate{}, ""); p.Applications() && side != nil {
			out = append(out, settingList{federation.KindApplication, p.Name(), federation.SettingList(federation.KindApplication, side)})
		}
	}
	return out
}

// setting describes one setting on the wire.
func setting(s federation.Setting) api.Setting {
	out := api.Setting{Name: s.Name, Label: s.Label, Text: s.Text, Group: s.Group, Type: string(s.Type), Most: s.Most,
		Refers: string(s.Refers)}
	values := s.Choices
	if values == nil {
		values = slices.SortedFunc(maps.Keys(s.Words), func(a, b string) int { return cmp.Compare(s.Words[a], s.Words[b]) })
		slices.SortStableFunc(values, func(a, b string) int { return cmp.Compare(min(len(a), 1), min(len(b), 1)) })
	}
	for _, v := range values {
		out.Choices = append(out.Choices, api.SettingChoice{Value: v, Label: cmp.Or(s.Words[v], v, "nothing")})
	}
	return out
}
