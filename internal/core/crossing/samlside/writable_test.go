package samlside_test

import (
	"encoding/json"
	"os/exec"
	"strings"
	"testing"

	"crypto/rand"

	"github.com/stretchr/testify/require"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/crossing/samlside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/profile"
)

// What cannot stand in XML is never written: a name or a mandatory attribute refuses the
// answer, other values are left out, and the trace says so. xmllint reads what is sent.
func TestOnlyXMLIsWritten(t *testing.T) {
	w := newWorld(t)
	side := w.app.Side.(*samlside.Application)
	require.NoError(t, json.Unmarshal([]byte(`{"rest":true,"rules":[{"to":{"name":"number"},"from":[{"attribute":"number"}],"mandatory":true}]}`), &w.app.ReleaseMapping))
	own, err := side.Unasked(&w.snap.Gate, w.app, crossing.Landing{})
	require.NoError(t, err)
	for _, odd := range []string{"\x01", "\x07", "\x00", "\x1f", "\ufffe", "\uffff", "\xff"} {
		for rule, c := range map[string]struct {
			name, context string
			attributes    []profile.Attribute
			refused       bool
			sent, notes   int
		}{
			"a name": {name: "a" + odd, refused: true},
			"one of two values": {name: "a", attributes: []profile.Attribute{{Name: "title",
				Values: profile.Texts("Driver", "x"+odd)}}, sent: 1, notes: 1},
			"all values": {name: "a", attributes: []profile.Attribute{{Name: "title", Values: profile.Texts(odd)}},
				notes: 1},
			"the attribute's name": {name: "a", attributes: []profile.Attribute{{Name: "ti" + odd + "tle",
				Values: profile.Texts("Driver")}}, notes: 1},
			"a mandatory attribute": {name: "a", attributes: []profile.Attribute{{Name: "number", Values: profile.Texts(odd)}},
				refused: true},
			"a context": {name: "a", context: "urn:x" + odd, notes: 1},
			"nothing": {name: "a", attributes: []profile.Attribute{{Name: "title",
				Values: profile.Texts("Dri\tver\n\U0001F682")}}, sent: 1},
		} {
			plan, err := side.Answer(crossing.AnswerIn{Gate: &w.snap.Gate, App: w.app, Own: own, Now: now, New: "n",
				Released: profile.Released{Name: profile.Name{Kind: profile.Given, Subject: profile.Subject{Value: c.name}},
					Attributes: c.attributes},
				Answer: &crossing.Answer{Authentication: crossing.Authentication{At: now, Context: c.context}}})
			if c.refused {
				require.True(t, finding.Is(err, finding.ValueNotXML), "%q %s", odd, rule)
				continue
			}
			require.NoError(t, err)
			require.Len(t, plan.(crossing.Noting).Notes(), c.notes, "%q %s", odd, rule)
			out, err := plan.Render(&w.snap.Gate, crossing.Made{Random: rand.Reader, Now: now})
			require.NoError(t, err)
			lint := exec.Command("xmllint", "--noout", "-")
			lint.Stdin = strings.NewReader(string(out.Octets))
			said, err := lint.CombinedOutput()
			require.NoError(t, err, "%q %s: %s", odd, rule, said)
			require.Equal(t, c.sent, strings.Count(string(out.Octets), "<saml:AttributeValue"), "%q %s", odd, rule)
		}
		require.Error(t, federation.CheckText("urn:gate"+odd, false), "settings refuse it: %q", odd)
	}
}
