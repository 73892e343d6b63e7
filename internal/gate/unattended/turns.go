package unattended

import (
	"context"
	"errors"
	"fmt"
	"strings"
	"time"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/rehearsal"
	"innergate.example/innergate/internal/gate/mailing"
	"innergate.example/innergate/internal/store"
)

// Mail mails of rehearsals that began to fail, or pass again, once each. What could not be handed in is tried again at
// the next call.
func (rm *Room) Mail(ctx context.Context) error {
	rows, err := rm.Store.Unmailed(ctx)
	if err != nil {
		return err
	}
	snap := rm.Records.Snapshot()
	var failed error
	for _, row := range rows {
		// It is noted first, and the note taken back if nothing was handed in: so two that mail at once mail once.
		if err := rm.Store.Mailed(ctx, row.ID, true); err != nil {
			return errors.Join(failed, err)
		}
		for i, to := range rm.told(snap, row) {
			if err := rm.Mailer.Send(ctx, rm.letter(snap, row, to)); err != nil && i == 0 {
				failed = errors.Join(failed, err, rm.Store.Mailed(context.WithoutCancel(ctx), row.ID, false))
				break
			} else if err != nil {
				failed = errors.Join(failed, err) // the others have theirs
			}
		}
	}
	return failed
}

// told are whom a turn is mailed to: those that the rehearsal names, else the owners of its application. Nobody is
// mailed of a turn that is a day old, or of a rehearsal that is gone.
func (rm *Room) told(snap *federation.Snapshot, row store.TurnRow) []string {
	plan, there := snap.Rehearsal(federation.Name(row.Rehearsal))
	if !there || !rm.Mailer.Able() || rm.Now().Sub(row.At) > 24*time.Hour {
		return nil
	}
	if len(plan.Mails) > 0 {
		return plan.Mails
	}
	app, there := snap.Application(plan.App)
	if !there {
		return nil
	}
	owners, _ := app.Told()
	return owners
}

// letter is what stands in a mail. No value of a person is in it.
func (rm *Room) letter(snap *federation.Snapshot, row store.TurnRow, to string) mailing.Message {
	plan, _ := snap.Rehearsal(federation.Name(row.Rehearsal))
	subject, text := "Passes again: "+plan.Title, fmt.Sprintf("The rehearsal %q of %s passes again.\n", plan.Title,
		row.Application)
	if row.State != string(rehearsal.Passed) {
		subject, text = "Rehearsal fails: "+plan.Title, fmt.Sprintf("The rehearsal %q of %s %s.\n", plan.Title,
			row.Application, row.State)
		if f, known := finding.Known(finding.Code(row.Finding)); known {
			text += "\n" + f.Title + ".\n" + f.Remedy + "\n"
		}
	}
	return mailing.Message{To: to, Subject: strings.TrimSpace(subject),
		Text: fmt.Sprintf("%s\nAt %s, run %d:\n%s/console/rehearse/%s?run=%d\n", text,
			row.At.UTC().Format("2006-01-02 15:04 UTC"), row.Run, rm.Base, row.Rehearsal, row.Run)}
}
