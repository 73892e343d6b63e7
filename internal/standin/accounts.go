package standin

import (
	"encoding/csv"
	"net/http"
	"slices"
	"strings"
	"sync"

	"innergate.example/innergate/internal/core/saml"
)

// Accounts are those that a stand-in application keeps itself, whatever it is told.
type Accounts struct {
	// By is the attribute or claim that it knows people by, "" for NameID or sub.
	By string `yaml:"by"`
	// OnlyKnown refuses whoever has no account: delivered is then not yet let in.
	OnlyKnown bool      `yaml:"onlyKnown"`
	Head      []string  `yaml:"head"` // the headings of its list
	List      []Account `yaml:"list"`

	mu sync.Mutex
}

// Account is one of them.
type Account struct {
	Identifier string `yaml:"identifier"`
	Name       string `yaml:"name"`
	Role       string `yaml:"role"`
}

// Matched is what an application made of somebody who came.
type Matched struct {
	On, Value string
	Account   *Account // nil if there is none
	Refused   bool
}

// ReadAccounts reads a list as the application gives it out: CSV with a line of headings,
// the identifier first, then name and role.
func ReadAccounts(text string) (head []string, list []Account, err error) {
	r := csv.NewReader(strings.NewReader(text))
	r.FieldsPerRecord = -1
	rows, err := r.ReadAll()
	if err != nil || len(rows) == 0 {
		return nil, nil, err
	}
	for _, row := range rows[1:] {
		row = append(row, "", "", "")
		list = append(list, Account{row[0], row[1], row[2]})
	}
	return rows[0], list, nil
}

// mostAccounts is how many it keeps: it makes none beyond them.
const mostAccounts = 1000

// match finds the account, letter by letter, as programs do. Who has none is refused, or gets an empty one.
func (a *Accounts) match(subject string, values map[string][]string) Matched {
	m := Matched{On: a.By, Value: subject}
	if a.By != "" {
		m.Value = strings.Join(values[a.By], ", ")
	}
	a.mu.Lock()
	defer a.mu.Unlock()
	if at := slices.IndexFunc(a.List, func(x Account) bool { return x.Identifier == m.Value }); at >= 0 {
		found := a.List[at]
		m.Account = &found
	}
	if m.Refused = a.OnlyKnown && m.Account == nil; m.Account == nil && !m.Refused && len(a.List) < mostAccounts {
		a.List = append(a.List, Account{Identifier: m.Value})
	}
	return m
}

// named are the values of attributes, by name and friendly name.
func named(list []saml.Attribute) map[string][]string {
	out := map[string][]string{}
	for _, a := range list {
		texts := []string{}
		for _, v := range a.Values {
			texts = append(texts, v.String())
		}
		out[a.Name] = texts
		if a.FriendlyName != "" {
			out[a.FriendlyName] = texts
		}
	}
	return out
}

// serve gives the list out as CSV, and takes the choice whom to refuse.
func (a *Accounts) serve(mux *http.ServeMux) {
	mux.HandleFunc("GET /accounts.csv", func(w http.ResponseWriter, _ *http.Request) {
		w.Header().Set("Content-Type", "text/csv; charset=utf-8")
		w.Header().Set("Content-Disposition", `attachment; filename="accounts.csv"`)
		out := csv.NewWriter(w)
		head := a.Head
		if len(head) == 0 {
			head = []string{"Login", "Name", "Role"}
		}
		_ = out.Write(head)
		a.mu.Lock()
		defer a.mu.Unlock()
		for _, x := range a.List {
			_ = out.Write([]string{x.Identifier, x.Name, x.Role})
		}
		out.Flush()
	})
	mux.HandleFunc("POST /accounts", func(w http.ResponseWriter, r *http.Request) {
		a.mu.Lock()
		a.OnlyKnown = r.PostFormValue("onlyKnown") != ""
		a.mu.Unlock()
		http.Redirect(w, r, "/", http.StatusSeeOther)
	})
}

// refuses says why somebody who was delivered is not let in.
func (m Matched) refuses() string {
	on := m.On
	if on == "" {
		on = "the name that the gate gave"
	}
	return "Signed in at the gate, but not let in here: there is no account for " + m.Value + " (" + on + ")."
}
