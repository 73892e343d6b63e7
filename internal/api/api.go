// Package api holds the wire types of the API: what the service sends, the
// client reads and the OpenAPI document describes.
package api

import (
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/trace"
)

// Problem is an error in the form of RFC 9457.
type Problem struct {
	Type    string           `json:"type" doc:"Kind of problem; about:blank, or the finding's page"`
	Title   string           `json:"title" doc:"What is wrong"`
	Status  int              `json:"status" doc:"HTTP status"`
	Detail  string           `json:"detail,omitempty" doc:"The cause, and what to do"`
	Errors  []FieldProblem   `json:"errors,omitempty" doc:"Fields that are wrong"`
	Finding *finding.Finding `json:"finding,omitempty" doc:"The finding, if it is one"`
}

// FieldProblem says what is wrong with one field.
type FieldProblem struct {
	Field   string `json:"field"`
	Message string `json:"message"`
}

// Error gives the detail, or the title if there is none.
func (p *Problem) Error() string {
	if p.Detail != "" {
		return p.Detail
	}
	return p.Title
}

// GetStatus is the HTTP status.
func (p *Problem) GetStatus() int { return p.Status }

// ContentType is that of problem details.
func (p *Problem) ContentType(string) string { return "application/problem+json" }

// Certificate is a certificate as people compare it.
type Certificate struct {
	Use       string             `json:"use,omitempty" doc:"signing, encryption, or absent for both"`
	Subject   string             `json:"subject,omitempty"`
	Issuer    string             `json:"issuer,omitempty"`
	NotBefore time.Time          `json:"notBefore,omitzero"`
	NotAfter  time.Time          `json:"notAfter,omitzero"`
	Key       string             `json:"key" doc:"Kind and size, like RSA 2048"`
	Next      bool               `json:"next,omitempty" doc:"Announced, and not in use yet"`
	SHA256    string             `json:"sha256,omitempty" doc:"Fingerprint of the DER form"`
	SHA1      string             `json:"sha1,omitempty"`
	PEM       string             `json:"pem,omitempty"`
	Findings  []*finding.Finding `json:"findings,omitempty"`
}

// Endpoint is an address with its binding.
type Endpoint struct {
	Use      string `json:"use" doc:"What it is for, in the standard's word"`
	Binding  string `json:"binding"`
	Location string `json:"location"`
	Index    int    `json:"index,omitempty"`
	Default  bool   `json:"default,omitempty"`
}

// Record is what a provider and an application on record have in common.
type Record struct {
	ID           string              `json:"id" doc:"What people's links and subjects refer to; unlike the name it is never used again"`
	Name         string              `json:"name"`
	Title        string              `json:"title"`
	Protocol     string              `json:"protocol"`
	EntityID     string              `json:"entityId" doc:"Identity in its protocol; empty while it is not known, or if the protocol has none"`
	Source       string              `json:"source" doc:"Address the metadata came from, or document"`
	Settings     federation.Settings `json:"settings"`
	Lists        federation.Settings `json:"lists" doc:"Those settings that are lists or pairs, as arrays and objects; both forms can be given"`
	Rules        []EffectiveRule     `json:"rules" doc:"The mapping as it acts: of the record and of its set, and what it leaves out of that"`
	Endpoints    []Endpoint          `json:"endpoints"`
	Facts        []federation.Value  `json:"facts" doc:"What is known of the other side beside identity, addresses and keys"`
	Certificates []Certificate       `json:"certificates"`
	Missing      []string            `json:"missing,omitempty" doc:"What an unfinished record still lacks"`
	Taken        Taken               `json:"taken"`
	Standing     Standing            `json:"standing"`
	Added        time.Time           `json:"added"`
	Revision     int                 `json:"revision"`
	Consequence  *Consequence        `json:"consequence,omitempty" doc:"After a change: what it did to people who signed in lately"`
}

// Standing is whether a record works, and what is known of that.
type Standing struct {
	State        checks.Standing `json:"state" enum:"broken,failing,attention,unfinished,untried,paused,works" doc:"broken: a finding says that it cannot work; failing: the last sign-in was refused; attention: a change waits, a refresh failed, or there are warnings; unfinished: values are missing; untried: nobody has signed in yet"`
	Findings     []Found         `json:"findings"`
	Acknowledged []Acknowledged  `json:"acknowledged,omitempty"`
	Waiting      *Pending        `json:"waiting,omitempty" doc:"A change of its metadata that waits for approval"`
	LastSignIn   *TraceHead      `json:"lastSignIn,omitempty" doc:"The last one that came to an end, and in which a counterpart proved to be one"`
	Proofs       []Proof         `json:"proofs,omitempty" doc:"Of an application: its rehearsals, and what their newest runs came to"`
	LastUnproved *TraceHead      `json:"lastUnproved,omitempty" doc:"A later one in which nobody proved to be a counterpart: a stranger may have made it up, or nothing works yet"`
}

