package saml_test

import (
	"bytes"
	"crypto/rand"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"testing/iotest"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/standin"
)

var aggregateTime = time.Date(2026, 11, 23, 12, 0, 0, 0, time.UTC)

// aggregate gives one signed by the stand-in federation.
func aggregate(t testing.TB, pair *keys.Pair, entities int, fault string) []byte {
	octets, err := (&standin.Federation{Title: "Northern lines", Entities: entities, Pair: pair, Fault: fault}).Aggregate(0, aggregateTime)
	require.NoError(t, err)
	return octets
}

func readAll(octets []byte, trust ...keys.Certificate) (*saml.Aggregate, []saml.Entity, error) {
	var all []saml.Entity
	a, err := saml.ReadAggregate(bytes.NewReader(octets), saml.Trusting{Now: aggregateTime, Keys: saml.TrustKeys(trust...)}, func(e *saml.Entity) error {
		all = append(all, *e)
		return nil
	})
	return a, all, err
}

func TestAggregate(t *testing.T) {
	pair, err := keys.Generate("federation", aggregateTime, rand.Reader)
	require.NoError(t, err)
	octets := aggregate(t, pair, 60, "")
	a, all, err := readAll(octets, pair.Certificate)
	require.NoError(t, err)
	require.Len(t, all, 60)
	require.True(t, a.Verified)
	require.Equal(t, "Northern lines", a.Name)
	require.Equal(t, 6*time.Hour, a.CacheDuration)
	require.Equal(t, []string{"IDPSSODescriptor", "SPSSODescriptor"}, all[0].Roles)

	// What is cut out can be read alone, with the lifetime of its group.
	for _, e := range []saml.Entity{all[0], all[59]} {
		m, err := saml.ReadMetadata(saml.Cut(e.Wrap, octets[e.Start:e.End]), aggregateTime)
		require.NoError(t, err)
		require.Equal(t, e.EntityID, m.EntityID)
		require.Equal(t, a.ValidUntil, m.ValidUntil)
		require.Equal(t, a.CacheDuration, m.CacheDuration)
		require.Contains(t, e.Title, firstTitle(m))
	}
	_, again, err := readAll(bytes.Replace(octets, []byte("Alderholt"), []byte("Alderhold"), 1))
	require.NoError(t, err, "without a trust key nobody vouches for it")
	changed := 0
	for i := range again {
		if again[i].Sum != all[i].Sum {
			changed++
		}
	}
	require.Equal(t, 1, changed, "the sum tells which entity changed")

	// The general-purpose verifier agrees on what is whole and what is not.
	file := filepath.Join(t.TempDir(), "aggregate.xml")
	pem := filepath.Join(t.TempDir(), "federation.pem")
	require.NoError(t, os.WriteFile(pem, pair.Certificate.PEM(), 0o600))
	for _, doc := range [][]byte{octets, aggregate(t, pair, 12, "altered"), aggregate(t, pair, 12, "stranger")} {
		require.NoError(t, os.WriteFile(file, doc, 0o600))
		theirs := exec.Command("xmlsec1", "--verify", "--pubkey-cert-pem", pem, "--enabled-key-data", "x509", "--id-attr:ID", "urn:oasis:names:tc:SAML:2.0:metadata:EntitiesDescriptor", file).Run()
		_, _, ours := readAll(doc, pair.Certificate)
		require.Equal(t, theirs == nil, ours == nil, "%v, %v", theirs, ours)
	}
}

func firstTitle(m *saml.Metadata) string {
	if m.IDP != nil {
		return m.IDP.Title
	}
	return m.SP.Title
}

