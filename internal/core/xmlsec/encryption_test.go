package xmlsec_test

import (
	"crypto"
	"crypto/rand"
	"crypto/rsa"
	"encoding/base64"
	"os"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/xmlsec"
)

// encryptedBy has the xmlsec1 program encrypt <p:secret> in a container whose
// namespaces the plaintext needs.
func encryptedBy(t *testing.T, public, block, transport string) string {
	t.Helper()
	dir := t.TempDir()
	tmpl := filepath.Join(dir, "tmpl.xml")
	require.NoError(t, os.WriteFile(tmpl,
		[]byte(`<xenc:EncryptedData xmlns:xenc="http://www.w3.org/2001/04/xmlenc#" Type="http://www.w3.org/2001/04/xmlenc#Element"><xenc:EncryptionMethod Algorithm="`+block+`"/><ds:KeyInfo xmlns:ds="http://www.w3.org/2000/09/xmldsig#"><xenc:EncryptedKey><xenc:EncryptionMethod Algorithm="`+transport+`"/><xenc:CipherData><xenc:CipherValue/></xenc:CipherData></xenc:EncryptedKey></ds:KeyInfo><xenc:CipherData><xenc:CipherValue/></xenc:CipherData></xenc:EncryptedData>`), 0o600))
	in, out := filepath.Join(dir, "in.xml"), filepath.Join(dir, "out.xml")
	require.NoError(t, os.WriteFile(in,
		[]byte(`<c xmlns="urn:c" xmlns:p="urn:p" ID="_c"><p:secret ID="_s" a="&amp;">ada é</p:secret></c>`), 0o600))
	size := map[bool]string{true: "aes-128", false: "aes-256"}[strings.Contains(block, "128")]
	run(t, "xmlsec1", "--encrypt", "--pubkey-pem", public, "--session-key", size, "--xml-data", in, "--node-xpath",
		"//*[local-name()='secret']", "--output", out, tmpl)
	text, err := os.ReadFile(out)
	require.NoError(t, err)
	return string(text)
}

func TestDecrypt(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	other, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	_, public := keyFiles(t, key)
	const mgf1p, pkcs1 = "http://www.w3.org/2001/04/xmlenc#rsa-oaep-mgf1p", "http://www.w3.org/2001/04/xmlenc#rsa-1_5"
	gcm := encryptedBy(t, public, xmlsec.AES256GCM, mgf1p)
	cbc := encryptedBy(t, public, xmlsec.AES128CBC, mgf1p)
	from, to := strings.Index(gcm, "<xenc:EncryptedKey>"),
		strings.Index(gcm, "</xenc:EncryptedKey>")+len("</xenc:EncryptedKey>")
	ek := gcm[from:to]
	flip := func(s string) string { // changes one octet of the last CipherValue
		at := strings.LastIndex(s, "<xenc:CipherValue>") + len("<xenc:CipherValue>")
		octets, err := xmlsec.Base64(s[at : at+40])
		require.NoError(t, err)
		octets[20] ^= 1
		return s[:at] + base64.StdEncoding.EncodeToString(octets) + s[at+40:]
	}
	for _, c := range []struct {
		rule, text string
		keys       []crypto.Decrypter
		cbc        bool
		want       finding.Code
	}{
		{"opens AES-256-GCM made by xmlsec1", gcm, nil, false, ""},
		{"opens AES-128-GCM made by xmlsec1", encryptedBy(t, public, xmlsec.AES128GCM, mgf1p), nil, false, ""},
		{"opens AES-CBC by exception", cbc, nil, true, ""},
		{"opens AES-256-CBC by exception", encryptedBy(t, public, xmlsec.AES256CBC, mgf1p), nil, true, ""},
		{"opens with the second key", gcm, []crypto.Decrypter{other, key}, false, ""},
		{"opens with the key beside the data", strings.Replace(strings.Replace(gcm, ek, `<ds:RetrievalMethod URI="#_k"/>`,
			1), "</c>", strings.Replace(ek, "<xenc:EncryptedKey>",
			`<xenc:EncryptedKey xmlns:xenc="http://www.w3.org/2001/04/xmlenc#" xmlns:ds="http://www.w3.org/2000/09/xmldsig#" Id="_k">`, 1)+"</c>", 1), nil, false, ""},
		{"refuses AES-CBC without exception", cbc, nil, false, finding.EncryptionMethod},
		{"refuses RSA 1.5", encryptedBy(t, public, xmlsec.AES256GCM, pkcs1), nil, false, finding.EncryptionMethod},
		{"refuses triple DES", strings.Replace(gcm, xmlsec.AES256GCM, "http://www.w3.org/2001/04/xmlenc#tripledes-cbc", 1),
			nil, true, finding.EncryptionMethod},
		{"refuses a foreign key", gcm, []crypto.Decrypter{other}, false, finding.DecryptionFailed},
		{"refuses no key", gcm, []crypto.Decrypter{}, false, finding.DecryptionFailed},
		{"refuses an altered text", flip(gcm), nil, false, finding.DecryptionFailed},
		{"refuses no data", strings.ReplaceAll(gcm, "xenc:EncryptedData", "xenc:Encrypted"), nil, false,
			finding.DecryptionFailed},
		{"refuses a plaintext whose ID is taken", strings.Replace(gcm, `ID="_c"`, `ID="_s"`, 1), nil, false,
			finding.XMLDuplicate},
	} {
		t.Run(c.rule, func(t *testing.T) {
			keys := c.keys
			if keys == nil {
				keys = []crypto.Decrypter{key}
			}
			doc, err := xmlsec.Parse([]byte(c.text), xmlsec.MessageLimits)
			require.NoError(t, err)
			el, err := xmlsec.Decrypt(doc.Root, keys, c.cbc)
			if c.want != "" {
				require.True(t, finding.Is(err, c.want), "%v", err)
				require.Empty(t, strings.TrimPrefix(finding.Of(err).Title, finding.New(c.want).Title), "failures look alike")
				return
			}
			require.NoError(t, err)
			require.True(t, el.Is("urn:p", "secret"), "in the namespaces of its ancestors")
			v, _ := el.Value()
			require.Equal(t, "ada é", v)
			require.Equal(t, "&", el.Attr("a"))
			require.Same(t, doc.Root, el.Parent)
		})
	}
}

