package gate

import (
	"bytes"
	"fmt"
	"io"
	"os"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/records"
)

// Metadata in which a certificate was pasted with its PEM lines is metadata: what
// it says of addresses and keys is taken, by every way in.
func TestMetadataWithPEMLinesIsMetadata(t *testing.T) {
	r := newRig(t)
	p, q := r.newPair(), r.newPair()
	pasted := func(sso string, c []byte) []byte {
		doc := string(idp("urn:a", sso, "", p))
		from, to := strings.Index(doc, "<ds:X509Certificate>"), strings.Index(doc, "</ds:X509Certificate>")
		return []byte(doc[:from] + "<ds:X509Certificate>\n" + string(c) + doc[to:])
	}
	first, second := pasted("https://a.example/sso", p.Certificate.PEM()), pasted("https://b.example/sso", q.Certificate.PEM())
	n := records.NewProvider{Name: "a", Source: records.Source{Document: first}, Draft: true}
	v, err := r.Records.PreviewProvider(ctx, n)
	require.NoError(t, err)
	require.Empty(t, v.Missing)
	_, err = r.Records.AddProvider(ctx, tester, n)
	require.NoError(t, err)
	n.Source.Document = second
	v, err = r.Records.PreviewProvider(ctx, n)
	require.NoError(t, err)
	require.Contains(t, fmt.Sprint(v.Differences), "https://b.example/sso")
	require.NoError(t, r.Records.Retake(ctx, tester, change.KindProvider, "a", 1, n.Source))
	now, err := r.Records.Provider("a")
	require.NoError(t, err)
	require.Equal(t, "https://b.example/sso", now.Side.Endpoints()[0].Location)
	require.Equal(t, q.Certificate.SHA256(), now.Side.Keys()[0].Certificate.SHA256())
}

// A document with several entities offers them; the one that was picked is found
// again at every refresh.
func TestOneOfSeveralIsKept(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	entity := func(id, sso string) string {
		doc := string(idp(id, sso, "", p))
		return doc[strings.Index(doc, "<md:EntityDescriptor"):]
	}
	group := func(sso string) []byte {
		return []byte(`<md:EntitiesDescriptor xmlns:md="` + saml.NSMetadata + `">` + entity("urn:a", sso) +
			entity("urn:b", "https://b.example/sso") + `</md:EntitiesDescriptor>`)
	}
	s := r.source(group("https://a.example/sso"))
	n := records.NewProvider{Name: "a", Source: records.Source{Address: s.URL}}
	v, err := r.Records.PreviewProvider(ctx, n)
	require.NoError(t, err)
	require.Equal(t, []federation.Choice{{Identity: "urn:a"}, {Identity: "urn:b"}}, v.Choices)
	_, err = r.Records.AddProvider(ctx, tester, n)
	require.True(t, finding.Is(err, finding.MetadataSeveral), "%v", err)
	n.Source.EntityID = "urn:a"
	_, err = r.Records.AddProvider(ctx, tester, n)
	require.NoError(t, err)
	s.document = group("https://new.example/sso")
	out, err := r.Exchange.Refresh(ctx, tester, change.KindProvider, "a")
	require.NoError(t, err)
	require.Contains(t, out.Differences[0].After, "https://new.example/sso")
}

// A document over the limit is told in megabytes, and what to do with it.
func TestTooMuchIsToldInMegabytes(t *testing.T) {
	r := newRig(t)
	long := bytes.Replace(idp("urn:a", "https://a.example/sso", "", r.newPair()), []byte("<md:IDPSSO"),
		[]byte("<!--"+strings.Repeat("x", 2<<20)+"--><md:IDPSSO"), 1)
	for _, s := range []records.Source{{Document: long}, {Address: r.source(long).URL}} {
		_, err := r.Records.AddProvider(ctx, tester, records.NewProvider{Name: "a", Source: s})
		require.True(t, finding.Is(err, finding.MetadataTooLarge), "%v", err)
		require.ErrorContains(t, err, "1.0 MB")
		require.ErrorContains(t, err, "aggregate")
	}
}

// Signed metadata says by whom, and whether anybody vouches for that.
func TestSignedAndNotVouchedFor(t *testing.T) {
	r := newRig(t)
	p := r.newPair()
	doc := saml.WriteIDPMetadata(saml.IDPFace{EntityID: "urn:a", SSO: "https://a.example/sso",
		Keys: []keys.Certificate{p.Certificate}, Publisher: saml.Publisher{Sign: p, ID: "_1"}})
	n := records.NewProvider{Name: "a", Source: records.Source{Document: doc}}
	v, err := r.Records.PreviewProvider(ctx, n)
	require.NoError(t, err)
	require.Equal(t, finding.MetadataUnvouched, v.Findings[0].Code)
	require.Contains(t, v.Findings[0].Error(), p.Certificate.SHA256())
	n.TrustKey = string(p.Certificate.PEM())
	v, err = r.Records.PreviewProvider(ctx, n)
	require.NoError(t, err)
	require.Empty(t, v.Findings)
}

type zeros struct{}

func (zeros) Read(b []byte) (int, error) { clear(b); return len(b), nil }

// An aggregate over the limit is refused as such, and leaves no file.
func TestAnAggregateTooLarge(t *testing.T) {
	r := newRig(t)
	_, err := r.Exchange.AddAggregate(ctx, tester, "lines", editions.Settings{}, io.LimitReader(zeros{}, 257<<20))
	require.True(t, finding.Is(err, finding.AggregateTooLarge), "%v", err)
	require.ErrorContains(t, err, "268 MB")
	left, err := os.ReadDir(editions.New(r.st).Folder())
	require.NoError(t, err)
	require.Empty(t, left)
}
