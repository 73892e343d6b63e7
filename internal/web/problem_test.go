package web

import (
	"errors"
	"fmt"
	"log/slog"
	"net/http"
	"testing"

	"github.com/mattn/go-sqlite3"
	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/api"
)

// What whoever runs the gate can mend is told, and where; all else of our own is for the log.
func TestFailuresOfOurOwn(t *testing.T) {
	s := &server{log: slog.New(slog.DiscardHandler)}
	for cause, want := range map[error]struct {
		status int
		says   string
	}{
		fmt.Errorf("/secret/paths: %w", sqlite3.Error{Code: sqlite3.ErrFull}): {http.StatusInsufficientStorage,
			"make room where the gate"},
		sqlite3.Error{Code: sqlite3.ErrReadonly}: {http.StatusInsufficientStorage,
			"nothing of this call was stored"},
		sqlite3.Error{Code: sqlite3.ErrConstraint}: {http.StatusInternalServerError,
			"Look into the gate's log"},
		errors.New("/secret/paths"): {http.StatusInternalServerError,
			"Look into the gate's log"},
	} {
		var p *api.Problem
		require.ErrorAs(t, s.problem(cause), &p)
		require.Equal(t, want.status, p.Status, cause)
		require.Contains(t, p.Detail, want.says)
		require.NotContains(t, p.Detail, "secret")
	}
}
