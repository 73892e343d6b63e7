package web

import (
	"reflect"
	"strings"

	"github.com/danielgtaylor/huma/v2"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/profile"
)

// settingSchemas describes settings in the OpenAPI document: those that every
// record of a kind has, and those of each protocol. On the wire they are one
// object.
func (s *server) settingSchemas(doc *huma.OpenAPI) {
	lists := map[federation.Kind][]federation.Setting{}
	for _, l := range s.settingLists() {
		lists[l.kind] = append(lists[l.kind], l.settings...)
	}
	for kind, name := range map[federation.Kind]string{federation.KindProvider: "ProviderSettings",
		federation.KindApplication: "ApplicationSettings"} {
		whole := &huma.Schema{Type: huma.TypeObject, Properties: map[string]*huma.Schema{}, AdditionalProperties: true,
			Description: "Settings by name; those of other protocols than the record's are absent. " +
				"In a change, what is absent stays."}
		mapping := doc.Components.Schemas.Schema(reflect.TypeFor[profile.Mapping](), true, "Mapping")
		for _, one := range lists[kind] {
			if whole.Properties[one.Name] = settingSchema(one); one.Type == federation.Rules {
				whole.Properties[one.Name] = mapping
			}
		}
		whole.PrecomputeMessages()
		doc.Components.Schemas.Map()[name] = whole
	}
	for of, name := range map[string]string{"Provider": "ProviderSettings", "ProviderChange": "ProviderSettings",
		"NewProvider":       "ProviderSettings",
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

// settingSchema describes one setting.
func settingSchema(one federation.Setting) *huma.Schema {
	s := &huma.Schema{Type: huma.TypeString, Description: one.Says()}
	if one.Boolean() {
		s.Type = huma.TypeBoolean
		return s
	}
	if one.Most > 0 {
		s.MaxLength = &one.Most
	}
	switch one.Type { // the text, or what it stands for
	case federation.List:
		return &huma.Schema{OneOf: []*huma.Schema{s, {Type: huma.TypeArray, Items: &huma.Schema{Type: huma.TypeString}}},
			Description: one.Says()}
	case federation.Pairs:
		return &huma.Schema{OneOf: []*huma.Schema{s, {Type: huma.TypeObject,
			AdditionalProperties: &huma.Schema{Type: huma.TypeString}}}, Description: one.Says()}
	}
	for _, c := range one.Choices {
		s.Enum = append(s.Enum, c)
	}
	return s
}

// fileSchema is a JSON Schema of the settings of a kind (draft 2020-12), for checking files and for editors.
func fileSchema(title string, list []federation.Setting) map[string]any {
	properties := map[string]any{}
	for _, one := range list {
		s := *settingSchema(one)
		s.Title = one.Label
		switch one.Type {
		case federation.Rules:
			s = huma.Schema{Title: one.Label, Description: one.Says(), Type: huma.TypeObject}
		case federation.Values:
			s = huma.Schema{Title: one.Label, Description: one.Says(), Type: huma.TypeArray,
				Items: &huma.Schema{Type: huma.TypeString}}
		case federation.Duration:
			s.Pattern = `^([0-9]+d|([0-9]+(\.[0-9]+)?(h|m|s))*)$`
		case federation.Day:
			s.Pattern = `^([0-9]{4}-[0-9]{2}-[0-9]{2})?$`
		case federation.Named:
			s.Pattern = `^([a-z0-9][a-z0-9-]{0,62})?$`
		}
		properties[one.Name] = &s
	}
	return map[string]any{"$schema": "https://json-schema.org/draft/2020-12/schema", "title": title, "type": "object",
		"properties": properties, "additionalProperties": false}
}
