package access

import (
	"context"
	"crypto/hmac"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"testing"
	"testing/synctest"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/inventory/pgtest"
)

var database string

func TestMain(m *testing.M) { pgtest.Main(m, &database) }

const right, wrong = "low tide at noon", "high tide at noon"

func open(t *testing.T) (*Access, *inventory.Inventory) {
	inv, err := inventory.Open(t.Context(), pgtest.Database(t, database))
	require.NoError(t, err)
	t.Cleanup(inv.Close)
	a, err := New(inv, keyring.Key{1})
	require.NoError(t, err)
	return a, inv
}

func (a *Access) user(t *testing.T, name, role string) *inventory.User {
	t.Helper()
	u, err := a.AddUser(t.Context(), name, right, role, "test")
	require.NoError(t, err)
	return u
}

// TestMay: each role may what those below it may; what is no role may nothing.
func TestMay(t *testing.T) {
	order := []string{Viewer, Operator, Administrator}
	for i, has := range order {
		for j, needs := range order {
			require.Equal(t, i >= j, May(has, needs), "%s does what needs %s", has, needs)
		}
	}
	require.False(t, May("", Viewer))
	require.False(t, May("", ""))
	require.False(t, May("captain", Viewer))
}

// TestSecrets: what is made up has 200 bits, and no two are alike. What a session's calls bring is made from its cookie
// and the key, for this use and no other.
func TestSecrets(t *testing.T) {
	seen := map[string]bool{}
	for range 100 {
		s := secret()
		require.Len(t, s, 40)
		require.False(t, seen[s])
		seen[s] = true
	}
	a := &Access{key: keyring.Key{1}}
	mac := hmac.New(sha256.New, a.key[:])
	sum := sha256.Sum256([]byte("a cookie"))
	mac.Write(append([]byte("csrf "), sum[:]...))
	require.Equal(t, hex.EncodeToString(mac.Sum(nil)), a.csrf("a cookie"))
}

// TestFirstUser: there is one administrator to begin with, and never a second.
func TestFirstUser(t *testing.T) {
	a, inv := open(t)
	password, err := a.FirstUser(t.Context(), "admin", "")
	require.NoError(t, err)
	require.Len(t, password, 16)
	_, s, err := a.SignIn(t.Context(), "admin", password, "192.0.2.1", "a browser")
	require.NoError(t, err)
	require.Equal(t, Administrator, s.User.Role)
	again, err := a.FirstUser(t.Context(), "second", right)
	require.NoError(t, err)
	require.Empty(t, again)
	n, err := inv.CountUsers(t.Context())
	require.NoError(t, err)
	require.Equal(t, 1, n)
}

// TestSessions: a session lasts until it is ended; what changes something brings the session's own value.
func TestSessions(t *testing.T) {
	a, _ := open(t)
	a.user(t, "robin", Operator)
	_, _, err := a.SignIn(t.Context(), "robin", wrong, "192.0.2.1", "a browser")
	require.ErrorIs(t, err, ErrSignIn)
	_, _, err = a.SignIn(t.Context(), "nobody", right, "192.0.2.1", "a browser")
	require.ErrorIs(t, err, ErrSignIn, "a name that nobody has is told like a wrong password")
	cookie, s, err := a.SignIn(t.Context(), "robin", right, "192.0.2.1", "a browser")
	require.NoError(t, err)

	found, err := a.BySession(t.Context(), cookie, "", true)
	require.NoError(t, err)
	require.Equal(t, "robin", found.User.Name)
	for _, csrf := range []string{"", "x", s.CSRF + "0", s.CSRF[1:]} {
		_, err = a.BySession(t.Context(), cookie, csrf, false)
		require.ErrorIs(t, err, ErrCSRF, "%q", csrf)
	}
	_, err = a.BySession(t.Context(), cookie, s.CSRF, false)
	require.NoError(t, err)
	_, err = a.BySession(t.Context(), cookie+"x", s.CSRF, true)
	require.ErrorIs(t, err, ErrUnknown)

	other, _, err := a.SignIn(t.Context(), "robin", right, "192.0.2.1", "a browser")
	require.NoError(t, err)
	require.NotEqual(t, a.csrf(cookie), a.csrf(other), "each session has its own")
	require.NoError(t, a.SignOut(t.Context(), cookie))
	_, err = a.BySession(t.Context(), cookie, "", true)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = a.BySession(t.Context(), other, "", true)
	require.NoError(t, err)
}

