package cli

import (
	"fmt"
	"log/slog"

	"github.com/spf13/cobra"

	"unvora.example/unvora/internal/service"
)

func init() {
	register(groupRun, (*app).serveCmd)
}

// inForce finds the settings of the service, of which a command has flags.
func inForce(cmd *cobra.Command, file string) (values, from service.Values, err error) {
	flag := func(name string) (string, bool) {
		f := cmd.Flags().Lookup(name)
		if f == nil {
			return "", false
		}
		return f.Value.String(), f.Changed
	}
	if values, from, err = service.InForce(flag, file, cmd.Flags().Changed("file")); err != nil {
		return nil, nil, usage("%v", err)
	}
	return values, from, nil
}

func (a *app) serveCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "serve", Short: "Run the service: inventory, jobs, API and console",
		Long: "Run the service. Settings come from flags, then UNVORA_* variables, then unvora.toml.\n" +
			"Any number of services may share one database.",
		Example: "  unvora serve --database postgres://localhost/unvora\n  unvora serve --show-config",
		Args:    cobra.NoArgs,
	}
	for _, s := range service.Settings {
		cmd.Flags().String(s.Name, s.Standard, s.About)
	}
	cmd.AddCommand(a.afterRestoreCmd())
	file := cmd.Flags().String("file", "unvora.toml", "configuration file")
	show := cmd.Flags().Bool("show-config", false, "print what is in force and where it comes from, and stop")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		values, from, err := inForce(cmd, *file)
		if err != nil {
			return err
		}
		if *show {
			for _, s := range service.Settings {
				values[s.Name] = service.Harmless(s.Name, values[s.Name])
			}
			return a.print(values, func() {
				t := a.table("setting", "value", "from")
				for _, s := range service.Settings {
					t.AppendRow([]any{s.Name, dash(values[s.Name]), from[s.Name]})
				}
				t.Render()
			})
		}
		log, err := a.logger(values["log-level"])
		if err != nil {
			return usage("%v", err)
		}
		if err := service.Run(cmd.Context(), values, log, a.out); err != nil {
			return &exit{statusFailed, err}
		}
		return nil
	}
	return cmd
}

// afterRestoreCmd readies a database that was brought back from a copy.
func (a *app) afterRestoreCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "after-restore", Short: "Ready a database that was brought back from a copy",
		Long: `Ready a database that was brought back from a copy, before a service runs on it: jobs
that were at work when the copy was made are held, since what they have done meanwhile is
not in it; addresses that may have been given out since are passed over; and all hosts are
read anew. Settings are those of serve.`,
		Example: "  unvora serve after-restore\n" +
			"  unvora serve after-restore --database postgres://localhost/unvora",
		Args: cobra.NoArgs,
	}
	for _, s := range service.Settings {
		if s.Name == "database" {
			cmd.Flags().String(s.Name, s.Standard, s.About)
		}
	}
	file := cmd.Flags().String("file", "unvora.toml", "configuration file")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		values, _, err := inForce(cmd, *file)
		if err != nil {
			return err
		}
		held, err := service.Restored(cmd.Context(), values)
		if err != nil {
			return &exit{statusFailed, err}
		}
		return a.print(map[string]any{"held": held}, func() {
			a.say(a.out, "The database is ready for a service.")
			if held > 0 {
				a.say(a.out, "Held: %s that the copy has at work. Look at each, then resume or cancel it: unvora jobs "+
					"--state held", count(int(held), "job"))
			}
		})
	}
	return cmd
}

func (a *app) logger(level string) (*slog.Logger, error) {
	var l slog.Level
	if err := l.UnmarshalText([]byte(level)); err != nil {
		return nil, fmt.Errorf("log level %q: there are debug, info, warn and error", level)
	}
	return slog.New(slog.NewTextHandler(a.errOut, &slog.HandlerOptions{Level: l})), nil
}
