package approving

import (
	"context"
	"fmt"
	"sync"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/mailing"
)

// mostLetters is how many requests of one application are mailed within an hour; the others stand in the list alone.
const mostLetters = 20

// letters counts what was mailed of each application.
type letters struct {
	mu   sync.Mutex
	sent map[federation.ID][]time.Time
}

// take counts a letter, and reports false where there were too many.
func (l *letters) take(app federation.ID, now time.Time) bool {
	l.mu.Lock()
	defer l.mu.Unlock()
	var recent []time.Time
	for _, at := range l.sent[app] {
		if now.Sub(at) < time.Hour {
			recent = append(recent, at)
		}
	}
	if len(recent) >= mostLetters {
		return false
	}
	if l.sent == nil {
		l.sent = map[federation.ID][]time.Time{}
	}
	l.sent[app] = append(recent, now)
	return true
}

// mostReaders is how many owners one request is mailed to.
const mostReaders = 10

// Tell mails the owners of an application that somebody asks for entry. It waits for no server: what cannot be sent is
// logged, and the request stands in the list.
func (rm *Room) Tell(app federation.ID, person int64) {
	a, there := rm.Records.Snapshot().ApplicationOf(app)
	if !there || !rm.Mailer.Able() {
		return
	}
	to := federation.Mails(a.Owner, mostReaders)
	if len(to) == 0 || !rm.letters.take(app, rm.Now()) {
		return
	}
	text := fmt.Sprintf("Person %d asks for entry to %s.\n\nLook at it, and approve or decline:\n%s/console/admit/requests?application=%s\n",
		person, a.Title, rm.Records.Snapshot().Gate.Base, a.Name)
	go func() {
		for _, address := range to {
			err := rm.Mailer.Send(context.Background(), mailing.Message{To: address, Subject: "Somebody asks for entry to " +
				a.Title, Text: text})
			if err != nil {
				rm.Log.Error("a request for entry could not be mailed", "application", a.Name, "error", err)
			}
		}
	}()
}
