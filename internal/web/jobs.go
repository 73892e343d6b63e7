package web

import (
	"innergate.example/innergate/internal/api"
	"innergate.example/innergate/internal/gate/comparing"
	"innergate.example/innergate/internal/gate/exchange"
	"innergate.example/innergate/internal/gate/jobs"
	"innergate.example/innergate/internal/gate/people/roll"
	"innergate.example/innergate/internal/gate/traces"
)

// jobShown gives a job as the API shows it.
func jobShown(j jobs.Job) api.Job {
	out := api.Job{ID: j.ID, What: j.What, State: j.State, Done: j.Done, Total: j.Total, Unit: j.Unit, Started: j.Started,
		Ended: j.Ended, Refused: j.Refused, Failure: j.Failure, Field: j.Field}
	if r, ok := j.Report.(*traces.Evaluated); ok && r != nil {
		out.Reevaluated = reevaluated(r)
	}
	if r, ok := j.Report.(*roll.Imported); ok && r != nil {
		out.Imported = imported(r)
	}
	if r, ok := j.Report.(*api.Entrants); ok && r != nil {
		out.Entrants = r
	}
	if r, ok := j.Report.(*comparing.Comparison); ok && r != nil {
		shown := comparison(*r)
		out.Compared = &shown
	}
	if r, ok := j.Report.(*exchange.Report); ok && r != nil {
		out.Report = &api.Report{Entities: r.Entities, Broken: r.Broken, RefusedN: r.RefusedN,
			Changes: (*api.Changes)(r.Changes), Found: codeCounts(r.Found), Change: r.Change}
		for _, t := range r.Taken {
			out.Report.Taken = append(out.Report.Taken, api.TakenEntity(t))
		}
		for _, f := range r.Refused {
			out.Report.Refused = append(out.Report.Refused, api.Refusal(f))
		}
		for _, f := range r.Records {
			out.Report.Records = append(out.Report.Records, api.Refreshed(f))
		}
	}
	return out
}
