package federation_test

import (
	"crypto/rand"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

func TestParseName(t *testing.T) {
	for _, good := range []string{"a", "7", "crew-roster", "a-", strings.Repeat("x", 63)} {
		n, err := federation.ParseName(good)
		require.NoError(t, err, good)
		require.Equal(t, federation.Name(good), n)
	}
	for bad, near := range map[string]string{"": "", "-a": "a", "Crew Roster": "crew-roster", "é": "", "a/b": "a-b", strings.Repeat("x", 64): strings.Repeat("x", 63)} {
		_, err := federation.ParseName(bad)
		require.True(t, finding.Is(err, finding.NameMalformed), bad)
		if near != "" {
			require.ErrorContains(t, err, near)
		}
	}
}

func app(name, id string) *federation.Application {
	return &federation.Application{Name: federation.Name(name), SAML: &federation.SAMLApplication{SP: &saml.SP{EntityID: id}}}
}

func TestSnapshotIsNeverChanged(t *testing.T) {
	empty := federation.NewSnapshot(federation.Gate{})
	one := empty.WithApplication(app("a", "urn:a"))
	moved := one.WithApplication(app("a", "urn:moved"))
	none := moved.WithoutApplication("a")
	require.Empty(t, empty.Applications())
	require.Len(t, one.Applications(), 1)
	_, ok := one.ApplicationByEntityID("urn:a")
	require.True(t, ok)
	_, ok = moved.ApplicationByEntityID("urn:a")
	require.False(t, ok, "the old entity ID is gone with the old record")
	_, ok = moved.ApplicationByEntityID("urn:moved")
	require.True(t, ok)
	require.Empty(t, none.Applications())
}

func TestSheetsHoldWhatTheOtherSideNeeds(t *testing.T) {
	pair, err := keys.Generate("x", time.Now(), rand.Reader)
	require.NoError(t, err)
	snap := federation.NewSnapshot(federation.Gate{Base: "https://g.example", IDP: federation.Face{EntityID: "urn:our-idp", Address: "https://g.example/saml/idp/sso"},
		IDPKeys: federation.KeySet{Current: pair}, SPKeys: federation.KeySet{Current: pair}, EncKeys: federation.KeySet{Current: pair}})
	p := &federation.Provider{Name: "p", ProviderSettings: federation.ProviderSettings{OwnEntityID: "urn:our-sp"}, SAML: &federation.SAMLProvider{IDP: &saml.IDP{EntityID: "urn:p"}, Address: "https://g.example/saml/sp/p/acs"}}
	values := func(s federation.Sheet) (all []string) {
		for _, v := range s.Values {
			require.NotEmpty(t, v.Label)
			require.NotEmpty(t, v.AlsoCalled, v.Label)
			all = append(all, v.Value)
		}
		return all
	}
	sheet := snap.SheetForProvider(p)
	require.Subset(t, values(sheet), []string{"urn:our-sp", "https://g.example/saml/sp/p/acs"})
	m, err := saml.ReadMetadata(sheet.Metadata, time.Now())
	require.NoError(t, err)
	require.Equal(t, "urn:our-sp", m.SP.EntityID)
	require.Equal(t, "https://g.example/saml/sp/p/acs", m.SP.ACS[0].Location)

	a := app("a", "urn:a")
	sheet = snap.SheetForApplication(a)
	require.Subset(t, values(sheet), []string{"urn:our-idp", "https://g.example/saml/idp/sso", "https://g.example/open/a"})
	a.OwnStart = "https://a.example/start"
	sheet = snap.SheetForApplication(a)
	require.Contains(t, sheet.Values[len(sheet.Values)-1].Hint, a.OwnStart)
}
