package standin

import (
	"bytes"
	"crypto/sha256"
	"encoding/base64"
	"encoding/hex"
	"fmt"
	"net/http"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
	"innergate.example/innergate/internal/core/xmlsec"
)

// Federation is a stand-in publisher of an aggregate: made-up railways with
// their providers and applications, signed, at /metadata.
type Federation struct {
	Title    string
	Base     string
	Entities int
	Pair     *keys.Pair // signs the aggregate
	Keys     string     // the folder that keeps what its members sign with; "" for this run only
	Fault    string
	Now      func() time.Time

	mu       sync.Mutex
	edition  int
	document []byte
	made     time.Time
	certs    []string
}

var federationFaults = []Fault{
	{"unsigned", "the aggregate is not signed", "metadata-unsigned"},
	{"stranger", "somebody else signed it", "metadata-other-signer"},
	{"altered", "an entity was altered after signing", "metadata-altered"},
	{"expired", "validUntil is past", "metadata-expired"},
	{"cut", "the document ends in the middle", "xml-malformed"},
	{"twice", "one entity stands in it twice", "aggregate-entity-twice"},
	{"broken", "the certificate of one entity is broken", "metadata-bad-key"},
}

// FederationFaults are the faults that an aggregate can have.
func FederationFaults() []Fault { return federationFaults }

var (
	railHeads = []string{"Alder", "Birch", "Cedar", "Dun", "Elm", "Fern", "Gorse", "Hazel", "Ivy", "Juniper", "Kestrel",
		"Larch", "Maple", "Nettle", "Oak", "Pine", "Quince", "Rowan", "Sorrel", "Thorn", "Umber", "Vetch", "Willow",
		"Yarrow"}
	railTails = []string{"moor", "holt", "dale", "ford", "wick", "bridge", "field", "mere", "combe", "gate", "leigh",
		"stead"}
	railKinds = []string{"Rail", "Tramways", "Light Railway", "Signalling", "Rolling Stock", "Ferries"}
	railApps  = []string{"Crew roster", "Track possessions", "Ticket refunds", "Timetable archive", "Depot planner",
		"Incident log"}
)

