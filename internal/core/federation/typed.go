package federation

import (
	"errors"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/keys"
	"innergate.example/innergate/internal/core/saml"
)

// Typed is what an engineer types by hand where the other side gives single
// values instead of metadata. Empty fields leave what is on record.
type Typed struct {
	EntityID     string `json:"entityId,omitempty" maxLength:"2000" doc:"Entity ID of the other side"`
	SSORedirect  string `json:"ssoRedirect,omitempty" maxLength:"2048" doc:"SingleSignOnService by HTTP-Redirect, of a provider"`
	SSOPost      string `json:"ssoPost,omitempty" maxLength:"2048" doc:"SingleSignOnService by HTTP-POST, of a provider"`
	ACS          string `json:"acs,omitempty" maxLength:"2048" doc:"AssertionConsumerService by HTTP-POST, of an application"`
	Certificate  string `json:"certificate,omitempty" maxLength:"100000" doc:"Signing certificate: PEM, or base64 of DER"`
	NameIDFormat string `json:"nameIdFormat,omitempty" maxLength:"200" doc:"NameID format it works with"`
}

// Empty reports whether nothing was typed.
func (t Typed) Empty() bool { return t == Typed{} }

// Lacks names the field in which a missing value would be typed; if nothing was
// typed, the field of the metadata.
func (t Typed) Lacks(missing []string) string {
	switch {
	case t.Empty():
		return "metadata"
	case strings.HasPrefix(missing[0], "entity"):
		return "entityId"
	case strings.HasPrefix(missing[0], "SingleSignOn"):
		return "ssoRedirect"
	case strings.HasPrefix(missing[0], "Assertion"):
		return "acs"
	}
	return "certificate"
}

func (t Typed) common(entityID *string, ks *[]saml.Key, formats *[]string) error {
	if id := strings.TrimSpace(t.EntityID); id != "" {
		if n := len([]rune(id)); n > 1024 {
			return &SettingError{"entityId", fmt.Errorf("the entity ID has %d characters; use 1 to 1024", n)}
		}
		*entityID = id
	}
	if t.Certificate != "" {
		certs := keys.Read([]byte(t.Certificate))
		if len(certs) == 0 {
			return &SettingError{"certificate", errors.New("this is no certificate; give X.509 in PEM, or base64 of DER")}
		}
		kept := slices.DeleteFunc(slices.Clone(*ks), func(k saml.Key) bool { return k.Use != "encryption" })
		for _, c := range certs {
			kept = append(kept, saml.Key{Use: "signing", Certificate: c})
		}
		*ks = kept
	}
	if t.NameIDFormat != "" {
		*formats = []string{t.NameIDFormat}
	}
	return nil
}

// put sets the endpoint of a binding.
func put(es []saml.Endpoint, binding, address, field string) ([]saml.Endpoint, error) {
	if address = strings.TrimSpace(address); address == "" {
		return es, nil
	}
	if !isAddress(address) {
		return nil, &SettingError{field, fmt.Errorf("%q is no address; give a whole one, like https://accounts.wrenmoor.example/sso", address)}
	}
	es = slices.DeleteFunc(slices.Clone(es), func(e saml.Endpoint) bool { return e.Binding == binding })
	return append(es, saml.Endpoint{Binding: binding, Location: address}), nil
}

// Provider lays what was typed over what is known of a provider.
func (t Typed) Provider(over saml.IDP) (*saml.IDP, error) {
	err := t.common(&over.EntityID, &over.Keys, &over.NameIDFormats)
	if err == nil {
		over.SSO, err = put(over.SSO, saml.BindingRedirect, t.SSORedirect, "ssoRedirect")
	}
	if err == nil {
		over.SSO, err = put(over.SSO, saml.BindingPOST, t.SSOPost, "ssoPost")
	}
	if err == nil && t.ACS != "" {
		err = &SettingError{"acs", errors.New("a provider has no AssertionConsumerService; that address belongs to an application")}
	}
	return &over, err
}

// Application lays what was typed over what is known of an application.
func (t Typed) Application(over saml.SP) (*saml.SP, error) {
	err := t.common(&over.EntityID, &over.Keys, &over.NameIDFormats)
	if err == nil {
		over.ACS, err = put(over.ACS, saml.BindingPOST, t.ACS, "acs")
	}
	if err == nil && (t.SSORedirect != "" || t.SSOPost != "") {
		err = &SettingError{"ssoRedirect", errors.New("an application has no SingleSignOnService; that address belongs to a provider")}
	}
	return &over, err
}