// Connection is an application, the provider it is tied to, and how far they are.
type Connection struct {
	State      checks.Standing `json:"state" enum:"broken,failing,attention,unfinished,untried,paused,works"`
	Name       string          `json:"name"`
	Title      string          `json:"title"`
	Protocol   string          `json:"protocol"`
	Phase      string          `json:"phase"`
	Provider   string          `json:"provider,omitempty" doc:"Absent: the routing decides"`
	Attended   bool            `json:"attended" doc:"People sign in to it"`
	Open       string          `json:"open" doc:"Start at the gate; empty if it can only be started at the application"`
	Errors     int             `json:"errors"`
	Warnings   int             `json:"warnings"`
	Worst      string          `json:"worst,omitempty" doc:"Title of the worst finding"`
	Waiting    bool            `json:"waiting" doc:"A change waits for approval"`
	LastSignIn *TraceHead      `json:"lastSignIn,omitempty"`
	Proved     string          `json:"proved" enum:"proved,before,failed,never" doc:"By its rehearsals: proved; before: before the last change; failed; never"`
	Accounts   *Fits           `json:"accounts,omitempty" doc:"How its accounts fitted when they were last compared"`
}

// ConnectionList is a page of connections, with counts over all that match.
type ConnectionList struct {
	Items  []Connection            `json:"items"`
	Total  int64                   `json:"total"`
	Counts map[checks.Standing]int `json:"counts" doc:"By state, whatever state was asked for"`
}

// Provider is an identity provider on record.
type Provider struct {
	Record
}

// Application is an application on record.
type Application struct {
	Record
	Provider     string `json:"provider,omitempty" doc:"Provider it is tied to; absent leaves it to the routing"`
	Attended     bool   `json:"attended" doc:"People sign in to it"`
	Open         string `json:"open" doc:"Start at the gate; empty if it can only be started at the application"`
	OwnStart     string `json:"ownStart,omitempty" doc:"Its own start address, if it accepts only sign-ins it started"`
	ClientID     string `json:"clientId,omitempty" doc:"Of an OAuth client, the same as entityId"`
	ClientSecret string `json:"clientSecret,omitempty" doc:"In the answer to adding one, if a secret was made: it is shown this once"`
}

// Rotation is how a client secret follows another.
type Rotation struct {
	Revision     int    `json:"revision,omitempty" doc:"Revision the change was made from; absent for whatever it is at"`
	ClientSecret string `json:"clientSecret,omitempty" maxLength:"512" doc:"The next one; absent to have one made"`
	Overlap      string `json:"overlap,omitempty" maxLength:"20" doc:"How long those of before stay good, like 14d; absent for 7d, 0 for not at all"`
	Life         string `json:"life,omitempty" maxLength:"20" doc:"How long the next one is good, like 365d; absent for no end"`
	End          bool   `json:"end,omitempty" doc:"End those of before now, and make none"`
}

// Rotated is what came of it.
type Rotated struct {
	ClientID     string `json:"clientId"`
	ClientSecret string `json:"clientSecret,omitempty" doc:"If it was made: it is shown this once"`
	Revision     int    `json:"revision"`
}

// Grant is what one sign-in gave an application.
type Grant struct {
	ID       string    `json:"id"`
	Person   int64     `json:"person,omitempty" doc:"Number of the account; absent if the person is known for the session only"`
	Name     string    `json:"name,omitempty" doc:"The name that the person has here"`
	Subject  string    `json:"subject"`
	Provider string    `json:"provider"`
	Scopes   []string  `json:"scopes"`
	Offline  bool      `json:"offline" doc:"It outlives the session"`
	Began    time.Time `json:"began"`
	Used     time.Time `json:"used,omitzero"`
	Ended    string    `json:"ended,omitempty" enum:"code-twice,code-misused,token-twice,revoked,withdrawn,signed-out,code-not-used,provider,crowded,idle,aged" doc:"Why it gives nothing any more"`
	Trace    string    `json:"trace,omitempty" doc:"Reference of the sign-in"`
}

