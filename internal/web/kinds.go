package web

import (
	"cmp"
	"context"
	"maps"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
)

// kindCalls registers what forms and files are made from, and the calls for objects of any kind.
func (s *server) kindCalls(a huma.API) {
	g := s.gate
	call(s, a, op("GET", "/kinds", "list-kinds",
		"The settings of every kind of objects: their names, labels, types and values; those of records by protocol"),
		func(context.Context, *struct{}) (*body[[]api.Kind], error) { return &body[[]api.Kind]{s.kinds()}, nil })
	call(s, a, op("GET", "/objects/{kind}", "list-objects", "Objects of a kind, by name"),
		func(_ context.Context, in *struct {
			Kind   string `path:"kind" maxLength:"63"`
			Search string `query:"search" maxLength:"200" doc:"Part of a name, or of what one says"`
			Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"20000"`
			Offset int    `query:"offset" minimum:"0"`
		}) (*body[api.List[api.ObjectRow]], error) {
			all, err := g.Records.Objects(in.Kind, in.Search)
			if err != nil {
				return nil, err
			}
			from := min(in.Offset, len(all))
			return rows(all[from:min(from+in.Limit, len(all))], len(all), objectRow), nil
		})
	call(s, a, op("GET", "/objects/{kind}/{name}", "show-object", "One object of any kind, and what names it"),
		func(_ context.Context, in *ref) (*body[api.Object], error) {
			o, err := g.Records.Object(in.Kind, in.Name)
			if err != nil {
				return nil, err
			}
			return &body[api.Object]{s.object(o)}, nil
		})
	call(s, a, looks("/objects/{kind}/{name}/preview", "preview-object", "What laying settings over an object would come to"),
		func(ctx context.Context, in *laying) (*body[api.ObjectLooked], error) {
			l, err := g.Records.Look(ctx, in.Kind, in.Name, in.Body.Revision, in.Body.Settings)
			return &body[api.ObjectLooked]{api.ObjectLooked{New: l.New, Differences: append([]federation.Difference{}, l.Differences...),
				Consequence: consequence(l.Consequence)}}, err
		})
	call(s, a, op("PUT", "/objects/{kind}/{name}", "put-object",
		"Make an object of a kind that settings say everything about, or lay settings over it"),
		func(ctx context.Context, in *laying) (*body[api.Object], error) {
			l, err := g.Records.Lay(ctx, by(ctx), in.Kind, in.Name, in.Body.Revision, in.Body.Settings)
			if err != nil {
				return nil, err
			}
			return &body[api.Object]{s.object(l.Object)}, nil
		})
	call(s, a, op("DELETE", "/objects/{kind}/{name}", "remove-object", "Remove an object that nothing names"),
		func(ctx context.Context, in *ref) (*struct{}, error) {
			return nil, g.Records.Remove(ctx, by(ctx), federation.Kind(in.Kind), in.Name)
		})
}

// ref names an object.
type ref struct {
	Kind string `path:"kind" maxLength:"63"`
	Name string `path:"name" maxLength:"200" doc:"Short name"`
}

// laying is settings that are laid over an object.
type laying struct {
	Kind string `path:"kind" maxLength:"63"`
	Name string `path:"name" maxLength:"200" doc:"Short name"`
	Body api.ObjectChange
}

func objectRow(o federation.Object) api.ObjectRow {
	out := api.ObjectRow{Kind: string(o.Ref().Kind), Name: string(o.Ref().Name), Revision: o.At(), Added: o.Since()}
	for _, v := range o.Describe() {
		if strings.EqualFold(v.Label, "title") {
			out.Title = v.Value
		}
	}
	return out
}

func (s *server) object(o federation.Object) api.Object {
	out := api.Object{ObjectRow: objectRow(o), Values: o.Describe(), Referring: []api.Reference{}}
	if x, is := o.(federation.Settled); is {
		out.Settings = x.Settings()
	}
	for _, n := range s.gate.Snapshot().Referring(o.Ref()) {
		out.Referring = append(out.Referring, api.Reference{By: n.By.Ref().String(), Field: n.Field})
	}
	return out
}

// kinds describes the settings of every kind.
func (s *server) kinds() []api.Kind {
	out := []api.Kind{}
	add := func(kind federation.Kind, protocol string, list []federation.Setting, settled bool) {
		k := api.Kind{Kind: string(kind), Protocol: protocol, Settings: []api.Setting{}, Plain: settled}
		for _, one := range list {
			k.Settings = append(k.Settings, setting(one))
		}
		out = append(out, k)
	}
	for _, l := range s.settingLists() {
		add(l.kind, l.protocol, l.settings, false)
	}
	for _, kind := range s.gate.Records.Kinds() {
		if list, settled := s.gate.Records.Settled(kind); kind != federation.KindProvider && kind != federation.KindApplication {
			add(kind, "", list, settled)
		}
	}
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
