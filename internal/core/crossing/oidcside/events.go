package oidcside

import (
	"errors"
	"strconv"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/core/person"
	"innergate.example/innergate/internal/core/rehearsal"
)

// PeopleChanged names the one event that tokens about people are of (RFC 8417 §2.2; a URI by RFC 4151).
const PeopleChanged = "tag:innergate.example,2026:people-changed"

// RehearsalsTurned names the one event that tokens about rehearsals are of.
const RehearsalsTurned = "tag:innergate.example,2026:rehearsals-turned"

// News is what a recipient is told at once.
type News struct {
	To     string // address of the recipient
	ID     string // random
	Events []person.Event
	Turns  []rehearsal.Turned // of a recipient that is told about rehearsals
	After  int64              // number of the last event before them that it has heard
	Gone   bool               // events between are not kept any more
	Now    time.Time
}

// EventToken makes a security event token of what was done to people (RFC 8417), to be pushed to a recipient (RFC
// 8935). It is signed as ID tokens are, with RS256; who it is about stands in each change (RFC 9493 §3.2.4).
func EventToken(g *federation.Gate, n News) (string, error) {
	set := g.Keys[purposes[Algorithms[0]]]
	if set.Current == nil {
		return "", errors.New("there is no key to sign event tokens with")
	}
	sign, err := oidc.NewSigner(set.Current.Signer())
	if err != nil {
		return "", err
	}
	changes := make([]any, len(n.Events))
	for i, e := range n.Events {
		changes[i] = changed{Number: e.ID, At: e.At.Unix(), About: subjectID{"opaque", strconv.FormatInt(e.Person, 10)},
			Via: string(e.Via), Who: e.Who, Did: e.Did}
	}
	name, about := PeopleChanged, map[string]any{"after": n.After, "changes": changes}
	if len(n.Turns) > 0 {
		name, about["changes"] = RehearsalsTurned, n.Turns
	}
	if n.Gone {
		about["gone"] = true
	}
	return sign.Sign(oidc.EventToken, map[string]any{"iss": Issuer(g), "aud": n.To, "iat": n.Now.Unix(), "jti": n.ID,
		"events": map[string]any{name: about}})
}

// changed is one change as recipients read it.
type changed struct {
	Number int64     `json:"number"`
	At     int64     `json:"at"` // seconds since 1970, as iat
	About  subjectID `json:"sub_id"`
	Via    string    `json:"via"`
	Who    string    `json:"who,omitempty"`
	person.Did
}

// subjectID names somebody by the number of their account (RFC 9493 §3.2.4).
type subjectID struct {
	Format string `json:"format"`
	ID     string `json:"id"`
}
