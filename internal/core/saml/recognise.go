package saml

import (
	"bytes"
	"encoding/json"
	"encoding/pem"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/xmlsec"
)

// recognise says what a document is that should have been metadata and is not;
// nil if it may be XML.
func recognise(octets []byte) *finding.Finding {
	text := bytes.TrimSpace(bytes.TrimPrefix(octets, []byte("\xEF\xBB\xBF")))
	head := strings.ToLower(string(text[:min(len(text), 1024)]))
	beginning := finding.Fact("It begins with", excerpt(text))
	switch {
	case len(text) == 0:
		return finding.New(finding.MetadataEmpty)
	case bytes.HasPrefix(text, []byte{0xFE, 0xFF}), bytes.HasPrefix(text, []byte{0xFF, 0xFE}):
		return nil
	case text[0] != '<' && strings.Contains(head, "-----begin"):
		if block, _ := pem.Decode(text); block != nil && strings.HasSuffix(block.Type, "PRIVATE KEY") ||
			strings.Contains(head, "private key-----") {
			return finding.New(finding.MetadataPrivateKey)
		}
		return finding.New(finding.MetadataCertificate, beginning)
	case strings.HasPrefix(head, "<!doctype html"), strings.HasPrefix(head, "<html"),
		strings.Contains(head, "<html") && !strings.Contains(head, "entitydescriptor"):
		return finding.New(finding.MetadataHTML, beginning)
	case text[0] == '{' || text[0] == '[':
		if json.Valid(text) || strings.HasPrefix(strings.TrimLeft(head[1:], " \t\r\n"), `"`) {
			return finding.New(finding.MetadataJSON, beginning)
		}
		return finding.New(finding.MetadataNotXML, beginning)
	case text[0] == '<':
		return nil
	}
	if _, err := keys.ParseCertificate(octets); err == nil {
		return finding.New(finding.MetadataCertificate, finding.Fact("Form", "DER"))
	}
	if _, err := keys.ParseText(string(text)); err == nil {
		return finding.New(finding.MetadataCertificate, finding.Fact("Form", "base64 of DER"))
	}
	return finding.New(finding.MetadataNotXML, beginning)
}

// excerpt is the first line or so of a document, printable.
func excerpt(text []byte) string {
	s := strings.Map(func(r rune) rune {
		if r < 0x20 || r == 0xFFFD {
			return ' '
		}
		return r
	}, string(text[:min(len(text), 60)]))
	return strings.TrimSpace(s)
}

// kindOf names the outermost element, for people.
func kindOf(root *xmlsec.Element) string {
	if root.Space == "" {
		return root.Local
	}
	return root.Local + " in " + root.Space
}
