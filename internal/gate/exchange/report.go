package exchange

import (
	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/editions"
)

func refuse(r *Report, entityID string, f *finding.Finding) {
	if r.RefusedN++; len(r.Refused) < editions.Listed {
		r.Refused = append(r.Refused, Refusal{EntityID: entityID, Finding: f})
	}
}

// Report is what a job has changed, and what it refused.
type Report struct {
	Entities int
	Broken   int
	Taken    []TakenEntity
	Refused  []Refusal
	RefusedN int
	Changes  *editions.Changes
	Records  []Refreshed
	Found    []checks.Count // on the records that were made
	Change   int64          // number by which it can be taken back, 0 if nothing was changed
}

// TakenEntity is a record made from an entity.
type TakenEntity struct {
	EntityID string
	Kind     string
	Name     string
}

// Refusal is an entity that was not taken.
type Refusal struct {
	EntityID string
	Finding  *finding.Finding
}
