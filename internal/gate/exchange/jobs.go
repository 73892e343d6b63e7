package exchange

import (
	"context"
	"errors"
	"fmt"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/checks"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/editions"
	"innergate.example/innergate/internal/gate/random"
)

// States of a job.
const (
	JobRunning = "running"
	JobDone    = "done"
	JobFailed  = "failed"
)

// maxJobs is how many jobs are remembered, with their reports.
const maxJobs = 100

func refuse(r *Report, entityID string, f *finding.Finding) {
	if r.RefusedN++; len(r.Refused) < editions.Listed {
		r.Refused = append(r.Refused, Refusal{EntityID: entityID, Finding: f})
	}
}

// jobs is the work in progress and what ended lately.
type jobs struct {
	mu   sync.Mutex
	all  []*Job
	wait sync.WaitGroup
}

// progress is how a job tells how far it is.
type progress struct {
	jobs *jobs
	job  *Job
}

func (p progress) set(done int64) {
	p.jobs.mu.Lock()
	p.job.Done = done
	p.jobs.mu.Unlock()
}

func (p progress) total(n int64) {
	p.jobs.mu.Lock()
	p.job.Total = n
	p.jobs.mu.Unlock()
}

// start begins a job in the background. It ends with the gate.
func (rm *Room) start(what, unit string, do func(ctx context.Context, p progress) (*Report, error)) Job {
	j := &Job{ID: random.Text(10), What: what, State: JobRunning, Unit: unit, Started: rm.now().UTC()}
	rm.jobs.mu.Lock()
	if rm.jobs.all = append(rm.jobs.all, j); len(rm.jobs.all) > maxJobs {
		if i := slices.IndexFunc(rm.jobs.all, func(j *Job) bool { return j.Ended != nil }); i >= 0 {
			rm.jobs.all = slices.Delete(rm.jobs.all, i, i+1)
		}
	}
	first := *j
	rm.jobs.mu.Unlock()
	rm.jobs.wait.Go(func() {
		report, err := whole(func() (*Report, error) { return do(rm.ctx, progress{&rm.jobs, j}) })
		rm.jobs.mu.Lock()
		defer rm.jobs.mu.Unlock()
		now := rm.now().UTC()
		j.Ended, j.State, j.Report = &now, JobDone, report
		if err == nil {
			return
		}
		j.State, j.Refused, j.Failure = JobFailed, finding.Of(err), err.Error()
		var ce *change.ConflictError
		var nf *change.NotFoundError
		if j.Refused == nil && !errors.As(err, &ce) && !errors.As(err, &nf) && rm.ctx.Err() == nil {
			rm.log.Error("a job failed by our own fault", "job", what, "error", err)
			j.Failure = "the gate failed by its own fault; look into its log for the time of this job"
		}
	})
	return first
}

// whole runs something; a panic in it is an error.
func whole[T any](do func() (T, error)) (out T, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic: %v\n%s", p, debug.Stack())
		}
	}()
	return do()
}

// Jobs lists jobs, the newest first.
func (rm *Room) Jobs() []Job {
	rm.jobs.mu.Lock()
	defer rm.jobs.mu.Unlock()
	out := []Job{}
	for _, j := range slices.Backward(rm.jobs.all) {
		out = append(out, *j)
	}
	return out
}

// Job finds a job.
func (rm *Room) Job(id string) (Job, error) {
	rm.jobs.mu.Lock()
	defer rm.jobs.mu.Unlock()
	for _, j := range rm.jobs.all {
		if j.ID == id {
			return *j, nil
		}
	}
	return Job{}, &change.NotFoundError{Kind: "job", Name: id}
}

func (js *jobs) sweep(now time.Time) {
	js.mu.Lock()
	defer js.mu.Unlock()
	js.all = slices.DeleteFunc(js.all, func(j *Job) bool { return j.Ended != nil && now.Sub(*j.Ended) > time.Hour })
}

// Job is work that takes longer than a request: how far it is, and how it ended.
// Jobs are kept in memory for an hour after their end; what they changed is in
// the history.
type Job struct {
	ID      string
	What    string
	State   string
	Done    int64
	Total   int64
	Unit    string
	Started time.Time
	Ended   *time.Time
	// Refused says why a failed job failed.
	Refused *finding.Finding
	Failure string
	Report  *Report
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