// Notice is a call that waits for its answer.
type Notice struct {
	Application string    `json:"application,omitempty" doc:"That is told of a sign-out"`
	Address     string    `json:"address"`
	Tries       int       `json:"tries"`
	Answer      string    `json:"answer,omitempty" doc:"To the last try"`
	Due         time.Time `json:"due" doc:"When it is tried again"`
	Until       time.Time `json:"until" doc:"When it is given up"`
}

// Consent is what somebody agreed to that an application may be told.
type Consent struct {
	Person int64     `json:"person"`
	Name   string    `json:"name,omitempty" doc:"The name that the person has here"`
	Scopes []string  `json:"scopes"`
	At     time.Time `json:"at"`
}

// Withdrawn is what taking a consent back came to.
type Withdrawn struct {
	Ended int64 `json:"ended" doc:"Grants that ended with it"`
}

// List is a page of a list.
type List[T any] struct {
	Items []T   `json:"items"`
	Total int64 `json:"total" doc:"Number of all that match, on this page or not"`
}

// Given is what the other side handed over: one of a document, an address,
// another record or an entity of an aggregate; typed values alone, or laid over
// it.
type Given struct {
	Metadata       string           `json:"metadata,omitempty" doc:"The metadata document; a certificate in PEM or base64 begins an unfinished record, or renews the key of a record"`
	MetadataBase64 string           `json:"metadataBase64,omitempty" doc:"The document in base64, if it is not UTF-8"`
	Address        string           `json:"address,omitempty" maxLength:"2048" doc:"Address to fetch the metadata from, and to keep it fresh by"`
	Record         string           `json:"record,omitempty" maxLength:"100" doc:"Record whose document holds this role too, like provider/wrenmoor-staff"`
	Aggregate      string           `json:"aggregate,omitempty" maxLength:"63" doc:"Short name of an aggregate"`
	Entity         string           `json:"entity,omitempty" maxLength:"1024" doc:"Entity ID in the aggregate, or in a document with several entities"`
	Typed          federation.Typed `json:"typed,omitempty" maxProperties:"20" doc:"Values typed by hand, by field: entityId, ssoRedirect, ssoPost, acs, acsArtifact, nameIdFormat, and in PEM or base64 of DER certificate, nextCertificate (stands beside the present one), encryptionCertificate; of a link: link; of an OAuth client: kind, redirectUris and postLogoutRedirectUris (separated by spaces), clientId, clientSecret, jwks (JWK, JWK Set, or PEM), jwksUri, backchannelLogoutUri, initiateLoginUri; of a provider with an issuer or OAuth 2.0: issuer, authorize, token, userinfo, endSession, clientId, clientSecret, clientSecretEnds (YYYY-MM-DD), jwks, jwksUri"`
	Expect         string           `json:"expect,omitempty" maxLength:"64" doc:"SHA-256 of the document that was previewed; another one is refused"`
}

// NewRecord is what a provider or an application is added from.
type NewRecord struct {
	Name     string              `json:"name" maxLength:"200" doc:"Short name: a-z, 0-9 and hyphen, at most 63; a preview proposes one for an empty name"`
	Protocol string              `json:"protocol,omitempty" maxLength:"20" doc:"What it speaks; absent for the first"`
	Settings federation.Settings `json:"settings,omitempty" doc:"What is decided about it; the title is taken from the metadata if absent, the phase is live if nothing is missing"`
	Draft    bool                `json:"draft,omitempty" doc:"Keep the record even if values are still missing"`
	Given
}

// NewProvider is what a provider is added from.
type NewProvider struct{ NewRecord }

// NewApplication is what an application is added from.
type NewApplication struct{ NewRecord }

