package finding

// Entry is one row of the catalogue.
type Entry struct {
	Code     Code
	Severity Severity
	Side     Side
	Title    string // what is wrong, one clause
	Remedy   string // who changes what to which value
	When     string // when it occurs, with its source
}

// Codes of reading XML.
const (
	XMLDoctype   Code = "xml-doctype"
	XMLMalformed Code = "xml-malformed"
	XMLTooLarge  Code = "xml-too-large"
	XMLTooDeep   Code = "xml-too-deep"
	XMLEncoding  Code = "xml-encoding"
	XMLDuplicate Code = "xml-duplicate-id"
)

// Codes of XML signatures.
const (
	SignatureMissing   Code = "signature-missing"
	SignatureLayout    Code = "signature-layout"
	SignatureReference Code = "signature-reference"
	SignatureTransform Code = "signature-transform"
	SignatureMethod    Code = "signature-method"
	SignatureSHA1      Code = "signature-sha1"
	SignatureAltered   Code = "signature-altered"
	SignatureKey       Code = "signature-key"
	SignatureNoKey     Code = "signature-no-key"
	SignatureInclusive Code = "signature-inclusive-c14n"
	CertificateExpired Code = "certificate-expired"
	CertificateOdd     Code = "certificate-odd"
)

// Codes of metadata.
const (
	MetadataEmpty       Code = "metadata-empty"
	MetadataHTML        Code = "metadata-html"
	MetadataJSON        Code = "metadata-json"
	MetadataCertificate Code = "metadata-certificate"
	MetadataPrivateKey  Code = "metadata-private-key"
	MetadataNotXML      Code = "metadata-not-xml"
	MetadataNotMetadata Code = "metadata-other-document"
	MetadataSeveral     Code = "metadata-several-entities"
	MetadataRole        Code = "metadata-role"
	MetadataNoEndpoint  Code = "metadata-no-endpoint"
	MetadataNoKey       Code = "metadata-no-key"
	MetadataBadKey      Code = "metadata-bad-key"
	MetadataExpired     Code = "metadata-expired"
	MetadataEntityID    Code = "metadata-entity-id"
	MetadataKnown       Code = "metadata-entity-known"
	MetadataTooLarge    Code = "metadata-too-large"
	MetadataUnsigned    Code = "metadata-unsigned"
	MetadataOtherSigner Code = "metadata-other-signer"
	MetadataAltered     Code = "metadata-altered"
	MetadataValue       Code = "metadata-value"
	MetadataUnvouched   Code = "metadata-unvouched"
	AddressUnreachable  Code = "address-unreachable"
	AddressRefused      Code = "address-refused"
	NameMalformed       Code = "name-malformed"
	NameTaken           Code = "name-taken"
)

// Codes of aggregates and of keeping metadata fresh.
const (
	AggregateOther      Code = "aggregate-other-document"
	AggregateEmpty      Code = "aggregate-empty"
	AggregateTwice      Code = "aggregate-entity-twice"
	AggregateNoRole     Code = "aggregate-entity-role"
	AggregateUnverified Code = "aggregate-unverified"
	AggregateGone       Code = "aggregate-entity-gone"
	AggregateUnknown    Code = "aggregate-entity-unknown"
	AggregateDamaged    Code = "aggregate-damaged"
	AggregateTooLarge   Code = "aggregate-too-large"
	ChangedEntityID     Code = "changed-entity-id"
	ChangedKey          Code = "changed-key"
	ChangedAddress      Code = "changed-address"
	ChangedAlgorithm    Code = "changed-algorithm"
	ChangeDeclined      Code = "change-declined"
	ChangeWaiting       Code = "change-waiting"
	SinceThePreview     Code = "changed-since-preview"
	RefreshFailed       Code = "refresh-failed"
)

// Codes of checks before sign-in.
const (
	DraftIncomplete      Code = "draft-incomplete"
	EntityIDNear         Code = "entity-id-near"
	ValueTrimmed         Code = "value-trimmed"
	EntityIDTwice        Code = "entity-id-twice"
	ProviderIsGate       Code = "provider-is-gate"
	AddressNear          Code = "address-near"
	AddressPlain         Code = "address-http"
	AddressLoopback      Code = "address-loopback"
	EntityIDMoving       Code = "entity-id-moving"
	ExceptionInForce     Code = "exception-in-force"
	BasePlain            Code = "base-http"
	BaseChanged          Code = "base-changed"
	OwnKeyEnding         Code = "own-key-ending"
	CertificateOfGate    Code = "certificate-of-gate"
	AddressForeign       Code = "address-foreign-host"
	BindingNoneCommon    Code = "binding-none-common"
	ArtifactOnly         Code = "artifact-only"
	NameIDNoneCommon     Code = "nameid-none-common"
	MetadataSHA1         Code = "metadata-sha1"
	AlgorithmsSHA1       Code = "algorithms-sha1"
	ECDSAAnnounced       Code = "ecdsa-announced"
	CertificateSHA1      Code = "certificate-sha1"
	KeyWeak              Code = "key-weak"
	CertificateNotYet    Code = "certificate-not-yet-valid"
	CertificateExpiring  Code = "certificate-expiring"
	CertificateBothSides Code = "certificate-both-sides"
	CertificateCA        Code = "certificate-ca"
	RequestsSignedNoKey  Code = "requests-signed-no-key"
	RequestsUnsigned     Code = "requests-unsigned"
	AssertionUnsigned    Code = "assertion-unsigned"
	EncryptionNoKey      Code = "encryption-no-key"
	EncryptionNoneCommon Code = "encryption-none-common"
	MetadataExpiring     Code = "metadata-expiring"
	OwnStartMissing      Code = "own-start-missing"
	EndpointUnreachable  Code = "endpoint-unreachable"
	ClockApart           Code = "clock-apart"
)

// Codes of OpenID Connect and OAuth 2.0.
const (
	OAuthRequest            Code = "oauth-request"
	RedirectUnregistered    Code = "redirect-uri-unregistered"
	PKCEMissing             Code = "pkce-missing"
	PKCEOther               Code = "pkce-other"
	ClientUnproved          Code = "client-unproved"
	ClientSecretOther       Code = "client-secret-other"
	ClientAssertionAudience Code = "client-assertion-audience"
	ClientAssertionTwice    Code = "client-assertion-twice"
	ClientLocked            Code = "client-locked"
	GrantOther              Code = "grant-other"
	GrantTwice              Code = "grant-twice"
	GrantExpired            Code = "grant-expired"
	GrantEnded              Code = "grant-ended"
	GrantProvider           Code = "grant-provider"
	GrantUnlinked           Code = "grant-unlinked"
	PersonDisabled          Code = "person-disabled"
	AccessDenied            Code = "access-denied"
	AccessNobody            Code = "access-nobody"
	AccessKeptOut           Code = "access-kept-out"
	NotInCohort             Code = "not-in-cohort"
	CohortEverybody         Code = "cohort-everybody"
	CohortEmpty             Code = "cohort-empty"
	PilotStands             Code = "pilot-stands"
	GroupValueUnknown       Code = "group-value-unknown"
	GroupValueSilent        Code = "group-value-silent"
	RoleNotHeld             Code = "role-not-held"
	RoleNone                Code = "role-none"
	RoleLost                Code = "role-lost"
	RoleUnsent              Code = "role-unsent"
	RoleBroken              Code = "role-broken"
	RoleValuesAlike         Code = "role-values-alike"
	RequestUnmailed         Code = "request-unmailed"
	ApprovalAlone           Code = "approval-alone"
	AccessUndecided         Code = "access-undecided"
	AdmissionEnded          Code = "admission-ended"
	RuleContradicts         Code = "rule-contradicts"
	RuleNever               Code = "rule-never"
	RuleValueUnknown        Code = "rule-value-unknown"
	DomainPublic            Code = "domain-public"
	WayOther                Code = "way-other"
	WayLost                 Code = "way-lost"
	WayShadowed             Code = "way-shadowed"
	WayDead                 Code = "way-dead"
	WayNone                 Code = "way-none"
	WayUnused               Code = "way-unused"
	WayNever                Code = "way-never"
	DomainPaused            Code = "domain-paused"
	AccessUnlinked          Code = "access-unlinked"
	AccessStepUp            Code = "access-step-up"
	AccessEmpty             Code = "access-empty"
	RuleEnded               Code = "rule-ended"
	RuleShadowed            Code = "rule-shadowed"
	RuleBroken              Code = "rule-broken"
	PersonUnknown           Code = "person-unknown"
	MatchSeveral            Code = "match-several"
	MatchLinked             Code = "match-linked"
	MatchMany               Code = "match-many"
	MatchUnproved           Code = "match-unproved"
	MatchAlike              Code = "match-alike"
	MatchOpen               Code = "match-open"
	QuestionNeeded          Code = "question-needed"
	MailUnreached           Code = "mail-unreached"
	MailMissing             Code = "mail-missing"
	CodeGuessed             Code = "code-guessed"
	CodeMails               Code = "code-mails"
	MailLimit               Code = "mail-limit"
	UnitUsed                Code = "unit-used"
	ScopeGrown              Code = "scope-grown"
	ConsentNeeded           Code = "consent-needed"
	ConsentDeclined         Code = "consent-declined"
	NameShared              Code = "name-shared"
	SubjectIsClient         Code = "subject-is-client"
	SecretEnding            Code = "secret-ending"
	SecretEnded             Code = "secret-ended"
	ClientDemands           Code = "client-demands"
	RedirectLoopback        Code = "redirect-uri-loopback"
	IdentifierUsed          Code = "identifier-used-before"
	JWKWithoutUse           Code = "jwk-without-use"
	ClientMetadata          Code = "client-metadata"
	JWKSUnusable            Code = "jwks-unusable"
	TokenMalformed          Code = "token-malformed"
	TokenEncrypted          Code = "token-encrypted"
	TokenAlgorithm          Code = "token-algorithm"
	TokenKind               Code = "token-kind"
	TokenKey                Code = "token-key"
	TokenAltered            Code = "token-altered"
)

// Codes of relying on OpenID and OAuth 2.0 providers.
const (
	DiscoveryUnusable  Code = "discovery-unusable"
	DiscoveryIssuer    Code = "discovery-issuer"
	DiscoveryElsewhere Code = "discovery-elsewhere"
	IssuerSlash        Code = "issuer-slash"
	AnswerMalformed    Code = "answer-malformed"
	AnswerUnasked      Code = "answer-unasked"
	AnswerIssuer       Code = "answer-issuer"
	AnswerTwice        Code = "answer-twice"
	ProviderDenied     Code = "provider-denied"
	ProviderRequest    Code = "provider-refuses-request"
	ProviderBusy       Code = "provider-busy"
	ProviderFailed     Code = "provider-failed"
	ClientRefused      Code = "client-refused"
	CodeRefused        Code = "code-refused"
	TokenRefused       Code = "token-refused"
	TokenAnswerOdd     Code = "token-answer-odd"
	TokenUnreached     Code = "token-endpoint-unreachable"
	IDTokenMissing     Code = "id-token-missing"
	TokenIssuer        Code = "token-issuer"
	TokenAudience      Code = "token-audience"
	TokenParty         Code = "token-authorized-party"
	TokenExpired       Code = "token-expired"
	TokenNotYet        Code = "token-not-yet-valid"
	TokenNonce         Code = "token-nonce"
	TokenHash          Code = "token-hash"
	TokenSubject       Code = "token-subject"
	TokenClaim         Code = "token-claim"
	TenantRefused      Code = "tenant-refused"
	ClaimRefused       Code = "claim-refused"
	UserInfoOdd        Code = "user-info-odd"
	UserInfoRefused    Code = "user-info-refused"
	UserInfoSubject    Code = "user-info-subject"
	UserInfoUnreached  Code = "user-info-unreachable"
	IdentifierMissing  Code = "identifier-missing"
	IdentifierMutable  Code = "identifier-mutable"
	LogoutTokenRefused Code = "logout-token-refused"
	ClaimsApart        Code = "claims-apart"
	ClaimsElsewhere    Code = "claims-elsewhere"
	GroupsElsewhere    Code = "groups-too-many"
	RequiresUnoffered  Code = "requires-unoffered"
	SecretIsIdentifier Code = "secret-is-identifier"
	SecretSpace        Code = "secret-white-space"
	OurSecretEnding    Code = "secret-at-provider-ending"
	OurSecretEnded     Code = "secret-at-provider-ended"
	ScopeWithoutOpenID Code = "scope-openid-missing"
	ScopeUnknown       Code = "scope-unknown"
	AlgorithmUnoffered Code = "algorithm-unoffered"
	PKCEUnoffered      Code = "pkce-unoffered"
	MethodUnoffered    Code = "client-authentication-unoffered"
	ResponseUnoffered  Code = "response-type-unoffered"
	EndpointElsewhere  Code = "endpoint-other-host"
	JWKSUnavailable    Code = "jwks-unavailable"
	CrossingLeft       Code = "crossing-left"
	RequestRefused     Code = "authorization-request-refused"
	UpstreamEnded      Code = "upstream-ended"
)

