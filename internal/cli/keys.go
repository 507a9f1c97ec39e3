package cli

import (
	"context"
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/service"
)

func init() {
	register(groupRun, (*app).keysCmd)
}

func (a *app) keysCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "keys",
		Short:   "Rotate the key file, or the certificate authority, on the service's computer",
		Example: "  unvora keys rotate file\n  unvora keys rotate authority"}
	rotate := &cobra.Command{Use: "rotate",
		Short:   "Replace a key by a new one; every service of the database has to be stopped",
		Example: "  unvora keys rotate file\n  unvora keys rotate authority --database postgres://localhost/unvora"}
	file := rotate.PersistentFlags().String("file", "unvora.toml", "configuration file of the service")
	for _, s := range service.Settings {
		if s.Name == "database" || s.Name == "key-file" {
			rotate.PersistentFlags().String(s.Name, s.Standard, s.About)
		}
	}
	on := func(f func(ctx context.Context, inv *inventory.Inventory, keyFile string) error) func(*cobra.Command,
		[]string) error {
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
		&cobra.Command{Use: "file",
			Short:   "Seal all secrets with a new key, which takes the place of the key file",
			Args:    cobra.NoArgs,
			Example: "  unvora keys rotate file\n  unvora keys rotate file --key-file /var/lib/unvora/unvora.key",
			Long: "Seal all secrets with a new key, which takes the place of the key file. Bring the new\n" +
				"file to every other service of the database. Whatever breaks it off, one of both files\n" +
				"opens the database, and the next start finds out which.",
			RunE: on(a.rotateFile)},
		&cobra.Command{Use: "authority",
			Short:   "Give every agent a certificate of a new authority",
			Args:    cobra.NoArgs,
			Example: "  unvora keys rotate authority\n  unvora keys rotate authority --file /etc/unvora/unvora.toml",
			Long: "Give every agent a certificate of a new authority. All agents have to be there. Broken\n" +
				"off, it goes on when it is asked for again, and services reach all agents meanwhile.\n" +
				"Other Unvoras have to be paired with anew.",
			RunE: on(a.rotateAuthority)},
	)
	cmd.AddCommand(rotate)
	return cmd
}

func (a *app) rotateFile(ctx context.Context, inv *inventory.Inventory, file string) error {
	n, err := service.RotateFile(ctx, inv, file)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "Sealed %d secrets with the new key in %s. Bring that file to every other service of this "+
		"database. Open consoles have to be loaded anew.\n", n, file)
	return nil
}

func (a *app) rotateAuthority(ctx context.Context, inv *inventory.Inventory, file string) error {
	hosts, pairs, err := service.RotateAuthority(ctx, inv, file)
	if err != nil {
		return err
	}
	fmt.Fprintf(a.out, "A new authority is in force; %d agents have a certificate of it, and forgot the old one.\n",
		len(hosts))
	if len(pairs) > 0 {
		fmt.Fprintf(a.out, "Pair anew with %s: they know the old one.\n", strings.Join(pairs, ", "))
	}
	return nil
}
