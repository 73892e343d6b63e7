package compare

import (
	"fmt"
	"regexp"
	"slices"
	"strings"

	"innergate.example/innergate/internal/core/profile"
)

// changes are those of what is told that would have more accounts fit, the best first.
// Each is tried on all lines that fit one person, those that fit exactly too: what a
// change would break counts against it.
func changes(lines []Line) (out []Improvement) {
	domains := map[[2]string]int{}
	for i := range lines {
		if l := &lines[i]; l.Verdict == Domain {
			domains[[2]string{domainOf(l.Value), domainOf(l.Account)}]++
		}
	}
	tries := []Improvement{
		{Steps: steps(lower), Say: "tell it in small letters"},
		{Steps: steps(upper), Say: "tell it in capital letters"},
		{Steps: steps(trim), Say: "tell it without white space around it"},
		{Steps: steps(trim, lower), Say: "tell it in small letters, without white space around it"},
		{Steps: steps(before), Say: "tell only what stands before the @"},
		{Steps: steps(before, lower), Say: "tell only what stands before the @, in small letters"},
		{Steps: steps(before, upper), Say: "tell only what stands before the @, in capital letters"},
	}
	for pair, n := range domains {
		if n > 0 && pair[0] != "" && pair[1] != "" && len(domains) <= 20 {
			tries = append(tries, Improvement{Steps: steps(domain(pair[0], pair[1])),
				Say: fmt.Sprintf("tell the domain %s in place of %s", pair[1], pair[0])},
				Improvement{Steps: steps(lower, domain(profile.Small(pair[0]), pair[1])),
					Say: fmt.Sprintf("tell it in small letters, with the domain %s in place of %s", pair[1],
						profile.Small(pair[0]))})
		}
	}
	for _, t := range tries {
		for i := range lines {
			if l := &lines[i]; l.Line != 0 && l.Person != 0 && l.Verdict != Ambiguous && l.Verdict != Disabled {
				was, is := l.Value == l.Account, apply(t.Steps, l.Value) == l.Account
				if is && !was {
					t.Gains++
				}
				if was && !is {
					t.Gains--
				}
			}
		}
		if t.Gains > 0 {
			out = append(out, t)
		}
	}
	slices.SortStableFunc(out, func(a, b Improvement) int {
		if a.Gains != b.Gains {
			return b.Gains - a.Gains
		}
		if len(a.Steps) != len(b.Steps) {
			return len(a.Steps) - len(b.Steps)
		}
		return strings.Compare(a.Say, b.Say)
	})
	out = slices.DeleteFunc(slices.Clone(out), func(t Improvement) bool {
		// One that takes further steps and gains no more is the same proposal once more.
		return slices.ContainsFunc(out, func(o Improvement) bool {
			return o.Gains >= t.Gains && len(o.Steps) < len(t.Steps) && !slices.ContainsFunc(o.Steps,
				func(s profile.Step) bool {
					return !slices.ContainsFunc(t.Steps, func(x profile.Step) bool {
						return x.Do == s.Do && x.Text == s.Text &&
							x.With == s.With
					})
				})
		})
	})
	return out[:min(len(out), 4)]
}

func domainOf(s string) string {
	_, domain, _ := strings.Cut(strings.TrimSpace(s), "@")
	return domain
}

// Steps of rules that changes are made of.
var (
	lower  = profile.Step{Do: profile.Lower}
	upper  = profile.Step{Do: profile.Upper}
	trim   = profile.Step{Do: profile.Trim}
	before = profile.Step{Do: profile.Before, Text: "@"}
)

func steps(all ...profile.Step) []profile.Step { return all }

// domain puts one domain in place of another.
func domain(from, to string) profile.Step {
	return profile.Step{Do: profile.Replace, Text: "@" + regexp.QuoteMeta(from) + "$", With: "@" +
		strings.ReplaceAll(to, "$", "$$")}
}

// apply does to a text what the steps of a change would: those that are tried here.
func apply(steps []profile.Step, text string) string {
	for _, s := range steps {
		switch s.Do {
		case profile.Lower:
			text = strings.ToLower(text)
		case profile.Upper:
			text = strings.ToUpper(text)
		case profile.Trim:
			text = strings.TrimSpace(text)
		case profile.Before:
			text, _, _ = strings.Cut(text, s.Text)
		case profile.Replace:
			at := strings.LastIndex(text, "@")
			if at >= 0 && "@"+regexp.QuoteMeta(text[at+1:])+"$" == s.Text {
				text = text[:at] + strings.ReplaceAll(s.With, "$$", "$")
			}
		}
	}
	return text
}
