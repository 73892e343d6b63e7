package web

import (
	"context"
	"errors"
	"strings"
	"time"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/recipients"
)

// eventCalls registers what is done to many people, and what is told of what was done to people.
func (s *server) eventCalls(a huma.API) {
	call(s, a, api.ChangePeople, func(ctx context.Context, in *api.Sent[api.PeopleChange]) (*body[api.PeopleChanged],
		error) {
		m, err := s.many(ctx, in.Body)
		if err != nil {
			return nil, err
		}
		done, err := s.gate.People.Many(ctx, by(ctx), m)
		if err != nil {
			return nil, err
		}
		return &body[api.PeopleChanged]{api.PeopleChanged{People: done.People, Same: done.Same, Sessions: done.Sessions,
			Grants: done.Grants,
			Back:   done.Back, Consequence: consequence(done.Consequence), Digest: done.Digest, Stored: done.Stored,
			Listed: rows(done.Listed, 0, func(r people.ManyRow) api.ChangedRow {
				return api.ChangedRow{Person: r.Person, Name: r.Name, Did: did(r.Did)}
			}).Body.Items}}, nil
	})
	call(s, a, api.ListEvents, func(ctx context.Context, in *api.EventFilter) (*body[api.PersonEvents], error) {
		page, err := s.gate.People.Events(ctx, people.EventFilter(*in))
		if err != nil {
			return nil, err
		}
		return &body[api.PersonEvents]{api.PersonEvents{Next: page.Next, Oldest: page.Oldest,
			Items: rows(page.Events, 0, event).Body.Items}}, nil
	})
	call(s, a, api.ListRecipients, func(ctx context.Context, _ *api.None) (*body[api.List[api.Recipient]], error) {
		all, err := s.gate.Recipients.List(ctx)
		if err != nil {
			return nil, err
		}
		return rows(all, len(all), func(r recipients.State) api.Recipient {
			return api.Recipient{Name: string(r.Name), Title: r.Title, Address: r.Address, About: r.About, Paused: r.Paused,
				Heard: r.Heard, HeardAt: r.HeardAt, Waiting: r.Waiting, Tries: r.Tries, Due: r.Due, Answer: r.Answer}
		}), nil
	})
}

// many reads whom something is done to, and what.
func (s *server) many(ctx context.Context, in api.PeopleChange) (people.Many, error) {
	w := in.People
	m := people.Many{People: w.Numbers, Do: in.Do, Edit: edit(in.Set), Digest: in.Digest}
	filter := people.Filter{Search: w.Search, State: w.State, Group: w.Group, Organisation: w.Organisation,
		UserType: w.UserType, Provider: w.Provider}
	searched := filter != people.Filter{}
	if searched && strings.TrimSpace(w.Search) == "" && w.Search != "" {
		return m, change.Field("people.search", errors.New("it has no words"))
	}
	if w.List != "" && (len(w.Numbers) > 0 || searched) || len(w.Numbers) > 0 && searched {
		return m, change.Field("people", errors.New("give numbers, or a list, or what they are searched by"))
	}
	if searched {
		m.Filter = &filter
	}
	if w.List == "" {
		return m, nil
	}
	ids, err := s.gate.Roll.Numbers(ctx, roll.Import{Document: []byte(w.List), By: w.By})
	m.People = ids
	return m, err
}

func did(d person.Did) api.PersonDid {
	units := func(all []string) (out []api.UnitName) {
		for _, path := range all {
			kind, name, _ := strings.Cut(path, "/")
			out = append(out, api.UnitName{Kind: kind, Name: name})
		}
		return out
	}
	return api.PersonDid{State: d.State, Values: d.Values, Joined: units(d.Joined), Left: units(d.Left),
		Stays: units(d.Stays), Linked: d.Linked,
		Unlinked: d.Unlinked, Admitted: d.Admitted, Unadmitted: d.Unadmitted, Known: d.Known, Other: d.Other, More: d.More}
}

func event(e person.Event) api.PersonEvent {
	return api.PersonEvent{Number: e.ID, At: e.At.Truncate(time.Millisecond), Person: e.Person, Via: string(e.Via),
		Who: e.Who, Did: did(e.Did)}
}
