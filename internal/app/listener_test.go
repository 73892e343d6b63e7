package app

import (
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
)

// scripted is a listener that gives what it is told to.
type scripted struct {
	net.Listener
	next chan any
}

func (s *scripted) Accept() (net.Conn, error) {
	switch x := (<-s.next).(type) {
	case error:
		return nil, x
	case string:
		return &from{at: x}, nil
	}
	return nil, net.ErrClosed
}

type from struct {
	net.Conn
	at     string
	closed bool
}

func (f *from) RemoteAddr() net.Addr {
	return net.TCPAddrFromAddrPort(netip.MustParseAddrPort(f.at + ":1"))
}
func (f *from) Close() error { f.closed = true; return nil }

// Running out of files ends nothing; one host gets a quarter of the places, a
// listed proxy all; what is full waits until somebody leaves.
func TestConnectionsAreBounded(t *testing.T) {
	s := &scripted{next: make(chan any, 100)}
	b := newBounded(s, []netip.Prefix{netip.MustParsePrefix("10.0.0.0/8")}, slog.New(slog.DiscardHandler))
	b.most = 8
	s.next <- &net.OpError{Err: syscall.EMFILE}
	s.next <- &net.OpError{Err: syscall.ECONNABORTED}
	for range 5 {
		s.next <- "192.0.2.1"
	}
	for range 6 {
		s.next <- "10.0.0.1"
	}
	var got []net.Conn
	for range 8 {
		c, err := b.Accept()
		require.NoError(t, err)
		got = append(got, c)
	}
	hosts := map[string]int{}
	for _, c := range got {
		hosts[c.(*place).Conn.(*from).at]++
	}
	require.Equal(t, map[string]int{"192.0.2.1": 2, "10.0.0.1": 6}, hosts)

	s.next <- "192.0.2.9"
	next := make(chan net.Conn)
	go func() {
		c, _ := b.Accept()
		next <- c
	}()
	select {
	case <-next:
		t.Fatal("there is no place")
	case <-time.After(50 * time.Millisecond):
	}
	require.NoError(t, got[0].Close())
	require.NoError(t, got[0].Close(), "twice gives one place back")
	require.NotNil(t, <-next)
	require.True(t, b.full())
	require.NoError(t, got[1].Close())
	s.next <- errors.New("gone")
	_, err := b.Accept()
	require.ErrorContains(t, err, "gone")
}
