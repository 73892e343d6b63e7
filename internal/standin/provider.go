package standin

import (
	"cmp"
	"crypto/rand"
	"fmt"
	"io"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Provider is a stand-in identity provider.
type Provider struct {
	Name, Title string
	Base        string // its own address
	EntityID    string // that of its metadata if empty
	Gate        string // address of the gate's metadata as SP
	People      []Person
	Pair        *keys.Pair
	Fault       string // of every answer, unless the sign-in page says otherwise
	Names       Naming // of its attributes, likewise
	Now         func() time.Time

	fault    switched
	mu       sync.Mutex
	stranger *keys.Pair
	desk     *desk[pending]
	last     []byte // the answer before
	held     map[saml.Artifact][]byte
}

type pending struct {
	request    *saml.AuthnRequest // nil for an unsolicited answer
	relayState string
	names      Naming // that the sign-in page chose, "" for the provider's
}

// Handler makes the program ready to serve. It refuses a fault that it does not
// know.
func (p *Provider) Handler() (http.Handler, error) {
	var err error
	if p.stranger, err = stranger(); err != nil {
		return nil, err
	}
	if p.EntityID == "" {
		p.EntityID = p.Base + "/metadata"
	}
	if p.Now == nil {
		p.Now = time.Now
	}
	p.desk, p.held = newDesk[pending](p.Name), map[saml.Artifact][]byte{}
	mux := http.NewServeMux()
	if err := p.fault.begin(mux, p.Fault, ProviderFaults()); err != nil {
		return nil, err
	}
	mux.HandleFunc("GET /{$}", p.home)
	mux.HandleFunc("GET /metadata", func(w http.ResponseWriter, _ *http.Request) {
		sendMetadata(w, saml.WriteIDPMetadata(saml.IDPFace{EntityID: saml.EntityID(p.EntityID), SSO: p.Base + "/sso",
			Artifact: p.Base + "/artifact", Keys: []keys.Certificate{p.Pair.Certificate}}))
	})
	mux.HandleFunc("GET /sso", p.sso)
	mux.HandleFunc("POST /sso", p.sso)
	mux.HandleFunc("POST /sign-in", p.signIn)
	mux.HandleFunc("POST /artifact", p.resolve)
	mux.HandleFunc("POST /unsolicited", p.unsolicited)
	mux.HandleFunc("GET /unsolicited", p.unsolicited)
	mux.HandleFunc("POST /sign-out", func(w http.ResponseWriter, r *http.Request) {
		p.desk.leave(w, r)
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	return limitBody(mux), nil
}

func (p *Provider) page(title string) page {
	return page{Kind: "Stand-in provider", Name: p.Name, Title: title, Faults: ProviderFaults(), Fault: p.fault.is(),
		Names: cmp.Or(p.Names, NamesOID), Namings: Namings, People: p.People, Metadata: p.Base + "/metadata", Gate: p.Gate}
}

func (p *Provider) home(w http.ResponseWriter, r *http.Request) {
	v := p.page(p.Title)
	if l, ok := p.desk.session(r); ok {
		v.Person = &l.person
	}
	show(w, http.StatusOK, "provider.html", v)
}

func (p *Provider) sso(w http.ResponseWriter, r *http.Request) {
	fail := func(err error) {
		v := p.page("This request cannot be served")
		v.Error = err.Error()
		show(w, http.StatusBadRequest, "provider.html", v)
	}
	in, err := inbound(r, "SAMLRequest")
	if err != nil {
		fail(err)
		return
	}
	m, err := fetchMetadata(r.Context(), p.Gate)
	if err != nil {
		fail(err)
		return
	}
	sp, err := m.AsApplication()
	if err != nil {
		fail(err)
		return
	}
	req, err := saml.ReadAuthnRequest(in, sp, saml.Demand{SSO: p.Base + "/sso", Now: p.Now(), Skew: time.Minute},
		new(finding.Checks))
	if err != nil {
		fail(err)
		return
	}
	ask := pending{request: req, relayState: in.RelayState}
	if !canDo(req.Comparison, req.Contexts) {
		p.refuse(w, ask, saml.StatusNoAuthnContext, "This provider has no such way to sign in")
		return
	}
	if l, ok := p.desk.session(r); ok && !req.ForceAuthn && l.person.called(req.Subject) {
		p.answer(w, r, l, ask, p.fault.is())
		return
	}
	if req.IsPassive {
		p.refuse(w, ask, saml.StatusNoPassive, "Nobody is signed in, and nobody may be asked")
		return
	}
	v := p.page("Sign in to " + p.Title)
	v.Pending, v.Username = p.desk.waits(ask), strings.TrimSuffix(req.Subject, mailDomain)
	show(w, http.StatusOK, "signin.html", v)
}

// canDo reports whether a request can be served by a password, the only way there
// is (SAML core §3.3.2.2.1).
func canDo(comparison string, contexts []string) bool {
	weaker := []string{saml.ContextUnspecified, "urn:oasis:names:tc:SAML:2.0:ac:classes:Password"}
	for _, c := range contexts {
		if c == saml.ContextPassword && comparison != "better" || slices.Contains(weaker, c) &&
			(comparison == "minimum" || comparison == "better") {
			return true
		}
	}
	return len(contexts) == 0
}

// refuse answers with a status instead of an assertion (SAML core §3.2.2.2).
func (p *Provider) refuse(w http.ResponseWriter, ask pending, status, message string) {
	octets, err := saml.WriteStatus(saml.Answer{ResponseID: newID(), At: p.Now(), Issuer: saml.EntityID(p.EntityID),
		Destination: ask.request.ACS, InResponseTo: ask.request.ID}, saml.StatusResponder, status, message, p.Pair)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	out := saml.ToPOST(ask.request.ACS, "SAMLResponse", octets, ask.relayState)
	v := p.page("Not signed in")
	v.Location, v.Fields = out.Location, out.Form
	show(w, http.StatusOK, "post.html", v)
}

func (p *Provider) signIn(w http.ResponseWriter, r *http.Request) {
	ask, ok := p.desk.asked(r)
	if !ok {
		v := p.page("This sign-in is not known any more")
		v.Error = "Start again at the application."
		show(w, http.StatusGone, "provider.html", v)
		return
	}
	fault := chosen(r, ProviderFaults())
	if n, err := ParseNaming(r.PostFormValue("names")); err == nil && r.PostFormValue("names") != "" {
		ask.names = n
	}
	if l, in := p.desk.enter(w, r, p.People, p.Now()); in {
		p.answer(w, r, l, ask, fault)
		return
	}
	refused(w, r, p.page("Sign in to "+p.Title), fault)
}

// unsolicited sends an answer that nobody asked for; by an address (?target=), whoever is not in signs in first.
func (p *Provider) unsolicited(w http.ResponseWriter, r *http.Request) {
	ask := pending{relayState: r.FormValue("target")}
	l, ok := p.desk.session(r)
	switch {
	case ok:
		p.answer(w, r, l, ask, p.fault.is())
	case r.Method == http.MethodPost:
		http.Redirect(w, r, "/", http.StatusSeeOther)
	default:
		v := p.page("Sign in to " + p.Title)
		v.Pending = p.desk.waits(ask)
		show(w, http.StatusOK, "signin.html", v)
	}
}

func (p *Provider) answer(w http.ResponseWriter, r *http.Request, l login, ask pending, fault string) {
	m, err := fetchMetadata(r.Context(), p.Gate)
	if err != nil || m.SP == nil {
		http.Error(w, fmt.Sprintf("the gate's metadata cannot be read: %v", err), http.StatusBadGateway)
		return
	}
	acs, _ := m.SP.DefaultACS()
	a := saml.Answer{ResponseID: newID(), AssertionID: newID(), At: p.Now(), Lifetime: 5 * time.Minute,
		Issuer: saml.EntityID(p.EntityID), Destination: acs.Location,
		Audience: m.EntityID, NameID: nameOf(l.person), AuthnInstant: l.at,
		SessionIndex: l.index,
		Context:      saml.ContextPassword, Attributes: cmp.Or(ask.names, p.Names).attributes(l.person)}
	if ask.request != nil {
		a.InResponseTo, a.Destination = ask.request.ID, ask.request.ACS
	}
	s := shot{answer: a, protect: saml.Protection{Pair: p.Pair, Random: rand.Reader}}
	for _, f := range providerFaults {
		if f.Name == fault {
			f.spoil(p, &s)
		}
	}
	octets, err := s.write()
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	p.mu.Lock()
	p.last = octets
	p.mu.Unlock()
	if ask.request != nil && ask.request.ByArtifact {
		artifact := saml.NewArtifact(saml.EntityID(p.EntityID), 0, newHandle())
		p.mu.Lock()
		p.held[artifact] = octets
		p.mu.Unlock()
		http.Redirect(w, r, a.Destination+"?"+url.Values{"SAMLart": {artifact.String()},
			"RelayState": {ask.relayState}}.Encode(), http.StatusSeeOther)
		return
	}
	out := saml.ToPOST(a.Destination, "SAMLResponse", octets, ask.relayState)
	v := p.page("Signed in")
	v.Location, v.Fields = out.Location, out.Form
	show(w, http.StatusOK, "post.html", v)
}

// resolve answers the gate's back channel, each artifact once.
func (p *Provider) resolve(w http.ResponseWriter, r *http.Request) {
	octets, err := io.ReadAll(r.Body)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	ask, err := saml.ReadArtifactResolve(octets)
	if err != nil {
		http.Error(w, err.Error(), http.StatusBadRequest)
		return
	}
	m, err := fetchMetadata(r.Context(), p.Gate)
	if err == nil && m.SP != nil {
		err = ask.Verify(m.SP, xmlsec.Policy{})
	}
	if err != nil {
		http.Error(w, err.Error(), http.StatusForbidden)
		return
	}
	p.mu.Lock()
	message := p.held[ask.Artifact]
	delete(p.held, ask.Artifact)
	p.mu.Unlock()
	answer, err := saml.WriteArtifactResponse(newID(), ask.ID, saml.EntityID(p.EntityID), message, p.Now(), p.Pair)
	if err != nil {
		http.Error(w, err.Error(), http.StatusInternalServerError)
		return
	}
	w.Header().Set("Content-Type", "text/xml; charset=utf-8")
	_, _ = w.Write(answer)
}

// nameOf is the name that somebody is told by: their address, or their account if they
// have none.
func nameOf(p Person) saml.NameID {
	if mail := p.Mail(); mail != "" {
		return saml.NameID{Format: saml.FormatEmail, Value: mail}
	}
	return saml.NameID{Format: saml.FormatUnspecified, Value: p.Username}
}
