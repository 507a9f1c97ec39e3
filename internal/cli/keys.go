package cli

import (
	"context"
	"crypto/rand"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"strings"

	"github.com/spf13/cobra"

	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work"
)

func (a *app) keysCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "keys", Short: "Rotate the key file, or the certificate authority, on the service's computer", Example: "  unvora keys rotate file\n  unvora keys rotate authority"}
	rotate := &cobra.Command{Use: "rotate", Short: "Replace a key by a new one; every service of the database has to be stopped", Example: "  unvora keys rotate file\n  unvora keys rotate authority --database postgres://localhost/unvora"}
	file := rotate.PersistentFlags().String("file", "unvora.toml", "configuration file of the service")
	for _, s := range settings {
		if s.name == "database" || s.name == "key-file" {
			rotate.PersistentFlags().String(s.name, s.standard, s.about)
		}
	}
	on := func(f func(ctx context.Context, inv *inventory.Inventory, keyFile string) error) func(*cobra.Command, []string) error {
		return func(cmd *cobra.Command, _ []string) error {
			values, _, err := inForce(cmd, *file)
			if err != nil {
				return err
			}
			inv, err := inventory.Open(cmd.Context(), values["database"])
			if err != nil {
				return &exit{statusFailed, err}
			}
			defer inv.Close()
			if err := f(cmd.Context(), inv, values["key-file"]); err != nil {
				return &exit{statusFailed, err}
			}
			return nil
		}
	}
	rotate.AddCommand(
		&cobra.Command{Use: "file", Short: "Seal all secrets with a new key, which takes the place of the key file", Args: cobra.NoArgs, Example: "  unvora keys rotate file\n  unvora keys rotate file --key-file /var/lib/unvora/unvora.key",
			Long: "Seal all secrets with a new key, which takes the place of the key file. Bring the new\nfile to every other service of the database. Whatever breaks it off, one of both files\nopens the database, and the next start finds out which.",
			RunE: on(a.rotateFile)},
		&cobra.Command{Use: "authority", Short: "Give every agent a certificate of a new authority", Args: cobra.NoArgs, Example: "  unvora keys rotate authority\n  unvora keys rotate authority --file /etc/unvora/unvora.toml",
			Long: "Give every agent a certificate of a new authority. All agents have to be there. Broken\noff, it goes on when it is asked for again, and services reach all agents meanwhile.\nOther Unvoras have to be paired with anew.",
			RunE: on(a.rotateAuthority)},
	)
	cmd.AddCommand(rotate)
	return cmd
}

// nextFile is where a new key lies until the database is sealed with it.
func nextFile(file string) string { return file + ".next" }

func (a *app) rotateFile(ctx context.Context, inv *inventory.Inventory, file string) error {
	from, err := settledKey(ctx, inv, file)
	if err != nil {
		return err
	}
	to, err := keyring.NewKey(rand.Reader)
	if err != nil {
		return err
	}
	if err := writeKey(nextFile(file), to, os.O_TRUNC); err != nil {
		return err
	}
	n, err := work.RotateKey(ctx, inv, from, to)
	if err != nil {
		if ok, e := work.Opens(ctx, inv, from); e == nil && ok { // else the next start finds out
			err = errors.Join(err, os.Remove(nextFile(file)))
		}
		return err
	}
	if err := os.Rename(nextFile(file), file); err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Sealed %d secrets with the new key in %s. Bring that file to every other service of this database. Open consoles have to be loaded anew.\n", n, file)
	return nil
}

func (a *app) rotateAuthority(ctx context.Context, inv *inventory.Inventory, file string) error {
	key, err := settledKey(ctx, inv, file)
	if err != nil {
		return err
	}
	hosts, pairs, err := work.RotateAuthority(ctx, inv, key)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "A new authority is in force; %d agents have a certificate of it, and forgot the old one.\n", len(hosts))
	if len(pairs) > 0 {
		fmt.Fprintf(a.out, "Pair anew with %s: they know the old one.\n", strings.Join(pairs, ", "))
	}
	return nil
}

// settledKey is the key that opens the database. A rotation that broke off has left a
// second file: of the two, the one that opens it is kept.
func settledKey(ctx context.Context, inv *inventory.Inventory, file string) (keyring.Key, error) {
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

// writeKey writes a key for the service's account alone, down to the drive.
func writeKey(file string, key keyring.Key, how int) error {
	f, err := os.OpenFile(file, os.O_WRONLY|os.O_CREATE|how, 0o600)
	if err != nil {
		return err
	}
	_, err = fmt.Fprintln(f, key)
	return errors.Join(err, f.Sync(), f.Close())
}
