package mailing

import (
	"bufio"
	"context"
	"crypto/ecdsa"
	"crypto/elliptic"
	"crypto/rand"
	"crypto/tls"
	"crypto/x509"
	"crypto/x509/pkix"
	"fmt"
	"math/big"
	"net"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/finding"
)

// What cannot be used is refused before anybody waits for a message.
func TestServerIsChecked(t *testing.T) {
	good := Server{Address: "mail.wrenmoor.example:587", From: "Gate <gate@wrenmoor.example>", TLS: TLSStart}
	for say, edit := range map[string]func(*Server){
		"":                               func(*Server) {},
		"server: ":                       func(s *Server) { s.Address = "mail.wrenmoor.example" },
		"no host and port":               func(s *Server) { s.Address = "mail.wrenmoor.example:smtp" },
		"from: ":                         func(s *Server) { s.From = "gate" },
		"tls: \"maybe\" is no way":       func(s *Server) { s.TLS = "maybe" },
		"together with passwordFile":     func(s *Server) { s.Username = "gate" },
		"a password is not sent without": func(s *Server) { s.TLS, s.Username, s.Password = TLSNone, "gate", "secret" },
		"timeout: 2m0s is not allowed":   func(s *Server) { s.Timeout = 2 * time.Minute },
	} {
		s := good
		edit(&s)
		if say == "" {
			require.NoError(t, s.Check())
			require.NoError(t, Server{}.Check())
			continue
		}
		require.ErrorContains(t, s.Check(), say)
	}
}

// certificate is one that nobody vouches for.
func certificate(t *testing.T) tls.Certificate {
	key, err := ecdsa.GenerateKey(elliptic.P256(), rand.Reader)
	require.NoError(t, err)
	c := &x509.Certificate{SerialNumber: big.NewInt(1), Subject: pkix.Name{CommonName: "mail"},
		NotBefore: time.Now().Add(-time.Hour),
		NotAfter:  time.Now().Add(time.Hour), IPAddresses: []net.IP{net.IPv4(127, 0, 0, 1)}}
	der, err := x509.CreateCertificate(rand.Reader, c, c, &key.PublicKey, key)
	require.NoError(t, err)
	return tls.Certificate{Certificate: [][]byte{der}, PrivateKey: key}
}

// scripted is a server that says what it is told to after each line, whatever that is; "" is
// nothing at all.
func scripted(t *testing.T, over *tls.Config, says func(line string) string) string {
	ln, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	if over != nil {
		ln = tls.NewListener(ln, over)
	}
	t.Cleanup(func() { _ = ln.Close() })
	go func() {
		for {
			c, err := ln.Accept()
			if err != nil {
				return
			}
			go func() {
				defer c.Close()
				if hello := says("connect"); hello != "" {
					fmt.Fprint(c, hello)
				}
				data := false
				for lines := bufio.NewScanner(c); lines.Scan(); {
					if data && lines.Text() != "." {
						says(" " + lines.Text()) // nothing is said to lines of a message
						continue
					}
					data = lines.Text() == "DATA"
					if answer := says(lines.Text()); answer != "" {
						fmt.Fprint(c, answer)
					}
				}
			}()
		}
	}()
	return ln.Addr().String()
}

// plain is a server as it should be, without extensions.
func plain(line string) string {
	switch word, _, _ := strings.Cut(line, " "); word {
	case "connect":
		return "220 mail\r\n"
	case "EHLO", "HELO":
		return "250 mail\r\n"
	case "DATA":
		return "354 go on\r\n"
	case "MAIL", "RCPT", "RSET", "NOOP", ".":
		return "250 ok\r\n"
	case "QUIT":
		return "221 bye\r\n"
	}
	return ""
}

