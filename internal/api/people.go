package api

import (
	"encoding/json"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/table"
)

// Person is an account of the gate.
type Person struct {
	Number   int64        `json:"number"`
	Name     string       `json:"name" doc:"What people read"`
	Added    time.Time    `json:"added"`
	Disabled time.Time    `json:"disabled,omitzero" doc:"Since when nobody lets them in; absent for one who may come"`
	UserType string       `json:"userType,omitempty" doc:"How they are marked (RFC 7643 §4.1.1)"`
	Links    []Link       `json:"links" doc:"Names by which providers call them"`
	Members  []Membership `json:"members" doc:"Groups and organisations that they belong to"`
}

// People is a page of people.
type People struct {
	Items []Person `json:"items"`
	Total int64    `json:"total" doc:"How many match; -1 where a search found more than are shown"`
	Next  string   `json:"next,omitempty" doc:"After which the next page begins; absent on the last one"`
}

// Membership is that somebody belongs to a group or an organisation.
type Membership struct {
	Kind   string    `json:"kind" enum:"group,organisation"`
	Name   string    `json:"name"`
	Source KnownBy   `json:"source"`
	Added  time.Time `json:"added"`
}

// KnownBy is by what something is known of people.
type KnownBy struct {
	Word     string        `json:"word" enum:"provider,hand,import,person,organisation" doc:"organisation: its people land there"`
	Provider *LinkProvider `json:"provider,omitempty" doc:"Which provider, where it is one"`
}

// PersonShown is an account with what it holds.
type PersonShown struct {
	Person
	Values   []PersonValue   `json:"values" doc:"Their profile, as far as it is kept"`
	Sessions []PersonSession `json:"sessions"`
	Grants   int64           `json:"grants" doc:"What sign-ins gave applications, as far as it gives something still"`
	Subjects []PersonSubject `json:"subjects" doc:"Lasting names at applications"`
	Consents int64           `json:"consents"`
}

// PersonValue is an attribute that is kept with a person.
type PersonValue struct {
	Name     string            `json:"name"`
	Values   []json.RawMessage `json:"values"`
	From     LinkProvider      `json:"from" doc:"Provider that it came by, if it came by one"`
	Source   KnownBy           `json:"source"`
	Verified bool              `json:"verified,omitempty" doc:"The person proved all of them by a mailed code"`
	Proofs   []string          `json:"proofs" doc:"By what each value is proved, in their order: mail (the person typed a mailed code), engineer (typed here or listed), domain (the provider stands for it), flag (the provider said that it is verified), record (the provider's record names the attribute); empty for one that nothing proves: it lets nobody in"`
	Marks    []ValueMark       `json:"marks,omitempty" doc:"Of those values that have a type, or are the primary one"`
	At       time.Time         `json:"at"`
}

// PersonSession is a session of somebody.
type PersonSession struct {
	Began     time.Time `json:"began"`
	Expires   time.Time `json:"expires"`
	Providers []string  `json:"providers" doc:"Whose word is in it"`
}

// PersonSubject is a lasting name by which an application knows somebody.
type PersonSubject struct {
	Application string    `json:"application"`
	Value       string    `json:"value"`
	Source      string    `json:"source" enum:"derived,imported"`
	Added       time.Time `json:"added"`
}

// NewPerson is somebody who is known before they come.
type NewPerson struct {
	Provider string `json:"provider,omitempty" maxLength:"63" doc:"Short name; absent for somebody who is found by values"`
	Subject  string `json:"subject,omitempty" maxLength:"1024" doc:"The name by which it calls them: NameID or sub, or what its intake makes the subject of"`
	Format   string `json:"format,omitempty" maxLength:"300" doc:"NameID format, as it will come"`
	PersonChange
}

// PersonChange is what changes about somebody; what is absent stays.
type PersonChange struct {
	Values map[string][]string `json:"values,omitempty" doc:"By attribute of the profile; an empty list takes it away"`
	Marks  []ValueMark         `json:"marks,omitempty" maxItems:"500" doc:"Types of values, and which is the primary one (RFC 7643 §2.4)"`
	Join   []UnitName          `json:"join,omitempty" maxItems:"1000"`
	Leave  []UnitName          `json:"leave,omitempty" maxItems:"1000"`
}