// Preview is what would be set, before anything is.
type Preview struct {
	Kind        string                  `json:"kind"`
	Name        string                  `json:"name" doc:"Short name; a proposal if none was given"`
	Title       string                  `json:"title"`
	EntityID    string                  `json:"entityId"`
	Existing    bool                    `json:"existing" doc:"A record of the name is there: this would change it"`
	Known       string                  `json:"known,omitempty" doc:"Another record that has this entity ID"`
	Revision    int                     `json:"revision" doc:"To be given back when saving"`
	Document    string                  `json:"document,omitempty" doc:"SHA-256 of the document, to be given back as expect"`
	Choices     []Choice                `json:"choices,omitempty" doc:"The document holds several entities: give the one that is meant as entity. Nothing else is told then"`
	OtherRole   bool                    `json:"otherRole" doc:"The document also holds the entity's other role"`
	Values      []federation.Value      `json:"values"`
	Differences []federation.Difference `json:"differences"`
	Missing     []string                `json:"missing" doc:"Values that are still to come from the other side"`
	Findings    []*finding.Finding      `json:"findings"`
	Consequence *Consequence            `json:"consequence,omitempty" doc:"What adding it would do to people"`
}

// Choice is one of several entities that a document holds.
type Choice struct {
	Identity string `json:"entityId"`
	Title    string `json:"title,omitempty"`
}

// Retake is newer values for a record that is there.
type Retake struct {
	Revision int `json:"revision" doc:"Revision the change was made from; another one is refused"`
	Given
}

// Text is a document.
type Text struct {
	Document string `json:"document"`
}

// Row is a provider or application in a list.
type Row struct {
	Name     string    `json:"name"`
	Title    string    `json:"title"`
	Protocol string    `json:"protocol"`
	EntityID string    `json:"entityId"`
	Source   string    `json:"source"`
	Phase    string    `json:"phase" doc:"draft, pilot, live, paused or retired"`
	Missing  []string  `json:"missing,omitempty" doc:"What an unfinished record still lacks"`
	Provider string    `json:"provider,omitempty" doc:"Provider an application is tied to"`
	Open     string    `json:"open,omitempty" doc:"Start at the gate, of an application"`
	OwnStart string    `json:"ownStart,omitempty"`
	Rules    int       `json:"rules" doc:"Of its mapping, those of its set counted in"`
	Set      string    `json:"set,omitempty" doc:"Named mapping that it shares"`
	Ends     time.Time `json:"ends,omitzero" doc:"When the first of its signing certificates, or its secret, ends"`
	Revision int       `json:"revision"`
}

// Taken is how the values of a record came in, and how current they are.
type Taken struct {
	Document        string        `json:"document,omitempty" doc:"SHA-256 of the document"`
	ValidUntil      time.Time     `json:"validUntil,omitzero"`
	SignatureMethod string        `json:"signatureMethod,omitempty"`
	SignedBy        string        `json:"signedBy,omitempty" doc:"Whose key the signature names; verified says whether anybody vouches for it"`
	Verified        bool          `json:"verified" doc:"The signature was made with the trust key"`
	TrustKeys       []Certificate `json:"trustKeys,omitempty" doc:"The certificates in trustKey, as people compare them"`
	OtherRole       bool          `json:"otherRole" doc:"The document also holds the entity's other role"`
	Fresh           Fresh         `json:"fresh" doc:"Of a record with a metadata address"`
}

// Aggregate is an aggregate on record.
type Aggregate struct {
	Name            string             `json:"name"`
	Settings        AggregateSettings  `json:"settings"`
	Title           string             `json:"title" doc:"As set, or as the document names itself"`
	Size            int64              `json:"size" doc:"Octets"`
	ValidUntil      time.Time          `json:"validUntil,omitzero"`
	SignatureMethod string             `json:"signatureMethod,omitempty"`
	SignedBy        string             `json:"signedBy,omitempty" doc:"Whose key its signature names"`
	Verified        bool               `json:"verified" doc:"The signature was made with the trust key"`
	TrustKeys       []Certificate      `json:"trustKeys,omitempty" doc:"The certificates in trustKey, as people compare them"`
	Entities        int                `json:"entities"`
	Broken          int                `json:"broken" doc:"Entities that cannot be used"`
	TakenAt         time.Time          `json:"takenAt,omitzero" doc:"When its present edition was taken in"`
	Changes         *Changes           `json:"changes,omitempty" doc:"What differs from the edition before"`
	Fresh           Fresh              `json:"fresh"`
	Findings        []*finding.Finding `json:"findings"`
	Added           time.Time          `json:"added"`
	Revision        int                `json:"revision"`
}

// NewAggregate is what an aggregate is added from. Without an address a document
// is uploaded with it.
type NewAggregate struct {
	Name string `json:"name" maxLength:"200" doc:"Short name"`
	AggregateSettings
}

// AggregateChange changes settings of an aggregate; those that are absent stay.
type AggregateChange struct {
	Revision int           `json:"revision"`
	Settings AggregateEdit `json:"settings"`
}

