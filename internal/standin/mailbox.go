package standin

import (
	"bytes"
	"encoding/json"
	"fmt"
	"io"
	"mime/quotedprintable"
	"net"
	"net/http"
	"net/mail"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/emersion/go-smtp"
)

// Letter is a message that came in.
type Letter struct {
	At                      time.Time
	From, To, Subject, Text string
}

// mostLetters is how many messages are kept.
const mostLetters = 200

// Faults of a mail server.
var mailFaults = []Fault{
	{Name: "silent", Text: "Take connections and say nothing", Finding: "mail-unreached"},
	{Name: "refuse", Text: "Refuse every recipient (550)", Finding: "mail-unreached"},
	{Name: "later", Text: "Put everything off (451)", Finding: "mail-unreached"},
}

// Mailbox is a stand-in mail server (RFC 5321) that delivers everything into one box, and
// the page on which its people read.
type Mailbox struct {
	mu      sync.Mutex
	letters []Letter
	fault   string
	server  *smtp.Server
	silent  []net.Conn
}

// Start takes mail on a listener until Close.
func (m *Mailbox) Start(ln net.Listener) {
	m.server = smtp.NewServer(m)
	m.server.Domain, m.server.MaxMessageBytes, m.server.MaxRecipients = "mail.wrenmoor.example", 256<<10, 10
	m.server.ReadTimeout, m.server.WriteTimeout = 30*time.Second, 30*time.Second
	go func() { _ = m.server.Serve(&hushed{ln, m}) }() // ends when it is closed
}

// Close ends it.
func (m *Mailbox) Close() error {
	m.mu.Lock()
	defer m.mu.Unlock()
	for _, c := range m.silent {
		_ = c.Close() // nobody waits for more
	}
	return m.server.Close()
}

// hushed is a listener that keeps connections to itself while the fault silent is on.
type hushed struct {
	net.Listener
	m *Mailbox
}

// Accept gives the next connection that is to be answered.
func (h *hushed) Accept() (net.Conn, error) {
	for {
		c, err := h.Listener.Accept()
		if err != nil || h.m.faulty() != "silent" {
			return c, err
		}
		h.m.mu.Lock()
		h.m.silent = append(h.m.silent, c)
		h.m.mu.Unlock()
	}
}

func (m *Mailbox) faulty() string {
	m.mu.Lock()
	defer m.mu.Unlock()
	return m.fault
}

// NewSession begins a conversation.
func (m *Mailbox) NewSession(*smtp.Conn) (smtp.Session, error) { return &mailing{box: m}, nil }

// mailing is one conversation.
type mailing struct {
	box      *Mailbox
	from, to string
}

// Mail takes the sender.
func (s *mailing) Mail(from string, _ *smtp.MailOptions) error {
	s.from = from
	if s.box.faulty() == "later" {
		return &smtp.SMTPError{Code: 451, EnhancedCode: smtp.EnhancedCode{4, 3, 0}, Message: "come again later"}
	}
	return nil
}

// Rcpt takes a recipient.
func (s *mailing) Rcpt(to string, _ *smtp.RcptOptions) error {
	s.to = to
	if s.box.faulty() == "refuse" {
		return &smtp.SMTPError{Code: 550, EnhancedCode: smtp.EnhancedCode{5, 1, 1}, Message: "nobody of that name"}
	}
	return nil
}

// Data takes the message.
func (s *mailing) Data(r io.Reader) error {
	octets, err := io.ReadAll(r)
	if err != nil {
		return err
	}
	msg, err := mail.ReadMessage(bytes.NewReader(octets))
	if err != nil {
		return err
	}
	body := io.Reader(msg.Body)
	if strings.EqualFold(msg.Header.Get("Content-Transfer-Encoding"), "quoted-printable") {
		body = quotedprintable.NewReader(body)
	}
	text, err := io.ReadAll(body)
	if err != nil {
		return err
	}
	s.box.mu.Lock()
	defer s.box.mu.Unlock()
	s.box.letters = append(s.box.letters, Letter{time.Now().UTC(), s.from, s.to, msg.Header.Get("Subject"), string(text)})
	if len(s.box.letters) > mostLetters {
		s.box.letters = slices.Delete(s.box.letters, 0, 1)
	}
	return nil
}

// Reset forgets what was begun.
func (s *mailing) Reset() { s.from, s.to = "", "" }

// Logout ends the conversation.
func (s *mailing) Logout() error { return nil }

// Handler serves the page, and what came in as JSON.
func (m *Mailbox) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { m.page(w) })
	mux.HandleFunc("GET /letters", func(w http.ResponseWriter, _ *http.Request) {
		m.mu.Lock()
		defer m.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(m.letters) // whoever asks may have gone
	})
	mux.HandleFunc("POST /fault", func(w http.ResponseWriter, r *http.Request) {
		if r.PostFormValue("fault") != "" && chosen(r, mailFaults) == "" {
			http.Error(w, "there is no such fault", http.StatusBadRequest)
			return
		}
		m.mu.Lock()
		m.fault = chosen(r, mailFaults)
		m.mu.Unlock()
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	return mux
}

func (m *Mailbox) page(w http.ResponseWriter) {
	m.mu.Lock()
	letters, fault := slices.Clone(m.letters), m.fault
	m.mu.Unlock()
	slices.Reverse(letters)
	p := page{Kind: "Stand-in mailbox", Name: "mailbox", Title: "Everybody's mail",
		Text:   fmt.Sprintf("Whatever the gate mails in the demo ends here, whoever it is for. Messages: %d.", len(letters)),
		Faults: mailFaults,
		Fault:  fault, Letters: letters}
	show(w, http.StatusOK, "mailbox.html", p)
}
