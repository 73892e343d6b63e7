package federation

import (
	"bytes"
	"cmp"
	"crypto"
	"crypto/x509"
	"encoding/json"
	"encoding/pem"
	"errors"
	"fmt"
	"maps"
	"net/url"
	"slices"
	"strings"
	"time"
	"unicode/utf8"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/listed"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/profile"
)

// About is what people note about an object.
type About struct {
	Title       string `json:"title"`
	Description string `json:"description"`
	Owner       string `json:"owner"`
	Contact     string `json:"contact"`
	Notes       string `json:"notes"`
}

// CommonSettings are what an engineer decides about any record.
type CommonSettings struct {
	About
	Rollout
	Keeping
}

// Keeping is how metadata is kept fresh.
type Keeping struct {
	ApproveChanges bool   `json:"approveChanges"`
	TrustKey       string `json:"trustKey"`
	StrictValidity bool   `json:"strictValidity"`
	AddressCA      string `json:"addressCA"`
}

// Authorities gives the certificates of authorities that the other side's addresses
// may rest on, beside those of the system.
func (k Keeping) Authorities() ([]*x509.Certificate, error) {
	var out []*x509.Certificate
	for rest := []byte(k.AddressCA); len(bytes.TrimSpace(rest)) > 0; {
		var block *pem.Block
		if block, rest = pem.Decode(rest); block == nil {
			return nil, &SettingError{"addressCA", errors.New("this is no certificate in PEM; give those of the authorities " +
				"that its addresses rest on, one below the other")}
		}
		c, err := x509.ParseCertificate(block.Bytes)
		if err != nil {
			return nil, &SettingError{"addressCA", fmt.Errorf("a certificate cannot be read: %w; give it in PEM", err)}
		}
		if !c.IsCA {
			return nil, &SettingError{"addressCA",
				fmt.Errorf("%s is no certificate of an authority; give that of its issuer, %s",
					c.Subject, c.Issuer)}
		}
		out = append(out, c)
	}
	return out, nil
}

// Trust gives the keys that must have signed the metadata, none if it need not
// be signed.
func (k Keeping) Trust() ([]crypto.PublicKey, error) {
	if strings.TrimSpace(k.TrustKey) == "" {
		return nil, nil
	}
	var out []crypto.PublicKey
	for _, c := range keys.Read([]byte(k.TrustKey)) {
		out = append(out, c.Public)
	}
	if len(out) == 0 {
		return nil, &SettingError{"trustKey",
			errors.New("this is no certificate; give the one the publisher signs its metadata with, in PEM")}
	}
	return out, nil
}

// ProviderSettings are what an engineer decides about a provider in any
// protocol.
type ProviderSettings struct {
	AllowUnsolicited bool   `json:"allowUnsolicited"`
	AskContext       string `json:"askContext"`
	ContextWords     Words  `json:"contextWords"`
	// IntakeMapping makes the profile of what it says; without rules it is taken over
	// unchanged.
	IntakeMapping profile.Mapping `json:"intakeMapping"`
	// IntakeSet names the set that IntakeMapping is laid over, "" for none.
	IntakeSet Name `json:"intakeSet"`
	Matching
	// Domains are those of e-mail addresses whose people come by it; one that begins with a dot takes its sub-domains,
	// too.
	Domains listed.Words `json:"domains"`
	// DomainsNote says who confirmed that they are its own, and when.
	DomainsNote string `json:"domainsNote"`
	// TraceValues says what traces keep of what it says.
	TraceValues profile.Details `json:"traceValues"`
}

