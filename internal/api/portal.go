package api

// Start is a starting point of an application.
type Start struct {
	Name        string `json:"name" doc:"Short name of the object"`
	Application string `json:"application"`
	Title       string `json:"title"`
	Target      string `json:"target,omitempty" doc:"What the application is told to land at"`
	Address     string `json:"address" doc:"Where it starts, at the gate"`
	Sentence    string `json:"sentence" doc:"Whom it is shown to"`
	Broken      bool   `json:"broken,omitempty" doc:"It cannot be read any more: nobody is shown it"`
}

// Tile is an application, or a starting point of one, on somebody's portal.
type Tile struct {
	Application string   `json:"application"`
	Start       string   `json:"start,omitempty" doc:"Short name of the starting point; empty for the application itself"`
	Title       string   `json:"title"`
	Section     string   `json:"section,omitempty"`
	Address     string   `json:"address" doc:"Where it leads, at the gate"`
	Marks       []string `json:"marks,omitempty" doc:"What is special about it, as people read it"`
	Used        int64    `json:"used" doc:"How often they entered the application"`
	Why         string   `json:"why,omitempty" doc:"By what it is decided that they enter"`
}

// Portal is what somebody finds on the portal, as if they came now by what their providers said last.
type Portal struct {
	Person int64    `json:"person"`
	Name   string   `json:"name,omitempty"`
	In     bool     `json:"in" doc:"False of somebody of whom it is not known by which provider they come, or who may not come to the portal: nothing is told of them"`
	By     []string `json:"by" doc:"Titles of the providers by which they are taken to come"`
	Tiles  []Tile   `json:"tiles" doc:"In their order"`
	Coming []Tile   `json:"coming" doc:"That open to them at a moment, where the portal shows such"`
	Offers []Tile   `json:"offers" doc:"That they may ask for, where the portal shows such"`
	Hidden []Tile   `json:"hidden" doc:"That they enter, and that are not on the portal"`
}
