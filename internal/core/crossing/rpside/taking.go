package rpside

import (
	"cmp"
	"fmt"
	"net/url"
	"regexp"
	"slices"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/oidc"
)

// Take reads the document that a provider describes itself by.
func (p *Provider) Take(document []byte, _ federation.Trusting) (federation.Side, federation.Intake, error) {
	d, err := oidc.ReadDiscovery(document)
	if err != nil {
		return nil, federation.Intake{}, err
	}
	q := *p
	q.Doc, q.taken = d, true
	side, err := q.ready()
	return side, federation.Intake{}, err
}

// Values that can be typed: of OAuth 2.0, and those of OpenID Connect beside them.
var (
	oauth2Fields = []federation.Setting{
		{Name: "token", Label: "Token endpoint", Type: federation.Address, Identifies: true,
			Text: "token endpoint, typed by hand"},
		{Name: "clientId", Label: "Client ID", Type: federation.OneLine, Identifies: true,
			Text: "client ID that the provider gave the gate"},
		{Name: "clientSecret", Label: "Client secret", Type: federation.Secret, Option: "client-secret-file",
			Text: "file with the client secret that the provider gave the gate; kept sealed, never shown"},
		{Name: "clientSecretEnds", Label: "End of the client secret", Type: federation.Day,
			Text: "date on which that secret ends, like 2027-06-30; none for no end"},
		{Name: "authorize", Label: "Authorization endpoint", Type: federation.Address,
			Text: "authorization endpoint, typed by hand"},
		{Name: "userinfo", Label: "UserInfo endpoint", Type: federation.List,
			Text: "user-info address; several times, if one does not tell everything"}}
	openIDFields = append([]federation.Setting{{Name: "issuer", Label: "Issuer", Type: federation.Address,
		Identifies: true,
		Text:       "issuer of the provider; its document is fetched and kept fresh"}}, append(slices.Clone(oauth2Fields),
		federation.Setting{Name: "jwksUri", Label: "JWKS address", Type: federation.Address,
			Text: "address of its JWK Set, typed by hand"},
		federation.Setting{Name: "jwks", Label: "Keys", Type: federation.PublicKeys,
			Text: "keys it signs with, if they lie at no address: a file with a JWK Set, or PEM"},
		federation.Setting{Name: "endSession", Label: "End-session endpoint", Type: federation.Address,
			Text: "where the provider signs people out; none for no more"})...)
)

// Beside reports whether a field is about the gate as a client, which stands in no
// document: it is changed without leaving the document.
func (*Provider) Beside(field string) bool { return strings.HasPrefix(field, "client") }

// Fields are the values that can be typed.
func (p *Provider) Fields() []federation.Setting {
	if p.plain() {
		return oauth2Fields
	}
	return openIDFields
}

// Locate is the document of the issuer that was typed, unless its endpoints were.
func (p *Provider) Locate(t federation.Typed) (address, field string) {
	issuer := strings.TrimSpace(t["issuer"])
	if issuer == "" || t["authorize"] != "" || t["token"] != "" || oidc.IsPattern(oidc.Issuer(issuer)) || p.plain() {
		return "", ""
	}
	if _, whole := oidc.IssuerOf(issuer); whole {
		return issuer, "issuer"
	}
	return oidc.DiscoveryOf(oidc.Issuer(issuer)), "issuer"
}

// Overlay lays typed values over what is known.
func (p *Provider) Overlay(t federation.Typed) (federation.Side, error) {
	if err := t.Only(p.Fields()); err != nil {
		return nil, err
	}
	q := *p
	for _, step := range []func(federation.Typed) error{q.typedIssuer, q.typedAddresses, q.typedKeys, q.typedClient} {
		if err := step(t); err != nil {
			return nil, err
		}
	}
	return q.ready()
}

func bad(field, format string, args ...any) error {
	return &federation.SettingError{Field: field, Err: fmt.Errorf(format, args...)}
}

// typedIssuer compares with the document, letter by letter (OpenID Connect Discovery
// §4.3). The address of the document itself is taken for its issuer.
func (p *Provider) typedIssuer(t federation.Typed) error {
	typed := strings.TrimSpace(t["issuer"])
	if typed == "" {
		return nil
	}
	if from, whole := oidc.IssuerOf(typed); whole {
		typed = string(from)
	}
	issuer, err := oidc.ParseIssuer(typed)
	if err != nil {
		return bad("issuer", "%w", err)
	}
	if !p.taken {
		p.Doc.Issuer = issuer
		return nil
	}
	if p.Doc.Issuer == issuer {
		return nil
	}
	if oidc.IsPattern(p.Doc.Issuer) {
		if many, err := oidc.ReadTenants(string(p.Doc.Issuer)); err == nil {
			if many.Allowed = []string{"*"}; fits(many, issuer) {
				return nil // asked for by the name of one tenant, or of all of them
			}
		}
	}
	return &federation.SettingError{Field: "issuer", Err: finding.New(finding.DiscoveryIssuer,
		finding.Compare("issuer", issuer, p.Doc.Issuer))}
}

