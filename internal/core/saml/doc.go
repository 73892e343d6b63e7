// Package saml speaks SAML 2.0 in both roles: it reads and writes metadata,
// AuthnRequests and Responses, by the Redirect and POST bindings.
//
// The files are named for the document and the role. Reading is strict about
// who may say what, lenient about how it is written. A Response is read in two
// stages, because between them the caller must see whether the assertion was
// used before:
//
//	message, err := saml.ReadResponse(octets)            // once
//	opened, err := message.Open(idp, trust, &checks)     // signatures
//	// … has opened.AssertionID been consumed? …
//	assertion, err := opened.Check(expect, &checks)        // everything else
//
// Sources: OASIS SAML 2.0 core, bindings, profiles, metadata, with errata 05.
package saml

// Namespaces (SAML core §1.2, metadata §1.1).
const (
	NSProtocol  = "urn:oasis:names:tc:SAML:2.0:protocol"
	NSAssertion = "urn:oasis:names:tc:SAML:2.0:assertion"
	NSMetadata  = "urn:oasis:names:tc:SAML:2.0:metadata"
	NSUI        = "urn:oasis:names:tc:SAML:metadata:ui"
)

// Bindings (SAML bindings §3).
const (
	BindingRedirect = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Redirect"
	BindingPOST     = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-POST"
	BindingArtifact = "urn:oasis:names:tc:SAML:2.0:bindings:HTTP-Artifact"
)

// NameID formats (SAML core §8.3).
const (
	FormatUnspecified NameIDFormat = "urn:oasis:names:tc:SAML:1.1:nameid-format:unspecified"
	FormatEmail       NameIDFormat = "urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress"
	FormatPersistent  NameIDFormat = "urn:oasis:names:tc:SAML:2.0:nameid-format:persistent"
	FormatTransient   NameIDFormat = "urn:oasis:names:tc:SAML:2.0:nameid-format:transient"
	FormatEntity      NameIDFormat = "urn:oasis:names:tc:SAML:2.0:nameid-format:entity"
	formatMistyped    NameIDFormat = "urn:oasis:names:tc:SAML:2.0:nameid-format:emailAddress"
)

// Status codes (SAML core §3.2.2.2).
const (
	StatusSuccess             = "urn:oasis:names:tc:SAML:2.0:status:Success"
	StatusRequester           = "urn:oasis:names:tc:SAML:2.0:status:Requester"
	StatusResponder           = "urn:oasis:names:tc:SAML:2.0:status:Responder"
	StatusAuthnFailed         = "urn:oasis:names:tc:SAML:2.0:status:AuthnFailed"
	StatusInvalidNameIDPolicy = "urn:oasis:names:tc:SAML:2.0:status:InvalidNameIDPolicy"
	StatusNoAuthnContext      = "urn:oasis:names:tc:SAML:2.0:status:NoAuthnContext"
	StatusNoPassive           = "urn:oasis:names:tc:SAML:2.0:status:NoPassive"
	StatusUnknownPrincipal    = "urn:oasis:names:tc:SAML:2.0:status:UnknownPrincipal"
	StatusRequestDenied       = "urn:oasis:names:tc:SAML:2.0:status:RequestDenied"
	StatusProxyCountExceeded  = "urn:oasis:names:tc:SAML:2.0:status:ProxyCountExceeded"
)

const (
	methodBearer = "urn:oasis:names:tc:SAML:2.0:cm:bearer"
	// NameFormatURI says that an attribute's name is a URI (SAML core §8.2.2).
	NameFormatURI = "urn:oasis:names:tc:SAML:2.0:attrname-format:uri"
	formatBasic   = "urn:oasis:names:tc:SAML:2.0:attrname-format:basic"
	// ContextUnspecified says nothing about how the person signed in (SAML
	// authentication context §3.4.25).
	ContextUnspecified = "urn:oasis:names:tc:SAML:2.0:ac:classes:unspecified"
	// ContextPassword is a password over a protected connection (§3.4.9).
	ContextPassword = "urn:oasis:names:tc:SAML:2.0:ac:classes:PasswordProtectedTransport"
)
