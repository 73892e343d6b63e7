package jobs

import (
	"context"
	"errors"
	"fmt"
	"log/slog"
	"testing"
	"time"

	"github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/require"
)

func TestJobsEndWithTheGate(t *testing.T) {
	ctx, stop := context.WithCancel(context.Background())
	at := time.Now()
	var busy []bool
	rm := New(ctx, slog.New(slog.DiscardHandler), func() time.Time { return at },
		func(is bool) { busy = append(busy, is) })
	started := make(chan struct{})
	j := rm.Start("wait for ever", "octets", func(ctx context.Context, p Progress) (any, error) {
		p.Total(10)
		p.Set(4)
		close(started)
		<-ctx.Done()
		return nil, ctx.Err()
	})
	<-started
	now, err := rm.Job(j.ID)
	require.NoError(t, err)
	require.Equal(t, []any{Running, int64(4), int64(10)}, []any{now.State, now.Done, now.Total})
	fails := func(cause error) Job {
		failed := rm.Start("fail", "octets", func(context.Context, Progress) (any, error) { return nil, cause })
		for failed.State == Running {
			failed, err = rm.Job(failed.ID)
			require.NoError(t, err)
		}
		return failed
	}
	full := fails(fmt.Errorf("/secret/paths: %w", sqlite3.Error{Code: sqlite3.ErrFull}))
	require.Contains(t, full.Failure, "make room")
	require.NotContains(t, full.Failure, "secret")
	rm.all = rm.all[:1]
	failed := fails(errors.New("something in /secret/paths"))
	require.NotContains(t, failed.Failure, "secret", "our own failures are for the log")
	require.Equal(t, []string{failed.ID, j.ID}, []string{rm.All()[0].ID, rm.All()[1].ID}, "the newest first")
	at = at.Add(2 * time.Hour)
	rm.Sweep()
	require.Len(t, rm.All(), 1, "what runs is never forgotten")
	stop()
	rm.Wait()
	now, err = rm.Job(j.ID)
	require.NoError(t, err)
	require.Equal(t, Failed, now.State)
	require.Equal(t, []bool{true, false}, busy, "the first began, the last ended")
}
