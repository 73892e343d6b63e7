package oidc

import (
	"bytes"

	"innergate.example/innergate/internal/core/strictjson"
)

// deepest is how many levels a JSON document may have.
const deepest = 32

// object reads a JSON object.
func object(octets []byte) (map[string]any, error) { return strictjson.Object(octets, deepest) }

// document reads a JSON object that came by itself: a byte order mark in front says
// nothing (RFC 8259 §8.1).
func document(octets []byte) (map[string]any, error) {
	return object(bytes.TrimPrefix(octets, []byte("\xef\xbb\xbf")))
}

// text is a member that is a text, "" if it is not there or something else.
func text(o map[string]any, name string) string {
	s, _ := o[name].(string)
	return s
}

// texts is a member that is a list of texts, or one text.
func texts(o map[string]any, name string) ([]string, bool) {
	switch v := o[name].(type) {
	case nil:
		return nil, true
	case string:
		return []string{v}, true
	case []any:
		out := make([]string, len(v))
		for i, x := range v {
			s, ok := x.(string)
			if !ok {
				return nil, false
			}
			out[i] = s
		}
		return out, true
	}
	return nil, false
}
