package tell

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"net/mail"
	"net/url"
	"slices"
	"time"

	"unvora.example/unvora/internal/inventory"
)

// causes of which people can be told.
var causes = []string{inventory.TellDone, inventory.TellFailed, inventory.TellHeld}

const (
	mostAddress = 2000 // bytes
	longest     = 7 * 24 * time.Hour
)

// Add keeps a wish to be told. The secret that calls are signed with is returned once; "" for mail.
func (t *Teller) Add(ctx context.Context, w *inventory.Telling) (secret string, err error) {
	if len(w.Causes) == 0 {
		w.Causes = []string{inventory.TellFailed, inventory.TellHeld}
	}
	for _, c := range w.Causes {
		if !slices.Contains(causes, c) {
			return "", inventory.Wrong("Nobody is told of %q: done, failed and held are what there is.", c)
		}
	}
	slices.Sort(w.Causes)
	w.Causes = slices.Compact(w.Causes)
	if w.LeastSeconds < 0 || time.Duration(w.LeastSeconds)*time.Second > longest {
		return "", inventory.Wrong("A job takes between nothing and seven days, not %d seconds.", w.LeastSeconds)
	}
	w.ID = inventory.NewID()
	switch w.How {
	case inventory.TellMail:
		a, err := mail.ParseAddress(w.Address)
		if err != nil || a.Name != "" || len(w.Address) > mostAddress {
			return "", inventory.Wrong("%q is no address of a mailbox, such as robin@skerrow.example.", w.Address)
		}
		if w.Address = a.Address; t.mail == nil {
			return "", inventory.Wrong("%v.", ErrNoMail)
		}
	case inventory.TellCall:
		u, err := url.Parse(w.Address)
		if err != nil || u.Host == "" || u.Scheme != "https" && u.Scheme != "http" || u.User != nil ||
			len(w.Address) > mostAddress {
			return "", inventory.Wrong("%q is no web address: want https://HOST/PATH.", w.Address)
		}
		raw := make([]byte, 24)
		if _, err := rand.Read(raw); err != nil {
			return "", err
		}
		secret = hex.EncodeToString(raw)
		if w.Sealed, err = t.key.Seal([]byte(secret), inventory.TellingPurpose(w.ID), rand.Reader); err != nil {
			return "", err
		}
	default:
		return "", inventory.Wrong("People are told by mail or by call, not by %q.", w.How)
	}
	return secret, t.inv.AddTelling(ctx, w)
}

// Try tells somebody that this is only to see whether it arrives.
func (t *Teller) Try(ctx context.Context, w *inventory.Telling) error {
	return t.send(ctx, w, &words{ID: inventory.NewID().String(), At: time.Now(), Cause: "test",
		Title: "this arrives", Text: "You are told of jobs in this way.", Unvora: t.set.Address})
}
