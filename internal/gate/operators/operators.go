// Package operators knows who may change things: owners with their passwords and
// console sessions, and the tokens of programs.
package operators

import (
	"context"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"sync/atomic"
	"time"

	"github.com/alexedwards/argon2id"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/gate/change"
	"innergate.example/innergate/internal/gate/limit"
	"innergate.example/innergate/internal/gate/random"
	"innergate.example/innergate/internal/store"
)

// Room knows the operators.
type Room struct {
	store   *store.Store
	base    string
	now     func() time.Time
	hashing chan struct{} // slow password hashes at a time
	waiting atomic.Int64
	tries   *limit.Tries
}

// New makes a room for a gate with a base address.
func New(s *store.Store, base string, now func() time.Time, tries *limit.Tries) *Room {
	return &Room{store: s, base: base, now: now, hashing: make(chan struct{}, 1), tries: tries}
}

// passwords are hashed by argon2id (RFC 9106 §4): in one lane, so that a hash
// never takes more than one processor from people who sign in.
var passwords = argon2id.Params{Memory: 64 << 10, Iterations: 3, Parallelism: 1, SaltLength: 16, KeyLength: 32}

// consoleLife is how long a console session lasts.
const consoleLife = 12 * time.Hour

// maxWaiting is how many hashes may wait for their turn.
const maxWaiting = 40

// turn waits for the turn to hash: a hash takes 64 MiB. ErrTooManyTries if too
// many wait.
func (rm *Room) turn() (done func(), err error) {
	if rm.waiting.Add(1) > maxWaiting {
		rm.waiting.Add(-1)
		return nil, ErrTooManyTries
	}
	rm.hashing <- struct{}{}
	return func() { <-rm.hashing; rm.waiting.Add(-1) }, nil
}

// hashPassword gives the hash of a password in the usual text form.
func (rm *Room) hashPassword(password string) (string, error) {
	done, err := rm.turn()
	if err != nil {
		return "", err
	}
	defer done()
	return argon2id.CreateHash(password, &passwords)
}

// checkPassword compares in constant time, by the parameters that stand in the
// hash; old reports whether they are others than those of now. An empty hash
// costs as much as a real one and never fits.
func (rm *Room) checkPassword(stored, password string) (fits, old bool, err error) {
	done, err := rm.turn()
	if err != nil {
		return false, false, err
	}
	defer done()
	if stored == "" {
		_, err := argon2id.CreateHash(password, &passwords)
		return false, false, err
	}
	fits, by, err := argon2id.CheckHash(password, stored)
	return fits, err == nil && *by != passwords, err
}

// ErrDenied is a failed authentication. It never says which part was wrong.
var ErrDenied = errors.New("user name or password is wrong; try again, or ask another owner")

// ErrTooManyTries is given after too many failures.
var ErrTooManyTries = errors.New("too many failed tries for this account from this address; wait five minutes and try again")

// HasOwner reports whether somebody was set up.
func (rm *Room) HasOwner(ctx context.Context) (bool, error) {
	var n int64
	err := rm.store.Read.WithContext(ctx).Model(&store.OwnerRow{}).Count(&n).Error
	return n > 0, err
}

const setupKey = "setup-token"

// SetupLink makes a new one-time link for setting up the first owner. Earlier
// links stop working.
func (rm *Room) SetupLink(ctx context.Context) (string, error) {
	token := random.Text(16)
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Save(&store.SettingRow{Key: setupKey, Value: base64.StdEncoding.EncodeToString(store.Hash(token))}).Error
	})
	return rm.base + "/console/setup#" + token, err
}

// SetUp makes the first owner with the token of the set-up link, which is used
// up by it.
func (rm *Room) SetUp(ctx context.Context, token, username, password string) error {
	if err := checkOwner(username, password); err != nil {
		return err
	}
	link := base64.StdEncoding.EncodeToString(store.Hash(token))
	var known int64 // nobody without the link has anything hashed
	if err := rm.store.Read.WithContext(ctx).Model(&store.SettingRow{}).Where("key = ? AND value = ?", setupKey,
		link).Count(&known).Error; err != nil {
		return err
	}
	hash, err := "", error(nil)
	if known > 0 {
		if hash, err = rm.hashPassword(password); err != nil {
			return err
		}
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("key = ? AND value = ?", setupKey,
			link).Delete(&store.SettingRow{})
		if gone.Error != nil {
			return gone.Error
		}
		var owners int64
		if err := tx.Model(&store.OwnerRow{}).Count(&owners).Error; err != nil {
			return err
		}
		if gone.RowsAffected != 1 || owners > 0 {
			return change.Field("token",
				errors.New("this set-up link is used up or was replaced; restart the gate for a new one, or ask an owner"))
		}
		return rm.addOwner(tx, change.By{Who: "set-up link"}, username, hash)
	})
}

func checkOwner(username, password string) error {
	if _, err := federation.ParseName(username); err != nil {
		return change.Field("username", err)
	}
	if n := len([]rune(password)); n < 12 || len(password) > 1024 {
		return change.Field("password", fmt.Errorf("the password has %d characters; use at least 12", n))
	}
	return nil
}