// ValueMark says of what type a value is, and whether it is the primary one: that which goes first where there is
// room for one alone.
type ValueMark struct {
	Attribute string `json:"attribute" maxLength:"200" doc:"emails, phoneNumbers, ims, photos or addresses"`
	Value     string `json:"value" maxLength:"2000" doc:"That is kept, or comes with this change"`
	Type      string `json:"type,omitempty" maxLength:"40" doc:"Like work or home"`
	Primary   bool   `json:"primary,omitempty"`
}

// UnitName names a group or an organisation.
type UnitName struct {
	Kind string `json:"kind" enum:"group,organisation"`
	Name string `json:"name" maxLength:"63"`
}

// PersonLink is a further name by which a provider calls somebody.
type PersonLink struct {
	Provider string `json:"provider" maxLength:"63"`
	Subject  string `json:"subject" maxLength:"1024"`
	Format   string `json:"format,omitempty" maxLength:"300"`
}

// PersonPart names the link that is taken away from somebody.
type PersonPart struct {
	Link string `json:"link" maxLength:"128" doc:"Key of the link"`
}

// PersonJoin is the wish to make one account of two.
type PersonJoin struct {
	Other   int64  `json:"other" minimum:"1" doc:"Number of the one that goes"`
	Preview bool   `json:"preview,omitempty" doc:"Only tell what would be"`
	Digest  string `json:"digest,omitempty" maxLength:"128" doc:"Of the preview that was looked at"`
	Enable  bool   `json:"enable,omitempty" doc:"Though one of the two is disabled, the one that stays is let in; otherwise it is disabled too"`
}

// PersonJoined is what making one account of two comes to.
type PersonJoined struct {
	Links    int      `json:"links" doc:"That come along"`
	Values   []string `json:"values" doc:"Attributes that come along"`
	Differ   []string `json:"differ" doc:"Attributes that both have: the one that stays keeps its own"`
	Disabled []int64  `json:"disabled" doc:"Those of the two who are disabled"`
	Enabled  bool     `json:"enabled" doc:"The one that stays is let in afterwards"`
	Members  int      `json:"members" doc:"Groups and organisations of the other"`
	Subjects int      `json:"subjects" doc:"Lasting names that come along"`
	Lost     []string `json:"lost" doc:"Applications that know both: the other's name there goes"`
	Sessions int      `json:"sessions" doc:"Of the other, which end"`
	Digest   string   `json:"digest"`
	Preview  bool     `json:"preview"`
}

// PeopleImport says how a list of people is taken in.
type PeopleImport struct {
	By        string `json:"by,omitempty" maxLength:"200" doc:"Heading by which people on record are found; absent for number, else userName, employeeNumber or emails"`
	KnownOnly bool   `json:"knownOnly,omitempty" doc:"Make nobody"`
	SkipBad   bool   `json:"skipBad,omitempty" doc:"Leave rows out that cannot be used"`
	Empties   bool   `json:"empties,omitempty" doc:"An empty cell takes away what is there; otherwise it changes nothing"`
	Digest    string `json:"digest,omitempty" maxLength:"128" doc:"Of the preview that was looked at; absent only tells what would be"`
}

// PeopleImported is what taking a list in comes to.
type PeopleImported struct {
	Rows      int            `json:"rows"`
	New       int            `json:"new"`
	Changed   int            `json:"changed"`
	Same      int            `json:"same"`
	Disabled  int            `json:"disabled"`
	Enabled   int            `json:"enabled"`
	BadRows   int            `json:"badRows"`
	Bad       []table.BadRow `json:"bad" doc:"The first rows that cannot be used, and why"`
	OddRows   int            `json:"oddRows"`
	Odd       []table.BadRow `json:"odd" doc:"The first rows that are taken in as they are, and should be looked at: an address of several people, a link by which somebody is another person, a value that nobody proves"`
	Listed    []ImportedRow  `json:"listed" doc:"The first of those that are made or change"`
	By        string         `json:"by"`
	Columns   []string       `json:"columns"`
	Separator string         `json:"separator,omitempty"`
	Encoding  string         `json:"encoding"`
	Digest    string         `json:"digest"`
	Stored    bool           `json:"stored"`
	// Consequence is who is let in somewhere by it, or no more; the digest counts for it, too.
	Consequence *Consequence `json:"consequence,omitempty" doc:"Who is let in somewhere by it, or no more"`
}

