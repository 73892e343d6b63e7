package gate

import (
	"cmp"
	"fmt"
	"math/rand/v2"
	"slices"
	"strings"
	"sync"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/profile"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/store"
)

// peopled is a gate with six people, two groups, and a provider whose sign-ins change much.
func peopled(t *testing.T) *rig {
	r := newRig(t)
	r.staff(federation.Settings{"update": "displayName title=follow nickName=once", "groupValues": "known",
		"matchBy":    "employeeNumber",
		"trustedFor": "employeeNumber"})
	for _, name := range []string{"drivers", "guards", "leads"} {
		_, err := r.Records.PutUnit(ctx, tester, federation.Unit{Kind: federation.KindGroup, Name: federation.Name(name),
			Title: name})
		require.NoError(t, err)
	}
	for i := range 6 {
		r.knows(fmt.Sprint("employeeNumber=W-", i))
	}
	return r
}

// deed is something that a writer does to people; it may be refused.
type deed struct {
	is string
	do func(r *rig, by change.By)
}

// someDeed makes one up.
func someDeed(rnd *rand.Rand) deed {
	n, word := rnd.IntN(6), []string{"a", "b", "c"}[rnd.IntN(3)]
	who, other := int64(1+n), int64(1+rnd.IntN(6))
	group := []string{"drivers", "guards", "leads"}[rnd.IntN(3)]
	belongs := []people.Belongs{{Kind: federation.KindGroup, Name: group}}
	edit := func(e people.Edit) func(r *rig, by change.By) {
		return func(r *rig, by change.By) { _, _ = r.People.Change(ctx, by, who, e) }
	}
	list := func(head, row string) func(r *rig, by change.By) {
		in := roll.Import{Document: []byte(head + "\n" + row + "\n"), SkipBad: true}
		return func(r *rig, by change.By) {
			if seen, err := r.Roll.Import(ctx, by, in, &heard{}); err == nil {
				in.Digest = seen.Digest
				_, _ = r.Roll.Import(ctx, by, in, &heard{})
			}
		}
	}
	switch rnd.IntN(12) {
	case 0, 1, 2:
		return deed{"sign-in", func(r *rig, _ change.By) {
			r.brings(fmt.Sprint("n-", n), fmt.Sprint("employeeNumber=W-", n), "displayName="+word, "nickName="+word, "groups="+
				group+"|unheard")
		}}
	case 3:
		return deed{"sign-in of somebody new", func(r *rig, _ change.By) { r.brings("x-"+word, "title="+word) }}
	case 4:
		return deed{"values", edit(people.Edit{Values: map[string][]string{"nickName": {word}, "title": {word}}})}
	case 5:
		return deed{"joins", edit(people.Edit{Join: belongs})}
	case 6:
		return deed{"leaves", edit(people.Edit{Leave: belongs})}
	case 7:
		return deed{"states", func(r *rig, by change.By) {
			if _, err := r.People.Disable(ctx, by, who); err != nil {
				_, _ = r.People.Enable(ctx, by, who)
			}
		}}
	case 8:
		return deed{"list", list("employeeNumber,displayName,groups,state", fmt.Sprintf("W-%d,%s,%s,%s\nW-%d,%s,,", n, word,
			group,
			[]string{"enabled", "disabled", ""}[rnd.IntN(3)], (n+1)%6, word))}
	case 9:
		return deed{"link", func(r *rig, by change.By) {
			_, _ = r.People.Link(ctx, by, who, "staff", profile.Subject{Format: string(saml.FormatPersistent), Value: "x-" +
				word})
		}}
	case 10:
		return deed{"join", func(r *rig, by change.By) {
			j := people.Joining{Into: who, Other: other, Preview: true}
			if seen, err := r.People.Join(ctx, by, j); err == nil {
				j.Preview, j.Digest = false, seen.Digest
				_, _ = r.People.Join(ctx, by, j)
			}
		}}
	default:
		return deed{"admission", func(r *rig, by change.By) {
			_, _ = r.People.Admit(ctx, by, "roster", people.Entry{People: []int64{who, other}})
		}}
	}
}

