package xmlsec_test

import (
	"bytes"
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// signedBy has the xmlsec1 program fill in the signature of <r ID="_one">.
func signedBy(t *testing.T, key *rsa.PrivateKey, text string) string {
	t.Helper()
	private, _ := keyFiles(t, key)
	in, out := filepath.Join(t.TempDir(), "in.xml"), filepath.Join(t.TempDir(), "out.xml")
	require.NoError(t, os.WriteFile(in, []byte(text), 0o600))
	run(t, "xmlsec1", "--sign", "--privkey-pem", private, "--id-attr:ID", "urn:r:r", "--output", out, in)
	signed, err := os.ReadFile(out)
	require.NoError(t, err)
	return string(signed[bytes.IndexByte(signed, '\n')+1:])
}

func TestVerifyRefuses(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	open, body := `<r xmlns="urn:r" ID="_one">`, `<name>ada</name><note>x</note></r>`
	good := signedBy(t, key, open+template("_one", xmlsec.RSASHA256, "")+body)
	sig := good[strings.Index(good, "<ds:Signature "):strings.Index(good, "<name>")]
	edit := func(pairs ...string) string {
		s := strings.NewReplacer(pairs...).Replace(good)
		require.NotEqual(t, good, s, "the edit changes nothing")
		return s
	}
	sha1 := signedBy(t, key, open+template("_one", xmlsec.RSASHA1, "")+body)
	public, err := x509.MarshalPKIXPublicKey(key.Public())
	require.NoError(t, err)
	hmacKey := filepath.Join(t.TempDir(), "hmac")
	require.NoError(t, os.WriteFile(hmacKey, public, 0o600))
	hmacIn := filepath.Join(t.TempDir(), "in.xml")
	require.NoError(t, os.WriteFile(hmacIn,
		[]byte(open+template("_one", "http://www.w3.org/2001/04/xmldsig-more#hmac-sha256", "")+body), 0o600))
	hmac := string(run(t, "xmlsec1", "--sign", "--hmackey", hmacKey, "--id-attr:ID", "urn:r:r", hmacIn))

	for _, c := range []struct {
		rule, text string
		keys       []crypto.PublicKey
		want       finding.Code
	}{
		{"accepts what xmlsec1 signed", good, nil, ""},
		{"refuses white space added to the digest, which is signed", edit("<ds:DigestValue>", "<ds:DigestValue>\n "), nil,
			finding.SignatureKey},
		{"accepts comments, which are not signed", edit("<name>ada", "<name>a<!-- x -->da"), nil, ""},
		{"accepts a second key", good, []crypto.PublicKey{other.Public(), key.Public()}, ""},
		{"refuses no signature", open + body, nil, finding.SignatureMissing},
		{"refuses a foreign key", good, []crypto.PublicKey{other.Public()}, finding.SignatureKey},
		{"refuses without any key", good, []crypto.PublicKey{}, finding.SignatureNoKey},
		{"refuses altered text", edit("ada", "eve"), nil, finding.SignatureAltered},
		{"refuses an added attribute", edit("<note>", "<note a='1'>"), nil, finding.SignatureAltered},
		{"refuses an added child", edit("<note>", "<name>eve</name><note>"), nil, finding.SignatureAltered},
		{"refuses a changed SignedInfo", edit("<ds:SignedInfo>", "<ds:SignedInfo> "), nil, finding.SignatureKey},
		{"refuses two signatures in one element", edit("<name>", sig+"<name>"), nil, finding.SignatureLayout},
		{"refuses an Object in the signature",
			edit("</ds:Signature>", "<ds:Object><r xmlns='urn:r'/></ds:Object></ds:Signature>"), nil, finding.SignatureLayout},
		{"refuses foreign elements in the signature", edit("</ds:Signature>", "<x/></ds:Signature>"), nil,
			finding.SignatureLayout},
		{"refuses the original wrapped in a new root", `<r xmlns="urn:r" ID="_evil">` + sig + `<name>eve</name>` +
			strings.Replace(good, sig, "", 1) + `</r>`, nil, finding.SignatureReference},
		{"refuses the original inside the signature of a new root", `<r xmlns="urn:r" ID="_evil">` + strings.Replace(sig,
			"</ds:Signature>", "<ds:Object>"+strings.Replace(good, sig, "", 1)+"</ds:Object></ds:Signature>",
			1) + `<name>eve</name></r>`, nil, finding.SignatureLayout},
		{"refuses the same ID twice", `<r xmlns="urn:r" ID="_one">` + sig + `<name>eve</name>` + strings.Replace(good, sig,
			"", 1) + `</r>`, nil, finding.XMLDuplicate},
		{"refuses the same ID under another spelling", edit("<note>", "<note Id='_one'>"), nil, finding.XMLDuplicate},
		{"refuses a second reference", edit("</ds:SignedInfo>", `<ds:Reference URI="#x"/></ds:SignedInfo>`), nil,
			finding.SignatureReference},
		{"refuses an empty reference", edit(`URI="#_one"`, `URI=""`), nil, finding.SignatureReference},
		{"refuses a reference without URI", edit(`URI="#_one"`, ``), nil, finding.SignatureReference},
		{"refuses an XPointer", edit(`URI="#_one"`, `URI="#xpointer(id('_one'))"`), nil, finding.SignatureReference},
		{"refuses an XPath transform", edit(`enveloped-signature"/>`,
			`enveloped-signature"/><ds:Transform Algorithm="http://www.w3.org/TR/1999/REC-xpath-19991116"><ds:XPath>name</ds:XPath></ds:Transform>`), nil, finding.SignatureTransform},
		{"refuses an XSLT transform", edit(`enveloped-signature"/>`,
			`enveloped-signature"/><ds:Transform Algorithm="http://www.w3.org/TR/1999/REC-xslt-19991116"/>`), nil,
			finding.SignatureTransform},
		{"refuses to do without the enveloped transform",
			edit(`<ds:Transform Algorithm="http://www.w3.org/2000/09/xmldsig#enveloped-signature"/>`, ``), nil,
			finding.SignatureTransform},
		{"refuses HMAC with the public key as secret", hmac, nil, finding.SignatureMethod},
		{"refuses an unknown digest", edit("xmlenc#sha256", "xmldsig-more#md5"), nil, finding.SignatureMethod},
		{"refuses SHA-1", sha1, nil, finding.SignatureSHA1},
		{"refuses an empty value", edit("<ds:SignatureValue>", "<ds:SignatureValue/><ds:Dummy>", "</ds:SignatureValue>",
			"</ds:Dummy>"), nil, finding.SignatureLayout},
		{"refuses a DOCTYPE", `<!DOCTYPE r [<!ENTITY e "eve">]>` + good, nil, finding.XMLDoctype},
	} {
		t.Run(c.rule, func(t *testing.T) {
			keys := c.keys
			if keys == nil {
				keys = []crypto.PublicKey{key.Public()}
			}
			doc, err := xmlsec.Parse([]byte(c.text), xmlsec.MessageLimits)
			if err == nil {
				_, err = xmlsec.Verify(doc.Root, keys, xmlsec.Policy{})
			}
			if c.want == "" {
				require.NoError(t, err)
				return
			}
			require.Error(t, err)
			require.True(t, finding.Is(err, c.want), "%v", err)
		})
	}
	doc, err := xmlsec.Parse([]byte(sha1), xmlsec.MessageLimits)
	require.NoError(t, err)
	v, err := xmlsec.Verify(doc.Root, []crypto.PublicKey{key.Public()}, xmlsec.Policy{AllowSHA1: true})
	require.NoError(t, err)
	require.Equal(t, finding.Warning, v.Warnings()[0].Severity, "SHA-1 by exception leaves a warning")

	for method, digest := range map[string]string{xmlsec.RSASHA384: "http://www.w3.org/2001/04/xmldsig-more#sha384",
		xmlsec.RSASHA512: "http://www.w3.org/2001/04/xmlenc#sha512"} {
		strong := strings.Replace(template("_one", method, ""), "http://www.w3.org/2001/04/xmlenc#sha256", digest, 1)
		doc, err := xmlsec.Parse([]byte(signedBy(t, key, open+strong+body)), xmlsec.MessageLimits)
		require.NoError(t, err)
		_, err = xmlsec.Verify(doc.Root, []crypto.PublicKey{key.Public()}, xmlsec.Policy{})
		require.NoError(t, err, method)
		_, err = xmlsec.Verify(doc.Root, []crypto.PublicKey{other.Public()}, xmlsec.Policy{})
		require.True(t, finding.Is(err, finding.SignatureKey), method)
	}

	inclusive := strings.ReplaceAll(template("_one", xmlsec.RSASHA256, ""), "http://www.w3.org/2001/10/xml-exc-c14n#",
		"http://www.w3.org/TR/2001/REC-xml-c14n-20010315")
	implied := strings.Replace(inclusive,
		`<ds:Transform Algorithm="http://www.w3.org/TR/2001/REC-xml-c14n-20010315"></ds:Transform>`, "", 1)
	require.NotEqual(t, inclusive, implied)
	for _, sig := range []string{inclusive, implied} {
		doc, err = xmlsec.Parse([]byte(signedBy(t, key, `<r xmlns="urn:r" xmlns:unused="urn:u" ID="_one">`+sig+body)),
			xmlsec.MessageLimits)
		require.NoError(t, err)
		v, err = xmlsec.Verify(doc.Root, []crypto.PublicKey{key.Public()}, xmlsec.Policy{})
		require.NoError(t, err)
		require.Equal(t, finding.SignatureInclusive, v.Warnings()[0].Code)
	}
}

func TestReaderRefuses(t *testing.T) {
	for _, c := range []struct {
		rule, text string
		want       finding.Code
	}{
		{"nothing", "", finding.XMLMalformed},
		{"text outside", "<a/>x", finding.XMLMalformed},
		{"two roots", "<a/><b/>", finding.XMLMalformed},
		{"crossed tags", "<a><b></a></b>", finding.XMLMalformed},
		{"an end too early", "<a><b/>", finding.XMLMalformed},
		{"undeclared prefixes", "<p:a/>", finding.XMLMalformed},
		{"undeclared attribute prefixes", "<a p:b=''/>", finding.XMLMalformed},
		{"attributes twice", "<a b='' b=''/>", finding.XMLMalformed},
		{"attributes twice by namespace", "<a xmlns:p='urn:x' xmlns:q='urn:x' p:b='' q:b=''/>", finding.XMLMalformed},
		{"a prefix bound to nothing", "<a xmlns:p=''/>", finding.XMLMalformed},
		{"the xml prefix rebound", "<a xmlns:xml='urn:x'/>", finding.XMLMalformed},
		{"another prefix for the xml namespace", "<a xmlns:p='" + xmlsec.NSXML + "'/>", finding.XMLMalformed},
		{"unknown entities", "<a>&e;</a>", finding.XMLMalformed},
		{"references to illegal characters", "<a>&#0;</a>", finding.XMLMalformed},
		{"references to surrogates", "<a>&#xD800;</a>", finding.XMLMalformed},
		{"signs in references", "<a>&#+65;</a>", finding.XMLMalformed},
		{"illegal characters", "<a>\x01</a>", finding.XMLMalformed},
		{"noncharacters", "<a>\uFFFF</a>", finding.XMLMalformed},
		{"broken UTF-8", "<a>\xff</a>", finding.XMLEncoding},
		{"UTF-8 cut off", "<a>\xe2\x82</a>", finding.XMLEncoding},
		{"other encodings", "<?xml version='1.0' encoding='iso-8859-1'?><a/>", finding.XMLEncoding},
		{"other versions", "<?xml version='1.1'?><a/>", finding.XMLMalformed},
		{"a late declaration", " <?xml version='1.0'?><a/>", finding.XMLMalformed},
		{"< in attributes", "<a b='<'/>", finding.XMLMalformed},
		{"attributes without quotes", "<a b=c/>", finding.XMLMalformed},
		{"attributes without space", "<a b=''c=''/>", finding.XMLMalformed},
		{"]]> in text", "<a>]]></a>", finding.XMLMalformed},
		{"-- in comments", "<a><!-- -- --></a>", finding.XMLMalformed},
		{"a DOCTYPE", "<!DOCTYPE a><a/>", finding.XMLDoctype},
		{"too many levels", strings.Repeat("<a>", 65) + strings.Repeat("</a>", 65), finding.XMLTooDeep},
		{"too many attributes", "<a" + many(200) + "/>", finding.XMLTooLarge},
		{"too many octets", "<a>" + strings.Repeat("x", 1<<20) + "</a>", finding.XMLTooLarge},
	} {
		t.Run(c.rule, func(t *testing.T) {
			_, err := xmlsec.Parse([]byte(c.text), xmlsec.MessageLimits)
			require.True(t, finding.Is(err, c.want), "%v", err)
		})
	}
}

func many(n int) string {
	var b strings.Builder
	for i := range n {
		b.WriteString(" a" + strings.Repeat("b", i) + "=''")
	}
	return b.String()
}

func TestValueIsAllText(t *testing.T) {
	doc, err := xmlsec.Parse([]byte("<a> ad<!-- x -->a@<![CDATA[wrenmoor]]><?p i?>.example&#x21;\r\n</a>"),
		xmlsec.MessageLimits)
	require.NoError(t, err)
	v, ok := doc.Root.Value()
	require.True(t, ok)
	require.Equal(t, "ada@wrenmoor.example!", v)
	utf16 := []byte{0xFF, 0xFE}
	for _, c := range "<?xml version='1.0' encoding='UTF-16'?><a>é</a>" {
		utf16 = append(utf16, byte(c), byte(c>>8))
	}
	doc, err = xmlsec.Parse(utf16, xmlsec.AggregateLimits)
	require.NoError(t, err)
	v, _ = doc.Root.Value()
	require.Equal(t, "é", v)
}

func FuzzReader(f *testing.F) {
	for n := range uint64(20) {
		f.Add([]byte(document(n, "")))
	}
	f.Add([]byte("<a b='1\r\n2&amp;3'>\r\n&lt;<![CDATA[\r]]>\r</a>"))
	f.Fuzz(func(t *testing.T, octets []byte) {
		given := bytes.Clone(octets)
		doc, err := xmlsec.Parse(given, xmlsec.MessageLimits)
		require.Equal(t, octets, given, "what is parsed stays as it is")
		for i := range given { // and what came of it stays when it does not: bodies of requests are used again
			given[i] = '<'
		}
		if err != nil {
			return
		}
		fresh, err := xmlsec.ParseFrom(xmlsec.NewReader(bytes.NewReader(octets), xmlsec.MessageLimits))
		require.NoError(t, err)
		require.Equal(t, fresh, doc)
		var first, second bytes.Buffer
		if doc.Canonical(&first, xmlsec.Method{Comments: true}, nil) != nil {
			return
		}
		again, err := xmlsec.Parse(first.Bytes(), xmlsec.Limits{})
		require.NoError(t, err, "the canonical form can be read: %q", first.String())
		require.NoError(t, again.Canonical(&second, xmlsec.Method{Comments: true}, nil))
		require.Equal(t, first.String(), second.String())
	})
}

func BenchmarkVerify(b *testing.B) {
	key, _ := rsa.GenerateKey(rand.Reader, 2048)
	el := xmlsec.New("p", "urn:p", "r").Set("ID", "_one")
	for range 60 {
		el.Add(xmlsec.New("p", "urn:p", "value").Set("Name",
			"urn:oid:2.5.4.42").AddText(base64.StdEncoding.EncodeToString(make([]byte, 48))))
	}
	if err := xmlsec.Sign(el, 0, key, nil); err != nil {
		b.Fatal(err)
	}
	octets, keys := el.Octets(), []crypto.PublicKey{key.Public()}
	b.SetBytes(int64(len(octets)))
	for b.Loop() {
		doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
		if err != nil {
			b.Fatal(err)
		}
		if _, err := xmlsec.Verify(doc.Root, keys, xmlsec.Policy{}); err != nil {
			b.Fatal(err)
		}
	}
}

// The floor under BenchmarkVerify: one RSA verification.
func BenchmarkVerifyFloor(b *testing.B) {
	key, _ := rsa.GenerateKey(rand.Reader, 2048)
	value, err := xmlsec.SignOctets(xmlsec.RSASHA256, key, []byte("x"))
	if err != nil {
		b.Fatal(err)
	}
	keys := []crypto.PublicKey{key.Public()}
	for b.Loop() {
		if _, err := xmlsec.VerifyOctets(xmlsec.RSASHA256, keys, []byte("x"), value, xmlsec.Policy{}); err != nil {
			b.Fatal(err)
		}
	}
}
