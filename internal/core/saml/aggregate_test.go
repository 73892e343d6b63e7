package saml_test

import (
	"bytes"
	"crypto/rand"
	"encoding/base64"
	"errors"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"slices"
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
	octets, err := (&standin.Federation{Title: "Northern lines", Entities: entities, Pair: pair,
		Fault: fault}).Aggregate(0, aggregateTime)
	require.NoError(t, err)
	return octets
}

func readAll(octets []byte, trust ...keys.Certificate) (*saml.Aggregate, []saml.Entity, error) {
	var all []saml.Entity
	a, err := saml.ReadAggregate(bytes.NewReader(octets), saml.Trusting{Now: aggregateTime,
		Keys: saml.TrustKeys(trust...)}, func(e *saml.Entity) error {
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
		require.EqualValues(t, e.EntityID, m.EntityID)
		require.Equal(t, a.ValidUntil, m.ValidUntil)
		require.Equal(t, a.CacheDuration, m.CacheDuration)
		require.Contains(t, e.Title, firstTitle(m))
	}
	altered := bytes.Replace(octets, []byte("Alderholt"), []byte("Alderhold"), 1)
	_, _, err = readAll(altered)
	require.True(t, finding.Is(err, finding.MetadataAltered), "also without a trust key: %v", err)
	from, to := bytes.Index(altered, []byte("<ds:Signature>")), bytes.Index(altered, []byte("</ds:Signature>"))
	_, again, err := readAll(append([]byte(" \n"), slices.Concat(altered[:from], altered[to+len("</ds:Signature>"):])...))
	require.NoError(t, err, "what is not signed needs nobody to vouch for it, and white space before it harms nothing")
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
		theirs := exec.Command("xmlsec1", "--verify", "--pubkey-cert-pem", pem, "--enabled-key-data", "x509", "--id-attr:ID",
			"urn:oasis:names:tc:SAML:2.0:metadata:EntitiesDescriptor", file).Run()
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
	signature := sound[strings.Index(sound, "<ds:Signature>") : strings.Index(sound, "</ds:Signature>")+
		len("</ds:Signature>")]
	open := sound[strings.Index(sound, "<md:EntitiesDescriptor"):strings.Index(sound, "<ds:Signature>")]
	for _, c := range []struct {
		rule, doc string
		want      finding.Code
	}{
		{"an altered entity", string(aggregate(t, pair, 8, "altered")), finding.MetadataAltered},
		{"an unknown signer", string(aggregate(t, pair, 8, "stranger")), finding.MetadataOtherSigner},
		{"no signature", string(aggregate(t, pair, 8, "unsigned")), finding.MetadataUnsigned},
		{"a document cut off", string(aggregate(t, pair, 8, "cut")), finding.XMLMalformed},
		{"validUntil past", string(aggregate(t, pair, 8, "expired")), finding.MetadataExpired},
		{"one byte less at the very end", sound[:len(sound)-4], finding.XMLMalformed},
		{"a second document behind it", sound + "<x/>", finding.XMLMalformed},
		{"the signature behind the entities", strings.Replace(strings.Replace(sound, signature, "", 1),
			"</md:EntitiesDescriptor>", signature+"</md:EntitiesDescriptor>", 1), finding.MetadataUnsigned},
		{"a second signature", strings.Replace(sound, "</md:EntitiesDescriptor>", signature+"</md:EntitiesDescriptor>", 1),
			finding.SignatureLayout},
		{"the signed one wrapped in another", open + strings.TrimPrefix(sound,
			"<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n") + "</md:EntitiesDescriptor>", finding.MetadataUnsigned},
		{"a single entity", "<EntityDescriptor xmlns=\"" + saml.NSMetadata + "\" entityID=\"urn:a\"/>",
			finding.MetadataUnsigned},
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
	_, err = saml.ReadAggregate(io.MultiReader(strings.NewReader(sound[:len(sound)/2]), iotest.ErrReader(broken)),
		saml.Trusting{Now: aggregateTime}, func(*saml.Entity) error { return nil })
	require.ErrorIs(t, err, broken)
	enough := errors.New("enough")
	_, err = saml.ReadAggregate(strings.NewReader(sound), saml.Trusting{Now: aggregateTime},
		func(*saml.Entity) error { return enough })
	require.ErrorIs(t, err, enough)
}

func TestSignedMetadataOfOneEntity(t *testing.T) {
	pair, err := keys.Generate("signer", aggregateTime, rand.Reader)
	require.NoError(t, err)
	face := saml.IDPFace{EntityID: "urn:a", SSO: "https://a.example/sso", Keys: []keys.Certificate{pair.Certificate},
		Publisher: saml.Publisher{Sign: pair, ID: "_1"}}
	octets := saml.WriteIDPMetadata(face)
	trust := saml.Trusting{Now: aggregateTime, Keys: saml.TrustKeys(pair.Certificate)}
	m, err := saml.TakeMetadata(octets, trust)
	require.NoError(t, err)
	require.True(t, m.Verified)
	require.Contains(t, m.SignatureMethod, "rsa-sha256")
	altered := bytes.Replace(octets, []byte("a.example/sso"), []byte("b.example/sso"), 1)
	for _, t2 := range []saml.Trusting{trust, {Now: aggregateTime}} {
		_, err = saml.TakeMetadata(altered, t2)
		require.True(t, finding.Is(err, finding.MetadataAltered), "%v", err)
	}
	_, err = saml.TakeMetadata(altered, saml.Trusting{Now: aggregateTime, Kept: true})
	require.NoError(t, err, "what an earlier build took in stays")
	m, err = saml.TakeMetadata(octets, saml.Trusting{Now: aggregateTime})
	require.NoError(t, err)
	require.False(t, m.Verified)
	require.Equal(t, "CN=signer, SHA-256 "+pair.Certificate.SHA256(), m.SignedBy)
	// The value of the signature, made with another key than it names.
	other, err := keys.Generate("other", aggregateTime, rand.Reader)
	require.NoError(t, err)
	text := func(c keys.Certificate) []byte { return []byte(base64.StdEncoding.EncodeToString(c.DER)) }
	_, err = saml.TakeMetadata(bytes.Replace(octets, text(pair.Certificate), text(other.Certificate), 1),
		saml.Trusting{Now: aggregateTime})
	require.True(t, finding.Is(err, finding.MetadataOtherSigner), "%v", err)
	face.Sign = nil
	_, err = saml.TakeMetadata(saml.WriteIDPMetadata(face), trust)
	require.True(t, finding.Is(err, finding.MetadataUnsigned), "%v", err)
}

// Documents that the general-purpose signer made, as publishers do: by the whole
// document, by ID, with SHA-1, inclusive.
func TestMetadataSignedByXmlsec1(t *testing.T) {
	pair, err := keys.Generate("signer", aggregateTime, rand.Reader)
	require.NoError(t, err)
	private, err := pair.Marshal()
	require.NoError(t, err)
	dir := t.TempDir()
	key, in, out := filepath.Join(dir, "key.pem"), filepath.Join(dir, "in.xml"), filepath.Join(dir, "out.xml")
	require.NoError(t, os.WriteFile(key, private, 0o600))
	const ds, enc = "http://www.w3.org/2000/09/xmldsig#", "http://www.w3.org/2001/04/xml"
	entity := saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:a", SSO: "https://a.example/sso",
		Keys: []keys.Certificate{pair.Certificate}})
	entity = entity[bytes.Index(entity, []byte("<md:EntityDescriptor")):]
	for _, c := range []struct {
		rule, uri, method, digest, c14n string
		sha1                            bool
		want                            finding.Code
	}{
		{"by ID", "#_1", enc + "dsig-more#rsa-sha256", enc + "enc#sha256", "http://www.w3.org/2001/10/xml-exc-c14n#", false,
			""},
		{"the whole document", "", enc + "dsig-more#rsa-sha512", enc + "enc#sha512",
			"http://www.w3.org/2001/10/xml-exc-c14n#", false, ""},
		{"inclusive", "#_1", enc + "dsig-more#rsa-sha256", enc + "enc#sha256",
			"http://www.w3.org/TR/2001/REC-xml-c14n-20010315", false, ""},
		{"with SHA-1", "#_1", ds + "rsa-sha1", ds + "sha1", "http://www.w3.org/2001/10/xml-exc-c14n#", false,
			finding.SignatureSHA1},
		{"with SHA-1 by exception", "#_1", ds + "rsa-sha1", ds + "sha1", "http://www.w3.org/2001/10/xml-exc-c14n#", true,
			""},
	} {
		signature := `<ds:Signature xmlns:ds="` + ds + `"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="` + c.c14n +
			`"/><ds:SignatureMethod Algorithm="` + c.method + `"/><ds:Reference URI="` + c.uri +
			`"><ds:Transforms><ds:Transform Algorithm="` + ds + `enveloped-signature"/><ds:Transform Algorithm="` + c.c14n +
			`"/></ds:Transforms><ds:DigestMethod Algorithm="` + c.digest +
			`"/><ds:DigestValue/></ds:Reference></ds:SignedInfo><ds:SignatureValue/></ds:Signature>`
		for name, doc := range map[string]string{
			"EntityDescriptor": strings.Replace(strings.Replace(string(entity), "entityID=", `ID="_1" entityID=`, 1),
				"<md:IDPSSO", signature+"<md:IDPSSO", 1),
			"EntitiesDescriptor": `<md:EntitiesDescriptor xmlns:md="` + saml.NSMetadata + `" xml:lang="en" ID="_1">` + "\n  " +
				signature + string(entity) + "<!-- end --></md:EntitiesDescriptor>",
		} {
			require.NoError(t, os.WriteFile(in, []byte(doc), 0o600))
			text, err := exec.Command("xmlsec1", "--sign", "--privkey-pem", key, "--id-attr:ID", saml.NSMetadata+":"+name,
				"--output", out, in).CombinedOutput()
			require.NoError(t, err, "%s: %s", c.rule, text)
			signed, err := os.ReadFile(out)
			require.NoError(t, err)
			trust := saml.Trusting{Now: aggregateTime, Keys: saml.TrustKeys(pair.Certificate), AllowSHA1: c.sha1}
			m, one := saml.TakeMetadata(signed, trust)
			judge := func(err error, what string) {
				if c.want == "" {
					require.NoError(t, err, "%s %s of %s", c.rule, what, name)
				} else {
					require.True(t, finding.Is(err, c.want), "%s %s of %s: %v", c.rule, what, name, err)
				}
			}
			judge(one, "taken alone")
			if one == nil {
				require.Equal(t, c.method, m.SignatureMethod)
				require.Equal(t, c.rule == "inclusive" || c.sha1, len(m.Warnings) > 0)
			}
			if name == "EntityDescriptor" {
				continue
			}
			a, err := saml.ReadAggregate(bytes.NewReader(signed), trust, func(*saml.Entity) error { return nil })
			judge(err, "as an aggregate")
			if err == nil {
				require.Equal(t, m.DigestMethod, a.DigestMethod)
				_, err = saml.ReadAggregate(bytes.NewReader(bytes.Replace(signed, []byte("a.example"), []byte("b.example"), 1)),
					trust, func(*saml.Entity) error { return nil })
				require.True(t, finding.Is(err, finding.MetadataAltered), "%s: %v", c.rule, err)
			}
		}
	}
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
