// Package demo is the demo scenario as files: Wrenmoor Rail and its people, all
// made up.
package demo

import _ "embed"

// People is the list of people whom the gate of the demo knows before anybody signs in, as
// innergate person import takes it.
//
//go:embed people.csv
var People []byte

// Scenario is the scenario in YAML.
//
//go:embed scenario.yaml
var Scenario []byte
