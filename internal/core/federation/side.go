package federation

import (
	"crypto"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/profile"
)

// Side is who sends what a record of the kind is made from.
func (k Kind) Side() finding.Side {
	if k == KindProvider {
		return finding.Provider
	}
	return finding.Application
}

// Side is a protocol's part of a record: what is known of the other side, and
// the settings that only this protocol has. A side is immutable: what changes
// one gives another.
type Side interface {
	Known
	Shown
	Decided
	Taken
	// Can says what it can do beside that.
	Can() Abilities
}

// Known is what every other place goes by.
type Known interface {
	Protocol() string
	Identity() string // in its protocol, "" while it is not known
	Missing() []Lack  // what the other side still has to give before anybody can pass
}

// Shown is what people look at and checks look through.
type Shown interface {
	Title() string         // as the other side calls itself, "" if it does not
	Endpoints() []Endpoint // where messages go
	Keys() []Key
	Describe() []Value // everything known of the other side, in the standard's words
}

// Decided is what an engineer decides.
type Decided interface {
	// Settings gives a structure of text and truth values with names in JSON.
	Settings() any
	// SettingList describes each of them.
	SettingList() []Setting
	// With lays settings over, given in JSON; names it does not know are ignored.
	With(settings []byte) (Side, error)
	// Named fills in what the gate makes up itself for a record of a name, where
	// nothing is set yet.
	Named(g *Gate, n Name) Side
}

// Taken is how the other side's values come in and are stored.
type Taken interface {
	// Take reads a document that the other side handed over.
	Take(document []byte, t Trusting) (Side, Intake, error)
	// Fields describes the values of the other side that can be typed by hand.
	Fields() []Setting
	// Overlay lays over what was typed by hand.
	Overlay(t Typed) (Side, error)
	// Data gives a structure to be stored in JSON beside the settings.
	Data() any
}

// Making is implemented by sides of new records for which the gate makes up what the
// other side does not bring, such as an identity.
type Making interface {
	// Made gives the side with what was made up, and a secret that is shown once, ""
	// if there is none.
	Made(random func(octets int) string, now time.Time) (Side, string)
}

// Copying is implemented by sides that rely on a document at an address of the other
// side, such as its keys. The gate keeps a copy of it fresh: that is state, no
// configuration.
type Copying interface {
	// CopyOf is the address, "" for none.
	CopyOf() string
	// ReadCopy reads what it gave; what cannot be used leaves the copy of before.
	ReadCopy(octets []byte) (any, error)
	// DescribeCopy says what is in it, so that changes can be told.
	DescribeCopy(read any) []Value
	// Unread is the finding that there is none.
	Unread(address, cause string) *finding.Finding
}

// Confiding is implemented by sides that are given secrets which only calls of the
// gate need.
type Confiding interface {
	// Confide gives the side without them, and each of them under the name by which the
	// side remembers it.
	Confide(random func(octets int) string, now time.Time) (Side, map[string]string)
}

// Keyed is implemented by sides that no two records may have in common by more than
// their identity.
type Keyed interface{ Key() string }

// Ending is implemented by sides with something beside certificates that ends, such as a
// secret.
type Ending interface {
	// Ends is when, zero for never.
	Ends() time.Time
}

// Formatting is implemented by sides of providers that name people in several formats.
type Formatting interface {
	// FormatOf reads a format as people write it, short or whole. The error says which there are.
	FormatOf(text string) (string, error)
	// Expected is the format that the provider will use as far as its record tells, "" if it
	// does not.
	Expected() string
	// Nearby are formats under which the same name may be on record: those that mean the same
	// first, and how many these are.
	Nearby(format string) (formats []string, same int)
}

// KeyOf is what no two records of a protocol have in common, "" while it is not known.
func KeyOf(s Side) string {
	if k := s.Can().Keyed; k != nil {
		return k.Key()
	}
	return s.Identity()
}

// Registered is implemented by sides that have values which no document of the other side
// brings, such as what it calls the gate.
type Registered interface {
	// Beside reports whether a field is one of those.
	Beside(field string) bool
}

// Trying is implemented by sides of providers that can be tried without a person, as far
// as that goes.
type Trying interface {
	// Try is the address to be asked, as a browser would; id names the try.
	Try(g *Gate, p *Provider, id string) string
	// Tried says what came of it, nil if everything is in order.
	Tried(g *Gate, p *Provider, r Reply) *finding.Finding
}

// Reply is what an address answered.
type Reply struct {
	Status   int
	Location string // where it sends the browser, "" for nowhere
	Octets   []byte // the beginning
}

// Cautious is implemented by sides that will not follow every change of a document
// unless somebody approves it.
type Cautious interface {
	// Waits reports whether the change from what was known before has to be approved.
	Waits(before Side) bool
}

