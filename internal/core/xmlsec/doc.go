// Package xmlsec reads XML that strangers sent, canonicalises it, and verifies
// and makes XML signatures.
//
// There is one mechanism for all of it. [Reader] turns octets into events, with
// namespaces resolved and limits kept, in bounded memory. Events become
// canonical octets ([Canonicalizer]), a small tree ([Parse]), or both at once.
// A tree gives the same events again, so a digest is computed by the same code
// whether the document is a 5 KB answer or a 100 MB aggregate.
//
// What may be believed is a type: [Verify] returns a [Verified], and code that
// reads identities takes a Verified, never an [Element].
//
//	doc, err := xmlsec.Parse(octets, xmlsec.MessageLimits)
//	if err != nil { … }                       // a finding, e.g. xml-doctype
//	v, err := xmlsec.Verify(doc.Root, keys, xmlsec.Policy{})
//	if err != nil { … }                       // e.g. signature-altered
//	use(v.Element())
//
// Sources: XML 1.0 (fifth edition), Namespaces in XML 1.0, Canonical XML 1.0,
// Exclusive XML Canonicalization 1.0, XML Signature 1.1, and the profile of
// them in SAML core 2.0 §5.
package xmlsec

// Namespaces used by this package.
const (
	NSXML   = "http://www.w3.org/XML/1998/namespace"
	NSXMLNS = "http://www.w3.org/2000/xmlns/"
	NSDSig  = "http://www.w3.org/2000/09/xmldsig#"
	NSExcl  = "http://www.w3.org/2001/10/xml-exc-c14n#"
	NSXS    = "http://www.w3.org/2001/XMLSchema"
	NSXSI   = "http://www.w3.org/2001/XMLSchema-instance"
)