// ApplicationSettings are what an engineer decides about an application in any
// protocol.
type ApplicationSettings struct {
	Provider Name `json:"provider"`
	// OldGrantsUntil is the day until whose end what sign-ins by another provider gave goes
	// on, as YYYY-MM-DD in UTC; "" for not at all.
	OldGrantsUntil string `json:"oldGrantsUntil"`
	OwnStart       string `json:"ownStart"`
	// OldSignIn is where people sign in to it who are not in its pilot, "" for nowhere.
	OldSignIn     string       `json:"oldSignIn"`
	OnlyOwnStarts bool         `json:"onlyOwnStarts"`
	OwnHosts      listed.Words `json:"ownHosts"`
	// Everyone says whether whoever no access rule is about enters: EveryoneYes or EveryoneNo, "" for nobody has
	// decided on it, which lets them in.
	Everyone string `json:"everyone"`
	// Admissions are the groups that enter, or are kept out, by name.
	Admissions Admissions `json:"admissions"`
	// SentRoles says which of the roles that somebody holds are sent: RolesFirst or RolesChosen, "" for all.
	SentRoles string `json:"sentRoles"`
	// DefaultRole is the role of whoever holds none, "" for none.
	DefaultRole Name `json:"defaultRole"`
	// RoleNeeded keeps out whoever holds no role.
	RoleNeeded bool `json:"roleNeeded"`
	// Approval has admissions wait for the approval of another owner.
	Approval bool `json:"approval"`
	// RefusedHere has people who may not enter read so here, before it hears of it.
	RefusedHere bool `json:"refusedHere"`
	// AskForEntry lets people who are refused ask for entry.
	AskForEntry bool `json:"askForEntry"`
	// PortalSection, PortalPlace and Hidden say where it stands on the portal, and whether it does.
	PortalSection string `json:"portalSection"`
	PortalPlace   string `json:"portalPlace"`
	Hidden        bool   `json:"hidden"`
	Logo          string `json:"logo"`
	Policy        string `json:"policy"`
	// ReleaseMapping makes what it is told of the profile; without rules it is told
	// all of it, unchanged.
	ReleaseMapping profile.Mapping `json:"releaseMapping"`
	// ReleaseSet names the set that ReleaseMapping is laid over, "" for none.
	ReleaseSet Name `json:"releaseSet"`
	// TraceValues says what traces keep of what it is told.
	TraceValues profile.Details `json:"traceValues"`
}

// What becomes of those whom no access rule is about.
const (
	EveryoneYes = "yes"
	EveryoneNo  = "no"
)

// Which roles are sent, where somebody holds several.
const (
	RolesFirst  = "first"
	RolesChosen = "choose"
)

// SettingType is what the value of a setting is. On the wire all are texts, but for switches and
// rules; a list or pairs can be given as an array or an object, too.
type SettingType string

// Types of settings.
const (
	OneLine     SettingType = "text"
	Lines       SettingType = "lines"
	Switch      SettingType = "switch"
	OneOf       SettingType = "choice"
	List        SettingType = "list"  // words separated by white space
	Pairs       SettingType = "pairs" // words like displayName=once, separated by white space
	Duration    SettingType = "duration"
	Day         SettingType = "day"
	Address     SettingType = "address"
	Certificate SettingType = "certificate" // PEM
	Rules       SettingType = "rules"       // a mapping
	Named       SettingType = "named"       // the short name of another object
	Values      SettingType = "values"      // an array of texts; of short names, if it refers to a kind
	Secret      SettingType = "secret"      // a text that nothing shows or keeps as it is
	PublicKeys  SettingType = "keys"        // a JWK, a JWK Set, or PEM
)

// Setting describes one setting: everything that forms, help, schemas and checks of its form need.
type Setting struct {
	Name    string // in JSON
	Label   string // on forms
	Text    string // what it does, for people
	Group   string // under which it stands on forms
	Type    SettingType
	Most    int               // of a text: characters at most
	Choices []string          // of OneOf: what it can be
	Words   map[string]string // what values that it can have mean, on forms
	Form    listed.Form       // of Pairs: how they are written in a line, where that is not NAME=VALUE
	Refers  Kind              // of Named
	Default string            // what it comes to where it is empty, for people
	// Of values of the other side that can be typed:
	Identifies bool   // it is the identity in its protocol, or tells those apart that share one
	Option     string // of a command, where it is not the name with hyphens
}

// Says is what it does, and what it comes to where it is empty.
func (s Setting) Says() string {
	if s.Default == "" {
		return s.Text
	}
	return s.Text + "; empty is " + s.Default
}

// Boolean says that it is true or false.
func (s Setting) Boolean() bool { return s.Type == Switch }

// SeveralLines says that its text may have line ends.
func (s Setting) SeveralLines() bool {
	return slices.Contains([]SettingType{Lines, Certificate, PublicKeys, List, Pairs}, s.Type)
}

// line gives a list or pairs that were given as an array or an object as the line that they are.
func (s Setting) line(v any) any {
	if s.Type != List && s.Type != Pairs || v == nil {
		return v
	}
	octets, err := json.Marshal(v)
	if err != nil {
		return v
	}
	if s.Type == List {
		var words listed.Words
		if err = words.UnmarshalJSON(octets); err == nil {
			return words.String()
		}
		return v
	}
	form := s.form()
	pairs, err := form.Unmarshal(octets)
	if err != nil {
		return v
	}
	return form.Line(pairs)
}

