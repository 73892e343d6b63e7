package web

import (
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/core/federation"
)

// settingSchemas describes settings in the OpenAPI document: those that every
// record of a kind has, and those of each protocol. On the wire they are one
// object.
func (s *server) settingSchemas(doc *huma.OpenAPI) {
	provider := []any{federation.CommonSettings{}, federation.ProviderSettings{}}
	application := []any{federation.CommonSettings{}, federation.ApplicationSettings{}}
	for _, p := range s.protocols {
		if side := p.NewProvider(&federation.Gate{}, ""); p.Providers() && side != nil {
			provider = append(provider, side.Settings())
		}
		if side := p.NewApplication(&federation.Gate{}, ""); p.Applications() && side != nil {
			application = append(application, side.Settings())
		}
	}
	for name, parts := range map[string][]any{"ProviderSettings": provider, "ApplicationSettings": application} {
		whole := &huma.Schema{Type: huma.TypeObject, Properties: map[string]*huma.Schema{}, AdditionalProperties: true,
			Description: "Settings by name; those of other protocols than the record's are absent. In a change, what is absent stays."}
		for _, part := range parts {
			one := huma.SchemaFromType(doc.Components.Schemas, reflect.TypeOf(part))
			for n, property := range one.Properties {
				whole.Properties[n] = property
			}
		}
		whole.PrecomputeMessages()
		doc.Components.Schemas.Map()[name] = whole
	}
	for of, name := range map[string]string{"Provider": "ProviderSettings", "ProviderChange": "ProviderSettings",
		"Application":       "ApplicationSettings",
		"ApplicationChange": "ApplicationSettings", "NewApplication": "ApplicationSettings"} {
		schema := doc.Components.Schemas.Map()[of]
		schema.Properties["settings"] = &huma.Schema{Ref: "#/components/schemas/" + name}
		schema.PrecomputeMessages()
	}
	for _, of := range []string{"NewProvider", "NewApplication"} {
		var names []string
		for _, p := range s.protocols {
			if of == "NewProvider" && p.Providers() || of == "NewApplication" && p.Applications() {
				names = append(names, p.Name())
			}
		}
		doc.Components.Schemas.Map()[of].Properties["protocol"].Description += "; one of " + strings.Join(names, ", ")
	}
}
