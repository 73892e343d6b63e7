package oidcside

import (
	"cmp"
	"encoding/json"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// Consent is what the person has to agree to: where the record or the request wants
// them to be asked, and before tokens that outlive the session (OpenID Connect Core
// §3.1.2.4, §11).
func (a *Application) Consent(in crossing.AnswerIn) (*crossing.Consent, error) {
	var r reply
	if err := json.Unmarshal(in.Own, &r); err != nil {
		return nil, err
	}
	lasts := slices.Contains(r.Scopes, offline) && in.Released.Name.Kind != profile.Passing && !a.NoRefresh
	if !a.AskConsent && !r.Consent && !lasts {
		return nil, nil
	}
	c := &crossing.Consent{Lasts: lasts, Anew: r.Consent, Scopes: slices.Clone(r.Scopes)}
	for _, name := range slices.Concat(r.IDClaims, r.InfoClaims) {
		c.Scopes = append(c.Scopes, "claim:"+name)
	}
	for _, name := range r.Resources {
		c.Scopes = append(c.Scopes, "resource:"+name)
	}
	slices.Sort(c.Scopes)
	c.Scopes = slices.Compact(c.Scopes)
	for _, claim := range a.told(in.Released.Attributes, r) {
		label, known := words[claim.Name]
		if !known {
			label = claim.Name
		}
		c.Shown = append(c.Shown, federation.Value{Label: label, Value: profile.Joined(claim.Values)})
	}
	for _, s := range r.Scopes {
		if !slices.Contains(standardScopes, s) {
			c.Shown = append(c.Shown, federation.Value{Label: "What it may do for you", Value: s})
		}
	}
	if len(r.Resources) > 0 {
		c.Shown = append(c.Shown, federation.Value{Label: "Where", Value: strings.Join(r.Resources, ", ")})
	}
	return c, nil
}

// words are those of claims for people.
var words = map[string]string{"name": "Your name", "given_name": "Given name", "family_name": "Family name",
	"middle_name": "Middle name", "nickname": "Nickname", "preferred_username": "User name", "profile": "Profile page",
	"picture": "Picture", "website": "Website", "gender": "Gender", "birthdate": "Date of birth", "zoneinfo": "Time zone",
	"locale": "Language", "updated_at": "When this was last changed", "email": "E-mail address",
	"email_verified": "Whether the e-mail address was verified", "phone_number": "Telephone number",
	"phone_number_verified": "Whether the telephone number was verified", "address": "Address", "groups": "Your groups"}

// scopeWords are how people read the scopes that the standards have.
var scopeWords = map[string]string{"profile": "your name and profile", "email": "your e-mail address",
	"phone":   "your telephone number",
	"address": "your postal address", "groups": "your groups", offline: "all this while you are away, too"}

// InWords says it without the scope that every sign-in has.
func (a *Application) InWords(scopes []string) (out []string) {
	for _, s := range scopes {
		name, claim := strings.CutPrefix(s, "claim:")
		place, resource := strings.CutPrefix(s, "resource:")
		switch {
		case s == "openid":
		case claim && words[name] != "":
			out = append(out, words[name])
		case claim:
			out = append(out, name)
		case resource:
			out = append(out, "what you may do at "+place)
		default:
			out = append(out, cmp.Or(scopeWords[s], s))
		}
	}
	if len(out) == 0 {
		out = []string{"that it is you"}
	}
	return out
}