func (s Setting) form() listed.Form {
	if s.Form == (listed.Form{}) {
		return listed.Equals
	}
	return s.Form
}

// shown is what was given, as it was.
func shown(v any) string {
	octets, _ := json.Marshal(v) // it came as JSON
	return finding.Clip(string(octets))
}

// fits sees whether a value can be one of the setting.
func (s Setting) fits(v any) error {
	text, isText := v.(string)
	_, isBool := v.(bool)
	switch {
	case s.Type == Rules:
		return s.mapping(v)
	case s.Type == Values:
		return s.several(v)
	case s.Boolean() && !isBool:
		return &SettingError{s.Name, fmt.Errorf("%s is no value for it; give true or false", shown(v))}
	case !s.Boolean() && !isText:
		what := map[SettingType]string{List: "a text with words between white space, or an array of words",
			Pairs: "a text like a=b c=d, or an object with texts"}[s.Type]
		return &SettingError{s.Name, fmt.Errorf("%s is no value for it; give %s", shown(v), cmp.Or(what, "a text"))}
	case s.Choices != nil && !contains(s.Choices, text):
		return &SettingError{s.Name, fmt.Errorf("%.100q is no value for it; give %s", text, choices(s.Choices))}
	case s.Most > 0 && utf8.RuneCountInString(text) > s.Most:
		return &SettingError{s.Name, fmt.Errorf("it has %d characters; use at most %d", utf8.RuneCountInString(text),
			s.Most)}
	}
	if err := CheckText(text, s.SeveralLines()); err != nil {
		return &SettingError{s.Name, err}
	}
	return nil
}

// several sees whether a value is an array of texts.
func (s Setting) several(v any) error {
	all, is := v.([]any)
	if !is {
		return &SettingError{s.Name, fmt.Errorf("%.100q is no value for it; give an array of texts", fmt.Sprint(v))}
	}
	for i, x := range all {
		text, is := x.(string)
		switch field := fmt.Sprintf("%s[%d]", s.Name, i); {
		case !is:
			return &SettingError{field, fmt.Errorf("%.100q is no text", fmt.Sprint(x))}
		case utf8.RuneCountInString(text) > s.Most:
			return &SettingError{field, fmt.Errorf("it has %d characters; use at most %d", utf8.RuneCountInString(text),
				s.Most)}
		case CheckText(text, false) != nil:
			return &SettingError{field, CheckText(text, false)}
		}
	}
	return nil
}

// mapping sees whether a value is a mapping that can be run.
func (s Setting) mapping(v any) error {
	octets, err := json.Marshal(v)
	if err != nil {
		return &SettingError{s.Name, err}
	}
	var m profile.Mapping
	var me *profile.MappingError
	if err := json.Unmarshal(octets, &m); errors.As(err, &me) && me.Rule > 0 {
		return &SettingError{fmt.Sprintf("%s.rules[%d].%s", s.Name, me.Rule-1, me.Field), errors.New(me.Cause)}
	} else if err != nil {
		return &SettingError{s.Name, err}
	}
	return nil
}

func choices(all []string) string {
	words := []string{}
	for _, c := range all {
		words = append(words, cmp.Or(c, "nothing"))
	}
	return strings.Join(words, ", ")
}

// phaseWords say phases for people.
var phaseWords = map[string]string{"draft": "draft: it is being set up, nobody passes",
	"pilot": "pilot: a cohort passes", "live": "live: people pass",
	"paused": "paused: nobody passes", "retired": "retired: nobody passes any more"}

