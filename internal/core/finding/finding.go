// Package finding holds the catalogue of findings: everything that Inner Gate
// can diagnose, each with a stable code, a severity, the side that must act and
// the remedy. It imports nothing of ours, so every other package can refuse in
// its terms.
//
// A refusal anywhere in the core is a *Finding returned as an error:
//
//	return finding.New(finding.AudienceOther,
//		finding.Compare("Audience", ourEntityID, found))
//
// The texts live in catalogue.go and nowhere else; docs/findings.md is made
// from that table.
package finding

import (
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"strings"
	"time"
)

// Code is the stable name of a finding. Codes are never renamed.
type Code string

// Severity says how much a finding matters.
type Severity string

// Severities, from harmless to refusing.
const (
	Note    Severity = "note"
	Warning Severity = "warning"
	Error   Severity = "error"
)

// Compare puts the worse severity first: negative if s is worse than t.
func (s Severity) Compare(t Severity) int {
	weight := map[Severity]int{Error: 0, Warning: 1, Note: 2}
	return weight[s] - weight[t]
}

// Side is the party that has to act on a finding.
type Side string

// Sides. Sender stands for "whoever sent the document"; it is resolved to
// Provider or Application by the step that knows, with [Finding.From].
const (
	Provider    Side = "provider"
	Application Side = "application"
	Gate        Side = "gate"
	Browser     Side = "browser"
	Sender      Side = "sender"
)

// Evidence is one fact a finding rests on. Expected and Found are compared
// letter by letter where both are given.
type Evidence struct {
	Label    string `json:"label"`
	Expected string `json:"expected,omitempty"`
	Found    string `json:"found,omitempty"`
	// Passing says that it changes by itself as time goes by.
	Passing bool `json:"passing,omitempty"`
}

// Compare is evidence that two values should have been the same.
func Compare[E, F ~string](label string, expected E, found F) Evidence {
	return Evidence{Label: label, Expected: string(expected), Found: string(found)}
}

// ToConfirm labels the digest by which a change is confirmed that somebody loses something by.
const ToConfirm = "To confirm"

// Fact is evidence that consists of one value.
func Fact[F ~string](label string, found F) Evidence {
	return Evidence{Label: label, Found: string(found)}
}

// shown is how much of a value is shown, in octets.
const shown = 200

// Clip shortens what a stranger may have written, to be shown.
func Clip[T ~string](text T) string { return ClipTo(text, shown) }

// ClipTo shortens it to so many octets.
func ClipTo[T ~string](text T, most int) string {
	if len(text) <= most {
		return string(text)
	}
	return strings.ToValidUTF8(string(text[:most]), "") + "…"
}

// Passing is evidence that changes by itself as time goes by, like the days left
// until an end. It does not make another finding of one.
func Passing(label, found string) Evidence {
	return Evidence{Label: label, Found: found, Passing: true}
}

// Finding is one diagnosed fact. It is immutable once made and serves as error.
type Finding struct {
	Code     Code       `json:"code"`
	Severity Severity   `json:"severity"`
	Side     Side       `json:"side"`
	Title    string     `json:"title"`
	Remedy   string     `json:"remedy"`
	Evidence []Evidence `json:"evidence,omitempty"`
}

// New makes a finding from the catalogue. A code that is not in the catalogue
// is a programming error and panics.
func New(code Code, evidence ...Evidence) *Finding {
	e, ok := byCode[code]
	if !ok {
		panic("finding: code not in catalogue: " + string(code))
	}
	return &Finding{Code: code, Severity: e.Severity, Side: e.Side, Title: e.Title, Remedy: e.Remedy, Evidence: evidence}
}

// Error gives the title, the evidence and the way out in one line.
func (f *Finding) Error() string {
	var b strings.Builder
	b.WriteString(f.Title)
	for i, e := range f.Evidence {
		if i == 0 {
			b.WriteString(" (")
		} else {
			b.WriteString("; ")
		}
		b.WriteString(e.Label)
		switch {
		case e.Expected != "":
			b.WriteString(": expected " + quote(e.Expected) + ", found " + quote(e.Found))
		default:
			b.WriteString(": " + e.Found)
		}
	}
	if len(f.Evidence) > 0 {
		b.WriteString(")")
	}
	b.WriteString(". " + f.Remedy)
	return b.String()
}

func quote(s string) string {
	if s == "" {
		return "nothing"
	}
	return "“" + s + "”"
}

// From returns the finding with Sender replaced by the party that sent the
// document in question, in the side and in the texts.
func (f *Finding) From(side Side) *Finding {
	if f.Side != Sender {
		return f
	}
	g := *f
	g.Side = side
	g.Remedy = strings.ReplaceAll(g.Remedy, "the sender", "the "+string(side))
	return &g
}

// Mark is short for what a finding says: its code and evidence, but for what
// passes. The same finding on the same thing has the same mark later.
func (f *Finding) Mark() string {
	h := sha256.New()
	h.Write([]byte(f.Code))
	for _, e := range f.Evidence {
		if !e.Passing {
			h.Write([]byte("\x00" + e.Label + "\x00" + e.Expected + "\x00" + e.Found))
		}
	}
	return hex.EncodeToString(h.Sum(nil)[:8])
}

// With returns the finding with more evidence.
func (f *Finding) With(evidence ...Evidence) *Finding {
	g := *f
	g.Evidence = append(append([]Evidence(nil), f.Evidence...), evidence...)
	return &g
}

// Of finds the finding in an error, nil if there is none.
func Of(err error) *Finding {
	var f *Finding
	if errors.As(err, &f) {
		return f
	}
	return nil
}

// Is reports whether err is, or wraps, a finding of this code.
func Is(err error, code Code) bool {
	f := Of(err)
	return f != nil && f.Code == code
}

// Left is how long something goes on, in days, or hours on the last one.
func Left(d time.Duration) Evidence {
	n, unit := int(d.Hours()/24), "day"
	if n == 0 {
		n, unit = int(d.Hours()), "hour"
	}
	if n != 1 {
		unit += "s"
	}
	return Passing("Left", fmt.Sprintf("%d %s", n, unit))
}
