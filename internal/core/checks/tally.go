package checks

import (
	"cmp"
	"slices"

	"innergate.example/innergate/internal/core/finding"
)

// Count is how often a finding was given.
type Count struct {
	Code     finding.Code
	Severity finding.Severity
	Side     finding.Side
	Title    string
	Remedy   string
	Findings int
	Records  int
}

// Tally counts findings by code.
type Tally map[finding.Code]*Count

// Add counts the findings on one record.
func (t Tally) Add(found []*finding.Finding) {
	seen := map[finding.Code]bool{}
	for _, f := range found {
		n := t[f.Code]
		if n == nil {
			n = &Count{Code: f.Code, Severity: f.Severity, Side: f.Side, Title: f.Title, Remedy: f.Remedy}
			t[f.Code] = n
		}
		if n.Findings++; !seen[f.Code] {
			n.Records++
		}
		if seen[f.Code] = true; f.Severity.Compare(n.Severity) < 0 {
			n.Severity = f.Severity
		}
	}
}

// Counts gives the worst and most frequent first.
func (t Tally) Counts() []Count {
	out := make([]Count, 0, len(t))
	for _, n := range t {
		out = append(out, *n)
	}
	slices.SortFunc(out, func(a, b Count) int {
		return cmp.Or(a.Severity.Compare(b.Severity), b.Findings-a.Findings, cmp.Compare(a.Code, b.Code))
	})
	return out
}
