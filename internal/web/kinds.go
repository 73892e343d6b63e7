package web

import (
	"cmp"
	"context"
	"fmt"
	"maps"
	"slices"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
)

// kindCalls registers what forms and files are made from, and the calls for objects of any kind.
func (s *server) kindCalls(a huma.API) {
	g := s.gate
	call(s, a, api.ListKinds,
		func(context.Context, *api.None) (*body[[]api.Kind], error) { return &body[[]api.Kind]{s.kinds()}, nil })
	call(s, a, api.ShowSchema, func(_ context.Context, in *api.SchemaOf) (*body[map[string]any], error) {
		list, err := s.described(federation.Kind(in.Kind), in.Protocol)
		if err != nil {
			return nil, err
		}
		return &body[map[string]any]{fileSchema("Settings of "+federation.Article(in.Kind), list)}, nil
	})
	call(s, a, api.ListObjects,
		func(_ context.Context, in *api.ObjectFilter) (*body[api.List[api.ObjectRow]], error) {
			all, err := g.Records.Objects(in.Kind, in.Search)
			if err != nil {
				return nil, err
			}
			from := min(in.Offset, len(all))
			return rows(all[from:min(from+in.Limit, len(all))], len(all), objectRow), nil
		})
	call(s, a, api.ShowObject,
		func(_ context.Context, in *api.OneObject) (*body[api.Object], error) {
			o, err := g.Records.Object(in.Kind, in.Name)
			if err != nil {
				return nil, err
			}
			return &body[api.Object]{s.object(o)}, nil
		})
	call(s, a, api.PreviewObject,
		func(ctx context.Context, in *api.SentToObject[api.ObjectChange]) (*body[api.ObjectLooked], error) {
			l, err := g.Records.Look(ctx, in.Kind, in.Name, in.Body.Revision, in.Body.Settings)
			return &body[api.ObjectLooked]{api.ObjectLooked{New: l.New, Differences: append([]federation.Difference{},
				l.Differences...),
				Consequence: consequence(l.Consequence)}}, err
		})
	call(s, a, api.PutObject,
		func(ctx context.Context, in *api.SentToObject[api.ObjectChange]) (*body[api.Object], error) {
			l, err := g.Records.Lay(ctx, by(ctx), in.Kind, in.Name, in.Body.Revision, in.Body.Settings)
			if err != nil {
				return nil, err
			}
			return &body[api.Object]{s.object(l.Object)}, nil
		})
	act(s, a, api.RemoveObject,
		func(ctx context.Context, in *api.OneObject) error {
			return g.Records.Remove(ctx, by(ctx), federation.Kind(in.Kind), in.Name)
		})
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
	for _, l := range s.settingLists() {
		out = append(out, api.Kind{Kind: string(l.kind), Protocol: l.protocol, Settings: describedAll(l.settings),
			Fields: describedAll(l.fields)})
	}
	for _, kind := range s.gate.Records.Kinds() {
		if list, settled := s.gate.Records.Settled(kind); kind != federation.KindProvider &&
			kind != federation.KindApplication {
			out = append(out, api.Kind{Kind: string(kind), Settings: describedAll(list), Fields: []api.Setting{},
				Plain: settled})
		}
	}
	return out
}

// settingList is the settings that records of a kind have in a protocol.
type settingList struct {
	kind     federation.Kind
	protocol string
	settings []federation.Setting
	fields   []federation.Setting // values that can be typed
}

func (s *server) settingLists() (out []settingList) {
	for _, p := range s.protocols {
		if side := p.NewProvider(&federation.Gate{}, ""); p.Providers() && side != nil {
			out = append(out, settingList{federation.KindProvider, p.Name(), federation.SettingList(federation.KindProvider,
				side), side.Fields()})
		}
		if side := p.NewApplication(&federation.Gate{}, ""); p.Applications() && side != nil {
			out = append(out, settingList{federation.KindApplication, p.Name(),
				federation.SettingList(federation.KindApplication, side), side.Fields()})
		}
	}
	return out
}

func describedAll(list []federation.Setting) []api.Setting {
	out := []api.Setting{}
	for _, one := range list {
		out = append(out, setting(one))
	}
	return out
}

// described are the settings of a kind, of records in a protocol or in all of them.
func (s *server) described(kind federation.Kind, protocol string) (list []federation.Setting, err error) {
	if _, err := s.gate.Records.Objects(string(kind), "?"); err != nil {
		return nil, err
	}
	known := protocol == ""
	for _, l := range s.settingLists() {
		if l.kind == kind && (protocol == "" || l.protocol == protocol) {
			list, known = append(list, l.settings...), true
		}
	}
	if !known {
		return nil, change.Field("protocol", fmt.Errorf("the gate has no %s in the protocol %q", kind, protocol))
	}
	if list == nil {
		list, _ = s.gate.Records.Settled(kind)
	}
	return list, nil
}

// setting describes one setting on the wire.
func setting(s federation.Setting) api.Setting {
	out := api.Setting{Name: s.Name, Label: s.Label, Text: s.Says(), Default: s.Default, Group: s.Group,
		Type: string(s.Type), Most: s.Most,
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