// commonSettings are those of every record.
var commonSettings = []Setting{
	{Name: "phase", Label: "Phase", Type: OneOf, Group: "About it", Words: phaseWords, Choices: Phases,
		Text: "draft: it is being set up; pilot: a cohort passes; live: people pass; paused: nobody does for now; retired: nobody does any more"},
	{Name: "cohort", Label: "Whom a pilot includes", Type: List, Group: "About it", Most: 20000,
		Text: "Words of which one is enough, separated by spaces: person:17 group:drivers organisation:oakhollow network:192.0.2.0/24 share:10 (percent of people, always the same)"},
	{Name: "nextAt", Label: "When that changes by itself", Type: OneLine, Group: "About it", Most: 100,
		Text: "Moment with its time zone, like 2027-01-31 06:00 Europe/Berlin or 2027-01-31T06:00:00+01:00, from which on nextPhase and nextCohort are so; empty for never"},
	{Name: "nextPhase", Label: "Phase from then on", Type: OneOf, Group: "About it",
		Choices: append([]string{""}, Phases...),
		Text:    "Phase from nextAt on"},
	{Name: "nextCohort", Label: "Cohort from then on", Type: List, Group: "About it", Most: 20000,
		Text: "Cohort from nextAt on, where nextPhase is pilot"},
	{Name: "nextContact", Label: "Mail the other side's contact about it", Type: Switch, Group: "About it",
		Text: "The change at nextAt is mailed to the addresses in contact, too; it is mailed to those in owner in any case"},
	{Name: "title", Label: "Title", Type: OneLine, Group: "About it", Most: 200, Text: "What people read"},
	{Name: "description", Label: "Description", Type: Lines, Group: "About it", Most: 2000},
	{Name: "owner", Label: "Owner", Type: OneLine, Group: "About it", Most: 200, Text: "Who answers for it here"},
	{Name: "contact", Label: "Contact", Type: OneLine, Group: "About it", Most: 200,
		Text: "Whom to ask on the other side"},
	{Name: "notes", Label: "Notes", Type: Lines, Group: "About it", Most: 20000, Text: "Why it is set up so"},
	{Name: "approveChanges", Label: "Changes of its metadata wait for approval", Type: Switch, Group: "Metadata",
		Text: "A change of keys, addresses or identity waits for approval; otherwise it acts at once, with a finding"},
	{Name: "trustKey", Label: "Trust key", Type: Certificate, Group: "Metadata", Most: 20000,
		Text: "Certificate in PEM whose key must have signed the metadata"},
	{Name: "strictValidity", Label: "Stop sign-ins once the metadata is past its validUntil", Type: Switch,
		Group: "Metadata",
		Text:  "Nobody passes once the metadata is past its validUntil; otherwise that only warns"},
	{Name: "addressCA", Label: "Authorities of its addresses", Type: Certificate, Group: "Metadata", Most: 40000,
		Text: "Certificates in PEM of authorities that its addresses rest on, beside those of the system"},
}

// unitSettings are those of groups and organisations.
var unitSettings = []Setting{
	{Name: "title", Label: "Title", Type: OneLine, Group: "About it", Most: 200, Text: "What people read"},
	{Name: "notes", Label: "Notes", Type: Lines, Group: "About it", Most: 20000},
	{Name: "userType", Label: "Marks its people as", Type: OneLine, Group: "About it", Most: 100,
		Text: "Like contractor, where nothing nearer to them says so"},
}

