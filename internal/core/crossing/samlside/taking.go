package samlside

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// takenFrom says how metadata came in.
func takenFrom(m *saml.Metadata) federation.Intake {
	return federation.Intake{ValidUntil: m.ValidUntil, CacheDuration: m.CacheDuration, SignatureMethod: m.SignatureMethod,
		DigestMethod: m.DigestMethod, Verified: m.Verified, Written: m.Written, OtherRole: m.IDP != nil && m.SP != nil}
}

// Take reads metadata and takes the provider's role out of it.
func (p *Provider) Take(document []byte, t federation.Trusting) (federation.Side, federation.Intake, error) {
	m, err := saml.TakeMetadata(document, saml.Trusting{Now: t.Now, Keys: t.Keys, AllowSHA1: p.AllowSHA1})
	if err != nil {
		return nil, federation.Intake{}, err
	}
	q := *p
	if q.IDP = m.IDP; !t.Unfinished || m.IDP == nil {
		q.IDP, err = m.AsProvider()
	}
	return &q, takenFrom(m), err
}

// Take reads metadata and takes the application's role out of it.
func (a *Application) Take(document []byte, t federation.Trusting) (federation.Side, federation.Intake, error) {
	m, err := saml.TakeMetadata(document, saml.Trusting{Now: t.Now, Keys: t.Keys, AllowSHA1: a.AllowSHA1})
	if err != nil {
		return nil, federation.Intake{}, err
	}
	b := *a
	if b.SP = m.SP; !t.Unfinished || m.SP == nil {
		b.SP, err = m.AsApplication()
	}
	return &b, takenFrom(m), err
}

// Overlay lays typed values over what is known of a provider: entityId,
// ssoRedirect, ssoPost, certificate (in PEM, or base64 of DER), nameIdFormat.
func (p *Provider) Overlay(t federation.Typed) (federation.Side, error) {
	if t["acs"] != "" {
		return nil, &federation.SettingError{Field: "acs",
			Err: errors.New("a provider has no AssertionConsumerService; that address belongs to an application")}
	}
	if err := t.Only("entityId", "ssoRedirect", "ssoPost", "certificate", "nameIdFormat"); err != nil {
		return nil, err
	}
	q, idp := *p, *p.IDP
	q.IDP = &idp
	err := overlay(t, &idp.EntityID, &idp.Keys, &idp.NameIDFormats)
	if err == nil {
		idp.SSO, err = put(idp.SSO, saml.BindingRedirect, t["ssoRedirect"], "ssoRedirect")
	}
	if err == nil {
		idp.SSO, err = put(idp.SSO, saml.BindingPOST, t["ssoPost"], "ssoPost")
	}
	return &q, err
}

// Overlay lays typed values over what is known of an application: entityId, acs,
// certificate (in PEM, or base64 of DER), nameIdFormat.
func (a *Application) Overlay(t federation.Typed) (federation.Side, error) {
	if t["ssoRedirect"] != "" || t["ssoPost"] != "" {
		return nil, &federation.SettingError{Field: "ssoRedirect",
			Err: errors.New("an application has no SingleSignOnService; that address belongs to a provider")}
	}
	if err := t.Only("entityId", "acs", "certificate", "nameIdFormat"); err != nil {
		return nil, err
	}
	b, sp := *a, *a.SP
	b.SP = &sp
	err := overlay(t, &sp.EntityID, &sp.Keys, &sp.NameIDFormats)
	if err == nil {
		sp.ACS, err = put(sp.ACS, saml.BindingPOST, t["acs"], "acs")
	}
	return &b, err
}

func overlay(t federation.Typed, entityID *string, ks *[]saml.Key, formats *[]string) error {
	if id := strings.TrimSpace(t["entityId"]); id != "" {
		if n := len([]rune(id)); n > 1024 {
			return &federation.SettingError{Field: "entityId", Err: fmt.Errorf("the entity ID has %d characters; use 1 to 1024",
				n)}
		}
		*entityID = id
	}
	if t["certificate"] != "" {
		certs := keys.Read([]byte(t["certificate"]))
		if len(certs) == 0 {
			return &federation.SettingError{Field: "certificate",
				Err: errors.New("this is no certificate; give X.509 in PEM, or base64 of DER")}
		}
		kept := slices.DeleteFunc(slices.Clone(*ks), func(k saml.Key) bool { return k.Use != "encryption" })
		for _, c := range certs {
			kept = append(kept, saml.Key{Use: "signing", Certificate: c})
		}
		*ks = kept
	}
	if t["nameIdFormat"] != "" {
		*formats = []string{t["nameIdFormat"]}
	}
	return nil
}

// put sets the endpoint of a binding.
func put(es []saml.Endpoint, binding, address, field string) ([]saml.Endpoint, error) {
	if address = strings.TrimSpace(address); address == "" {
		return es, nil
	}
	if !federation.IsAddress(address) {
		return nil, &federation.SettingError{Field: field,
			Err: fmt.Errorf("%q is no address; give a whole one, like https://accounts.wrenmoor.example/sso", address)}
	}
	es = slices.DeleteFunc(slices.Clone(es), func(e saml.Endpoint) bool { return e.Binding == binding })
	return append(es, saml.Endpoint{Binding: binding, Location: address}), nil
}
