package oidcside

import (
	"encoding/json"
	"slices"
	"time"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/profile"
)

// claimsOf are the claims about a person that scopes and single requests ask for
// (OpenID Connect Core §5.4, §5.5), and those that rules of the application's record
// make under names that no scope asks for. Those of the protocol are never among them.
func claimsOf(attributes []profile.Attribute, scopes, single []string) []profile.Claim {
	var wanted []string
	for _, s := range scopes {
		wanted = append(wanted, profile.Scoped(s)...)
	}
	wanted = append(wanted, single...)
	for _, a := range attributes {
		if a.Ruled && !profile.IsStandard(a.Name) {
			wanted = append(wanted, a.Name)
		}
	}
	return profile.Claims(attributes, func(name string) bool {
		return !oidc.Reserved(name) && slices.Contains(wanted, name)
	})
}

// bounded are those of single claims that it may be told: what its scopes on record stand for
// and, where none are set, claims that no scope stands for.
func (a *Application) bounded(claims []string) []string {
	return slices.DeleteFunc(slices.Clone(claims), func(name string) bool {
		if scope := profile.ScopeOf(name); scope != "" {
			return !a.may(scope)
		}
		return len(a.Scopes) > 0
	})
}

// told is everything that an application may come to know by a sign-in, in the ID
// token or at the user-info address.
func (a *Application) told(attributes []profile.Attribute, r reply) []profile.Claim {
	return claimsOf(attributes, r.Scopes, a.bounded(slices.Concat(r.IDClaims, r.InfoClaims)))
}

// inToken are the claims that the ID token says of a person.
func (a *Application) inToken(attributes []profile.Attribute, scopes, single []string) []profile.Claim {
	if !slices.Contains(scopes, openID) {
		return nil
	}
	if !a.inIDToken() {
		scopes = nil
	}
	return claimsOf(attributes, scopes, a.bounded(single))
}

// atUserInfo are those that the user-info address says.
func (a *Application) atUserInfo(attributes []profile.Attribute, scopes, single []string) []profile.Claim {
	if !a.inUserInfo() {
		scopes = nil
	}
	return claimsOf(attributes, scopes, a.bounded(single))
}

// openID is the scope without which nobody is told who signed in.
const openID = "openid"

// Places where an application is told claims.
const (
	placeToken = "ID token"
	placeInfo  = "user-info"
)

// Told is what the application comes to know, by place; withheld are the claims that neither
// its scopes nor single requests ask for.
func (p answer) Told() (out []crossing.Delivered, withheld []string) {
	r := p.reply
	inToken := p.side.inToken(p.attributes, r.Scopes, r.IDClaims)
	var atInfo []profile.Claim
	if slices.Contains(r.Scopes, openID) {
		atInfo = p.side.atUserInfo(p.attributes, r.Scopes, r.InfoClaims)
	}
	is := func(name string) func(profile.Claim) bool {
		return func(c profile.Claim) bool { return c.Name == name }
	}
	for _, c := range profile.Claims(p.attributes, func(name string) bool { return !oidc.Reserved(name) }) {
		place := ""
		if slices.ContainsFunc(inToken, is(c.Name)) {
			place = placeToken
		}
		switch here := slices.ContainsFunc(atInfo, is(c.Name)); {
		case here && place != "":
			place += " and " + placeInfo
		case here:
			place = placeInfo
		case place == "":
			withheld = append(withheld, c.Name)
			continue
		}
		out = append(out, crossing.Delivered{Place: place, Name: c.Name, Values: c.Values})
	}
	return out, withheld
}

// Usual is a request for all of its scopes.
func (a *Application) Usual(*federation.Application) json.RawMessage {
	r, _ := json.Marshal(reply{Scopes: a.scopes()}) // texts only
	return r
}

// inIDToken and inUserInfo say where the claims of scopes are told.
func (a *Application) inIDToken() bool  { return a.ClaimsIn == "idToken" || a.ClaimsIn == "both" }
func (a *Application) inUserInfo() bool { return a.ClaimsIn != "idToken" }

// written are claims as JSON has them: numbers digit by digit, times in seconds
// since 1970 where the standard wants a number.
func written(claims []profile.Claim) map[string]any {
	out := map[string]any{}
	for _, c := range claims {
		if c.Name == "address" && len(c.Values) == 1 {
			if s, ok := addressOf(c.Values[0]); ok {
				out[c.Name] = s
				continue
			}
		}
		if !c.List {
			out[c.Name] = jsonOf(c.Values[0])
			continue
		}
		list := make([]any, len(c.Values))
		for i, v := range c.Values {
			list[i] = jsonOf(v)
		}
		out[c.Name] = list
	}
	return out
}

// addressOf is an address that is a text only (OpenID Connect Core §5.1.1).
func addressOf(v profile.Value) (any, bool) {
	return map[string]string{"formatted": v.String()}, v.Type() == profile.Text
}

func jsonOf(v profile.Value) any {
	switch v.Type() {
	case profile.Number:
		return json.Number(v.String())
	case profile.Boolean:
		return v.True()
	case profile.Structure:
		return json.RawMessage(v.String())
	case profile.Time:
		if t, err := time.Parse(time.RFC3339Nano, v.String()); err == nil {
			return t.Unix()
		}
	}
	return v.String()
}

// Requested are the claims that its scopes stand for (OpenID Connect Core §5.4), of those
// that people commonly have.
func (a *Application) Requested() (out []profile.Requested) {
	for _, s := range a.scopes() {
		for _, claim := range profile.Scoped(s) {
			if s != profile.ScopeProfile || slices.Contains(usual, claim) {
				out = append(out, profile.Requested{Name: claim})
			}
		}
	}
	return out
}

// usual are those of the scope profile.
var usual = []string{"name", "given_name", "family_name", "preferred_username", "locale", "picture"}
