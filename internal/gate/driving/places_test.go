package driving

import (
	"fmt"
	"log/slog"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/store"
)

func newPlaces(t *testing.T) *places {
	s, err := store.Open(t.TempDir(), filepath.Join(t.TempDir(), "seal.key"), store.TraceLimits{},
		slog.New(slog.DiscardHandler))
	require.NoError(t, err)
	t.Cleanup(func() { _ = s.Close() })
	c, err := loadPlaces(s, time.Now())
	require.NoError(t, err)
	return c
}

func begun(network, id, handle string, at time.Time) record {
	return record{State: crossing.State{ID: id, Legs: []crossing.Leg{{Handle: handle}}, Began: at,
		Browser: crossing.Tie{Network: network}}}
}

// Where all places are taken, the oldest of the network that holds most gives
// way.
func TestPlacesAreSharedFairly(t *testing.T) {
	c, now := newPlaces(t), time.Now()
	put := func(network, id string, size int) {
		dropped, err := c.admit(network)
		require.NoError(t, err)
		require.Empty(t, dropped)
		c.put(begun(network, id, "", now), size)
	}
	for n := range 40 {
		for i := range 50 {
			put(fmt.Sprint("stranger-", n), fmt.Sprint(n, "-", i), 1000)
		}
	}
	put("flood", "flood-0", 100)
	for i := range 90 {
		put("flood", fmt.Sprint("flood-", i+1), 1000)
	}
	c.open += maxCrossings - c.waiting() // as if the rest were taken as well
	dropped, err := c.admit("192.0.2.99")
	require.NoError(t, err)
	require.Equal(t, []string{"flood-0"}, dropped, "the oldest of the one that holds most, not anybody else's")
	c.open, c.octets = 0, maxCrossingOctets
	dropped, err = c.admit("192.0.2.99")
	require.NoError(t, err)
	require.Equal(t, []string{"flood-1"}, dropped, "octets are bounded, not only their number")
}

// One network has so many places; what has ended or expired takes none, and no
// name of it stays behind.
func TestPlacesAreGivenBack(t *testing.T) {
	c, now := newPlaces(t), time.Now()
	for i := range maxCrossingsOfOne {
		c.put(begun(limit.Network("2001:db8::1"), fmt.Sprint(i), fmt.Sprint("handle-", i), now), 100)
	}
	_, err := c.admit(limit.Network("2001:db8::2"))
	require.True(t, finding.Is(err, finding.TooManyStarts), "one /64 counts as one")
	_, err = c.admit(limit.Network("2001:db8:0:1::2"))
	require.NoError(t, err)

	c.put(begun(limit.Network("2001:db8::1"), "0", "another", now), 100)
	require.Empty(t, c.known([]string{"handle-0"}, now).State.ID, "the name of before is forgotten")
	require.Equal(t, "0", c.known([]string{"another"}, now).State.ID)
	c.ended("0", "")
	require.Equal(t, crossing.Ended, c.find("0", now).State.Stage)
	require.Equal(t, maxCrossingsOfOne-1, c.waiting())

	asked := begun("192.0.2.1", "asked", "", now)
	asked.State.Question, asked.State.App, asked.State.Browser.Secret = "one", "roster", []byte("cookie")
	c.put(asked, 100)
	c.ended("asked", "in this session")
	late := c.find("asked", now.Add(crossing.Life+time.Minute)).State
	require.Equal(t, crossing.State{ID: "asked", Stage: crossing.Ended, App: "roster", Legs: []crossing.Leg{{}}, Began: now,
		Kept: true, Browser: crossing.Tie{Network: "192.0.2.1", Secret: []byte("cookie"), Session: "in this session"}}, late,
		"one in which somebody was asked is remembered for as long as it had")
	require.Empty(t, c.find("asked", now.Add(crossing.PauseLife)).State.ID)

	for i := range 5 { // what is remembered is bounded in octets
		big := begun("192.0.2.1", fmt.Sprint("big-", i), "", now)
		big.State.Legs[0].Own = make([]byte, maxFinishedOctets/4)
		c.put(big, 100)
		c.ended(big.State.ID, "")
	}
	require.Len(t, c.finished, 3)
	require.Empty(t, c.find("0", now).State.ID, "the first to end is forgotten first")
	require.Equal(t, "big-4", c.find("big-4", now).State.ID)

	c.sweep(now.Add(crossing.PauseLife))
	require.Empty(t, c.byID)
	require.Empty(t, c.finished)
	require.Empty(t, c.byHandle)
	require.Zero(t, c.memory)
	require.Empty(t, c.networks)
	require.Zero(t, c.octets)
}
