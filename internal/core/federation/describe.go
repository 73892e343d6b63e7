package federation

import (
	"fmt"
	"reflect"
	"strings"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/saml"
)

// Value is one value of a record under the name people know it by. Labels come
// more than once where a record has several of a kind.
type Value struct {
	Label string `json:"label"`
	Value string `json:"value"`
}

// Kinds of values that no metadata should change unnoticed.
const (
	labelEntityID = "Entity ID"
	labelSSO      = "SingleSignOnService"
	labelACS      = "AssertionConsumerService"
	labelArtifact = "ArtifactResolutionService"
	labelKey      = "Key for "
)

// Describe gives everything a provider's record says, other side first.
func (p *Provider) Describe() []Value {
	idp := p.SAML.IDP
	out := []Value{{labelEntityID, idp.EntityID}}
	out = addresses(out, labelSSO, idp.SSO)
	out = addresses(out, labelArtifact, idp.Artifact)
	out = describe(out, idp.Keys, idp.NameIDFormats, idp.Algorithms)
	out = append(out, Value{"WantAuthnRequestsSigned", yes(idp.WantAuthnRequestsSigned)})
	return rest(out, p.SAML.Intake, p.ProviderSettings)
}

// Describe gives everything an application's record says, other side first.
func (a *Application) Describe() []Value {
	sp := a.SAML.SP
	out := []Value{{labelEntityID, sp.EntityID}}
	out = addresses(out, labelACS, sp.ACS)
	if sp.Start != "" {
		out = append(out, Value{"RequestInitiator", sp.Start})
	}
	out = describe(out, sp.Keys, sp.NameIDFormats, sp.Algorithms)
	out = append(out, Value{"AuthnRequestsSigned", yes(sp.AuthnRequestsSigned)}, Value{"WantAssertionsSigned", yes(sp.WantAssertionsSigned)})
	return rest(out, a.SAML.Intake, a.ApplicationSettings)
}

func addresses(out []Value, label string, es []saml.Endpoint) []Value {
	for _, e := range es {
		text := e.Location + "  " + e.Binding[strings.LastIndex(e.Binding, ":")+1:]
		if e.Default != nil && *e.Default {
			text += ", default"
		}
		if e.Index != 0 {
			text += fmt.Sprintf(", index %d", e.Index)
		}
		out = append(out, Value{label, text})
	}
	return out
}

func describe(out []Value, ks []saml.Key, formats, algorithms []string) []Value {
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
		out = append(out, Value{labelKey + use, text})
		for _, m := range k.Methods {
			out = append(out, Value{"EncryptionMethod", m})
		}
	}
	for _, f := range formats {
		out = append(out, Value{"NameIDFormat", f})
	}
	for _, a := range algorithms {
		out = append(out, Value{"Algorithm", a})
	}
	return out
}

func rest(out []Value, in Intake, settings any) []Value {
	out = append(out, Value{"Metadata from", in.Source})
	if !in.ValidUntil.IsZero() {
		out = append(out, Value{"validUntil", in.ValidUntil.UTC().Format("2006-01-02 15:04:05Z")})
	}
	var walk func(v reflect.Value)
	walk = func(v reflect.Value) {
		for i := range v.NumField() {
			if f := v.Type().Field(i); f.Anonymous {
				walk(v.Field(i))
			} else if name, _, _ := strings.Cut(f.Tag.Get("json"), ","); true {
				out = append(out, Value{name, fmt.Sprint(v.Field(i).Interface())})
			}
		}
	}
	walk(reflect.ValueOf(settings))
	return out
}

func yes(b bool) string {
	if b {
		return "true"
	}
	return "false"
}

// Difference is a value before and after a change; one of both is empty where a
// value came or went.
type Difference struct {
	Label  string `json:"label"`
	Before string `json:"before,omitempty"`
	After  string `json:"after,omitempty"`
}

// Differences compares two descriptions. Values under the same label are
// compared as sets; those that differ are paired in their order.
func Differences(before, after []Value) []Difference {
	out := []Difference{}
	var labels []string
	gone, come := map[string][]string{}, map[string][]string{}
	has := func(vs []Value, v Value) bool {
		for _, w := range vs {
			if w == v {
				return true
			}
		}
		return false
	}
	note := func(m map[string][]string, from, other []Value) {
		for _, v := range from {
			if v.Value == "" || has(other, v) {
				continue
			}
			if gone[v.Label] == nil && come[v.Label] == nil {
				labels = append(labels, v.Label)
			}
			m[v.Label] = append(m[v.Label], v.Value)
		}
	}
	note(gone, before, after)
	note(come, after, before)
	for _, l := range labels {
		for i := range max(len(gone[l]), len(come[l])) {
			d := Difference{Label: l}
			if i < len(gone[l]) {
				d.Before = gone[l][i]
			}
			if i < len(come[l]) {
				d.After = come[l][i]
			}
			out = append(out, d)
		}
	}
	return out
}

// Changed gives a finding for a change of entity ID, of keys and of addresses;
// none if a difference touches none of them.
func Changed(ds []Difference) []*finding.Finding {
	evidence := map[finding.Code][]finding.Evidence{}
	for _, d := range ds {
		var code finding.Code
		switch {
		case d.Label == labelEntityID:
			code = finding.ChangedEntityID
		case strings.HasPrefix(d.Label, labelKey):
			code = finding.ChangedKey
		case d.Label == labelSSO || d.Label == labelACS || d.Label == labelArtifact:
			code = finding.ChangedAddress
		default:
			continue
		}
		e := finding.Compare(d.Label, d.Before, d.After)
		if d.Before == "" {
			e = finding.Fact(d.Label+", new", d.After)
		}
		evidence[code] = append(evidence[code], e)
	}
	var out []*finding.Finding
	for _, code := range []finding.Code{finding.ChangedEntityID, finding.ChangedKey, finding.ChangedAddress} {
		if evidence[code] != nil {
			out = append(out, finding.New(code, evidence[code]...))
		}
	}
	return out
}