// kindSettings are those of every object of a kind, of records beside those of their protocol.
var kindSettings = map[Kind][]Setting{
	KindProvider: {
		{Name: "allowUnsolicited", Label: "Accept answers that nobody asked for", Type: Switch,
			Group: "Requests and answers",
			Text:  "Accept answers that nobody asked for"},
		{Name: "askContext", Label: "Authentication context to ask for", Type: OneLine, Group: "Requests and answers",
			Most: 400,
			Text: "Authentication context to ask for where the application asks for none"},
		{Name: "contextWords", Label: "Its own words for authentication contexts", Type: Pairs,
			Group: "Requests and answers", Form: translation, Most: 4000,
			Text: "Its own words for authentication contexts: THEIRS>OURS, separated by spaces"},
		{Name: "firstSignIn", Label: "Who comes for the first time", Type: OneOf, Group: "People",
			Words: map[string]string{"": "gets an account",
				"known": "known: only people who have an account already are let in"},
			Choices: []string{"", KnownOnly},
			Text:    "known: only people who have an account already are let in; empty makes one when somebody first comes"},
		{Name: "matchBy", Label: "People are found by", Type: List, Group: "People", Most: 400,
			Text: "Attributes of the profile by which somebody who comes by a new name is found among people, in order, like employeeNumber emails"},
		{Name: "severalMatches", Label: "Where several accounts match", Type: OneOf, Group: "People",
			Words:   map[string]string{"": "the sign-in is refused", "ask": "ask: the person chooses"},
			Choices: []string{"", AskSeveral},
			Text:    "ask: where several accounts match, the person chooses; empty refuses"},
		{Name: "vouchesFor", Label: "Domains that it stands for", Type: List, Group: "People", Most: 4000,
			Text: "Domains whose e-mail addresses it stands for, separated by spaces; others count where it says email_verified"},
		{Name: "trustedFor", Label: "Further attributes it is trusted for", Type: List, Group: "People", Most: 400,
			Text: "Further attributes whose values count as proved when it brings them, like employeeNumber; those of matchBy do so anyway"},
		{Name: "update", Label: "Kept with the person at sign-in", Type: Pairs, Group: "People", Most: 2000,
			Text: "Attributes kept with the person at sign-in, like displayName emails=follow: always, follow (what comes no more goes) or once"},
		{Name: "askFor", Label: "People who lack it are asked for", Type: Pairs, Group: "People", Most: 1000,
			Text: "Attributes that people who lack them are asked for, like displayName emails=verified; an address that they type is always proved by a mailed code"},
		{Name: "groupValues", Label: "Its values of groups", Type: OneOf, Group: "People",
			Words: map[string]string{"": "make nobody a member", "known": "known: make members of the groups called so",
				"create": "create: make the groups, too"},
			Choices: []string{"", GroupsKnown, GroupsCreate},
			Text:    "known: values of groups make people members of the groups called so, and their absence takes them out; create makes groups for them too"},
		{Name: "userType", Label: "Its people are marked as", Type: OneLine, Group: "People", Most: 100,
			Text: "Marks its people, like contractor, where no rule makes a userType"},
		{Name: "domains", Label: "E-mail domains that come by it", Type: List, Group: "People", Most: 40000,
			Text: "Domains of addresses whose people come by it, separated by spaces: where the page asks for an address, or an application hints at one; " +
				".wrenmoor.example takes sub-domains, too"},
		{Name: "domainsNote", Label: "Who confirmed these domains", Type: OneLine, Group: "People", Most: 300,
			Text: "Who confirmed that they are its own, and when; it blocks nothing"},
		{Name: "intakeSet", Label: "Set of rules", Type: Named, Group: "Mapping", Refers: KindSet, Most: 63,
			Text: "Set of rules that it shares with others; those of intakeMapping are laid over it"},
		{Name: "intakeMapping", Label: "Intake mapping", Type: Rules, Group: "Mapping",
			Text: "What becomes of its attributes or claims on their way into the profile"},
		{Name: "traceValues", Label: "What traces keep of values", Type: Pairs, Form: profile.DetailForm,
			Group: "What is kept", Most: 4000,
			Text: "What traces keep of values, like mail=hashed groups=off, separated by spaces: full, hashed or off; * is all others"},
	},
	KindApplication: {
		{Name: "everyone", Label: "Whoever no access rule is about", Type: OneOf, Group: "People",
			Choices: []string{"", "yes", "no"},
			Words:   map[string]string{"": "enters: nobody has decided on it", "yes": "enters", "no": "does not enter"},
			Text:    "Whether whoever no access rule is about, and who is not admitted by name, enters", Default: "yes"},
		{Name: "admissions", Label: "Groups that are admitted", Type: Pairs, Form: admitting, Group: "People", Most: 400000,
			Text: "Groups that enter, or are kept out, by name: GROUP=yes, GROUP=no or GROUP=2027-01-31 for the day to whose end (UTC) they enter; " +
				"of nested groups the nearest that stands here counts"},
		{Name: "approval", Label: "Admissions wait for approval", Type: Switch, Group: "People",
			Text: "Who is admitted by name waits until an owner approves it who did not ask for it"},
		{Name: "refusedHere", Label: "People who may not enter read so here first", Type: Switch, Group: "People",
			Text: "A page of the gate tells whom to ask (the owner); the application hears of the refusal when they go back to it. Otherwise it hears at once"},
		{Name: "askForEntry", Label: "People who are refused may ask for entry", Type: Switch, Group: "People",
			Text: "That page has a button that asks for entry; an owner approves or declines (innergate request)"},
		{Name: "sentRoles", Label: "Of several roles", Type: OneOf, Group: "People",
			Choices: []string{"", RolesFirst, RolesChosen},
			Words: map[string]string{"": "all are sent", RolesFirst: "first: the one with the lowest place",
				RolesChosen: "choose: the person chooses one"},
			Text: "Which of the roles that somebody holds are sent: all, the first by place, or the one that the person chooses", Default: "all"},
		{Name: "defaultRole", Label: "Role of whoever holds none", Type: Named, Group: "People", Refers: KindRole, Most: 63,
			Text: "Short name of the role that whoever holds none enters with"},
		{Name: "roleNeeded", Label: "Whoever holds no role does not enter", Type: Switch, Group: "People",
			Text: "Whoever holds no role, and gets none by default, does not enter"},
		{Name: "provider", Label: "Provider", Type: Named, Group: "Requests and answers", Refers: KindProvider,
			Words: map[string]string{"": "decided by the routing"}, Most: 63,
			Text: "Provider it is tied to; empty leaves it to the routing"},
		{Name: "oldGrantsUntil", Label: "Sign-ins by another provider go on until", Type: Day, Group: "Requests and answers",
			Most: 10,
			Text: "Day, like 2026-12-31, until whose end (UTC) what sign-ins by another provider gave goes on; empty ends it at its next use"},
		{Name: "ownStart", Label: "Its own start address", Type: Address, Group: "Requests and answers", Most: 2048,
			Text: "Its own start address, if it accepts only sign-ins it started"},
		{Name: "oldSignIn", Label: "Its earlier sign-in address", Type: Address, Group: "Requests and answers", Most: 2048,
			Text: "Where whoever is not in its pilot, or in that of its provider, is sent, with what it asked for: the address at which it asked before"},
		{Name: "onlyOwnStarts", Label: "It accepts only sign-ins it started", Type: Switch, Group: "Requests and answers",
			Text: "It refuses answers it did not ask for, so that ownStart is needed to open it at the gate"},
		{Name: "ownHosts", Label: "Hosts it owns", Type: List, Group: "Requests and answers", Most: 1000,
			Text: "Hosts it owns beside that of its entity ID, separated by spaces"},
		{Name: "portalSection", Label: "Section of the portal", Type: OneLine, Group: "On the portal", Most: 60,
			Text: "Heading under which it stands on the portal, like On duty; empty for above all headings"},
		{Name: "portalPlace", Label: "Place in its section", Type: OneLine, Group: "On the portal", Most: 6,
			Text: "Place in its section, the lowest first, like 10; those without one follow, the most used first"},
		{Name: "hidden", Label: "It is not on the portal", Type: Switch, Group: "On the portal",
			Text: "People who enter it do not see it on the portal; its starting points, and a start by its address, stay"},
		{Name: "logo", Label: "Logo", Type: Address, Group: "About it", Most: 2048,
			Text: "Address of its logo, beginning with https://"},
		{Name: "policy", Label: "Privacy policy", Type: Address, Group: "About it", Most: 2048,
			Text: "Address of its privacy policy, shown to people who are asked for their consent"},
		{Name: "releaseSet", Label: "Set of rules", Type: Named, Group: "Mapping", Refers: KindSet, Most: 63,
			Text: "Set of rules that it shares with others; those of releaseMapping are laid over it"},
		{Name: "releaseMapping", Label: "Release mapping", Type: Rules, Group: "Mapping",
			Text: "What it is told of the profile"},
		{Name: "traceValues", Label: "What traces keep of values", Type: Pairs, Form: profile.DetailForm,
			Group: "What is kept", Most: 4000,
			Text: "What traces keep of values, like mail=hashed groups=off, separated by spaces: full, hashed or off; * is all others"},
	},
	KindSet: {
		{Name: "title", Label: "Title", Type: OneLine, Group: "About it", Most: 200, Text: "What people read"},
		{Name: "notes", Label: "Notes", Type: Lines, Group: "About it", Most: 20000, Text: "Why it is so"},
		{Name: "way", Label: "Way", Type: OneOf, Group: "Mapping", Choices: []string{string(profile.Intake),
			string(profile.Release)},
			Text: "intake, for providers, or release, for applications"},
		{Name: "mapping", Label: "Rules", Type: Rules, Group: "Mapping", Text: "What records share"},
	},
	KindGroup: append([]Setting{
		{Name: "inside", Label: "Lies in", Type: Named, Refers: KindGroup, Group: "People", Most: 63,
			Text: "Group that it lies in: its people are that one's too"},
		{Name: "values", Label: "Providers call it", Type: Values, Group: "People", Most: 500,
			Text: "What providers call it, beside its short name"},
	}, unitSettings...),
	KindOrganisation: append([]Setting{
		{Name: "providers", Label: "Providers of its people", Type: Values, Refers: KindProvider, Group: "People", Most: 63,
			Text: "Providers of its people, each of one organisation only"},
		{Name: "domains", Label: "Domains of its e-mail addresses", Type: Values, Group: "People", Most: 253,
			Text: "Domains of its e-mail addresses, each of one organisation only"},
		{Name: "groups", Label: "Its people land in", Type: Values, Refers: KindGroup, Group: "People", Most: 63,
			Text: "Groups in which its people land when they first come"},
	}, unitSettings...),
	KindAggregate: {
		{Name: "title", Label: "Title", Type: OneLine, Group: "About it", Most: 200,
			Text: "What people read; the Name in the document if empty"},
		{Name: "address", Label: "Address", Type: Address, Group: "Metadata", Most: 2048,
			Text: "Where it is fetched from; empty for one that is uploaded"},
		{Name: "trustKey", Label: "Trust key", Type: Certificate, Group: "Metadata", Most: 20000,
			Text: "Certificate in PEM whose key must have signed it"},
		{Name: "notes", Label: "Notes", Type: Lines, Group: "About it", Most: 20000},
		{Name: "addressCA", Label: "Authorities of its addresses", Type: Certificate, Group: "Metadata", Most: 40000,
			Text: "Certificates in PEM of authorities that its address rests on"},
	},
}

