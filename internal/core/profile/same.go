package profile

import (
	"strings"
	"unicode"
	"unicode/utf8"

	"golang.org/x/net/idna"
)

// What decides who somebody is compares values here, as the standard of each says, and
// joins no two letters that only look alike: the dotted capital İ (U+0130) is no i, the
// Kelvin sign (U+212A) is no k. Searching may be more generous: see Fold.

// Key gives what two values of an attribute have in common exactly if they mean the same:
// of an e-mail address (RFC 5321 §2.3.11) the domain as DNS has it (Domain) and the local
// part in small ASCII letters, of a user name (RFC 7643 §4.1.1, not case exact) small ASCII
// letters, of everything else the value itself. ASCII white space around it does not count.
func Key(name, value string) string {
	value = trimmed(value)
	switch {
	case Means(name, ClaimEmail):
		if address, ok := Address(value); ok {
			at := strings.LastIndex(address, "@")
			return lowerASCII(address[:at]) + address[at:]
		}
	case Means(name, "preferred_username"):
		return lowerASCII(value)
	}
	return value
}

// Same reports whether two values of an attribute mean the same.
func Same(name, a, b string) bool { return Key(name, a) == Key(name, b) }

// Address is an e-mail address as it is kept, compared and mailed to: the local part as it
// stands, the domain as DNS has it. ok is false for what is none (RFC 5321 §4.1.2).
func Address(s string) (address string, ok bool) {
	at := strings.LastIndex(s, "@")
	if at <= 0 || at > 64 || !utf8.ValidString(s) || strings.ContainsFunc(s[:at], notLocal) {
		return "", false
	}
	domain, ok := Domain(s[at+1:])
	return s[:at] + "@" + domain, ok
}

// notLocal reports whether a letter cannot stand in a local part without quotes (RFC 5322
// §3.2.3, RFC 6531 §3.3); quoted ones are not taken.
func notLocal(r rune) bool {
	return r <= ' ' || r == 0x7f || r >= 0x80 && (unicode.IsSpace(r) || unicode.IsControl(r) ||
		unicode.Is(unicode.Cf, r)) ||
		strings.ContainsRune(`"(),:;<>@[\]`, r)
}

// DomainOf is the domain of an e-mail address as DNS has it, "" if it is no address.
func DomainOf(address string) string {
	address, ok := Address(trimmed(address))
	if !ok {
		return ""
	}
	return address[strings.LastIndex(address, "@")+1:]
}

// domains reads names of domains (RFC 5891 §4): nothing is mapped, so that a name has one
// spelling beside that of capital letters.
var domains = idna.New(idna.ValidateForRegistration(), idna.StrictDomainName(true), idna.BidiRule(),
	idna.VerifyDNSLength(true))

// Domain is a domain as DNS has it: A-labels (RFC 5890 §2.3.2.1) in small letters. ok is
// false for what is none, or has a letter that UTS 46 would map to another one than its own
// small letter, such as a full-width one or a ligature.
func Domain(s string) (domain string, ok bool) {
	if !strings.Contains(s, ".") || strings.HasSuffix(s, ".") {
		return "", false
	}
	if lower := lowerASCII(s); plainDomain(lower) {
		return lower, len(lower) <= 253
	}
	small := Small(s)
	if strings.ContainsFunc(small, func(r rune) bool { return r >= utf8.RuneSelf && unicode.ToLower(r) != r }) {
		return "", false
	}
	domain, err := domains.ToASCII(small)
	return domain, err == nil && plainDomain(domain)
}

// plainDomain reports whether a text is the domain of e-mail addresses in letters, digits and
// hyphens (RFC 1123 §2.1), without A-labels that have to be looked at.
func plainDomain(d string) bool {
	for label := range strings.SplitSeq(d, ".") {
		if label == "" || len(label) > 63 || label[0] == '-' || label[len(label)-1] == '-' ||
			strings.Trim(label, "abcdefghijklmnopqrstuvwxyz0123456789-") != "" {
			return false
		}
		if rest, is := strings.CutPrefix(label, "xn--"); is {
			if _, err := domains.ToUnicode("xn--" + rest); err != nil {
				return false
			}
		}
	}
	return true
}

// Small gives a text in small letters, but for letters that share their small letter with
// another one: these stay as they are, and so stay apart.
func Small(s string) string {
	return strings.Map(func(r rune) rune {
		if small := unicode.ToLower(r); unicode.ToUpper(small) == r {
			return small
		}
		return r
	}, s)
}

// capitals is the counterpart of Small.
func capitals(s string) string {
	return strings.Map(func(r rune) rune {
		if large := unicode.ToUpper(r); unicode.ToLower(large) == r {
			return large
		}
		return r
	}, s)
}

func lowerASCII(s string) string {
	for i := range len(s) {
		if c := s[i]; 'A' <= c && c <= 'Z' {
			return strings.Map(func(r rune) rune {
				if 'A' <= r && r <= 'Z' {
					return r + 'a' - 'A'
				}
				return r
			}, s)
		}
	}
	return s
}

func trimmed(s string) string { return strings.Trim(s, " \t\r\n") }
