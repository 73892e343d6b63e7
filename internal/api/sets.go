package api

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// SetChange is what a named mapping is to be.
type SetChange struct {
	Way      string          `json:"way" enum:"intake,release" doc:"intake: for providers; release: for applications"`
	Title    string          `json:"title" maxLength:"200" doc:"What people read"`
	Notes    string          `json:"notes,omitempty" maxLength:"20000"`
	Mapping  profile.Mapping `json:"mapping"`
	Revision int             `json:"revision" minimum:"0" doc:"That the change was made from; 0 for a new one"`
}

// Set is a named mapping that several records share.
type Set struct {
	Name string `json:"name"`
	SetChange
	Using []string `json:"using" doc:"Records that share it, like provider/oakhollow"`
	// Deviating are those of them that lay rules of their own over it.
	Deviating   []Deviation  `json:"deviating" doc:"Those of them that lay rules of their own over it"`
	Consequence *Consequence `json:"consequence,omitempty" doc:"After a change: what it did to people who signed in lately"`
	Added       time.Time    `json:"added"`
}

// Deviation is a record that shares a set and has rules of its own over it.
type Deviation struct {
	Record string   `json:"record"`
	Own    []string `json:"own" doc:"What it makes by rules of its own"`
	Omits  []string `json:"omits" doc:"What it leaves out that the set makes"`
}

// Reevaluation is a change that recorded crossings are run through before it is saved.
type Reevaluation struct {
	Application string          `json:"application,omitempty" maxLength:"63" doc:"Only crossings of this application"`
	Provider    string          `json:"provider,omitempty" maxLength:"63" doc:"Only crossings by this provider"`
	Most        int             `json:"most,omitempty" minimum:"0" maximum:"10000" doc:"How many at most, the newest first; 0 for 10,000"`
	Changes     []SettingChange `json:"changes,omitempty" maxItems:"100"`
	Set         *NamedSet       `json:"set,omitempty" doc:"A set as it would be"`
}

// Consequence is what a change does to people who signed in lately: their recorded sign-ins,
// run through it.
type Consequence struct {
	Looked   int              `json:"looked" doc:"Recorded sign-ins that the change touches"`
	Seen     int              `json:"seen" doc:"People in them"`
	Known    int              `json:"known,omitempty" doc:"People in all, where the change decides on entry: that of each was foreseen"`
	Shut     int              `json:"shut" doc:"People who would not be let in any more"`
	Renamed  int              `json:"renamed" doc:"People of whom an application would hear by another name"`
	Held     int              `json:"held" doc:"People who would be asked something first"`
	Told     int              `json:"told" doc:"People of whom an application would be told something else"`
	Let      int              `json:"let" doc:"People who would be let in, and were not"`
	Offered  []Offer          `json:"offered,omitempty" doc:"Providers that the change offers where they were not"`
	Choosing int              `json:"choosing,omitempty" doc:"People who are known and may enter one of these applications: they gain a choice"`
	Cast     int              `json:"cast,omitempty" doc:"People who would enter with other roles, and enter before and after"`
	Roles    []RoleChange     `json:"roles,omitempty" doc:"By role, who comes to hold it and who loses it"`
	Ways     *WaysTold        `json:"ways,omitempty" doc:"What becomes of people's ways, where the change selects other providers"`
	Untold   int              `json:"cannotTell" doc:"Sign-ins of which it cannot be told"`
	Cause    string           `json:"cause,omitempty" doc:"Why not, of the newest of these"`
	Stopped  bool             `json:"stopped,omitempty" doc:"It took too long; older sign-ins were not looked at"`
	People   []Affected       `json:"people" doc:"The first twenty for whom something would be other, the worst first"`
	Finding  *finding.Finding `json:"finding,omitempty" doc:"What has to be confirmed before the change is saved"`
	Confirm  string           `json:"confirm,omitempty" doc:"Digest to confirm it with"`
}

// WaysTold counts what becomes of the ways of people who are known.
type WaysTold struct {
	Keep     int      `json:"keep"`
	Other    int      `json:"other" doc:"They get another one"`
	None     int      `json:"none" doc:"They have none"`
	Examples []string `json:"examples"`
}

// Offer is a provider, and the applications at which people may come by it from now on.
type Offer struct {
	Provider     string   `json:"provider"`
	Applications []string `json:"applications"`
}

// Affected is one of the people whom a change does something to.
type Affected struct {
	Person      int64                   `json:"person,omitempty" doc:"Number of their account"`
	Name        string                  `json:"name"`
	Application string                  `json:"application,omitempty"`
	Trace       string                  `json:"trace,omitempty" doc:"Reference of the sign-in; absent for one whose entry was foreseen"`
	What        string                  `json:"what" enum:"refused,renamed,asked first,told otherwise,let in,other roles"`
	Differences []federation.Difference `json:"differences"`
}

// Proposed is a change that is looked at before it is saved.
type Proposed struct {
	Changes []SettingChange `json:"changes,omitempty" maxItems:"100"`
	Set     *NamedSet       `json:"set,omitempty" doc:"A set as it would be"`
}

// SettingChange is settings of one record as they would be.
type SettingChange struct {
	Kind     string              `json:"kind" enum:"provider,application"`
	Name     string              `json:"name" maxLength:"63"`
	Settings federation.Settings `json:"settings" doc:"Those that change"`
}

// NamedSet is a set as it would be.
type NamedSet struct {
	Name string `json:"name" maxLength:"63"`
	SetChange
}

// Reevaluated is what recorded crossings would come to.
type Reevaluated struct {
	Looked  int  `json:"looked" doc:"Crossings that were run again"`
	Alike   int  `json:"alike"`
	Differs int  `json:"differs"`
	Untold  int  `json:"cannotTell" doc:"Crossings of which something was not kept that the change reads"`
	Apart   int  `json:"apart" doc:"Crossings that the change does not touch"`
	Seen    int  `json:"seen" doc:"People in those that it touches"`
	People  int  `json:"people" doc:"Of them, those for whom something would be other"`
	Shut    int  `json:"shut" doc:"Of them, those who would not be let in any more"`
	Renamed int  `json:"renamed" doc:"Of them, those of whom an application would hear by another name"`
	Held    int  `json:"held" doc:"Of them, those who would be asked something first"`
	Stopped bool `json:"stopped,omitempty" doc:"It took too long; older crossings were not looked at"`

	Listed []ReevaluatedCrossing `json:"listed" doc:"Those that differ or cannot be told, at most 500, the newest first"`
}

// ReevaluatedCrossing is one of them.
type ReevaluatedCrossing struct {
	Trace       string                  `json:"trace"`
	Started     time.Time               `json:"started"`
	Person      string                  `json:"person,omitempty"`
	Application string                  `json:"application,omitempty"`
	Provider    string                  `json:"provider,omitempty"`
	Verdict     string                  `json:"verdict" enum:"differs,cannot tell"`
	Cause       string                  `json:"cause,omitempty" doc:"Why it cannot be told"`
	Shut        bool                    `json:"shut,omitempty"`
	Renamed     bool                    `json:"renamed,omitempty"`
	Held        bool                    `json:"held,omitempty"`
	Differences []federation.Difference `json:"differences"`
}
