// Package api holds the wire types of the API: what the service sends, the
// client reads and the OpenAPI document describes.
package api

import (
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
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
	Endpoints    []Endpoint          `json:"endpoints"`
	Facts        []federation.Value  `json:"facts" doc:"What is known of the other side beside identity, addresses and keys"`
	Certificates []Certificate       `json:"certificates"`
	Missing      []string            `json:"missing,omitempty" doc:"What an unfinished record still lacks"`
	Taken        Taken               `json:"taken"`
	Added        time.Time           `json:"added"`
	Revision     int                 `json:"revision"`
}

// Provider is an identity provider on record.
type Provider struct {
	Record
}

// Application is an application on record.
type Application struct {
	Record
	Provider string `json:"provider,omitempty" doc:"Provider it is tied to; absent leaves it to the routing"`
	Open     string `json:"open" doc:"Start at the gate"`
	OwnStart string `json:"ownStart,omitempty" doc:"Its own start address, if it accepts only sign-ins it started"`
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
	Typed          federation.Typed `json:"typed,omitempty" maxProperties:"20" doc:"Values typed by hand, by field: entityId, ssoRedirect, ssoPost, acs, acsArtifact, nameIdFormat, and in PEM or base64 of DER certificate, nextCertificate (stands beside the present one), encryptionCertificate; of a link: link"`
	Expect         string           `json:"expect,omitempty" maxLength:"64" doc:"SHA-256 of the document that was previewed; another one is refused"`
}

// Start is what a new record of either kind begins with.
type Start struct {
	Given
	ApproveChanges bool             `json:"approveChanges,omitempty" doc:"A change of keys, addresses or entity ID waits for approval"`
	TrustKey       string           `json:"trustKey,omitempty" maxLength:"20000" doc:"Certificate in PEM whose key must have signed the metadata"`
	AddressCA      string           `json:"addressCA,omitempty" maxLength:"40000" doc:"Certificates in PEM of authorities that its addresses rest on"`
	Draft          bool             `json:"draft,omitempty" doc:"Keep the record even if values are still missing"`
	Phase          federation.Phase `json:"phase,omitempty" enum:"live,paused" doc:"Absent: live, unless values are missing"`
}

// Keeping is how its metadata is kept fresh.
func (s Start) Keeping() federation.Keeping {
	return federation.Keeping{ApproveChanges: s.ApproveChanges, TrustKey: s.TrustKey, AddressCA: s.AddressCA}
}

// NewProvider is what a provider is added from.
type NewProvider struct {
	Name             string `json:"name" maxLength:"200" doc:"Short name: a-z, 0-9 and hyphen, at most 63; a preview proposes one for an empty name"`
	Title            string `json:"title,omitempty" maxLength:"200" doc:"What people read; taken from the metadata if absent"`
	Protocol         string `json:"protocol,omitempty" maxLength:"20" doc:"What it speaks; absent for the first"`
	AllowUnsolicited bool   `json:"allowUnsolicited,omitempty" doc:"Accept answers that nobody asked for"`
	Start
}

// NewApplication is what an application is added from.
type NewApplication struct {
	Name     string              `json:"name" maxLength:"200" doc:"Short name: a-z, 0-9 and hyphen, at most 63; a preview proposes one for an empty name"`
	Title    string              `json:"title,omitempty" maxLength:"200"`
	Protocol string              `json:"protocol,omitempty" maxLength:"20" doc:"What it speaks; absent for the first"`
	Provider string              `json:"provider,omitempty" maxLength:"200" doc:"Short name of the provider to tie it to"`
	OwnStart string              `json:"ownStart,omitempty" maxLength:"2048" doc:"Its own start address, if it accepts only sign-ins it started"`
	OwnHosts string              `json:"ownHosts,omitempty" maxLength:"1000" doc:"Hosts it owns beside that of its entity ID, separated by spaces"`
	OwnFace  bool                `json:"ownFace,omitempty" doc:"Give it an identity provider face of its own; the same entity ID may then be on record twice"`
	Settings federation.Settings `json:"settings,omitempty" doc:"Further settings"`
	Start
}

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
	Choices     []federation.Choice     `json:"choices,omitempty" doc:"The document holds several entities: give the one that is meant as entity. Nothing else is told then"`
	OtherRole   bool                    `json:"otherRole" doc:"The document also holds the entity's other role"`
	Values      []federation.Value      `json:"values"`
	Differences []federation.Difference `json:"differences"`
	Missing     []string                `json:"missing" doc:"Values that are still to come from the other side"`
	Findings    []*finding.Finding      `json:"findings"`
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
	Phase    string    `json:"phase" doc:"live or paused"`
	Missing  []string  `json:"missing,omitempty" doc:"What an unfinished record still lacks"`
	Provider string    `json:"provider,omitempty" doc:"Provider an application is tied to"`
	Open     string    `json:"open,omitempty" doc:"Start at the gate, of an application"`
	OwnStart string    `json:"ownStart,omitempty"`
	Ends     time.Time `json:"ends,omitzero" doc:"When the first of its signing certificates ends"`
	Revision int       `json:"revision"`
}