// Codes of messages in a crossing.
const (
	MessageUndecodable    Code = "message-undecodable"
	MessageOther          Code = "message-other"
	ResponseStatus        Code = "response-status"
	ResponseNoAssertion   Code = "response-assertions"
	ResponseEncrypted     Code = "response-encrypted"
	IssuerOther           Code = "issuer-other"
	IssuerMissing         Code = "issuer-missing"
	DestinationOther      Code = "destination-other"
	DestinationMissing    Code = "destination-missing"
	AudienceOther         Code = "audience-other"
	AudienceMissing       Code = "audience-missing"
	RecipientOther        Code = "recipient-other"
	ConfirmationMissing   Code = "confirmation-missing"
	AssertionExpired      Code = "assertion-expired"
	AssertionNotYetValid  Code = "assertion-not-yet-valid"
	ConditionUnknown      Code = "condition-unknown"
	AuthnStatementMissing Code = "authn-statement-missing"
	ProxyForbidden        Code = "proxy-forbidden"
	ValueNotXML           Code = "value-not-xml"
	NameIDMissing         Code = "nameid-missing"
	NameIDMistyped        Code = "nameid-format-mistyped"
	InResponseToOther     Code = "in-response-to-other"
	InResponseToMixed     Code = "in-response-to-mixed"
	UnsolicitedRefused    Code = "unsolicited-refused"
	AssertionReplayed     Code = "assertion-replayed"
	AuthnTimeMissing      Code = "authn-time-missing"
	AuthnTooOld           Code = "authn-too-old"
	ContextOther          Code = "authn-context-other"
	ContextImpossible     Code = "authn-context-impossible"
	SubjectOther          Code = "subject-other"
	CrossingTurns         Code = "crossing-turns"
	CrossingUnknown       Code = "crossing-unknown"
	CrossingOtherBrowser  Code = "crossing-other-browser"
	CrossingEnded         Code = "crossing-ended"
	RehearsalOver         Code = "rehearsal-over"
	RehearsalUnfinished   Code = "rehearsal-unfinished"
	RehearsalLink         Code = "rehearsal-link"
	RehearsalNever        Code = "rehearsal-never"
	RehearsalUndriven     Code = "rehearsal-undriven"
	ApplicationRefuses    Code = "application-refuses"
	TestAccountRefused    Code = "test-account-refused"
	TestAccountHosts      Code = "test-account-hosts"
	TestAccountMissing    Code = "test-account-missing"
	StartUnknown          Code = "start-unknown"
	StartPointUnknown     Code = "start-point-unknown"
	ApplicationUnknown    Code = "application-unknown"
	ProviderUnknown       Code = "provider-unknown"
	NoProvider            Code = "no-provider"
	ACSUnregistered       Code = "acs-unregistered"
	BindingUnsupported    Code = "binding-unsupported"
	RequestExpired        Code = "request-expired"
	RequestUnverified     Code = "request-unverified"
	NameIDPolicyUnmet     Code = "nameid-policy-unmet"
	AttributeMissing      Code = "attribute-missing"
	ReleaseMissing        Code = "release-missing"
	NothingSaid           Code = "nothing-said"
	AttributeUnsent       Code = "attribute-unsent"
	ProfileUnmade         Code = "profile-unmade"
	ScopeUnneeded         Code = "scope-unneeded"
	ScopeNeeded           Code = "scope-needed"
	EntryLost             Code = "entry-lost"
	NoticeUnanswered      Code = "notice-unanswered"
	EventsUnheard         Code = "events-unheard"
	NamesChange           Code = "names-change"
	IdentifierSeveral     Code = "identifier-several"
	PassiveImpossible     Code = "passive-impossible"
	RelayStateTooLong     Code = "relaystate-too-long"
	TooManyStarts         Code = "too-many-starts"
	TargetForeign         Code = "target-foreign"
	UnsolicitedTarget     Code = "unsolicited-target"
	GateFailure           Code = "gate-failure"
	ApplicationDisabled   Code = "application-disabled"
	ProviderDisabled      Code = "provider-disabled"
	DecryptionFailed      Code = "decryption-failed"
	EncryptionMethod      Code = "encryption-method"
	ScopingUnmet          Code = "scoping-unmet"
	CertificatePast       Code = "certificate-past"
	ArtifactUnresolved    Code = "artifact-unresolved"
	ResponseRedirect      Code = "response-by-redirect"
)

