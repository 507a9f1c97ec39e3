package work

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"strings"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away/foreign"
)

// authorityPurpose is what the authority's key is sealed for.
const authorityPurpose = "authority"

// ErrOtherKey is returned when the key file is not the one that the database's
// secrets are sealed with.
var ErrOtherKey = errors.New("the key file is not the one that the secrets in this database are sealed with: use the " +
	"file of the service that made them (--key-file)")

// openAuthority opens the certificate authority, or makes it at the first start.
// A key that lies in clear, as older versions left it, is sealed.
func openAuthority(ctx context.Context, inv *inventory.Inventory, key keyring.Key) (*hostlink.Authority, error) {
	kept, err := keptAuthority(ctx, inv, key)
	if err != nil {
		return nil, err
	}
	return unseal(key, kept.Cert, kept.Sealed, kept.NextCert+kept.Former)
}

func keptAuthority(ctx context.Context, inv *inventory.Inventory, key keyring.Key) (*inventory.KeptAuthority, error) {
	return inv.Authority(ctx, func(pem []byte) ([]byte, error) { return key.Seal(pem, authorityPurpose, rand.Reader) },
		hostlink.NewAuthority)
}

func unseal(key keyring.Key, cert string, sealed []byte, also string) (*hostlink.Authority, error) {
	signing, err := key.Open(sealed, authorityPurpose)
	if err != nil {
		return nil, ErrOtherKey
	}
	a, err := hostlink.LoadAuthority([]byte(cert), signing)
	if err != nil {
		return nil, err
	}
	a.Also = []byte(also)
	return a, nil
}

// ErrRuns is returned for what needs every service of the database to be stopped.
var ErrRuns = errors.New("a service of this database runs: stop it first, and every other of the same database")

func stopped(ctx context.Context, inv *inventory.Inventory) error {
	n, err := inv.Services(ctx)
	if err == nil && n > 0 {
		err = ErrRuns
	}
	return err
}

// RotateKey seals every secret of the database anew, from one key to another, in
// one transaction. It returns how many there were.
func RotateKey(ctx context.Context, inv *inventory.Inventory, from, to keyring.Key) (int, error) {
	if err := stopped(ctx, inv); err != nil {
		return 0, err
	}
	kept, err := keptAuthority(ctx, inv, from)
	if err != nil {
		return 0, err
	}
	if kept.NextCert != "" {
		return 0, errors.New("the authority is being rotated: finish that first (unvora keys rotate authority)")
	}
	n := 0
	err = inv.Reseal(ctx, func(purpose string, sealed []byte) ([]byte, error) {
		secret, err := from.Open(sealed, purpose)
		if err != nil {
			return nil, fmt.Errorf("%s: %w", purpose, ErrOtherKey)
		}
		n++
		return to.Seal(secret, purpose, rand.Reader)
	}, authorityPurpose, foreign.Purpose)
	return n, err
}

// Opens tells whether a key is the one that the database's secrets are sealed
// with. A database without any is opened by every key.
func Opens(ctx context.Context, inv *inventory.Inventory, key keyring.Key) (bool, error) {
	ok := true
	err := inv.EachSealed(ctx, authorityPurpose, foreign.Purpose, func(purpose string, sealed []byte) error {
		_, err := key.Open(sealed, purpose)
		ok = ok && err == nil
		return nil
	})
	return ok, err
}

// RotateAuthority makes a new certificate authority and gives every agent a
// certificate of it. First each agent is told to trust both, then the new one is put
// into force, then each forgets the old one; so it can be broken off anywhere and
// asked for again, and a service that starts meanwhile reaches all. It returns the
// hosts, and the Unvoras that were paired with, which have to pair anew.
func RotateAuthority(ctx context.Context, inv *inventory.Inventory, key keyring.Key) (hosts, pairs []string,
	err error) {
	if err := stopped(ctx, inv); err != nil {
		return nil, nil, err
	}
	kept, err := keptAuthority(ctx, inv, key)
	if err != nil {
		return nil, nil, err
	}
	if kept.Former == "" {
		if err := putNext(ctx, inv, key, kept); err != nil {
			return nil, nil, err
		}
		if kept, err = keptAuthority(ctx, inv, key); err != nil {
			return nil, nil, err
		}
	}
	now, err := unseal(key, kept.Cert, kept.Sealed, kept.Former)
	if err != nil {
		return nil, nil, err
	}
	alone := *now
	alone.Also = nil
	if hosts, err = handOver(ctx, inv, now, &alone); err != nil {
		return nil, nil, fmt.Errorf("the new authority is in force, and the old one is still trusted: %w", err)
	}
	if err := inv.ForgetFormer(ctx); err != nil {
		return nil, nil, err
	}
	all, err := inv.Managers(ctx)
	if err != nil {
		return nil, nil, err
	}
	for _, m := range all {
		if m.Kind == inventory.ManagerUnvora {
			pairs = append(pairs, m.Name)
		}
	}
	return hosts, pairs, nil
}

// putNext lets every agent trust the next authority, and puts it into force.
func putNext(ctx context.Context, inv *inventory.Inventory, key keyring.Key, kept *inventory.KeptAuthority) error {
	if kept.NextCert == "" {
		cert, signing, err := hostlink.NewAuthority()
		if err != nil {
			return err
		}
		sealed, err := key.Seal(signing, authorityPurpose, rand.Reader)
		if err != nil {
			return err
		}
		if err := inv.NextAuthority(ctx, string(cert), sealed); err != nil {
			return err
		}
		if kept, err = keptAuthority(ctx, inv, key); err != nil {
			return err
		}
	}
	old, err := unseal(key, kept.Cert, kept.Sealed, kept.NextCert)
	if err != nil {
		return err
	}
	next, err := unseal(key, kept.NextCert, kept.NextSealed, kept.Cert)
	if err != nil {
		return err
	}
	if _, err := handOver(ctx, inv, old, next); err != nil {
		return fmt.Errorf("the old authority stays in force: %w", err)
	}
	return inv.SwitchAuthority(ctx)
}

// handOver gives every agent a certificate of another authority; nobody is left out.
func handOver(ctx context.Context, inv *inventory.Inventory, from, to *hostlink.Authority) (hosts []string, err error) {
	var silent []string
	err = inv.AllHosts(ctx, func(h inventory.Host) error {
		err := from.HandOver(ctx, h.Address, h.ID.String(), to)
		if errors.Is(err, hostlink.ErrUnreachable) {
			silent = append(silent, h.Name)
			return nil
		}
		if err != nil {
			return fmt.Errorf("the agent of %s: %w", h.Name, err)
		}
		hosts = append(hosts, h.Name)
		return nil
	})
	if err == nil && len(silent) > 0 {
		err = fmt.Errorf("the agents of %s do not answer. Start them, or drop these hosts; then ask again",
			strings.Join(silent, ", "))
	}
	return hosts, err
}
