// Package signout decides what follows when a session ends: who was told somebody
// in it, and how each of them hears that this is over. It stands beside the crossing
// and is made like it: nothing is stored or sent here.
//
//	for _, n := range signout.Plan(snap, issued) { … into the outbox, with the end of the session … }
//
// Applications that hear through the back channel are told by whoever keeps the
// outbox, until they have heard; a try that fails holds up nobody.
package signout

import (
	"encoding/json"

	"innergate.example/innergate/internal/core/crossing"
	"innergate.example/innergate/internal/core/federation"
)

// Issued is what one application was told in a session.
type Issued struct {
	App     federation.ID
	Session string          // as it was told the session
	Name    json.RawMessage // and the person, which only its side reads
}

// Notice is what one application is told.
type Notice struct {
	App federation.ID
	crossing.Notice
}

// Plan says whom to tell, each once however often it was told somebody. One that was
// removed, or does not want to hear, is left out; one that is paused is told all the
// same: it holds sessions of its own.
func Plan(snap *federation.Snapshot, issued []Issued) (out []Notice) {
	type telling struct {
		app     federation.ID
		session string
	}
	done := map[telling]bool{}
	for _, i := range issued {
		app, ok := snap.ApplicationOf(i.App)
		if !ok || done[telling{i.App, i.Session}] {
			continue
		}
		done[telling{i.App, i.Session}] = true
		side := crossing.Of(app.Side).Hearing
		if side == nil {
			continue
		}
		if n, wants := side.SignedOut(i.Session, i.Name); wants {
			out = append(out, Notice{i.App, n})
		}
	}
	return out
}