// entity writes one entity of the aggregate: every fourth is a provider, one in
// fifty has both roles.
func (f *Federation) entity(i int, cert string) string {
	name := railHeads[i%len(railHeads)] + railTails[(i/len(railHeads))%len(railTails)]
	if n := i / (len(railHeads) * len(railTails)); n > 0 {
		name += fmt.Sprintf(" %d", n+1)
	}
	host := strings.ReplaceAll(strings.ToLower(name), " ", "-") + ".example"
	company := name + " " + railKinds[i%len(railKinds)]
	idp, sp := i%4 == 0, i%4 != 0 || i%50 == 0
	var b strings.Builder
	id := "https://accounts." + host + "/saml"
	title := company + " staff"
	if !idp {
		title = company + ": " + railApps[i%len(railApps)]
		id = "https://" + strings.ReplaceAll(strings.ToLower(railApps[i%len(railApps)]), " ", "-") + "." + host + "/saml"
	}
	fmt.Fprintf(&b, "<md:EntityDescriptor entityID=\"%s\">\n  <md:Extensions><mdrpi:RegistrationInfo registrationAuthority=\"https://federation.example/\" registrationInstant=\"2024-03-01T00:00:00Z\"/></md:Extensions>\n", id)
	about := func() {
		fmt.Fprintf(&b, "    <md:Extensions><mdui:UIInfo>")
		for _, lang := range []string{"en", "de", "fr", "nl", "cy", "ga", "pl", "pt", "es", "it", "da"} {
			fmt.Fprintf(&b, "<mdui:DisplayName xml:lang=\"%s\">%s</mdui:DisplayName><mdui:Description xml:lang=\"%s\">%s. Written for the %d people who work there, and for the contractors who come and go with the works on the line; ask the signal box before you change anything.</mdui:Description>", lang, title, lang, title, 40+i%900)
		}
		fmt.Fprintf(&b, "<mdui:InformationURL xml:lang=\"en\">https://%s/about</mdui:InformationURL><mdui:Logo height=\"60\" width=\"80\">https://%s/logo.png</mdui:Logo></mdui:UIInfo></md:Extensions>\n", host, host)
	}
	key := func(use string) {
		fmt.Fprintf(&b, "    <md:KeyDescriptor use=\"%s\"><ds:KeyInfo><ds:X509Data><ds:X509Certificate>\n%s\n</ds:X509Certificate></ds:X509Data></ds:KeyInfo></md:KeyDescriptor>\n", use, cert)
	}
	if idp {
		b.WriteString("  <md:IDPSSODescriptor protocolSupportEnumeration=\"urn:oasis:names:tc:SAML:2.0:protocol\">\n")
		about()
		key("signing")
		key("encryption")
		fmt.Fprintf(&b, "    <md:NameIDFormat>%s</md:NameIDFormat>\n    <md:SingleSignOnService Binding=\"%s\" Location=\"https://accounts.%s/sso/redirect\"/>\n    <md:SingleSignOnService Binding=\"%s\" Location=\"https://accounts.%s/sso/post\"/>\n  </md:IDPSSODescriptor>\n",
			saml.FormatPersistent, saml.BindingRedirect, host, saml.BindingPOST, host)
	}
	if sp {
		b.WriteString("  <md:SPSSODescriptor protocolSupportEnumeration=\"urn:oasis:names:tc:SAML:2.0:protocol\">\n")
		about()
		key("signing")
		key("encryption")
		fmt.Fprintf(&b, "    <md:NameIDFormat>%s</md:NameIDFormat>\n    <md:AssertionConsumerService Binding=\"%s\" Location=\"%s/acs\" index=\"0\" isDefault=\"true\"/>\n", saml.FormatPersistent, saml.BindingPOST, id)
		fmt.Fprintf(&b, "    <md:AttributeConsumingService index=\"0\"><md:ServiceName xml:lang=\"en\">%s</md:ServiceName>",
			title)
		for _, a := range []string{"mail", "displayName", "givenName", "sn", "affiliation"} {
			fmt.Fprintf(&b, "<md:RequestedAttribute FriendlyName=\"%s\" Name=\"urn:example:attribute:%s\" NameFormat=\"urn:oasis:names:tc:SAML:2.0:attrname-format:uri\" isRequired=\"false\"/>", a, a)
		}
		b.WriteString("</md:AttributeConsumingService>\n  </md:SPSSODescriptor>\n")
	}
	fmt.Fprintf(&b, "  <md:Organization><md:OrganizationName xml:lang=\"en\">%s</md:OrganizationName><md:OrganizationDisplayName xml:lang=\"en\">%s</md:OrganizationDisplayName><md:OrganizationURL xml:lang=\"en\">https://%s/</md:OrganizationURL></md:Organization>\n", company, company, host)
	for _, kind := range []string{"technical", "support", "administrative"} {
		fmt.Fprintf(&b, "  <md:ContactPerson contactType=\"%s\"><md:GivenName>%s desk</md:GivenName><md:EmailAddress>mailto:%s@%s</md:EmailAddress></md:ContactPerson>\n", kind, kind, kind, host)
	}
	b.WriteString("</md:EntityDescriptor>\n")
	return b.String()
}

// members are the certificates that the entities of the aggregate have, in the
// form of base64 lines: made once, so that an entity keeps its own.
func (f *Federation) members() ([]string, error) {
	for len(f.certs) < 4 {
		path := ""
		if f.Keys != "" {
			path = filepath.Join(f.Keys, fmt.Sprintf("member-%d.pem", len(f.certs)))
		}
		p, err := LoadPair(path, fmt.Sprintf("federation member %d", len(f.certs)))
		if err != nil {
			return nil, err
		}
		text, lines := base64.StdEncoding.EncodeToString(p.Certificate.DER), ""
		for len(text) > 64 {
			lines += text[:64] + "\n"
			text = text[64:]
		}
		f.certs = append(f.certs, lines+text)
	}
	return f.certs, nil
}

