package standin

import (
	"net/http"
	"sync"
)

// switched is the fault of a stand-in, which can be switched while it runs.
type switched struct {
	mu   sync.Mutex
	name string
}

// set switches a fault on, or, by "", off.
func (s *switched) set(name string) {
	s.mu.Lock()
	defer s.mu.Unlock()
	s.name = name
}

// is the fault that is on.
func (s *switched) is() string {
	s.mu.Lock()
	defer s.mu.Unlock()
	return s.name
}

// begin has the switch on a page of its own, and set to what the stand-in is started with. It refuses a fault that it
// does not know.
func (s *switched) begin(mux *http.ServeMux, name string, list []Fault) error {
	if err := known(name, list); err != nil {
		return err
	}
	s.set(name)
	mux.HandleFunc("POST /fault", func(w http.ResponseWriter, r *http.Request) {
		if err := known(r.PostFormValue("fault"), list); err != nil {
			http.Error(w, err.Error(), http.StatusUnprocessableEntity)
			return
		}
		s.set(r.PostFormValue("fault"))
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
	return nil
}
