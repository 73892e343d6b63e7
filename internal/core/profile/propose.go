package profile

import (
	"cmp"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/nearword"
)

// others are attributes that have a name in the core schema (RFC 7643 §4) or in
// eduPerson, and no standard claim.
var others = []Standard{
	{SCIM: "title", Names: []string{"title", "urn:oid:2.5.4.12"}, Type: Text},
	{SCIM: "userType", Names: []string{"eduPersonPrimaryAffiliation", "urn:oid:1.3.6.1.4.1.5923.1.1.1.5", "employeeType",
		"urn:oid:2.16.840.1.113730.3.1.4"}, Type: Text},
	{SCIM: "employeeNumber", Names: []string{"employeeNumber", "urn:oid:2.16.840.1.113730.3.1.3"}, Type: Text},
	{SCIM: "department", Names: []string{"departmentNumber", "urn:oid:2.16.840.1.113730.3.1.2", "ou", "urn:oid:2.5.4.11"},
		Type: Text},
	{SCIM: "organization", Names: []string{"o", "urn:oid:2.5.4.10"}, Type: Text},
	{SCIM: "entitlements", Names: []string{"eduPersonEntitlement", "urn:oid:1.3.6.1.4.1.5923.1.1.1.7"}, Type: Text,
		Many: true},
	{SCIM: "roles", Names: []string{"eduPersonAffiliation", "urn:oid:1.3.6.1.4.1.5923.1.1.1.1"}, Type: Text, Many: true},
	{SCIM: "eduPersonPrincipalName", Names: []string{"urn:oid:1.3.6.1.4.1.5923.1.1.1.6"}, Type: Text},
	{SCIM: "eduPersonScopedAffiliation", Names: []string{"urn:oid:1.3.6.1.4.1.5923.1.1.1.9"}, Type: Text, Many: true},
}

// synonyms are what programs and people call attributes beside their standard names,
// reduced to small letters and digits.
var synonyms = map[string][]string{
	"displayName":     {"fullname", "commonname", "name", "realname"},
	"name.givenName":  {"firstname", "forename", "fname", "given"},
	"name.familyName": {"lastname", "surname", "lname", "family"},
	"name.middleName": {"middlename", "secondname"},
	"nickName":        {"nickname", "alias", "knownas"},
	"userName": {"username", "login", "loginname", "account", "accountname", "accountid", "userid", "user", "logonname",
		"uid"},
	"emails":         {"email", "emailaddress", "mail", "mailaddress", "emailaddr", "emails", "primaryemail"},
	"phoneNumbers":   {"phone", "telephone", "phonenumber", "telephonenumber", "tel", "mobile"},
	"locale":         {"language", "lang", "preferredlanguage"},
	"timezone":       {"timezone", "tz", "zoneinfo"},
	"groups":         {"group", "groups", "memberof", "groupmembership", "teams"},
	"title":          {"jobtitle", "job", "position"},
	"userType":       {"usertype", "employeetype", "kind"},
	"employeeNumber": {"employeeid", "staffnumber", "staffid", "personnelnumber", "employeenumber"},
	"department":     {"department", "dept", "unit", "division", "orgunit"},
	"organization":   {"organization", "organisation", "company", "companyname", "org"},
	"entitlements":   {"entitlement", "entitlements", "licences", "licenses"},
	"roles":          {"role", "roles", "affiliation"},
	"addresses":      {"address", "postaladdress"},
}

// byName are all attributes that have a standard name, by every name they are met under;
// byWord by what else they are called.
var byName, byWord = func() (names, words map[string]*Standard) {
	names, words = map[string]*Standard{}, map[string]*Standard{}
	note := func(list []Standard) {
		for i := range list {
			for _, n := range append([]string{list[i].Claim, list[i].SCIM}, list[i].Names...) {
				names[n] = &list[i]
			}
		}
	}
	note(standards)
	note(others)
	delete(names, "")
	for scim, list := range synonyms {
		for _, w := range list {
			words[w] = names[scim]
		}
	}
	return names, words
}()

// Known finds the standard attribute that a name, or a friendly name, stands for; nil if
// it is none. A claim URI, or a name that programs made up, is known by its last part.
func Known(name, friendly string) *Standard {
	for _, n := range []string{name, friendly} {
		if s := byName[n]; s != nil {
			return s
		}
	}
	for _, n := range []string{friendly, name} {
		if s := byWord[reduced(last(n))]; s != nil {
			return s
		}
	}
	return nil
}

// Word is its name in the profile: that of the core schema, else the claim's.
func (s *Standard) Word() string { return cmp.Or(s.SCIM, s.Claim) }

// last is the last part of a URI; numbers of an URN name nothing.
func last(name string) string {
	if strings.HasPrefix(name, "urn:oid:") {
		return ""
	}
	return name[strings.LastIndexAny(name, "/#:")+1:]
}

