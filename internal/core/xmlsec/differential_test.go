package xmlsec_test

import (
	"bytes"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/rsa"
	"crypto/x509"
	"encoding/pem"
	"io"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/xmlsec"
)

func run(t *testing.T, name string, args ...string) []byte {
	t.Helper()
	var stderr bytes.Buffer
	cmd := exec.Command(name, args...)
	cmd.Stderr = &stderr
	out, err := cmd.Output()
	require.NoError(t, err, "%s %v: %s", name, args, stderr.String())
	return out
}

func keyFiles(t *testing.T, key crypto.Signer) (private, public string) {
	t.Helper()
	dir := t.TempDir()
	der, err := x509.MarshalPKCS8PrivateKey(key)
	require.NoError(t, err)
	private, public = filepath.Join(dir, "key.pem"), filepath.Join(dir, "pub.pem")
	require.NoError(t, os.WriteFile(private, pem.EncodeToMemory(&pem.Block{Type: "PRIVATE KEY", Bytes: der}), 0o600))
	der, err = x509.MarshalPKIXPublicKey(key.Public())
	require.NoError(t, err)
	require.NoError(t, os.WriteFile(public, pem.EncodeToMemory(&pem.Block{Type: "PUBLIC KEY", Bytes: der}), 0o600))
	return private, public
}

// oneByte hands out a document octet by octet, so that every token crosses a
// buffer boundary.
type oneByte struct{ s []byte }

func (o *oneByte) Read(p []byte) (int, error) {
	n := copy(p[:min(1, len(p))], o.s)
	o.s = o.s[n:]
	if n == 0 {
		return 0, io.EOF
	}
	return n, nil
}

func TestCanonicalFormAgreesWithXmllint(t *testing.T) {
	dir := t.TempDir()
	for n := uint64(0); n < 300; n++ {
		text := document(n, "")
		file := filepath.Join(dir, "doc.xml")
		require.NoError(t, os.WriteFile(file, []byte(text), 0o600))
		for option, method := range map[string]xmlsec.Method{"--exc-c14n": {Comments: true},
			"--c14n": {Comments: true, Inclusive: true}} {
			want := run(t, "xmllint", "--nonet", option, file)
			doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits)
			require.NoError(t, err, text)
			var got bytes.Buffer
			require.NoError(t, doc.Canonical(&got, method, nil))
			require.Equal(t, string(want), got.String(), "document %d %s: %s", n, option, text)
		}
		slow, err := xmlsec.ParseFrom(xmlsec.NewReader(&oneByte{[]byte(text)}, xmlsec.MessageLimits))
		require.NoError(t, err, text)
		var a, b bytes.Buffer
		require.NoError(t, slow.Canonical(&a, xmlsec.Exclusive, nil))
		again, err := xmlsec.Parse(a.Bytes(), xmlsec.MessageLimits)
		require.NoError(t, err)
		require.NoError(t, again.Canonical(&b, xmlsec.Exclusive, nil))
		require.Equal(t, a.String(), b.String(), "the canonical form of a canonical form is itself")
	}
}

func TestSignaturesAgreeWithXmlsec1(t *testing.T) {
	rsaKey, err := rsa.GenerateKey(rand.Reader, 2048)
	require.NoError(t, err)
	ecKey, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	for _, kind := range []struct {
		name, method string
		key          crypto.Signer
	}{{"RSA", xmlsec.RSASHA256, rsaKey}, {"ECDSA", xmlsec.ECDSASHA256, ecKey}} {
		t.Run(kind.name, func(t *testing.T) {
			t.Parallel()
			private, public := keyFiles(t, kind.key)
			keys := []crypto.PublicKey{kind.key.Public()}
			dir := t.TempDir()
			for n := uint64(1000); n < 1100; n++ {
				in, out := filepath.Join(dir, "in.xml"), filepath.Join(dir, "out.xml")
				text := document(n, "_one")
				prefixes := []string{"", "p q", "#default r"}[n%3]
				require.NoError(t, os.WriteFile(in,
					[]byte(strings.Replace(text, "@SIGNATURE@", template("_one", kind.method, prefixes), 1)), 0o600))
				name := rootName(t, text)
				run(t, "xmlsec1", "--sign", "--privkey-pem", private, "--id-attr:ID", name, "--output", out, in)
				signed, err := os.ReadFile(out)
				require.NoError(t, err)
				doc, err := xmlsec.Parse(signed, xmlsec.MessageLimits)
				require.NoError(t, err)
				_, err = xmlsec.Verify(doc.Root, keys, xmlsec.Policy{})
				require.NoError(t, err, "document %d, signed by xmlsec1: %s", n, signed)
				streamAgrees(t, signed, keys)

				if n%5 != 0 {
					continue
				}
				plain, err := xmlsec.Parse([]byte(strings.Replace(text, "@SIGNATURE@", "", 1)), xmlsec.MessageLimits)
				require.NoError(t, err)
				require.NoError(t, xmlsec.Sign(plain.Root, 0, kind.key, nil, "p"))
				require.NoError(t, os.WriteFile(in, plain.Root.Octets(), 0o600))
				run(t, "xmlsec1", "--verify", "--pubkey-pem", public, "--id-attr:ID", name, in)
			}
		})
	}
}

// rootName is the name of the outermost element as the xmlsec1 program wants it.
func rootName(t *testing.T, text string) string {
	doc, err := xmlsec.Parse([]byte(text), xmlsec.MessageLimits)
	require.NoError(t, err)
	if doc.Root.Space == "" {
		return doc.Root.Local
	}
	return doc.Root.Space + ":" + doc.Root.Local
}
