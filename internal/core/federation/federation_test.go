package federation_test

import (
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

func TestParseName(t *testing.T) {
	for _, good := range []string{"a", "7", "crew-roster", "a-", strings.Repeat("x", 63)} {
		n, err := federation.ParseName(good)
		require.NoError(t, err, good)
		require.Equal(t, federation.Name(good), n)
	}
	for bad, near := range map[string]string{"": "", "-a": "a", "Crew Roster": "crew-roster", "é": "", "a/b": "a-b",
		strings.Repeat("x", 64): strings.Repeat("x", 63)} {
		_, err := federation.ParseName(bad)
		require.True(t, finding.Is(err, finding.NameMalformed), bad)
		if near != "" {
			require.ErrorContains(t, err, near)
		}
	}
}

func app(name, id string) *federation.Application {
	a := &federation.Application{Side: &samlside.Application{SP: &saml.SP{EntityID: saml.EntityID(id)}}}
	a.Name = federation.Name(name)
	return a
}

func TestSnapshotIsNeverChanged(t *testing.T) {
	empty := federation.NewSnapshot(federation.Gate{})
	one := empty.With(app("a", "urn:a"))
	moved := one.With(app("a", "urn:moved"))
	none := moved.Lacking(app("a", "urn:moved"))
	require.Empty(t, empty.Applications())
	require.Len(t, one.Applications(), 1)
	_, ok := one.ApplicationBy("saml", "urn:a")
	require.True(t, ok)
	_, ok = moved.ApplicationBy("saml", "urn:a")
	require.False(t, ok, "the old entity ID is gone with the old record")
	_, ok = moved.ApplicationBy("saml", "urn:moved")
	require.True(t, ok)
	require.Empty(t, none.Applications())
}

// An application that leaves a shared address is found there by its identity
// until somebody else has it, and again when that one goes.
func TestLeavingKeepsAnIdentityForSoLong(t *testing.T) {
	leaving := app("old", "urn:a")
	leaving.Side.(*samlside.Application).OwnFace = true
	who := func(s *federation.Snapshot) federation.Name {
		a, ok := s.ApplicationBy("saml", "urn:a")
		if !ok {
			return ""
		}
		return a.Name
	}
	one := federation.NewSnapshot(federation.Gate{}).With(leaving)
	require.Equal(t, federation.Name("old"), who(one))
	two := one.With(app("new", "urn:a"))
	require.Equal(t, federation.Name("new"), who(two))
	require.Equal(t, federation.Name("old"), who(two.Lacking(app("new", "urn:a"))))
	gone := app("old", "urn:a")
	gone.Side = leaving.Side.(*samlside.Application).HasMoved()
	require.Empty(t, who(one.With(gone)))
	_, ok := one.ApplicationBy("link", "urn:a")
	require.False(t, ok, "an identity counts in its protocol only")
}

// A list and pairs can be given as what they are; what is none of them is refused with the way out.
func TestListsAndPairsAreTaken(t *testing.T) {
	p := &federation.Provider{Side: &samlside.Provider{IDP: &saml.IDP{}}}
	for _, c := range []struct {
		name  string
		value any
		want  string
		says  string
	}{
		{"vouchesFor", "a.example b.example", "a.example b.example", ""},
		{"vouchesFor", []any{"a.example", "b.example"}, "a.example b.example", ""},
		{"vouchesFor", []any{}, "", ""},
		{"vouchesFor", []any{"a b"}, "", "an array of words"},
		{"vouchesFor", map[string]any{"a": "b"}, "",
			`{"a":"b"} is no value for it; give a text with words between white space, or an array of words`},
		{"vouchesFor", nil, "", "null is no value for it"},
		{"update", map[string]any{"title": "follow", "displayName": ""}, "displayName title=follow", ""},
		{"contextWords", map[string]any{"theirs": "urn:ours"}, "theirs>urn:ours", ""},
		{"update", "title=once displayName", "title=once displayName", ""}, // in the order in which they were given
		{"traceValues", map[string]any{"First Name": "off"}, "First%20Name=off", ""},
		{"update", []any{"title"}, "", "an object with texts"},
		{"update", map[string]any{"title": 1.0}, "", "an object with texts"},
		{"userType", []any{"x"}, "", "give a text"},
	} {
		r := p.Copy()
		err := federation.Apply(r, federation.Settings{c.name: c.value})
		if c.says != "" {
			require.ErrorContains(t, err, c.says, c.name)
			continue
		}
		require.NoError(t, err, c.name)
		require.Equal(t, c.want, federation.SettingsOf(r)[c.name], c.name)
		again := p.Copy() // what is shown as an array or an object comes to the same
		require.NoError(t, federation.Apply(again, federation.Settings{c.name: federation.ListsOf(r)[c.name]}))
		require.Equal(t, federation.ListsOf(r), federation.ListsOf(again), c.name)
	}
}
