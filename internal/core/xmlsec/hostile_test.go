package xmlsec_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"fmt"
	"io"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// forged are documents of about so many octets that try to cost more than their
// size, with a signature that nobody on record made.
func forged(octets int) map[string]string {
	scope := func(n int) (s string) {
		for i := range n {
			s += fmt.Sprintf(` xmlns:p%d="u:%d"`, i, i)
		}
		return s
	}
	prefixes := ""
	for i := range 64 {
		prefixes += fmt.Sprintf("p%d ", i)
	}
	sign := func(list, value string) string {
		return `<ds:Signature xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><ds:SignedInfo><ds:CanonicalizationMethod Algorithm="` + xmlsec.NSExcl +
			`"/><ds:SignatureMethod Algorithm="` + xmlsec.RSASHA256 +
			`"/><ds:Reference URI="#_r"><ds:Transforms><ds:Transform Algorithm="` +
			xmlsec.NSDSig + `enveloped-signature"/><ds:Transform Algorithm="` + xmlsec.NSExcl +
			`"><e:InclusiveNamespaces xmlns:e="` + xmlsec.NSExcl +
			`" PrefixList="` + list +
			`"/></ds:Transform></ds:Transforms><ds:DigestMethod Algorithm="http://www.w3.org/2001/04/xmlenc#sha256"/>` +
			`<ds:DigestValue>AAAA</ds:DigestValue></ds:Reference></ds:SignedInfo><ds:SignatureValue>` + value +
			`</ds:SignatureValue></ds:Signature>`
	}
	fill := func(piece string) string { return strings.Repeat(piece, octets/len(piece)) }
	wrap := func(attrs, body string) string {
		return `<r ID="_r"` + attrs + `>` + sign(prefixes, "AAAA") + body + `</r>`
	}
	deep := func(body string) string {
		return wrap(scope(120), `<x`+scope(120)+`>`+body+`</x>`)
	}
	return map[string]string{
		"plain text":                    wrap("", fill("x")),
		"prefixes through a deep scope": deep(fill(`<p0:a/>`)),
		"attributes through it":         deep(fill(`<a p0:b="" p1:b="" p2:b=""/>`)),
		"a long namespace everywhere":   wrap(` xmlns:l="u:`+strings.Repeat("x", octets/4)+`"`, fill(`<l:a/>`)),
		"a long prefix list":            deep(fill(`<a xmlns=""/>`)),
		"declarations everywhere":       wrap("", fill(`<a xmlns:p0="u:a"/>`)),
		"a long value":                  `<r ID="_r">` + sign("", fill("A")) + `</r>`,
	}
}

// What a forged document may cause is bounded: too many declarations are refused
// while it is read, and the signature's value is looked at before anything is
// summed up.
func TestForgedDocumentsCostNothing(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	deepest := ""
	for i := range 60 {
		deepest += "<e"
		for j := range 100 {
			deepest += fmt.Sprintf(` xmlns:a%d-%d="u:x"`, i, j)
		}
		deepest += ">"
	}
	_, err = xmlsec.Parse([]byte(deepest+strings.Repeat("</e>", 60)), xmlsec.MessageLimits)
	require.True(t, finding.Is(err, finding.XMLTooDeep), "%v", err)

	for rule, doc := range forged(100 << 10) {
		parsed, err := xmlsec.Parse([]byte(doc), xmlsec.MessageLimits)
		require.NoError(t, err, rule)
		_, err = xmlsec.Verify(parsed.Root, []crypto.PublicKey{key.Public()}, xmlsec.Policy{})
		require.True(t, finding.Is(err, finding.SignatureKey), "%s: the value is looked at first: %v", rule, err)
	}
	long, err := xmlsec.Parse([]byte(longNamespace()), xmlsec.MessageLimits)
	require.NoError(t, err)
	err = long.Root.Canonical(io.Discard, xmlsec.Exclusive, nil)
	require.True(t, finding.Is(err, finding.XMLTooLarge), "%v", err)
}

// longNamespace is a document whose canonical form is ten thousand times as long.
func longNamespace() string {
	return `<r xmlns:l="u:` + strings.Repeat("x", 100<<10) + `">` + strings.Repeat(`<l:a/>`, 40<<10) + `</r>`
}

// BenchmarkForged reads and refuses the worst of them; BenchmarkForgedFloor reads
// plain text of the same size.
func BenchmarkForged(b *testing.B) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(b, err)
	worst, slowest := "", time.Duration(0)
	refuse := func(doc string) {
		parsed, err := xmlsec.Parse([]byte(doc), xmlsec.MessageLimits)
		require.NoError(b, err)
		_, err = xmlsec.Verify(parsed.Root, []crypto.PublicKey{key.Public()}, xmlsec.Policy{})
		require.Error(b, err)
	}
	for rule, doc := range forged(270 << 10) {
		began := time.Now()
		refuse(doc)
		if spent := time.Since(began); spent > slowest && rule != "plain text" {
			worst, slowest = doc, spent
		}
	}
	for b.Loop() {
		refuse(worst)
	}
}

func BenchmarkForgedFloor(b *testing.B) {
	plain := forged(270 << 10)["prefixes through a deep scope"]
	plain = "<r>" + strings.Repeat("<a/>", len(plain)/7) + strings.Repeat("xxx", len(plain)/7) + "</r>"
	for b.Loop() {
		_, err := xmlsec.Parse([]byte(plain), xmlsec.MessageLimits)
		require.NoError(b, err)
	}
}