// AggregateEdit is some of the settings of an aggregate.
type AggregateEdit struct {
	Title     *string `json:"title,omitempty" maxLength:"200" doc:"What people read; the Name in the document if empty"`
	Address   *string `json:"address,omitempty" maxLength:"2048" doc:"Address it is fetched from; empty for one that is uploaded"`
	TrustKey  *string `json:"trustKey,omitempty" maxLength:"20000" doc:"Certificate in PEM whose key must have signed it"`
	Notes     *string `json:"notes,omitempty" maxLength:"20000"`
	AddressCA *string `json:"addressCA,omitempty" maxLength:"40000" doc:"Certificates in PEM of authorities that its address rests on"`
}

// TakeOver says which entities of an aggregate are to become records.
type TakeOver struct {
	Kind     string            `json:"kind" enum:"provider,application" doc:"What they become"`
	Entities []string          `json:"entities,omitempty" maxItems:"10000" doc:"Entity IDs; without any, all that match"`
	Names    map[string]string `json:"names,omitempty" doc:"Short names by entity ID; others are made from titles"`
	Search   string            `json:"search,omitempty" maxLength:"200" doc:"Without entities: part of an entity ID or title"`
	All      bool              `json:"all,omitempty" doc:"Without entities and search: really all"`
	Provider string            `json:"provider,omitempty" maxLength:"63" doc:"Provider to tie applications to"`
	Phase    federation.Phase  `json:"phase,omitempty" enum:"draft,live,paused" doc:"Of the records that are made; absent: live"`
	Digest   string            `json:"digest,omitempty" maxLength:"64" doc:"Of the preview that was looked at; if given, nothing else is taken"`
}

// TakePreview is what taking entities over would make.
type TakePreview struct {
	Kind   string           `json:"kind"`
	Phase  federation.Phase `json:"phase"`
	New    int              `json:"new" doc:"Records that would be made"`
	Known  int              `json:"known" doc:"Entities that are on record already, and stay as they are"`
	First  []string         `json:"first" doc:"Entity IDs of the first twenty that would be made"`
	Digest string           `json:"digest" doc:"To be given when they are taken"`
}

// Found is a finding with the mark by which it can be acknowledged.
type Found struct {
	finding.Finding
	Mark string `json:"mark" doc:"Short for what it says, but for what passes with time"`
}

// Acknowledged is a finding that somebody knows of, until a date.
type Acknowledged struct {
	Found
	Remark string    `json:"remark"`
	Who    string    `json:"who"`
	At     time.Time `json:"at"`
	Until  time.Time `json:"until"`
}

// Checked is a record, an aggregate or the gate itself, with its findings.
type Checked struct {
	Kind         string         `json:"kind" doc:"provider, application, aggregate, or gate"`
	Name         string         `json:"name"`
	Title        string         `json:"title"`
	Findings     []Found        `json:"findings"`
	Acknowledged []Acknowledged `json:"acknowledged,omitempty" doc:"Findings that count no more, until their date"`
}

// CodeCount is how often a finding was given.
type CodeCount struct {
	Code     finding.Code     `json:"code"`
	Severity finding.Severity `json:"severity"`
	Side     finding.Side     `json:"side"`
	Title    string           `json:"title"`
	Remedy   string           `json:"remedy"`
	Findings int              `json:"findings"`
	Records  int              `json:"records"`
}

// CheckList is a page of checked records; counts are of all findings.
type CheckList struct {
	Items        []Checked      `json:"items"`
	Total        int64          `json:"total" doc:"Records with findings"`
	Counts       map[string]int `json:"counts" doc:"Findings by severity"`
	Codes        []CodeCount    `json:"codes" doc:"All findings by code, the worst and most frequent first"`
	Acknowledged int            `json:"acknowledged" doc:"Findings that were acknowledged, and are not counted"`
}

// Acknowledge has findings count no more, until a date.
type Acknowledge struct {
	Kind   string    `json:"kind" enum:"provider,application,aggregate,recipient,gate"`
	Name   string    `json:"name" maxLength:"200"`
	Marks  []string  `json:"marks" minItems:"1" maxItems:"100" doc:"Of the findings that were looked at"`
	Remark string    `json:"remark" maxLength:"1000" doc:"Why they may stand"`
	Until  time.Time `json:"until" doc:"After that they count again; two years away at most"`
}

