package standin

import (
	"bytes"
	"net/http"
	"slices"
)

// Browser is a stand-in application that runs in the browser alone: its server gives
// out one page.
type Browser struct {
	Name, Title string
	Issuer      string // the gate
	ClientID    string
	Fault       string // of every sign-in, until it is switched

	fault switched
}

var browserFaults = []Fault{
	{"no-pkce", "there is no code challenge", "pkce-missing"},
	{"redirect-slash", "the redirect URI has a slash too many", "redirect-uri-unregistered"},
	{"unknown-client", "the client ID differs by a letter", "application-unknown"},
	{"implicit", "tokens are wanted through the browser", "oauth-request"},
	{"wrong-verifier", "the code verifier is another one", "pkce-other"},
	{"code-twice", "the code is redeemed twice", "grant-twice"},
}

// BrowserFaults are the faults of a stand-in application in the browser.
func BrowserFaults() []Fault { return slices.Clone(browserFaults) }

// Handler serves the page. It refuses a fault that it does not know.
func (b *Browser) Handler() (http.Handler, error) {
	mux := http.NewServeMux()
	if err := b.fault.begin(mux, b.Fault, browserFaults); err != nil {
		return nil, err
	}
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		v := page{Kind: "Stand-in application in the browser", Name: b.Name, Title: b.Title, Gate: b.Issuer,
			Client: b.ClientID, Faults: browserFaults, Fault: b.fault.is(), Nonce: secretText()}
		var out bytes.Buffer
		if err := pages.ExecuteTemplate(&out, "browser.html", v); err != nil {
			http.Error(w, err.Error(), http.StatusInternalServerError)
			return
		}
		w.Header().Set("Content-Type", "text/html; charset=utf-8")
		w.Header().Set("Content-Security-Policy",
			"default-src 'none'; connect-src "+b.Issuer+"; img-src data:; style-src 'nonce-"+
				v.Nonce+"'; script-src 'nonce-"+v.Nonce+"'; base-uri 'none'; frame-ancestors 'none'")
		_, _ = w.Write(out.Bytes())
	})
	return mux, nil
}
