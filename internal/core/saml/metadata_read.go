package saml

import (
	"cmp"
	"crypto"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rsa"
	"fmt"
	"math/big"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Trusting is how far a document is trusted, and when.
type Trusting struct {
	Now time.Time
	// Keys, if any, must have made the signature of the document (SAML metadata
	// §3).
	Keys      []crypto.PublicKey
	AllowSHA1 bool
	// Entity picks one of several entities by its entity ID; Role, in the word of
	// metadata, tells which come into question.
	Entity, Role string
	// Kept says that it was read before, and is not held against itself again.
	Kept bool
}

// policy is how the signature of metadata is held against keys, or against
// itself.
func (t Trusting) policy() xmlsec.Policy {
	return xmlsec.Policy{WholeDoc: true, AllowSHA1: t.AllowSHA1, Own: ownKeys}
}

// SeveralError says that a document holds several entities, and which.
type SeveralError struct {
	*finding.Finding
	Entities []EntityName
}

// EntityName is an entity ID with the name for people.
type EntityName struct{ EntityID, Title string }

// Unwrap gives the finding.
func (e *SeveralError) Unwrap() error { return e.Finding }

// ReadMetadata reads the metadata of one entity. What is not metadata is
// recognised and said so; every refusal is a finding.
func ReadMetadata(octets []byte, now time.Time) (*Metadata, error) {
	return TakeMetadata(octets, Trusting{Now: now})
}

// TakeMetadata reads the metadata of one entity and verifies its signature, if
// there are keys to trust.
//
// What is signed although nobody vouches for the key must at least be whole.
func TakeMetadata(octets []byte, t Trusting) (*Metadata, error) {
	m, err := takeMetadata(octets, t)
	return m, ofMetadata(err)
}

func takeMetadata(octets []byte, t Trusting) (*Metadata, error) {
	if f := recognise(octets); f != nil {
		return nil, f
	}
	if n := int64(len(octets)); n > xmlsec.MessageLimits.Octets {
		return nil, TooLarge(n, xmlsec.MessageLimits.Octets)
	}
	doc, err := xmlsec.Parse(octets[xmlsec.LeadingSpace(octets):], xmlsec.MessageLimits)
	if err != nil {
		return nil, err
	}
	entity := doc.Root
	if entity.Is(NSMetadata, "EntitiesDescriptor") {
		if entity, err = pick(entity, t); err != nil {
			return nil, err
		}
	}
	if !entity.Is(NSMetadata, "EntityDescriptor") {
		return nil, finding.New(finding.MetadataNotMetadata,
			finding.Compare("Outermost element", "EntityDescriptor in "+NSMetadata, kindOf(entity)))
	}
	signed := doc.Root
	if !xmlsec.Signed(signed) {
		signed = entity
	}
	var warnings []*finding.Finding
	checked := true
	if len(t.Keys) > 0 {
		v, err := xmlsec.Verify(signed, t.Keys, t.policy())
		if err != nil {
			return nil, err
		}
		warnings = v.Warnings()
	} else if checked, err = xmlsec.Intact(signed, t.policy()); err != nil && !t.Kept {
		return nil, err
	}
	m, err := readEntity(entity, t.Now)
	if err != nil {
		return nil, err
	}
	m.SignatureMethod, m.DigestMethod = xmlsec.Methods(signed)
	if checked {
		m.SignedBy = signer(signed.Child(xmlsec.NSDSig, "Signature"))
	}
	m.Verified, m.Warnings = len(t.Keys) > 0, warnings
	return m, nil
}

// pick finds the entity that is meant: the only one, the only one with the role,
// or the one that is named.
func pick(root *xmlsec.Element, t Trusting) (*xmlsec.Element, error) {
	var found []*xmlsec.Element
	var walk func(*xmlsec.Element)
	walk = func(e *xmlsec.Element) {
		found = append(found, e.Elements(NSMetadata, "EntityDescriptor")...)
		for _, group := range e.Elements(NSMetadata, "EntitiesDescriptor") {
			walk(group)
		}
	}
	walk(root)
	if len(found) == 1 {
		return found[0], nil
	}
	var fit []*xmlsec.Element
	for _, e := range found {
		if t.Entity != "" && strings.TrimSpace(e.Attr("entityID")) == t.Entity {
			return e, nil
		}
		if t.Role == "" || e.Child(NSMetadata, t.Role) != nil {
			fit = append(fit, e)
		}
	}
	if len(fit) == 1 && t.Entity == "" {
		return fit[0], nil
	}
	return nil, several(fit, len(found), t.Entity)
}

// several offers the entities of a document by name.
func several(fit []*xmlsec.Element, all int, wanted string) error {
	e := &SeveralError{Finding: finding.New(finding.MetadataSeveral, finding.Fact("Entities", strconv.Itoa(all)))}
	var ids []string
	for _, el := range fit {
		name := EntityName{EntityID: strings.TrimSpace(el.Attr("entityID"))}
		for _, role := range el.Elements(NSMetadata, "") {
			name.Title = cmp.Or(name.Title, title(el, role))
		}
		e.Entities, ids = append(e.Entities, name), append(ids, name.EntityID)
	}
	if wanted != "" {
		e.Finding = e.With(finding.Fact("None of them is", wanted))
		if near := nearword.Of(wanted, ids); near != "" {
			e.Finding = e.With(finding.Fact("Near to it", near))
		}
	}
	for _, name := range e.Entities[:min(10, len(e.Entities))] {
		e.Finding = e.With(finding.Fact("Entity", strings.TrimSpace(name.EntityID+"  "+name.Title)))
	}
	return e
}

// TooLarge says that metadata is larger than what is read of one entity, both in
// octets.
func TooLarge(size, limit int64) *finding.Finding {
	mega := func(n int64) string { return fmt.Sprintf("%.1f MB", float64(n)/1e6) }
	f := finding.New(finding.MetadataTooLarge)
	if size > limit {
		f = f.With(finding.Fact("Size", mega(size)))
	}
	return f.With(finding.Fact("At most", mega(limit)))
}

// inMetadata are the findings on messages in their words about metadata.
var inMetadata = map[finding.Code]finding.Code{
	finding.SignatureMissing: finding.MetadataUnsigned, finding.SignatureKey: finding.MetadataOtherSigner,
	finding.SignatureAltered: finding.MetadataAltered, finding.MessageUndecodable: finding.MetadataValue,
}

// ofMetadata has an error speak of metadata, not of messages.
func ofMetadata(err error) error {
	if f := finding.Of(err); f != nil {
		if code, ok := inMetadata[f.Code]; ok {
			return finding.New(code, f.Evidence...)
		}
	}
	return err
}

// ownKeys reads the keys that a signature names itself. They prove nothing about
// who made it.
func ownKeys(info *xmlsec.Element) (out []crypto.PublicKey) {
	ks, err := keysIn(info, map[string]keys.Certificate{})
	if err != nil {
		return nil
	}
	for _, c := range ks {
		out = append(out, c.Public)
	}
	return out
}

// signer says in words whose key a signature names.
func signer(signature *xmlsec.Element) string {
	var ks []keys.Certificate
	var err error
	if info := signature.Child(xmlsec.NSDSig, "KeyInfo"); info != nil {
		ks, err = keysIn(info, map[string]keys.Certificate{})
	}
	switch {
	case err != nil || len(ks) == 0:
		return "an unnamed key"
	case ks[0].DER == nil:
		return "a bare key, " + ks[0].Describe() + ", SHA-256 " + ks[0].Fingerprint()
	case ks[0].X509 == nil:
		return "SHA-256 " + ks[0].SHA256()
	}
	return ks[0].X509.Subject.String() + ", SHA-256 " + ks[0].SHA256()
}

func readEntity(entity *xmlsec.Element, now time.Time) (*Metadata, error) {
	written := entity.Attr("entityID")
	id, err := ParseEntityID(strings.TrimSpace(written))
	if err != nil {
		return nil, finding.New(finding.MetadataEntityID, finding.Fact("Characters",
			strconv.Itoa(len([]rune(strings.TrimSpace(written))))))
	}
	m := &Metadata{EntityID: id, Trimmed: trimmed(entity)}
	if written != string(id) {
		m.Written = written
	}
	holders := append([]*xmlsec.Element{entity}, entity.Elements(NSMetadata, "")...)
	for group := entity.Parent; group != nil; group = group.Parent {
		holders = append(holders, group)
	}
	for _, holder := range holders {
		until, cache, err := lifetime(holder)
		if err != nil {
			return nil, err
		}
		if !until.IsZero() && (m.ValidUntil.IsZero() || until.Before(m.ValidUntil)) {
			m.ValidUntil = until
		}
		if cache > 0 && (m.CacheDuration == 0 || cache < m.CacheDuration) {
			m.CacheDuration = cache
		}
	}
	if !m.ValidUntil.IsZero() && !now.Before(m.ValidUntil) {
		return nil, pastValidity(m.ValidUntil, now)
	}
	algorithms := announced(entity)
	for _, role := range entity.Elements(NSMetadata, "") {
		if !slices.Contains(strings.Fields(role.Attr("protocolSupportEnumeration")), NSProtocol) {
			continue
		}
		switch {
		case role.Local == "IDPSSODescriptor" && m.IDP == nil:
			ks, err := readKeys(role)
			if err != nil {
				return nil, err
			}
			m.IDP = &IDP{EntityID: m.EntityID, Title: title(entity, role), SSO: endpoints(role, "SingleSignOnService"),
				Artifact: endpoints(role, "ArtifactResolutionService"), Keys: ks,
				Algorithms: append(announced(role), algorithms...), NameIDFormats: formats(role),
				WantAuthnRequestsSigned: parseBool(role.Attr("WantAuthnRequestsSigned"))}
		case role.Local == "SPSSODescriptor" && m.SP == nil:
			ks, err := readKeys(role)
			if err != nil {
				return nil, err
			}
			m.SP = &SP{EntityID: m.EntityID, Title: title(entity, role), ACS: endpoints(role, "AssertionConsumerService"),
				Keys: ks, Start: initiator(role),
				Algorithms: append(announced(role), algorithms...), NameIDFormats: formats(role),
				AuthnRequestsSigned:  parseBool(role.Attr("AuthnRequestsSigned")),
				WantAssertionsSigned: parseBool(role.Attr("WantAssertionsSigned")), Requested: requested(role)}
		}
	}
	return m, nil
}

// mostRequested bounds what is read of what an application asks for, in attributes, and
// of a name in octets.
const mostRequested, longestName = 200, 2000

// requested are the attributes of all its services, each once.
func requested(role *xmlsec.Element) (out []RequestedAttribute) {
	for _, service := range role.Elements(NSMetadata, "AttributeConsumingService") {
		for _, e := range service.Elements(NSMetadata, "RequestedAttribute") {
			a := RequestedAttribute{Name: strings.TrimSpace(e.Attr("Name")), NameFormat: e.Attr("NameFormat"),
				FriendlyName: e.Attr("FriendlyName"), Required: parseBool(e.Attr("isRequired"))}
			at := slices.IndexFunc(out, func(b RequestedAttribute) bool {
				return b.Name == a.Name && b.NameFormat == a.NameFormat
			})
			switch {
			case at >= 0:
				out[at].Required = out[at].Required || a.Required
			case a.Name != "" && len(a.Name+a.NameFormat+a.FriendlyName) <= longestName && len(out) < mostRequested:
				out = append(out, a)
			}
		}
	}
	return out
}

// trimmed are the addresses around which white space stands.
func trimmed(entity *xmlsec.Element) (out []Trimmed) {
	for _, role := range entity.Elements(NSMetadata, "") {
		for _, e := range role.Elements(NSMetadata, "") {
			if at := e.Attr("Location"); at != strings.TrimSpace(at) && len(out) < 20 {
				out = append(out, Trimmed{Label: e.Local, Written: at})
			}
		}
	}
	return out
}

func pastValidity(until, now time.Time) *finding.Finding {
	return finding.New(finding.MetadataExpired, finding.Fact("validUntil", formatTime(until)),
		finding.Fact("Now", formatTime(now)))
}

// lifetime reads validUntil and cacheDuration (SAML metadata §2.3.1, §2.3.2).
func lifetime(holder *xmlsec.Element) (until time.Time, cache time.Duration, err error) {
	if until, err = optionalTime(holder, "validUntil"); err != nil {
		return
	}
	if s, ok := holder.LookAttr("", "cacheDuration"); ok {
		if cache, ok = parseDuration(s); !ok {
			err = finding.New(finding.MessageUndecodable, finding.Fact("cacheDuration of <"+holder.Local+">", s))
		}
	}
	return
}

const (
	nsAlgorithms = "urn:oasis:names:tc:SAML:metadata:algsupport"
	nsInitiator  = "urn:oasis:names:tc:SAML:profiles:SSO:request-init"
)

// announced are the signature and digest methods that an entity or role says it
// supports (SAML metadata profile for algorithm support 1.0 §2).
func announced(holder *xmlsec.Element) (out []string) {
	if ext := holder.Child(NSMetadata, "Extensions"); ext != nil {
		for _, local := range []string{"SigningMethod", "DigestMethod"} {
			for _, m := range ext.Elements(nsAlgorithms, local) {
				out = append(out, m.Attr("Algorithm"))
			}
		}
	}
	return out
}

// initiator is where an application can be told to start a sign-in (SAML request
// initiation protocol 1.0 §2.5).
func initiator(role *xmlsec.Element) string {
	if ext := role.Child(NSMetadata, "Extensions"); ext != nil {
		if i := ext.Child(nsInitiator, "RequestInitiator"); i != nil && usableAddress(i.Attr("Location")) {
			return i.Attr("Location")
		}
	}
	return ""
}

// Roles are the roles of SAML 2.0 that the entity has, in the words of metadata.
func (m *Metadata) Roles() (r []string) {
	if m.IDP != nil {
		r = append(r, "IDPSSODescriptor")
	}
	if m.SP != nil {
		r = append(r, "SPSSODescriptor")
	}
	return r
}

func roles(m *Metadata) string {
	r := m.Roles()
	if r == nil {
		return "no role of SAML 2.0"
	}
	return strings.Join(r, " and ")
}

// AsProvider takes the identity provider role and sees that it can be used.
func (m *Metadata) AsProvider() (*IDP, error) {
	if m.IDP == nil {
		return nil, finding.New(finding.MetadataRole, finding.Compare("Role", "IDPSSODescriptor", roles(m)))
	}
	if _, ok := m.IDP.SSOBy(""); !ok {
		return nil, finding.New(finding.MetadataNoEndpoint, finding.Compare("SingleSignOnService",
			"one by HTTP-Redirect or HTTP-POST", describe(m.IDP.SSO))).From(finding.Provider)
	}
	if len(SigningKeys(m.IDP.Keys)) == 0 {
		return nil, finding.New(finding.MetadataNoKey).From(finding.Provider)
	}
	return m.IDP, nil
}

// AsApplication takes the service provider role and sees that it can be used.
func (m *Metadata) AsApplication() (*SP, error) {
	if m.SP == nil {
		return nil, finding.New(finding.MetadataRole, finding.Compare("Role", "SPSSODescriptor", roles(m)))
	}
	if _, ok := m.SP.DefaultACS(); !ok {
		return nil, finding.New(finding.MetadataNoEndpoint, finding.Compare("AssertionConsumerService",
			"one by HTTP-POST or HTTP-Artifact",
			describe(m.SP.ACS))).From(finding.Application)
	}
	return m.SP, nil
}

func describe(es []Endpoint) string {
	var parts []string
	for _, e := range es {
		parts = append(parts, e.Binding[strings.LastIndex(e.Binding, ":")+1:]+" "+e.Location)
	}
	return strings.Join(parts, ", ")
}

func endpoints(role *xmlsec.Element, local string) []Endpoint {
	var out []Endpoint
	for _, e := range role.Elements(NSMetadata, local) {
		ep := Endpoint{Binding: e.Attr("Binding"), Location: strings.TrimSpace(e.Attr("Location"))}
		if !usableAddress(ep.Location) {
			continue
		}
		ep.Index, _ = strconv.Atoi(e.Attr("index"))
		if s, ok := e.LookAttr("", "isDefault"); ok {
			b := parseBool(s)
			ep.Default = &b
		}
		out = append(out, ep)
	}
	return out
}

// formats are the NameID formats that a role names (SAML metadata §2.4.2).
func formats(role *xmlsec.Element) (out []NameIDFormat) {
	for _, e := range role.Elements(NSMetadata, "NameIDFormat") {
		if v, ok := e.Value(); ok && v != "" {
			out = append(out, NameIDFormat(v))
		}
	}
	return out
}

// title is the name for people: mdui:DisplayName, else OrganizationDisplayName,
// in English if there is a choice.
func title(entity, role *xmlsec.Element) string {
	pick := func(list []*xmlsec.Element) string {
		best := ""
		for _, e := range list {
			v, _ := e.Value()
			if lang, _ := e.LookAttr(xmlsec.NSXML, "lang"); best == "" || lang == "en" {
				best = v
			}
		}
		return best
	}
	if ext := role.Child(NSMetadata, "Extensions"); ext != nil {
		if info := ext.Child(NSUI, "UIInfo"); info != nil {
			if t := pick(info.Elements(NSUI, "DisplayName")); t != "" {
				return t
			}
		}
	}
	if org := entity.Child(NSMetadata, "Organization"); org != nil {
		return pick(org.Elements(NSMetadata, "OrganizationDisplayName"))
	}
	return ""
}

func readKeys(role *xmlsec.Element) ([]Key, error) {
	var out []Key
	known := map[string]keys.Certificate{} // the same one often stands for signing and encryption
	for _, kd := range role.Elements(NSMetadata, "KeyDescriptor") {
		info := kd.Child(xmlsec.NSDSig, "KeyInfo")
		if info == nil {
			continue
		}
		var methods []string
		for _, m := range kd.Elements(NSMetadata, "EncryptionMethod") {
			methods = append(methods, m.Attr("Algorithm"))
		}
		certs, err := keysIn(info, known)
		if f := finding.Of(err); f != nil {
			return nil, f.With(finding.Fact("KeyDescriptor", kd.Attr("use")))
		}
		for _, c := range certs {
			out = append(out, Key{Use: kd.Attr("use"), Certificate: c, Methods: methods})
		}
	}
	return out, nil
}

// keysIn reads the certificates of a KeyInfo, or its bare key (XML Signature 1.1
// §4.5). known holds those that were read before, by their text.
func keysIn(info *xmlsec.Element, known map[string]keys.Certificate) (out []keys.Certificate, err error) {
	for _, data := range info.Elements(xmlsec.NSDSig, "X509Data") {
		for _, c := range data.Elements(xmlsec.NSDSig, "X509Certificate") {
			text, _ := c.Value()
			cert, again := known[text]
			if !again {
				if cert, err = keys.ParseText(text); err != nil {
					return nil, finding.New(finding.MetadataBadKey, finding.Fact("Cause", err.Error()))
				}
				known[text] = cert
			}
			out = append(out, cert)
		}
	}
	if value := info.Child(xmlsec.NSDSig, "KeyValue"); value != nil && len(out) == 0 {
		public, err := keyValue(value)
		if err != nil {
			return nil, err
		}
		out = append(out, keys.Certificate{Public: public})
	}
	return out, nil
}

// keyValue reads a bare key (XML Signature 1.1 §4.5.2).
func keyValue(v *xmlsec.Element) (crypto.PublicKey, error) {
	bad := func(cause string) error {
		return finding.New(finding.MetadataBadKey, finding.Fact("KeyValue", cause))
	}
	if r := v.Child(xmlsec.NSDSig, "RSAKeyValue"); r != nil {
		n, err1 := xmlsec.Base64(childValue(r, xmlsec.NSDSig, "Modulus"))
		e, err2 := xmlsec.Base64(childValue(r, xmlsec.NSDSig, "Exponent"))
		exp := new(big.Int).SetBytes(e)
		if err1 != nil || err2 != nil || len(n) == 0 || !exp.IsInt64() || exp.Int64() < 3 || exp.Int64() > 1<<31-1 {
			return nil, bad("the RSA modulus or exponent is not readable")
		}
		return &rsa.PublicKey{N: new(big.Int).SetBytes(n), E: int(exp.Int64())}, nil
	}
	const ns11 = "http://www.w3.org/2009/xmldsig11#"
	if ec := v.Child(ns11, "ECKeyValue"); ec != nil {
		curve, ok := map[string]elliptic.Curve{"urn:oid:1.2.840.10045.3.1.7": elliptic.P256(),
			"urn:oid:1.3.132.0.34": elliptic.P384(), "urn:oid:1.3.132.0.35": elliptic.P521()}[namedCurve(ec, ns11)]
		point, err := xmlsec.Base64(childValue(ec, ns11, "PublicKey"))
		if !ok || err != nil {
			return nil, bad("the curve or point is not readable")
		}
		k, err := ecdsa.ParseUncompressedPublicKey(curve, point)
		if err != nil {
			return nil, bad(err.Error())
		}
		return k, nil
	}
	return nil, bad("neither RSA nor EC")
}

func namedCurve(ec *xmlsec.Element, ns string) string {
	if c := ec.Child(ns, "NamedCurve"); c != nil {
		return c.Attr("URI")
	}
	return ""
}

// publicKeys are the keys that may verify what the holder signed.
func publicKeys(all []Key) []crypto.PublicKey {
	var out []crypto.PublicKey
	for _, k := range SigningKeys(all) {
		out = append(out, k.Certificate.Public)
	}
	return out
}

// TrustKeys are the keys of certificates, to verify metadata with.
func TrustKeys(certs ...keys.Certificate) []crypto.PublicKey {
	out := []crypto.PublicKey{}
	for _, c := range certs {
		out = append(out, c.Public)
	}
	return out
}
