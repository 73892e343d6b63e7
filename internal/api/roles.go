package api

// Role is a role of an application, read aloud.
type Role struct {
	Name        string   `json:"name" doc:"Short name of the object"`
	Role        string   `json:"role" doc:"Name in the application, by which it is asked for"`
	Title       string   `json:"title"`
	Application string   `json:"application"`
	Values      []string `json:"values" doc:"Sent for it, where a release mapping has the source role"`
	Sentence    string   `json:"sentence" doc:"Who holds it"`
	Default     bool     `json:"default,omitempty" doc:"Whoever holds none enters with it"`
	Broken      bool     `json:"broken,omitempty" doc:"It cannot be read any more: nobody holds it"`
}

// HeldRole is a role that somebody holds, and by what.
type HeldRole struct {
	Role   string   `json:"role" doc:"Name in the application"`
	Title  string   `json:"title"`
	By     string   `json:"by" doc:"by name, group NAME, organisation NAME, by rule, or default"`
	Values []string `json:"values" doc:"Sent for it"`
	Enters bool     `json:"enters" doc:"They enter with it; where they choose, with one of these"`
}

// RoleCount is how many enter with a role.
type RoleCount struct {
	Role  string `json:"role" doc:"Name in the application; empty for who enters with none"`
	Title string `json:"title,omitempty"`
	Count int    `json:"count"`
}

// RoleChange is how many come to hold a role by a change, and how many lose it.
type RoleChange struct {
	Application string `json:"application"`
	Role        string `json:"role"`
	Gain        int    `json:"gain"`
	Lose        int    `json:"lose"`
}
