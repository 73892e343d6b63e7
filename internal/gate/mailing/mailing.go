// Package mailing sends mail to people through a mail server that the operator names
// (RFC 5321, RFC 8314).
package mailing

import (
	"cmp"
	"context"
	"crypto/tls"
	"errors"
	"fmt"
	"net"
	"net/mail"
	"strconv"
	"strings"
	"time"

	gomail "github.com/wneessen/go-mail"

	"innergate.example/innergate/internal/core/finding"
)

// Server is where mail is handed in. The zero Server is none: nothing can be sent.
type Server struct {
	Address  string // host and port
	From     string // address of the sender, with or without a name
	TLS      string // TLSStart, TLSImplicit or TLSNone
	Username string // "" to hand in without signing in
	Password string
	Timeout  time.Duration // how long a person waits for a message to be handed in, 0 for ten seconds
}

// Ways to protect the way to the server (RFC 3207, RFC 8314 §3.3).
const (
	TLSStart    = "starttls" // the server has to offer it
	TLSImplicit = "tls"      // from the first octet on
	TLSNone     = "none"     // in a network that nobody else reads
)

func (s Server) patience() time.Duration { return cmp.Or(s.Timeout, 10*time.Second) }

// Check sees whether it can be used; the error names the field.
func (s Server) Check() error {
	if s == (Server{}) {
		return nil
	}
	host, port, err := net.SplitHostPort(s.Address)
	n, bad := strconv.Atoi(port)
	if err != nil || host == "" || bad != nil || n < 1 || n > 65535 {
		return fmt.Errorf("server: %q is no host and port; write it like mail.wrenmoor.example:587", s.Address)
	}
	if _, err := mail.ParseAddress(s.From); err != nil {
		return fmt.Errorf("from: %q is no address of a sender; write it like gate@wrenmoor.example", s.From)
	}
	if s.TLS != TLSStart && s.TLS != TLSImplicit && s.TLS != TLSNone {
		return fmt.Errorf("tls: %q is no way; use starttls, tls or none", s.TLS)
	}
	if s.Timeout < 0 || s.Timeout > time.Minute {
		return fmt.Errorf("timeout: %s is not allowed; use up to 1m", s.Timeout)
	}
	if (s.Username == "") != (s.Password == "") {
		return errors.New("username: set it together with passwordFile, or neither")
	}
	if s.TLS == TLSNone && s.Username != "" {
		return errors.New("tls: a password is not sent without TLS; use starttls or tls")
	}
	return nil
}

// Room sends mail.
type Room struct {
	server Server
	now    func() time.Time
	turns  chan struct{} // conversations at a time
}

// New makes a room that hands in at a server.
func New(s Server, now func() time.Time) *Room {
	return &Room{server: s, now: now, turns: make(chan struct{}, 8)}
}

// Able reports whether there is a server at all.
func (rm *Room) Able() bool { return rm.server != Server{} }

// Message is a text to one person.
type Message struct{ To, Subject, Text string }

// Send hands a message in, while the person waits. What fails is a finding, in which
// nothing of the message is.
func (rm *Room) Send(ctx context.Context, m Message) error {
	if !rm.Able() {
		return finding.New(finding.MailUnreached, finding.Fact("Cause", "the configuration names no mail server"))
	}
	ctx, cancel := context.WithTimeout(ctx, rm.server.patience())
	defer cancel()
	select {
	case rm.turns <- struct{}{}:
		defer func() { <-rm.turns }()
	case <-ctx.Done():
		return unreached(rm.server, errors.New("too many messages at once"), m)
	}
	if err := rm.send(ctx, m); err != nil {
		return unreached(rm.server, err, m)
	}
	return nil
}

func (rm *Room) send(ctx context.Context, m Message) error {
	out := gomail.NewMsg()
	if err := errors.Join(out.From(rm.server.From), out.To(m.To)); err != nil {
		return err
	}
	out.Subject(m.Subject)
	out.SetDateWithValue(rm.now())
	out.SetMessageID()
	out.SetGenHeader("Auto-Submitted", "auto-generated") // RFC 3834 §5
	out.SetBodyString(gomail.TypeTextPlain, m.Text)
	host, port, err := net.SplitHostPort(rm.server.Address)
	if err != nil {
		return err
	}
	n, err := strconv.Atoi(port)
	if err != nil {
		return err
	}
	policy := gomail.NoTLS
	if rm.server.TLS == TLSStart {
		policy = gomail.TLSMandatory
	}
	options := []gomail.Option{gomail.WithPort(n), gomail.WithTimeout(rm.server.patience()), gomail.WithTLSPolicy(policy),
		gomail.WithDialContextFunc(rm.dial)}
	if rm.server.Username != "" {
		options = append(options, gomail.WithSMTPAuth(gomail.SMTPAuthAutoDiscover), gomail.WithUsername(rm.server.Username),
			gomail.WithPassword(rm.server.Password))
	}
	c, err := gomail.NewClient(host, options...)
	if err != nil {
		return err
	}
	return c.DialAndSendWithContext(ctx, out)
}

// dial connects. The whole conversation has to be over in time: a server may also take the
// connection and say nothing.
func (rm *Room) dial(ctx context.Context, network, address string) (net.Conn, error) {
	c, err := (&net.Dialer{}).DialContext(ctx, network, address)
	if err != nil {
		return nil, err
	}
	if until, ok := ctx.Deadline(); ok {
		err = c.SetDeadline(until)
	}
	if rm.server.TLS == TLSImplicit && err == nil {
		host, _, _ := net.SplitHostPort(address)
		secured := tls.Client(c, &tls.Config{ServerName: host, MinVersion: tls.VersionTLS12})
		if err = secured.HandshakeContext(ctx); err == nil {
			return secured, nil
		}
	}
	if err != nil {
		return nil, errors.Join(err, c.Close())
	}
	return c, nil
}

// unreached says why a message did not get out, without the address that it was for.
func unreached(s Server, err error, m Message) *finding.Finding {
	why := strings.ReplaceAll(err.Error(), m.To, "(the person's address)")
	if s.Password != "" {
		why = strings.ReplaceAll(why, s.Password, "(the password)")
	}
	return finding.New(finding.MailUnreached, finding.Fact("Mail server", s.Address),
		finding.Fact("Cause", strings.ToValidUTF8(why[:min(len(why), 500)], "")))
}