// SettingList describes the settings of a kind: of records with a side those of
// every record, of the kind, and of the protocol.
func SettingList(kind Kind, side Side) []Setting {
	all := slices.Clone(kindSettings[kind])
	if side != nil {
		all = slices.Concat(commonSettings, all, side.SettingList())
	}
	slices.SortStableFunc(all, func(a, b Setting) int {
		return cmp.Compare(slices.Index(SettingGroups, a.Group), slices.Index(SettingGroups, b.Group))
	})
	return all
}

// SettingGroups are the headings under which settings stand, in their order.
var SettingGroups = []string{"About it", GroupWho, GroupThen, GroupWhen, "Mapping", "People", "On the portal",
	"Requests and answers", "Tokens", "Names of the gate", "Metadata",
	"What is kept", "Exceptions"}

// SettingError says which setting is wrong.
type SettingError struct {
	Field string
	Err   error
}

// Error gives the field and the cause.
func (e *SettingError) Error() string { return e.Field + ": " + e.Err.Error() }

// Unwrap gives the cause.
func (e *SettingError) Unwrap() error { return e.Err }

// Settings are all settings of a record, of every room that has some, by their
// names in JSON.
type Settings map[string]any

// with gives settings with one of another value.
func (s Settings) with(name string, v any) Settings {
	t := maps.Clone(s)
	t[name] = v
	return t
}

