package web

import (
	"encoding/base64"
	"fmt"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// However much and however many networks take, whoever comes next finds some room; what a network gives back, those
// of it that wait get in their order.
func TestMemoryIsShared(t *testing.T) {
	const most = 1 << 20
	b := newBudget(most)
	require.ErrorContains(t, b.take("192.0.2.1", b.largest()+1, time.Second), "Too Large")
	require.NoError(t, b.take("192.0.2.1", b.largest(), 0))
	require.Equal(t, errBusy, b.take("192.0.2.1", 1, time.Millisecond), "one network has its share")
	for n := range 60 {
		network := fmt.Sprintf("198.51.100.%d", n)
		require.NoError(t, b.take(network, most/512, 0), "network %d", n)
		for b.take(network, 1<<10, 0) == nil { // as much as it gets
		}
		require.LessOrEqual(t, b.taken, most)
	}
	waits := func(n int) chan error {
		done, queued := make(chan error, 1), len(b.queues["192.0.2.1"])
		go func() { done <- b.take("192.0.2.1", n, time.Minute) }()
		require.Eventually(t, func() bool {
			b.mu.Lock()
			defer b.mu.Unlock()
			return len(b.queues["192.0.2.1"]) > queued
		}, time.Second, time.Millisecond)
		return done
	}
	first, second := waits(30<<10), waits(1)
	b.give("192.0.2.1", b.largest()/2)
	require.Empty(t, first, "it holds more than is fair still")
	b.give("192.0.2.1", b.largest()-b.largest()/2)
	require.NoError(t, <-first)
	require.NoError(t, <-second)
	b.give("192.0.2.1", 30<<10+1)
	for network, n := range b.of {
		b.give(network, n)
	}
	require.Zero(t, b.taken)
	require.Empty(t, b.of, "nothing is kept of a network that has left")
	require.Empty(t, b.queues)
	require.Empty(t, b.order)
}

// Lists take so much together, and the next one waits for it.
func TestListsShareMemory(t *testing.T) {
	p := &pool{left: 10, freed: make(chan struct{})}
	require.True(t, p.take(8, 0))
	require.False(t, p.take(3, time.Millisecond))
	got := make(chan bool, 1)
	go func() { got <- p.take(3, time.Minute) }()
	require.True(t, p.take(2, time.Second))
	p.give(8)
	require.True(t, <-got)
	require.Equal(t, 5, p.left)
	require.LessOrEqual(t, listMemory(128<<20), lists.left, "the largest fits alone")
}

// What may come in one message has room, however it is made up; what could never be read has not.
func TestWhatMayComeHasRoom(t *testing.T) {
	metadata := []byte(strings.Repeat(`<md:RequestedAttribute Name="urn:oid:2.5.4.42" NameFormat="urn:oasis:names:tc:SAML:2.0:attrname-format:uri"/>`+"\n", 1<<20/112))
	csv := []byte(`{"csv":"` + strings.Repeat(`wrenmoor-staff,urn:x,ada.fenwick@wrenmoor.example,E-1\n`, maxBody/60) +
		`"}`)
	require.Less(t, growth(metadata), newBudget(packedInAll).largest())
	require.Less(t, growth([]byte(base64.StdEncoding.EncodeToString(metadata))), newBudget(readingInAll).largest())
	require.Less(t, growthOfJSON(append(metadata, csv...)), newBudget(readingInAll).largest())
	require.Greater(t, growthOfJSON([]byte("["+strings.Repeat("[],", 1<<20)+"1]")), newBudget(readingInAll).largest())
	require.Greater(t, growth([]byte(strings.Repeat("a&", 1<<20))), newBudget(readingInAll).largest())
}
