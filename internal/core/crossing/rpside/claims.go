package rpside

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// done makes the provider's word of what came.
func (t *turn) done() crossing.Out {
	if err := t.demanded(); err != nil {
		return t.fail(t.out.Checks.Fail("Claims", err))
	}
	t.elsewhere()
	if names := apart(t.h.claims, t.p.plain()); len(names) > 0 {
		t.out.Checks.Note("Claims", finding.New(finding.ClaimsApart, finding.Fact("Claims",
			finding.Clip(strings.Join(names, " ")))))
	}
	a := &crossing.Answer{SessionIndex: t.h.said.Session, Attributes: attributes(t.h.claims, t.p.plain())}
	a.Attributes = append(a.Attributes, t.lasting(a.Attributes)...)
	a.At, a.Said, a.Context, a.Methods = t.h.said.AuthTime, t.in.Now, t.h.said.Context, t.h.said.Methods
	if t.p.plain() {
		id, err := t.identifier()
		if err != nil {
			return t.fail(t.out.Checks.Fail("Identifier", err))
		}
		t.out.Checks.Pass("Identifier", t.p.Identifier+" is "+id)
		a.Subject = profile.Subject{Value: id}
	} else {
		a.Subject = profile.Subject{Value: t.h.said.Subject, NameQualifier: t.h.tenant}
		a.Authorities = []string{string(t.h.said.Issuer)}
	}
	t.out.Answer, t.out.Held = a, t.h
	t.out.Upstream, t.out.Err = t.upstream()
	if t.out.Err != nil {
		t.out.Answer = nil
	}
	return t.out
}

// lasting are claims of the ID token of then that the answer of now does not tell; what says
// that another one is verified goes with that.
func (t *turn) lasting(now []profile.Attribute) (out []profile.Attribute) {
	told := func(name string) bool {
		return slices.ContainsFunc(now, func(a profile.Attribute) bool { return a.Name == name })
	}
	for _, a := range t.h.was {
		if !told(a.Name) && (flags[a.Name] == "" || !told(flags[a.Name])) {
			out = append(out, a)
		}
	}
	return out
}

// demanded holds claims against those that must have a value.
func (t *turn) demanded() error {
	for _, name := range slices.Sorted(maps.Keys(t.p.compiled.required)) {
		want, found := t.p.compiled.required[name], "missing"
		ok := slices.ContainsFunc(t.h.claims, func(c map[string]any) bool {
			if c[name] != nil {
				found = text(c[name])
			}
			return names(c[name], want)
		})
		if !ok {
			return finding.New(finding.ClaimRefused, finding.Compare(name, want, finding.Clip(found)))
		}
		t.out.Checks.Pass("Claim "+name, want)
	}
	return nil
}

// names reports whether a claim is a value, or a list that holds it.
func names(claim any, want string) bool {
	if list, ok := claim.([]any); ok {
		return slices.ContainsFunc(list, func(v any) bool { return text(v) == want })
	}
	return claim != nil && text(claim) == want
}

// text is a claim as a text: numbers digit by digit.
func text(claim any) string {
	switch v := claim.(type) {
	case nil:
		return ""
	case string:
		return v
	case json.Number:
		return v.String()
	case bool:
		return fmt.Sprint(v)
	}
	octets, err := json.Marshal(claim)
	if err != nil {
		return ""
	}
	return string(octets)
}

func textOf(claims map[string]any, name string) string {
	s, _ := claims[name].(string)
	return s
}

// elsewhere notes what the provider did not put into what it told (OpenID Connect Core
// §5.6.2).
func (t *turn) elsewhere() {
	for _, c := range t.h.claims {
		places, _ := c["_claim_names"].(map[string]any)
		sources, _ := c["_claim_sources"].(map[string]any)
		var others []string
		for _, name := range slices.Sorted(maps.Keys(places)) {
			source, _ := sources[text(places[name])].(map[string]any)
			where := finding.Clip(textOf(source, "endpoint"))
			if name == "groups" || name == "roles" {
				t.out.Checks.Note("Groups", finding.New(finding.GroupsElsewhere, finding.Fact("Claim", name),
					finding.Fact("Would be at", where)))
				continue
			}
			others = append(others, name)
		}
		if len(others) > 0 {
			t.out.Checks.Note("Claims", finding.New(finding.ClaimsElsewhere, finding.Fact("Claims",
				finding.Clip(strings.Join(others, " ")))))
		}
		if c["hasgroups"] == true || c["hasgroups"] == "true" {
			t.out.Checks.Note("Groups", finding.New(finding.GroupsElsewhere, finding.Fact("hasgroups", "true")))
		}
	}
}

// apart are the claims that sources tell otherwise, whatever the order of their values; the earlier source counts.
func apart(claims []map[string]any, plain bool) (out []string) {
	sets := map[string][]string{}
	for _, c := range claims {
		for _, a := range attributes([]map[string]any{c}, plain) {
			var set []string
			for _, v := range a.Values {
				set = append(set, v.String())
			}
			slices.Sort(set)
			if set = slices.Compact(set); sets[a.Name] == nil {
				sets[a.Name] = set
			} else if !slices.Equal(sets[a.Name], set) && !slices.Contains(out, a.Name) {
				out = append(out, a.Name)
			}
		}
	}
	slices.Sort(out)
	return out
}