// Withdraw has acknowledged findings count again.
type Withdraw struct {
	Kind  string   `json:"kind" enum:"provider,application,aggregate,recipient,gate"`
	Name  string   `json:"name" maxLength:"200"`
	Marks []string `json:"marks" minItems:"1" maxItems:"100"`
}

// RecordChange changes settings of a provider or an application; those that are
// absent stay.
type RecordChange struct {
	Revision int                 `json:"revision,omitempty" doc:"Revision the change was made from; another one is refused. Absent: whatever it is at"`
	Settings federation.Settings `json:"settings"`
}

// ProviderChange changes settings of a provider.
type ProviderChange struct{ RecordChange }

// ApplicationChange changes settings of an application.
type ApplicationChange struct{ RecordChange }

// Many is a change of many records of a kind at once: all of them, or none.
type Many struct {
	Kind   string              `json:"kind" enum:"provider,application"`
	Names  []string            `json:"names,omitempty" maxItems:"20000" doc:"Short names; without any, all that match"`
	Search string              `json:"search,omitempty" maxLength:"200" doc:"Without names: part of a name, title or entity ID"`
	All    bool                `json:"all,omitempty" doc:"Without names and search: really all"`
	Set    federation.Settings `json:"set,omitempty" doc:"Settings that change"`
	Remove bool                `json:"remove,omitempty" doc:"In place of set: remove them"`
	Digest string              `json:"digest,omitempty" maxLength:"64" doc:"Of the preview that was looked at; nothing else is done"`
}

// ManyChange is what becomes of one of many records.
type ManyChange struct {
	Name        string                  `json:"name"`
	Title       string                  `json:"title"`
	Differences []federation.Difference `json:"differences,omitempty"`
}

// ManyRefusal is why one of many records cannot be changed so.
type ManyRefusal struct {
	Name    string           `json:"name"`
	Field   string           `json:"field,omitempty"`
	Cause   string           `json:"cause"`
	Finding *finding.Finding `json:"finding,omitempty"`
}

// ManyPreview is what a change of many records comes to.
type ManyPreview struct {
	Matched   int           `json:"matched"`
	Unchanged int           `json:"unchanged" doc:"Of them, those that are so already"`
	Changes   []ManyChange  `json:"changes"`
	Refused   []ManyRefusal `json:"refused" doc:"With one of them, nothing is changed"`
	Digest    string        `json:"digest"`
	Change    int64         `json:"change,omitempty" doc:"Once it is done: number by which it can be taken back"`

	Consequence *Consequence `json:"consequence,omitempty" doc:"What it does to people who signed in lately"`
}

// Undone is what taking a change back came to.
type Undone struct {
	Changed []string `json:"changed" doc:"Records that are what they were, like application/crew-roster"`
	Removed []string `json:"removed" doc:"Records that the change had added"`
	Change  int64    `json:"change" doc:"Number of this change, by which it can be taken back in turn"`
}

// SheetValue is one value the other side needs from us.
type SheetValue struct {
	Label      string   `json:"label"`
	Value      string   `json:"value"`
	AlsoCalled []string `json:"alsoCalled"`
	Hint       string   `json:"hint,omitempty"`
}

// Sheet is our half of an exchange sheet.
type Sheet struct {
	Name            string        `json:"name"`
	Values          []SheetValue  `json:"values"`
	Certificates    []Certificate `json:"certificates"`
	MetadataAddress string        `json:"metadataAddress"`
	Metadata        string        `json:"metadata"`
	// Groups are the values of groups that act here, of a provider.
	Groups []ExpectedValue `json:"groups,omitempty" doc:"Of a provider whose values of groups make members: those that act here when it sends them"`
}

// ExpectedValue is a value of groups that acts when a provider sends it.
type ExpectedValue struct {
	Value   string   `json:"value" doc:"As it is to be sent, letter by letter"`
	Group   string   `json:"group" doc:"Short name of the group"`
	Title   string   `json:"title"`
	Effects []string `json:"effects" doc:"What follows for whoever has it"`
}

