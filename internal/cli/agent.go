package cli

import (
	"errors"
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
	cmd.AddCommand(a.agentInitCmd(), a.agentShutCmd())
	level := cmd.Flags().String("log-level", "info", "debug, info, warn or error")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		config, err := agentFile(args[0])
		if err != nil {
			return err
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

// agentFile reads the configuration of an agent.
func agentFile(path string) (config agent.Config, err error) {
	meta, err := toml.DecodeFile(path, &config)
	if err != nil {
		return config, usage("the agent's file %s: %v", path, err)
	}
	if extra := meta.Undecoded(); len(extra) > 0 {
		return config, usage("the agent's file %s: there is no setting %q", path, extra[0].String())
	}
	return config, nil
}

func (a *app) agentShutCmd() *cobra.Command {
	return &cobra.Command{
		Use: "shut-down FILE", Short: "Shut down all machines of this computer, before it shuts down itself",
		Long: "Shut down all machines of the computer whose agent has the configuration FILE: their\n" +
			"guests are asked to, and after stop_seconds they are turned off. The agent itself need\n" +
			"not run. The unit unvora-machines does this when the computer shuts down.",
		Example: "  unvora agent shut-down /etc/unvora/agent.toml\n  unvora agent shut-down tern.toml",
		Args:    cobra.ExactArgs(1),
		RunE: func(cmd *cobra.Command, args []string) error {
			config, err := agentFile(args[0])
			if err != nil {
				return err
			}
			if err := agent.ShutDown(cmd.Context(), config); err != nil {
				return &exit{statusFailed, err}
			}
			return nil
		}}
}

func (a *app) agentInitCmd() *cobra.Command {
	w := agent.Wishes{}
	cmd := &cobra.Command{
		Use: "init FILE", Short: "Look at this computer, and write the file of its agent",
		Long: "Look at this computer and write the file of an agent that runs machines on it: what it\n" +
			"has of CPUs, memory and bridges is found out, what else there has to be is told. FILE\n" +
			"must not be there yet; - is standard output.",
		Example: "  unvora agent init /etc/unvora/agent.toml\n" +
			"  unvora agent init - --name tern --site Ferry --pool /srv/tideline",
		Args: cobra.ExactArgs(1),
	}
	f := cmd.Flags()
	f.StringVar(&w.Name, "name", "", "name of the host; the computer's own unless said")
	f.StringVar(&w.Site, "site", "Home", "site that it stands at")
	f.StringVar(&w.Listen, "listen", "0.0.0.0:7490", "address and port that the service reaches it at")
	f.StringVar(&w.State, "state", "/var/lib/unvora-agent", "directory of the agent's own records")
	f.StringVar(&w.Pool, "pool", "/srv/machines", "directory of machines")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, checks, err := agent.Propose(cmd.Context(), w)
		if err != nil {
			return usage("%v", err)
		}
		text, err := agent.Describe(c)
		if err != nil {
			return usage("%v", err)
		}
		if err := a.writeNew(args[0], text); err != nil {
			return err
		}
		for _, k := range checks {
			sign := a.paint(green, "✓")
			if !k.OK {
				sign = a.paint(red, "✕")
			}
			fmt.Fprintf(a.errOut, "%s %-13s %s\n", sign, k.Name, k.Says)
		}
		if args[0] != "-" {
			fmt.Fprintf(a.errOut, "\n%s is written. See that its pool %s is there, and is the agent's; then: unvora "+
				"agent %s\n",
				args[0], w.Pool, args[0])
		}
		return nil
	}
	return cmd
}

// writeNew writes a file that is not there yet; - is standard output.
func (a *app) writeNew(path string, text []byte) error {
	if path == "-" {
		_, err := a.out.Write(text)
		return err
	}
	f, err := os.OpenFile(path, os.O_WRONLY|os.O_CREATE|os.O_EXCL, 0o644)
	if errors.Is(err, os.ErrExist) {
		return usage("%s is there already: take another name, or move it away first", path)
	}
	if err != nil {
		return &exit{statusFailed, err}
	}
	_, err = f.Write(text)
	if err = errors.Join(err, f.Close()); err != nil {
		return &exit{statusFailed, errors.Join(err, os.Remove(path))}
	}
	return nil
}
