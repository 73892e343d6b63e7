package standin

import "net/http"

// Page is a page that knows nothing of signing in: what a bookmark leads to.
type Page struct{ Name, Title, Text string }

// Handler serves the page.
func (p *Page) Handler() http.Handler {
	mux := http.NewServeMux()
	mux.HandleFunc("GET /{$}", func(w http.ResponseWriter, _ *http.Request) {
		show(w, http.StatusOK, "page.html", page{Kind: "Stand-in page", Name: p.Name, Title: p.Title, Text: p.Text})
	})
	return mux
}