// standing is all that a gate has of people, without times, and what was done to them.
func (r *rig) everything() (people string, events []person.Event) {
	events, _, _, err := r.st.People(ctx).Events(store.EventPage{Limit: 10000})
	require.NoError(r.t, err)
	var out strings.Builder
	all, err := r.st.People(ctx).After(0, 1000)
	require.NoError(r.t, err)
	for _, p := range all {
		members := []string{}
		for _, m := range p.Members {
			members = append(members, fmt.Sprintf("%s by %s", m.Name, r.named(m.Source)))
		}
		slices.Sort(members)
		fmt.Fprintf(&out, "%d %d %t %v %v", p.ID, p.Revision, p.Disabled, members, p.Admitted)
		slices.SortFunc(p.Values, func(a, b person.KeptValue) int { return strings.Compare(a.Name, b.Name) })
		for _, v := range p.Values {
			fmt.Fprintf(&out, " %s=%s by %s %v", v.Name, profile.Joined(v.Attribute.Values), r.named(v.From), v.Proofs)
		}
		links, err := r.st.People(ctx).LinksOf(p.ID)
		require.NoError(r.t, err)
		names := []string{}
		for _, l := range links {
			names = append(names, l.Subject.Value)
		}
		slices.Sort(names)
		fmt.Fprintln(&out, names)
	}
	text := out.String()
	for _, a := range r.Snapshot().Applications() {
		text = strings.ReplaceAll(text, string(a.ID), string(a.Name))
	}
	return text, events
}

func (r *rig) named(id federation.ID) string {
	if p, there := r.Snapshot().ProviderOf(id); there {
		return string(p.Name)
	}
	return string(id)
}

// Whatever writers change people, twice at once: it comes to what the same changes come to one after another, in the
// order of their events, and of each there is the event.
func TestPeopleAreChangedOneAfterAnother(t *testing.T) {
	for seed := range uint64(8) {
		at := peopled(t)
		_, before := at.everything()
		const each = 25
		deeds, first := [2][each]deed{}, [2][each]int64{}
		rnd := rand.New(rand.NewPCG(33, seed))
		for k := range deeds {
			for i := range each {
				for deeds[k][i] = someDeed(rnd); k == 1 && strings.HasPrefix(deeds[k][i].is, "sign-in"); {
					deeds[k][i] = someDeed(rnd) // sign-ins have one line of their own, by which their events are told apart
				}
			}
		}
		var busy sync.WaitGroup
		for k := range deeds {
			busy.Go(func() {
				for i, d := range deeds[k] {
					_, was := at.everything()
					d.do(at, change.By{Who: fmt.Sprintf("w%d-%d", k, i)})
					_, now := at.everything()
					for _, e := range now[len(was):] {
						mine := e.Who == fmt.Sprintf("w%d-%d", k, i) || e.Who == "staff" && strings.HasPrefix(d.is, "sign-in")
						if mine && first[k][i] == 0 {
							first[k][i] = e.ID
						}
					}
				}
			})
		}
		busy.Wait()
		type done struct {
			deed
			who   string
			event int64
		}
		var order []done
		for k := range deeds {
			for i, d := range deeds[k] {
				if first[k][i] != 0 {
					order = append(order, done{d, fmt.Sprintf("w%d-%d", k, i), first[k][i]})
				}
			}
		}
		slices.SortFunc(order, func(a, b done) int { return cmp.Compare(a.event, b.event) })
		require.Greater(t, len(order), each/2)
		again := peopled(t)
		for _, d := range order {
			d.do(again, change.By{Who: d.who})
		}
		got, events := at.everything()
		want, wanted := again.everything()
		require.Equal(t, want, got, "seed %d", seed)
		require.Equal(t, len(wanted), len(events))
		for i := range events {
			require.Equal(t, []any{wanted[i].Via, wanted[i].Who, wanted[i].Person, wanted[i].Did},
				[]any{events[i].Via, events[i].Who, events[i].Person, events[i].Did})
		}
		require.Greater(t, len(events), len(before)+each/2)
	}
}