// TraceHead is a trace in a list.
type TraceHead struct {
	ID           string    `json:"id" doc:"Reference number"`
	Started      time.Time `json:"started"`
	StartedBy    string    `json:"startedBy" doc:"application, gate or provider"`
	Application  string    `json:"application,omitempty"`
	Provider     string    `json:"provider,omitempty"`
	Person       string    `json:"person,omitempty" doc:"Name from the provider"`
	Account      int64     `json:"account,omitempty" doc:"Number of the person"`
	Name         string    `json:"name,omitempty" doc:"The name that the person has here"`
	Result       string    `json:"result" doc:"entered, refused, waiting, left by the browser, or signed out"`
	Finding      string    `json:"finding,omitempty"`
	Milliseconds int64     `json:"milliseconds"`
	Run          int64     `json:"run,omitempty" doc:"Of a rehearsal: the number of its run; it counts as no real sign-in"`
}

// Trace is one trace with its steps.
type Trace struct {
	TraceHead
	Steps []crossing.TraceStep `json:"steps"`
	// Remedies are what would have let somebody in who was refused entry.
	Remedies []Remedy `json:"remedies,omitempty" doc:"Of somebody who was refused entry: single changes each of which, run through this sign-in, lets them in, the smallest first"`
}

// TraceBeside says which traces are held against each other.
type TraceBeside struct {
	Name string `path:"name" maxLength:"200" doc:"Reference number of one"`
	With string `query:"with" maxLength:"200" doc:"Reference number of the other, which stands first; if absent the last sign-in before that entered the same application by the same provider"`
}

// TraceComparison is two traces step by step.
type TraceComparison struct {
	First  TraceHead        `json:"first"`
	Second TraceHead        `json:"second"`
	Steps  []trace.StepPair `json:"steps" doc:"First the sign-ins as a whole, then their steps, matched by who sent what to whom"`
	Parts  int              `json:"parts,omitempty" doc:"Place in steps, from 0, of the first that differs by more than what is bound to; absent if none does"`
}

// Remedy is a single change that lets somebody in.
type Remedy struct {
	Kind    string `json:"kind" enum:"none,admission,role,membership,rule,setting"`
	Says    string `json:"says"`
	Command string `json:"command,omitempty"`
}

// TraceList is a page of traces with the number for each result.
type TraceList struct {
	Items  []TraceHead      `json:"items"`
	Counts map[string]int64 `json:"counts"`
}

// Token is an API token. Secret is there once, in the answer to its making.
type Token struct {
	Name    string    `json:"name"`
	Added   time.Time `json:"added"`
	By      string    `json:"by"`
	Expires time.Time `json:"expires,omitzero" doc:"When it ends; absent if it does not"`
	Secret  string    `json:"secret,omitempty"`
}

// Key is a key of the gate's own.
type Key struct {
	ID          int64             `json:"id"`
	Purpose     string            `json:"purpose" doc:"What it is for: idp, idp-ecdsa, sp, enc, app/NAME, or one for each algorithm of tokens"`
	State       string            `json:"state" doc:"current, next or old; unused if nothing has such keys any more, like a removed application"`
	Added       time.Time         `json:"added"`
	Certificate Certificate       `json:"certificate"`
	Verifiers   []federation.Name `json:"verifiers,omitempty" doc:"Of a current key with RSA: applications or providers that it signs for, and whose metadata or discovery document announces that they verify ECDSA with P-256. Such a signature takes a twentieth of the work or less"`
}

// Contexts is how authentication contexts rank.
type Contexts struct {
	Revision int                `json:"revision" doc:"Revision the change was made from; another one is refused"`
	Ranks    federation.Ranking `json:"ranks" doc:"The weakest first; those of one rank are equal, and what has no rank is comparable to itself only"`
}

// Link is a provider's name for a person.
type Link struct {
	Key      string       `json:"key" doc:"For the next page"`
	Person   int64        `json:"person" doc:"Number of the account"`
	Provider LinkProvider `json:"provider"`
	Subject  *Subject     `json:"subject,omitempty" doc:"Absent in a link that was made before names were kept, until the person signs in again"`
	Added    time.Time    `json:"added,omitzero"`
}

// Subject is a provider's name for somebody, in its protocol's words.
type Subject struct {
	Format          string `json:"format,omitempty"`
	NameQualifier   string `json:"nameQualifier,omitempty"`
	SPNameQualifier string `json:"spNameQualifier,omitempty"`
	Value           string `json:"value"`
}

// KnownSubject is the lasting name by which an application knows a person.
type KnownSubject struct {
	Person int64     `json:"person"`
	Value  string    `json:"value"`
	Source string    `json:"source" enum:"derived,imported" doc:"Made by the gate, or known to the application before"`
	Added  time.Time `json:"added"`
}

