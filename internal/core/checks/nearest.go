package checks

import (
	"cmp"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/nearword"
	"innergate.example/innergate/internal/core/policy"
)

// Nearest adds to a finding on somebody unknown who was probably meant, by the
// configuration of now: the record with the nearest identity or name; or the one
// that has the identity, at a face of its own. It is for whoever reads the finding;
// a sign-in never waits for it.
func Nearest(snap *federation.Snapshot, f *finding.Finding) *finding.Finding {
	if f == nil || len(f.Evidence) == 0 || f.Evidence[0].Found == "" {
		return f
	}
	given := f.Evidence[0].Found
	switch f.Code {
	case finding.GroupValueUnknown:
		return nearestGroups(snap, f)
	case finding.StartUnknown:
		if near := nearword.Of(given, snap.Names(federation.KindApplication)); near != "" {
			return f.With(finding.Fact("Near to it", near))
		}
	case finding.ApplicationUnknown:
		return nearestApplication(snap, f, given)
	case finding.RedirectUnregistered:
		for _, a := range snap.Applications() {
			if slices.ContainsFunc(a.Side.Endpoints(), func(e federation.Endpoint) bool { return e.Location == given }) {
				return f.With(finding.Fact("It is on the record of", string(a.Name)))
			}
		}
	}
	return f
}

// nearestGroups names the values near to those that mean nothing.
func nearestGroups(snap *federation.Snapshot, f *finding.Finding) *finding.Finding {
	var called []string
	for _, g := range snap.Units(federation.KindGroup) {
		called = append(called, policy.CalledOf(g)...)
	}
	out := f
	for _, e := range f.Evidence {
		if e.Label != "Value" {
			continue
		}
		if near := nearword.Of(strings.TrimSpace(e.Found), called); near != "" {
			out = out.With(finding.Compare("Near to it", near, e.Found))
		}
	}
	return out
}

func nearestApplication(snap *federation.Snapshot, f *finding.Finding, given string) *finding.Finding {
	var ids []string
	near, how := "", ""
	for _, a := range snap.Applications() {
		id := a.Identity()
		switch {
		case id == given && a.Side.Shared() == federation.Alone:
			return f.With(finding.Fact("On record as", string(a.Name)+", which has a face of its own: use "+
				a.Side.Sheet(snap, a).MetadataAddress))
		case id != "":
			ids = append(ids, id)
		}
		if n := Nearness(id, given); n != "" {
			near, how = id, n
		}
	}
	if near = cmp.Or(near, nearword.Of(given, ids)); near == "" {
		return f
	}
	f = f.With(finding.Compare("Nearest on record", near, given))
	if how != "" {
		f = f.With(finding.Fact("They differ by", how))
	}
	return f
}