// Taken is how the values of a record came in, and how current they are.
type Taken struct {
	Document        string    `json:"document,omitempty" doc:"SHA-256 of the document"`
	ValidUntil      time.Time `json:"validUntil,omitzero"`
	SignatureMethod string    `json:"signatureMethod,omitempty"`
	Verified        bool      `json:"verified" doc:"The signature was made with the trust key"`
	OtherRole       bool      `json:"otherRole" doc:"The document also holds the entity's other role"`
	Fresh           Fresh     `json:"fresh" doc:"Of a record with a metadata address"`
}

// Aggregate is an aggregate on record.
type Aggregate struct {
	Name            string             `json:"name"`
	Settings        AggregateSettings  `json:"settings"`
	Title           string             `json:"title" doc:"As set, or as the document names itself"`
	Size            int64              `json:"size" doc:"Octets"`
	ValidUntil      time.Time          `json:"validUntil,omitzero"`
	SignatureMethod string             `json:"signatureMethod,omitempty"`
	Verified        bool               `json:"verified" doc:"The signature was made with the trust key"`
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
}

// Checked is a record with its findings.
type Checked struct {
	Kind     string             `json:"kind"`
	Name     string             `json:"name"`
	Title    string             `json:"title"`
	Findings []*finding.Finding `json:"findings"`
}

// CheckList is a page of checked records; counts are of all findings.
type CheckList struct {
	Items  []Checked      `json:"items"`
	Total  int64          `json:"total" doc:"Records with findings"`
	Counts map[string]int `json:"counts" doc:"Findings by severity"`
}

// ProviderChange replaces the settings of a provider.
type ProviderChange struct {
	Revision int                 `json:"revision" doc:"Revision the change was made from; another one is refused"`
	Settings federation.Settings `json:"settings"`
}

// ApplicationChange replaces the settings of an application.
type ApplicationChange struct {
	Revision int                 `json:"revision" doc:"Revision the change was made from; another one is refused"`
	Settings federation.Settings `json:"settings"`
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
}

// TraceHead is a trace in a list.
type TraceHead struct {
	ID           string    `json:"id" doc:"Reference number"`
	Started      time.Time `json:"started"`
	StartedBy    string    `json:"startedBy" doc:"application, gate or provider"`
	Application  string    `json:"application,omitempty"`
	Provider     string    `json:"provider,omitempty"`
	Person       string    `json:"person,omitempty" doc:"Name from the provider"`
	Result       string    `json:"result" doc:"entered, refused, waiting, or left by the browser"`
	Finding      string    `json:"finding,omitempty"`
	Milliseconds int64     `json:"milliseconds"`
}

// Trace is one trace with its steps.
type Trace struct {
	TraceHead
	Steps []crossing.TraceStep `json:"steps"`
}

// TraceList is a page of traces with the number for each result.
type TraceList struct {
	Items  []TraceHead      `json:"items"`
	Counts map[string]int64 `json:"counts"`
}

// Token is an API token. Secret is there once, in the answer to its making.
type Token struct {
	Name   string    `json:"name"`
	Added  time.Time `json:"added"`
	By     string    `json:"by"`
	Secret string    `json:"secret,omitempty"`
}

// Key is a key of the gate's own.
type Key struct {
	ID          int64       `json:"id"`
	Purpose     string      `json:"purpose" doc:"idp, sp, enc, or app/NAME"`
	State       string      `json:"state" doc:"current, next or old; unused if nothing has such keys any more, like a removed application"`
	Added       time.Time   `json:"added"`
	Certificate Certificate `json:"certificate"`
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
	CSV     string  `json:"csv,omitempty" maxLength:"2500000" doc:"In place of known: a document whose first line names the columns provider, name, value and, if wanted, format (RFC 4180)"`
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