// Locating is implemented by sides whose document can be found by what was typed.
type Locating interface {
	// Locate is the address of the document, and the field that it was found by; "" if
	// what was typed does not tell.
	Locate(t Typed) (address, field string)
}

// Rotation is how one secret of an application follows another.
type Rotation struct {
	Given   string        // the next one, "" to have one made
	Overlap time.Duration // how long those of before stay good
	Life    time.Duration // of the next one, 0 for no end
	OnlyEnd bool          // end those of before, and make none
}

// Rotating is implemented by sides of applications that have secrets.
type Rotating interface {
	// Rotate gives the side with another secret, which is given back once if it was
	// made here.
	Rotate(r Rotation, random func(octets int) string, now time.Time) (ApplicationSide, string, error)
}

// Presenting is implemented by sides whose documents say how the other side presents
// itself to people; a new record takes that over where nothing else is said.
type Presenting interface {
	Presents() Presented
}

// Presented is that: addresses of a logo and of a privacy policy, and whom to ask.
type Presented struct{ Logo, Policy, Contact string }

// Opening is implemented by sides of applications that the gate can open only under
// conditions: when somebody starts there.
type Opening interface {
	Opens(a *Application) bool
}

// Unattended is implemented by sides of applications that nobody may sign in to.
type Unattended interface{ Unattended() bool }

// Attended reports whether people sign in to an application.
func (a *Application) Attended() bool {
	side := a.Side.Can().Unattended
	return side == nil || !side.Unattended()
}

// Start is the address at the gate that opens an application, "" if it cannot be
// opened there.
func (a *Application) Start(g *Gate) string {
	if a.Name == PortalName {
		return g.Base + "/"
	}
	if side := a.Side.Can().Opening; side != nil && !side.Opens(a) {
		return ""
	}
	return g.Base + "/open/" + string(a.Name)
}

// Lasting is implemented by sides whose identity is never used again for another
// record.
type Lasting interface{ Lasting() bool }

// Redacting is implemented by sides whose documents may hold what must not be kept.
type Redacting interface {
	// Kept is the document as it is kept.
	Kept(document []byte) []byte
}

// Trusting is how far a document is trusted, and how whole it must be.
type Trusting struct {
	Now        time.Time
	Keys       []crypto.PublicKey // one of them must have signed it; none means that it need not be signed
	Unfinished bool               // values may be missing
	Entity     string             // identity of the one that is meant, where a document holds several
}

// Choice is one of several that a document holds.
type Choice struct{ Identity, Title string }

// SeveralError says that a document holds several that could be meant.
type SeveralError struct {
	Err     error
	Choices []Choice
}

// Error is the finding's.
func (e *SeveralError) Error() string { return e.Err.Error() }

// Unwrap gives the finding.
func (e *SeveralError) Unwrap() error { return e.Err }

// ProviderSide is a protocol's part of a provider.
type ProviderSide interface {
	Side
	// Check sees whether the settings can be used with what is known.
	Check(p *Provider) error
	// Sheet is what the provider's administrator needs from the gate.
	Sheet(s *Snapshot, p *Provider) Sheet
}

// ApplicationSide is a protocol's part of an application.
type ApplicationSide interface {
	Side
	Check(a *Application) error
	Sheet(s *Snapshot, a *Application) Sheet
	// OwnKeys reports whether it has keys of the gate for itself alone.
	OwnKeys() bool
	// Shared says how it is found by its identity where applications share an
	// address: not at all, or only if nobody else has the identity, or always.
	Shared() Sharing
}

// Requesting is implemented by sides of applications that say what they want to be told.
type Requesting interface {
	// Requested are the attributes or claims.
	Requested() []profile.Requested
}

// Offering is implemented by sides of providers of which it can be told, before anybody
// signs in, what they will say.
type Offering interface {
	// Offered are attributes without values.
	Offered() []profile.Attribute
}

// Sharing is how an application is found by its identity.
type Sharing int

// Ways of sharing.
const (
	Alone    Sharing = iota // at an address of its own, by its name
	Leaving                 // still found by identity, unless somebody else has it
	Together                // by identity
)

// Protocol is what a protocol makes records with.
type Protocol interface {
	Name() string
	// Own are the values of the gate's own that it wants stored when they are
	// first made.
	Own(base string) map[string]string
	// Purposes are the keys of the gate's own that it needs.
	Purposes() []Purpose
	// Contexts ranks its authentication contexts, as far as a gate begins with.
	Contexts() Ranking
	// NewProvider gives the empty side of a new provider; nil if it has no
	// providers. NewApplication likewise.
	NewProvider(g *Gate, n Name) ProviderSide
	NewApplication(g *Gate, n Name) ApplicationSide
	// ReadProvider reads a side out of what a record was stored as: Data and
	// Settings in one object. ReadApplication likewise.
	ReadProvider(data []byte, added time.Time) (ProviderSide, *Intake, error)
	ReadApplication(data []byte, added time.Time) (ApplicationSide, *Intake, error)
	// Reserved reports whether a name stands for an address of the gate's own.
	Reserved(k Kind, n Name) bool
	// Recognizes reports whether what is handed over for a new record of a kind is the protocol's, where nobody says
	// what it speaks; address is that of a document which is not fetched yet.
	Recognizes(k Kind, document []byte, address string, t Typed) bool
	// About is what the gate says of itself in this protocol.
	About(g *Gate) []Value
}