// SettingsOf gives the settings of a record: lists and pairs as lines.
func SettingsOf(r Record) Settings {
	out, list := Settings{}, SettingList(r.Kind(), r.Part())
	for name, octets := range stored(r) {
		if line, is := Field(list, name).line(octets).(string); is {
			out[name] = line
		} else {
			out[name] = decoded(octets)
		}
	}
	return out
}

// ListsOf gives those settings of a record that are lists or pairs, as arrays and objects.
func ListsOf(r Record) Settings {
	out, list := Settings{}, SettingList(r.Kind(), r.Part())
	for name, octets := range stored(r) {
		if t := Field(list, name).Type; t == List || t == Pairs {
			out[name] = decoded(octets)
		}
	}
	return out
}

// stored are the settings of a record in JSON, by name.
func stored(r Record) map[string]json.RawMessage {
	out := map[string]json.RawMessage{}
	for _, part := range append(r.settings(), r.Part().Settings()) {
		octets, err := json.Marshal(part)
		if err == nil {
			err = json.Unmarshal(octets, &out)
		}
		if err != nil {
			panic(err) // settings are texts, truth values, lists and mappings
		}
	}
	return out
}

func decoded(octets []byte) (v any) {
	_ = json.Unmarshal(octets, &v) // it was written here
	return v
}

// Apply lays settings over those of a copied record. Names that are none are
// refused, and what is not named stays.
func Apply(r Record, s Settings) error {
	list := SettingList(r.Kind(), r.Part())
	for name, v := range maps.Clone(s) {
		at := slices.IndexFunc(list, func(k Setting) bool { return k.Name == name })
		if at < 0 {
			return unknownSetting(name, list)
		}
		v = list[at].line(v)
		s = s.with(name, v)
		if err := list[at].fits(v); err != nil {
			return err
		}
	}
	octets, err := json.Marshal(s)
	if err != nil {
		return err
	}
	for _, part := range r.settings() {
		if err := json.Unmarshal(octets, part); err != nil {
			return err
		}
	}
	side, err := r.Part().With(octets)
	if err == nil {
		r.put(side)
	}
	return err
}

