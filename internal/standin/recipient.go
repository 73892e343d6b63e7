package standin

import (
	"encoding/json"
	"fmt"
	"io"
	"net/http"
	"slices"
	"strings"
	"sync"
	"time"

	"github.com/go-jose/go-jose/v4"
)

// mostHeard is how many changes a recipient keeps.
const mostHeard = 500

// recipientFaults are those of a recipient.
var recipientFaults = []Fault{
	{Name: "later", Text: "Answer 503: it is tried again"},
	{Name: "refuse", Text: "Refuse every token with 400 (RFC 8935 §2.3)"},
	{Name: "slow", Text: "Answer after three seconds"},
}

// Recipient is a stand-in that is told what is done to people at a gate (RFC 8935): a payroll, which shows what it
// heard.
type Recipient struct {
	Name, Title    string
	Issuer         string // the gate
	Base           string
	mu             sync.Mutex
	heard          []HeardChange
	seen           map[string]bool // tokens, by jti: one that comes twice changes nothing
	tokens, gaps   int
	fault, wronged string
}

// HeardChange is one change as it was told.
type HeardChange struct {
	Number int64           `json:"number"`
	At     int64           `json:"at"`
	About  json.RawMessage `json:"sub_id"`
	Via    string          `json:"via"`
	Who    string          `json:"who"`
	State  string          `json:"state"`
	Values []string        `json:"values"`
	// Of a rehearsal that turned; events of people have numbers of their own.
	Rehearsal string `json:"rehearsal,omitempty"`
	Finding   string `json:"finding,omitempty"`
	Whole     string `json:"-"` // as it stood in the token
}

// Moment is when it was.
func (h HeardChange) Moment() time.Time { return time.Unix(h.At, 0).UTC() }

// Handler serves the page, the address that tokens are posted to, and what was heard as JSON.
func (r *Recipient) Handler() http.Handler {
	r.seen = map[string]bool{}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) { r.page(w) })
	mux.HandleFunc("GET /heard", func(w http.ResponseWriter, _ *http.Request) {
		r.mu.Lock()
		defer r.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		_ = json.NewEncoder(w).Encode(map[string]any{"tokens": r.tokens, "gaps": r.gaps, "changes": r.heard,
			"wrong": r.wronged}) // whoever asks may have gone
	})
	mux.HandleFunc("POST /events", r.take)
	mux.HandleFunc("POST /fault", func(w http.ResponseWriter, q *http.Request) {
		if q.PostFormValue("fault") != "" && chosen(q, recipientFaults) == "" {
			http.Error(w, "there is no such fault", http.StatusBadRequest)
			return
		}
		r.mu.Lock()
		r.fault = chosen(q, recipientFaults)
		r.mu.Unlock()
		http.Redirect(w, q, "/", http.StatusSeeOther)
	})
	return limitBody(mux)
}

// take takes a token, and acknowledges it (RFC 8935 §2.2).
func (r *Recipient) take(w http.ResponseWriter, q *http.Request) {
	r.mu.Lock()
	fault := r.fault
	r.mu.Unlock()
	switch fault {
	case "later":
		http.Error(w, "later", http.StatusServiceUnavailable)
		return
	case "slow":
		time.Sleep(3 * time.Second)
	}
	token, err := io.ReadAll(q.Body)
	if err == nil && fault == "refuse" {
		err = fmt.Errorf("the fault refuse is on")
	}
	if err == nil && q.Header.Get("Content-Type") != "application/secevent+jwt" {
		err = fmt.Errorf("the content type is %q", q.Header.Get("Content-Type"))
	}
	if err == nil {
		err = r.hear(string(token))
	}
	if err != nil {
		r.mu.Lock()
		r.wronged = err.Error()
		r.mu.Unlock()
		w.Header().Set("Content-Type", "application/json")
		w.WriteHeader(http.StatusBadRequest)
		_ = json.NewEncoder(w).Encode(map[string]string{"err": "invalid_request",
			"description": err.Error()}) // whoever asks may have gone
		return
	}
	w.WriteHeader(http.StatusAccepted)
}

// told is what stands in a token.
type told struct {
	Issuer   string `json:"iss"`
	Audience string `json:"aud"`
	ID       string `json:"jti"`
	Events   map[string]struct {
		After   int64             `json:"after"`
		Gone    bool              `json:"gone"`
		Changes []json.RawMessage `json:"changes"`
	} `json:"events"`
}

// hear proves a token by the keys that the gate publishes, and keeps what is in it.
func (r *Recipient) hear(token string) error {
	var say provider
	if err := getJSON(r.Issuer+"/.well-known/openid-configuration", &say); err != nil {
		return err
	}
	var keys jose.JSONWebKeySet
	if err := getJSON(say.Keys, &keys); err != nil {
		return err
	}
	signed, err := jose.ParseSignedCompact(token, []jose.SignatureAlgorithm{jose.RS256, jose.ES256})
	if err != nil {
		return err
	}
	header := signed.Signatures[0].Header
	if header.ExtraHeaders["typ"] != "secevent+jwt" {
		return fmt.Errorf("the token is of the kind %v", header.ExtraHeaders["typ"])
	}
	var t told
	for _, k := range keys.Key(header.KeyID) {
		if payload, err := signed.Verify(k); err == nil {
			if err := json.Unmarshal(payload, &t); err != nil {
				return err
			}
		}
	}
	if t.Issuer != r.Issuer || t.Audience != r.Base+"/events" {
		return fmt.Errorf("the token is of %q for %q, or no published key proves it", t.Issuer, t.Audience)
	}
	return r.keep(t)
}

func (r *Recipient) keep(t told) error {
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.seen[t.ID] {
		return nil
	}
	r.seen[t.ID] = true
	r.tokens++
	for _, e := range t.Events {
		if e.Gone {
			r.gaps++
		}
		for _, octets := range e.Changes {
			h := HeardChange{Whole: string(octets)}
			if err := json.Unmarshal(octets, &h); err != nil {
				return err
			}
			if !slices.ContainsFunc(r.heard, func(o HeardChange) bool {
				return o.Number >= h.Number && (o.Rehearsal == "") == (h.Rehearsal == "")
			}) {
				r.heard = append(r.heard, h)
			}
		}
	}
	r.heard = r.heard[max(0, len(r.heard)-mostHeard):]
	return nil
}

func getJSON(address string, to any) error {
	c := http.Client{Timeout: 10 * time.Second}
	in, err := c.Get(address)
	if err != nil {
		return err
	}
	defer in.Body.Close()
	return json.NewDecoder(io.LimitReader(in.Body, 1<<20)).Decode(to)
}

func (r *Recipient) page(w http.ResponseWriter) {
	r.mu.Lock()
	heard, fault := slices.Clone(r.heard), r.fault
	p := page{Kind: "Stand-in recipient", Name: r.Name, Title: r.Title, Faults: recipientFaults, Fault: fault,
		Text: fmt.Sprintf("The gate tells it what is done to people. Tokens: %d, changes kept: %d.", r.tokens, len(heard))}
	r.mu.Unlock()
	slices.Reverse(heard)
	for i := range heard {
		heard[i].Whole = strings.ReplaceAll(heard[i].Whole, ",", ", ")
	}
	p.Heard = heard
	show(w, http.StatusOK, "recipient.html", p)
}
