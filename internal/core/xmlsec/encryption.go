package xmlsec

import (
	"bytes"
	"crypto"
	"crypto/aes"
	"crypto/cipher"
	"crypto/rsa"
	"encoding/base64"
	"errors"
	"io"
	"slices"
	"sort"
	"strings"

	"innergate.example/innergate/internal/core/finding"
)

// Namespaces and algorithm identifiers (XML Encryption 1.1 §5).
const (
	NSEnc   = "http://www.w3.org/2001/04/xmlenc#"
	NSEnc11 = "http://www.w3.org/2009/xmlenc11#"

	AES128GCM = NSEnc11 + "aes128-gcm"
	AES256GCM = NSEnc11 + "aes256-gcm"
	AES128CBC = NSEnc + "aes128-cbc"
	AES256CBC = NSEnc + "aes256-cbc"

	oaepMGF1  = NSEnc + "rsa-oaep-mgf1p" // MGF1 with SHA-1, whatever the digest
	oaep11    = NSEnc11 + "rsa-oaep"
	encHeader = NSEnc + "Element"
)

type blockMethod struct {
	octets int // of the key
	gcm    bool
}

var blockMethods = map[string]blockMethod{
	AES128GCM: {16, true}, NSEnc11 + "aes192-gcm": {24, true}, AES256GCM: {32, true},
	AES128CBC: {16, false}, NSEnc + "aes192-cbc": {24, false}, AES256CBC: {32, false},
}

var mgfMethods = map[string]crypto.Hash{
	"": crypto.SHA1, NSEnc11 + "mgf1sha1": crypto.SHA1, NSEnc11 + "mgf1sha256": crypto.SHA256,
	NSEnc11 + "mgf1sha384": crypto.SHA384, NSEnc11 + "mgf1sha512": crypto.SHA512,
}

// errOpen is every failure to decrypt: which of them it was is told to nobody
// (SAML core §6, padding oracles).
func errOpen() error { return finding.New(finding.DecryptionFailed) }

func errMethod(what, alg string) error {
	return finding.New(finding.EncryptionMethod, finding.Fact(what, alg))
}

// Decrypt opens the EncryptedData in a container, such as
// saml:EncryptedAssertion, and gives the one element that was in it, parsed in
// the namespaces of its ancestors and with the container as parent. AES-CBC is
// taken only if allowCBC is set, because without a signature around it it can be
// opened by an oracle. Keys are tried in order.
func Decrypt(container *Element, keys []crypto.Decrypter, allowCBC bool) (*Element, error) {
	data := container.Child(NSEnc, "EncryptedData")
	if data == nil || len(container.Elements(NSEnc, "EncryptedData")) != 1 {
		return nil, errOpen()
	}
	alg := methodOf(data)
	block, ok := blockMethods[alg]
	if !ok {
		return nil, errMethod("Encryption", alg)
	}
	if !block.gcm && !allowCBC {
		return nil, errMethod("Encryption", alg)
	}
	octets, err := cipherValue(data)
	if err != nil {
		return nil, errOpen()
	}
	sealed := encryptedKeys(container, data)
	for _, ek := range sealed {
		if alg := methodOf(ek); alg != oaepMGF1 && alg != oaep11 {
			return nil, errMethod("Key transport", alg)
		}
	}
	for _, ek := range sealed {
		for _, key := range keys {
			secret, err := openKey(ek, key)
			if err != nil || len(secret) != block.octets {
				continue
			}
			plain, err := block.open(secret, octets)
			if err != nil {
				continue
			}
			return parseWithin(container, plain)
		}
	}
	return nil, errOpen()
}

func methodOf(el *Element) string {
	if m := el.Child(NSEnc, "EncryptionMethod"); m != nil {
		return m.Attr("Algorithm")
	}
	return ""
}

func cipherValue(el *Element) ([]byte, error) {
	c := el.Child(NSEnc, "CipherData")
	if c == nil || c.Child(NSEnc, "CipherValue") == nil {
		return nil, errors.New("no CipherValue")
	}
	text, ok := c.Child(NSEnc, "CipherValue").Value()
	if !ok {
		return nil, errors.New("CipherValue holds elements")
	}
	return Base64(text)
}

