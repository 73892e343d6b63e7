package api

import (
	"time"

	"innergate.example/innergate/internal/core/federation"
)

// Kind describes the settings of a kind of objects; records of each protocol have their own.
type Kind struct {
	Kind     string    `json:"kind" doc:"Like provider, application or aggregate"`
	Protocol string    `json:"protocol,omitempty" doc:"Of a record: whose settings they are"`
	Settings []Setting `json:"settings"`
	Fields   []Setting `json:"fields" doc:"Of a record: values of the other side that can be typed by hand"`
	Plain    bool      `json:"plain" doc:"Settings say everything about an object of the kind: it can be made and changed by the calls for objects"`
}

// Setting describes one setting: what help, forms and checks of files need.
type Setting struct {
	Name    string          `json:"name"`
	Label   string          `json:"label" doc:"On forms"`
	Text    string          `json:"text,omitempty" doc:"What it does, and what it comes to where it is empty"`
	Default string          `json:"default,omitempty" doc:"What it comes to where it is empty"`
	Group   string          `json:"group" doc:"Under which it stands on forms"`
	Type    string          `json:"type" enum:"text,lines,switch,choice,list,pairs,duration,day,address,certificate,rules,named,values,secret,keys"`
	Most    int             `json:"most,omitempty" doc:"Characters of a text at most"`
	Choices []SettingChoice `json:"choices,omitempty" doc:"Values that it can have, or mostly has"`
	Refers  string          `json:"refers,omitempty" doc:"Kind of the object that it names"`
}

// SettingChoice is a value that a setting can have.
type SettingChoice struct {
	Value string `json:"value"`
	Label string `json:"label"`
}

// Object is a configuration object of any kind.
type Object struct {
	ObjectRow
	Settings  map[string]any     `json:"settings,omitempty" doc:"Of kinds that settings say everything about"`
	Values    []federation.Value `json:"values" doc:"Everything that it says, as people read it"`
	Referring []Reference        `json:"referring" doc:"Objects that name it"`
}

// ObjectRow is one line in a list of objects.
type ObjectRow struct {
	Kind     string    `json:"kind"`
	Name     string    `json:"name"`
	Title    string    `json:"title,omitempty"`
	Revision int       `json:"revision"`
	Added    time.Time `json:"added"`
}

// Reference is an object that names another one.
type Reference struct {
	By    string `json:"by" doc:"Like organisation/oakhollow"`
	Field string `json:"field" doc:"Setting that names it"`
}

// ObjectChange lays settings over an object.
type ObjectChange struct {
	Revision int            `json:"revision" minimum:"0" doc:"That the change was made from; 0 for a new one"`
	Settings map[string]any `json:"settings" doc:"Those that change; others stay"`
}

// ObjectLooked is what a change of an object comes to.
type ObjectLooked struct {
	New         bool                    `json:"new"`
	Differences []federation.Difference `json:"differences"`
	Consequence *Consequence            `json:"consequence,omitempty"`
}
