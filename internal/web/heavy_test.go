package web

import (
	"errors"
	"fmt"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// One network has its two turns, and waits for a third while others pass; where all
// turns are taken, whoever has one gives it on.
func TestLargeMessagesTakeTurns(t *testing.T) {
	h := newHeavy()
	waits := func(network string) chan error {
		done := make(chan error, 1)
		go func() { done <- h.take(network) }()
		require.Never(t, func() bool { return len(done) > 0 }, 50*time.Millisecond, 5*time.Millisecond, network)
		return done
	}
	require.NoError(t, h.take("192.0.2.1"))
	require.NoError(t, h.take("192.0.2.1"))
	third := waits("192.0.2.1")
	for n := range largeAtOnce - largeOfOne {
		require.NoError(t, h.take(fmt.Sprintf("198.51.100.%d", n)))
	}
	h.give("192.0.2.1")
	require.NoError(t, <-third)
	other := waits("203.0.113.1")
	h.give("198.51.100.0")
	require.NoError(t, <-other)
	require.Equal(t, turns{working: largeAtOnce}, h.all)
	require.NotContains(t, h.of, "198.51.100.0", "nothing is kept of a network that has left")
}

// However many one network sends, there is room left for another to wait.
func TestLargeMessagesOfOneNetworkWaitWithinBounds(t *testing.T) {
	h := newHeavy()
	flood := make(chan error, 2*largeWaiting)
	for range cap(flood) {
		go func() { flood <- h.take("192.0.2.1") }()
	}
	for n := range cap(flood) - largeWaitingOfOne {
		err := <-flood
		require.True(t, err == nil || errors.Is(err, errBusy), "%d: %v", n, err)
	}
	require.NoError(t, h.take("198.51.100.1"))
	h.mu.Lock()
	defer h.mu.Unlock()
	require.Equal(t, turns{largeOfOne, largeWaitingOfOne}, h.of["192.0.2.1"])
	require.Less(t, h.all.waiting, largeWaiting)
}
