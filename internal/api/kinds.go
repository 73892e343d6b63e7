package api

// Kind describes the settings of a kind of objects; records of each protocol have their own.
type Kind struct {
	Kind     string    `json:"kind" doc:"Like provider, application or aggregate"`
	Protocol string    `json:"protocol,omitempty" doc:"Of a record: whose settings they are"`
	Settings []Setting `json:"settings"`
}

// Setting describes one setting: what help, forms and checks of files need.
type Setting struct {
	Name    string          `json:"name"`
	Label   string          `json:"label" doc:"On forms"`
	Text    string          `json:"text,omitempty" doc:"What it does"`
	Group   string          `json:"group" doc:"Under which it stands on forms"`
	Type    string          `json:"type" enum:"text,lines,switch,choice,list,pairs,duration,day,address,certificate,rules,named"`
	Most    int             `json:"most,omitempty" doc:"Characters of a text at most"`
	Choices []SettingChoice `json:"choices,omitempty" doc:"Values that it can have, or mostly has"`
	Refers  string          `json:"refers,omitempty" doc:"Kind of the object that it names"`
}

// SettingChoice is a value that a setting can have.
type SettingChoice struct {
	Value string `json:"value"`
	Label string `json:"label"`
}
