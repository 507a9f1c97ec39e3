// Package access knows who is calling: users with passwords, tokens and
// console sessions, and what each role may do.
package access

import (
	"context"
	"crypto/rand"
	"crypto/sha256"
	"crypto/subtle"
	"encoding/base32"
	"errors"
	"strings"
	"time"

	"github.com/alexedwards/argon2id"

	"unvora.example/unvora/internal/inventory"
)

// Roles, from the most to the least that they may do.
const (
	Administrator = "administrator" // everything
	Operator      = "operator"      // all work on copies
	Viewer        = "viewer"        // look
)

// Errors of signing in. They don't tell what of name and password was wrong.
var (
	ErrSignIn  = errors.New("name or password is wrong")
	ErrUnknown = errors.New("this token or session is not known, or not any more")
	ErrCSRF    = errors.New("the X-CSRF-Token is missing or wrong")
)

const (
	tokenPrefix = "unv_"
	sessionTime = 12 * time.Hour
)

// Access checks callers against the inventory.
type Access struct {
	inv *inventory.Inventory
	// decoy is compared with when a name is unknown, so that it takes as long.
	decoy string
}

// New prepares for checking.
func New(inv *inventory.Inventory) (*Access, error) {
	decoy, err := argon2id.CreateHash(secret(), argon2id.DefaultParams)
	return &Access{inv, decoy}, err
}

func secret() string {
	b := make([]byte, 25)
	rand.Read(b)
	return strings.ToLower(base32.StdEncoding.WithPadding(base32.NoPadding).EncodeToString(b))
}

func hashOf(s string) []byte {
	h := sha256.Sum256([]byte(s))
	return h[:]
}

// FirstUser makes an administrator when there is nobody yet, and returns the
// password, "" when there is somebody. wanted is taken as the password when set.
func (a *Access) FirstUser(ctx context.Context, name, wanted string) (string, error) {
	n, err := a.inv.CountUsers(ctx)
	if err != nil || n > 0 {
		return "", err
	}
	password := wanted
	if password == "" {
		password = secret()[:16]
	}
	_, err = a.AddUser(ctx, name, password, Administrator, "first start")
	var taken *inventory.Error
	if errors.As(err, &taken) && taken.Code == "taken" { // another service was quicker
		return "", nil
	}
	return password, err
}

// AddUser lets a person sign in.
func (a *Access) AddUser(ctx context.Context, name, password, role, who string) (*inventory.User, error) {
	hash, err := argon2id.CreateHash(password, argon2id.DefaultParams)
	if err != nil {
		return nil, err
	}
	return a.inv.AddUser(ctx, name, hash, role, who)
}

// SignIn begins a session; cookie is what the browser keeps.
func (a *Access) SignIn(ctx context.Context, name, password string) (cookie string, s *inventory.Session, err error) {
	u, err := a.inv.UserByName(ctx, name)
	if err != nil {
		return "", nil, err
	}
	hash := a.decoy
	if u != nil {
		hash = u.PasswordHash
	}
	ok, err := argon2id.ComparePasswordAndHash(password, hash)
	if err != nil {
		return "", nil, err
	}
	if !ok || u == nil {
		return "", nil, ErrSignIn
	}
	cookie = secret()
	s = &inventory.Session{User: *u, CSRF: secret()}
	return cookie, s, a.inv.AddSession(ctx, u.ID, hashOf(cookie), s.CSRF, time.Now().Add(sessionTime))
}

// SignOut ends a session.
func (a *Access) SignOut(ctx context.Context, cookie string) error {
	return a.inv.DropSession(ctx, hashOf(cookie))
}

// BySession finds who a cookie belongs to. csrf is compared unless the call only reads.
func (a *Access) BySession(ctx context.Context, cookie, csrf string, reads bool) (*inventory.Session, error) {
	s, err := a.inv.SessionByHash(ctx, hashOf(cookie))
	switch {
	case err != nil:
		return nil, err
	case s == nil:
		return nil, ErrUnknown
	case !reads && subtle.ConstantTimeCompare([]byte(csrf), []byte(s.CSRF)) != 1:
		return nil, ErrCSRF
	}
	return s, nil
}

// MakeToken makes a token for the user; days of 0 let it live for ever.
func (a *Access) MakeToken(ctx context.Context, u *inventory.User, name string, days int) (string, error) {
	token := tokenPrefix + secret()
	var expires *time.Time
	if days > 0 {
		t := time.Now().AddDate(0, 0, days)
		expires = &t
	}
	return token, a.inv.AddToken(ctx, u, name, hashOf(token), expires)
}

// ByToken finds who a token belongs to.
func (a *Access) ByToken(ctx context.Context, token string) (*inventory.User, error) {
	u, err := a.inv.UserByToken(ctx, hashOf(token))
	if err == nil && u == nil {
		err = ErrUnknown
	}
	return u, err
}

// May tells whether a role may do what needs another.
func May(has, needs string) bool {
	rank := map[string]int{Viewer: 1, Operator: 2, Administrator: 3}
	return rank[has] >= rank[needs] && rank[has] > 0
}
