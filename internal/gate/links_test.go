package gate

import (
	"testing"

	"github.com/stretchr/testify/require"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/driving"
	"innergate.example/innergate/internal/gate/people"
	"innergate.example/innergate/internal/gate/records"
	"innergate.example/innergate/internal/store"
)

func (r *rig) staffAgain() {
	require.NoError(r.t, r.Records.RemoveProvider(ctx, tester, "staff"))
	_, err := r.Records.AddProvider(ctx, tester, records.NewRecord{Name: "staff",
		Source: records.Source{Document: saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:idp",
			SSO: "https://idp.example/sso", Keys: []keys.Certificate{r.idp.Certificate}})}})
	require.NoError(r.t, err)
}

func called(name, qualifier string) func(*saml.Answer) {
	return func(a *saml.Answer) {
		a.NameID = saml.NameID{Format: saml.FormatPersistent, Value: name, NameQualifier: qualifier}
	}
}

// Another provider under a removed one's name inherits nobody, until its people
// are carried over on purpose.
func TestNobodyIsInherited(t *testing.T) {
	r := newRig(t)
	person := func(name string) int64 {
		return r.sessions.Find(ctx, r.enter(called(name, "urn:idp")).Session).Person.ID
	}
	ada, bram := person("ada"), person("bram")
	require.Equal(t, ada, person("ada"))
	r.staffAgain()
	other := person("ada")
	require.NotContains(t, []int64{ada, bram}, other)

	all, err := r.People.LinkedProviders(ctx)
	require.NoError(t, err)
	require.Len(t, all, 2)
	was := all[1]
	require.Equal(t, "staff", string(was.Name))
	require.False(t, was.Removed.IsZero())
	require.EqualValues(t, 2, was.People)
	for _, c := range []struct {
		f    people.LinkFilter
		want int
	}{{people.LinkFilter{}, 3}, {people.LinkFilter{Provider: "staff"}, 1}, {people.LinkFilter{Provider: string(was.ID)},
		2}, {people.LinkFilter{Person: bram}, 1}, {people.LinkFilter{Person: bram, Provider: "staff"}, 0}} {
		c.f.Limit = 1
		links, total, err := r.People.Links(ctx, c.f)
		require.NoError(t, err)
		require.EqualValues(t, c.want, total)
		for n := 1; n < c.want; n++ {
			c.f.After = links[len(links)-1].Key
			next, _, err := r.People.Links(ctx, c.f)
			require.NoError(t, err)
			links = append(links, next...)
		}
		require.Len(t, links, c.want, "page by page, each once")
		for _, l := range links {
			require.Contains(t, []string{"ada", "bram"}, l.Subject.Value)
		}
	}

	from := string(was.ID)
	seen, err := r.People.CarryLinks(ctx, tester, people.Carry{From: from, To: "staff", Preview: true})
	require.NoError(t, err)
	require.Equal(t, []int{1, 0, 0, 1}, []int{seen.Links, seen.Already, seen.Unnamed, len(seen.Taken)},
		"ada's name is somebody else's by now")
	require.Equal(t, other, seen.Taken[0].Person)
	require.NotEqual(t, bram, person("cleo"))
	seen, err = r.People.CarryLinks(ctx, tester, people.Carry{From: from, To: "staff", Preview: true})
	require.NoError(t, err)
	for message, c := range map[string]people.Carry{
		"give the digest":            {From: from, To: "staff"},
		"changed since the preview":  {From: from, To: "staff", Digest: "00"},
		`did you mean "staff"?`:      {From: from, To: "stafff", Digest: seen.Digest},
		`there is no provider "who"`: {From: "who", To: "staff", Digest: seen.Digest},
		"name the removed one":       {From: "staff", To: "staff", Digest: seen.Digest},
	} {
		_, err := r.People.CarryLinks(ctx, tester, c)
		require.ErrorContains(t, err, message)
	}
	done, err := r.People.CarryLinks(ctx, change.By{Who: "test", Why: "moved to a new tenant"},
		people.Carry{From: from, To: "staff", Digest: seen.Digest})
	require.NoError(t, err)
	require.Equal(t, 1, done.Links)
	require.Equal(t, bram, person("bram"))
	again, err := r.People.CarryLinks(ctx, tester, people.Carry{From: from, To: "staff", Preview: true})
	require.NoError(t, err)
	require.Equal(t, []int{0, 1}, []int{again.Links, again.Already})
	changes, _, err := r.Records.History(ctx, records.HistoryFilter{Limit: 1})
	require.NoError(t, err)
	require.Equal(t, "took over links of staff: 1: moved to a new tenant", changes[0].What+": "+changes[0].Why)
}

// A removed provider that is restored is itself again, with its people.
func TestTheRestoredKeepTheirPeople(t *testing.T) {
	r := newRig(t)
	who := r.sessions.Find(ctx, r.enter(nil).Session).Person.ID
	require.NoError(t, r.Records.RemoveProvider(ctx, tester, "staff"))
	changes, _, err := r.Records.History(ctx, records.HistoryFilter{Kind: change.KindProvider, Limit: 1})
	require.NoError(t, err)
	_, _, err = r.Records.Restore(ctx, tester, changes[0].ID)
	require.NoError(t, err)
	require.Equal(t, who, r.sessions.Find(ctx, r.enter(nil).Session).Person.ID)
	r.staffAgain()
	_, _, err = r.Records.Restore(ctx, tester, changes[0].ID)
	require.NoError(t, err)
	require.NotEqual(t, who, r.sessions.Find(ctx, r.enter(nil).Session).Person.ID,
		"values of then, and still another provider")
}

// Links of before names were kept get theirs at the next sign-in.
func TestLinksGetTheirNames(t *testing.T) {
	r := newRig(t)
	r.enter(nil)
	require.NoError(t, r.st.Write(ctx, func(tx *gorm.DB) error {
		return tx.Model(&store.LinkRow{}).Where("1 = 1").Update("sealed", nil).Error
	}))
	links, _, err := r.People.Links(ctx, people.LinkFilter{Limit: 9})
	require.NoError(t, err)
	require.Nil(t, links[0].Subject)
	r.enter(nil)
	links, _, err = r.People.Links(ctx, people.LinkFilter{Limit: 9})
	require.NoError(t, err)
	require.Equal(t, "ada@wrenmoor.example", links[0].Subject.Value)
}

// What was begun for an application is not told to another one under its name,
// nor by a provider that was not asked.
func TestACrossingIsNotInherited(t *testing.T) {
	for name, again := range map[string]func(r *rig){
		"application": func(r *rig) {
			a, err := r.Records.Application("roster")
			require.NoError(t, err)
			require.NoError(t, r.Records.RemoveApplication(ctx, tester, "roster"))
			_, err = r.Records.AddApplication(ctx, tester, records.NewRecord{Name: "roster",
				Source: records.Source{Document: saml.WriteSPMetadata(saml.SPFace{EntityID: saml.EntityID(a.Identity()),
					ACS: "https://other.example/acs"})}})
			require.NoError(t, err)
		},
		"provider": (*rig).staffAgain,
	} {
		r := newRig(t)
		o := r.request(driving.Browser{}, nil)
		again(r)
		done := r.answer(keep(driving.Browser{}, o), r.asked(o).ID, nil)
		require.Nil(t, done.Departure, name)
		require.Contains(t, []finding.Code{finding.ApplicationUnknown, finding.InResponseToOther}, done.Finding.Code, name)
	}
}
