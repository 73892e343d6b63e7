package oidc

import (
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base64"
	"encoding/json"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
)

// verifiers are 43 to 128 unreserved characters (RFC 7636 §4.1).
var verifiers = regexp.MustCompile(`^[A-Za-z0-9._~-]{43,128}$`)

// Challenge is the S256 of a verifier (RFC 7636 §4.2).
func Challenge(verifier string) string {
	sum := sha256.Sum256([]byte(verifier))
	return base64.RawURLEncoding.EncodeToString(sum[:])
}

// CheckVerifier holds a verifier against the challenge of the request; both are
// empty or neither is (RFC 9700 §2.1.1: a verifier without a challenge is refused).
func CheckVerifier(challenge, verifier string) error {
	refuse := func(cause string) error {
		return &Refusal{Code: InvalidGrant, Finding: finding.New(finding.PKCEOther, finding.Fact("code_verifier", cause))}
	}
	switch {
	case challenge == "" && verifier == "":
		return nil
	case challenge == "":
		return refuse("given, but the request had no code_challenge")
	case verifier == "":
		return refuse("missing")
	case !verifiers.MatchString(verifier):
		return refuse("is not 43 to 128 letters, digits, hyphens, dots, underscores and tildes")
	case subtle.ConstantTimeCompare([]byte(Challenge(verifier)), []byte(challenge)) != 1:
		return refuse("belongs to another code_challenge")
	}
	return nil
}

// SecretHash is a secret of a client as it is kept. Several can be good at once,
// while one follows the other.
type SecretHash struct {
	Sum     [sha256.Size]byte
	Expires time.Time // zero if it does not
}

// HashSecret is what is kept of a secret. It is a plain sum: secrets are long and
// random, not chosen by people.
func HashSecret(secret string) [sha256.Size]byte { return sha256.Sum256([]byte(secret)) }

// MadeSecret begins every secret that the gate makes up; 32 random octets follow.
const MadeSecret = "igs_"

// madeLength is that of such a secret, in letters.
const madeLength = len(MadeSecret) + 43

// Guess reports whether what is presented may be a guess at what a client brought along: a
// secret that people may have chosen. Nobody guesses a key, or a secret that was made here.
func (p Presented) Guess(c *Client) bool {
	if p.Method != c.Method {
		return false
	}
	for _, s := range p.secrets {
		if !strings.HasPrefix(s, MadeSecret) || len(s) != madeLength {
			return true
		}
	}
	return false
}

// Sums are those of the secrets that are presented.
func (p Presented) Sums() (out [][sha256.Size]byte) {
	for _, s := range p.secrets {
		out = append(out, HashSecret(s))
	}
	return out
}

// Presented is how a caller of an endpoint says which client it is.
type Presented struct {
	Method    Method
	ClientID  ClientID
	secrets   []string // any of them may be the secret
	assertion string
}

const assertionType = "urn:ietf:params:oauth:client-assertion-type:jwt-bearer"

func clientRefused(evidence ...finding.Evidence) error {
	return &Refusal{Code: InvalidClient, Finding: finding.New(finding.ClientUnproved, evidence...)}
}

// Present reads it out of the Authorization header and the form, of which one has
// it (RFC 6749 §2.3: one method for each request).
func Present(authorization string, form url.Values) (p Presented, err error) {
	for _, name := range []string{"client_id", "client_secret", "client_assertion", "client_assertion_type"} {
		if len(form[name]) > 1 {
			return p, &Refusal{Code: InvalidRequest,
				Finding: finding.New(finding.OAuthRequest, finding.Fact("Given more than once", name))}
		}
	}
	p = Presented{Method: NoMethod, ClientID: ClientID(form.Get("client_id"))}
	var methods []string
	if authorization != "" {
		if err := p.basic(authorization); err != nil {
			return p, err
		}
		methods = append(methods, string(SecretBasic))
	}
	if secret := form.Get("client_secret"); secret != "" {
		p.Method, p.secrets = SecretPost, []string{secret}
		methods = append(methods, string(SecretPost))
	}
	if p.assertion = form.Get("client_assertion"); p.assertion != "" {
		if t := form.Get("client_assertion_type"); t != assertionType {
			return p, clientRefused(finding.Compare("client_assertion_type", assertionType, t))
		}
		p.Method = SignedJWT
		methods = append(methods, string(SignedJWT))
		if p.ClientID == "" {
			p.ClientID = ClientID(claimed(p.assertion))
		}
	}
	switch {
	case len(methods) > 1:
		return p, &Refusal{Code: InvalidRequest,
			Finding: finding.New(finding.OAuthRequest, finding.Fact("Several methods", strings.Join(methods, ", ")))}
	case p.ClientID == "":
		return p, clientRefused(finding.Fact("Missing", "client_id"))
	}
	return p, nil
}

// basic reads name and secret, each in form coding; many programs leave that out,
// so the secret may also be as it stands (RFC 6749 §2.3.1).
func (p *Presented) basic(authorization string) error {
	scheme, coded, _ := strings.Cut(authorization, " ")
	octets, err := base64.StdEncoding.DecodeString(strings.TrimSpace(coded))
	id, secret, ok := strings.Cut(string(octets), ":")
	if !strings.EqualFold(scheme, "Basic") || err != nil || !ok {
		return clientRefused(finding.Fact("Authorization", "is not Basic with name and secret"))
	}
	name, err := url.QueryUnescape(id)
	if err != nil {
		name = id
	}
	if p.ClientID != "" && string(p.ClientID) != name && string(p.ClientID) != id {
		return clientRefused(finding.Compare("client_id", name, p.ClientID))
	}
	if p.ClientID == "" {
		p.ClientID = ClientID(name)
	}
	p.Method, p.secrets = SecretBasic, []string{secret}
	if decoded, err := url.QueryUnescape(secret); err == nil && decoded != secret {
		p.secrets = []string{decoded, secret}
	}
	return nil
}

