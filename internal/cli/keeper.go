package cli

import (
	"github.com/spf13/cobra"

	"unvora.example/unvora/internal/agent/driver/qemu"
)

func init() {
	register(groupRun, (*app).keeperCmd)
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
