package cli

import (
	"github.com/spf13/cobra"

	"unvora.example/unvora/internal/agent/driver/qemu"
)

func init() {
	register(groupRun, (*app).keeperCmd, (*app).confinedCmd)
}

// keeperCmd is started by agents, and by nobody else.
func (a *app) keeperCmd() *cobra.Command {
	return &cobra.Command{Use: qemu.KeeperCommand + " DIR", Hidden: true, Args: cobra.ExactArgs(1),
		Short: "Keep a machine that runs on this host, and what its serial port says",
		RunE: func(_ *cobra.Command, args []string) error {
			if err := qemu.Keep(args[0]); err != nil {
				return &exit{statusFailed, err}
			}
			return nil
		}}
}

// confinedCmd is started by keepers, and by nobody else.
func (a *app) confinedCmd() *cobra.Command {
	return &cobra.Command{Use: qemu.ConfinedCommand + " -- PROGRAM…", Hidden: true, Args: cobra.MinimumNArgs(1),
		Short: "Become a program that can do no more than a machine needs",
		RunE:  func(_ *cobra.Command, args []string) error { return &exit{statusFailed, qemu.Confine(args)} }}
}