func TestEncryptIsReadByXmlsec1AndByUs(t *testing.T) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	private, _ := keyFiles(t, key)
	for _, listed := range [][]string{nil, {xmlsec.AES128GCM}, {"urn:unknown", xmlsec.AES128CBC},
		{xmlsec.AES256GCM, "http://www.w3.org/2009/xmlenc11#rsa-oaep"}} {
		secret := xmlsec.New("p", "urn:p", "secret").Set("ID", "_s").AddText("ada & é")
		sealed, err := xmlsec.Encrypt(secret, &key.PublicKey, listed, rand.Reader)
		require.NoError(t, err)
		octets := xmlsec.New("", "", "c").Add(sealed).Octets()
		require.NotContains(t, string(octets), "ada &")
		doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
		require.NoError(t, err)
		el, err := xmlsec.Decrypt(doc.Root, []crypto.Decrypter{key}, true)
		require.NoError(t, err)
		v, _ := el.Value()
		require.Equal(t, "ada & é", v)
		if len(listed) == 2 && listed[0] == xmlsec.AES256GCM {
			continue // this xmlsec1 has no rsa-oaep of XML Encryption 1.1
		}
		file := filepath.Join(t.TempDir(), "sealed.xml")
		require.NoError(t, os.WriteFile(file, octets, 0o600))
		require.Contains(t, string(run(t, "xmlsec1", "--decrypt", "--privkey-pem", private, file)), "ada &amp; &#xE9;")
	}
}

func FuzzDecrypt(f *testing.F) {
	key, err := rsa.GenerateKey(rand.Reader, 2048)
	if err != nil {
		f.Fatal(err)
	}
	sealed, err := xmlsec.Encrypt(xmlsec.New("", "", "a"), &key.PublicKey, nil, rand.Reader)
	if err != nil {
		f.Fatal(err)
	}
	f.Add(xmlsec.New("", "", "c").Add(sealed).Octets())
	f.Fuzz(func(t *testing.T, octets []byte) {
		if doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits); err == nil {
			_, _ = xmlsec.Decrypt(doc.Root, []crypto.Decrypter{key}, true)
		}
	})
}