func (rm *Room) addOwner(tx *gorm.DB, by change.By, username, hash string) error {
	err := tx.Create(&store.OwnerRow{Username: username, Password: hash, Added: rm.now().UTC()}).Error
	if store.IsTaken(err) {
		return change.Field("username", fmt.Errorf("the owner %q exists already; choose another name", username))
	}
	if err != nil {
		return err
	}
	return change.Note{At: rm.now(), By: by, Kind: "owner", Name: username, What: "added", Revision: 1}.Write(tx)
}

// AddOwner makes another owner.
func (rm *Room) AddOwner(ctx context.Context, by change.By, username, password string) error {
	if err := checkOwner(username, password); err != nil {
		return err
	}
	hash, err := rm.hashPassword(password)
	if err != nil {
		return err
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error { return rm.addOwner(tx, by, username, hash) })
}

// Owner is an operator who signs in to the console with a password.
type Owner struct {
	Username string
	Added    time.Time
}

// Owners lists the owners.
func (rm *Room) Owners(ctx context.Context) ([]Owner, error) {
	var rows []store.OwnerRow
	err := rm.store.Read.WithContext(ctx).Order("username").Find(&rows).Error
	out := make([]Owner, len(rows))
	for i, r := range rows {
		out[i] = Owner{r.Username, r.Added}
	}
	return out, err
}

// SetPassword gives an owner a new password and ends their console sessions.
func (rm *Room) SetPassword(ctx context.Context, by change.By, username, password string) error {
	if err := checkOwner(username, password); err != nil {
		return err
	}
	hash, err := rm.hashPassword(password)
	if err != nil {
		return err
	}
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		set := tx.Model(&store.OwnerRow{}).Where("username = ?", username).Update("password", hash)
		if set.Error != nil {
			return set.Error
		}
		if set.RowsAffected == 0 {
			return &change.NotFoundError{Kind: "owner", Name: username}
		}
		if err := tx.Where("username = ?", username).Delete(&store.ConsoleRow{}).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: "owner", Name: username, What: "changed"}.Write(tx)
	})
}

// RemoveOwner removes an owner and ends their console sessions. The last one
// stays: a way in for owners is always open.
func (rm *Room) RemoveOwner(ctx context.Context, by change.By, username string) error {
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&store.OwnerRow{}).Where("username <> ?", username).Count(&n).Error; err != nil {
			return err
		}
		gone := tx.Where("username = ?", username).Delete(&store.OwnerRow{})
		if gone.Error != nil {
			return gone.Error
		}
		if gone.RowsAffected == 0 {
			return &change.NotFoundError{Kind: "owner", Name: username}
		}
		if n == 0 {
			return change.Conflict(fmt.Sprintf("%q is the last owner", username), "add another owner first")
		}
		if err := tx.Where("username = ?", username).Delete(&store.ConsoleRow{}).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: "owner", Name: username, What: "removed"}.Write(tx)
	})
}

// triesOfAddress is how often passwords may be tried from one address, for any
// accounts: many people share one.
const triesOfAddress = 100

// SignIn checks an owner's password and makes a console session. A try is counted
// before it is made.
func (rm *Room) SignIn(ctx context.Context, username, password, address string) (token string, err error) {
	if _, err := federation.ParseName(username); err != nil {
		username = "" // nobody's
	}
	network, now := limit.Network(address), rm.now()
	account := username + " " + network
	if !rm.tries.Take("console "+network, triesOfAddress, now) || !rm.tries.Take(account, limit.Usual, now) {
		return "", ErrTooManyTries
	}
	if len(password) > 1024 {
		return "", ErrDenied
	}
	token, raising, err := rm.judge(ctx, username, password)
	if raising && errors.Is(err, ErrDenied) {
		token, _, err = rm.judge(ctx, username, password) // another sign-in raised it at the same moment
	}
	if err == nil {
		rm.tries.Give("console " + network)
		rm.tries.Give(account)
	}
	return token, err
}

// judge checks a password and makes a console session. raising says that its hash
// was of other parameters than those of now, and was to be made anew.
func (rm *Room) judge(ctx context.Context, username, password string) (token string, raising bool, err error) {
	var row store.OwnerRow
	err = rm.store.Read.WithContext(ctx).Where("username = ?", username).Take(&row).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return "", false, err
	}
	fits, raising, err := rm.checkPassword(row.Password, password)
	if err != nil {
		return "", false, err
	}
	if !fits {
		return "", false, ErrDenied
	}
	raised := row.Password
	if raising {
		if raised, err = rm.hashPassword(password); err != nil {
			return "", raising, err
		}
	}
	token, err = rm.enter(ctx, row, raised)
	return token, raising, err
}

