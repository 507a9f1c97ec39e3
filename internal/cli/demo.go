package cli

import (
	"github.com/spf13/cobra"

	"unvora.example/unvora/internal/demo"
)

func init() {
	register(groupRun, (*app).demoCmd)
}

func (a *app) demoCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "demo", Short: "Start a sample estate on this computer",
		Long: `Start a sample estate: PostgreSQL on loopback, the service, and the agents of two
sample hosts with their machines. Everything lies under one directory, and is
found again by the next start. Ctrl-C stops all of it.`,
		Example: "  unvora demo\n  unvora demo --dir /tmp/second --port 7600", Args: cobra.NoArgs,
	}
	dir := cmd.Flags().String("dir", ".demo", "directory for everything")
	port := cmd.Flags().Int("port", 7480, "port of the service")
	services := cmd.Flags().Int("services", 1, "services on the one database, each on a port of its own")
	profile := cmd.Flags().Bool("default-profile", false, "make it what the client uses when it has no other profile")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		o := demo.Options{Dir: *dir, Port: *port, Services: *services, Out: a.out, SignIn: SignIn,
			WriteProfile: WriteProfile}
		if *profile {
			o.Profile = DemoProfile()
		}
		if err := demo.Run(cmd.Context(), o); err != nil {
			return &exit{statusFailed, err}
		}
		return nil
	}
	return cmd
}
