package cli

import (
	"fmt"
	"os"

	"github.com/BurntSushi/toml"
	"github.com/spf13/cobra"
	"golang.org/x/term"

	"unvora.example/unvora/internal/agent"
)

func init() {
	register(groupRun, (*app).agentCmd)
}

func (a *app) agentCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "agent FILE", Short: "Run the agent beside a hypervisor",
		Long: "Run the agent of one host. FILE is its configuration: name, family, driver, pools,\n" +
			"shelves and switches. Until it is added to an inventory it prints a one-time code\n" +
			"for: unvora host add.",
		Example: "  unvora agent /etc/unvora/agent.toml\n  unvora agent gannet.toml --log-level debug",
		Args:    cobra.ExactArgs(1),
	}
	level := cmd.Flags().String("log-level", "info", "debug, info, warn or error")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		var config agent.Config
		meta, err := toml.DecodeFile(args[0], &config)
		if err != nil {
			return usage("the agent's file %s: %v", args[0], err)
		}
		if extra := meta.Undecoded(); len(extra) > 0 {
			return usage("the agent's file %s: there is no setting %q", args[0], extra[0].String())
		}
		log, err := a.logger(*level)
		if err != nil {
			return usage("%v", err)
		}
		driver, err := agent.DriverOf(config)
		if err != nil {
			return usage("the agent's file %s: %v", args[0], err)
		}
		ag, err := agent.New(config, driver, log)
		if err != nil {
			return &exit{statusFailed, err}
		}
		l, err := ag.Listen()
		if err != nil {
			return &exit{statusFailed, err}
		}
		log.Info("listening", "host", config.Name, "address", l.Addr().String())
		if code := ag.Code(); code != "" {
			if out, ok := a.out.(*os.File); !ok || !term.IsTerminal(int(out.Fd())) { // a log, which others read too
				code = `"$(cat ` + config.CodeFile() + `)"`
			}
			fmt.Fprintf(a.out, "Add this host with: unvora host add %s --code %s\n", l.Addr(), code)
		}
		if err := ag.Serve(cmd.Context(), l); err != nil {
			return &exit{statusFailed, err}
		}
		return nil
	}
	return cmd
}