// Fit sees whether every setting of a new record can be kept. A change is seen to
// by Apply.
func Fit(r Record) error {
	values := SettingsOf(r)
	for _, s := range SettingList(r.Kind(), r.Part()) {
		if err := s.fits(values[s.Name]); err != nil {
			return err
		}
	}
	return nil
}

func unknownSetting(name string, list []Setting) error {
	names := []string{}
	for _, k := range list {
		names = append(names, k.Name)
	}
	slices.Sort(names)
	say := "there is no such setting; those there are: " + strings.Join(names, ", ")
	if near := nearword.Of(name, names); near != "" {
		say = fmt.Sprintf("there is no such setting; did you mean %s?", near)
	}
	return &SettingError{name, errors.New(say)}
}

// Check sees whether the settings of a record can be used with what is known of
// the other side.
func Check(r Record) error {
	c := r.Basic()
	if c.Title == "" {
		return &SettingError{"title", errors.New("the title is empty; give what people should read")}
	}
	if _, err := c.Trust(); err != nil {
		return err
	}
	if _, err := c.Authorities(); err != nil {
		return err
	}
	if err := c.checkRollout(Lacking(r.Part().Missing())); err != nil {
		return err
	}
	if a, is := r.(*Application); is {
		if _, err := a.portalPlace(); err != nil {
			return err
		}
	}
	return r.check()
}

// OldGrants is when what sign-ins by another provider gave ends, zero for at once.
func (a *Application) OldGrants() time.Time {
	day, err := time.Parse(time.DateOnly, a.OldGrantsUntil)
	if err != nil {
		return time.Time{}
	}
	return day.AddDate(0, 0, 1)
}

func (p *Provider) check() error {
	if _, err := p.TraceValues.Parse(); err != nil {
		return &SettingError{"traceValues", err}
	}
	for _, d := range p.Domains {
		if _, err := ParseMailDomain(d); err != nil {
			return &SettingError{"domains", err}
		}
	}
	if err := p.ContextWords.check(); err != nil {
		return &SettingError{"contextWords", err}
	}
	if err := p.Matching.check(); err != nil {
		return err
	}
	for i, r := range p.IntakeMapping.Rules {
		if r.To.Subject && !r.Mandatory && !r.Omit {
			return &SettingError{fmt.Sprintf("intakeMapping.rules[%d].mandatory", i), errors.New("people are recognised by " +
				"what the rule makes, so nobody may lack it; make it mandatory")}
		}
	}
	if at := p.IntakeMapping.Casts(); at >= 0 {
		return &SettingError{fmt.Sprintf("intakeMapping.rules[%d].from", at),
			errors.New("nobody has a role before they enter an application; read it in the release of that application")}
	}
	return p.Side.Check(p)
}

func (a *Application) check() error {
	if err := a.Admissions.check(); err != nil {
		return &SettingError{"admissions", err}
	}
	if a.OldGrantsUntil != "" && a.OldGrants().IsZero() {
		return &SettingError{"oldGrantsUntil", fmt.Errorf("%q is no day; write it like 2026-12-31", a.OldGrantsUntil)}
	}
	if _, err := a.TraceValues.Parse(); err != nil {
		return &SettingError{"traceValues", err}
	}
	if at := a.ReleaseMapping.Keeps(); at >= 0 {
		return &SettingError{fmt.Sprintf("releaseMapping.rules[%d].keep", at),
			errors.New("values are kept where they come in; say so at the intake of the provider")}
	}
	if a.OwnStart != "" && !IsAddress(a.OwnStart) {
		return &SettingError{"ownStart",
			fmt.Errorf("%q is no address; give a whole one, like https://lost.wrenmoor.example/start", a.OwnStart)}
	}
	for field, address := range map[string]string{"logo": a.Logo, "policy": a.Policy, "oldSignIn": a.OldSignIn} {
		if address != "" && !IsAddress(address) {
			return &SettingError{field,
				fmt.Errorf("%q is no address; give a whole one, like https://roster.wrenmoor.example/%s",
					address, field)}
		}
	}
	return a.Side.Check(a)
}

// IsAddress reports whether a text is a whole http or https address without
// credentials.
func IsAddress(s string) bool {
	u, err := url.Parse(s)
	return err == nil && (u.Scheme == "http" || u.Scheme == "https") && u.Host != "" && u.User == nil
}

func contains(all []string, s string) bool { return slices.Contains(all, s) }

func errUnknownField(known []string) error {
	return fmt.Errorf("nothing of this name can be typed here; what can is %s", cmp.Or(strings.Join(known, ", "),
		"nothing"))
}