// encryptedKeys finds the keys that belong to the data: inside its KeyInfo,
// beside it, or by RetrievalMethod (which names one beside it).
func encryptedKeys(container, data *Element) []*Element {
	var out []*Element
	if info := data.Child(NSDSig, "KeyInfo"); info != nil {
		out = append(out, info.Elements(NSEnc, "EncryptedKey")...)
	}
	out = append(out, container.Elements(NSEnc, "EncryptedKey")...)
	return out[:min(len(out), 8)]
}

func openKey(ek *Element, key crypto.Decrypter) ([]byte, error) {
	m := ek.Child(NSEnc, "EncryptionMethod")
	o := &rsa.OAEPOptions{Hash: crypto.SHA1, MGFHash: crypto.SHA1}
	if d := m.Child(NSDSig, "DigestMethod"); d != nil {
		hash, ok := digestMethods[d.Attr("Algorithm")]
		if !ok {
			return nil, errOpen()
		}
		o.Hash = hash
	}
	if mgf := m.Child(NSEnc11, "MGF"); mgf != nil && methodOf(ek) == oaep11 {
		hash, ok := mgfMethods[mgf.Attr("Algorithm")]
		if !ok {
			return nil, errOpen()
		}
		o.MGFHash = hash
	}
	if p := m.Child(NSEnc, "OAEPparams"); p != nil {
		text, _ := p.Value()
		label, err := Base64(text)
		if err != nil {
			return nil, err
		}
		o.Label = label
	}
	octets, err := cipherValue(ek)
	if err != nil {
		return nil, err
	}
	return key.Decrypt(nil, octets, o)
}

func (m blockMethod) open(secret, octets []byte) ([]byte, error) {
	block, err := aes.NewCipher(secret)
	if err != nil {
		return nil, err
	}
	if m.gcm {
		aead, err := cipher.NewGCM(block)
		if err != nil || len(octets) < aead.NonceSize() {
			return nil, errOpen()
		}
		return aead.Open(nil, octets[:aead.NonceSize()], octets[aead.NonceSize():], nil)
	}
	n := block.BlockSize()
	if len(octets) < 2*n || len(octets)%n != 0 {
		return nil, errOpen()
	}
	plain := make([]byte, len(octets)-n)
	cipher.NewCBCDecrypter(block, octets[:n]).CryptBlocks(plain, octets[n:])
	pad := int(plain[len(plain)-1]) // XML Encryption §5.2.2: the last octet alone counts
	if pad == 0 || pad > n {
		return nil, errOpen()
	}
	return plain[:len(plain)-pad], nil
}

// parseWithin parses decrypted octets as if they stood in the container.
func parseWithin(container *Element, plain []byte) (*Element, error) {
	var b bytes.Buffer
	b.WriteString("<x")
	ns, _ := container.inherited()
	for _, d := range append(slices.Clone(container.NS), ns...) {
		if d.URI == "" {
			continue
		}
		b.WriteString(" xmlns")
		if d.Prefix != "" {
			b.WriteString(":" + d.Prefix)
		}
		b.WriteString(`="`)
		b.Write(appendAttr(nil, []byte(d.URI)))
		b.WriteByte('"')
	}
	b.WriteString(">")
	b.Write(plain)
	b.WriteString("</x>")
	doc, err := Parse(b.Bytes(), MessageLimits)
	if err != nil {
		return nil, err
	}
	kids := doc.Root.Elements("", "")
	if len(kids) != 1 {
		return nil, errOpen()
	}
	root := container
	for root.Parent != nil {
		root = root.Parent
	}
	ids := map[string]bool{}
	collectIDs(root, ids)
	collect := map[string]bool{}
	collectIDs(kids[0], collect)
	for id := range collect {
		if ids[id] {
			return nil, finding.New(finding.XMLDuplicate, finding.Fact("ID", id))
		}
	}
	kids[0].Parent = container
	return kids[0], nil
}

func collectIDs(e *Element, ids map[string]bool) {
	for _, a := range e.Attrs {
		if a.Space == "" && (a.Local == "ID" || a.Local == "Id") || a.Space == NSXML && a.Local == "id" {
			ids[string(a.Value)] = true
		}
	}
	for _, n := range e.Children {
		if n.Kind == StartElement {
			collectIDs(n.Element, ids)
		}
	}
}

