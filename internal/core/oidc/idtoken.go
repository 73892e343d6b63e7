package oidc

import (
	"crypto/subtle"
	"fmt"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// Expected is what an ID token is held against once its signature holds (OpenID
// Connect Core §3.1.3.7).
type Expected struct {
	Issuer   func(iss Issuer) error // nil where the issuer is known to be right
	ClientID ClientID
	Nonce    string // that of the request
	Access   string // the access token that came with it, for at_hash
	Code     string // the code that came with it, for c_hash
	AuthTime bool   // auth_time was asked for (max_age)
	Now      time.Time
	Skew     time.Duration
}

// Said is what an ID token says of the sign-in.
type Said struct {
	Issuer   Issuer
	Subject  string
	AuthTime time.Time // zero if it does not say
	Context  string    // acr
	Methods  []string  // amr
	Session  string    // sid
	Expires  time.Time
}

// longestSubject is how long sub may be (OpenID Connect Core §2).
const longestSubject = 255

// Check holds the claims of a verified token against what was asked, in the order of
// §3.1.3.7, and notes every step.
func (x Expected) Check(v Verified, log *finding.Checks) (s Said, err error) {
	c := v.Claims
	s = Said{Issuer: Issuer(text(c, "iss")), Context: text(c, "acr"), Session: text(c, "sid")}
	s.Methods, _ = texts(c, "amr")
	for _, step := range []func(Verified, *Said) (what, found string, err error){x.issuer, x.audience, x.lifetime,
		x.nonce,
		x.hashes, x.authTime, x.subject} {
		what, found, err := step(v, &s)
		if err != nil {
			return s, log.Fail(what, err)
		}
		log.Pass(what, found)
	}
	return s, nil
}

func (x Expected) issuer(_ Verified, s *Said) (string, string, error) {
	return "Issuer", string(s.Issuer), x.Issuer(s.Issuer)
}

// audience: aud names us, and nobody that we do not know; azp, if there is one, is us.
func (x Expected) audience(v Verified, _ *Said) (string, string, error) {
	aud, ok := texts(v.Claims, "aud")
	found := strings.Join(aud, " ")
	switch {
	case !ok || !slices.Contains(aud, string(x.ClientID)):
		return "Audience", "", finding.New(finding.TokenAudience, finding.Compare("aud", x.ClientID,
			finding.ClipTo(found, longestShown)))
	case slices.ContainsFunc(aud, func(a string) bool { return ClientID(a) != x.ClientID }):
		return "Audience", "", finding.New(finding.TokenAudience, finding.Compare("aud, all of it", x.ClientID,
			finding.ClipTo(found, longestShown)))
	}
	if azp, given := v.Claims["azp"]; given && azp != string(x.ClientID) {
		return "Audience", "", finding.New(finding.TokenParty, finding.Compare("azp", x.ClientID,
			finding.ClipTo(fmt.Sprint(azp), longestShown)))
	}
	return "Audience", found, nil
}

// lifetime: exp lies ahead, iat and nbf do not, each within what clocks may be apart.
func (x Expected) lifetime(v Verified, s *Said) (string, string, error) {
	end, ok := moment(v.Claims, "exp")
	if !ok {
		return "Lifetime", "", claimOdd("exp", "missing, or no time")
	}
	if s.Expires = end; !x.Now.Before(end.Add(x.Skew)) {
		return "Lifetime", "", finding.New(finding.TokenExpired, finding.Fact("exp", stamp(end)), finding.Fact("Now",
			stamp(x.Now)))
	}
	made, ok := moment(v.Claims, "iat")
	if !ok {
		return "Lifetime", "", claimOdd("iat", "missing, or no time")
	}
	for name, t := range map[string]time.Time{"iat": made, "nbf": x.notBefore(v)} {
		if t.After(x.Now.Add(x.Skew)) {
			return "Lifetime", "", finding.New(finding.TokenNotYet, finding.Fact(name, stamp(t)), finding.Fact("Now",
				stamp(x.Now)))
		}
	}
	return "Lifetime", "until " + stamp(end), nil
}

func (x Expected) notBefore(v Verified) time.Time {
	t, _ := moment(v.Claims, "nbf")
	return t
}

// nonce is that of the request: an answer that belongs to another one is no answer
// (§3.1.3.7 no. 11).
func (x Expected) nonce(v Verified, _ *Said) (string, string, error) {
	got := text(v.Claims, "nonce")
	if subtle.ConstantTimeCompare([]byte(got), []byte(x.Nonce)) != 1 {
		found := "another one"
		if got == "" {
			found = "missing"
		}
		return "Nonce", "", finding.New(finding.TokenNonce, finding.Fact("nonce", found))
	}
	return "Nonce", "that of the request", nil
}

// hashes: at_hash and c_hash, where there is what they are of (§3.1.3.6, §3.3.2.11).
func (x Expected) hashes(v Verified, _ *Said) (string, string, error) {
	found := []string{}
	for _, h := range []struct{ name, of string }{{"at_hash", x.Access}, {"c_hash", x.Code}} {
		got, given := v.Claims[h.name]
		switch {
		case h.of == "":
		case !given && h.name == "c_hash":
			return "Hash", "", finding.New(finding.TokenHash, finding.Fact("c_hash", "missing"))
		case given && got != HalfHash(v.Algorithm, h.of):
			return "Hash", "", finding.New(finding.TokenHash, finding.Fact(h.name, "is that of another token or code"))
		case given:
			found = append(found, h.name)
		}
	}
	if len(found) == 0 {
		return "Hash", "it names none", nil
	}
	return "Hash", strings.Join(found, " and ") + " of what came with it", nil
}

func (x Expected) authTime(v Verified, s *Said) (string, string, error) {
	at, ok := moment(v.Claims, "auth_time")
	switch {
	case !ok && (x.AuthTime || v.Claims["auth_time"] != nil):
		return "Signed in", "", claimOdd("auth_time", "missing, or no time, though it was asked for")
	case ok && at.After(x.Now.Add(x.Skew)):
		return "Signed in", "", finding.New(finding.TokenNotYet, finding.Fact("auth_time", stamp(at)),
			finding.Fact("Now", stamp(x.Now)))
	case !ok:
		return "Signed in", "it does not say when", nil
	}
	s.AuthTime = at
	return "Signed in", stamp(at), nil
}

// subject: not empty, at most 255 ASCII letters (§2), and a text: numbers are told
// apart by how they are written.
func (x Expected) subject(v Verified, s *Said) (string, string, error) {
	sub, err := CheckSubject(v.Claims)
	s.Subject = sub
	return "Subject", sub, err
}

// CheckSubject gives the sub of claims, if it can be one.
func CheckSubject(claims map[string]any) (string, error) {
	sub, ok := claims["sub"].(string)
	switch {
	case claims["sub"] == nil || ok && sub == "":
		return "", finding.New(finding.TokenSubject, finding.Fact("sub", "missing or empty"))
	case !ok:
		return "", finding.New(finding.TokenSubject, finding.Fact("sub", "is no text: "+
			finding.ClipTo(fmt.Sprint(claims["sub"]), longestShown)))
	case len(sub) > longestSubject:
		return "", finding.New(finding.TokenSubject, finding.Fact("sub", fmt.Sprintf("has %d letters; at most %d are taken",
			len(sub), longestSubject)))
	case strings.ContainsFunc(sub, func(r rune) bool { return r < 0x20 || r > 0x7e }):
		return "", finding.New(finding.TokenSubject, finding.Fact("sub", "has letters other than printable ASCII: "+sub))
	}
	return sub, nil
}

func claimOdd(name, cause string) error {
	return finding.New(finding.TokenClaim, finding.Fact(name, cause))
}

func stamp(t time.Time) string { return t.UTC().Format(time.RFC3339) }

// Leaver is whom a logout token is about.
type Leaver struct {
	Issuer  Issuer
	Subject string // "" if it names only the session
	Session string // sid, "" if it names only the person
	Once    string // jti
	Until   time.Time
}

// logoutLife bounds how long a logout token that says no end is good after it was
// made.
const logoutLife = 10 * time.Minute

// Leaves holds a logout token against what it must be (OpenID Connect Back-Channel
// Logout §2.6). Its kind may be missing in the header: what it is about says enough,
// for no other token has events.
func (x Expected) Leaves(v Verified) (l Leaver, err error) {
	c := v.Claims
	bad := func(name, cause string) error {
		return finding.New(finding.LogoutTokenRefused, finding.Fact(name, cause))
	}
	l = Leaver{Issuer: Issuer(text(c, "iss")), Subject: text(c, "sub"), Session: text(c, "sid"), Once: text(c, "jti")}
	if err := x.Issuer(l.Issuer); err != nil {
		return l, err
	}
	if _, _, err := x.audience(v, &Said{}); err != nil {
		return l, err
	}
	events, _ := c["events"].(map[string]any)
	event, ok := events[logoutEvent].(map[string]any)
	made, dated := moment(c, "iat")
	end, ends := moment(c, "exp")
	switch {
	case !ok:
		return l, bad("events", "does not name "+logoutEvent)
	case len(event) > 50:
		return l, bad("events", "says more than anybody reads")
	case c["nonce"] != nil:
		return l, bad("nonce", "must not be there: this could be an ID token")
	case l.Once == "":
		return l, bad("jti", "missing")
	case l.Subject == "" && l.Session == "":
		return l, bad("sub and sid", "both missing")
	case !dated || made.After(x.Now.Add(x.Skew)):
		return l, bad("iat", "missing, or ahead of the gate's clock")
	case c["exp"] != nil && (!ends || !x.Now.Before(end.Add(x.Skew))):
		return l, bad("exp", "past: "+stamp(end))
	case !ends && x.Now.After(made.Add(logoutLife)):
		return l, bad("iat", "too long ago: "+stamp(made))
	}
	if l.Until = end.Add(x.Skew); !ends {
		l.Until = made.Add(logoutLife + x.Skew)
	}
	return l, nil
}
