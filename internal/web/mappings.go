package web

import (
	"context"
	"encoding/json"
	"errors"
	"slices"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/gate/arrivals"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/traces"
)

// mappingCalls registers the trying of mappings.
func (s *server) mappingCalls(a huma.API) {
	call(s, a, api.TryMapping,
		func(ctx context.Context, in *api.Sent[api.MappingTrial]) (*body[api.Mapped], error) {
			snap := s.gate.Records.Snapshot()
			t, err := s.trial(in.Body)
			if err != nil {
				return nil, err
			}
			got, err := s.gate.Traces.Try(ctx, snap, t)
			if err != nil {
				return nil, err
			}
			return &body[api.Mapped]{mapped(got)}, nil
		})
}

// effective are the rules of a record as they act, and those of its set that it leaves out.
func effective(snap *federation.Snapshot, r federation.Record) []api.EffectiveRule {
	whole, name := federation.MappingOf(r)
	out, own := []api.EffectiveRule{}, federation.OwnMapping(r).Rules
	has := func(rules []profile.Rule, to profile.Target) bool {
		return slices.ContainsFunc(rules, func(r profile.Rule) bool { return r.To.Same(to) })
	}
	for _, rule := range whole.Rules {
		from := string(name)
		if name == "" || has(own, rule.To) {
			from = "own"
		}
		out = append(out, api.EffectiveRule{Rule: rule, From: from})
	}
	if set, ok := snap.Set(name); ok {
		for _, rule := range set.Mapping.Rules {
			if !has(whole.Rules, rule.To) {
				out = append(out, api.EffectiveRule{Rule: rule, From: string(name), Omitted: true})
			}
		}
	}
	return out
}

func proposal(in arrivals.Proposed) api.MappingProposal {
	out := api.MappingProposal{Mapping: in.Mapping, Why: in.Why, Without: []api.Unproposed{}, SignIns: in.SignIns}
	if out.Why == nil {
		out.Why = []string{}
	}
	for _, w := range in.Without {
		out.Without = append(out.Without, api.Unproposed{Name: w.Name, Near: w.Near})
	}
	return out
}

// trial reads what is to be tried on what.
func (s *server) trial(in api.MappingTrial) (t traces.Trial, err error) {
	given := 0
	for _, is := range []bool{in.Trace != "", in.Person != 0, in.Message != "", len(in.Attributes) > 0 ||
		in.Subject != ""} {
		if is {
			given++
		}
	}
	if given > 1 {
		return t, change.Field("trace",
			errors.New("a trace, a person, a message and values each say what arrived; give one of them"))
	}
	t = traces.Trial{Trace: in.Trace, Person: in.Person, Message: in.Message, Intake: in.Intake,
		Release: in.Release, IntakeSet: in.IntakeSet, ReleaseSet: in.ReleaseSet}
	t.Said.Subject.Value = in.Subject
	if in.Provider != "" {
		if t.Provider, err = s.gate.Records.Provider(in.Provider); err != nil {
			return t, err
		}
	}
	if in.Application != "" {
		if t.App, err = s.gate.Records.Application(in.Application); err != nil {
			return t, err
		}
	}
	t.Said.Attributes, err = attributes(in.Attributes)
	return t, err
}

func attributes(in []api.MappedValues) (out []profile.Attribute, err error) {
	octets, err := json.Marshal(in)
	if err == nil {
		err = json.Unmarshal(octets, &out)
	}
	if err != nil {
		return nil, change.Field("attributes", err)
	}
	return out, nil
}

func mapped(in traces.Tried) api.Mapped {
	out := api.Mapped{Provider: string(in.Provider), Application: string(in.App), Subject: in.Received.Subject.Value,
		Received: values(in.Received.Attributes), Intake: rules(in.Intake), Profile: values(in.Profile.Attributes),
		Release: rules(in.Release), Released: []api.MappedValues{}, Withheld: in.Withheld, Asked: []string{},
		Agree:   []string{},
		Refused: in.Refused}
	if in.App != "" {
		out.Request = map[bool]string{true: "recorded", false: "record"}[in.Recorded]
	}
	if in.Released != nil {
		out.Name = in.Released.Name.String()
	}
	for _, d := range in.Told {
		out.Released = append(out.Released, api.MappedValues{Place: d.Place, Name: d.Name, Format: d.Format,
			Friendly: d.Friendly,
			Values:   plain(d.Values)})
	}
	for _, a := range in.Asked {
		out.Asked = append(out.Asked, a.Name)
	}
	if in.Consent != nil {
		out.Agree = in.Consent.Scopes
	}
	if out.Withheld == nil {
		out.Withheld = []string{}
	}
	return out
}

func values(in []profile.Attribute) []api.MappedValues {
	out := []api.MappedValues{}
	for _, a := range in {
		out = append(out, api.MappedValues{Name: a.Name, Format: a.Format, Friendly: a.Friendly, Values: plain(a.Values)})
	}
	return out
}

// plain are values as JSON has them.
func plain(in []profile.Value) []json.RawMessage {
	out := make([]json.RawMessage, len(in))
	for i, v := range in {
		out[i], _ = v.MarshalJSON() // a value is one that JSON has
	}
	return out
}

func rules(in []profile.Worked) []api.MappedRule {
	out := []api.MappedRule{}
	for _, w := range in {
		out = append(out, api.MappedRule{Rule: w.Rule, To: w.To, Outcome: string(w.Outcome), Source: w.Source,
			Took: plain(w.Took), Made: plain(w.Made), Without: w.Without, Text: w.String()})
	}
	return out
}