// EncryptionChoice picks the methods to encrypt with: the first that the other
// side lists and we know, else AES-256-GCM with the RSA-OAEP that everybody has.
func EncryptionChoice(listed []string) (block, transport string) {
	block, transport = AES256GCM, oaepMGF1
	i := slices.IndexFunc(listed, func(s string) bool { _, ok := blockMethods[s]; return ok })
	if i >= 0 {
		block = listed[i]
	}
	if slices.Contains(listed, oaep11) && !slices.Contains(listed, oaepMGF1) {
		transport = oaep11
	}
	return block, transport
}

// CanEncrypt reports whether an element can be encrypted for somebody who lists
// these methods: of block encryption and of key transport one each must be known,
// where any is listed.
func CanEncrypt(listed []string) bool {
	var block, knownBlock, transport, knownTransport bool
	for _, m := range listed {
		switch _, known := blockMethods[m]; {
		case m == oaepMGF1 || m == oaep11:
			transport, knownTransport = true, true
		case strings.Contains(m, "#rsa-"):
			transport = true
		case strings.Contains(m, "#sha") || strings.Contains(m, "#mgf"):
		default:
			block, knownBlock = true, knownBlock || known
		}
	}
	return (!block || knownBlock) && (!transport || knownTransport)
}

// Encrypt seals an element for a key and gives the EncryptedData, with the
// EncryptedKey inside. listed are the methods that the other side names.
func Encrypt(el *Element, to *rsa.PublicKey, listed []string, random io.Reader) (*Element, error) {
	alg, transport := EncryptionChoice(listed)
	m := blockMethods[alg]
	secret := make([]byte, m.octets)
	if _, err := io.ReadFull(random, secret); err != nil {
		return nil, err
	}
	block, err := aes.NewCipher(secret)
	if err != nil {
		return nil, err
	}
	plain := el.Octets()
	var sealed []byte
	if m.gcm {
		aead, err := cipher.NewGCM(block)
		if err != nil {
			return nil, err
		}
		nonce := make([]byte, aead.NonceSize())
		if _, err := io.ReadFull(random, nonce); err != nil {
			return nil, err
		}
		sealed = aead.Seal(nonce, nonce, plain, nil)
	} else {
		n := block.BlockSize()
		pad := n - len(plain)%n
		plain = append(plain, make([]byte, pad)...)
		plain[len(plain)-1] = byte(pad)
		sealed = make([]byte, n+len(plain))
		if _, err := io.ReadFull(random, sealed[:n]); err != nil {
			return nil, err
		}
		cipher.NewCBCEncrypter(block, sealed[:n]).CryptBlocks(sealed[n:], plain)
	}
	enc := func(local string) *Element { return New("xenc", NSEnc, local) }
	method := enc("EncryptionMethod").Set("Algorithm", transport)
	o := &rsa.OAEPOptions{Hash: crypto.SHA1, MGFHash: crypto.SHA1}
	digest := NSDSig + "sha1"
	if transport == oaep11 {
		o.Hash, o.MGFHash, digest = crypto.SHA256, crypto.SHA256, "http://www.w3.org/2001/04/xmlenc#sha256"
	}
	method.Add(New("ds", NSDSig, "DigestMethod").Set("Algorithm", digest))
	if transport == oaep11 {
		method.Add(New("xenc11", NSEnc11, "MGF").Set("Algorithm", NSEnc11+"mgf1sha256"))
	}
	key, err := rsa.EncryptOAEPWithOptions(random, to, secret, o)
	if err != nil {
		return nil, err
	}
	value := func(octets []byte) *Element {
		return enc("CipherData").Add(enc("CipherValue").AddText(base64.StdEncoding.EncodeToString(octets)))
	}
	return enc("EncryptedData").Declare("xenc", NSEnc).Declare("ds", NSDSig).Set("Type", encHeader).Add(
		enc("EncryptionMethod").Set("Algorithm", alg),
		New("ds", NSDSig, "KeyInfo").Add(enc("EncryptedKey").Add(method, value(key))),
		value(sealed)), nil
}

// EncryptionMethods are those that can be decrypted, best first, for metadata.
func EncryptionMethods() []string {
	var gcm []string
	for alg, m := range blockMethods {
		if m.gcm {
			gcm = append(gcm, alg)
		}
	}
	sort.Sort(sort.Reverse(sort.StringSlice(gcm)))
	return append(gcm, oaepMGF1, oaep11)
}
