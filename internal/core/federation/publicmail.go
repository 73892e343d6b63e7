package federation

import (
	"fmt"
	"strings"

	"innergate.example/innergate/internal/core/profile"
)

// MailDomains are domains of e-mail addresses that anybody can have.
type MailDomains map[string]bool

// ReadMailDomains reads a list with one domain a line; what follows # is a remark. The error names the line.
func ReadMailDomains(text string) (MailDomains, error) {
	out := MailDomains{}
	n := 0
	for line := range strings.Lines(text) {
		n++
		line, _, _ = strings.Cut(line, "#")
		if line = strings.TrimSpace(line); line == "" {
			continue
		}
		domain, ok := profile.Domain(line)
		if !ok || CheckDomain(domain) != nil {
			return nil, fmt.Errorf("line %d: %.100q is no domain; write one a line, like mail.example", n, line)
		}
		out[domain] = true
	}
	return out, nil
}

// Has reports whether a domain is one of them.
func (m MailDomains) Has(domain string) bool {
	domain, _ = profile.Domain(domain)
	return m[domain]
}
