package oidc

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// deepest is how many levels a JSON document may have.
const deepest = 32

// Object reads a JSON object in which no member comes twice (RFC 8259 §4 leaves
// open what that would mean; RFC 7515 §4 forbids it). Numbers stay as written.
func Object(octets []byte) (map[string]any, error) {
	d := json.NewDecoder(bytes.NewReader(octets))
	d.UseNumber()
	v, err := value(d, 0)
	if err != nil {
		return nil, err
	}
	if _, err := d.Token(); !errors.Is(err, io.EOF) {
		return nil, errors.New("something follows the document")
	}
	o, ok := v.(map[string]any)
	if !ok {
		return nil, errors.New("the document is no object")
	}
	return o, nil
}

func value(d *json.Decoder, depth int) (any, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	open, ok := t.(json.Delim)
	switch {
	case !ok:
		return t, nil
	case depth >= deepest:
		return nil, fmt.Errorf("the document has more than %d levels", deepest)
	case open == '[':
		list := []any{}
		for d.More() {
			v, err := value(d, depth+1)
			if err != nil {
				return nil, err
			}
			list = append(list, v)
		}
		_, err = d.Token()
		return list, err
	}
	object := map[string]any{}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, err
		}
		if _, twice := object[name.(string)]; twice {
			return nil, fmt.Errorf("the member %q comes twice", name)
		}
		if object[name.(string)], err = value(d, depth+1); err != nil {
			return nil, err
		}
	}
	_, err = d.Token()
	return object, err
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