func fits(many oidc.Tenants, issuer oidc.Issuer) bool {
	_, err := many.Of(issuer)
	return err == nil
}

func (p *Provider) typedAddresses(t federation.Typed) error {
	for _, f := range []struct {
		field string
		to    *string
	}{{"authorize", &p.Doc.Authorize}, {"token", &p.Doc.Token}, {"jwksUri", &p.Doc.JWKS},
		{"endSession", &p.Doc.EndSession}} {
		address := strings.TrimSpace(t[f.field])
		switch {
		case address == "":
			continue
		case address == "none" && f.field == "endSession":
			*f.to = ""
			continue
		}
		if err := oidc.CheckEndpoint(address); err != nil {
			return bad(f.field, "%w", err)
		}
		*f.to = address
	}
	list := strings.Fields(t["userinfo"])
	if len(list) == 0 {
		return nil
	}
	if len(list) > mostInfos {
		return bad("userinfo", "there are %d; at most %d are asked", len(list), mostInfos)
	}
	for _, address := range list {
		if err := oidc.CheckEndpoint(address); err != nil {
			return bad("userinfo", "%w", err)
		}
	}
	p.Doc.UserInfo, p.MoreInfo = list[0], list[1:]
	return nil
}

// mostInfos is how many user-info addresses are asked in one sign-in.
const mostInfos = 5

func (p *Provider) typedKeys(t federation.Typed) error {
	text := strings.TrimSpace(t["jwks"])
	switch {
	case text == "" && t["jwksUri"] != "":
		p.KeyText = ""
	case text == "":
	case text == "none":
		p.KeyText = ""
	case t["jwksUri"] != "":
		return bad("jwks", "keys and an address of keys were given; give one of both")
	default:
		p.KeyText = text
	}
	return nil
}

// uuid is the form that identifiers of secrets have, and secrets have not.
var uuid = regexp.MustCompile(`^(?i)\{?[0-9a-f]{8}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{4}-[0-9a-f]{12}\}?$`)

// mostSecret is how long a client secret may be, in octets, and a client ID.
const mostSecret = 4096

func (p *Provider) typedClient(t federation.Typed) error {
	if id := strings.TrimSpace(t["clientId"]); id != "" {
		if len(id) > 512 || strings.ContainsFunc(id, func(r rune) bool { return r < 0x21 || r > 0x7e }) {
			return bad("clientId",
				"the client ID has to be 1 to 512 printable ASCII letters without spaces (RFC 6749 appendix A.1)")
		}
		p.ClientID = oidc.ClientID(id)
	}
	given := t["clientSecret"]
	secret := strings.TrimSpace(given)
	if secret != "" {
		if len(secret) > mostSecret {
			return bad("clientSecret", "the client secret has %d octets; at most %d are taken", len(secret), mostSecret)
		}
		if strings.HasPrefix(secret, "-----BEGIN") {
			return bad("clientSecret",
				"this is a key or a certificate; to prove with a key of the gate's own set authMethod=private_key_jwt")
		}
		around := strings.TrimRight(given, "\r\n") != secret // a line end at the end of a file is nothing odd
		p.given = secret
		p.Secret = &Secret{UUID: uuid.MatchString(secret) || p.SecretID != "" && secret == p.SecretID, Spaces: around ||
			strings.ContainsAny(secret, " \t\r\n")}
	}
	ends := strings.TrimSpace(t["clientSecretEnds"])
	if ends == "" {
		return nil
	}
	if p.Secret == nil {
		return bad("clientSecretEnds", "there is no client secret on record; give it with it")
	}
	s := *p.Secret
	if s.Ends = (time.Time{}); ends != "none" {
		at, err := time.Parse(time.DateOnly, ends)
		if full, err2 := time.Parse(time.RFC3339, ends); err2 == nil {
			at, err = full, nil
		}
		if err != nil {
			return bad("clientSecretEnds", "%q is no date; write it like 2027-06-30, or none", ends)
		}
		s.Ends = at.UTC()
	}
	p.Secret = &s
	return nil
}

// hostOf is the host of an address, with its port.
func hostOf(address string) string {
	u, err := url.Parse(address)
	if err != nil {
		return ""
	}
	return strings.ToLower(cmp.Or(u.Host, address))
}