// TestSessionsSeen: everybody sees and ends their own sessions, and an administrator anybody's.
func TestSessionsSeen(t *testing.T) {
	a, inv := open(t)
	robin, wren, admin := a.user(t, "robin", Operator), a.user(t, "wren", Viewer), a.user(t, "head", Administrator)
	cookie, _, err := a.SignIn(t.Context(), "robin", right, "192.0.2.1", "a browser\x1b[2J")
	require.NoError(t, err)
	other, _, err := a.SignIn(t.Context(), "robin", right, "192.0.2.2", "")
	require.NoError(t, err)
	seen := func(u *inventory.User, all bool) []inventory.SignedIn {
		list, err := a.Sessions(t.Context(), u, all, cookie)
		require.NoError(t, err)
		return list
	}
	list := seen(robin, false)
	require.Len(t, list, 2)
	require.Equal(t, "192.0.2.2", list[0].Place, "the latest first")
	require.False(t, list[0].Here)
	require.True(t, list[1].Here)
	require.NotContains(t, list[1].Browser, "\x1b", "what a browser says of itself does nothing to a terminal")
	require.Empty(t, seen(wren, true), "others are for administrators")
	require.Empty(t, seen(admin, false))
	require.Len(t, seen(admin, true), 2)

	id := list[0].ID.String()
	require.ErrorContains(t, a.EndSession(t.Context(), wren, id), "There is no session")
	require.ErrorContains(t, a.EndSession(t.Context(), robin, id[:3]), "There is no session", "too little of it")
	require.NoError(t, a.EndSession(t.Context(), robin, id[:8]))
	_, err = a.BySession(t.Context(), other, "", true)
	require.ErrorIs(t, err, ErrUnknown)
	_, err = a.BySession(t.Context(), cookie, "", true)
	require.NoError(t, err)
	require.NoError(t, a.EndSession(t.Context(), admin, list[1].ID.String()))
	_, err = a.BySession(t.Context(), cookie, "", true)
	require.ErrorIs(t, err, ErrUnknown)
	told, err := inv.History(t.Context(), nil, "what=\"session end\"", 10, "")
	require.NoError(t, err)
	require.Len(t, told, 2)
}

// TestTokens: a token is known as long as it lives, and no other text is one.
func TestTokens(t *testing.T) {
	a, inv := open(t)
	u := a.user(t, "robin", Viewer)
	token, kept, err := a.MakeToken(t.Context(), u, "script", 0, false)
	require.NoError(t, err)
	require.WithinDuration(t, time.Now().AddDate(0, 0, TokenDays), *kept.ExpiresAt, time.Minute)
	found, err := a.ByToken(t.Context(), token)
	require.NoError(t, err)
	require.Equal(t, "robin", found.Name)
	_, err = a.ByToken(t.Context(), token[:len(token)-1])
	require.ErrorIs(t, err, ErrUnknown)
	_, err = a.ByToken(t.Context(), "")
	require.ErrorIs(t, err, ErrUnknown)
	_, err = inv.Pool.Exec(t.Context(), `update tokens set expires_at = now() - interval '1 second'`)
	require.NoError(t, err)
	_, err = a.ByToken(t.Context(), token)
	require.ErrorIs(t, err, ErrUnknown)

	_, kept, err = a.MakeToken(t.Context(), u, "for ever", 0, true)
	require.NoError(t, err)
	require.Nil(t, kept.ExpiresAt)
	for _, c := range []struct {
		name    string
		days    int
		endless bool
	}{{"a/b", 1, false}, {"x", -1, false}, {"x", MostTokenDays + 1, false}, {"x", 1, true}} {
		_, _, err = a.MakeToken(t.Context(), u, c.name, c.days, c.endless)
		var refused *inventory.Error
		require.ErrorAs(t, err, &refused, "%+v", c)
		require.Equal(t, inventory.CodeWrong, refused.Code)
	}
	_, _, err = a.MakeToken(t.Context(), u, "longest", MostTokenDays, false)
	require.NoError(t, err)
}

