// Package listed has values that are lists of words, or pairs of words: settings that people write in a line
// and that files and the API hold as arrays and objects.
//
//	var w listed.Words
//	_ = json.Unmarshal([]byte(`"openid email"`), &w) // or ["openid","email"]
//	w.String()                                        // "openid email"
//
// Both forms are read; arrays and objects are written.
package listed

import (
	"bytes"
	"encoding/json"
	"fmt"
	"net/url"
	"strings"
)

// Words is a list of words, which have no white space in them.
type Words []string

// ParseWords reads words that white space separates.
func ParseWords(text string) (w Words) { return append(w, strings.Fields(text)...) }

// String writes them in a line.
func (w Words) String() string { return strings.Join(w, " ") }

// MarshalJSON writes an array.
func (w Words) MarshalJSON() ([]byte, error) { return json.Marshal(append([]string{}, w...)) }

// UnmarshalJSON reads an array, or a line.
func (w *Words) UnmarshalJSON(octets []byte) error {
	if text, is := line(octets); is {
		*w = ParseWords(text)
		return nil
	}
	var words []string
	if err := json.Unmarshal(octets, &words); err != nil {
		return err
	}
	*w = nil
	for _, word := range words {
		if strings.ContainsFunc(word, space) || word == "" {
			return fmt.Errorf("%.100q is no word: white space separates words", word)
		}
		*w = append(*w, word)
	}
	return nil
}

// line is a text in JSON.
func line(octets []byte) (text string, is bool) {
	is = bytes.HasPrefix(bytes.TrimSpace(octets), []byte(`"`)) && json.Unmarshal(octets, &text) == nil
	return text, is
}

func space(r rune) bool { return strings.ContainsRune(" \t\r\n", r) }

// Pair is a name and what belongs to it.
type Pair struct{ Name, Value string }

// Pairs are pairs in the order in which they were given.
type Pairs []Pair

// Form is how pairs are written in a line.
type Form struct {
	Sign    string // between a name and its value
	Last    bool   // a name may have the sign in it
	Escaped bool   // white space is percent-encoded (RFC 3986 §2.1)
}

// Parse reads pairs that white space separates; a word without the sign is a name alone.
func (f Form) Parse(text string) (out Pairs) {
	for _, word := range strings.Fields(text) {
		p := Pair{Name: word}
		at := strings.Index(word, f.Sign)
		if f.Last {
			at = strings.LastIndex(word, f.Sign)
		}
		if at >= 0 {
			p = Pair{word[:at], word[at+len(f.Sign):]}
		}
		if f.Escaped {
			p.Name, p.Value = plain(p.Name), plain(p.Value)
		}
		out = append(out, p)
	}
	return out
}

func plain(word string) string {
	if text, err := url.PathUnescape(word); err == nil {
		return text
	}
	return word
}

// Line writes pairs in a line.
func (f Form) Line(pairs Pairs) string {
	words := []string{}
	for _, p := range pairs {
		if f.Escaped {
			p.Name, p.Value = escaped(p.Name), escaped(p.Value)
		}
		if p.Value != "" {
			p.Value = f.Sign + p.Value
		}
		words = append(words, p.Name+p.Value)
	}
	return strings.Join(words, " ")
}

var escapes = strings.NewReplacer("%", "%25", " ", "%20", "\t", "%09", "\r", "%0D", "\n", "%0A")

func escaped(word string) string { return escapes.Replace(word) }

// Unmarshal reads an object, or a line.
func (f Form) Unmarshal(octets []byte) (out Pairs, err error) {
	if text, is := line(octets); is {
		return f.Parse(text), nil
	}
	d := json.NewDecoder(bytes.NewReader(octets))
	if t, err := d.Token(); err != nil || t != json.Delim('{') {
		return nil, fmt.Errorf("%.100q is neither an object nor a text", octets)
	}
	for d.More() {
		name, err := d.Token()
		if err != nil {
			return nil, err
		}
		p := Pair{Name: name.(string)}
		if err := d.Decode(&p.Value); err != nil {
			return nil, fmt.Errorf("%s: %w", p.Name, err)
		}
		if p.Name == "" || !f.Escaped && strings.ContainsFunc(p.Name+p.Value, space) {
			return nil, fmt.Errorf("%.100q has white space in it, or no name", p.Name+f.Sign+p.Value)
		}
		out = append(out, p)
	}
	return out, nil
}

// Marshal writes an object in the order of the pairs.
func (Form) Marshal(pairs Pairs) ([]byte, error) {
	var b bytes.Buffer
	for i, p := range pairs {
		name, err := json.Marshal(p.Name)
		if err != nil {
			return nil, err
		}
		value, err := json.Marshal(p.Value)
		if err != nil {
			return nil, err
		}
		if i > 0 {
			b.WriteByte(',')
		}
		b.Write(append(append(name, ':'), value...))
	}
	return append(append([]byte{'{'}, b.Bytes()...), '}'), nil
}

// Equals is the usual form: NAME=VALUE.
var Equals = Form{Sign: "="}

// MarshalJSON writes an object.
func (p Pairs) MarshalJSON() ([]byte, error) { return Equals.Marshal(p) }

// UnmarshalJSON reads an object, or a line like a=b c.
func (p *Pairs) UnmarshalJSON(octets []byte) (err error) {
	*p, err = Equals.Unmarshal(octets)
	return err
}

// String writes them in a line.
func (p Pairs) String() string { return Equals.Line(p) }
