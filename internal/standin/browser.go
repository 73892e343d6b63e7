package standin

import (
	"bytes"
	"net/http"
)

// Browser is a stand-in application that runs in the browser alone: its server gives
// out one page.
type Browser struct {
	Name, Title string
	Issuer      string // the gate
	ClientID    string
}

// Handler serves the page.
func (b *Browser) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		v := page{Kind: "Stand-in application in the browser", Name: b.Name, Title: b.Title, Gate: b.Issuer,
			Client: b.ClientID,
			Nonce:  secretText()}
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
	return mux
}