func TestAggregateRefuses(t *testing.T) {
	pair, err := keys.Generate("federation", aggregateTime, rand.Reader)
	require.NoError(t, err)
	sound := string(aggregate(t, pair, 8, ""))
	signature := sound[strings.Index(sound, "<ds:Signature>") : strings.Index(sound, "</ds:Signature>")+len("</ds:Signature>")]
	open := sound[strings.Index(sound, "<md:EntitiesDescriptor"):strings.Index(sound, "<ds:Signature>")]
	for _, c := range []struct {
		rule, doc string
		want      finding.Code
	}{
		{"an altered entity", string(aggregate(t, pair, 8, "altered")), finding.SignatureAltered},
		{"an unknown signer", string(aggregate(t, pair, 8, "stranger")), finding.SignatureKey},
		{"no signature", string(aggregate(t, pair, 8, "unsigned")), finding.SignatureMissing},
		{"a document cut off", string(aggregate(t, pair, 8, "cut")), finding.XMLMalformed},
		{"validUntil past", string(aggregate(t, pair, 8, "expired")), finding.MetadataExpired},
		{"one byte less at the very end", sound[:len(sound)-4], finding.XMLMalformed},
		{"a second document behind it", sound + "<x/>", finding.XMLMalformed},
		{"the signature behind the entities", strings.Replace(strings.Replace(sound, signature, "", 1), "</md:EntitiesDescriptor>", signature+"</md:EntitiesDescriptor>", 1), finding.SignatureMissing},
		{"a second signature", strings.Replace(sound, "</md:EntitiesDescriptor>", signature+"</md:EntitiesDescriptor>", 1), finding.SignatureLayout},
		{"the signed one wrapped in another", open + strings.TrimPrefix(sound, "<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n") + "</md:EntitiesDescriptor>", finding.SignatureMissing},
		{"a single entity", "<EntityDescriptor xmlns=\"" + saml.NSMetadata + "\" entityID=\"urn:a\"/>", finding.SignatureMissing},
		{"a web page", "<!DOCTYPE html><html></html>", finding.MetadataHTML},
		{"JSON", `{"issuer": "https://a.example"`, finding.MetadataJSON},
		{"a certificate", string(pair.Certificate.PEM()), finding.MetadataCertificate},
		{"nothing", "", finding.MetadataEmpty},
	} {
		_, _, err := readAll([]byte(c.doc), pair.Certificate)
		require.True(t, finding.Is(err, c.want), "%s: %v", c.rule, err)
	}
	head := "<EntitiesDescriptor xmlns=\"" + saml.NSMetadata + "\">"
	for doc, want := range map[string]finding.Code{
		head + "</EntitiesDescriptor>":                                             finding.AggregateEmpty,
		"<EntityDescriptor xmlns=\"" + saml.NSMetadata + "\" entityID=\"urn:a\"/>": finding.AggregateOther,
		head + strings.Repeat("<EntitiesDescriptor>", 70):                          finding.XMLTooDeep,
	} {
		_, _, err := readAll([]byte(doc))
		require.True(t, finding.Is(err, want), "%s: %v", doc, err)
	}

	// Single entities that cannot be used are told of; the rest can be used.
	for fault, want := range map[string]finding.Code{"twice": finding.AggregateTwice, "broken": finding.MetadataBadKey} {
		a, all, err := readAll(aggregate(t, pair, 8, fault), pair.Certificate)
		require.NoError(t, err)
		require.Equal(t, 1, a.Broken)
		bad := 0
		for _, e := range all {
			if e.Problem != nil {
				bad++
				require.True(t, finding.Is(e.Problem, want), "%v", e.Problem)
				require.NotEmpty(t, e.EntityID)
			}
		}
		require.Equal(t, 1, bad)
	}
	_, all, err := readAll([]byte(head + `<EntityDescriptor entityID="urn:a"/><EntityDescriptor/></EntitiesDescriptor>`))
	require.NoError(t, err)
	require.True(t, finding.Is(all[0].Problem, finding.AggregateNoRole))
	require.True(t, finding.Is(all[1].Problem, finding.MetadataEntityID))

	// A reader that fails, and a caller that has enough, end it.
	broken := errors.New("the line went dead")
	_, err = saml.ReadAggregate(io.MultiReader(strings.NewReader(sound[:len(sound)/2]), iotest.ErrReader(broken)), saml.Trusting{Now: aggregateTime}, func(*saml.Entity) error { return nil })
	require.ErrorIs(t, err, broken)
	enough := errors.New("enough")
	_, err = saml.ReadAggregate(strings.NewReader(sound), saml.Trusting{Now: aggregateTime}, func(*saml.Entity) error { return enough })
	require.ErrorIs(t, err, enough)
}

func TestSignedMetadataOfOneEntity(t *testing.T) {
	pair, err := keys.Generate("signer", aggregateTime, rand.Reader)
	require.NoError(t, err)
	face := saml.IDPFace{EntityID: "urn:a", SSO: "https://a.example/sso", Keys: []keys.Certificate{pair.Certificate}, Publisher: saml.Publisher{Sign: pair, ID: "_1"}}
	octets := saml.WriteIDPMetadata(face)
	trust := saml.Trusting{Now: aggregateTime, Keys: saml.TrustKeys(pair.Certificate)}
	m, err := saml.TakeMetadata(octets, trust)
	require.NoError(t, err)
	require.True(t, m.Verified)
	require.Contains(t, m.SignatureMethod, "rsa-sha256")
	_, err = saml.TakeMetadata(bytes.Replace(octets, []byte("a.example/sso"), []byte("b.example/sso"), 1), trust)
	require.True(t, finding.Is(err, finding.SignatureAltered), "%v", err)
	face.Sign = nil
	_, err = saml.TakeMetadata(saml.WriteIDPMetadata(face), trust)
	require.True(t, finding.Is(err, finding.SignatureMissing), "%v", err)
}

func FuzzReadAggregate(f *testing.F) {
	pair, err := keys.Generate("federation", aggregateTime, rand.Reader)
	require.NoError(f, err)
	f.Add(aggregate(f, pair, 2, ""))
	f.Add([]byte(`<EntitiesDescriptor xmlns="urn:oasis:names:tc:SAML:2.0:metadata"><EntitiesDescriptor validUntil="x"><EntityDescriptor entityID="a"/></EntitiesDescriptor></EntitiesDescriptor>`))
	f.Fuzz(func(t *testing.T, octets []byte) {
		_, all, err := readAll(octets)
		if err != nil {
			require.True(t, finding.Of(err) != nil, "%v", err)
			return
		}
		for _, e := range all {
			if e.Problem == nil {
				_, err := saml.ReadMetadata(saml.Cut(e.Wrap, octets[e.Start:e.End]), aggregateTime)
				require.NoError(t, err)
			}
		}
	})
}
