package api

import (
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// RuleFilter narrows access rules.
type RuleFilter struct {
	Application string `query:"application" maxLength:"63" doc:"Those that are looked at for it, the gate's too; absent for all"`
}

// AccessRule is an access rule, read aloud.
type AccessRule struct {
	Name        string    `json:"name"`
	Title       string    `json:"title"`
	Application string    `json:"application,omitempty" doc:"Absent for a rule of the gate"`
	Sentence    string    `json:"sentence"`
	Then        string    `json:"then" enum:"allow,deny,step-up"`
	Say         string    `json:"say,omitempty" doc:"What those who are denied read"`
	Holds       bool      `json:"holds" doc:"It holds at the moment"`
	Decided     int64     `json:"decided" doc:"How often it decided at sign-ins, in the last 30 days"`
	Last        time.Time `json:"last,omitzero" doc:"When it decided last; absent for not in these days"`
	Broken      bool      `json:"broken,omitempty" doc:"It cannot be read any more: whoever it may be about does not enter"`
}

// Simulation is who would want to enter an application, and how.
type Simulation struct {
	Person int64 `json:"person,omitempty" minimum:"1" doc:"Number of the account; absent for somebody who has the attributes and nothing else"`
	// Attributes are those of somebody without an account.
	Attributes map[string][]string `json:"attributes,omitempty" doc:"What the provider says of somebody without an account, by name"`
	Groups     []string            `json:"groups,omitempty" maxItems:"500" doc:"Groups that somebody without an account is in"`
	Provider   string              `json:"provider,omitempty" maxLength:"63" doc:"By which they come; absent for that of their newest sign-in"`
	Context    string              `json:"context,omitempty" maxLength:"1000" doc:"Authentication context; absent for that of their newest sign-in"`
	Network    string              `json:"network,omitempty" maxLength:"50" doc:"Address of their browser; absent for that of their newest sign-in"`
	SignedIn   time.Time           `json:"signedIn,omitzero" doc:"When they signed in at the provider; absent for just now"`
	At         time.Time           `json:"at,omitzero" doc:"When they enter; absent for now"`
	Role       string              `json:"role,omitempty" maxLength:"100" doc:"Role that is asked for, by its name in the application"`
}

// Simulated is what would be decided.
type Simulated struct {
	Decision string           `json:"decision" enum:"allow,deny,step-up"`
	Person   int64            `json:"person,omitempty"`
	Name     string           `json:"name,omitempty" doc:"What people read of the person"`
	Ground   *Ground          `json:"ground,omitempty" doc:"What the decision rests on; absent where neither rules nor admissions were asked"`
	Why      []string         `json:"why" doc:"What speaks for it"`
	Asks     string           `json:"asks,omitempty" doc:"Of a step-up: the rule that asks for more"`
	Finding  *finding.Finding `json:"finding,omitempty" doc:"Of a denial: why"`
	Roles    []HeldRole       `json:"roles,omitempty" doc:"That they hold"`
	Choose   bool             `json:"choose,omitempty" doc:"They choose one of several"`
	Rules    []JudgedRule     `json:"rules" doc:"All that is looked at, in order; the first that is about them decides"`
	Released *Mapped          `json:"released,omitempty" doc:"What the application would be told"`
}

// Ground is what a decision rests on.
type Ground struct {
	By    string `json:"by" enum:"rule,admission,default" doc:"default: the application's setting everyone"`
	Name  string `json:"name,omitempty" doc:"Of the rule, or of the group that is admitted; absent for the person's own admission"`
	Title string `json:"title,omitempty" doc:"Of the rule"`
}

// JudgedRule is a rule that was looked at, or the admissions, or the default.
type JudgedRule struct {
	By       string `json:"by" enum:"rule,admission,default"`
	Name     string `json:"name,omitempty" doc:"Of a rule"`
	Title    string `json:"title,omitempty" doc:"Of a rule"`
	Sentence string `json:"sentence" doc:"Read aloud"`
	Then     string `json:"then" enum:"allow,deny,step-up"`
	About    bool   `json:"about" doc:"It is about the person"`
	Why      string `json:"why,omitempty" doc:"Why it is not, or why it cannot be evaluated"`
}

// AdmissionChange is who is admitted by name, or no more.
type AdmissionChange struct {
	Everyone bool     `json:"everyone,omitempty" doc:"Whoever nothing else is about"`
	Groups   []string `json:"groups,omitempty" maxItems:"1000" doc:"Short names"`
	People   []int64  `json:"people,omitempty" maxItems:"1000" doc:"Numbers of accounts"`
	Until    string   `json:"until,omitempty" maxLength:"25" doc:"Day, like 2027-01-31, to whose end (UTC) they enter, or moment; absent for good"`
	Out      bool     `json:"out,omitempty" doc:"The groups are kept out"`
	AtOnce   bool     `json:"atOnce,omitempty" doc:"Where admissions wait for approval: they act at once from then on"`
}

// AdmissionFilter says which page of people.
type AdmissionFilter struct {
	Named
	After int64 `query:"after" minimum:"0" doc:"Number after which the page begins"`
	Limit int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// Admissions are those who enter an application by name.
type Admissions struct {
	Everyone string            `json:"everyone" enum:",yes,no" doc:"Whether whoever nothing else is about enters; empty is that nobody decided on it, which lets them in"`
	Groups   []GroupAdmission  `json:"groups"`
	Decided  int64             `json:"decided" doc:"How often an admission decided at sign-ins, in the last 30 days"`
	Default  int64             `json:"default" doc:"How often the setting everyone did"`
	People   []PersonAdmission `json:"people" doc:"A page of them, by number"`
	Total    int64             `json:"total" doc:"People in all"`
	Approval bool              `json:"approval,omitempty" doc:"Admissions wait for the approval of another owner"`
	Request  int64             `json:"request,omitempty" doc:"Of an admission that waits for approval: its number"`
}

// GroupAdmission is a group that is admitted, or kept out.
type GroupAdmission struct {
	Group string    `json:"group"`
	Title string    `json:"title"`
	Out   bool      `json:"out,omitempty" doc:"It is kept out"`
	Until time.Time `json:"until,omitzero" doc:"Until when; absent for good"`
	Ended bool      `json:"ended,omitempty" doc:"That has passed"`
}

// PersonAdmission is somebody who is admitted by name.
type PersonAdmission struct {
	Person      int64     `json:"person"`
	Name        string    `json:"name,omitempty"`
	Application string    `json:"application,omitempty" doc:"Short name"`
	Until       time.Time `json:"until,omitzero" doc:"Until when; absent for good"`
	Ended       bool      `json:"ended,omitempty" doc:"That has passed"`
	Source      KnownBy   `json:"source"`
	Author      string    `json:"author" doc:"Who admitted them"`
	Added       time.Time `json:"added"`
}

// EntrantFilter narrows the list of everyone.
type EntrantFilter struct {
	Named
	Search   string `query:"search" maxLength:"200" doc:"In names and numbers"`
	Decision string `query:"decision" enum:",enters,allow,deny,step-up" doc:"enters: allow or step-up; absent for all"`
	By       string `query:"by" enum:",rule,admission,default,none" doc:"What decides; none: the account is disabled, or the application closed"`
	Ground   string `query:"ground" maxLength:"63" doc:"With by: name of the rule or the group"`
	Role     string `query:"role" maxLength:"100" doc:"They enter with this role, by its name in the application; none: with no role"`
}

// EntrantPage is a page of it.
type EntrantPage struct {
	EntrantFilter
	After int64 `query:"after" minimum:"0" doc:"Number after which the page begins"`
	Limit int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// Entrants are all who are known, and whether they enter an application as they last came.
type Entrants struct {
	At     time.Time      `json:"at" doc:"When it was looked at: of more than 5,000 people a list is kept for a minute"`
	Known  int            `json:"known" doc:"People in all"`
	Counts []EntrantCount `json:"counts" doc:"By what decides"`
	Roles  []RoleCount    `json:"roles,omitempty" doc:"By role, of those who enter, where the application has roles; who holds several is counted with each"`
	Total  int            `json:"total" doc:"How many fit"`
	Items  []Entrant      `json:"items"`
}

// EntrantCount is how many a decision is about.
type EntrantCount struct {
	Decision string  `json:"decision" enum:"allow,deny,step-up"`
	Ground   *Ground `json:"ground,omitempty"`
	Count    int     `json:"count"`
}

// Entrant is somebody, and whether they enter.
type Entrant struct {
	Person   int64   `json:"person"`
	Name     string  `json:"name"`
	Decision string  `json:"decision" enum:"allow,deny,step-up"`
	Ground   *Ground `json:"ground,omitempty"`
	Finding  string  `json:"finding,omitempty" doc:"Why they do not"`
	// Roles are those that they enter with.
	Roles  []string `json:"roles,omitempty" doc:"That they enter with, by their names in the application"`
	Choose bool     `json:"choose,omitempty" doc:"They choose one of these"`
}

// PersonEntry is whether somebody enters an application, and why.
type PersonEntry struct {
	Application string     `json:"application"`
	Title       string     `json:"title"`
	Decision    string     `json:"decision" enum:"allow,deny,step-up"`
	Ground      *Ground    `json:"ground,omitempty"`
	Why         string     `json:"why"`
	Roles       []HeldRole `json:"roles,omitempty" doc:"That they hold there, and by what"`
}

// PersonEntries are those of one person.
type PersonEntries struct {
	Items      []PersonEntry     `json:"items" doc:"By application"`
	Admissions []PersonAdmission `json:"admissions" doc:"What they were admitted to by name"`
}

// ListSent says how a list that names people on record is read.
type ListSent struct {
	By      string `json:"by,omitempty" maxLength:"200" doc:"Heading by which people on record are found; absent for number, else userName, employeeNumber or emails"`
	SkipBad bool   `json:"skipBad,omitempty" doc:"Leave rows out that cannot be used"`
	Digest  string `json:"digest,omitempty" maxLength:"128" doc:"Of the preview that was looked at; absent only tells what would be"`
}

// Browser is where a call comes from.
type Browser struct {
	Network string `json:"network" doc:"As rules see it: an IPv4 address, or the /64 of an IPv6 one"`
	From    string `json:"from" doc:"Address of who connects: the browser, or the proxy before the gate"`
	Proxied bool   `json:"proxied" doc:"Who connects is a trusted proxy, and the network is what it says of the browser"`
}

// SelectionRule is a rule of provider selection, read aloud.
type SelectionRule struct {
	Name         string    `json:"name"`
	Title        string    `json:"title"`
	Applications []string  `json:"applications" doc:"None for every one that names no provider"`
	Sentence     string    `json:"sentence"`
	Providers    []string  `json:"providers"`
	Ask          bool      `json:"ask,omitempty" doc:"The person is asked for their address first"`
	Decided      int64     `json:"decided" doc:"How often it decided at sign-ins, in the last 30 days"`
	Last         time.Time `json:"last,omitzero"`
	Broken       bool      `json:"broken,omitempty" doc:"It cannot be read any more: whoever comes to it is refused"`
}

// Selection is provider selection: its rules in their order, and whose each domain is.
type Selection struct {
	Rules   []SelectionRule `json:"rules"`
	Domains []DomainOwners  `json:"domains"`
	Owners  string          `json:"owners" doc:"Address of the owners' own way in, which no rule closes"`
}

// DomainOwners is a domain of e-mail addresses, and whose it is by each record.
type DomainOwners struct {
	Domain       string   `json:"domain" doc:"With a dot before it: its sub-domains, too"`
	Providers    []string `json:"providers" doc:"Whose people come by them (setting domains)"`
	Note         string   `json:"note,omitempty" doc:"Who confirmed it, and when"`
	Vouching     []string `json:"vouching" doc:"Providers whose word counts for its addresses (setting vouchesFor)"`
	Organisation string   `json:"organisation,omitempty" doc:"Where people with an address there land"`
}

// WayAsked is who would come, and how.
type WayAsked struct {
	Person   int64    `json:"person,omitempty" minimum:"1" doc:"Somebody who is known; absent for one who is not yet"`
	Email    string   `json:"email,omitempty" maxLength:"254" doc:"What is typed: an e-mail address, or a user name"`
	Network  string   `json:"network,omitempty" maxLength:"50" doc:"Address of their browser"`
	Hints    []string `json:"hints,omitempty" maxItems:"100" doc:"What the application names"`
	Provider string   `json:"provider,omitempty" maxLength:"63" doc:"That they pick"`
}

// WayFound is by which providers somebody comes.
type WayFound struct {
	Providers []string `json:"providers" doc:"One is gone to at once, of several the person chooses"`
	Ask       bool     `json:"ask,omitempty" doc:"They are asked for their address first"`
	Forced    bool     `json:"forced,omitempty" doc:"The application's record names it"`
	Unclaimed bool     `json:"unclaimed,omitempty" doc:"The domain of the address is no provider's that is possible"`
	Rule      string   `json:"rule,omitempty"`
	Why       []string `json:"why"`
}
