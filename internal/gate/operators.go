package gate

import (
	"context"
	"crypto/rand"
	"crypto/subtle"
	"encoding/base64"
	"errors"
	"fmt"
	"strings"
	"time"

	"golang.org/x/crypto/argon2"
	"gorm.io/gorm"

	"innergate.example/innergate/internal/core/federation"
	"innergate.example/innergate/internal/store"
)

// argon2id parameters (RFC 9106 §4, second recommended option).
const (
	argonTime    = 3
	argonMemory  = 64 << 10 // KiB
	argonThreads = 4
)

// consoleLife is how long a console session lasts.
const consoleLife = 12 * time.Hour

// hashPassword gives argon2id in the usual text form. It waits for its turn: a
// hash takes 64 MiB.
func (g *Gate) hashPassword(password string) string {
	salt := make([]byte, 16)
	_, _ = rand.Read(salt)
	return fmt.Sprintf("$argon2id$v=%d$m=%d,t=%d,p=%d$%s$%s", argon2.Version, argonMemory, argonTime, argonThreads,
		base64.RawStdEncoding.EncodeToString(salt), base64.RawStdEncoding.EncodeToString(g.argon(password, salt)))
}

func (g *Gate) argon(password string, salt []byte) []byte {
	g.hashing <- struct{}{}
	defer func() { <-g.hashing }()
	return argon2.IDKey([]byte(password), salt, argonTime, argonMemory, argonThreads, 32)
}

// checkPassword compares in constant time. An empty stored hash costs as much as
// a real one and never fits.
func (g *Gate) checkPassword(stored, password string) bool {
	parts := strings.Split(stored, "$")
	if len(parts) != 6 {
		g.argon(password, make([]byte, 16))
		return false
	}
	salt, err1 := base64.RawStdEncoding.DecodeString(parts[4])
	want, err2 := base64.RawStdEncoding.DecodeString(parts[5])
	return err1 == nil && err2 == nil && subtle.ConstantTimeCompare(g.argon(password, salt), want) == 1
}

// ErrDenied is a failed authentication. It never says which part was wrong.
var ErrDenied = errors.New("user name or password is wrong; try again, or ask another owner")

// ErrTooManyTries is given after too many failures.
var ErrTooManyTries = errors.New("too many failed tries for this account from this address; wait five minutes and try again")

// HasOwner reports whether somebody was set up.
func (g *Gate) HasOwner(ctx context.Context) (bool, error) {
	var n int64
	err := g.store.Read.WithContext(ctx).Model(&store.OwnerRow{}).Count(&n).Error
	return n > 0, err
}

const setupKey = "setup-token"

// SetupLink makes a new one-time link for setting up the first owner. Earlier
// links stop working.
func (g *Gate) SetupLink(ctx context.Context) (string, error) {
	token := randomText(16)
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Save(&store.SettingRow{Key: setupKey, Value: base64.StdEncoding.EncodeToString(store.Hash(token))}).Error
	})
	return g.base + "/console/setup#" + token, err
}

// SetUp makes the first owner with the token of the set-up link, which is used
// up by it.
func (g *Gate) SetUp(ctx context.Context, token, username, password string) error {
	if err := checkOwner(username, password); err != nil {
		return err
	}
	hash := g.hashPassword(password)
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("key = ? AND value = ?", setupKey, base64.StdEncoding.EncodeToString(store.Hash(token))).Delete(&store.SettingRow{})
		if gone.Error != nil {
			return gone.Error
		}
		var owners int64
		if err := tx.Model(&store.OwnerRow{}).Count(&owners).Error; err != nil {
			return err
		}
		if gone.RowsAffected != 1 || owners > 0 {
			return field("token", errors.New("this set-up link is used up or was replaced; restart the gate for a new one, or ask an owner"))
		}
		return g.addOwner(tx, By{Who: "set-up link"}, username, hash)
	})
}

func checkOwner(username, password string) error {
	if _, err := federation.ParseName(username); err != nil {
		return field("username", err)
	}
	if n := len([]rune(password)); n < 12 || len(password) > 1024 {
		return field("password", fmt.Errorf("the password has %d characters; use at least 12", n))
	}
	return nil
}

func (g *Gate) addOwner(tx *gorm.DB, by By, username, hash string) error {
	err := tx.Create(&store.OwnerRow{Username: username, Password: hash, Added: g.now().UTC()}).Error
	if store.IsTaken(err) {
		return field("username", fmt.Errorf("the owner %q exists already; choose another name", username))
	}
	if err != nil {
		return err
	}
	return Note{At: g.now(), By: by, Kind: "owner", Name: username, What: "added", Revision: 1}.Write(tx)
}

// AddOwner makes another owner.
func (g *Gate) AddOwner(ctx context.Context, by By, username, password string) error {
	if err := checkOwner(username, password); err != nil {
		return err
	}
	hash := g.hashPassword(password)
	return g.store.Write(ctx, func(tx *gorm.DB) error { return g.addOwner(tx, by, username, hash) })
}

// Owner is an operator who signs in to the console with a password.
type Owner struct {
	Username string
	Added    time.Time
}

// Owners lists the owners.
func (g *Gate) Owners(ctx context.Context) ([]Owner, error) {
	var rows []store.OwnerRow
	err := g.store.Read.WithContext(ctx).Order("username").Find(&rows).Error
	out := make([]Owner, len(rows))
	for i, r := range rows {
		out[i] = Owner{r.Username, r.Added}
	}
	return out, err
}

