// Package demo is the demo scenario as files: Wrenmoor Rail and its people, all
// made up.
package demo

import _ "embed"

// Scenario is the scenario in YAML.
//
//go:embed scenario.yaml
var Scenario []byte