// Known says that an application knows somebody by a value.
type Known struct {
	Provider string `json:"provider" maxLength:"200" doc:"Short name"`
	Name     string `json:"name" maxLength:"4096" doc:"As the provider says it"`
	Format   string `json:"format,omitempty" maxLength:"1024" doc:"Of the name, in the protocol's word; absent for that of the provider's people so far"`
	Value    string `json:"value" maxLength:"1024" doc:"By which the application knows the person"`
}

// Import is the wish that an application goes on to know people by the values it
// knows them by. All lines are taken, or none.
type Import struct {
	Known   []Known `json:"known,omitempty" maxItems:"10000"`
	CSV     string  `json:"csv,omitempty" maxLength:"2500000" doc:"In place of known: a list in CSV (RFC 4180, or with semicolons or tabs) with the headings provider, name, value and, if wanted, format; or in JSON, an array of objects with these members"`
	Replace bool    `json:"replace,omitempty" doc:"Values that people have there already, too"`
	Preview bool    `json:"preview,omitempty" doc:"Only tell what would be; stores nothing"`
	Digest  string  `json:"digest,omitempty" maxLength:"64" doc:"Of the preview that was looked at; without one nothing is imported"`
}

// Imported is what an import came to, or would.
type Imported struct {
	Subjects int    `json:"subjects" doc:"That the application gets"`
	Replaced int    `json:"replaced" doc:"Of these, in place of another value"`
	Already  int    `json:"already" doc:"That it had"`
	People   int    `json:"people" doc:"Made, because nobody was linked by the name yet"`
	Digest   string `json:"digest"`
	Preview  bool   `json:"preview,omitempty"`
}

// LinkProvider is a provider that people are linked to.
type LinkProvider struct {
	ID      string    `json:"id" doc:"Never used again, unlike the name"`
	Name    string    `json:"name,omitempty" doc:"Absent if the history does not know it any more"`
	Title   string    `json:"title,omitempty"`
	Removed time.Time `json:"removed,omitzero" doc:"When it was removed; absent for one on record"`
}

// LinkCount is how many people are linked to a provider.
type LinkCount struct {
	LinkProvider
	Links  int64 `json:"links"`
	People int64 `json:"people"`
}

// Carry is the wish that people who are linked to a provider are let in by
// another one too, by the same names.
type Carry struct {
	From    string `json:"from" minLength:"1" maxLength:"200" doc:"Short name, or the ID of one that was removed"`
	To      string `json:"to" minLength:"1" maxLength:"200" doc:"Short name of one on record"`
	Preview bool   `json:"preview,omitempty" doc:"Only tell what would be; stores nothing"`
	Digest  string `json:"digest,omitempty" maxLength:"64" doc:"Of the preview that was looked at; without one nothing is carried over"`
}

// Carried is what carrying links over came to, or would.
type Carried struct {
	From    LinkProvider `json:"from"`
	To      LinkProvider `json:"to"`
	Links   int          `json:"links" doc:"Carried over"`
	Already int          `json:"already" doc:"Were there for the same person"`
	Unnamed int          `json:"unnamed" doc:"Made before names were kept; they can follow once the person has signed in by From again"`
	Taken   []Link       `json:"taken" doc:"Links of To, by the same name, of other people: they stay as they are"`
	Digest  string       `json:"digest"`
	Preview bool         `json:"preview,omitempty"`
}

// Owner is somebody who may sign in to the console.
type Owner struct {
	Username string    `json:"username"`
	Added    time.Time `json:"added"`
}

// About is what the gate says of itself.
type About struct {
	Base      string              `json:"base"`
	Version   string              `json:"version"`
	Own       []federation.Value  `json:"own" doc:"Identities and addresses of the gate, in the standards' words"`
	Protocols map[string][]string `json:"protocols" doc:"Protocols that records can speak, by kind"`
	Providers int                 `json:"providers"`
	Apps      int                 `json:"applications"`
}

// Me is who is signed in to the console.
type Me struct {
	Username   string `json:"username,omitempty"`
	NeedsOwner bool   `json:"needsOwner" doc:"No owner was set up yet"`
}

// Credentials are for signing in to the console, or for setting up an owner.
type Credentials struct {
	Username string `json:"username" maxLength:"200"`
	Password string `json:"password" maxLength:"1024"`
	Token    string `json:"token,omitempty" maxLength:"200" doc:"Of the set-up link"`
}