// SetPassword gives an owner a new password and ends their console sessions.
func (g *Gate) SetPassword(ctx context.Context, by By, username, password string) error {
	if err := checkOwner(username, password); err != nil {
		return err
	}
	hash := g.hashPassword(password)
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		set := tx.Model(&store.OwnerRow{}).Where("username = ?", username).Update("password", hash)
		if set.Error != nil {
			return set.Error
		}
		if set.RowsAffected == 0 {
			return &NotFoundError{Kind: "owner", Name: username}
		}
		if err := tx.Where("username = ?", username).Delete(&store.ConsoleRow{}).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: "owner", Name: username, What: "changed"}.Write(tx)
	})
}

// RemoveOwner removes an owner and ends their console sessions. The last one
// stays: a way in for owners is always open.
func (g *Gate) RemoveOwner(ctx context.Context, by By, username string) error {
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		var n int64
		if err := tx.Model(&store.OwnerRow{}).Where("username <> ?", username).Count(&n).Error; err != nil {
			return err
		}
		gone := tx.Where("username = ?", username).Delete(&store.OwnerRow{})
		if gone.Error != nil {
			return gone.Error
		}
		if gone.RowsAffected == 0 {
			return &NotFoundError{Kind: "owner", Name: username}
		}
		if n == 0 {
			return &ConflictError{fmt.Sprintf("%q is the last owner", username), "add another owner first"}
		}
		if err := tx.Where("username = ?", username).Delete(&store.ConsoleRow{}).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: "owner", Name: username, What: "removed"}.Write(tx)
	})
}

// SignIn checks an owner's password and makes a console session.
func (g *Gate) SignIn(ctx context.Context, username, password, address string) (token string, err error) {
	key := username + " " + network(address)
	if !g.tries.open(key, g.now()) {
		return "", ErrTooManyTries
	}
	var row store.OwnerRow
	err = g.store.Read.WithContext(ctx).Where("username = ?", username).Take(&row).Error
	if err != nil && !errors.Is(err, gorm.ErrRecordNotFound) {
		return "", err
	}
	if len(password) > 1024 || !g.checkPassword(row.Password, password) {
		g.tries.fail(key, g.now())
		return "", ErrDenied
	}
	token = randomText(32)
	return token, g.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Create(&store.ConsoleRow{Hash: store.Hash(token), Username: username, Expires: g.now().Add(consoleLife).UTC()}).Error
	})
}

// ConsoleUser gives the owner a console session belongs to, "" if to none.
func (g *Gate) ConsoleUser(ctx context.Context, token string) (string, error) {
	if token == "" {
		return "", nil
	}
	var row store.ConsoleRow
	err := g.store.Read.WithContext(ctx).Where("hash = ? AND expires > ?", store.Hash(token), g.now().UTC()).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", nil
	}
	return row.Username, err
}

// SignOut ends a console session.
func (g *Gate) SignOut(ctx context.Context, token string) error {
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		return tx.Where("hash = ?", store.Hash(token)).Delete(&store.ConsoleRow{}).Error
	})
}

// Token is an API token without its secret.
type Token struct {
	Name  string
	Added time.Time
	By    string
}

const tokenPrefix = "igt_"

// AddToken makes an API token. Its secret is given once, here, and stored as
// hash.
func (g *Gate) AddToken(ctx context.Context, by By, name string) (Token, string, error) {
	if _, err := federation.ParseName(name); err != nil {
		return Token{}, "", field("name", err)
	}
	secret := tokenPrefix + randomText(32)
	t := Token{Name: name, Added: g.now().UTC(), By: by.Who}
	err := g.store.Write(ctx, func(tx *gorm.DB) error {
		if err := tx.Create(&store.TokenRow{Name: name, Hash: store.Hash(secret), Added: t.Added, By: by.Who}).Error; err != nil {
			return err
		}
		return Note{At: g.now(), By: by, Kind: "token", Name: name, What: "added", Revision: 1}.Write(tx)
	})
	if store.IsTaken(err) {
		err = field("name", fmt.Errorf("the token %q exists already; choose another name, or remove it first", name))
	}
	return t, secret, err
}

// Tokens lists the API tokens.
func (g *Gate) Tokens(ctx context.Context) ([]Token, error) {
	var rows []store.TokenRow
	err := g.store.Read.WithContext(ctx).Order("name").Find(&rows).Error
	out := make([]Token, len(rows))
	for i, r := range rows {
		out[i] = Token{r.Name, r.Added, r.By}
	}
	return out, err
}

// RemoveToken removes an API token; it stops working at once.
func (g *Gate) RemoveToken(ctx context.Context, by By, name string) error {
	return g.store.Write(ctx, func(tx *gorm.DB) error {
		gone := tx.Where("name = ?", name).Delete(&store.TokenRow{})
		if gone.Error != nil {
			return gone.Error
		}
		if gone.RowsAffected == 0 {
			return &NotFoundError{Kind: "token", Name: name}
		}
		return Note{At: g.now(), By: by, Kind: "token", Name: name, What: "removed", Revision: 2}.Write(tx)
	})
}

// TokenName gives the name of the token a secret belongs to, "" if to none.
func (g *Gate) TokenName(ctx context.Context, secret string) (string, error) {
	var row store.TokenRow
	err := g.store.Read.WithContext(ctx).Where("hash = ?", store.Hash(secret)).Take(&row).Error
	if errors.Is(err, gorm.ErrRecordNotFound) {
		return "", nil
	}
	return row.Name, err
}
