package gate

import (
	"context"
	"encoding/base64"
	"encoding/json"
	"errors"
	"regexp"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/xmlsec"
	"innergate.example/innergate/internal/store"
)

// Traces lists traces, newest first, with the number for each result.
func (g *Gate) Traces(ctx context.Context, f store.TraceFilter) ([]store.TraceRow, map[string]int64, error) {
	return g.store.Traces.List(ctx, f)
}

// Trace gives one trace with its steps. What could still be used by whoever
// reads it is held back: the SignatureValue of an assertion until it expires.
func (g *Gate) Trace(ctx context.Context, id string) (store.TraceRow, []crossing.TraceStep, error) {
	head, raw, err := g.store.Traces.Get(ctx, strings.ToUpper(strings.TrimSpace(id)))
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return head, nil, &NotFoundError{Kind: "trace", Name: id}
	}
	if err != nil {
		return head, nil, err
	}
	steps := make([]crossing.TraceStep, len(raw))
	for i, octets := range raw {
		if err := json.Unmarshal(octets, &steps[i]); err != nil {
			return head, nil, err
		}
		withhold(&steps[i], g.now())
	}
	return head, steps, nil
}

var signatureValue = regexp.MustCompile(`(?s)(SignatureValue[^>]*>)[^<]*(<)`)

// withhold takes out of a message what could still be used, and indents the
// rest.
func withhold(s *crossing.TraceStep, now time.Time) {
	if !now.Before(s.HoldUntil) {
		s.HoldUntil = time.Time{}
	} else if s.Octets != "" {
		s.Octets = signatureValue.ReplaceAllString(s.Octets, "${1}held back until "+s.HoldUntil.UTC().Format(time.RFC3339)+"${2}")
		s.Raw = base64.StdEncoding.EncodeToString([]byte(s.Octets))
	} else if s.Raw != "" {
		s.Raw = "held back until " + s.HoldUntil.UTC().Format(time.RFC3339)
	}
	if doc, err := xmlsec.Parse([]byte(s.Octets), xmlsec.MessageLimits); err == nil {
		s.Octets = string(doc.Root.Indented())
	}
}
