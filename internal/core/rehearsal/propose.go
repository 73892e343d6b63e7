package rehearsal

import (
	"fmt"
	"strings"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
)

// mostProposed bounds how many attributes are proposed, and longestProposed how long a value is.
const (
	mostProposed    = 30
	longestProposed = 200
)

// Propose writes down what a sign-in came to, or would come to, as what a rehearsal expects. Names and values that are
// made anew for each answer are left out.
func Propose(d crossing.Decision, rule string) (lines []string) {
	if d.Finding != "" || d.Result == crossing.Refused {
		switch {
		case rule != "":
			return []string{"refused by rule " + rule}
		case d.Finding != "" && d.Finding != finding.GateFailure:
			return []string{"refused by " + string(d.Finding)}
		}
		return []string{"refused"}
	}
	lines = []string{"entered"}
	if d.Person != 0 {
		lines = append(lines, fmt.Sprint("person is ", d.Person))
	}
	if d.Released != nil && plain(d.Released.Name.Value) {
		lines = append(lines, "name is "+d.Released.Name.Value)
	}
	n := 0
	for _, told := range d.Told {
		if n++; n > mostProposed || told.Name == "" || strings.ContainsAny(told.Name, " \t\n") {
			continue
		}
		some := len(lines)
		for _, v := range told.Values {
			if text := v.String(); plain(text) {
				lines = append(lines, "attribute "+told.Name+" is "+text)
			}
		}
		if len(lines)-some < len(told.Values) { // not all could be written
			lines = append(lines[:some], "attribute "+told.Name+" present")
		}
	}
	return lines
}

// plain reports whether a text can stand on a line.
func plain(text string) bool {
	return text != "" && len(text) <= longestProposed && strings.TrimSpace(text) == text &&
		!strings.ContainsFunc(text, func(r rune) bool { return r < ' ' || r == 0x7f })
}
