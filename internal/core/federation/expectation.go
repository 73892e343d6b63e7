package federation

import (
	"errors"
	"fmt"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
)

// Expectation is one line of what a rehearsal is to come to. It is written as people say it:
//
//	entered
//	refused [by FINDING-CODE | by rule NAME]
//	name is VALUE | name matches PATTERN
//	attribute NAME is VALUE | attribute NAME has VALUE | attribute NAME matches PATTERN
//	attribute NAME present | attribute NAME absent
//	role is NAME
//	person is NUMBER
//	within DURATION
//
// The name is the NameID, or the subject, that the application is told.
type Expectation struct {
	Of    string // entered, refused, name, attribute, role, person or within
	Name  string // of the attribute
	How   string // is, has, matches, present, absent or by
	Value string // as it was written; of "by rule NAME" with the word rule

	pattern *regexp.Regexp
	within  time.Duration
	person  int64
}

// String writes it.
func (e Expectation) String() string {
	return strings.Join(slices.DeleteFunc([]string{e.Of, e.Name, e.How, e.Value},
		func(s string) bool { return s == "" }), " ")
}

// Matches reports whether a text is what is expected of one, by "is", "has" or "matches".
func (e Expectation) Matches(text string) bool {
	if e.pattern != nil {
		return e.pattern.MatchString(text)
	}
	return text == e.Value
}

// Within is how long it may take, of "within".
func (e Expectation) Within() time.Duration { return e.within }

// Person is who enters, of "person".
func (e Expectation) Person() int64 { return e.person }

// Rule is the rule that decides, of "refused by rule"; "" for a finding, or for any.
func (e Expectation) Rule() Name {
	name, is := strings.CutPrefix(e.Value, "rule ")
	if !is {
		return ""
	}
	return Name(name)
}

// longestPattern bounds a pattern, in octets.
const longestPattern = 1000

// ParseExpectation reads a line. The error says what can be written.
func ParseExpectation(line string) (e Expectation, err error) {
	of, rest, _ := strings.Cut(strings.TrimSpace(line), " ")
	e.Of, rest = of, strings.TrimSpace(rest)
	switch of {
	case "entered":
		return e, nothing(rest)
	case "refused":
		return e.refused(rest)
	case "name", "role", "person":
	case "attribute":
		e.Name, rest, _ = strings.Cut(rest, " ")
		if e.Name == "" {
			return e, errors.New(`it names no attribute; write it like "attribute groups has drivers"`)
		}
	case "within":
		e.Value = rest
		if e.within, err = time.ParseDuration(rest); err != nil || e.within < time.Second || e.within > time.Hour {
			return e, fmt.Errorf("%q is no time from 1s to 1h; write it like within 30s", finding.Clip(rest))
		}
		return e, nil
	default:
		known := []string{"entered", "refused", "name", "attribute", "role", "person", "within"}
		if near := nearword.Of(of, known); near != "" {
			return e, fmt.Errorf("%q is nothing that can be expected; did you mean %s?", finding.Clip(of), near)
		}
		return e, fmt.Errorf("%q is nothing that can be expected; begin with one of %s", finding.Clip(of),
			strings.Join(known, ", "))
	}
	e.How, e.Value, _ = strings.Cut(strings.TrimSpace(rest), " ")
	e.Value = strings.TrimSpace(e.Value)
	return e.compared()
}

func nothing(rest string) error {
	if rest != "" {
		return fmt.Errorf("%q stands behind it, and nothing can", finding.Clip(rest))
	}
	return nil
}

// refused reads by what it is refused.
func (e Expectation) refused(rest string) (Expectation, error) {
	if rest == "" {
		return e, nil
	}
	by, is := strings.CutPrefix(rest, "by ")
	if e.How, e.Value = "by", strings.TrimSpace(by); !is || e.Value == "" {
		return e, errors.New("write it like refused, refused by access-denied, or refused by rule night-shift")
	}
	if e.Rule() != "" {
		return e, nil
	}
	codes := []string{}
	for _, c := range finding.Catalogue() {
		if codes = append(codes, string(c.Code)); string(c.Code) == e.Value {
			return e, nil
		}
	}
	say := fmt.Errorf("no finding has the code %q", finding.Clip(e.Value))
	if near := nearword.Of(e.Value, codes); near != "" {
		return e, fmt.Errorf("%w; did you mean %s?", say, near)
	}
	return e, fmt.Errorf("%w; codes stand in docs/findings.md, and with each finding", say)
}

// hows are the ways in which each part can be compared.
var hows = map[string][]string{"name": {"is", "matches"}, "attribute": {"is", "has", "matches", "present", "absent"},
	"role": {"is"}, "person": {"is"}}

// compared reads how it is compared, and with what.
func (e Expectation) compared() (Expectation, error) {
	bare := e.How == "present" || e.How == "absent"
	switch {
	case !slices.Contains(hows[e.Of], e.How):
		return e, fmt.Errorf("%q does not say how it is compared; use one of %s", finding.Clip(e.How),
			strings.Join(hows[e.Of], ", "))
	case bare:
		return e, nothing(e.Value)
	case e.Value == "":
		return e, fmt.Errorf("nothing stands behind %s; say what it is compared with", e.How)
	}
	var err error
	switch {
	case e.Of == "person":
		if e.person, err = strconv.ParseInt(e.Value, 10, 64); err != nil || e.person < 1 {
			return e, fmt.Errorf("%q is no number of a person", finding.Clip(e.Value))
		}
	case e.How == "matches" && len(e.Value) > longestPattern:
		return e, fmt.Errorf("the pattern has %d octets; use at most %d", len(e.Value), longestPattern)
	case e.How == "matches":
		if e.pattern, err = regexp.Compile("^(?:" + e.Value + ")$"); err != nil {
			return e, fmt.Errorf("the pattern cannot be read: %w", err)
		}
	}
	return e, nil
}

// ParseExpectations reads what a rehearsal is to come to: entered, if no line says refused. The error tells what
// cannot hold together.
func ParseExpectations(lines []string) (out []Expectation, err error) {
	for _, line := range lines {
		e, err := ParseExpectation(line)
		if err != nil {
			return nil, fmt.Errorf("%q: %w", finding.Clip(line), err)
		}
		out = append(out, e)
	}
	count := func(of ...string) (n int) {
		for _, e := range out {
			if slices.Contains(of, e.Of) {
				n++
			}
		}
		return n
	}
	refused := count("refused") > 0
	switch {
	case refused && count("entered") > 0:
		return nil, errors.New("nobody both enters and is refused: leave out one of the lines")
	case refused && count("name", "attribute", "role") > 0:
		return nil, errors.New("whoever is refused is not told of: leave out name, attributes and role, or refused")
	}
	for _, of := range []string{"entered", "refused", "name", "role", "person", "within"} {
		if count(of) > 1 {
			return nil, fmt.Errorf("several lines say %s; keep one", of)
		}
	}
	for i, e := range out {
		for _, other := range out[:i] {
			if e.Of == "attribute" && other.Of == e.Of && other.Name == e.Name &&
				(e.How == "absent") != (other.How == "absent") {
				return nil, fmt.Errorf("attribute %s cannot be absent and something: leave out one of the lines", e.Name)
			}
		}
	}
	if !refused && count("entered") == 0 {
		out = append([]Expectation{{Of: "entered"}}, out...)
	}
	return out, nil
}
