package api

import (
	"time"

	"innergate.example/innergate/internal/core/checks"
)

// Listing narrows a list of records; zero values leave it wide.
type Listing struct {
	Search string `query:"search" maxLength:"200" doc:"Part of a name, title or entity ID"`
	Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"20000"`
	Offset int    `query:"offset" minimum:"0"`
}

// ObjectFilter narrows a list of objects of a kind.
type ObjectFilter struct {
	Kind   string `path:"kind" maxLength:"63"`
	Search string `query:"search" maxLength:"200" doc:"Part of a name, or of what one says"`
	Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"20000"`
	Offset int    `query:"offset" minimum:"0"`
}

// SchemaOf says of which kind, and of records in which protocol.
type SchemaOf struct {
	Kind     string `path:"kind" maxLength:"63"`
	Protocol string `query:"protocol" maxLength:"63" doc:"Of records: those of other protocols are left out; absent for all"`
}

// HistoryFilter narrows the history.
type HistoryFilter struct {
	Kind   string `query:"kind" maxLength:"20" doc:"provider, application, aggregate, key, token or owner"`
	Name   string `query:"name" maxLength:"200"`
	Search string `query:"search" maxLength:"200" doc:"Part of a name, of who, what or why"`
	Limit  int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Before int64  `query:"before" minimum:"0" doc:"Only changes with a lower number; for the next page"`
}

// ConnectionFilter narrows a list of connections.
type ConnectionFilter struct {
	Search string          `query:"search" maxLength:"200" doc:"Part of a name, title or entity ID"`
	State  checks.Standing `query:"state" enum:"broken,failing,attention,unfinished,untried,paused,works"`
	Limit  int             `query:"limit" minimum:"1" maximum:"20000" default:"200"`
	Offset int             `query:"offset" minimum:"0"`
}

// CheckFilter narrows checks.
type CheckFilter struct {
	Names    []string `query:"name,explode" maxItems:"100" doc:"Short names; none means all"`
	Kind     string   `query:"kind" enum:"provider,application,aggregate,recipient,gate"`
	Severity string   `query:"severity" enum:"error,warning,note" doc:"At least"`
	Code     string   `query:"code" maxLength:"100" doc:"Only findings with this code"`
	Side     string   `query:"side" enum:"provider,application,gate,browser,sender" doc:"Only findings on which this side must act"`
	Reach    bool     `query:"reach" doc:"Ask the addresses as well: whether they answer, and their clocks"`
	All      bool     `query:"all" doc:"Those without findings as well"`
	Limit    int      `query:"limit" minimum:"1" maximum:"20000" default:"200"`
	Offset   int      `query:"offset" minimum:"0"`
}

// WaitingFilter narrows what waits for approval.
type WaitingFilter struct {
	Kind string `query:"kind" enum:"provider,application"`
	Name string `query:"name" maxLength:"63"`
}

// Refreshing asks the metadata address of a record.
type Refreshing struct {
	Named
	Again bool `query:"again" doc:"Call back a change that was declined"`
}

// EntityFilter narrows the entities of an aggregate.
type EntityFilter struct {
	Named
	Search string `query:"search" maxLength:"200" doc:"Part of an entity ID or title"`
	Role   string `query:"role" enum:"provider,application"`
	State  string `query:"state" enum:"usable,broken"`
	Limit  int    `query:"limit" minimum:"1" maximum:"20000" default:"100"`
	Offset int    `query:"offset" minimum:"0"`
}

// TraceFilter narrows a list of traces.
type TraceFilter struct {
	Search      string    `query:"search" maxLength:"200" doc:"Part of a reference, application, provider, person or finding; a person is found by the name they have here, too"`
	Result      string    `query:"result" enum:"entered,refused,waiting,left,signed out"`
	Application string    `query:"application" maxLength:"200"`
	Provider    string    `query:"provider" maxLength:"200"`
	Since       time.Time `query:"since" doc:"Only traces started at this time or later"`
	Before      time.Time `query:"before" doc:"Only traces started before this"`
	Offset      int       `query:"offset" minimum:"0"`
	Limit       int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	Rehearsed   bool      `query:"rehearsed" doc:"Those of rehearsals, in place of real sign-ins"`
}