// Aggregate writes and signs the document. Editions differ: with each, one
// entity goes, one comes, and one gets another key.
func (f *Federation) Aggregate(edition int, now time.Time) ([]byte, error) {
	certs, err := f.members()
	if err != nil {
		return nil, err
	}
	until := now.Add(14 * 24 * time.Hour)
	if f.Fault == "expired" {
		until = now.Add(-time.Hour)
	}
	var b bytes.Buffer
	fmt.Fprintf(&b, "<md:EntitiesDescriptor xmlns:md=\"%s\" xmlns:ds=\"%s\" xmlns:mdui=\"%s\" xmlns:mdrpi=\"urn:oasis:names:tc:SAML:metadata:rpi\" ID=\"%s\" Name=\"%s\" validUntil=\"%s\" cacheDuration=\"PT6H\">\n",
		saml.NSMetadata, xmlsec.NSDSig, saml.NSUI, newID(), f.Title, until.UTC().Format(time.RFC3339))
	for i := edition; i < f.Entities+edition; i++ {
		key := certs[i%3]
		if edition > 0 && i == edition+1 {
			key = certs[3]
		}
		if f.Fault == "broken" && i == 2 {
			key = "AAAA" + key[4:]
		}
		e := f.entity(i, key)
		b.WriteString(e)
		if f.Fault == "twice" && i == 1 {
			b.WriteString(e)
		}
	}
	b.WriteString("</md:EntitiesDescriptor>\n")
	if f.Fault == "unsigned" {
		return b.Bytes(), nil
	}
	doc, err := xmlsec.Parse(b.Bytes(), xmlsec.AggregateLimits)
	if err != nil {
		return nil, err
	}
	pair := f.Pair
	if f.Fault == "stranger" {
		if pair, err = stranger(); err != nil {
			return nil, err
		}
	}
	if err := xmlsec.Sign(doc.Root, 0, pair.Signer(), pair.Certificate.DER); err != nil {
		return nil, err
	}
	out := append([]byte("<?xml version=\"1.0\" encoding=\"UTF-8\"?>\n"), doc.Root.Octets()...)
	switch f.Fault {
	case "altered":
		out = bytes.Replace(out, []byte("/sso/post"), []byte("/sso/p0st"), 1)
	case "cut":
		out = out[:len(out)*2/3]
	}
	return out, nil
}

// Handler makes the publisher ready to serve: /metadata with the usual means for
// conditional requests, /certificate, and POST /edition for the next edition.
func (f *Federation) Handler() (http.Handler, error) {
	if err := known(f.Fault, federationFaults); err != nil {
		return nil, err
	}
	if f.Now == nil {
		f.Now = time.Now
	}
	mux := http.NewServeMux()
	mux.HandleFunc("GET /metadata", func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		if f.document == nil {
			document, err := f.Aggregate(f.edition, f.Now())
			if err != nil {
				f.mu.Unlock()
				http.Error(w, err.Error(), http.StatusInternalServerError)
				return
			}
			f.document, f.made = document, f.Now()
		}
		document, made := f.document, f.made
		f.mu.Unlock()
		sum := sha256.Sum256(document)
		w.Header().Set("ETag", `"`+hex.EncodeToString(sum[:8])+`"`)
		w.Header().Set("Content-Type", "application/samlmetadata+xml")
		http.ServeContent(w, r, "", made, bytes.NewReader(document))
	})
	mux.HandleFunc("GET /certificate", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "application/x-pem-file")
		_, _ = w.Write(f.Pair.Certificate.PEM())
	})
	mux.HandleFunc("POST /edition", func(w http.ResponseWriter, r *http.Request) {
		f.mu.Lock()
		defer f.mu.Unlock()
		f.edition++
		f.document = nil
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		f.mu.Lock()
		v := page{Kind: "Stand-in federation", Title: f.Title, Metadata: f.Base + "/metadata", Entities: f.Entities,
			Edition: f.edition + 1}
		f.mu.Unlock()
		show(w, http.StatusOK, "federation.html", v)
	})
	return limitBody(mux), nil
}
