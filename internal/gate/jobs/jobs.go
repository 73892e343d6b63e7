// Package jobs is work that takes longer than a request: how far it is, and how it ended.
package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"runtime/debug"
	"slices"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// States of a job.
const (
	Running = "running"
	Done    = "done"
	Failed  = "failed"
)

// mostJobs is how many jobs are remembered, with their reports.
const mostJobs = 100

// Job is one of them. Jobs are kept in memory for an hour after their end; what they
// changed is in the history.
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
	Field   string // of what was given, that it failed for; "" for none
	Report  any    // of the kind of the job, nil for none
}

// Room is the work in progress and what ended lately.
type Room struct {
	ctx     context.Context
	log     *slog.Logger
	now     func() time.Time
	busy    func(bool)
	mu      sync.Mutex
	all     []*Job
	running int
	wait    sync.WaitGroup
}

// New makes a room whose jobs end with a context. busy, if it is not nil, hears when the first of those that run
// begins, and when the last has ended.
func New(ctx context.Context, log *slog.Logger, now func() time.Time, busy func(bool)) *Room {
	return &Room{ctx: ctx, log: log, now: now, busy: busy}
}

// counted adds to those that run, under the lock.
func (rm *Room) counted(n int) {
	was := rm.running > 0
	if rm.running += n; rm.busy != nil && was != (rm.running > 0) {
		rm.busy(!was)
	}
}

// Progress is how a job tells how far it is.
type Progress struct {
	room *Room
	job  *Job
}

// Set tells how much is done.
func (p Progress) Set(done int64) {
	p.room.mu.Lock()
	p.job.Done = done
	p.room.mu.Unlock()
}

// Total tells how much there is.
func (p Progress) Total(n int64) {
	p.room.mu.Lock()
	p.job.Total = n
	p.room.mu.Unlock()
}

// Start begins a job in the background.
func (rm *Room) Start(what, unit string, do func(ctx context.Context, p Progress) (any, error)) Job {
	j := &Job{ID: random.Text(10), What: what, State: Running, Unit: unit, Started: rm.now().UTC()}
	rm.mu.Lock()
	if rm.all = append(rm.all, j); len(rm.all) > mostJobs {
		if i := slices.IndexFunc(rm.all, func(j *Job) bool { return j.Ended != nil }); i >= 0 {
			rm.all = slices.Delete(rm.all, i, i+1)
		}
	}
	first := *j
	rm.counted(1)
	rm.mu.Unlock()
	rm.wait.Go(func() {
		report, err := Whole(func() (any, error) { return do(rm.ctx, Progress{rm, j}) })
		rm.mu.Lock()
		defer rm.mu.Unlock()
		rm.counted(-1)
		now := rm.now().UTC()
		j.Ended, j.State, j.Report = &now, Done, report
		if err == nil {
			return
		}
		j.State, j.Refused, j.Failure = Failed, finding.Of(err), err.Error()
		var fe *change.FieldError
		if errors.As(err, &fe) {
			j.Field = fe.Field
			return
		}
		var ce *change.ConflictError
		var nf *change.NotFoundError
		if j.Refused == nil && !errors.As(err, &ce) && !errors.As(err, &nf) && rm.ctx.Err() == nil {
			rm.log.Error("a job failed by our own fault", "job", what, "error", err)
			j.Failure = "the gate failed; look into its log for the time of this job"
			if store.IsUnwritable(err) {
				j.Failure = "the disk of the gate takes no writes; make room where it keeps its data, then begin again: " +
					"what the job did before that stays"
			}
		}
	})
	return first
}

// Go has other work waited for when the room is left.
func (rm *Room) Go(do func()) { rm.wait.Go(do) }

// Wait waits until all work has ended.
func (rm *Room) Wait() { rm.wait.Wait() }

// Whole runs something; a panic in it is an error.
func Whole[T any](do func() (T, error)) (out T, err error) {
	defer func() {
		if p := recover(); p != nil {
			err = fmt.Errorf("panic: %v\n%s", p, debug.Stack())
		}
	}()
	return do()
}

// All lists jobs, the newest first.
func (rm *Room) All() []Job {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	out := []Job{}
	for _, j := range slices.Backward(rm.all) {
		out = append(out, *j)
	}
	return out
}

// Job finds a job.
func (rm *Room) Job(id string) (Job, error) {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	for _, j := range rm.all {
		if j.ID == id {
			return *j, nil
		}
	}
	return Job{}, &change.NotFoundError{Kind: "job", Name: id}
}

// Sweep forgets jobs that ended long ago.
func (rm *Room) Sweep() {
	rm.mu.Lock()
	defer rm.mu.Unlock()
	now := rm.now()
	rm.all = slices.DeleteFunc(rm.all, func(j *Job) bool { return j.Ended != nil && now.Sub(*j.Ended) > time.Hour })
}