func reduced(name string) string {
	return strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 32
		}
		return -1
	}, name)
}

// Requested is an attribute that an application asks for: in its metadata (SAML metadata
// §2.4.4.2), or by its scopes.
type Requested struct {
	Name     string `json:"name"`
	Format   string `json:"nameFormat,omitempty"`
	Friendly string `json:"friendlyName,omitempty"`
	Required bool   `json:"required,omitempty"`
}

// Requests is what a mapping reads, as it can be asked of a provider; nothing if it
// reads everything.
func (m Mapping) Requests() (out []Requested) {
	if m.Sources() == "" {
		return nil
	}
	add := func(r Requested) {
		at := slices.IndexFunc(out, func(o Requested) bool { return o.Name == r.Name && o.Format == r.Format })
		if at < 0 {
			out = append(out, r)
		} else {
			out[at].Required = out[at].Required || r.Required
		}
	}
	for _, r := range m.compiled.rules {
		for i, s := range r.From {
			if s.Attribute != "" {
				add(Requested{Name: s.Attribute, Format: s.Format, Required: r.Mandatory && len(r.From) == 1})
			}
			if e := r.values[i]; e != nil {
				for _, name := range e.Reads {
					add(Requested{Name: name})
				}
			}
		}
		if r.when != nil {
			for _, name := range r.when.Reads {
				add(Requested{Name: name})
			}
		}
	}
	return out
}

// Proposal is a mapping that would fit, and what nothing was found for.
type Proposal struct {
	Mapping Mapping
	Why     []string // of each rule
	Without []Without
}

// Without is an attribute that nothing is proposed for.
type Without struct {
	Name string
	Near string // of the names there are, "" if none is near
}

// ProposeIntake proposes what the profile is made of, from what arrived. What has no
// standard name is taken over under its own.
func ProposeIntake(arrived []Attribute) (out Proposal) {
	at := map[string]int{}
	for _, a := range arrived {
		if len(a.Name) > longestText || strings.ContainsFunc(a.Name+a.Friendly, control) {
			continue // no rule can name it
		}
		to, why := cmp.Or(a.Friendly, last(a.Name), a.Name), "no standard name"
		s := Known(a.Name, a.Friendly)
		if _, twice := at[to]; s == nil && twice {
			to = a.Name // two of its own that end alike
		} else if s != nil {
			to, why = s.Word(), "the standard's name of "+cmp.Or(a.Friendly, last(a.Name), a.Name)
		}
		from := Source{Attribute: a.Name}
		if i, twice := at[to]; twice {
			r := &out.Mapping.Rules[i]
			if !slices.Contains(r.From, from) {
				r.From = append(r.From, from)
				out.Why[i] += ", and of " + cmp.Or(a.Friendly, last(a.Name), a.Name)
			}
			continue
		}
		at[to] = len(out.Mapping.Rules)
		out.Mapping.Rules = append(out.Mapping.Rules, Rule{To: Target{Name: to}, From: []Source{from}})
		out.Why = append(out.Why, why)
	}
	return out
}

// ProposeRelease proposes how an application gets what it asks for, of the attributes of
// a profile.
func ProposeRelease(wanted []Requested, profile []Attribute) (out Proposal) {
	names := []string{}
	for _, a := range profile {
		names = append(names, a.Name)
	}
	for _, w := range wanted {
		from, why := sources(w, profile)
		if len(from) == 0 {
			out.Without = append(out.Without, Without{w.Name, nearword.Of(cmp.Or(w.Friendly, last(w.Name)), names)})
			continue
		}
		made := func(r Rule) bool { return r.To.Name == w.Name && r.To.Format == w.Format }
		if slices.ContainsFunc(out.Mapping.Rules, made) {
			continue
		}
		out.Mapping.Rules = append(out.Mapping.Rules, Rule{To: Target{Name: w.Name, Format: w.Format, Friendly: w.Friendly},
			From: from, Mandatory: w.Required})
		out.Why = append(out.Why, why)
	}
	return out
}

// sources finds the attributes of a profile that are what is wanted: those of its name,
// and, because several providers call it differently, those that mean the same.
func sources(w Requested, profile []Attribute) (from []Source, why string) {
	add := func(name string) {
		if s := (Source{Attribute: name}); !slices.Contains(from, s) && len(from) < mostSources {
			from = append(from, s)
		}
	}
	for _, a := range profile {
		if a.Name == w.Name || w.Friendly != "" && (a.Name == w.Friendly || a.Friendly == w.Friendly) {
			why = "the same name"
			add(a.Name)
		}
	}
	s := Known(w.Name, w.Friendly)
	if s == nil {
		return from, why
	}
	for _, a := range profile {
		if Known(a.Name, a.Friendly) == s {
			why = cmp.Or(why, "both are "+s.Word())
			add(a.Name)
		}
	}
	return from, why
}
