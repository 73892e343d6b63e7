// Package strictjson reads JSON that is believed: documents that readers could take
// differently are refused.
//
//	o, err := strictjson.Object([]byte(`{"sub":"ada"}`), 32)
package strictjson

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"io"
)

// Object reads a JSON object of at most so many levels in which no member comes
// twice (RFC 8259 §4 leaves open what that would mean; RFC 7515 §4 forbids it).
// Numbers stay as written, as json.Number.
func Object(octets []byte, levels int) (map[string]any, error) {
	d := json.NewDecoder(bytes.NewReader(octets))
	d.UseNumber()
	v, err := value(d, levels)
	if err != nil {
		return nil, said(err)
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

// Once reports the member of a document, of at most so many levels, that comes twice in its
// object; a document that is not JSON is an error too.
func Once(octets []byte, levels int) error {
	d := json.NewDecoder(bytes.NewReader(octets))
	_, err := value(d, levels)
	return said(err)
}

// said is an error of reading JSON in words.
func said(err error) error {
	var syntax *json.SyntaxError
	switch {
	case errors.As(err, &syntax):
		return fmt.Errorf("it is not JSON at character %d", syntax.Offset)
	case errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return errors.New("it is not JSON: it ends too early")
	}
	return err
}

func value(d *json.Decoder, levels int) (any, error) {
	t, err := d.Token()
	if err != nil {
		return nil, err
	}
	open, ok := t.(json.Delim)
	switch {
	case !ok:
		return t, nil
	case levels == 0:
		return nil, errors.New("it has too many levels")
	case open == '[':
		list := []any{}
		for d.More() {
			v, err := value(d, levels-1)
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
		if object[name.(string)], err = value(d, levels-1); err != nil {
			return nil, err
		}
	}
	_, err = d.Token()
	return object, err
}
