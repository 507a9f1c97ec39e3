package service

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
)

// Key is the key that opens the database. A rotation that broke off has left a
// second file: of the two, the one that opens it is kept.
func Key(ctx context.Context, inv *inventory.Inventory, file string) (keyring.Key, error) {
	key, err := sealingKey(file)
	if err != nil {
		return key, err
	}
	raw, err := os.ReadFile(nextFile(file))
	if errors.Is(err, fs.ErrNotExist) {
		return key, nil
	}
	if err != nil {
		return key, fmt.Errorf("key file: %w", err)
	}
	ok, err := work.Opens(ctx, inv, key)
	if err != nil {
		return key, err
	}
	if ok { // the database was not sealed anew
		return key, os.Remove(nextFile(file))
	}
	next, err := keyring.ParseKey(string(raw))
	if err != nil {
		return key, work.ErrOtherKey
	}
	if ok, err = work.Opens(ctx, inv, next); err != nil {
		return key, err
	}
	if !ok {
		return key, work.ErrOtherKey
	}
	return next, os.Rename(nextFile(file), file)
}

// sealingKey reads the key, or makes one.
func sealingKey(file string) (keyring.Key, error) {
	raw, err := os.ReadFile(file)
	if errors.Is(err, fs.ErrNotExist) {
		key, err := keyring.NewKey(rand.Reader)
		if err != nil {
			return key, err
		}
		err = writeKey(file, key, os.O_EXCL)
		if errors.Is(err, fs.ErrExist) { // another service was quicker
			return sealingKey(file)
		}
		if err != nil {
			return key, fmt.Errorf("make the key file: %w; choose another place with --key-file", err)
		}
		return key, nil
	}
	if err != nil {
		return keyring.Key{}, fmt.Errorf("key file: %w", err)
	}
	key, err := keyring.ParseKey(string(raw))
	if err != nil {
		return key, fmt.Errorf("key file %s: %w", file, err)
	}
	return key, nil
}

// nextFile is where a new key lies until the database is sealed with it.
func nextFile(file string) string { return file + ".next" }

// writeKey writes a key for the service's account alone, down to the drive.
func writeKey(file string, key keyring.Key, how int) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|how, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(f, key)
	return errors.Join(err, f.Sync(), f.Close())
}

// RotateFile seals all secrets of a database with a new key, which takes the place of a key file. It returns how many
// there were.
func RotateFile(ctx context.Context, inv *inventory.Inventory, file string) (int, error) {
	from, err := Key(ctx, inv, file)
	if err != nil {
		return 0, err
	}
	to, err := keyring.NewKey(rand.Reader)
	if err != nil {
		return 0, err
	}
	if err := writeKey(nextFile(file), to, os.O_TRUNC); err != nil {
		return 0, err
	}
	n, err := work.RotateKey(ctx, inv, from, to)
	if err != nil {
		if ok, e := work.Opens(ctx, inv, from); e == nil && ok { // else the next start finds out
			err = errors.Join(err, os.Remove(nextFile(file)))
		}
		return 0, err
	}
	return n, os.Rename(nextFile(file), file)
}

// RotateAuthority gives every agent a certificate of a new authority. It returns the hosts, and the Unvoras that have
// to be paired with anew.
func RotateAuthority(ctx context.Context, inv *inventory.Inventory, file string) (hosts, pairs []string, err error) {
	key, err := Key(ctx, inv, file)
	if err != nil {
		return nil, nil, err
	}
	return work.RotateAuthority(ctx, inv, key)
}
