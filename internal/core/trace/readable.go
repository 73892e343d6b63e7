package trace

import (
	"bytes"
	"encoding/base64"
	"encoding/json"
	"strings"
)

// Readable puts a message in JSON into lines, for whoever reads a trace. Signed tokens
// in it, or one that is all of it, are shown as header and claims, without their
// signature (RFC 7515 §3). Other texts stay as they are.
func Readable(text string) string {
	if !strings.HasPrefix(text, "{") {
		if token, ok := opened(text); ok {
			return lined(token, text)
		}
		return text
	}
	d := json.NewDecoder(strings.NewReader(text))
	d.UseNumber()
	var members map[string]any
	if err := d.Decode(&members); err != nil || d.More() {
		return text
	}
	for name, v := range members {
		s, ok := v.(string)
		if !ok {
			continue
		}
		if token, is := opened(s); is {
			members[name] = json.RawMessage(token)
		}
	}
	octets, err := json.Marshal(members)
	if err != nil {
		return text
	}
	return lined(octets, text)
}

func lined(octets []byte, otherwise string) string {
	var out bytes.Buffer
	if err := json.Indent(&out, octets, "", "  "); err != nil {
		return otherwise
	}
	return out.String()
}

// opened is header and claims of a signed token in compact form; ok tells whether it is
// one.
func opened(token string) ([]byte, bool) {
	parts := strings.Split(token, ".")
	if len(parts) != 3 {
		return nil, false
	}
	var out [2]json.RawMessage
	for i := range out {
		octets, err := base64.RawURLEncoding.DecodeString(parts[i])
		if err != nil || !bytes.HasPrefix(octets, []byte("{")) || !json.Valid(octets) {
			return nil, false
		}
		out[i] = octets
	}
	octets, err := json.Marshal(map[string]json.RawMessage{"header": out[0], "claims": out[1]})
	return octets, err == nil
}