var catalogue = []Entry{
	// Reading XML (W3C XML 1.0, Namespaces in XML 1.0).
	{XMLDoctype, Error, Sender, "The document contains a DOCTYPE",
		"Have the sender produce the document without a DOCTYPE; SAML never needs one.",
		"A document type declaration is found; entities in it could reach files or exhaust memory (SAML security " +
			"considerations 2.0 §6)."},
	{XMLMalformed, Error, Sender, "The document is not well-formed XML",
		"Send the document whole and unchanged; look at the place named here.",
		"XML 1.0 or Namespaces in XML 1.0 is violated."},
	{XMLTooLarge, Error, Sender, "The document exceeds a size limit",
		"Have the sender produce a smaller one: at most 1 MiB in all, 1 MiB in a value, 128 attributes on an element.",
		"A message above 1 MiB, too many attributes, or a single value above 1 MiB."},
	{XMLTooDeep, Error, Sender, "The document is nested too deeply",
		"Have the sender produce a document with at most 64 levels.", "More than 64 levels of elements."},
	{XMLEncoding, Error, Sender, "The document is not in UTF-8",
		"Save the document in UTF-8 (metadata may be UTF-16 with a byte order mark).",
		"Another encoding is declared, or octets are not valid UTF-8."},
	{XMLDuplicate, Error, Sender, "Two elements carry the same ID",
		"Have the sender give every element an ID of its own; the same ID twice is a mark of signature wrapping.",
		"An ID attribute repeats within one document (SAML core §1.3.4)."},

	// XML signature (W3C XML Signature 1.1, SAML core §5).
	{SignatureMissing, Error, Sender, "Nothing in the answer is signed",
		"Switch on signing of the assertion (or of the Response) on the sender's side.",
		"Neither the Response nor its assertion carries a signature (SAML profiles §4.1.3.5)."},
	{SignatureLayout, Error, Sender, "The signature is in the wrong place",
		"Have the sender place exactly one Signature directly below the element it signs, with nothing foreign inside.",
		"Several signatures in one element, a Signature elsewhere, or Objects in it: the layouts of signature " +
			"wrapping (SAML core §5.4)."},
	{SignatureReference, Error, Sender, "The signature does not cover the element it stands in",
		"Have the sender sign the element that carries the signature, by one Reference to its ID.",
		"There is not exactly one Reference, or it points elsewhere (SAML core §5.4.2)."},
	{SignatureTransform, Error, Sender, "The signature uses a transform that is not allowed",
		"Have the sender use only enveloped-signature and exclusive canonicalisation.",
		"Another transform, or one with foreign parameters (SAML core §5.4.4)."},
	{SignatureMethod, Error, Sender, "The signature or digest method is not allowed",
		"Have the sender use RSA-SHA256 or ECDSA-SHA256 with digest SHA-256 (or their 384 and 512 variants).",
		"An unknown method, or HMAC, which a public key can never verify."},
	{SignatureSHA1, Error, Sender, "The signature rests on SHA-1",
		"Have the sender change signature and digest to SHA-256.",
		"SHA-1 as signature or digest method where no exception is recorded."},
	{SignatureAltered, Error, Sender, "The signed content was altered after signing",
		"Look for something between the sender and the gate that rewrites or re-indents the message, and take it out.",
		"The digest of the referenced element differs from DigestValue."},
	{SignatureKey, Error, Sender, "The signature was not made with a key on record",
		"Take in the sender's current metadata, or have the sender sign with the key on record.",
		"No signing key on record verifies the SignatureValue."},
	{SignatureNoKey, Error, Gate, "There is no signing key on record to verify with",
		"Take in metadata that holds the counterpart's signing certificate.",
		"The record has no key that may verify signatures."},
	{SignatureInclusive, Warning, Sender, "The signature uses inclusive canonicalisation",
		"Ask the sender for exclusive canonicalisation; inclusive breaks when a document is embedded elsewhere.",
		"C14N 1.0 inclusive is named or implied (SAML core §5.4.3)."},
	{CertificateExpired, Warning, Sender, "The certificate is past its date",
		"Ask the sender when the key will be renewed. Trust is by key, so nothing stops working today.",
		"The certificate's notAfter lies in the past."},
	{CertificateOdd, Warning, Sender, "The certificate is not well-formed; only its key is used",
		"Ask the sender for a certificate that follows RFC 5280.",
		"The certificate cannot be parsed as a whole, its public key can."},

	// Metadata (SAML metadata 2.0).
	{MetadataEmpty, Error, Gate, "The given metadata is empty",
		"Give a file, standard input or an address that holds the SAML metadata of the other side.",
		"No octets, or only white space."},
	{MetadataHTML, Error, Gate, "This is a web page, not metadata",
		"Open the address in a browser: often a sign-in page stands before the metadata. Download the XML and " +
			"give the file instead.", "The document is HTML."},
	{MetadataJSON, Error, Gate, "This is JSON, not SAML metadata",
		"SAML metadata is XML with an EntityDescriptor. JSON that names redirect_uris is the metadata of an " +
			"OpenID Connect application: choose that protocol (--protocol oidc). One that names an issuer is a " +
			"discovery document.",
		"The document is JSON."},
	{MetadataCertificate, Error, Gate, "This is a certificate, not metadata",
		"Ask the other side for its SAML metadata, or type the fields by hand: a certificate alone makes a draft.",
		"A certificate in PEM, DER or base64 was given."},
	{MetadataPrivateKey, Error, Gate, "This is a private key, not metadata",
		"Nothing was stored. Consider this key as disclosed: have the other side make another one, and ask for its public values.",
		"A private key was given."},
	{MetadataNotXML, Error, Gate, "This is not XML",
		"Give the SAML metadata of the other side: an XML document with an EntityDescriptor.",
		"The document is none of the kinds that are recognised."},
	{MetadataNotMetadata, Error, Gate, "This is XML, but not SAML metadata",
		"Give the document whose outermost element is EntityDescriptor.", "The outermost element is another one."},
	{MetadataSeveral, Error, Gate, "The metadata holds several entities",
		"Name the one that is meant by its entity ID (--entity-id), or take it all in as an aggregate and take " +
			"over the entities you need; nothing has to be cut out by hand.",
		"An EntitiesDescriptor with more than one entity of the role, and none or an unknown one was named."},
	{MetadataRole, Error, Gate, "The metadata is for the other role",
		"Add it as the role it describes, or ask for the metadata of the role needed here.",
		"A provider needs an IDPSSODescriptor, an application an SPSSODescriptor, each with SAML 2.0 in " +
			"protocolSupportEnumeration."},
	{MetadataNoEndpoint, Error, Sender, "The metadata offers no address that can be used",
		"Ask for metadata with a SingleSignOnService by Redirect or POST (provider), or an " +
			"AssertionConsumerService by POST or artifact (application).",
		"No endpoint with a supported binding and a valid http or https address."},
	{MetadataNoKey, Error, Sender, "The metadata holds no signing key",
		"Ask for metadata with a KeyDescriptor for signing; without it no answer can be verified.",
		"A provider without a KeyDescriptor usable for signing."},
	{MetadataBadKey, Error, Sender, "A certificate in the metadata cannot be read",
		"Ask for the metadata anew; the certificate must be base64 of DER.",
		"A KeyDescriptor from which no public key can be taken."},
	{MetadataExpired, Error, Sender, "The metadata is past its validUntil", "Ask for, or fetch, the current metadata.",
		"validUntil lies in the past."},
	{MetadataEntityID, Error, Sender, "The entity ID is missing or too long",
		"Ask for metadata with an entityID of 1 to 1024 characters.",
		"entityID is absent, empty, or longer than 1024 characters (SAML metadata §2.3.2)."},
	{MetadataTooLarge, Error, Gate, "The document is too large for the metadata of one entity",
		"If it is that of a federation, take it in as an aggregate (innergate aggregate add, or Connect, " +
			"Aggregates) and take over the entities you need; else ask the other side for its metadata alone.",
		"The metadata of one entity may have 1 MiB, an aggregate 256 MiB."},
	{MetadataUnsigned, Error, Sender, "The metadata is not signed, and a trust key is set",
		"Have the sender sign its metadata, or take the trust key out of the record.",
		"trustKey is set, and the document carries no signature of its outermost element (SAML metadata §3)."},
	{MetadataOtherSigner, Error, Sender, "The metadata was signed with another key",
		"Compare the fingerprints; set the certificate that the publisher signs with as trust key, or fetch the " +
			"document anew.",
		"No trust key verifies the signature; or, where none is set, not even the key that the signature itself " +
			"names."},
	{MetadataAltered, Error, Sender, "The metadata was altered after it was signed",
		"Fetch the document anew, without an editor or a program that formats XML in between.",
		"The digest in its signature is that of another content; also where nobody vouches for the key."},
	{MetadataValue, Error, Sender, "A value in the metadata cannot be read",
		"Have the sender correct the value named here.", "A date, a duration or a number that is none."},
	{MetadataUnvouched, Note, Gate, "The metadata is signed, but nobody vouches for the key",
		"Set the publisher's certificate as trust key (trustKey), if you can get it by another way than the document.",
		"The signature holds against the key that it names itself; that shows only that nothing was altered since."},
	{MetadataKnown, Error, Gate, "This identity is already on record",
		"Show or remove the record that has it.",
		"Another record of the same role has the same entity ID."},
	{AddressUnreachable, Error, Gate, "The address does not answer with a document",
		"Try the address from the machine the gate runs on, or download the document and give the file.",
		"Connecting failed, timed out, or the status was not 200."},
	{AddressRefused, Error, Gate, "The gate may not fetch from this address",
		"Use an https address in a public network, or have the operator allow this network (fetch.allowNetworks).",
		"The scheme or the network of the address is not allowed."},
	{NameMalformed, Error, Gate, "This is not a short name",
		"Use 1 to 63 of a-z, 0-9 and hyphen, beginning with a letter or digit.",
		"A short name does not fit [a-z0-9][a-z0-9-]{0,62}."},
	{NameTaken, Error, Gate, "This short name is taken",
		"Choose another name. To change the record that has it, use innergate provider update or innergate app update, which take the same options.",
		"A record of this kind has the name."},

	// Aggregates, and keeping metadata fresh (SAML metadata §2.3, §4).
	{AggregateOther, Error, Gate, "This is not an aggregate",
		"Give a document whose outermost element is EntitiesDescriptor; add a single entity as provider or " +
			"application.",
		"An aggregate was expected, and the outermost element is another one."},
	{AggregateEmpty, Error, Sender, "The aggregate holds no entity", "Ask the sender for the whole aggregate.",
		"An EntitiesDescriptor without any EntityDescriptor."},
	{AggregateTwice, Error, Sender, "The aggregate holds this entity a second time",
		"Ask the sender which of the two is meant; the first one can be used.",
		"The same entityID stands on two EntityDescriptors."},
	{AggregateNoRole, Error, Sender, "The entity has no role of SAML 2.0",
		"Nothing is to be done if it speaks another protocol only.",
		"Neither IDPSSODescriptor nor SPSSODescriptor with SAML 2.0 in protocolSupportEnumeration."},
	{AggregateUnverified, Warning, Gate, "Nobody vouches for this aggregate",
		"Give the certificate its publisher signs with as trust key; without it, whoever can change the document " +
			"in transit can put in keys of their own.", "An aggregate is taken in without a trust key."},
	{AggregateGone, Warning, Gate, "The entity is no longer in its aggregate",
		"Ask its administrator whether it left; remove the record, or take in metadata from another source.",
		"A refresh of the aggregate does not hold the entity that a record was taken from."},
	{AggregateUnknown, Error, Gate, "The aggregate holds no entity with this ID",
		"Search the aggregate for it, and give the entity ID letter by letter as it stands there.",
		"An entity is named that the present edition of the aggregate does not hold."},
	{AggregateTooLarge, Error, Sender, "The aggregate is too large",
		"Ask the sender for a smaller one, or for the metadata of the single entities you need.",
		"An aggregate may have 256 MiB."},
	{AggregateDamaged, Error, Gate, "The document of the aggregate is lost or cut off",
		"Refresh the aggregate, or upload the edition again. Until then no entity can be taken over; records " +
			"taken from it work on.",
		"The file of an aggregate is missing, or shorter than when it was taken in."},
	{ChangedEntityID, Warning, Gate, "The metadata names another entity ID than before",
		"Ask the other side whether this is meant; both sides compare it letter by letter.",
		"Metadata taken in anew differs from the record."},
	{ChangedKey, Warning, Gate, "The metadata holds other keys than before",
		"Compare the fingerprints with the other side over another way than this metadata.",
		"Metadata taken in anew differs from the record."},
	{ChangedAlgorithm, Warning, Gate, "The other side signs by other algorithms than before",
		"See that they are among those that the record allows; if it was not announced, ask whether it is meant.",
		"A document taken in anew names others than the record."},
	{ChangedAddress, Warning, Gate, "The metadata names other addresses than before",
		"See that the addresses belong to the other side.", "Metadata taken in anew differs from the record."},
	{ChangeDeclined, Note, Gate, "A change of the metadata was declined",
		"If the other side meant it, call it back (innergate refresh NAME --again, or Refresh on its page) and " +
			"approve it; sign-ins may fail meanwhile.",
		"The document at the address differs from the record, and somebody declined the change."},
	{ChangeWaiting, Warning, Gate, "A change of the metadata waits for approval",
		"Look at what changes, then approve or decline it.",
		"A refresh found other keys, addresses or another entity ID, and the record asks for approval."},
	{SinceThePreview, Error, Gate, "The document is another one than was previewed",
		"Look at the preview again, then save.", "The address gave another document at saving than at the preview."},
	{RefreshFailed, Warning, Gate, "The metadata could not be refreshed",
		"Read the cause; the last good copy stays in use until a refresh succeeds.",
		"A scheduled or asked-for refresh ended with an error."},

	// Checks before sign-in, over one record or across both sides.
	{DraftIncomplete, Note, Sender, "The record is unfinished: values of the other side are still missing",
		"Ask the sender for what is missing, or for its metadata.", "A record lacks an entity ID, an address or a key."},
	{EntityIDNear, Warning, Gate, "Two identities differ by next to nothing",
		"Compare both letter by letter with the other side; entity IDs are equal only if every character is " +
			"(SAML core §8.3.6).", "Entity IDs that differ by case, scheme, a slash or white space only."},
	{ValueTrimmed, Warning, Sender, "White space was cut off a value",
		"Have the sender take the white space out of the value: programs that compare letter by letter, as the " +
			"standard says, will not find it.",
		"White space, also a no-break space, stood around an entity ID or address; the gate goes by the value " +
			"without it."},
	{ProviderIsGate, Error, Gate, "The provider on this record is the gate itself",
		"Ask the provider's administrator for the provider's own metadata or issuer: the gate's was given in its " +
			"place.",
		"The entity ID or issuer of a provider is one of the gate's own; a sign-in would go round in circles."},
	{EntityIDTwice, Note, Gate, "Several records have this identity",
		"Nothing is to be done if they are tenants of one service; each answers on a face of its own.",
		"The same entity ID is on record more than once."},
	{AddressNear, Warning, Sender, "Two addresses differ by next to nothing",
		"Have the sender say which one is right; an answer is sent to exactly the registered address.",
		"Addresses that differ by a slash, the scheme or case only."},
	{AddressPlain, Warning, Sender, "The address is http, not https",
		"Have the sender offer an https address; over http anybody on the way can read the answer.",
		"An endpoint with scheme http outside loopback."},
	{AddressLoopback, Warning, Sender, "The address leads to the person's own machine",
		"Ask the sender for the address that people reach it by.",
		"An address of the other side is on localhost or a loopback address, and the gate is not."},
	{EntityIDMoving, Warning, Sender, "The gate's entity ID has changed, and the other side may not know yet",
		"Tell the sender's administrator the new entity ID; once it is set there, empty formerEntityId.",
		"formerEntityId is set: towards a provider both entity IDs are accepted; an application is sent the new one."},
	{ExceptionInForce, Warning, Gate, "An exception from the rules is in force",
		"Ask the other side when it can do without, and take the exception back then.",
		"allowSHA1 or allowCBC is set on a record."},
	{BasePlain, Error, Gate, "The gate's base address is not encrypted",
		"Serve the gate by https, and set its base address so; names and sign-ins pass it readable for everybody " +
			"in between.",
		"The base address is http and not on a loopback address."},
	{BaseChanged, Error, Gate, "The gate's base address is another one than counterparts were given",
		"Give every counterpart the addresses on its exchange sheet anew, then acknowledge this finding; or set " +
			"the former base address again. Entity IDs stay as they are.",
		"The base address in the configuration differs from the one that the data began with."},
	{OwnKeyEnding, Warning, Gate, "The certificate of a key of the gate's own ends soon",
		"Announce the next key (innergate key announce, or Keep, Keys), have counterparts take it in, then switch.",
		"The notAfter of a current key's certificate lies within 30 days; an error once it is past."},
	{AddressForeign, Warning, Sender, "The address lies at a host that the other side is not known to own",
		"Ask the sender whether the host is its own, then note it on the record under ownHosts.",
		"An AssertionConsumerService at another host than the entity ID, the own start address or ownHosts name."},
	{BindingNoneCommon, Error, Sender, "There is no binding that both sides speak",
		"Have the sender offer HTTP-Redirect or HTTP-POST (provider), HTTP-POST or HTTP-Artifact (application), " +
			"or change the binding on the record.",
		"No endpoint with a binding that the gate speaks, or none with the one the record asks for."},
	{ArtifactOnly, Warning, Application, "The application takes answers by artifact only",
		"See that the application's servers reach the gate's artifact resolution service, and that it signs " +
			"ArtifactResolve with a key on record; or have it offer an AssertionConsumerService by HTTP-POST.",
		"Every AssertionConsumerService has the binding HTTP-Artifact."},
	{NameIDNoneCommon, Warning, Gate, "There is no NameID format that both sides name",
		"Choose the format on the application's record, or have one side offer another.",
		"The application's formats can neither come from the provider nor be made by the gate (persistent, " +
			"transient)."},
	{MetadataSHA1, Warning, Sender, "The metadata is signed with SHA-1",
		"Have the sender sign its metadata with SHA-256.", "SHA-1 as signature or digest method of the document."},
	{AlgorithmsSHA1, Error, Sender, "The other side announces SHA-1 as its only signature or digest method",
		"Have the sender change its message signatures to SHA-256; until then the exception allowSHA1 lets them in.",
		"The algorithms in metadata name no signature, or no digest method above SHA-1 (SAML metadata profile " +
			"for algorithm support)."},
	{ECDSAAnnounced, Note, Gate, "The application verifies ECDSA, and its answers are signed with RSA",
		"Nothing is wrong. To sign at a twentieth of the work: make the key for ECDSA (innergate key announce " +
			"idp-ecdsa, then key switch idp-ecdsa), which the metadata of the shared face holds from then on, see that the " +
			"application has it, and set algorithm to ecdsa-sha256. A face of its own is rolled over to a key of kind ec-p256.",
		"The algorithms in metadata name ecdsa-sha256 (SAML metadata profile for algorithm support), and the key that " +
			"signs is RSA."},
	{CertificateSHA1, Note, Sender, "The certificate itself was signed with SHA-1",
		"Nothing is to be done where trust is by key: the certificate's own signature is not looked at. It is " +
			"another thing than SHA-1 in messages.", "The certificate's signature algorithm uses SHA-1."},
	{KeyWeak, Warning, Sender, "The key is too short",
		"Have the sender make an RSA key of 2048 bits or more, or an EC key.", "An RSA key below 2048 bits."},
	{CertificateNotYet, Warning, Sender, "The certificate is not valid yet",
		"Compare the clocks, or wait for its date. Trust is by key, so nothing is refused for it unless " +
			"strictCertificates is set.", "The certificate's notBefore lies in the future."},
	{CertificateExpiring, Warning, Sender, "The certificate ends soon",
		"Ask the sender for its next key, and take it in beside the present one.",
		"The certificate's notAfter lies within 30 days."},
	{CertificateBothSides, Note, Gate, "The same key stands on both sides",
		"Nothing is to be done if one party is both; else ask whose it is, and take in the right one.",
		"A key of the application is also on record for a provider that serves it. That is no fault by itself."},
	{CertificateOfGate, Error, Gate, "The key on record for the other side is the gate's own",
		"Ask the other side for its certificate: it was given, or gave back, that of the gate.",
		"A counterpart's key is one of the gate's own; it cannot have made the counterpart's signatures."},
	{CertificateCA, Warning, Sender, "This is the certificate of an authority, not of a key in use",
		"Ask the sender for the certificate of the key itself, that it signs or decrypts with.",
		"The certificate may sign certificates but not messages (RFC 5280 §4.2.1.3, §4.2.1.9)."},
	{RequestsSignedNoKey, Warning, Application,
		"The application signs its requests, but no key to verify them is on record",
		"Ask for metadata with the application's signing certificate; until then its requests count as unsigned.",
		"AuthnRequestsSigned without a signing key."},
	{RequestsUnsigned, Warning, Application, "Signed requests are demanded, but the application says it does not sign",
		"Have the application sign its requests, or lift the demand on the record.",
		"requireSignedRequests against AuthnRequestsSigned false or absent."},
	{AssertionUnsigned, Error, Gate, "The application wants the assertion signed, and the record signs the " +
		"Response only",
		"Set sign to assertion or both.", "WantAssertionsSigned against the record's sign."},
	{EncryptionNoKey, Error, Application, "Encryption is wanted, but there is no key to encrypt with",
		"Ask for metadata with a key for encryption, or switch encryption off.",
		"encrypt is set, and the metadata holds no key for encryption."},
	{EncryptionNoneCommon, Error, Application, "There is no encryption method that both sides accept",
		"Have the application list AES-GCM, with RSA-OAEP for the key.",
		"Every md:EncryptionMethod of the key is one the gate refuses."},
	{MetadataExpiring, Warning, Sender, "The metadata is soon past its validUntil",
		"Fetch the metadata anew, or ask for a newer one.", "validUntil lies within seven days."},
	{OwnStartMissing, Error, Gate,
		"The application refuses answers it did not ask for, and its own start address is not on record",
		"Set ownStart on the application's record to the address where it starts sign-ins; the gate opens it there.",
		"onlyOwnStarts is set without ownStart; people cannot open it at the gate or from a portal."},
	{EndpointUnreachable, Warning, Sender, "The address cannot be reached from the gate",
		"Try it in a browser: people need it, the gate itself does not. If it fails there too, have the sender " +
			"correct it.",
		"A connection to an endpoint failed; looked at on demand only."},
	{ClockApart, Warning, Sender, "The clocks are apart", "Have the sender set its clock by NTP, or correct the gate's.",
		"The Date of the address's server differs from the gate's clock by more than the allowed skew; looked at " +
			"on demand only."},

	// Messages in a crossing (SAML core, bindings, profiles).
	{MessageUndecodable, Error, Sender, "The message cannot be decoded",
		"Have the sender encode the message as the binding demands: base64, and for Redirect deflated.",
		"The parameter is absent, not base64, or does not inflate (SAML bindings §3.4.4.1, §3.5.4)."},
	{MessageOther, Error, Sender, "This message is of another kind than this address takes",
		"Have the sender use the address that belongs to this message; see the exchange sheet.",
		"For instance an AuthnRequest at an assertion consumer service."},
	{ResponseStatus, Error, Provider, "The provider answered with a refusal",
		"Read the status and message in the evidence; the reason is in the provider's own log.",
		"Status is not Success (SAML core §3.2.2)."},
	{ResponseNoAssertion, Error, Provider, "The answer does not hold exactly one assertion",
		"Have the provider send one assertion in each answer.", "No assertion, or several (SAML profiles §4.1.4.2)."},
	{ResponseEncrypted, Error, Provider, "The assertion is encrypted, and this gate offers no key for that",
		"Switch off encryption of the assertion at the provider.", "EncryptedAssertion was received (SAML core §2.3.4)."},
	{IssuerOther, Error, Sender, "The message was issued by somebody else",
		"Compare both entity IDs letter by letter; correct the one that is wrong, or take in current metadata.",
		"Issuer is not the entity ID on record (SAML profiles §4.1.4.2)."},
	{IssuerMissing, Error, Sender, "The message does not say who issued it",
		"Have the sender set Issuer to its entity ID.",
		"Issuer is absent where it is required, or has a Format other than entity (SAML profiles §4.1.4.2)."},
	{DestinationOther, Error, Sender, "The message was meant for another address",
		"Correct the address on the sender's side to the one expected here.",
		"Destination differs from the address that received the message (SAML core §3.2.1, §3.2.2)."},
	{DestinationMissing, Error, Sender, "A signed message does not say where it is meant for",
		"Have the sender set Destination; it is required in signed messages.",
		"Destination is absent in a signed message (SAML bindings §3.4.5.2, §3.5.5.2)."},
	{AudienceOther, Error, Provider, "The assertion was made for another audience",
		"Set the audience (entity ID of the gate) at the provider to the value expected here.",
		"An AudienceRestriction does not name our entity ID (SAML core §2.5.1.4)."},
	{AudienceMissing, Error, Provider, "The assertion names no audience",
		"Have the provider restrict the assertion to the gate's entity ID.",
		"No AudienceRestriction (SAML profiles §4.1.4.2)."},
	{RecipientOther, Error, Provider, "The assertion was made for another recipient address",
		"Set the assertion consumer service address at the provider to the value expected here.",
		"Recipient is absent or differs from our assertion consumer service (SAML profiles §4.1.4.2)."},
	{ConfirmationMissing, Error, Provider, "The assertion has no usable bearer confirmation",
		"Have the provider send a bearer SubjectConfirmation with Recipient and NotOnOrAfter, without NotBefore.",
		"No SubjectConfirmation of method bearer fulfils the rules (SAML profiles §4.1.4.2)."},
	{AssertionExpired, Error, Provider, "The assertion is past its time",
		"Compare the clocks of provider and gate; else the person waited too long and should start again.",
		"NotOnOrAfter of Conditions or SubjectConfirmationData, or SessionNotOnOrAfter, lies in the past."},
	{AssertionNotYetValid, Error, Provider, "The assertion is not valid yet",
		"Compare the clocks of provider and gate; the provider's is ahead.",
		"NotBefore, IssueInstant or AuthnInstant lies in the future by more than the allowed skew."},
	{ConditionUnknown, Error, Provider, "The assertion carries a condition that is not understood",
		"Have the provider leave out the condition named here.",
		"A Condition of an unknown type; validity is then indeterminate (SAML core §2.5.1)."},
	{AuthnStatementMissing, Error, Provider, "The assertion does not say that the person signed in",
		"Have the provider include an AuthnStatement.", "No AuthnStatement (SAML profiles §4.1.4.2)."},
	{ProxyForbidden, Error, Provider, "The provider forbids passing this sign-in on",
		"Have the provider lift the ProxyRestriction for the gate.",
		"ProxyRestriction has Count 0, or an Audience that is not the application (SAML core §2.5.1.6)."},
	{ValueNotXML, Error, Provider, "A value has characters that cannot stand in XML",
		"Have the provider send it without control characters, or clean it by a rule of the mapping. An " +
			"attribute that is not mandatory is left out.",
		"A name, a claim or an attribute has U+0000 to U+001F, U+FFFE or U+FFFF, and is to be told a SAML " +
			"application (XML 1.0 §2.2)."},
	{NameIDMissing, Error, Provider, "The assertion does not name the person",
		"Have the provider send a NameID that is not empty.", "NameID is absent, empty, or holds elements."},
	{NameIDMistyped, Warning, Provider, "The NameID format emailAddress is written with SAML 2.0",
		"Have the provider write urn:oasis:names:tc:SAML:1.1:nameid-format:emailAddress; the format was never renamed.",
		"urn:oasis:names:tc:SAML:2.0:nameid-format:emailAddress, which no standard defines (SAML core §8.3.2)."},
	{InResponseToOther, Error, Provider, "The answer belongs to another request",
		"Start again at the application. If it happens always: have the provider copy the request's ID to " +
			"InResponseTo.",
		"InResponseTo is not the ID of the request that this browser started (SAML profiles §4.1.4.3)."},
	{InResponseToMixed, Error, Provider, "The answer names different requests in different places",
		"Have the provider set the same InResponseTo on Response and SubjectConfirmationData.",
		"InResponseTo differs, or is absent in one place, within one Response (SAML profiles §4.1.4.2)."},
	{UnsolicitedRefused, Error, Provider, "The provider sent an answer that nobody asked for",
		"Start at the application or at the gate. To let people start at the provider, allow unsolicited answers " +
			"for this provider.", "No InResponseTo, and the provider's record does not allow unsolicited answers (SAML profiles §4.1.5)."},
	{AssertionReplayed, Error, Browser, "This assertion was used before",
		"Start again at the application. If nobody reloaded a page, somebody may have copied the answer: look at " +
			"the other trace.", "The assertion's ID was consumed earlier (SAML profiles §4.1.4.5)."},
	{AuthnTimeMissing, Error, Provider, "The provider does not say when the person signed in",
		"Have the provider send auth_time (or AuthnInstant), or the application not demand it.",
		"The application demands the time of the sign-in: an essential auth_time, or require_auth_time (OpenID " +
			"Connect Core §5.5.1, §2)."},
	{AuthnTooOld, Error, Provider, "The person did not sign in anew",
		"Have the provider honour ForceAuthn, or prompt=login and max_age; one of OAuth 2.0 alone cannot.",
		"The sign-in is older than a request that demanded a new one (SAML core §3.4.1), or than the application " +
			"allows."},
	{ContextOther, Error, Provider, "The person signed in by another method than was asked for",
		"Have the provider honour the context asked for, or the application ask for what the provider offers; " +
			"where only the words differ, translate them under contextWords, and rank them with the others.",
		"The sign-in's context does not satisfy the one asked for, by the gate's ranking of contexts (SAML core §3.3.2.2.1)."},
	{ContextImpossible, Error, Provider, "The provider cannot sign the person in by the method asked for",
		"Have the application ask for what the provider offers, or translate the provider's own words for it " +
			"under contextWords.", "The provider answered NoAuthnContext (SAML core §3.2.2.2)."},
	{SubjectOther, Error, Application, "Another person signed in than the application expects",
		"Sign out at the provider and sign in as the person meant, or have the application leave out whom it expects.",
		"The name for the application is not the Subject of its request (SAML core §3.4.1, §3.3.4)."},
	{CrossingTurns, Error, Browser, "This sign-in goes round in circles",
		"Start again at the application. If it happens always, read in the trace which step comes back.",
		"A crossing was moved on more often than any sign-in needs."},
	{CrossingUnknown, Error, Browser, "This sign-in is not known, or no longer",
		"Start again at the application; a sign-in must be finished within ten minutes.",
		"No crossing in progress belongs to the answer or address."},
	{CrossingOtherBrowser, Error, Browser, "This sign-in was begun in another browser",
		"Start again in the browser you want to use. Cookies must be allowed for the gate.",
		"The crossing's cookie is absent or differs."},
	{CrossingEnded, Note, Browser, "This sign-in is already finished", "Continue to the application.",
		"An answer was posted again by the browser that already ended the crossing."},
	{RehearsalOver, Error, Browser, "The rehearsal that this sign-in belongs to has ended, or was begun in another browser",
		"Start another run, open its link in the browser in which you rehearse, and finish it before the run ends. Cookies must be allowed for the gate.",
		"A turn of a rehearsal came from a browser that is not marked for its run, or after the run's end."},
	{RehearsalUnfinished, Error, Gate, "The record lacks so much that not even a rehearsal can pass it",
		"Take in what the other side handed over, or type the missing values, then rehearse again.",
		"A rehearsal comes by a record without its addresses or keys."},
	{RehearsalNever, Note, Gate, "No rehearsal of this live application has ever passed",
		"Save one and run it; it touches nobody else: innergate rehearsal add NAME --app APPLICATION, then innergate rehearse NAME.",
		"An application that people sign in to is live, and none of its rehearsals has a newest run that passed."},
	{RehearsalUndriven, Error, Gate, "The gate cannot go through this sign-in by itself: a person is needed",
		"Run it by its link: innergate rehearse NAME. Or take a test account of which the provider asks user name and password alone, " +
			"name a host that the sign-in passes through (setting hosts), or the address that starts it (setting opens).",
		"In a run that nobody attends, a page has no form of user name and password that works without scripts, leads to a host " +
			"that is on no record, or does not end."},
	{ApplicationRefuses, Error, Application, "The application answers with an error to a valid answer",
		"Read what it says. Mostly it has no account by the name that it was told, gives the person no licence, or recognises people " +
			"by another identifier; the verdict lists what is likely.",
		"In a run that nobody attends, the application answered with a status of 400 or more once it had been given an answer."},
	{TestAccountRefused, Error, Provider, "The provider does not take the user name or the password of the test account",
		"Try the account at the provider by hand. Then give its password anew: innergate rehearsal password NAME --password-file FILE; " +
			"until then nothing more is tried with it, so that it is not locked.",
		"In a run that nobody attends, the provider showed its sign-in form again after the password had been sent once."},
	{TestAccountHosts, Error, Gate, "The sign-in pages may lie at other hosts than when the password of the test account was given",
		"See that these hosts are the provider's, then give the password again: innergate rehearsal password NAME --password-file FILE.",
		"The hosts of the provider's addresses, or the setting hosts of the rehearsal, changed after the password was given; " +
			"it goes to none that it was not given for."},
	{TestAccountMissing, Error, Gate, "There is no password on record for the test account of this rehearsal",
		"Give it: innergate rehearsal password NAME --password-file FILE. Without one, run it by its link.",
		"A rehearsal is to run by itself, and no password was given for its user name at its provider."},
	{RehearsalLink, Error, Browser, "This link of a rehearsal is not known, was used, or has ended",
		"Ask whoever sent it for another one: a link works once, and for a few minutes.",
		"The address of a rehearsal names no run that waits."},
	{StartUnknown, Error, Browser, "No application has the name in this address",
		"Correct the link that led here: the address of a start ends with the short name of an application.",
		"A start at the gate (/open/NAME) names no application on record."},
	{StartPointUnknown, Error, Browser, "The application has no starting point of the name in this address",
		"Correct the link that led here, or add the starting point (innergate object add start NAME application=…).",
		"A start at the gate (/open/NAME?start=…) names no starting point of the application."},
	{ApplicationUnknown, Error, Application, "No application with this identity is on record",
		"Add the application, or correct its entity ID on one of the two sides.",
		"The Issuer of an AuthnRequest, or of an ArtifactResolve, is on no record; or the record was removed " +
			"meanwhile."},
	{ProviderUnknown, Error, Gate, "No provider with this name is on record", "Add the provider, or correct the address.",
		"The name in an address is on no record."},
	{NoProvider, Error, Gate, "No provider can serve this application",
		"Add a provider, or name one on the application's record.", "Provider selection came out empty."},
	{ACSUnregistered, Error, Application, "The answer is wanted at an address that is not registered",
		"Correct the address at the application, or take in its metadata that lists the address.",
		"AssertionConsumerServiceURL or index is not on record (SAML profiles §4.1.4.1)."},
	{BindingUnsupported, Error, Application, "The answer is wanted by a binding that is not offered",
		"Have the application ask for HTTP-POST, or leave ProtocolBinding out.",
		"ProtocolBinding names another binding (SAML core §3.4.1)."},
	{RequestExpired, Error, Application, "The signed request is too old",
		"Start again. If it happens always, compare the clocks of application and gate.",
		"IssueInstant of a signed AuthnRequest is more than five minutes away."},
	{RequestUnverified, Note, Application, "The request is signed, but no key of the application is on record",
		"Take in metadata with the application's signing certificate; until then requests count as unsigned.",
		"A signed AuthnRequest from an application without a signing key on record."},
	{NameIDPolicyUnmet, Error, Application, "The application wants a NameID format that is not available",
		"Have the application ask for unspecified, or the provider send the format asked for.",
		"NameIDPolicy cannot be met (SAML core §3.4.1.1)."},
	{AttributeMissing, Error, Provider, "The provider did not send a mandatory value",
		"Have the provider release it, or name in the rule what does arrive. If it may be missing, make the rule " +
			"optional.",
		"A rule of the intake is mandatory and nothing came of its sources."},
	{ReleaseMissing, Error, Gate, "A mandatory value for the application is missing",
		"See in the trace whether the provider sends it, and in its intake mapping whether it is read. If it may " +
			"be missing, make the rule optional, or give it a default.",
		"A rule of the release is mandatory and nothing came of its sources."},
	{NothingSaid, Error, Gate, "No provider answered in this sign-in, so there is nothing to map",
		"Choose a sign-in that entered, or one that was refused after the provider's answer had been checked.",
		"A mapping is tried on a trace without a provider's valid answer."},
	{AttributeUnsent, Warning, Provider, "A rule reads an attribute that the provider did not send lately",
		"Have the provider release it, or name in the rule what does arrive. Where only some people have it, " +
			"nothing is wrong.",
		"No recorded sign-in of late holds an attribute that a rule of the intake reads. Where the rule has " +
			"another source, or a default, this is a note."},
	{ProfileUnmade, Warning, Gate, "A rule reads an attribute that no profile has",
		"Add a rule to the intake of the providers that serve the application, or name in this rule what they do make.",
		"A rule of the release reads an attribute that no intake of the providers which serve the application makes."},
	{ScopeUnneeded, Note, Gate, "The gate asks the provider for a scope that no rule reads",
		"Remove the scope from the setting scopes: the provider then sends no more than is needed.",
		"None of the claims that a scope stands for (OpenID Connect Core §5.4) is read by the intake mapping."},
	{ScopeNeeded, Warning, Gate, "The mapping reads a claim that is not asked for",
		"Add the scope to the setting scopes, and allow it at the provider.",
		"A claim that the intake mapping reads comes only with a scope (OpenID Connect Core §5.4) that is not " +
			"asked for."},
	{NoticeUnanswered, Warning, Application, "The application does not answer that somebody has signed out",
		"Look at the application's back-channel logout URI: it has to answer a logout token with status 200. " +
			"Until it does, its own sessions go on.",
		"A logout token (OpenID Connect Back-Channel Logout §2.5) was not answered with a status of 2xx three " +
			"times; it is sent again for a day."},
	{EventsUnheard, Warning, Application, "The recipient does not acknowledge what was done to people",
		"Look at the recipient's address: it has to answer a security event token with status 202. Until it does, it does " +
			"not hear who was disabled or removed, and after a time events are not kept any more.",
		"A security event token was not answered with a status of 2xx (RFC 8935 §2.2) three times; it is sent again as long " +
			"as events are kept."},
	{EntryLost, Error, Gate, "People who were let in would be refused",
		"Look at whom it affects, and correct the rule or setting.",
		"Recorded sign-ins of late, run through a change of settings or mappings before it is saved, are refused " +
			"after it; or a mandatory rule reads what no known profile has."},
	{NamesChange, Error, Gate, "People would get another name at the application, which may not know them by it",
		"Import the names by which it knows them, or have it rename its accounts; then confirm the change with " +
			"the digest.",
		"Recorded sign-ins of late, run through the change, tell the application another NameID or sub than " +
			"before, or have somebody recognised by something else."},
	{IdentifierSeveral, Error, Provider, "The identifier of the person is not a single value",
		"Have the provider send one value of at most 1024 octets, or have the rule make one of them, as by first.",
		"A rule of the intake makes the subject, and made several values, or one that is too long."},
	{PassiveImpossible, Error, Application, "The person must be asked, and the application forbade it",
		"Nothing is wrong: the application gets the status NoPassive.", "IsPassive without a session (SAML core §3.4.1)."},
	{RelayStateTooLong, Error, Application, "RelayState is longer than 4 KiB",
		"Have the application keep its state itself and send a reference.",
		"SAML bindings §3.4.3 allows 80 bytes; the gate takes 4096."},
	{TargetForeign, Error, Application, "The address to go on to does not lie at the application",
		"Use an address with the scheme, host and port of the application's consumer address.",
		"RelayState asked for at a start at the gate would be an open redirect (SAML bindings §3.4.3)."},
	{UnsolicitedTarget, Error, Provider, "The unsolicited answer does not say which application is wanted",
		"Have the provider send the application's start address at the gate as RelayState.",
		"RelayState of an unsolicited answer names no application on record (SAML profiles §4.1.5)."},
	{GateFailure, Error, Gate, "The gate failed: an error of its own", "Look for the reference number in the gate's log.",
		"The disk is full, a key does not fit, or the like."},
	{ApplicationDisabled, Error, Gate, "The application is paused", "Set its phase to live, if people should pass to it.",
		"A start for an application whose phase is not live."},
	{ProviderDisabled, Error, Gate, "The provider is paused", "Set its phase to live, or tie the application to another.",
		"Provider selection or an answer met a provider whose phase is not live."},
	{DecryptionFailed, Error, Provider, "The encrypted part cannot be decrypted",
		"Have the provider take in the gate's current metadata and encrypt with the certificate in it.",
		"No key of the gate opens it, or it was altered; the causes are not told apart to the outside (SAML core §6)."},
	{EncryptionMethod, Error, Provider, "The encryption method is not allowed",
		"Have the provider use AES-GCM with RSA-OAEP; AES-CBC only inside a signed Response, or by exception.",
		"RSA 1.5, AES-CBC outside a verified Response signature, or an unknown method (XML Encryption 1.1 §5)."},
	{ScopingUnmet, Error, Application, "The application does not want its sign-in passed on",
		"Have the application raise ProxyCount, or leave Scoping out.",
		"ProxyCount 0 in Scoping (SAML core §3.4.1.2, §3.4.1.5)."},
	{CertificatePast, Error, Provider, "The certificate of the signing key is past its date",
		"Have the provider renew its key and take in its metadata, or lift strictness about certificates.",
		"strictCertificates is set, and the certificate's notAfter lies in the past."},
	{ArtifactUnresolved, Error, Provider, "The artifact cannot be exchanged for an answer",
		"See that the provider's artifact resolution service answers the gate, or have the provider answer by POST.",
		"The back channel failed, or the provider does not know the artifact any more (SAML bindings §3.6)."},
	{ResponseRedirect, Error, Provider, "The answer came by Redirect", "Have the provider answer by HTTP-POST.",
		"A Response in the address: it does not fit there, and the standard forbids it (SAML profiles §4.1.2)."},
	{TooManyStarts, Error, Browser, "Too many sign-ins were started from this network",
		"Wait a few minutes and start again.", "The bound on unfinished crossings, in all or from one address, is reached."},
	{OAuthRequest, Error, Application, "The gate does not accept the request",
		"Correct the parameter named here at the application.",
		"A parameter of an authorization or token request is missing, came twice, contradicts another or asks " +
			"for what is not offered (RFC 6749 §3.1, OpenID Connect Core §3.1.2.1)."},
	{RedirectUnregistered, Error, Application, "The redirect URI is not on record",
		"Have the application send an address that is on record letter by letter, or add this one to the record " +
			"if it is the application's.",
		"redirect_uri equals none of the registered ones (RFC 9700 §4.1.3); of native applications the port of a " +
			"loopback address is free (RFC 8252 §7.3)."},
	{PKCEMissing, Error, Application, "The request has no code challenge that can be used",
		"Have the application send code_challenge with the method S256; most libraries have a switch for PKCE.",
		"code_challenge is missing, of the method plain, or no SHA-256 (RFC 7636 §4.4.1, RFC 9700 §2.1.1)."},
	{PKCEOther, Error, Application, "The code verifier does not belong to the request",
		"Have the application keep the verifier of each sign-in apart, and send it unchanged with the code.",
		"code_verifier is missing, malformed, given without a challenge, or its SHA-256 is another one (RFC 7636 " +
			"§4.6)."},
	{ClientSecretOther, Error, Application, "The application sent another client secret than the one on record",
		"Copy the value of the secret to the application again; if nobody has it any more, make the next one " +
			"(innergate app secret NAME).",
		"The client secret matches none on record (RFC 6749 §2.3.1). Where it is told apart, the evidence says " +
			"what was sent instead."},
	{ClientAssertionAudience, Error, Application, "The application's client assertion is made for another audience",
		"Have the application set aud to the gate's issuer, and to nothing else.",
		"aud of the client assertion is not exactly the issuer (RFC 7523 §3, RFC 9700 §2.5)."},
	{ClientAssertionTwice, Error, Application, "The application sent the same client assertion twice",
		"Have the application make a client assertion with a new jti for each request.",
		"jti of the client assertion was used before (RFC 7523 §3)."},
	{ClientLocked, Error, Application, "Too many wrong client secrets came from this network",
		"Correct the secret at the application, and try again after the time named here. Other networks are not " +
			"affected.",
		"Ten secrets that failed within five minutes, from one network, of a client with a secret that " +
			"it brought along."},
	{ClientUnproved, Error, Application, "The application did not prove who it is",
		"Compare method and secret or key at the application with those on record.",
		"Another method than that on record, a secret or assertion that does not hold or has ended (RFC 6749 " +
			"§2.3, RFC 7523 §3)."},
	{GrantOther, Error, Application, "The code or token does not belong to this request",
		"Have the application redeem each code once, with the redirect URI of its request, and keep the tokens " +
			"of each sign-in apart.",
		"It was given to another application, or with another redirect_uri, or was never given (RFC 6749 §4.1.3, " +
			"§5.2)."},
	{GrantTwice, Error, Application, "The code or token was used before",
		"Have the application keep the newest refresh token only, and redeem a code once. Everything that came " +
			"of this sign-in has ended; the person signs in again.",
		"A code was redeemed again, or a refresh token was used whose successor had been used or given long " +
			"before (RFC 6749 §4.1.2, RFC 9700 §4.14.2)."},
	{GrantExpired, Error, Application, "The code or token is too old",
		"Have the application redeem codes within a minute; for tokens look at the lifetimes on its record.",
		"A code older than a minute, or tokens not used, or used, for longer than the record allows."},
	{GrantEnded, Error, Application, "The tokens of this sign-in are no longer valid",
		"Have the application send the person to sign in again.",
		"It was revoked or withdrawn, its session ended, or something of it was used twice."},
	{AccessDenied, Error, Gate, "A rule denies entry",
		"Change the rule, or where the person belongs, if they should enter (innergate simulate APPLICATION --person N tells each rule).",
		"The first access rule that is about the person denies."},
	{AccessNobody, Error, Gate, "No rule lets the person in",
		"Admit the person or a group (innergate app admit APPLICATION --person N, or --group G), make a rule that is about them, or let " +
			"everybody in (--everyone).",
		"No access rule is about the person, nobody admitted them by name, and the application's setting everyone is no."},
	{AccessKeptOut, Error, Gate, "A group of the person is kept out of the application",
		"Admit the group or the person (innergate app admit APPLICATION --group G, or --person N), if they should enter.",
		"The nearest of the person's groups of which the application's admissions say something is kept out."},
	{NotInCohort, Error, Gate, "The person is not in the cohort of the pilot",
		"Widen the cohort (innergate app set NAME cohort=…, or of the provider), or let everybody pass (phase=live), if they should.",
		"The application or the provider is in its pilot, and its cohort does not include the person, by what is known of them."},
	{CohortEverybody, Warning, Gate, "The cohort of a pilot includes everybody",
		"Go live (phase=live), or narrow the cohort.",
		"The share of the cohort is 100 percent, or a network of it is every address."},
	{CohortEmpty, Warning, Gate, "The cohort of a pilot includes nobody who is known",
		"Name people, groups with people in them, or a share (setting cohort).",
		"The record is in its pilot, and none of the people who are known is in its cohort."},
	{PilotStands, Note, Gate, "A pilot was not widened for thirty days",
		"Widen its cohort, go live, or go back to the phase of before.",
		"Neither phase nor cohort of a record that is in its pilot changed for thirty days."},
	{GroupValueUnknown, Note, Provider, "A value of groups means nothing here",
		"Have it send a value of the exchange sheet letter by letter, or add this one to the group that is meant (innergate group put GROUP --value).",
		"The provider's values of groups make people members, and no group is called so."},
	{GroupValueSilent, Note, Provider, "An expected value of groups never arrived",
		"Have it send the value, spelled as on the exchange sheet; or take it off the group, if nobody is in it there.",
		"A group is called so, something is said of its people here, and none of the recorded sign-ins by the provider brought the value."},
	{RoleNotHeld, Error, Gate, "The person does not hold the role that was asked for",
		"Give them the role (innergate role put ROLE people=…, or a group), or have the application ask for one that they hold.",
		"The sign-in asked for a role of the application by name, and nobody gave it to the person."},
	{RoleNone, Error, Gate, "The person holds no role in the application, which needs one",
		"Give them a role (innergate role put ROLE people=…, or a group), give the application a default role (setting defaultRole), " +
			"or let people in without one (setting roleNeeded).",
		"The application's setting roleNeeded keeps out whoever holds no role."},
	{RoleLost, Error, Gate, "People would lose a role",
		"Look at whom it affects, and correct the role, the group or the setting.",
		"A change is about to be saved by which somebody who is known does not hold a role any more that they hold now."},
	{RoleUnsent, Warning, Gate, "The application has roles, and is sent none of them",
		"Let a rule of the release mapping read the source role: {to: {name: role}, from: [{role: true}]}.",
		"Roles are on record, and no rule of the release mapping reads them."},
	{RoleBroken, Error, Gate, "A role cannot be read any more, so that nobody holds it",
		"Correct it (innergate role put).",
		"An earlier build took a value of the role that this one does not know."},
	{RoleValuesAlike, Warning, Gate, "Values of roles differ by case alone",
		"Look how the application writes them, and correct the others (innergate role put); it compares letter by letter.",
		"Two values that are sent for roles of one application are the same but for small and capital letters."},
	{RequestUnmailed, Warning, Gate, "People may ask for entry, and nobody is told by mail",
		"Give the application an owner with an e-mail address (setting owner), and the gate a mail server; until then look into innergate request list.",
		"The setting askForEntry is on, and owner has no e-mail address, or the gate sends no mail."},
	{ApprovalAlone, Warning, Gate, "Admissions wait for another owner, and there is only one",
		"Add an owner (innergate owner add), or let admissions act at once (setting approval).",
		"The setting approval is on, and whoever asks is the only one who could approve."},
	{AccessUnlinked, Error, Gate, "The application takes people of a provider that does not know the person",
		"Link the person to the provider (innergate person link), or have the application take people of another one (setting provider).",
		"Foreseen, never at a sign-in: the person has names at other providers alone, and the application's one finds nobody by values."},
	{AccessEmpty, Warning, Gate, "Nobody can enter the application",
		"Make a rule that lets somebody in (innergate object put rule/NAME then=allow …), or set everyone=yes.",
		"No rule that holds lets anybody in, and who no rule is about does not enter."},
	{AccessUndecided, Note, Gate, "Everybody can enter, and nobody decided that",
		"Decide it: innergate app admit APPLICATION --everyone, or innergate app unadmit APPLICATION --everyone, which lets in only who is " +
			"admitted by name or by a rule.",
		"The application's setting everyone was never chosen."},
	{AdmissionEnded, Note, Gate, "The admission of a group has ended",
		"Have the application say nothing of the group any more (innergate app unadmit APPLICATION --group G), or admit it anew.",
		"The end of a group's admission has passed: it lets nobody in any more."},
	{RuleContradicts, Warning, Gate, "Two access rules are about the same people and say different things",
		"Remove one of the two, or have it be about other people: the one that is looked at first decides always.",
		"A rule has the conditions of one before it, and another outcome."},
	{RuleNever, Warning, Gate, "An access rule is about nobody",
		"Have the rule name the application's provider, or none.",
		"A rule asks for a provider that the application does not take people of."},
	{RuleValueUnknown, Warning, Gate, "An access rule asks for a value that nobody is known to have",
		"Write it as records and people have it (innergate object put rule/NAME …); where it is to come later, leave it.",
		"A rule names a user type that no record, group or person has, or reads an attribute that no profile has."},
	{DomainPublic, Warning, Gate, "An organisation is known by a domain at which anybody can have an address",
		"Take the domain out (innergate object put organisation/NAME domains=…); its people land by their provider, or by name.",
		"The domain stands in the list of public mail domains. Earlier builds took it."},
	{WayOther, Error, Gate, "The person came by a way that is not theirs",
		"Have them come by the provider that the rule names, or change the rule (innergate selection list).",
		"By who came, the rules of provider selection name another provider, and they were sent there once already or have to choose."},
	{WayLost, Error, Gate, "People would have to come by another way, or have none",
		"Look at whom it affects, and correct the rule, the domain or the provider.",
		"A change of provider selection is about to be saved, and somebody who is known does not keep the way by which they came."},
	{WayShadowed, Warning, Gate, "A rule of provider selection never decides",
		"Put it before the rule that decides always (setting order), or remove one of the two.",
		"A rule before it, for the same applications, has no other conditions."},
	{WayDead, Error, Gate, "A rule of provider selection leads nowhere",
		"Have the rule name a provider that is live, resume one of its providers, or correct what cannot be read (innergate selection put).",
		"None of the providers that the rule names is live, or an earlier build took a value that this one does not know: " +
			"whoever the rule is about is refused."},
	{WayNone, Error, Gate, "People have no way to the application",
		"Have a rule of provider selection name a provider that is live for them, or resume one: innergate selection try tells which rule decides.",
		"By the rules of provider selection no provider is left for people who are known; their next sign-in is refused."},
	{WayNever, Warning, Gate, "A rule of provider selection is about nobody",
		"Empty the setting provider of an application that the rule names, name another one, or remove the rule.",
		"Every application that the rule names is tied to a provider on its record, or nobody signs in to it."},
	{WayUnused, Note, Gate, "No application and no rule sends anybody to the provider",
		"Name it in a rule of provider selection or on an application's record, or pause it.",
		"Rules of provider selection give other providers for every application that names none."},
	{DomainPaused, Warning, Gate, "A domain belongs to a provider that is paused alone",
		"Resume the provider, or give the domain to another one (setting domains).",
		"Whoever types an address at the domain comes to the default."},
	{RuleEnded, Note, Gate, "An access rule has ended",
		"Remove the rule (innergate object remove rule/NAME), or give it another end.",
		"The end of a rule has passed: it decides nothing any more."},
	{RuleShadowed, Warning, Gate, "An access rule never decides",
		"Put it before the rule that decides always (setting order), or remove one of the two.",
		"A rule before it is about everybody whom this one is about."},
	{RuleBroken, Error, Gate, "An access rule cannot be read, and denies whomever it may be about",
		"Correct its settings (innergate object show rule/NAME), or remove it.",
		"A rule that an earlier build took has a value that this one does not know."},
	{AccessStepUp, Error, Gate, "The sign-in is not as strong or fresh as a rule asks for",
		"Have the provider give the context that the rule names, or change the rule.",
		"A stronger sign-in was asked for once and did not come, or a token is refreshed, where nobody can be asked."},
	{PersonDisabled, Error, Gate, "The person is disabled at the gate",
		"Enable the person (innergate person enable), if they may come again.",
		"Somebody comes, or a token is refreshed, whose account was disabled."},
	{PersonUnknown, Error, Gate, "The gate does not know the person, and lets in only whom it knows",
		"Add the person (innergate person add), or have the provider make accounts at the first sign-in: setting " +
			"firstSignIn.",
		"Somebody without an account comes by a provider whose setting firstSignIn is known."},
	{MatchSeveral, Error, Gate, "Several people have the value that this person is matched by",
		"Look at these people: join those that are one (innergate person join), or take the value from whom it " +
			"does not belong to. With severalMatches=ask the person chooses.",
		"Somebody comes by a new name, and more than one account has the value that matchBy names."},
	{MatchMany, Error, Provider, "The provider sent too many values to match people by",
		"Have the provider send fewer values of the attribute, or match by another one: nobody is guessed from a " +
			"part of them.",
		"Somebody comes by a new name with more than 1,000 values of an attribute that matchBy names."},
	{MatchUnproved, Note, Gate, "Values kept with people are not used for matching, because nothing proves them",
		"Name the attribute in trustedFor of the provider, or the domain in vouchesFor, if it assigns them: they " +
			"count from the next sign-in on. Or type the values that are right (innergate person set).",
		"The provider brought values of an attribute that people are found by, and was not trusted for them."},
	{MatchAlike, Warning, Gate, "People have values that only look alike",
		"Look at these people. Earlier builds took such values for the same: part who was linked wrongly " +
			"(innergate person part), join who is one.",
		"Addresses or user names differ in letters that only look alike, such as the dotted capital İ and i; " +
			"they were compared as one before."},
	{MatchLinked, Error, Gate, "The matched person is already linked to this provider by another name",
		"See whether the value, such as an address, came to be somebody else's: then take it from the person " +
			"that was found. If it is the same person with a new name, link them (innergate person link).",
		"Somebody comes by a new name and has the value of somebody whom this provider calls otherwise."},
	{MatchOpen, Warning, Gate, "People are matched by a value that they may be able to set themselves",
		"Match by what the provider alone assigns, such as an employee number, or by e-mail addresses of domains " +
			"that it stands for (vouchesFor). Whoever can set the value becomes whom they want.",
		"matchBy of a provider names an attribute that people usually edit themselves, or that nothing proves there."},
	{QuestionNeeded, Error, Application, "The person has to answer a question first",
		"Have the application send the person once without prompt=none or IsPassive, so that they can be asked.",
		"Nothing may be asked of the person, but something is missing that askFor names, or several accounts fit " +
			"(SAML core §3.4.1, OpenID Connect Core §3.1.2.6)."},
	{MailUnreached, Error, Gate, "A message could not be mailed",
		"See that the mail server of the configuration answers and takes mail from the gate; the person can try " +
			"again on the same page.",
		"A code was to be sent to somebody, and the mail server did not answer, or refused it (RFC 5321 §4.2)."},
	{MailMissing, Error, Gate, "Addresses are to be proved, but the gate has no mail server",
		"Set mail.server and mail.from in the configuration, or ask without =verified.",
		"askFor of a provider has an attribute with =verified."},
	{CodeGuessed, Error, Gate, "Mailed codes were typed wrongly too often",
		"Have the person start again and use the newest message.",
		"A code was tried five times, and three were sent in one sign-in."},
	{CodeMails, Error, Gate, "No more codes are mailed in this sign-in",
		"Have the person start again, and look for the messages among unwanted mail.",
		"Three codes were sent in one sign-in."},
	{MailLimit, Warning, Gate, "Codes are not mailed for a while: too many were asked for",
		"Have the person wait a quarter of an hour. If many need codes at once from one network, have them sign " +
			"in in turn.",
		"A person, a network or an address had as many codes mailed as are sent within a quarter of an hour."},
	{UnitUsed, Error, Gate, "The group or organisation is in use",
		"Look at what would go with it, and confirm that; or take it out first.",
		"A group or organisation is removed that has members, holds groups, or is where people land."},
	{GrantUnlinked, Error, Gate, "The person is no longer the one that the sign-in was of",
		"Have the application send the person to sign in again; look at the links of the person if that should not be.",
		"The provider's name for the person was unlinked or carried over since, or the provider was removed; a " +
			"token is refreshed against the configuration of now."},
	{GrantProvider, Error, Gate, "The sign-in was by a provider that the application does not use any more",
		"Have the application send the person to sign in again. To let what older sign-ins gave run out, set " +
			"oldGrantsUntil on the application's record.",
		"A token is refreshed or shown, and the application is tied to another provider by now."},
	{ConsentNeeded, Error, Application, "The person has to agree first",
		"Have the application send the person without prompt=none once, so that they can be asked.",
		"Nothing may be asked of the person (prompt=none), but what the application wants needs their consent " +
			"(OpenID Connect Core §3.1.2.6)."},
	{ConsentDeclined, Error, Application, "The person did not agree",
		"Nothing is broken: the person said no on the page that asks whether the application may be told. Have " +
			"it ask for fewer scopes, or the person start again.",
		"The person declined (RFC 6749 §4.1.2.1, access_denied)."},
	{SubjectIsClient, Error, Gate, "The person's subject is the client ID of an application",
		"Import another subject for the person, or give the application another client ID.",
		"A token about a person could be taken for one of the application itself (RFC 9700 §4.15)."},
	{NameShared, Error, Gate, "Two parties would have the same name in tokens",
		"Give the application another client ID (or audience): who reads a token tells people, applications and " +
			"the gate apart by these names.",
		"A client ID equals a person's subject, the gate's issuer or entity ID, or an audience of another " +
			"application (RFC 9700 §4.15)."},
	{SecretEnding, Warning, Gate, "The client secret ends soon",
		"Make the next one, innergate app secret NAME, and have the application take it before the date; both " +
			"work until then.",
		"Less than 30 days are left until the secret that is in use ends."},
	{SecretEnded, Error, Gate, "The client secret has ended",
		"Make the next one, innergate app secret NAME, and give it to the application.",
		"No secret on record is good any more, so the application cannot prove who it is."},
	{ClientDemands, Error, Application, "The application's metadata demands a feature that the gate does not have",
		"Have the application leave these members out, or set them to false, if it can do without.",
		"dpop_bound_access_tokens, tls_client_certificate_bound_access_tokens, require_signed_request_object or " +
			"another member that restricts tokens or requests (RFC 9449 §5.2, RFC 8705 §3.4, RFC 9101 §10.5)."},
	{RedirectLoopback, Warning, Gate, "A redirect URI leads to the machine itself",
		"Take it off the record once the application runs where people use it.",
		"A web or browser application has a loopback address or localhost on record, which is good for whoever " +
			"develops it only."},
	{JWKWithoutUse, Note, Application, "A key does not say what it is for",
		"Have the application add \"use\": \"sig\" to the key, so that nobody encrypts to it.",
		"A JWK has neither use nor key_ops (RFC 7517 §4.2); it is taken for signatures."},
	{IdentifierUsed, Error, Gate, "The identifier belonged to another application before",
		"Restore that application from the history, or give another identifier, or none to have one made.",
		"Client IDs are never used again, so that nobody inherits what was given to another (RFC 9700 §4.15)."},
	{ScopeGrown, Error, Application, "The application asks for more scopes than were granted",
		"Have the application ask for the same scopes or fewer; for more the person signs in again.",
		"scope of a refresh has what the grant has not (RFC 6749 §6)."},
	{ClientMetadata, Error, Sender, "The client metadata cannot be used as it is",
		"Ask the sender to correct the member named here, or type the values by hand.",
		"No JSON object, or a member of another type, or one that asks for what is not offered (RFC 7591 §2, " +
			"OpenID Connect Registration §2)."},
	{JWKSUnusable, Error, Sender, "There is no usable key in the given document",
		"Ask the sender for a JWK Set or a key in PEM: RSA with 2048 bits or more, P-256, P-384, P-521 or " +
			"Ed25519, for signatures.",
		"No JWK Set (RFC 7517), or one without a public key for signatures."},
	{TokenMalformed, Error, Sender, "The token cannot be read",
		"Have the sender make a signed token in compact form, with header members that are known, none of them twice.",
		"It is no compact JWS (RFC 7515 §7.1), too long, or demands by crit what is not known (§4.1.11)."},
	{TokenEncrypted, Error, Sender, "The token is encrypted",
		"Turn the encryption of tokens off at the sender; they travel over TLS.",
		"Five parts: a JWE (RFC 7516), which is not offered."},
	{TokenAlgorithm, Error, Sender, "The token is signed by an algorithm that is not allowed",
		"Have the sender sign with one of the algorithms named here.",
		"alg is none, one of a shared secret, or not on record (RFC 8725 §3.1)."},
	{TokenKind, Error, Sender, "This is another kind of token",
		"Have the sender use the token that is meant for this.",
		"typ of the header says so: ID tokens, access tokens and logout tokens do not stand in for each other " +
			"(RFC 8725 §3.11)."},
	{TokenKey, Error, Sender, "No key on record fits the token",
		"Take in the sender's current keys.",
		"No key has the kid of the header, or is of the kind that the algorithm needs."},
	{TokenAltered, Error, Sender, "The signature of the token does not hold",
		"Compare the keys on record with the sender's; see that nothing on the way changes the token.",
		"The signature was made with another key, or the token was altered (RFC 7515 §5.2)."},

	// Relying on OpenID and OAuth 2.0 providers.
	{DiscoveryUnusable, Error, Gate, "The provider's document cannot be used as it is",
		"Give the issuer, or the address of its document, as the provider's administrator names it; or type the " +
			"endpoints by hand.",
		"No JSON object with issuer and endpoints, or a member of another type (OpenID Connect Discovery §3, §4.3)."},
	{DiscoveryIssuer, Error, Gate, "The document is that of another issuer",
		"Give the issuer exactly as the document names it, if that is the provider meant; a slash at the end counts.",
		"issuer in the document differs from the one that was asked for (OpenID Connect Discovery §4.3)."},
	{DiscoveryElsewhere, Warning, Provider, "The document lies elsewhere than its issuer says",
		"Ask the provider's administrator which issuer is meant; tokens must come from the one named in the document.",
		"The address is not that of the issuer followed by the well-known path (OpenID Connect Discovery §4)."},
	{IssuerSlash, Note, Provider, "The issuer ends with a slash",
		"Nothing to do if the provider's tokens say so too: the two are compared letter by letter.",
		"Many libraries drop or add it, and then nothing fits (OpenID Connect Core §3.1.3.7)."},
	{AnswerMalformed, Error, Provider, "The provider's answer cannot be read",
		"Have the provider send each parameter of its authorization response once.",
		"A parameter came twice, or the response is too long (RFC 6749 §3.1, §4.1.2)."},
	{AnswerUnasked, Error, Browser, "This answer belongs to no sign-in that was begun here",
		"Start again at the application. If it happens always: the redirect URI at the provider may be that of " +
			"another provider's record.",
		"state is unknown, or that of a sign-in at another provider (RFC 6749 §10.12, RFC 9700 §4.4)."},
	{AnswerIssuer, Error, Provider, "The answer names another issuer than the one that was asked",
		"Somebody may have mixed up providers on purpose: look at who sent the person. Else correct the issuer " +
			"on the record.",
		"iss of the response differs, or is missing though the provider announces it (RFC 9207 §2.4)."},
	{AnswerTwice, Error, Browser, "This answer was used before",
		"Start again at the application. If nobody reloaded a page, somebody may have copied the answer: look at " +
			"the other trace.",
		"state counts once, also of an answer that was refused (RFC 9700 §4.7)."},
	{ProviderDenied, Error, Provider, "The provider did not let the person in",
		"Read its words in the evidence: the person declined, or is not assigned to the gate there; the " +
			"provider's own log says more.",
		"The authorization response is access_denied (RFC 6749 §4.1.2.1)."},
	{ProviderRequest, Error, Provider, "The provider does not take the gate's request",
		"Read its words in the evidence, and correct what they name: scopes, response type or redirect URI, on " +
			"either side.",
		"The authorization response is an error such as invalid_scope or unauthorized_client (RFC 6749 §4.1.2.1)."},
	{ProviderBusy, Error, Provider, "The provider takes no sign-ins at the moment",
		"Try again in a few minutes; if it stays, ask the provider's administrator with the words in the evidence.",
		"The provider answered temporarily_unavailable (RFC 6749 §4.1.2.1)."},
	{ProviderFailed, Error, Provider, "The provider failed",
		"Try again; if it stays, ask the provider's administrator with the words in the evidence.",
		"server_error, or an HTTP status of 500 and more."},
	{ClientRefused, Error, Gate, "The provider does not accept the gate's client ID and secret",
		"Copy the secret's value (not its identifier) from the provider again and set it here (innergate provider update " +
			"NAME --client-secret-file FILE); see that it has not ended, and compare client ID and authentication method.",
		"The token endpoint answered invalid_client or unauthorized_client (RFC 6749 §5.2)."},
	{CodeRefused, Error, Provider, "The provider refuses the code that it gave",
		"Compare the redirect URI at the provider letter by letter; if it is right, compare clocks and start again.",
		"The token endpoint answered invalid_grant (RFC 6749 §5.2)."},
	{TokenRefused, Error, Provider, "The token endpoint refuses the gate's request",
		"Read its words in the evidence, and correct what they name.",
		"The token endpoint answered an error of another kind (RFC 6749 §5.2)."},
	{TokenAnswerOdd, Error, Gate, "The token endpoint answered with something other than tokens",
		"Correct the token endpoint on the provider's record: the address of a page, or of a proxy in front, answers so.",
		"A page instead of JSON, no access_token, or a token_type other than Bearer (RFC 6749 §5.1, OpenID " +
			"Connect Core §3.1.3.3)."},
	{TokenUnreached, Error, Gate, "The token endpoint cannot be reached from the gate",
		"See that the address is right and that the gate may reach it: the gate calls it, not the browser.",
		"No connection, no answer within ten seconds, or a redirect, which is not followed with a secret."},
	{IDTokenMissing, Error, Gate, "The provider sent no ID token",
		"Ask for the scope openid; a provider that has no ID tokens is added with the protocol oauth2.",
		"The token answer has no id_token (OpenID Connect Core §3.1.3.3)."},
	{TokenIssuer, Error, Gate, "The token was issued by somebody else",
		"Compare both issuers letter by letter, the slash at the end too, and correct the one on the provider's record.",
		"iss is not the issuer on record (OpenID Connect Core §3.1.3.7 no. 2)."},
	{TokenAudience, Error, Provider, "The token was made for another client",
		"Compare the client ID on both sides; have the provider name nobody else.",
		"aud lacks our client ID, or names somebody who is not known (OpenID Connect Core §3.1.3.7 no. 3)."},
	{TokenParty, Error, Provider, "The token was given to another client",
		"Compare the client ID on both sides.", "azp is not our client ID (OpenID Connect Core §3.1.3.7 no. 5)."},
	{TokenExpired, Error, Provider, "The token is past its time", "Compare the clocks of provider and gate.",
		"exp lies in the past by more than the allowed skew (OpenID Connect Core §3.1.3.7 no. 9)."},
	{TokenNotYet, Error, Provider, "The token is not valid yet",
		"Compare the clocks of provider and gate; the provider's is ahead.",
		"iat, nbf or auth_time lies ahead by more than the allowed skew (RFC 7519 §4.1.5)."},
	{TokenNonce, Error, Provider, "The token belongs to another sign-in",
		"Start again at the application. If it happens always: have the provider copy nonce into the ID token.",
		"nonce is missing or another one (OpenID Connect Core §3.1.3.7 no. 11)."},
	{TokenHash, Error, Provider, "The hash in the token does not fit the code or access token",
		"Have the provider compute at_hash and c_hash by the token's algorithm; see that nothing in between " +
			"exchanges tokens.",
		"at_hash or c_hash is that of another access token or code (OpenID Connect Core §3.1.3.8, §3.3.2.10)."},
	{TokenSubject, Error, Provider, "The token does not name the person",
		"Have the provider send a sub that is a text of 1 to 255 ASCII letters.",
		"sub is missing, empty, too long or no text (OpenID Connect Core §2)."},
	{TokenClaim, Error, Provider, "The token lacks a claim, or has one that cannot be read",
		"Have the provider send the claim named here.",
		"exp, iat or auth_time is missing or no time (OpenID Connect Core §2)."},
	{TenantRefused, Error, Gate, "People of this tenant may not come",
		"Add the tenant to those allowed on the record, if its people are meant to come.",
		"The tenant in iss is not among those allowed, or is that of personal accounts."},
	{ClaimRefused, Error, Gate, "A claim does not have the value that the record demands",
		"Correct requireClaims on the record, if these people are meant to come; else the provider let in " +
			"somebody it should not.",
		"A claim that has to have a given value is missing or has another."},
	{UserInfoOdd, Error, Provider, "The user-info address answered with something other than claims",
		"See that the address on record is right; have the provider answer in JSON, or with a signed JWT.",
		"A page, or no JSON object (OpenID Connect Core §5.3.2)."},
	{UserInfoRefused, Error, Gate, "The user-info address refuses the access token",
		"Add the scopes that it wants to the setting scopes of the provider; its words are in the evidence.",
		"An HTTP status other than 2xx (OpenID Connect Core §5.3.3, RFC 6750 §3)."},
	{UserInfoSubject, Error, Provider, "The user-info address is about another person than the ID token",
		"Ask the provider's administrator; nothing of it is believed.",
		"sub differs from that of the ID token, or is missing (OpenID Connect Core §5.3.2)."},
	{UserInfoUnreached, Error, Gate, "The user-info address cannot be reached from the gate",
		"See that the address is right and that the gate may reach it: the gate calls it, not the browser.",
		"No connection, no answer within ten seconds, or a redirect, which is not followed with a token."},
	{IdentifierMissing, Error, Gate, "The user-info address does not send the identifier of the person",
		"Choose a member that is there, with the setting identifier; the evidence lists those that came.",
		"The identifier member is missing, empty, or neither a text nor a whole number."},
	{IdentifierMutable, Warning, Gate, "The identifier can change, or go to somebody else",
		"Use the provider's lasting number for the account, like id, if it tells one.",
		"The identifier member is an e-mail address or a login name: whoever gets it later is taken for the person."},
	{LogoutTokenRefused, Error, Provider, "The logout token cannot be used",
		"Have the provider make logout tokens as the standard says.",
		"events, iat, jti, sub or sid is missing, it has a nonce, or was used before (OpenID Connect " +
			"Back-Channel Logout §2.6)."},
	{ClaimsApart, Note, Provider, "The ID token and the user-info address tell different values",
		"Have the provider tell these claims at one place, or the same at both. Until then the earlier source counts: the ID token.",
		"A claim has other values in one source than in another, like the ID token and the user-info address."},
	{ClaimsElsewhere, Note, Provider, "The provider keeps some claims at another place",
		"Have the provider put them into the token or at its user-info address; the gate does not ask at other places.",
		"_claim_names tells of aggregated or distributed claims (OpenID Connect Core §5.6.2)."},
	{GroupsElsewhere, Warning, Provider, "The person has too many groups for the token",
		"Have the provider send only the groups assigned to the gate, or roles instead; the evidence says where " +
			"the list would be.",
		"The token has a pointer in place of groups (_claim_names, or hasgroups)."},
	{RequiresUnoffered, Error, Provider, "The provider demands a feature that the gate does not have",
		"Have the provider lift the demand for the gate's registration.",
		"mTLS (RFC 8705), DPoP (RFC 9449), request objects (RFC 9101), pushed requests only (RFC 9126) or " +
			"encrypted tokens."},
	{SecretIsIdentifier, Warning, Gate, "The client secret looks like an identifier",
		"Copy the value of the secret, not its ID: it is shown once, when the secret is made.",
		"The secret is a bare UUID; secrets are not made so."},
	{SecretSpace, Warning, Gate, "The client secret has white space in it",
		"Copy it again without what stands around it.",
		"White space around it was taken off; within it is kept, and hardly ever meant."},
	{OurSecretEnding, Warning, Gate, "The client secret at the provider ends soon",
		"Have the provider's administrator make the next one, and take it in: innergate provider update NAME " +
			"--client-secret-file FILE.",
		"Less than 30 days are left until the date that was noted with the secret."},
	{OurSecretEnded, Error, Gate, "The client secret at the provider has ended",
		"Have the provider's administrator make the next one, and take it in: innergate provider update NAME " +
			"--client-secret-file FILE.",
		"The date that was noted with the secret lies in the past."},
	{ScopeWithoutOpenID, Error, Gate, "The scopes lack openid",
		"Add openid to the setting scopes; without it there is no ID token.",
		"OpenID Connect Core §3.1.2.1: a request without it is not one of OpenID Connect."},
	{ScopeUnknown, Warning, Gate, "The provider does not name a scope that is asked for",
		"Take it out of the setting scopes, or ask the provider's administrator whether it is known there.",
		"scopes_supported is given, and lacks it (OpenID Connect Discovery §3)."},
	{AlgorithmUnoffered, Error, Provider, "The provider signs by no algorithm that is taken",
		"Have the provider sign ID tokens with RS256, PS256, ES256 or EdDSA for the gate, or change the setting " +
			"algorithms.",
		"id_token_signing_alg_values_supported and the algorithms on record have none in common."},
	{PKCEUnoffered, Note, Gate, "The provider does not say that it knows PKCE",
		"Nothing to do: what it does not know it passes over. If it refuses the request for it, set withoutPKCE.",
		"code_challenge_methods_supported is missing or lacks S256 (RFC 8414 §2, RFC 9700 §2.1.1)."},
	{MethodUnoffered, Error, Gate, "The provider does not accept the gate's client authentication",
		"Choose one that it names, with the setting authMethod.",
		"token_endpoint_auth_methods_supported lacks the method on record."},
	{ResponseUnoffered, Error, Gate, "The provider does not offer this response type",
		"Leave the setting responseType empty; nearly all offer code.",
		"response_types_supported lacks the response type on record."},
	{EndpointElsewhere, Warning, Gate, "An endpoint lies at another host than the issuer",
		"See that the host is the provider's: the client secret and tokens go there.",
		"The host is neither that of the issuer nor below its domain (RFC 8414 §6.2)."},
	{JWKSUnavailable, Error, Provider, "The provider's keys cannot be had",
		"See that the JWKS address on record is right and answers the gate with keys for signatures.",
		"jwks_uri did not answer, or gave no JWK Set with a key that can be used, and there is no good copy of " +
			"before."},
	{UpstreamEnded, Error, Application, "The provider no longer vouches for the person",
		"Have the application send the person to sign in again.",
		"The tokens that were kept to ask about the person again have ended, or were taken back (RFC 6749 §5.2)."},
	{RequestRefused, Error, Provider, "The provider refuses an authorization request of the gate with a page",
		"Read what its page says: mostly the redirect URI or the client ID is not registered there as the gate " +
			"sends it.",
		"Tried on demand, without a person: the authorization endpoint answered with a status of 400 or more."},
	{CrossingLeft, Note, Provider, "The person did not come back from the provider",
		"If they saw a page with an error there, it says why: mostly the redirect URI or the client ID is not " +
			"registered as sent, or the person is not assigned. Else they closed the window.",
		"The gate sent the person to the provider, and no answer came within ten minutes."},
}

var byCode = func() map[Code]Entry {
	m := make(map[Code]Entry, len(catalogue))
	for _, e := range catalogue {
		if _, twice := m[e.Code]; twice {
			panic("finding: code twice in catalogue: " + string(e.Code))
		}
		m[e.Code] = e
	}
	return m
}()

// Known gives an entry of the catalogue.
func Known(code Code) (Entry, bool) {
	e, ok := byCode[code]
	return e, ok
}

// Catalogue returns all entries in their order.
func Catalogue() []Entry { return append([]Entry(nil), catalogue...) }
