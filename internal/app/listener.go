package app

import (
	"errors"
	"log/slog"
	"net"
	"net/netip"
	"slices"
	"sync"
	"syscall"
	"time"

	"golang.org/x/sys/unix"
)

// Bounds on connections. Each may hold two buffers of the size of the largest
// request header, and one file descriptor.
const (
	maxConnections = 4000
	spareFiles     = 200 // file descriptors for everything else
)

// bounded is a listener that stays below the limit of open files, leaves nobody
// more than a quarter of the places, and goes on when files run out all the same.
type bounded struct {
	net.Listener
	log     *slog.Logger
	most    int            // connections at a time
	proxies []netip.Prefix // may take all of them
	mu      sync.Mutex
	all     int
	from    map[netip.Addr]int
	freed   chan struct{}
}

// newBounded bounds a listener by the limit of open files of this process.
func newBounded(ln net.Listener, proxies []netip.Prefix, log *slog.Logger) *bounded {
	most := maxConnections
	var files unix.Rlimit
	if err := unix.Getrlimit(unix.RLIMIT_NOFILE, &files); err == nil {
		most = max(min(most, int(min(files.Cur, 1<<30))-spareFiles), 16)
	}
	return &bounded{Listener: ln, log: log, most: most, proxies: proxies, from: map[netip.Addr]int{},
		freed: make(chan struct{}, 1)}
}

// Accept waits for a connection that has a place.
func (b *bounded) Accept() (net.Conn, error) {
	for pause := 5 * time.Millisecond; ; {
		for b.full() {
			<-b.freed
		}
		c, err := b.Listener.Accept()
		switch {
		case err == nil:
			if out := b.admit(c); out != nil {
				return out, nil
			}
			_ = c.Close() // its host has its share
		case errors.Is(err, syscall.EMFILE), errors.Is(err, syscall.ENFILE), errors.Is(err, syscall.ENOBUFS),
			errors.Is(err, syscall.ENOMEM), errors.Is(err, syscall.ECONNABORTED):
			b.log.Error("a connection cannot be accepted; trying again", "error", err)
			time.Sleep(pause)
			pause = min(2*pause, time.Second)
		default:
			return nil, err
		}
	}
}

func (b *bounded) full() bool {
	b.mu.Lock()
	defer b.mu.Unlock()
	return b.all >= b.most
}

// admit counts a connection, nil if its host has too many.
func (b *bounded) admit(c net.Conn) net.Conn {
	var host netip.Addr
	if a, ok := c.RemoteAddr().(*net.TCPAddr); ok {
		host = a.AddrPort().Addr().Unmap()
	}
	b.mu.Lock()
	defer b.mu.Unlock()
	trusted := slices.ContainsFunc(b.proxies, func(p netip.Prefix) bool { return p.Contains(host) })
	if !trusted && b.from[host] >= b.most/4 {
		return nil
	}
	b.all++
	b.from[host]++
	return &place{Conn: c, release: func() { b.release(host) }}
}

func (b *bounded) release(host netip.Addr) {
	b.mu.Lock()
	b.all--
	if b.from[host]--; b.from[host] == 0 {
		delete(b.from, host)
	}
	b.mu.Unlock()
	select {
	case b.freed <- struct{}{}:
	default:
	}
}

// place is a connection that gives its place back when it is closed.
type place struct {
	net.Conn
	once    sync.Once
	release func()
}

// Close closes the connection.
func (p *place) Close() error {
	p.once.Do(p.release)
	return p.Conn.Close()
}