// identifier is the member that identifies the person where there is no sub, the same
// wherever it is told.
func (t *turn) identifier() (id string, err error) {
	var present []string
	for _, c := range t.h.claims {
		switch told := plainID(member(c, t.p.Identifier)); {
		case told != "" && id != "" && told != id:
			return "", finding.New(finding.UserInfoSubject, finding.Compare(t.p.Identifier, finding.Clip(id),
				finding.Clip(told)))
		case told != "":
			id = told
		}
		present = append(present, slices.Sorted(maps.Keys(c))...)
	}
	if id == "" {
		return "", finding.New(finding.IdentifierMissing, finding.Fact("Member", t.p.Identifier),
			finding.Fact("Members that came", finding.Clip(strings.Join(slices.Compact(present), " "))))
	}
	return id, nil
}

// plainID is a value that can identify somebody: a text, or a whole number digit by
// digit; "" if it is something else.
func plainID(v any) string {
	switch v := v.(type) {
	case string:
		if s := strings.TrimSpace(v); len(s) <= 1024 {
			return s
		}
	case json.Number:
		if s := v.String(); !strings.ContainsAny(s, ".eE-") {
			return s
		}
	}
	return ""
}

// member is the member at a path with dots; a member whose name has dots itself counts
// first.
func member(c map[string]any, path string) any {
	if v, ok := c[path]; ok {
		return v
	}
	head, rest, deeper := strings.Cut(path, ".")
	inner, ok := c[head].(map[string]any)
	if !deeper || !ok {
		return nil
	}
	return member(inner, rest)
}

// pointers are members that only say where other claims are.
var pointers = []string{"_claim_names", "_claim_sources", "hasgroups"}

// flags say of another claim that it is verified (OpenID Connect Core §5.1): they count for
// the value that came with them, from the same source.
var flags = map[string]string{"email_verified": "email", "phone_number_verified": "phone_number"}

// sameSource reports whether a source is the one whose value of a claim counts.
func sameSource(claims []map[string]any, source int, name string) bool {
	at := slices.IndexFunc(claims, func(c map[string]any) bool { return len(valuesOf(c[name])) > 0 })
	return at < 0 || at == source
}

// attributes are claims as attributes: what an earlier source says counts. Claims of the
// protocol are none; without ID tokens there is no protocol that would give them a
// meaning, but for sub.
func attributes(claims []map[string]any, plain bool) (out []profile.Attribute) {
	seen := map[string]bool{}
	for i, c := range claims {
		for _, name := range slices.Sorted(maps.Keys(c)) {
			if seen[name] || oidc.Reserved(name) && (!plain || name == "sub") || slices.Contains(pointers, name) {
				continue
			}
			if of, is := flags[name]; is && !sameSource(claims, i, of) {
				continue
			}
			if values := valuesOf(c[name]); len(values) > 0 {
				seen[name] = true
				out = append(out, profile.Attribute{Name: name, Values: values})
			}
		}
	}
	return out
}

// valuesOf are the values of a claim, each with its type.
func valuesOf(claim any) (out []profile.Value) {
	list, several := claim.([]any)
	if !several {
		list = []any{claim}
	}
	for _, v := range list {
		switch v := v.(type) {
		case nil:
		case string:
			out = append(out, profile.TextOf(v))
		case bool:
			out = append(out, profile.BooleanOf(v))
		case json.Number:
			if n, ok := profile.NumberOf(v.String()); ok {
				out = append(out, n)
			}
		default:
			octets, err := json.Marshal(v)
			if err != nil {
				continue
			}
			if s, err := profile.StructureOf(octets); err == nil {
				out = append(out, s)
			}
		}
	}
	return out
}

// Unproved reads pasted claims: an ID token (RFC 7519), what the user-info address said, or
// a token response that holds an ID token; several, one behind the other, as they came.
func (p *Provider) Unproved(pasted string) (*crossing.Answer, error) {
	var claims []map[string]any
	for rest := strings.TrimSpace(pasted); rest != ""; rest = strings.TrimSpace(rest) {
		var one map[string]any
		var err error
		if strings.HasPrefix(rest, "{") {
			d := json.NewDecoder(strings.NewReader(rest))
			d.UseNumber()
			err = d.Decode(&one)
			rest = rest[min(int(d.InputOffset()), len(rest)):]
		} else {
			token, more, _ := strings.Cut(rest, "\n")
			rest = more
			one, err = claimsIn(strings.TrimSpace(token))
		}
		if err != nil {
			return nil, finding.New(finding.MessageUndecodable, finding.Fact("Cause", finding.Clip(err.Error())))
		}
		if token := textOf(one, "id_token"); token != "" {
			if one, err = claimsIn(token); err != nil {
				return nil, finding.New(finding.MessageUndecodable, finding.Fact("id_token", finding.Clip(err.Error())))
			}
		}
		claims = append(claims, one)
	}
	out := &crossing.Answer{Attributes: attributes(claims, p.plain())}
	for _, c := range claims {
		who := c["sub"]
		if p.plain() {
			who = member(c, p.Identifier)
		}
		if id := plainID(who); id != "" {
			out.Subject.Value = id
		}
	}
	return out, nil
}

// claimsIn are the claims of a signed token in compact form.
func claimsIn(token string) (out map[string]any, err error) {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return nil, errors.New("it is neither JSON nor a signed token; an encrypted or opaque one cannot be read")
	}
	octets, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return nil, err
	}
	d := json.NewDecoder(bytes.NewReader(octets))
	d.UseNumber()
	return out, d.Decode(&out)
}