// TestChange: who changes what of whom, and which sessions end by it.
func TestChange(t *testing.T) {
	a, _ := open(t)
	admin, robin, wren := a.user(t, "admin", Administrator), a.user(t, "robin", Operator), a.user(t, "wren", Viewer)
	change := func(who *inventory.User, ref, role, password, current string) error {
		_, err := a.Change(t.Context(), who, ref, role, password, current, "")
		return err
	}
	require.ErrorIs(t, change(robin, "wren", "", right+"!", ""), ErrOwnOnly)
	require.ErrorIs(t, change(robin, "robin", Administrator, "", ""), ErrOwnOnly, "nobody raises himself")
	require.ErrorIs(t, change(robin, "nobody", "", right, ""), ErrOwnOnly, "nor learns who is there")
	require.ErrorContains(t, change(admin, "nobody", Viewer, "", ""), "no user")
	require.ErrorContains(t, change(robin, "robin", "", right+"!", wrong), "present password")
	require.ErrorContains(t, change(robin, "robin", "", "short", right), "10 characters")

	mine, _, err := a.SignIn(t.Context(), "robin", right, "192.0.2.1", "a browser")
	require.NoError(t, err)
	elsewhere, _, err := a.SignIn(t.Context(), "robin", right, "192.0.2.2", "a browser")
	require.NoError(t, err)
	_, err = a.Change(t.Context(), robin, "robin", "", right+"!", right, mine)
	require.NoError(t, err)
	_, err = a.BySession(t.Context(), mine, "", true)
	require.NoError(t, err, "the session that it was changed in goes on")
	_, err = a.BySession(t.Context(), elsewhere, "", true)
	require.ErrorIs(t, err, ErrUnknown)
	_, _, err = a.SignIn(t.Context(), "robin", right, "192.0.2.1", "a browser")
	require.ErrorIs(t, err, ErrSignIn)

	require.NoError(t, change(admin, "wren", Operator, "", ""))
	cookie, s, err := a.SignIn(t.Context(), wren.Name, right, "192.0.2.3", "a browser")
	require.NoError(t, err)
	require.Equal(t, Operator, s.User.Role)
	require.NoError(t, change(admin, "wren", "", right+"!", ""), "an administrator need not know the present one")
	_, err = a.BySession(t.Context(), cookie, "", true)
	require.ErrorIs(t, err, ErrUnknown)
}

// TestPasswords: how long one is.
func TestPasswords(t *testing.T) {
	for n, fits := range map[int]bool{0: false, 9: false, 10: true, 200: true, 201: false} {
		require.Equal(t, fits, checkPassword(fmt.Sprintf("%*s", n, "")) == nil, "%d characters", n)
	}
}

// TestGuard: after some failures one has to wait, longer each time, by name and by address; success forgets the name's.
func TestGuard(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard()
		for range freeTries {
			require.NoError(t, g.let("name robin", "address 1"))
			g.note(false, "name robin", "address 1")
		}
		require.NoError(t, g.let("name robin"), "so many are free")
		for n, pause := range []time.Duration{firstWait, 2 * firstWait, 4 * firstWait} {
			g.note(false, "name robin", "address 1")
			var later *Later
			require.ErrorAs(t, g.let("name robin"), &later)
			require.Equal(t, pause, later.Wait, "after %d more", n+1)
			require.ErrorAs(t, g.let("name wren", "address 1"), &later, "from that address under another name too")
			require.NoError(t, g.let("name wren", "address 2"))
			time.Sleep(pause - time.Millisecond)
			require.Error(t, g.let("name robin"))
			time.Sleep(time.Millisecond)
			require.NoError(t, g.let("name robin"))
		}
		for range 20 {
			g.note(false, "name robin")
		}
		var later *Later
		require.ErrorAs(t, g.let("name robin"), &later)
		require.Equal(t, longestWait, later.Wait, "and no longer")
		g.note(true, "name robin")
		require.NoError(t, g.let("name robin"))

		for range freeTries + 1 {
			g.note(false, "name wren")
		}
		time.Sleep(forgotten + time.Second)
		g.note(false, "name wren")
		require.NoError(t, g.let("name wren"), "what is long ago is forgotten")
	})
}

// TestFailuresWait: signing in waits too, right password or not.
func TestFailuresWait(t *testing.T) {
	a, _ := open(t)
	a.user(t, "robin", Viewer)
	for range freeTries + 1 {
		_, _, err := a.SignIn(t.Context(), "robin", wrong, "192.0.2.1", "a browser")
		require.ErrorIs(t, err, ErrSignIn)
	}
	var later *Later
	_, _, err := a.SignIn(t.Context(), "Robin", right, "192.0.2.9", "a browser")
	require.ErrorAs(t, err, &later, "a name is the same however it is written")
	require.Greater(t, later.Wait, time.Duration(0))
}

// TestTurns: so many passwords are checked at once; whoever waits too long is asked to come again, whoever leaves is
// told nothing else than that.
func TestTurns(t *testing.T) {
	synctest.Test(t, func(t *testing.T) {
		g := newGuard()
		hold := make(chan struct{})
		for range hashesAtOnce {
			go func() {
				_ = g.hash(t.Context(), func() error { <-hold; return nil })
			}()
		}
		synctest.Wait()
		began := time.Now()
		var later *Later
		require.ErrorAs(t, g.hash(t.Context(), func() error { return nil }), &later)
		require.Equal(t, hashPatience, time.Since(began))
		gone, leave := context.WithCancel(t.Context())
		leave()
		require.ErrorIs(t, g.hash(gone, func() error { return nil }), context.Canceled)
		close(hold)
		synctest.Wait()
		failed := errors.New("no memory")
		require.ErrorIs(t, g.hash(t.Context(), func() error { return failed }), failed)
	})
}