// enter makes a console session, if the owner is there still, with the password
// that was checked; raised is its hash by the parameters of now.
func (rm *Room) enter(ctx context.Context, owner store.OwnerRow, raised string) (string, error) {
	token := random.Text(32)
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		same := tx.Model(&store.OwnerRow{}).Where("username = ? AND password = ?", owner.Username, owner.Password).
			Update("password", raised)
		if same.Error != nil {
			return same.Error
		}
		if same.RowsAffected == 0 {
			return ErrDenied // removed, or with another password meanwhile
		}
		return tx.Create(&store.ConsoleRow{Hash: store.Hash(token), Username: owner.Username,
			Expires: rm.now().Add(consoleLife).UTC()}).Error
	})
	if err != nil {
		token = ""
	}
	return token, err
}

// ConsoleUser gives the owner a console session belongs to, "" if to none.
func (rm *Room) ConsoleUser(ctx context.Context, token string) (string, error) {
	if token == "" {
		return "", nil
	}
	var row store.ConsoleRow
	err := rm.store.Read.WithContext(ctx).Where("hash = ? AND expires > ?", store.Hash(token),
		rm.now().UTC()).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", nil
	}
	return row.Username, err
}

// SignOut ends a console session.
func (rm *Room) SignOut(ctx context.Context, token string) error {
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("hash = ?", store.Hash(token)).Delete(&store.ConsoleRow{}).Error
	})
}

// Token is an API token without its secret.
type Token struct {
	Name  string
	Added time.Time
	By    string
	// Expires is when it ends, zero if it does not.
	Expires time.Time
}

const tokenPrefix = "igt_"

// AddToken makes an API token that ends at a time, or, if that is zero, does not.
// Its secret is given once, here, and stored as hash.
func (rm *Room) AddToken(ctx context.Context, by change.By, name string, expires time.Time) (Token, string, error) {
	if _, err := federation.ParseName(name); err != nil {
		return Token{}, "", change.Field("name", err)
	}
	if !expires.IsZero() && !expires.After(rm.now()) {
		return Token{}, "", change.Field("expires", errors.New("the time is past; give one in the future, or none"))
	}
	secret := tokenPrefix + random.Text(32)
	t := Token{Name: name, Added: rm.now().UTC(), By: by.Who, Expires: expires.UTC()}
	err := rm.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&store.TokenRow{Name: name, Hash: store.Hash(secret), Added: t.Added,
			By: by.Who, Expires: t.Expires}).Error; err != nil {
			return err
		}
		return change.Note{At: rm.now(), By: by, Kind: "token", Name: name, What: "added", Revision: 1}.Write(tx)
	})
	if store.IsTaken(err) {
		err = change.Field("name", fmt.Errorf("the token %q exists already; choose another name, or remove it first", name))
	}
	return t, secret, err
}

// Tokens lists the API tokens.
func (rm *Room) Tokens(ctx context.Context) ([]Token, error) {
	var rows []store.TokenRow
	err := rm.store.Read.WithContext(ctx).Order("name").Find(&rows).Error
	out := make([]Token, len(rows))
	for i, r := range rows {
		out[i] = Token{r.Name, r.Added, r.By, r.Expires}
	}
	return out, err
}

// RemoveToken removes an API token; it stops working at once.
func (rm *Room) RemoveToken(ctx context.Context, by change.By, name string) error {
	return rm.store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("name = ?", name).Delete(&store.TokenRow{})
		if gone.Error != nil {
			return gone.Error
		}
		if gone.RowsAffected == 0 {
			return &change.NotFoundError{Kind: "token", Name: name}
		}
		return change.Note{At: rm.now(), By: by, Kind: "token", Name: name, What: "removed", Revision: 2}.Write(tx)
	})
}

// TokenName gives the name of the token a secret belongs to, "" if to none, or to
// one that has ended.
func (rm *Room) TokenName(ctx context.Context, secret string) (string, error) {
	var row store.TokenRow
	err := rm.store.Read.WithContext(ctx).Where("hash = ?", store.Hash(secret)).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) || err == nil && !row.Expires.IsZero() && !rm.now().Before(row.Expires) {
		return "", nil
	}
	return row.Name, err
}

// Behind is the owner who stands behind whoever makes a change: a token counts as who made it. "" if that is no owner.
func (rm *Room) Behind(ctx context.Context, who string) (string, error) {
	db := rm.store.Read.WithContext(ctx)
	for range mostMakers {
		name, token := strings.CutPrefix(who, "token ")
		if !token {
			break
		}
		var row store.TokenRow
		if err := db.Where("name = ?", name).Take(&row).Error; err != nil {
			if errors.Is(err, gorm.ErrRecordNotFound) {
				err = nil
			}
			return "", err
		}
		who = row.By
	}
	var n int64
	err := db.Model(&store.OwnerRow{}).Where("username = ?", who).Count(&n).Error
	if n == 0 {
		who = ""
	}
	return who, err
}

// mostMakers is how many tokens may have been made one by the other.
const mostMakers = 100

// Count is how many owners there are.
func (rm *Room) Count(ctx context.Context) (n int64, err error) {
	err = rm.store.Read.WithContext(ctx).Model(&store.OwnerRow{}).Count(&n).Error
	return n, err
}