// ImportedRow is somebody who is made or changes.
type ImportedRow struct {
	Line        int                     `json:"line"`
	Person      int64                   `json:"person,omitempty" doc:"Absent for one who is made"`
	Name        string                  `json:"name"`
	Differences []federation.Difference `json:"differences"`
}

// UnitChange is what a group or an organisation is to be.
type UnitChange struct {
	Title     string   `json:"title" maxLength:"200" doc:"What people read"`
	Notes     string   `json:"notes,omitempty" maxLength:"20000"`
	UserType  string   `json:"userType,omitempty" maxLength:"100" doc:"Marks its people, where nothing nearer to them does"`
	Inside    string   `json:"inside,omitempty" maxLength:"63" doc:"Of a group: the one that it lies in"`
	Values    []string `json:"values,omitempty" maxItems:"100" doc:"Of a group: what providers call it, beside its short name"`
	Providers []string `json:"providers,omitempty" maxItems:"1000" doc:"Of an organisation: whose people are its"`
	Domains   []string `json:"domains,omitempty" maxItems:"1000" doc:"Of an organisation: domains of its e-mail addresses"`
	Groups    []string `json:"groups,omitempty" maxItems:"100" doc:"Of an organisation: where its people land when they first come"`
	Revision  int      `json:"revision" minimum:"0" doc:"That the change was made from; 0 for a new one"`
}

// Unit is a group or an organisation.
type Unit struct {
	Kind string `json:"kind" enum:"group,organisation"`
	Name string `json:"name"`
	UnitChange
	Added   time.Time `json:"added"`
	Members int64     `json:"members" doc:"People who belong to it themselves"`
	Holds   []string  `json:"holds" doc:"Groups that lie in it"`
	Landing []string  `json:"landing" doc:"Organisations whose people land in it"`
	// PutIn are the providers that put people into a group, since that decides who enters.
	PutIn   []string `json:"putIn,omitempty" doc:"Of a group: providers whose values put people into it (setting groupValues)"`
	Called  []string `json:"called,omitempty" doc:"Of a group: the values by which they do, in any case"`
	Effects []string `json:"effects,omitempty" doc:"Of one group: what rules, roles and admissions say of whoever is in it"`
}

// PeopleWanted is whom a change is about: numbers, or a list, or what they are searched by.
type PeopleWanted struct {
	Numbers []int64 `json:"numbers,omitempty" maxItems:"10000"`
	List    string  `json:"list,omitempty" maxLength:"900000" doc:"CSV or JSON in which they stand, as a list of people that is taken in"`
	By      string  `json:"by,omitempty" maxLength:"200" doc:"Heading of the list by which they are found; absent for number, else userName, employeeNumber or emails"`
	Search  string  `json:"search,omitempty" maxLength:"500" doc:"Words that begin something known of them"`
	State   string  `json:"state,omitempty" enum:"enabled,disabled"`
	Group   string  `json:"group,omitempty" maxLength:"63" doc:"They are in it, or in one that lies in it"`
	// Organisation, UserType and Provider narrow as in the list of people.
	Organisation string `json:"organisation,omitempty" maxLength:"63"`
	UserType     string `json:"userType,omitempty" maxLength:"100"`
	Provider     string `json:"provider,omitempty" maxLength:"63" doc:"They are linked to it"`
}

