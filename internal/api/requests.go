package api

import "time"

// EntryRequest is an admission that was asked for: by somebody who was refused, or by an owner where the application
// has another one approve.
type EntryRequest struct {
	Number      int64           `json:"number"`
	Application string          `json:"application,omitempty" doc:"Short name; absent for one that was removed"`
	Title       string          `json:"title,omitempty" doc:"Of the application"`
	Person      int64           `json:"person,omitempty" doc:"Who asked for themselves; absent if an owner asked"`
	Author      string          `json:"author,omitempty" doc:"Owner or token that asked"`
	Owner       string          `json:"owner,omitempty" doc:"Owner who stands behind a token: whoever made it"`
	Why         string          `json:"why,omitempty"`
	Asked       time.Time       `json:"asked"`
	Ends        time.Time       `json:"ends" doc:"Until when it can be decided on"`
	State       string          `json:"state" enum:"waiting,approved,declined,ended"`
	Decided     time.Time       `json:"decided,omitzero"`
	By          string          `json:"by,omitempty" doc:"Who decided"`
	Remark      string          `json:"remark,omitempty" doc:"Of whoever decided"`
	Everyone    bool            `json:"everyone,omitempty" doc:"Whoever nothing else is about would enter"`
	AtOnce      bool            `json:"atOnce,omitempty" doc:"Admissions would act at once from then on"`
	Groups      []RequestGroup  `json:"groups,omitempty" doc:"That would be admitted"`
	People      []RequestPerson `json:"people,omitempty" doc:"Who would be admitted"`
	Until       time.Time       `json:"until,omitzero" doc:"Until when they would enter; absent for good"`
	Digest      string          `json:"digest" doc:"Of what is shown here, to approve it by"`
}

// RequestGroup is a group that would be admitted.
type RequestGroup struct {
	Name  string `json:"name"`
	Title string `json:"title"`
	Gone  bool   `json:"gone,omitempty" doc:"It was removed"`
}

// RequestPerson is somebody who would be admitted.
type RequestPerson struct {
	Number   int64  `json:"number"`
	Name     string `json:"name"`
	Called   string `json:"called,omitempty" doc:"What tells people of one name apart"`
	Disabled bool   `json:"disabled,omitempty"`
	Gone     bool   `json:"gone,omitempty" doc:"They were removed"`
}

// EntryRequests is a page of them, the newest first.
type EntryRequests struct {
	Items   []EntryRequest `json:"items"`
	Waiting int64          `json:"waiting" doc:"How many wait in all"`
}

// RequestFilter says which page.
type RequestFilter struct {
	Application string `query:"application" maxLength:"63"`
	State       string `query:"state" enum:",waiting,approved,declined,ended" doc:"Absent for all"`
	After       int64  `query:"after" minimum:"0" doc:"Number below which the page begins"`
	Limit       int    `query:"limit" minimum:"1" maximum:"200" default:"50"`
}

// Approval is what an owner approves.
type Approval struct {
	Digest string `json:"digest" minLength:"1" maxLength:"64" doc:"Of the request as it was looked at"`
}

// Approves is the approval of a request.
type Approves struct {
	Numbered
	Body Approval
}