// Whatever a server does, the person hears within the time that was set, and the finding
// names neither them nor the password.
func TestWhatAServerMayDo(t *testing.T) {
	but := func(word, answer string) func(string) string {
		return func(line string) string {
			if strings.HasPrefix(line, word) {
				return answer
			}
			return plain(line)
		}
	}
	for _, c := range []struct {
		rule   string
		way    string
		over   *tls.Config
		says   func(string) string
		reason string // "" if the message is taken
	}{
		{"takes it", TLSNone, nil, plain, ""},
		{"says nothing", TLSNone, nil, but("connect", ""), "timeout"},
		{"stops in the middle", TLSNone, nil, but("DATA", ""), "timeout"},
		{"says nonsense", TLSNone, nil, but("connect", "hello there\r\n"), "hello there"},
		{"is closing", TLSNone, nil, but("connect", "421 not now\r\n"), "421"},
		{"refuses the sender", TLSNone, nil, but("MAIL", "550 not from you\r\n"), "not from you"},
		{"refuses the person", TLSNone, nil, but("RCPT", "550 nobody called p@wrenmoor.example\r\n"), "nobody called"},
		{"is full", TLSNone, nil, but(".", "452 full\r\n"), "full"},
		{"offers no STARTTLS", TLSStart, nil, plain, "STARTTLS"},
		{"has a certificate that nobody vouches for", TLSImplicit,
			&tls.Config{Certificates: []tls.Certificate{certificate(t)}}, plain, "certificate"},
		{"speaks no TLS", TLSImplicit, nil, plain, "tls"},
	} {
		rm := New(Server{Address: scripted(t, c.over, c.says), From: "gate@wrenmoor.example", TLS: c.way,
			Timeout:  time.Second,
			Username: map[bool]string{true: "gate"}[c.way != TLSNone],
			Password: map[bool]string{true: "hidden"}[c.way != TLSNone]}, time.Now)
		began := time.Now()
		err := rm.Send(context.Background(), Message{To: "p@wrenmoor.example", Subject: "Your code", Text: "123456"})
		require.Less(t, time.Since(began), 4*time.Second, c.rule)
		if c.reason == "" {
			require.NoError(t, err, c.rule)
			continue
		}
		require.True(t, finding.Is(err, finding.MailUnreached), c.rule)
		require.Contains(t, strings.ToLower(err.Error()), strings.ToLower(c.reason), c.rule)
		for _, secret := range []string{"p@wrenmoor.example", "hidden", "123456"} {
			require.NotContains(t, err.Error(), secret, c.rule)
		}
	}
	require.ErrorContains(t, New(Server{}, time.Now).Send(context.Background(), Message{To: "p@wrenmoor.example"}),
		"names no mail server")
	ctx, cancel := context.WithCancel(context.Background())
	cancel()
	require.Error(t, New(Server{Address: "127.0.0.1:1", From: "g@x.example", TLS: TLSNone}, time.Now).Send(ctx,
		Message{To: "p@x.example"}))
}

// A message cannot be made to carry further headers or recipients.
func TestNothingIsPutIntoAMessage(t *testing.T) {
	lines := make(chan string, 100)
	rm := New(Server{Address: scripted(t, nil, func(line string) string {
		lines <- line
		return plain(line)
	}), From: "gate@wrenmoor.example", TLS: TLSNone, Timeout: time.Second}, time.Now)
	for _, to := range []string{"p@x.example\r\nRCPT TO:<q@x.example>", "p@x.example, q@x.example", "", "p"} {
		require.Error(t, rm.Send(context.Background(), Message{To: to, Subject: "s", Text: "t"}), to)
	}
	require.NoError(t, rm.Send(context.Background(), Message{To: "p@x.example",
		Subject: "Your code for Crew\r\nBcc: q@x.example", Text: "line\r\n.\r\nRCPT TO:<q@x.example>\r\n"}))
	close(lines)
	var all []string
	for l := range lines {
		all = append(all, strings.TrimPrefix(l, " "))
	}
	text := strings.Join(all, "\n")
	require.Contains(t, text, "Auto-Submitted: auto-generated")
	require.NotContains(t, text, "\nBcc:")
	require.Equal(t, 1, strings.Count(text, "\nRCPT TO:<p@x.example>"))
	require.Contains(t, text, "\n..", "a line with a point alone is doubled (RFC 5321 §4.5.2)")
}
