package samlside

import (
	"strconv"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/saml"
)

// Labels of values, in the standard's words.
const (
	labelEntityID = "Entity ID"
	labelSSO      = "SingleSignOnService"
	labelACS      = "AssertionConsumerService"
	labelArtifact = "ArtifactResolutionService"
)

func endpoints(use string, es []saml.Endpoint) []federation.Endpoint {
	out := []federation.Endpoint{}
	for _, e := range es {
		out = append(out, federation.Endpoint{Use: use, Binding: e.Binding, Location: e.Location, Index: e.Index,
			Default: e.Default != nil && *e.Default})
	}
	return out
}

func keysOf(ks []saml.Key) []federation.Key {
	out := []federation.Key{}
	for _, k := range ks {
		out = append(out, federation.Key{Use: k.Use, Certificate: k.Certificate})
	}
	return out
}

// Describe gives everything its metadata says.
func (p *Provider) Describe() []federation.Value {
	out := []federation.Value{{Label: labelEntityID, Value: string(p.IDP.EntityID), Touches: federation.TouchIdentity}}
	out = addresses(out, p.Endpoints())
	out = describe(out, p.IDP.Keys, p.IDP.NameIDFormats, p.IDP.Algorithms)
	return append(out, federation.Value{Label: "WantAuthnRequestsSigned",
		Value: strconv.FormatBool(p.IDP.WantAuthnRequestsSigned)})
}

// Describe gives everything its metadata says.
func (a *Application) Describe() []federation.Value {
	out := []federation.Value{{Label: labelEntityID, Value: string(a.SP.EntityID), Touches: federation.TouchIdentity}}
	out = addresses(out, a.Endpoints())
	if a.SP.Start != "" {
		out = append(out, federation.Value{Label: "RequestInitiator", Value: a.SP.Start})
	}
	out = describe(out, a.SP.Keys, a.SP.NameIDFormats, a.SP.Algorithms)
	return append(out, federation.Value{Label: "AuthnRequestsSigned",
		Value: strconv.FormatBool(a.SP.AuthnRequestsSigned)},
		federation.Value{Label: "WantAssertionsSigned", Value: strconv.FormatBool(a.SP.WantAssertionsSigned)})
}

func addresses(out []federation.Value, es []federation.Endpoint) []federation.Value {
	for _, e := range es {
		out = append(out, federation.Value{Label: e.Use, Value: e.Location, Binding: short(e.Binding), Index: e.Index,
			Default: e.Default, Touches: federation.TouchAddress})
	}
	return out
}

func describe(out []federation.Value, ks []saml.Key, formats []saml.NameIDFormat,
	algorithms []string) []federation.Value {
	for _, k := range ks {
		use := k.Use
		if use == "" {
			use = "signing and encryption"
		}
		text := k.Certificate.Describe()
		if k.Certificate.DER != nil {
			text += ", SHA-256 " + k.Certificate.SHA256()
		} else {
			text += ", bare key " + k.Certificate.Fingerprint()
		}
		if x := k.Certificate.X509; x != nil {
			text += ", until " + x.NotAfter.UTC().Format("2006-01-02")
		}
		out = append(out, federation.Value{Label: "Key for " + use, Value: text, Touches: federation.TouchKey})
		for _, m := range k.Methods {
			out = append(out, federation.Value{Label: "EncryptionMethod", Value: m})
		}
	}
	for _, f := range formats {
		out = append(out, federation.Value{Label: "NameIDFormat", Value: string(f)})
	}
	for _, a := range algorithms {
		out = append(out, federation.Value{Label: "Algorithm", Value: a})
	}
	return out
}
