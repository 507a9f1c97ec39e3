package cli

import (
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupSend, (*app).moveCmd)
}

func (a *app) moveCmd() *cobra.Command {
	s := &settling{}
	var host, pool string
	var disks, wire []string
	var keepWiring bool
	cmd := &cobra.Command{
		Use:   "move COPY",
		Short: "Take a machine to another host, or to another pool",
		Long: `Take a machine to another host, of the same family or another, or to another pool of its host.

It stays the copy that it is, with its ids and MACs. One that runs is stopped, copied, and started
at its new place. What was written is read back; then it is taken off the list of the host that it
leaves, and only then listed at the new one, so that at no moment both could be started. Its old
files go to the trash of their pool, for as long as the agent keeps that. If anything fails, it is
where it was, and runs if it ran.`,
		Example: "  unvora move tide-gauge --host petrel\n" +
			"  unvora move gannet/tide-gauge --host skua --plan\n" +
			"  unvora move tide-gauge --pool kelp",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeCopies("registered"),
	}
	f := cmd.Flags()
	f.StringVar(&host, "host", "", "host to take it to; its own unless said")
	f.StringVar(&pool, "pool", "", "pool for its folder; as the rules of landing say unless said")
	f.StringArrayVar(&disks, "disk", nil, "DISK=POOL, DISK=:FORMAT or DISK=POOL:FORMAT: the pool that one disk lands "+
		"in, the format that it is written in")
	f.StringArrayVar(&wire, "wire", nil, "NIC=SWITCH")
	f.BoolVar(&keepWiring, "keep-wiring", false, "make rules of the switches that are chosen by an answer")
	cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		req := &openapi.MoveRequest{Operation: openapi.MoveRequestOperationMove, Copies: args, Host: optional(host),
			Pool: optional(pool), KeepWiring: &keepWiring}
		var err error
		if req.Disks, err = pairs("--disk", disks); err != nil {
			return err
		}
		if req.Wire, err = pairs("--wire", wire); err != nil {
			return err
		}
		return a.perform(cmd.Context(), req, s, "moved")
	}
	return cmd
}
