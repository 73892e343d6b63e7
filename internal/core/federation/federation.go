// Package federation holds the domain types, Provider and Application, the
// [Side] by which a protocol takes part in them, and the immutable snapshot of
// all configuration that a sign-in is decided on.
//
//	snap := federation.NewSnapshot(gate).With(p, a)
//	app, ok := snap.ApplicationBy("saml", "https://roster.wrenmoor.example/saml")
//
// A snapshot is never changed. Saving something makes a new one that shares all
// unchanged objects with the old.
package federation

import (
	"maps"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/keys"
)

// Name is a short name: [a-z0-9][a-z0-9-]{0,62}, chosen once, never changed.
type Name string

// ParseName reads a short name.
func ParseName(s string) (Name, error) {
	ok := len(s) >= 1 && len(s) <= 63 && s[0] != '-'
	for _, c := range s {
		ok = ok && (c >= 'a' && c <= 'z' || c >= '0' && c <= '9' || c == '-')
	}
	if !ok {
		f := finding.New(finding.NameMalformed, finding.Fact("Given", s))
		if near := NearName(s); near != "" && near != s {
			f = f.With(finding.Fact("Near to it", near))
		}
		return "", f
	}
	return Name(s), nil
}

// NearName turns a text into a short name, if something is left of it; "" if not.
func NearName(s string) string {
	s = strings.Trim(strings.Map(func(r rune) rune {
		switch {
		case r >= 'a' && r <= 'z', r >= '0' && r <= '9', r == '-':
			return r
		case r >= 'A' && r <= 'Z':
			return r + 32
		case r == ' ', r == '_', r == '.', r == '/', r == ':':
			return '-'
		}
		return -1
	}, s), "-")
	for strings.Contains(s, "--") {
		s = strings.ReplaceAll(s, "--", "-")
	}
	return s[:min(len(s), 63)]
}

// Gate is what the gate itself is.
type Gate struct {
	// PublicMail are domains of e-mail addresses that anybody can have: they are no organisation's.
	PublicMail MailDomains
	Base       string // public base address: an origin, without a slash at the end
	// FirstBase is the one that the data began with, "" if that is not known.
	FirstBase string
	Skew      time.Duration // allowed difference of clocks
	// SignInLife is how long a sign-in counts here, unless the provider limits it; 0
	// for the usual.
	SignInLife time.Duration
	// Own are values that were stored when they were first made and are never
	// computed again from the base address, such as entity IDs of our own.
	Own map[string]string
	// Keys are the gate's own keys by purpose; protocols say which they need.
	Keys map[string]KeySet
	// Pairwise is the secret that names of people for one application are derived
	// with. It is in backups and never changes with a sealing key.
	Pairwise []byte
	// Handles is the secret that codes and tokens without meaning are made with.
	Handles []byte
	// Contexts ranks how people prove who they are.
	Contexts Ranking

	// Portal is the page of the gate's own where people find their applications, nil for none: people sign in to it as
	// to an application.
	Portal *Application

	// Mails says that it can mail people.
	Mails bool

	// Publisher is who runs the gate, for documents about it; see also
	// SignedDocuments.
	Publisher Publisher

	// Purposes are what the keys are for.
	Purposes []Purpose

	onlyCurrent bool   // see OnlyCurrentKeys
	signID      string // see SignedDocuments
}

// Publisher is who runs the gate, for documents that describe it.
type Publisher struct {
	Organisation, URL string // both or neither
	Contact, Mail     string
	Policy            string // address of its privacy policy, "" if there is none
}

// KeySet is the key pairs of one purpose through a roll-over: the next one is
// announced before it is used, old ones are kept for what was encrypted to them.
type KeySet struct {
	Current *keys.Pair
	Next    *keys.Pair // nil if none is announced
	Old     []*keys.Pair
}

// Published are the certificates that are given out, the current one first.
func (k KeySet) Published() []keys.Certificate {
	out := []keys.Certificate{}
	for _, p := range []*keys.Pair{k.Current, k.Next} {
		if p != nil {
			out = append(out, p.Certificate)
		}
	}
	return out
}

// All are all pairs, the current one first.
func (k KeySet) All() []*keys.Pair {
	var out []*keys.Pair
	for _, p := range append([]*keys.Pair{k.Current, k.Next}, k.Old...) {
		if p != nil {
			out = append(out, p)
		}
	}
	return out
}

// OnlyCurrentKeys gives a copy of the gate without announced keys, for documents
// that are uploaded where only one key is taken.
func (g Gate) OnlyCurrentKeys() Gate {
	g.Keys = maps.Clone(g.Keys)
	for purpose, set := range g.Keys {
		set.Next = nil
		g.Keys[purpose] = set
	}
	g.onlyCurrent = true
	return g
}

// OneKey reports whether it is such a copy.
func (g *Gate) OneKey() bool { return g.onlyCurrent }

// KeysOf gives the keys of an application's own, as they are given out.
func (g *Gate) KeysOf(a *Application) KeySet {
	set := a.Keys
	if g.onlyCurrent {
		set.Next = nil
	}
	return set
}

// Does says what the keys of a purpose are for, like "signs answers".
func (g *Gate) Does(purpose string) string {
	for _, p := range g.Purposes {
		if p.Name == purpose {
			return p.Does
		}
	}
	return "uses"
}

// SignedDocuments gives a copy of the gate whose documents are signed; id is that
// of the document.
func (g Gate) SignedDocuments(id string) Gate {
	g.signID = id
	return g
}

// SignAs is the ID under which documents are to be signed, "" if they are not.
func (g *Gate) SignAs() string { return g.signID }

// Expired reports whether the metadata is past its validUntil and nobody may pass
// for that.
func (b *Basics) Expired(now time.Time) bool {
	return b.StrictValidity && !b.Intake.ValidUntil.IsZero() && !now.Before(b.Intake.ValidUntil)
}
