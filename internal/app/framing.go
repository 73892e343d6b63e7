package app

import (
	"bytes"
	"crypto/tls"
	"errors"
	"net"
)

// framed is a listener whose connections are read no further than to a chunk whose size
// is not written as RFC 9112 §7.1 says: the server below reads 0x0, 3x and 3,3 as
// numbers, a proxy before the gate may not, and takes what follows for another request.
type framed struct{ net.Listener }

// Accept gives a connection that is watched.
func (f framed) Accept() (net.Conn, error) {
	c, err := f.Listener.Accept()
	if err != nil {
		return nil, err
	}
	watched := &watchedConn{Conn: c}
	if secret, ok := c.(*tls.Conn); ok {
		return &watchedTLS{watched, secret}, nil
	}
	return watched, nil
}

// watchedTLS is one whose state of TLS can be seen.
type watchedTLS struct {
	*watchedConn
	secret *tls.Conn
}

// Handshake is that of TLS.
func (w *watchedTLS) Handshake() error { return w.secret.Handshake() }

// ConnectionState is that of TLS.
func (w *watchedTLS) ConnectionState() tls.ConnectionState { return w.secret.ConnectionState() }

// watchedConn follows the requests on a connection.
type watchedConn struct {
	net.Conn
	at     int    // one of the places below
	line   []byte // the beginning of the line that is being read
	left   int64  // octets of a body or chunk that are still to come
	chunks bool   // the request that is being read has chunks
	length int64  // its Content-Length
	begun  bool   // its first line has been read
	broken bool
}

const (
	atHeader = iota
	atBody
	atSize     // of a chunk
	atChunk    // what is in it
	atChunkEnd // the line end behind it
	atTrailer
)

// longestWatched is how much of a line is looked at, in octets.
const longestWatched = 128

var errChunk = errors.New("the size of a chunk cannot be read")

// Read reads up to what cannot be understood, and then fails.
func (w *watchedConn) Read(p []byte) (int, error) {
	if w.broken {
		return 0, errChunk
	}
	n, err := w.Conn.Read(p)
	good := w.follow(p[:n])
	if w.broken {
		if good == 0 {
			return 0, errChunk
		}
		return good, nil
	}
	return n, err
}

// follow goes over what came, and gives how much of it may be read.
func (w *watchedConn) follow(p []byte) int {
	for i := 0; i < len(p); {
		if w.at == atBody || w.at == atChunk {
			n := min(w.left, int64(len(p)-i))
			i += int(n)
			if w.left -= n; w.left == 0 {
				w.at = map[int]int{atBody: atHeader, atChunk: atChunkEnd}[w.at]
			}
			continue
		}
		end := bytes.IndexByte(p[i:], '\n')
		part := p[i:]
		if end >= 0 {
			part = p[i : i+end+1]
		}
		w.line = append(w.line, part[:min(len(part), longestWatched-len(w.line))]...)
		if w.at == atSize && !sized(w.line) {
			w.broken = true
			return i
		}
		if i += len(part); end >= 0 {
			w.ended(bytes.TrimRight(w.line, "\r\n"))
			w.line = w.line[:0]
		}
	}
	return len(p)
}

// ended goes on behind a line.
func (w *watchedConn) ended(line []byte) {
	switch {
	case w.at == atSize:
		w.left, _ = chunkSize(line)
		w.at = atChunk
		if w.left == 0 {
			w.at = atTrailer
		}
	case w.at == atChunkEnd:
		w.at = atSize
	case w.at == atTrailer && len(line) == 0:
		w.at = atHeader
	case w.at == atHeader && len(line) > 0:
		w.header(line)
	case w.at == atHeader && w.begun:
		w.left = w.length
		if w.chunks {
			w.at = atSize
		} else if w.left > 0 {
			w.at = atBody
		}
		w.begun, w.chunks, w.length = false, false, 0
	}
}

// header takes what a line says of the length of the body. Requests that say it in
// several ways are refused elsewhere, and their connections closed.
func (w *watchedConn) header(line []byte) {
	if !w.begun {
		w.begun = true // the request line
		return
	}
	name, value, _ := bytes.Cut(line, []byte(":"))
	switch name, value := string(bytes.ToLower(name)), bytes.TrimSpace(value); name {
	case "transfer-encoding":
		w.chunks = true
	case "content-length":
		w.length = 0
		for _, d := range value[:min(len(value), 18)] {
			if d < '0' || d > '9' {
				w.length = 0
				return
			}
			w.length = w.length*10 + int64(d-'0')
		}
	}
}

// sized reports whether what is there of a line may become the size of a chunk, with
// extensions behind it.
func sized(line []byte) bool {
	digits, rest := 0, line
	for digits < len(line) && hexadecimal(line[digits]) {
		digits++
	}
	rest = line[digits:]
	if len(rest) == 0 {
		return digits <= 15
	}
	// Spaces before an extension are to be understood too (§7.1.1, BWS).
	rest = bytes.TrimLeft(rest, " \t")
	return digits > 0 && digits <= 15 && (len(rest) == 0 || rest[0] == ';' || rest[0] == '\r')
}

func hexadecimal(c byte) bool {
	return c >= '0' && c <= '9' || c >= 'a' && c <= 'f' || c >= 'A' && c <= 'F'
}

// chunkSize is the number that a line begins with.
func chunkSize(line []byte) (n int64, digits int) {
	for digits < len(line) && hexadecimal(line[digits]) {
		c := line[digits] | 0x20
		if c >= 'a' {
			c -= 'a' - 10 - '0'
		}
		n = n<<4 | int64(c-'0')
		digits++
	}
	return n, digits
}