// claimed is whom an assertion speaks of, unverified: it only says which keys to
// verify it with.
func claimed(assertion string) string {
	parts := strings.Split(assertion, ".")
	if len(parts) != 3 || len(assertion) > longestToken {
		return ""
	}
	octets, err := base64.RawURLEncoding.DecodeString(parts[1])
	if err != nil {
		return ""
	}
	o, err := object(octets)
	if err != nil {
		return ""
	}
	return text(o, "sub")
}

// longest life of a client assertion, and how far clocks may be off.
const (
	assertionLife = 10 * time.Minute
	skew          = time.Minute
)

// Proved is what was learned from a client's proof.
type Proved struct {
	Once  string    // what may be used once: the assertion's jti, "" if there is nothing
	Until time.Time // when it could not be used any more
	Spare bool      // a secret that has a successor was used
}

// Prove sees that the caller is the client, by exactly the method on record. issuer
// is ours, the only audience (RFC 7523 §3, RFC 9700 §2.5).
func (p Presented) Prove(c *Client, issuer Issuer, now time.Time) (out Proved, err error) {
	if p.Method != c.Method {
		return out, clientRefused(finding.Compare("Method", string(c.Method), string(p.Method)))
	}
	switch p.Method {
	case NoMethod:
		return out, nil
	case SignedJWT:
		return p.proveSigned(c, issuer, now)
	}
	expired := false
	for i, s := range c.SecretHashes {
		for _, given := range p.secrets {
			sum := HashSecret(given)
			if subtle.ConstantTimeCompare(sum[:], s.Sum[:]) != 1 {
				continue
			}
			if s.Expires.IsZero() || now.Before(s.Expires) {
				out.Spare = i < len(c.SecretHashes)-1
				return out, nil
			}
			expired = true
		}
	}
	what := "is another one"
	if expired {
		what = "is an earlier one, which has ended"
	} else if said := p.mistaken(c, now); said != "" {
		what = said
	}
	return out, &Refusal{Code: InvalidClient, Finding: finding.New(finding.ClientSecretOther,
		finding.Fact("What was sent", what))}
}

// mistaken says what was sent in place of the secret, where that can be told; "" otherwise.
func (p Presented) mistaken(c *Client, now time.Time) string {
	for _, given := range p.secrets {
		bare := strings.Trim(given, " \t\r\n\"'")
		sum := HashSecret(bare)
		switch {
		case ClientID(given) == c.ID:
			return "is the client ID"
		case c.SecretID != "" && bare == c.SecretID:
			return "is the identifier of the secret, not its value"
		case bare != given && slices.ContainsFunc(c.SecretHashes, func(s SecretHash) bool {
			return subtle.ConstantTimeCompare(sum[:], s.Sum[:]) == 1 && (s.Expires.IsZero() || now.Before(s.Expires))
		}):
			return "is the secret with white space or quotes around it"
		case strings.HasPrefix(given, MadeSecret) && len(given) < madeLength:
			return fmt.Sprintf("is cut off: %d of %d characters", len(given), madeLength)
		case strings.HasPrefix(given, MadeSecret) && len(given) > madeLength:
			return fmt.Sprintf("is longer than the secret: %d instead of %d characters", len(given), madeLength)
		}
	}
	return ""
}

func (p Presented) proveSigned(c *Client, issuer Issuer, now time.Time) (out Proved, err error) {
	claims, err := Wanted{Kind: IDToken, Keys: c.Keys}.Verify(p.assertion)
	if err != nil {
		return out, &Refusal{Code: InvalidClient, Finding: finding.Of(err)}
	}
	for _, name := range []string{"iss", "sub"} {
		if got := text(claims, name); ClientID(got) != c.ID {
			return out, clientRefused(finding.Compare(name, c.ID, got))
		}
	}
	if aud, ok := texts(claims, "aud"); !ok || !slices.Equal(aud, []string{string(issuer)}) {
		return out, &Refusal{Code: InvalidClient, Finding: finding.New(finding.ClientAssertionAudience,
			finding.Compare("aud", issuer, strings.Join(aud, " ")))}
	}
	end, ok := moment(claims, "exp")
	switch {
	case !ok:
		return out, clientRefused(finding.Fact("Missing", "exp"))
	case now.After(end.Add(skew)):
		return out, clientRefused(finding.Fact("exp", end.Format(time.RFC3339)))
	case end.After(now.Add(assertionLife + skew)):
		return out, clientRefused(finding.Fact("exp", "more than ten minutes ahead"))
	}
	if from, ok := moment(claims, "nbf"); ok && now.Add(skew).Before(from) {
		return out, clientRefused(finding.Fact("nbf", from.Format(time.RFC3339)))
	}
	if out.Once = text(claims, "jti"); out.Once == "" {
		return out, clientRefused(finding.Fact("Missing", "jti"))
	}
	out.Until = end.Add(skew)
	return out, nil
}

// moment is a claim that is a time in seconds since 1970 (RFC 7519 §2).
func moment(o map[string]any, name string) (time.Time, bool) {
	n, ok := o[name].(json.Number)
	if !ok {
		return time.Time{}, false
	}
	seconds, err := n.Float64()
	if err != nil || seconds < 0 || seconds > 1e11 {
		return time.Time{}, false
	}
	return time.Unix(int64(seconds), 0).UTC(), true
}
