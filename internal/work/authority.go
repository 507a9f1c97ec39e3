package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// authorityPurpose is what the authority's key is sealed for.
const authorityPurpose = "authority"

// ErrOtherKey is returned when the key file is not the one that the database's
// secrets are sealed with.
var ErrOtherKey = errors.New("the key file is not the one that the secrets in this database are sealed with: use the file of the service that made them (--key-file)")

// openAuthority opens the certificate authority, or makes it at the first start.
// A key that lies in clear, as older versions left it, is sealed.
func openAuthority(ctx context.Context, inv *inventory.Inventory, key keyring.Key) (*hostlink.Authority, error) {
	seal := func(pem []byte) ([]byte, error) { return key.Seal(pem, authorityPurpose, rand.Reader) }
	kept, err := inv.Authority(ctx, seal, hostlink.NewAuthority)
	if err != nil {
		return nil, err
	}
	signing, err := key.Open(kept.Sealed, authorityPurpose)
	if err != nil {
		return nil, ErrOtherKey
	}
	return hostlink.LoadAuthority([]byte(kept.Cert), signing)
}

// RotateKey seals every secret of the database anew, from one key to another, in
// one transaction. It returns how many there were.
func RotateKey(ctx context.Context, inv *inventory.Inventory, from, to keyring.Key) (int, error) {
	n := 0
	err := inv.Reseal(ctx, func(purpose string, sealed []byte) ([]byte, error) {
		secret, err := from.Open(sealed, purpose)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", purpose, ErrOtherKey)
		}
		n++
		return to.Seal(secret, purpose, rand.Reader)
	}, authorityPurpose, purpose)
	return n, err
}

// Opens tells whether a key is the one that the database's secrets are sealed
// with. A database without any is opened by every key.
func Opens(ctx context.Context, inv *inventory.Inventory, key keyring.Key) (bool, error) {
	ok := true
	err := inv.EachSealed(ctx, authorityPurpose, purpose, func(purpose string, sealed []byte) error {
		_, err := key.Open(sealed, purpose)
		ok = ok && err == nil
		return nil
	})
	return ok, err
}
