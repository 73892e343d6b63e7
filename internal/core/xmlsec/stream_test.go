package xmlsec_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"io"
	"runtime"
	"slices"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// streamed reads a document part by part and gives the names of the parts.
func streamed(octets []byte, keys []crypto.PublicKey, opened func(space, local string) bool) (names []string,
	err error) {
	s, err := xmlsec.NewStream(bytes.NewReader(octets), xmlsec.MessageLimits, keys, xmlsec.Policy{}, opened)
	if err != nil {
		return nil, err
	}
	defer s.Close()
	for {
		el, err := s.Next()
		if err == io.EOF {
			return names, nil
		}
		if err != nil {
			return names, err
		}
		names = append(names, el.Local)
	}
}

func none(string, string) bool { return false }

// streamAgrees holds reading part by part against reading the whole: the same
// documents verify, however they are cut into parts, and the same are refused.
func streamAgrees(t *testing.T, signed []byte, keys []crypto.PublicKey) {
	doc, err := xmlsec.Parse(signed, xmlsec.MessageLimits)
	require.NoError(t, err)
	first := len(doc.Root.Elements("", "")) > 0 && doc.Root.Elements("", "")[0].Local == "Signature"
	for name, opened := range map[string]func(string, string) bool{
		"whole": none, "all opened": func(_, local string) bool { return local != "Signature" },
		"some opened": func(space, local string) bool { return (len(space)+len(local))%2 == 0 && local != "Signature" },
	} {
		_, err := streamed(signed, keys, opened)
		require.Equal(t, first, err == nil, "%s: %v\n%s", name, err, signed)
		end := bytes.LastIndex(signed, []byte("</"))
		altered := append(append(bytes.Clone(signed[:end]), 'x'), signed[end:]...)
		_, err = streamed(altered, keys, opened)
		require.Error(t, err, "%s: altered", name)
	}
}