// Purpose is what keys of the gate are for.
type Purpose struct {
	Name  string
	Does  string   // in words, like "signs answers"
	Kinds []string // of keys it can have, first that of the one that is made; none for any of keys.Kinds
	Later bool     // made when an application needs it, not with the gate
}

// Needing is implemented by sides that need keys of the gate's which are not there
// from the beginning.
type Needing interface {
	// Purposes names what it needs keys for.
	Purposes() []string
}

// Verifying is implemented by sides whose document may say which signatures the other side verifies.
type Verifying interface {
	// VerifiesEC names the purpose of the keys by which the gate signs towards it, "" for keys of its own or none, and
	// says whether its document announces that it verifies signatures by P-256 (ECDSA with SHA-256, ES256).
	VerifiesEC() (purpose string, announced bool)
}

// Lack is a value that is still to come, and the field in which it would be
// typed.
type Lack struct{ What, Field string }

// Lacking gives the words of what is missing.
func Lacking(lacks []Lack) []string {
	var out []string
	for _, l := range lacks {
		out = append(out, l.What)
	}
	return out
}

// Endpoint is an address of the other side with its use and binding, in the
// standard's words.
type Endpoint struct {
	Use      string
	Binding  string
	Location string
	Index    int
	Default  bool
}

// Key is a key of the other side.
type Key struct {
	Use         string // "signing", "encryption", or "" for both
	Certificate keys.Certificate
}

// Typed is what an engineer types by hand, by field. Empty values leave what is
// on record.
type Typed map[string]string

// Field is one of the values that can be typed, by its name; nothing but the name if there is none.
func Field(fields []Setting, name string) Setting {
	if i := slices.IndexFunc(fields, func(f Setting) bool { return f.Name == name }); i >= 0 {
		return fields[i]
	}
	return Setting{Name: name}
}

// IdentityField is the field in which the identity of a side is typed, "" if it has none.
func IdentityField(s Side) string {
	if fields := IdentityFields(s); len(fields) > 0 {
		return fields[0]
	}
	return ""
}

// IdentityFields are the fields that tell a side from all others: its identity first, then what tells those
// apart that share one.
func IdentityFields(s Side) (out []string) {
	for _, f := range s.Fields() {
		if f.Identifies {
			out = append(out, f.Name)
		}
	}
	return out
}

// Empty reports whether nothing was typed.
func (t Typed) Empty() bool {
	for _, v := range t {
		if v != "" {
			return false
		}
	}
	return true
}

// Lacks names the field in which a missing value would be typed; if nothing was
// typed, the field of the document.
func (t Typed) Lacks(missing []Lack) string {
	if t.Empty() {
		return "metadata"
	}
	return missing[0].Field
}

// Only refuses fields that are none of those named.
func (t Typed) Only(fields []Setting) error {
	var known []string
	for _, f := range fields {
		known = append(known, f.Name)
	}
	for field, v := range t {
		if v != "" && !contains(known, field) {
			return &SettingError{field, errUnknownField(known)}
		}
	}
	return nil
}

// SheetValue is one value the other side needs from us.
type SheetValue struct {
	Label      string   // the standard's term
	Value      string   //
	AlsoCalled []string // usual other names
	Hint       string   // what to mind when entering it
}

// SheetKey is a key of the gate's that the other side needs.
type SheetKey struct {
	Certificate keys.Certificate
	Use         string // signing or encryption
	Next        bool   // announced, and not in use yet
}

// SheetKeys are the keys of a set that are given out.
func SheetKeys(use string, set KeySet) (out []SheetKey) {
	for _, p := range []*keys.Pair{set.Current, set.Next} {
		if p != nil {
			out = append(out, SheetKey{Certificate: p.Certificate, Use: use, Next: p == set.Next})
		}
	}
	return out
}

// Sheet is our half of an exchange sheet: what one counterpart needs from the
// gate.
type Sheet struct {
	Values          []SheetValue
	Keys            []SheetKey // current first
	MetadataAddress string     // "" if there is no document about the gate
	Metadata        []byte
}

// IdentityWord is what a protocol calls the identity of a side: entity ID, client ID, issuer.
func IdentityWord(s Side) string {
	for _, v := range s.Describe() {
		if v.Touches == TouchIdentity {
			return v.Label
		}
	}
	return "Identity"
}
