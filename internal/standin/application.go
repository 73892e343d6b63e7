package standin

import (
	"bytes"
	"crypto"
	"errors"
	"io"
	"net/http"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Application is a stand-in application that speaks SAML.
type Application struct {
	Name, Title string
	Base        string // its own address
	EntityID    string // that of its metadata if empty
	Gate        string // address of the gate's metadata as IdP
	OnlyOwn     bool   // accept only sign-ins it started
	Fault       string // of every request, unless the start says otherwise
	Pair        *keys.Pair
	Accounts    *Accounts // of its own, nil for none

	fault    switched
	mu       sync.Mutex
	asked    map[string]sent
	used     map[string]bool
	sessions map[string]entry
	stranger *keys.Pair
}

// sent is what is remembered of a request: when it was made, and whether the
// person had to sign in anew.
type sent struct {
	at   time.Time
	anew bool
}

type entry struct {
	assertion  *saml.Assertion
	relayState string
	how        string
	matched    *Matched // nil without accounts of its own
}

// Handler makes the program ready to serve. It refuses a fault that it does not
// know.
func (a *Application) Handler() (http.Handler, error) {
	var err error
	if a.stranger, err = stranger(); err != nil {
		return nil, err
	}
	a.asked, a.used, a.sessions = map[string]sent{}, map[string]bool{}, map[string]entry{}
	if a.EntityID == "" {
		a.EntityID = a.Base + "/metadata"
	}
	mux := http.NewServeMux()
	if err := a.fault.begin(mux, a.Fault, ApplicationFaults()); err != nil {
		return nil, err
	}
	mux.HandleFunc("GET /{$}", a.home)
	mux.HandleFunc("GET /metadata", func(w http.ResponseWriter, _ *http.Request) {
		sendMetadata(w, saml.WriteSPMetadata(saml.SPFace{EntityID: saml.EntityID(a.EntityID), ACS: a.acs(),
			Requested: wishes, Keys: []keys.Certificate{a.Pair.Certificate}, Encryption: []keys.Certificate{a.Pair.Certificate},
			Artifact: true}))
	})
	mux.HandleFunc("GET /start", a.start)
	mux.HandleFunc("POST /acs", a.consume)
	mux.HandleFunc("GET /acs", a.artifact)
	if a.Accounts != nil {
		a.Accounts.serve(mux)
	}
	mux.HandleFunc("POST /sign-out", func(w http.ResponseWriter, r *http.Request) {
		http.SetCookie(w, cookie(a.Name, ""))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	return limitBody(mux), nil
}

// wishes are the attributes that its metadata asks for.
var wishes = []saml.RequestedAttribute{
	{Name: "urn:oid:0.9.2342.19200300.100.1.3", NameFormat: formatURI, FriendlyName: "mail", Required: true},
	{Name: "firstName"}, {Name: "lastName"}, {Name: "memberOf"}, {Name: "costCentre"},
}

func (a *Application) acs() string { return a.Base + "/acs" }

func (a *Application) page(title string) page {
	return page{Kind: "Stand-in application", Name: a.Name, Title: title, OnlyOwn: a.OnlyOwn, Faults: ApplicationFaults(),
		Fault: a.fault.is(), Accounts: a.Accounts, Metadata: a.Base + "/metadata", Gate: a.Gate}
}

func (a *Application) home(w http.ResponseWriter, r *http.Request) {
	v := a.page(a.Title)
	if c, err := r.Cookie("standin-" + a.Name); err == nil {
		a.mu.Lock()
		if e, ok := a.sessions[c.Value]; ok {
			v.Subject, v.Attributes, v.RelayState, v.How = &e.assertion.NameID, e.assertion.Attributes, e.relayState, e.how
			v.Matched = e.matched
		}
		a.mu.Unlock()
	}
	show(w, http.StatusOK, "application.html", v)
}

func (a *Application) fail(w http.ResponseWriter, err error) {
	v := a.page("You are not signed in")
	v.Error = err.Error()
	show(w, http.StatusForbidden, "application.html", v)
}

// start sends an AuthnRequest to the gate, by ?binding=post or by Redirect, with
// ?fault=NAME a spoiled one.
func (a *Application) start(w http.ResponseWriter, r *http.Request) {
	m, err := fetchMetadata(r.Context(), a.Gate)
	if err != nil {
		a.fail(w, err)
		return
	}
	idp, err := m.AsProvider()
	if err != nil {
		a.fail(w, err)
		return
	}
	binding := saml.BindingRedirect
	if r.URL.Query().Get("binding") == "post" {
		binding = saml.BindingPOST
	}
	to, _ := idp.SSOBy(binding)
	now := time.Now()
	req := saml.AuthnRequest{ID: newID(), IssueInstant: now, Issuer: saml.EntityID(a.EntityID), ACS: a.acs(),
		ForceAuthn: r.URL.Query().Get("force") != "", IsPassive: r.URL.Query().Get("passive") != "",
		Contexts: strings.Fields(r.URL.Query().Get("context")), Comparison: r.URL.Query().Get("comparison"),
		ByArtifact: r.URL.Query().Get("binding") == "artifact"}
	q := ask{request: req, pair: a.Pair}
	fault := r.URL.Query().Get("fault")
	if !r.URL.Query().Has("fault") {
		fault = a.fault.is()
	}
	for _, f := range applicationFaults {
		if f.Name == fault {
			f.spoil(a, &q)
		}
	}
	out, err := q.write(to, r.URL.Query().Get("RelayState"))
	if err != nil {
		a.fail(w, err)
		return
	}
	a.mu.Lock()
	a.asked[req.ID] = sent{at: now, anew: req.ForceAuthn}
	a.mu.Unlock()
	if out.Form == nil {
		http.Redirect(w, r, out.Location, http.StatusSeeOther)
		return
	}
	v := a.page("One moment")
	v.Location, v.Fields = out.Location, out.Form
	show(w, http.StatusOK, "post.html", v)
}

// trust lets the gate encrypt to the application's one key.
func (a *Application) trust() saml.Trust {
	t := saml.Trust{Now: time.Now()}
	if d, ok := a.Pair.Signer().(crypto.Decrypter); ok {
		t.Decrypters = []crypto.Decrypter{d}
	}
	return t
}

// consume takes the Response of the gate.
func (a *Application) consume(w http.ResponseWriter, r *http.Request) {
	in, err := inbound(r, "SAMLResponse")
	if err != nil {
		a.fail(w, err)
		return
	}
	message, err := saml.ReadResponse(in.Octets)
	if err != nil {
		a.fail(w, err)
		return
	}
	a.take(w, r, in, message)
}

// artifact takes an artifact of the gate and exchanges it through the back
// channel.
func (a *Application) artifact(w http.ResponseWriter, r *http.Request) {
	in := saml.Inbound{Binding: saml.BindingArtifact, RelayState: r.URL.Query().Get("RelayState")}
	var message *saml.Message
	err := func() error {
		m, err := fetchMetadata(r.Context(), a.Gate)
		if err != nil {
			return err
		}
		idp, err := m.AsProvider()
		if err != nil {
			return err
		}
		art, err := saml.ParseArtifact(r.URL.Query().Get("SAMLart"))
		if err != nil {
			return err
		}
		address, err := idp.Resolver(art)
		if err != nil {
			return err
		}
		id := newID()
		ask, err := saml.WriteArtifactResolve(id, a.EntityID, address, art.String(), time.Now(), a.Pair)
		if err != nil {
			return err
		}
		res, err := http.Post(address, "text/xml; charset=utf-8", bytes.NewReader(ask))
		if err != nil {
			return err
		}
		defer res.Body.Close()
		octets, err := io.ReadAll(io.LimitReader(res.Body, 1<<20))
		if err != nil {
			return err
		}
		message, _, err = saml.ReadArtifactResponse(octets, idp, id, xmlsec.Policy{})
		return err
	}()
	if err != nil {
		a.fail(w, err)
		return
	}
	a.take(w, r, in, message)
}

// take judges a Response and lets the person in.
func (a *Application) take(w http.ResponseWriter, r *http.Request, in saml.Inbound, message *saml.Message) {
	m, err := fetchMetadata(r.Context(), a.Gate)
	if err != nil {
		a.fail(w, err)
		return
	}
	idp, err := m.AsProvider()
	if err != nil {
		a.fail(w, err)
		return
	}
	var log finding.Checks
	opened, err := message.Open(idp, a.trust(), &log)
	if err != nil {
		a.fail(w, err)
		return
	}
	x := saml.Expect{Artifact: in.Binding == saml.BindingArtifact, EntityIDs: []saml.EntityID{saml.EntityID(a.EntityID)},
		ACS: a.acs(),
		Now: time.Now(), Skew: time.Minute}
	how := "started at the gate"
	a.mu.Lock()
	asked, started := a.asked[message.InResponseTo]
	if started {
		x.Request, how = &saml.Sent{ID: message.InResponseTo}, "started here"
		delete(a.asked, message.InResponseTo)
	}
	id := opened.AssertionID()
	replayed := id != "" && a.used[id]
	a.used[id] = true
	a.mu.Unlock()
	assertion, err := opened.Check(x, &log)
	switch {
	case err != nil:
	case replayed:
		err = finding.New(finding.AssertionReplayed)
	case asked.anew && assertion.AuthnInstant.Before(asked.at.Add(-time.Minute)):
		err = finding.New(finding.AuthnTooOld)
	case a.OnlyOwn && x.Request == nil:
		err = finding.New(finding.UnsolicitedRefused)
	}
	if err != nil {
		a.fail(w, err)
		return
	}
	var matched *Matched
	if a.Accounts != nil {
		m := a.Accounts.match(assertion.NameID.Value, named(assertion.Attributes))
		if matched = &m; m.Refused {
			a.fail(w, errors.New(m.refuses()))
			return
		}
	}
	token := newID()
	a.mu.Lock()
	a.sessions[token] = entry{assertion, in.RelayState, how, matched}
	a.mu.Unlock()
	http.SetCookie(w, cookie(a.Name, token))
	http.Redirect(w, r, "/", http.StatusSeeOther)
}
