package phases

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/store"
)

// Announce mails each change that waits to those whom it is announced to, once, also over a restart. What could not be
// handed in is tried again at the next call.
func (rm *Room) Announce(ctx context.Context) error {
	if !rm.Mailer.Able() {
		return nil
	}
	var failed error
	for _, r := range rm.Records.Snapshot().Records() {
		at := r.Basic().Pending()
		if at.IsZero() || !rm.Now().Before(at) {
			continue
		}
		owners, contacts := r.Basic().Told()
		for i, address := range append(owners, contacts...) {
			failed = errors.Join(failed, rm.tell(ctx, letter{r, address, i >= len(owners), at}))
		}
	}
	return failed
}

// letter announces a change to one address.
type letter struct {
	record  federation.Record
	to      string
	outside bool // to the other side
	at      time.Time
}

// tell sends a letter that was not sent before. It is noted first, and the note taken back if nothing was handed in:
// so two that send at once send one.
func (rm *Room) tell(ctx context.Context, l letter) error {
	first, err := rm.Store.Once(ctx, l.key(), l.at.Add(24*time.Hour))
	if err != nil || !first {
		return err
	}
	if err = rm.Mailer.Send(ctx, l.message(rm.Records.Snapshot().Gate.Base)); err != nil {
		err = errors.Join(err, rm.Store.NotOnce(context.WithoutCancel(ctx), l.key()))
	}
	return err
}

// key is the change as it is announced to an address.
func (l letter) key() []byte {
	b := l.record.Basic()
	return store.Hash(strings.Join([]string{"announced", string(b.ID), b.NextAt, string(b.NextPhase),
		strings.Join(b.NextCohort, " "), l.to}, "\x1f"))
}

// message is what stands in a letter. Whom a pilot includes is told to the owner alone.
func (l letter) message(base string) mailing.Message {
	b := l.record.Basic()
	subject := fmt.Sprintf("%s: %s from %s on", b.Title, b.NextPhase, b.NextAt)
	text := fmt.Sprintf("%s (%s %s) is %s now. From %s on it is %s.\n", b.Title, l.record.Kind(), b.Name, b.Phase,
		b.NextAt, b.NextPhase)
	if l.outside {
		return mailing.Message{To: l.to, Subject: subject, Text: text + "\nNothing has to be done for it at your side. " +
			"Answer whoever gave you this contact, if the moment does not suit you.\n"}
	}
	if len(b.NextCohort) > 0 {
		text += "Whom it includes then: " + strings.Join(b.NextCohort, " ") + "\n"
	}
	return mailing.Message{To: l.to, Subject: subject,
		Text: fmt.Sprintf("%s\nLook at how it goes, move it or withdraw it:\n%s/console/connect/%ss/%s\n",
			text, base, l.record.Kind(), b.Name)}
}
