package rpside

import (
	"encoding/base64"
	"regexp"
	"strings"

	"innergate.example/innergate/internal/core/crossing"
)

// Cover covers values in a message of OpenID Connect or OAuth 2.0.
func (*Provider) Cover(message string, by crossing.Cover) (string, bool) { return Covered(message, by) }

// Covered covers values in such messages, whichever side they are of: members of objects, and claims of tokens that
// stand in a text. A token of whose claims something is covered has no signature any more.
func Covered(message string, by crossing.Cover) (string, bool) {
	trimmed := strings.TrimLeft(message, " \t\r\n\ufeff")
	if strings.HasPrefix(trimmed, "{") || strings.HasPrefix(trimmed, "[") {
		if covered, ok := by.JSON([]byte(message)); ok {
			return string(covered), true
		}
	}
	if strings.HasPrefix(trimmed, "<") {
		return message, false
	}
	any := false
	out := compact.ReplaceAllStringFunc(message, func(token string) string {
		parts := strings.Split(token, ".")
		claims, err := base64.RawURLEncoding.DecodeString(parts[1])
		if err != nil {
			return token
		}
		covered, ok := by.JSON(claims)
		if !ok {
			return token
		}
		any = true
		return parts[0] + "." + base64.RawURLEncoding.EncodeToString(covered) + "."
	})
	return out, any
}

// compact finds signed tokens in compact form (RFC 7515 §3.1).
var compact = regexp.MustCompile(`\beyJ[\w-]+\.[\w-]+\.[\w-]*`)
