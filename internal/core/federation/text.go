package federation

import (
	"errors"
	"fmt"
	"regexp"
	"strings"
	"unicode"
	"unicode/utf8"
)

// privateKey is how private keys begin in PEM (RFC 7468 §10, §11 and what is older).
var privateKey = regexp.MustCompile(`-----BEGIN [A-Z0-9 ]*PRIVATE KEY`)

// CheckText sees whether a text may be kept: nobody hands a private key over, and
// control characters would do something else than be read, in XML, in headers, in
// a terminal. lines says that it may have several.
func CheckText(s string, lines bool) error {
	switch {
	case !utf8.ValidString(s):
		return errors.New("it is not in UTF-8")
	case privateKey.MatchString(s):
		return errors.New("there is a private key in it, which nobody else may have; take another one, and give only " +
			"its certificate")
	}
	for _, r := range s {
		if lines && strings.ContainsRune("\n\r\t", r) {
			continue
		}
		if unicode.IsControl(r) || r == '\u2028' || r == '\u2029' || r >= '\u202a' && r <= '\u202e' ||
			r >= '\u2066' && r <= '\u2069' || r == '\uFFFE' || r == '\uFFFF' {
			return fmt.Errorf("there is a control character in it, U+%04X; leave it out", r)
		}
	}
	return nil
}

// SameHost reports whether two hosts are the same in any case (RFC 3986 §6.2.2.1). One with
// letters beyond ASCII is none: it would have to be looked at as DNS has it.
func SameHost(a, b string) bool {
	return len(a) == len(b) && strings.IndexFunc(a+b, func(r rune) bool { return r >= utf8.RuneSelf }) < 0 &&
		strings.EqualFold(a, b)
}

// Article puts the article before the name of a kind.
func Article(kind string) string {
	if strings.ContainsAny(kind[:1], "aeiou") {
		return "an " + kind
	}
	return "a " + kind
}
