package app

import (
	"context"
	"errors"
	"os"
	"time"

	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/operators"
	"innergate.example/innergate/internal/store"
)

// Host is the host of a gate, for whoever may read its configuration and its
// sealing key: the operators can be changed there without the gate's address, and
// while it serves.
type Host struct {
	Config   string // configuration file
	Who, Why string // for the history
}

// AddOwner adds somebody who may sign in to the console.
func (h Host) AddOwner(ctx context.Context, username, password string) error {
	return h.operators(func(room *operators.Room) error {
		return room.AddOwner(ctx, change.By{Who: h.Who, Why: h.Why}, username, password)
	})
}

// AddToken makes an API token that ends at a time, or, if that is zero, does not; it
// gives its secret.
func (h Host) AddToken(ctx context.Context, name string, expires time.Time) (secret string, err error) {
	err = h.operators(func(room *operators.Room) error {
		_, secret, err = room.AddToken(ctx, change.By{Who: h.Who, Why: h.Why}, name, expires)
		return err
	})
	return secret, err
}

func (h Host) operators(do func(*operators.Room) error) error {
	c, err := LoadConfig(h.Config, os.Environ())
	if err != nil {
		return err
	}
	st, err := store.OpenBeside(c.Data, c.SealKey)
	if err != nil {
		return err
	}
	return errors.Join(do(operators.New(st, c.Base, time.Now, limit.NewTries())), st.Close())
}
