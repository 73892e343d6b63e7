package xmlsec

import (
	"bytes"
	"unicode/utf8"
)

// Character classes of XML 1.0 §2.2, §2.3 as far as ASCII goes; the rest is
// decided by ranges.
const (
	classStart = 1 << iota // may begin a name, the colon excepted
	className              // may stand in a name, the colon excepted
	classSpace
	classIllegal // may not appear at all
	classStop    // ends a run of text that needs no second look
)

var class = func() (t [256]byte) {
	for c := 0; c < 0x20; c++ {
		t[c] = classIllegal | classStop
	}
	for _, c := range " \t\n\r" {
		t[c] = classSpace
	}
	for _, c := range "<&\r]" {
		t[c] |= classStop
	}
	for c := 0x80; c < 0x100; c++ {
		t[c] = classStop
	}
	for c := 'a'; c <= 'z'; c++ {
		t[c], t[c-32] = classStart|className, classStart|className
	}
	for c := '0'; c <= '9'; c++ {
		t[c] = className
	}
	t['_'] = classStart | className
	t['-'], t['.'] = className, className
	return t
}()

// isStartRune is NameStartChar without the colon, XML 1.0 §2.3 [4].
func isStartRune(r rune) bool {
	if r < 0x80 {
		return class[r]&classStart != 0
	}
	return r >= 0xC0 && r <= 0x2FF && r != 0xD7 && r != 0xF7 ||
		r >= 0x370 && r <= 0x1FFF && r != 0x37E || r == 0x200C || r == 0x200D ||
		r >= 0x2070 && r <= 0x218F || r >= 0x2C00 && r <= 0x2FEF ||
		r >= 0x3001 && r <= 0xD7FF || r >= 0xF900 && r <= 0xFDCF ||
		r >= 0xFDF0 && r <= 0xFFFD || r >= 0x10000 && r <= 0xEFFFF
}

// isNameRune is NameChar without the colon, XML 1.0 §2.3 [4a].
func isNameRune(r rune) bool {
	if r < 0x80 {
		return class[r]&className != 0
	}
	return isStartRune(r) || r == 0xB7 || r >= 0x300 && r <= 0x36F || r == 0x203F || r == 0x2040
}

// isNCName reports whether s is a name without colon (Namespaces in XML §3).
func isNCName(s []byte) bool {
	if len(s) == 0 {
		return false
	}
	for i := 0; i < len(s); {
		r, n := rune(s[i]), 1
		if r >= 0x80 {
			if r, n = utf8.DecodeRune(s[i:]); r == utf8.RuneError && n <= 1 {
				return false
			}
		}
		if i == 0 && !isStartRune(r) || !isNameRune(r) {
			return false
		}
		i += n
	}
	return true
}

// isChar is Char, XML 1.0 §2.2 [2].
func isChar(r rune) bool {
	return r == '\t' || r == '\n' || r == '\r' || r >= 0x20 && r <= 0xD7FF ||
		r >= 0xE000 && r <= 0xFFFD || r >= 0x10000 && r <= 0x10FFFF
}

// IsText reports whether a text can stand in XML (XML 1.0 §2.2): no escape makes U+0000 to
// U+001F (but tab and line ends), U+FFFE and U+FFFF legal.
func IsText(s string) bool { return legal([]byte(s)) }

// legal reports whether all of s is UTF-8 of legal characters.
func legal(s []byte) bool {
	ascii := true
	for _, c := range s {
		if class[c]&classIllegal != 0 {
			return false
		}
		ascii = ascii && c < 0x80
	}
	if ascii {
		return true
	}
	return utf8.Valid(s) && !bytes.Contains(s, []byte("\uFFFE")) && !bytes.Contains(s, []byte("\uFFFF"))
}

// incompleteTail is the number of octets at the end of s that begin a character
// without finishing it.
func incompleteTail(s []byte) int {
	for n := 1; n <= 3 && n <= len(s); n++ {
		c := s[len(s)-n]
		if c < 0x80 {
			return 0
		}
		if c >= 0xC0 {
			if !utf8.FullRune(s[len(s)-n:]) {
				return n
			}
			return 0
		}
	}
	return 0
}

func isSpace(s []byte) bool {
	for _, c := range s {
		if class[c]&classSpace == 0 {
			return false
		}
	}
	return true
}

// IsID reports whether a text can be an xs:ID: a name without a colon (XML
// Schema 2 §3.3.8).
func IsID(s string) bool { return isNCName([]byte(s)) }

// Markup reports whether a document begins as markup does: with < after a byte
// order mark and white space, if there are any, in UTF-8 or UTF-16.
func Markup(octets []byte) bool {
	for _, bom := range []string{"\xEF\xBB\xBF", "\xFE\xFF", "\xFF\xFE"} {
		if rest, ok := bytes.CutPrefix(octets, []byte(bom)); ok {
			octets = rest
			break
		}
	}
	octets = bytes.TrimLeft(octets, " \t\r\n\x00")
	return bytes.HasPrefix(octets, []byte("<"))
}

// LeadingSpace is how many octets of white space stand before the markup of a
// document in UTF-8. XML allows none before its declaration (XML 1.0 §2.8);
// whoever hands over metadata often pasted it.
func LeadingSpace(octets []byte) int {
	rest := bytes.TrimLeft(bytes.TrimPrefix(octets, []byte("\xEF\xBB\xBF")), " \t\r\n")
	if !bytes.HasPrefix(rest, []byte("<")) {
		return 0
	}
	return len(octets) - len(rest)
}