// PeopleFilter narrows a list of people.
type PeopleFilter struct {
	Search       string `query:"search" maxLength:"500" doc:"Words that begin something known of them: names, addresses, numbers, what providers call them"`
	State        string `query:"state" doc:"enabled or disabled; both if absent"`
	Group        string `query:"group" maxLength:"63" doc:"They are in it, or in one that lies in it"`
	Organisation string `query:"organisation" maxLength:"63"`
	UserType     string `query:"userType" maxLength:"100"`
	Provider     string `query:"provider" maxLength:"63" doc:"They are linked to it"`
}

// EventFilter is which events are given out.
type EventFilter struct {
	After  int64     `query:"after" minimum:"0" doc:"Number of the last event seen (next of the page before); those behind it are given, the oldest first"`
	Since  time.Time `query:"since" doc:"Only what was done since then"`
	Person int64     `query:"person" minimum:"0" doc:"Only what was done to this one"`
	Newest bool      `query:"newest" doc:"The newest first, in place of the oldest"`
	Before int64     `query:"before" minimum:"0" doc:"With newest: those before this number"`
	Limit  int       `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// PeoplePage is a page of people.
type PeoplePage struct {
	PeopleFilter
	After string `query:"after" maxLength:"700" doc:"Next of the page before"`
	Limit int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// PeopleExport is people as a list.
type PeopleExport struct {
	PeopleFilter
	Form string `query:"form" enum:"csv,json" default:"csv"`
}

// Telling asks what an application would be told of somebody.
type Telling struct {
	OnePerson
	Application string `query:"application" required:"true" maxLength:"63"`
}

// LinkFilter narrows the list of links; zero values leave it wide.
type LinkFilter struct {
	Provider string `query:"provider" maxLength:"200" doc:"Short name, or the ID of one that was removed"`
	Person   int64  `query:"person" minimum:"1" doc:"Number of the account"`
	Limit    int    `query:"limit" minimum:"1" maximum:"1000" default:"100"`
	After    string `query:"after" maxLength:"64" doc:"Key of the last link seen; for the next page"`
}

// SubjectFilter is a page of the names by which an application knows people.
type SubjectFilter struct {
	Named
	After int64 `query:"after" minimum:"0" doc:"Number of the last person seen; for the next page"`
	Limit int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// GrantFilter narrows what belongs to people at an application; zero values leave it wide.
type GrantFilter struct {
	Named
	Person int64 `query:"person" minimum:"1" doc:"Number of an account"`
	Offset int   `query:"offset" minimum:"0"`
	Limit  int   `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// OneConsent says which consent of whom.
type OneConsent struct {
	Named
	Person int64 `path:"person" minimum:"1" doc:"Number of the account"`
}

// NoticeFilter bounds the list of notices.
type NoticeFilter struct {
	Limit int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// ComparisonPage is a page of the lines of a comparison.
type ComparisonPage struct {
	ComparisonExport
	Offset int `query:"offset" minimum:"0"`
	Limit  int `query:"limit" minimum:"1" maximum:"1000" default:"100"`
}

// ComparisonExport is the lines of a comparison, of one verdict or of all.
type ComparisonExport struct {
	OneComparison
	Verdict string `query:"verdict" maxLength:"40" doc:"Only lines of this one"`
}

// KeyChange says what a key is for.
type KeyChange struct {
	Purpose string `json:"purpose" maxLength:"80" doc:"idp, sp, enc, or app/NAME"`
	Kind    string `json:"kind,omitempty" maxLength:"20" doc:"rsa-2048, rsa-3072, rsa-4096, ec-p256 or ec-p384; of a key to be announced"`
}

// NewOwner is an owner to be added.
type NewOwner struct {
	Username string `json:"username" maxLength:"200"`
	NewPassword
}

// NewPassword is a password to be set.
type NewPassword struct {
	Password string `json:"password" maxLength:"1024" doc:"At least 12 characters"`
}

// NewToken is a token to be made.
type NewToken struct {
	Name    string    `json:"name" maxLength:"200"`
	Expires time.Time `json:"expires,omitzero" doc:"When it ends; absent for one that does not"`
}