func TestStream(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	stranger, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	sign := func(text string) string {
		doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits)
		require.NoError(t, err)
		require.NoError(t, xmlsec.Sign(doc.Root, 0, key, nil))
		return string(doc.Root.Octets())
	}
	group := func(_, local string) bool { return local == "g" }
	sound := sign(`<g xmlns="urn:x" ID="_1"><a/><g><b>x</b><c/></g><d/></g>`)
	mine, theirs := []crypto.PublicKey{key.Public()}, []crypto.PublicKey{stranger.Public()}
	for _, c := range []struct {
		rule, doc string
		keys      []crypto.PublicKey
		names     string
		want      finding.Code
	}{
		{"a signed document", sound, mine, "a b c d", ""},
		{"a signed document of a key among several", sound, append(theirs, mine...), "a b c d", ""},
		{"a signed document nobody relies on", sound, nil, "a b c d", ""},
		{"comments and line ends around it", "<?xml version=\"1.0\"?>\n<!-- a -->" + sound + "\n<!-- b -->\n", mine,
			"a b c d", ""},
		{"an unsigned document", `<g><a/></g>`, nil, "a", ""},
		{"an empty document", `<g/>`, nil, "", ""},
		{"a document signed by somebody else", sound, theirs, "", finding.SignatureKey},
		{"no signature", `<g><a/></g>`, mine, "", finding.SignatureMissing},
		{"an empty one without signature", `<g/>`, mine, "", finding.SignatureMissing},
		{"an altered part", strings.Replace(sound, "<b>x", "<b>y", 1), mine, "a b c d", finding.SignatureAltered},
		{"an added part", strings.Replace(sound, "<d>", "<e/><d>", 1), mine, "a b c e d", finding.SignatureAltered},
		{"an attribute on a group", strings.Replace(sound, "<g><b>", "<g x=\"1\"><b>", 1), mine, "a b c d",
			finding.SignatureAltered},
		{"white space between parts", strings.Replace(sound, "<d>", " <d>", 1), mine, "a b c d", finding.SignatureAltered},
		{"cut off in a part", sound[:strings.Index(sound, "<b>")+4], mine, "a", finding.XMLMalformed},
		{"cut off behind a part", sound[:strings.Index(sound, "<d>")], mine, "a b c", finding.XMLMalformed},
		{"a second document behind it", sound + "<g/>", mine, "a b c d", finding.XMLMalformed},
		{"the same ID twice", `<g ID="_1"><a ID="_1"/></g>`, nil, "", finding.XMLDuplicate},
		{"no XML", `text`, nil, "", finding.XMLMalformed},
		{"a DOCTYPE", `<!DOCTYPE g><g/>`, nil, "", finding.XMLDoctype},
	} {
		names, err := streamed([]byte(c.doc), c.keys, group)
		require.Equal(t, c.names, strings.Join(names, " "), c.rule)
		if c.want == "" {
			require.NoError(t, err, c.rule)
		} else {
			require.True(t, finding.Is(err, c.want), "%s: %v", c.rule, err)
		}
	}

	// One part may not be of any length; the document may.
	long := strings.Repeat("<x>"+strings.Repeat("y", 1<<20-100)+"</x>", 9)
	read := func(doc string) error {
		s, err := xmlsec.NewStream(strings.NewReader(doc), xmlsec.AggregateLimits, nil, xmlsec.Policy{}, group)
		require.NoError(t, err)
		for err == nil {
			_, err = s.Next()
		}
		return err
	}
	require.Equal(t, io.EOF, read("<g>"+long+"</g>"))
	require.True(t, finding.Is(read("<g><a>"+long+"</a></g>"), finding.XMLTooLarge))

	// A caller that has enough leaves nothing running behind.
	before := runtime.NumGoroutine()
	for range 20 {
		s, err := xmlsec.NewStream(strings.NewReader("<g>"+strings.Repeat("<a/>", 1000)+"</g>"), xmlsec.MessageLimits, nil,
			xmlsec.Policy{}, group)
		require.NoError(t, err)
		_, err = s.Next()
		require.NoError(t, err)
		s.Close()
		s.Close()
	}
	for until := time.Now().Add(5 * time.Second); runtime.NumGoroutine() > before && time.Now().Before(until); {
		time.Sleep(time.Millisecond)
	}
	require.LessOrEqual(t, runtime.NumGoroutine(), before)
}

// The sum changes with every part that changes, and with no other.
func TestStreamSums(t *testing.T) {
	sums := func(doc string) (out []uint64) {
		s, err := xmlsec.NewStream(strings.NewReader(doc), xmlsec.MessageLimits, nil, xmlsec.Policy{}, none)
		require.NoError(t, err)
		defer s.Close()
		for {
			if _, err := s.Next(); err == io.EOF {
				return out
			}
			out = append(out, s.Sum())
		}
	}
	was := sums(`<g xmlns:p="urn:p"><a x="1" y="2">t</a><p:b/><a x="1" y="2">t</a></g>`)
	require.Equal(t, was[0], was[2])
	require.NotEqual(t, was[0], was[1])
	for doc, changed := range map[string][]int{
		`<g xmlns:p="urn:p" ><a y='2' x='1'>t</a ><p:b></p:b><a x="1" y="2">t</a></g>`:                   {},
		`<g xmlns:p="urn:p" z="1"><a x="1" y="2">t</a><!-- c --><p:b/> <a x="1" y="2">t</a></g>`:         {},
		`<g xmlns:p="urn:p"><a x="1" y="3">t</a><p:b/><a x="1" y="2">t</a></g>`:                          {0},
		`<g xmlns:p="urn:q"><a x="1" y="2">t</a><p:b/><a x="1" y="2"><t/></a></g>`:                       {1, 2},
		`<g xmlns:p="urn:p"><a x="1" y="2">t<!-- a comment counts for nothing --></a><p:b/><a>t</a></g>`: {2},
	} {
		now := sums(doc)
		for i := range was {
			require.Equal(t, slices.Contains(changed, i), was[i] != now[i], "%s: part %d", doc, i)
		}
	}
}
