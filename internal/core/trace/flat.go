package trace

import (
	"encoding/json"
	"encoding/xml"
	"fmt"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
)

// deepest is how deep a message may nest to be taken apart, and longestPath how many octets the names on the way to a
// value may have; what goes beyond is read line by line.
const (
	deepest     = 40
	longestPath = 1000
)

// flatXML is a document value by value, nil for what is no XML. It decides nothing: what was believed of a message was
// read once, by the parser that guards the gate.
func flatXML(octets string) (out []federation.Value) {
	d := xml.NewDecoder(strings.NewReader(octets))
	path := make([]string, 0, deepest)
	text := ""
	for {
		token, err := d.Token()
		if err != nil {
			if len(path) > 0 || len(out) == 0 {
				return nil
			}
			return out
		}
		switch t := token.(type) {
		case xml.StartElement:
			if text = ""; len(path) == deepest {
				return nil
			}
			path = append(path, segment(t))
			here := strings.Join(path, within)
			if len(here) > longestPath {
				return nil
			}
			for _, a := range t.Attr {
				if a.Name.Space != "xmlns" && a.Name.Local != "xmlns" && len(a.Name.Local) <= longestPath {
					out = append(out, federation.Value{Label: here + within + "@" + a.Name.Local, Value: a.Value})
				}
			}
		case xml.CharData:
			text += string(t)
		case xml.EndElement:
			if v := strings.TrimSpace(text); v != "" {
				out = append(out, federation.Value{Label: strings.Join(path, within), Value: v})
			}
			path, text = path[:len(path)-1], ""
		}
	}
}

// segment names an element in a path; attributes of people by their names.
func segment(e xml.StartElement) string {
	if e.Name.Local == "Attribute" {
		for _, a := range e.Attr {
			if a.Name.Local == "Name" {
				return "Attribute " + a.Value
			}
		}
	}
	return e.Name.Local
}

// flatJSON is an object value by value, nil for what is none.
func flatJSON(octets string) (out []federation.Value) {
	d := json.NewDecoder(strings.NewReader(octets))
	d.UseNumber()
	var all map[string]any
	if d.Decode(&all) != nil {
		return nil
	}
	if !flatten("", all, 0, &out) {
		return nil
	}
	return out
}

func flatten(path string, v any, depth int, out *[]federation.Value) bool {
	switch v := v.(type) {
	case map[string]any:
		names := make([]string, 0, len(v))
		for n := range v {
			names = append(names, n)
		}
		slices.Sort(names)
		for _, n := range names {
			under := n
			if path != "" {
				under = path + within + n
			}
			if depth == deepest || len(under) > longestPath || !flatten(under, v[n], depth+1, out) {
				return false
			}
		}
	case []any:
		for _, each := range v {
			if depth == deepest || !flatten(path, each, depth+1, out) {
				return false
			}
		}
	default:
		*out = append(*out, federation.Value{Label: path, Value: fmt.Sprint(v)})
	}
	return true
}