// PeopleChange is one thing that is done to several people.
type PeopleChange struct {
	People PeopleWanted `json:"people"`
	Do     string       `json:"do" enum:"disable,enable,remove,set" doc:"set changes what is kept of them, and where they belong"`
	Set    PersonChange `json:"set,omitzero" doc:"What set changes"`
	Digest string       `json:"digest,omitempty" maxLength:"128" doc:"Of the preview that was looked at; absent only tells what would be"`
}

// PeopleChanged is what that comes to.
type PeopleChanged struct {
	People      int          `json:"people" doc:"Whom it is about"`
	Same        int          `json:"same" doc:"Of these, nothing becomes of them"`
	Sessions    int64        `json:"sessions" doc:"That end"`
	Grants      int64        `json:"grants" doc:"What sign-ins gave applications, and that gives nothing any more"`
	Listed      []ChangedRow `json:"listed" doc:"The first of those of whom anything changes"`
	Back        string       `json:"back" doc:"How it is taken back; empty if nothing becomes of anybody"`
	Consequence *Consequence `json:"consequence,omitempty" doc:"Who is let in somewhere by it, or no more"`
	Digest      string       `json:"digest"`
	Stored      bool         `json:"stored"`
}

// ChangedRow is somebody, and what becomes of them.
type ChangedRow struct {
	Person int64     `json:"person"`
	Name   string    `json:"name"`
	Did    PersonDid `json:"did"`
}

// PersonDid is what was done to somebody: of what, never what it is or was.
type PersonDid struct {
	State      string     `json:"state,omitempty" enum:"added,removed,joined,parted,disabled,enabled" doc:"joined: into another account, and gone; parted: off another account"`
	Values     []string   `json:"values,omitempty" doc:"Attributes of which other values are kept, or the same by another word"`
	Joined     []UnitName `json:"joined,omitempty" doc:"Groups and organisations"`
	Left       []UnitName `json:"left,omitempty"`
	Stays      []UnitName `json:"stays,omitempty" doc:"Where they belonged before, by another word now"`
	Linked     []string   `json:"linked,omitempty" doc:"Providers"`
	Unlinked   []string   `json:"unlinked,omitempty"`
	Admitted   []string   `json:"admitted,omitempty" doc:"Applications, by name"`
	Unadmitted []string   `json:"unadmitted,omitempty"`
	Known      []string   `json:"known,omitempty" doc:"Applications that have a lasting name for them now, or another one"`
	Other      int64      `json:"other,omitempty" doc:"The other account, where two were joined or one was parted"`
	More       int        `json:"more,omitempty" doc:"How many names beyond those that are listed"`
}

// PersonEvent is what was done to somebody, and by whom.
type PersonEvent struct {
	Number int64     `json:"number" doc:"Grows with each event"`
	At     time.Time `json:"at"`
	Person int64     `json:"person"`
	Via    string    `json:"via" enum:"sign-in,code,hand,list,join" doc:"By what; code: they said it themselves"`
	Who    string    `json:"who,omitempty" doc:"The operator, or the provider of the sign-in"`
	Did    PersonDid `json:"did"`
}

// PersonEvents is a page of events, the oldest first.
type PersonEvents struct {
	Items  []PersonEvent `json:"items"`
	Next   int64         `json:"next" doc:"After which to go on: there may be none yet"`
	Oldest int64         `json:"oldest" doc:"The oldest that is kept, 0 for none"`
}

// Recipient is somebody who is told of events.
type Recipient struct {
	Name    string    `json:"name"`
	Title   string    `json:"title"`
	Address string    `json:"address"`
	About   string    `json:"about,omitempty" doc:"What it is told about: rehearsals; absent for people"`
	Paused  bool      `json:"paused,omitempty"`
	Heard   int64     `json:"heard" doc:"Number of the last event that it acknowledged"`
	HeardAt time.Time `json:"heardAt,omitzero"`
	Waiting int64     `json:"waiting" doc:"Events that it has not heard"`
	Tries   int       `json:"tries,omitempty" doc:"That failed since"`
	Due     time.Time `json:"due,omitzero" doc:"When it is tried again"`
	Answer  string    `json:"answer,omitempty" doc:"To the last try"`
}
