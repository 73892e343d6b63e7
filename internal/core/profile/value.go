package profile

import (
	"bytes"
	"encoding/json"
	"errors"
	"fmt"
	"regexp"
	"strings"
	"time"
	"unicode/utf8"

	"innergate.example/innergate/internal/core/strictjson"
)

// Type is that of a value.
type Type string

// Types of values.
const (
	Text      Type = "text"
	Number    Type = "number"
	Boolean   Type = "boolean"
	Time      Type = "time"
	Structure Type = "structure"
)

// Value is one value of an attribute. It never changes, and two are equal if they
// are of one type and say the same: a number is kept digit by digit as it was
// written, a time in UTC, a structure with its members in their order. The zero
// Value is the empty text.
type Value struct {
	kind Type   // "" is Text
	text string // of a number and a structure JSON (RFC 8259), of a time RFC 3339
}

// TextOf is a text.
func TextOf(s string) Value { return Value{text: s} }

// Texts are values that are texts.
func Texts(ss ...string) []Value {
	out := make([]Value, len(ss))
	for i, s := range ss {
		out[i] = TextOf(s)
	}
	return out
}

// number is the grammar of RFC 8259 §6.
var number = regexp.MustCompile(`^-?(0|[1-9][0-9]*)(\.[0-9]+)?([eE][+-]?[0-9]+)?$`)

// longestNumber bounds numbers, in digits and signs.
const longestNumber = 1000

// NumberOf reads a number as JSON writes it; ok is false for anything else.
func NumberOf(s string) (v Value, ok bool) {
	if len(s) > longestNumber || !number.MatchString(s) {
		return Value{}, false
	}
	return Value{Number, s}, true
}

// BooleanOf is true or false.
func BooleanOf(b bool) Value { return Value{Boolean, fmt.Sprint(b)} }

// TimeOf is a moment.
func TimeOf(t time.Time) Value { return Value{Time, t.UTC().Format(time.RFC3339Nano)} }

// depth of structures.
const maxDepth = 20

// StructureOf reads a JSON object. One with a member twice, which readers take
// differently (RFC 8259 §4), is an error, and so is one deeper than twenty.
func StructureOf(data []byte) (Value, error) {
	if _, err := strictjson.Object(data, maxDepth); err != nil {
		return Value{}, err
	}
	var out bytes.Buffer
	err := json.Compact(&out, data)
	return Value{Structure, unescaped(out.String())}, err
}

// written are letters that some writers of JSON escape and others do not; here they always
// stand as they are, so that a structure is the same octets however it was stored.
var written = map[string]string{"0026": "&", "003c": "<", "003e": ">", "2028": "\u2028", "2029": "\u2029"}

// unescaped is JSON without the escapes of these letters.
func unescaped(data string) string {
	if !strings.Contains(data, `\u`) {
		return data
	}
	var out strings.Builder
	for i := 0; i < len(data); {
		if data[i] != '\\' || i+1 >= len(data) {
			out.WriteByte(data[i])
			i++
			continue
		}
		if data[i+1] == 'u' && i+6 <= len(data) {
			if plain, is := written[strings.ToLower(data[i+2:i+6])]; is {
				out.WriteString(plain)
				i += 6
				continue
			}
		}
		out.WriteString(data[i : i+2])
		i += 2
	}
	return out.String()
}

// Type is what it is.
func (v Value) Type() Type {
	if v.kind == "" {
		return Text
	}
	return v.kind
}

// String is the value in words: a text as it is, a structure as JSON.
func (v Value) String() string { return v.text }

// True reports whether it is the boolean true.
func (v Value) True() bool { return v.kind == Boolean && v.text == "true" }

// MarshalJSON writes a text, number or boolean as JSON has them, and a time or a
// structure as an object whose one member says which.
func (v Value) MarshalJSON() ([]byte, error) {
	switch v.kind {
	case Number, Boolean:
		return []byte(v.text), nil
	case Time:
		return json.Marshal(map[Type]string{Time: v.text})
	case Structure:
		return json.Marshal(map[Type]json.RawMessage{Structure: json.RawMessage(v.text)})
	}
	return json.Marshal(v.text)
}

// UnmarshalJSON reads what MarshalJSON wrote.
func (v *Value) UnmarshalJSON(data []byte) (err error) {
	switch data = bytes.TrimSpace(data); {
	case bytes.HasPrefix(data, []byte(`"`)):
		*v = Value{}
		if n := len(data); n > 1 && data[n-1] == '"' && plainText(data[1:n-1]) {
			v.text = string(data[1 : n-1])
			return nil
		}
		return json.Unmarshal(data, &v.text)
	case string(data) == "true" || string(data) == "false":
		*v = BooleanOf(string(data) == "true")
		return nil
	case !bytes.HasPrefix(data, []byte("{")):
		var ok bool
		if *v, ok = NumberOf(string(data)); !ok {
			return fmt.Errorf("%.40q is no value", data)
		}
		return nil
	}
	return v.unmarshalTagged(data)
}

// unmarshalTagged reads an object with one member, by its exact name.
func (v *Value) unmarshalTagged(data []byte) (err error) {
	if _, err := strictjson.Object(data, maxDepth+1); err != nil {
		return err
	}
	var tagged map[Type]json.RawMessage
	if err := json.Unmarshal(data, &tagged); err != nil {
		return err
	}
	at, isTime := tagged[Time]
	structure, isStructure := tagged[Structure]
	switch {
	case len(tagged) != 1 || !isTime && !isStructure:
		err = errors.New("an object is no value; its one member says whether it is a time or a structure")
	case isTime:
		var t *time.Time
		if err = json.Unmarshal(at, &t); err == nil && t == nil {
			err = errors.New("a time is missing")
		} else if err == nil {
			*v = TimeOf(*t)
		}
	default:
		*v, err = StructureOf(structure)
	}
	return err
}

// plainText reports whether a text stands in JSON as it is.
func plainText(data []byte) bool {
	for _, c := range data {
		if c == '\\' || c == '"' || c < 0x20 {
			return false
		}
	}
	return utf8.Valid(data)
}

// Joined are values in words, in their order.
func Joined(vs []Value) string {
	out := make([]string, len(vs))
	for i, v := range vs {
		out[i] = v.String()
	}
	return strings.Join(out, ", ")
}
