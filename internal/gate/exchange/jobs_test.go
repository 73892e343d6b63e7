package exchange

import (
	"context"
	"errors"
	"log/slog"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

func TestJobsEndWithTheGate(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	at := time.Now()
	rm := &Room{ctx: ctx, log: slog.New(slog.DiscardHandler), now: func() time.Time { return at }}
	started := make(chan struct{})
	j := rm.start("wait for ever", "octets", func(ctx context.Context, p progress) (*Report, error) {
		p.total(10)
		p.set(4)
		close(started)
		<-ctx.Done()
		return nil, ctx.Err()
	})
	<-started
	now, err := rm.Job(j.ID)
	require.NoError(t, err)
	require.Equal(t, []any{JobRunning, int64(4), int64(10)}, []any{now.State, now.Done, now.Total})
	failed := rm.start("fail", "octets", func(context.Context, progress) (*Report, error) {
		return nil, errors.New("the disk is full of /secret/paths")
	})
	for failed.State == JobRunning {
		failed, err = rm.Job(failed.ID)
		require.NoError(t, err)
	}
	require.NotContains(t, failed.Failure, "secret", "our own failures are for the log")
	require.Equal(t, []string{failed.ID, j.ID}, []string{rm.Jobs()[0].ID, rm.Jobs()[1].ID}, "the newest first")
	at = at.Add(2 * time.Hour)
	rm.Sweep()
	require.Len(t, rm.Jobs(), 1, "what runs is never forgotten")
	stop()
	rm.Wait()
	now, err = rm.Job(j.ID)
	require.NoError(t, err)
	require.Equal(t, JobFailed, now.State)
}
