package standin

import (
	"net/http"
	"sync"
	"time"
)

// login is somebody who has signed in at a stand-in provider.
type login struct {
	person Person
	at     time.Time
	index  string
}

// desk is where people sign in at a stand-in provider: who is in, by their browser, and
// what was asked when somebody came who was not.
type desk[T any] struct {
	name     string
	mu       sync.Mutex
	sessions map[string]login
	pending  map[string]T
}

func newDesk[T any](name string) *desk[T] {
	return &desk[T]{name: name, sessions: map[string]login{}, pending: map[string]T{}}
}

// session is who is in.
func (d *desk[T]) session(r *http.Request) (login, bool) {
	c, err := r.Cookie("standin-" + d.name)
	if err != nil {
		return login{}, false
	}
	d.mu.Lock()
	defer d.mu.Unlock()
	l, ok := d.sessions[c.Value]
	return l, ok
}

// waits keeps what was asked until somebody has signed in, and gives the name of that.
func (d *desk[T]) waits(ask T) string {
	key := newID()
	d.mu.Lock()
	defer d.mu.Unlock()
	d.pending[key] = ask
	return key
}

// asked is what the form that came in is to be answered with; false if it is not known.
func (d *desk[T]) asked(r *http.Request) (ask T, ok bool) {
	d.mu.Lock()
	defer d.mu.Unlock()
	ask, ok = d.pending[r.PostFormValue("pending")]
	return ask, ok
}

// enter lets in whoever proves by the form to be one of the people.
func (d *desk[T]) enter(w http.ResponseWriter, r *http.Request, people []Person, now time.Time) (login, bool) {
	for _, person := range people {
		if person.Username != r.PostFormValue("username") || person.Password != r.PostFormValue("password") {
			continue
		}
		l, token := login{person: person, at: now, index: newID()}, newID()
		d.mu.Lock()
		delete(d.pending, r.PostFormValue("pending"))
		d.sessions[token] = l
		d.mu.Unlock()
		http.SetCookie(w, cookie(d.name, token))
		return l, true
	}
	return login{}, false
}

// leave ends the session of a browser.
func (d *desk[T]) leave(w http.ResponseWriter, r *http.Request) {
	if c, err := r.Cookie("standin-" + d.name); err == nil {
		d.mu.Lock()
		delete(d.sessions, c.Value)
		d.mu.Unlock()
	}
	http.SetCookie(w, cookie(d.name, ""))
}

// refused is the sign-in page again, with the fault that was chosen there.
func refused(w http.ResponseWriter, r *http.Request, v page, fault string) {
	v.Pending, v.Fault, v.Error = r.PostFormValue("pending"), fault, "User name or password is wrong."
	show(w, http.StatusUnauthorized, "signin.html", v)
}

// chosen is the fault that a form names, "" if there is none of that name.
func chosen(r *http.Request, list []Fault) string {
	fault := r.PostFormValue("fault")
	if known(fault, list) != nil {
		return ""
	}
	return fault
}
