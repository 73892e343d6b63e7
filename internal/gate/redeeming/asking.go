package redeeming

import (
	"context"
	"fmt"
	"slices"
	"strings"
	"time"

	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/crossing/oidcside"
	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/core/finding"
	"innergate.example/innergate/internal/core/grant"
	"innergate.example/innergate/internal/core/oidc"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// confidential refuses clients that prove nothing.
func confidential(a *asked) error {
	if a.method == oidc.NoMethod {
		return oidc.Refuse(oidc.InvalidClient, finding.New(finding.ClientUnproved,
			finding.Fact("Method", "none: only who proves who they are may ask about tokens")))
	}
	return nil
}

// Introspect says what a token is good for (RFC 7662), to its own application and to
// those that are its audience.
func (rm *Room) Introspect(ctx context.Context, c Caller) (out map[string]any, err error) {
	a, err := rm.begin(ctx, "introspect", c)
	if err == nil {
		err = confidential(a)
	}
	if err == nil && a.form.Get("token") == "" {
		err = oidc.Wrong(oidc.InvalidRequest, finding.Fact("Missing", "token"))
	}
	if err == nil {
		b := oidcside.Bring(a.snap, a.app, a.form.Get("token"), a.now)
		out, err = decide(ctx, rm, a, b.Introspect)
	}
	rm.record(a, err, nil)
	return out, err
}

// revokedKey is what a revoked access token is remembered by, until it ends.
func revokedKey(id string) []byte { return store.Hash("revoked\x1f" + id) }

func (rm *Room) revoked(ctx context.Context, id string) (bool, error) {
	var n int64
	err := rm.store.Read.WithContext(ctx).Model(&store.UsedRow{}).Where("key = ?", revokedKey(id)).Count(&n).Error
	return n > 0, err
}

// Revoke takes a token back (RFC 7009): an access token alone, or with a refresh
// token everything that its sign-in gave. One that is not known is no error.
func (rm *Room) Revoke(ctx context.Context, c Caller) error {
	a, err := rm.begin(ctx, "revoke", c)
	if err == nil && a.form.Get("token") == "" {
		err = oidc.Wrong(oidc.InvalidRequest, finding.Fact("Missing", "token"))
	}
	if err == nil {
		err = rm.revoke(ctx, a, a.form.Get("token"))
	}
	rm.record(a, err, nil)
	return err
}

// revoke takes back what is decided to be. What is taken back already stays so.
func (rm *Room) revoke(ctx context.Context, a *asked, token string) error {
	taken, err := decide(ctx, rm, a, oidcside.Bring(a.snap, a.app, token, a.now).Revoke)
	switch {
	case err != nil:
		return err
	case taken.Grant != "":
		return rm.store.Write(ctx, func(tx *gorm.DB) error { return rm.grants.End(tx, taken.Grant, grant.Revoked) })
	case taken.Token != "":
		err = rm.store.Write(ctx, func(tx *gorm.DB) error {
			return tx.Create(&store.UsedRow{Key: revokedKey(taken.Token), Until: taken.Until}).Error
		})
	}
	if store.IsTaken(err) {
		return nil
	}
	return err
}

// pushedLife is how long a pushed request can be used (RFC 9126 §2.2).
const pushedLife = 90 * time.Second

// largestPublic is how much is kept of a request that a client pushed who proves
// nothing, in octets.
const largestPublic = 4 << 10

// pushedName begins what a pushed request is named by.
const pushedName = "urn:ietf:params:oauth:request_uri:"

// Push keeps an authorization request until the browser comes with its name
// (RFC 9126 §2.1).
func (rm *Room) Push(ctx context.Context, c Caller) (uri string, life time.Duration, err error) {
	a, err := rm.begin(ctx, "push", c)
	if err == nil {
		uri, err = rm.push(ctx, a)
	}
	rm.record(a, err, nil)
	return uri, pushedLife, err
}

func (rm *Room) push(ctx context.Context, a *asked) (string, error) {
	if a.form.Has("request_uri") {
		return "", oidc.Wrong(oidc.InvalidRequest, finding.Fact("request_uri", "cannot be pushed itself"))
	}
	for _, name := range []string{"client_secret", "client_assertion", "client_assertion_type"} {
		delete(a.form, name)
	}
	a.form.Set("client_id", string(a.client.ID))
	form := a.form.Encode()
	r, err := oidc.ReadRequest(form)
	if err != nil {
		return "", err
	}
	if err := r.Check(a.client); err != nil {
		return "", err
	}
	if a.method == oidc.NoMethod && len(form) > largestPublic {
		return "", oidc.Wrong(oidc.InvalidRequest, finding.Fact("Cause",
			fmt.Sprintf("it has %d octets; of a client that proves nothing at most %d are kept", len(form), largestPublic)))
	}
	if a.method == oidc.NoMethod && !rm.pushes.Take(a.caller.Network, a.now) {
		// Anybody can push in the name of a public client: what is kept is bounded.
		return "", oidc.Refuse(oidc.Busy, finding.New(finding.TooManyStarts))
	}
	key := random.Text(32)
	return pushedName + key, rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.HeldRow{Hash: store.Hash(pushedName + key), Application: string(a.app.Name),
			Expires: a.now.Add(pushedLife).UTC(), Sealed: rm.store.Seal("held", []byte(form))}).Error
	})
}

// Pushed gives the request that a browser names, once. Other addresses are never
// asked for.
func (rm *Room) Pushed(ctx context.Context, clientID, uri string) (string, error) {
	app, ok := rm.records.Snapshot().ApplicationBy(oidcside.Name, clientID)
	switch {
	case !strings.HasPrefix(uri, pushedName):
		return "", oidc.Wrong(oidc.RequestURIsUnwelcome, finding.Fact("Not offered", "request_uri that was not pushed here"))
	case !ok:
		return "", oidc.Refuse(oidc.InvalidClient, finding.New(finding.ApplicationUnknown, finding.Fact("client_id",
			finding.Clip(clientID))))
	}
	form, err := rm.Redeem(ctx, app.Name, uri)
	if err == nil && form == nil {
		err = oidc.Wrong(oidc.InvalidRequest, finding.Fact("request_uri",
			"was used before, has ended, or was pushed by another application"))
	}
	return string(form), err
}

// Origins are those that some application in a browser calls from (CORS): a
// preflight request names no client.
func Origins(snap *federation.Snapshot) map[string]bool {
	out := map[string]bool{}
	for _, a := range snap.Applications() {
		if side, ok := a.Side.(*oidcside.Application); ok {
			for _, o := range side.Origins() {
				out[o] = true
			}
		}
	}
	return out
}

// MayCall reports whether the client of a request may be called for from an origin.
func MayCall(snap *federation.Snapshot, clientID, origin string) bool {
	app, ok := snap.ApplicationBy(oidcside.Name, clientID)
	return ok && slices.Contains(app.Side.(*oidcside.Application).Origins(), strings.ToLower(origin))
}
