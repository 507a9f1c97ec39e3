package cli

import (
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupSend, (*app).moveCmd)
}

func (a *app) moveCmd() *cobra.Command {
	s, m := &settling{}, &several{}
	var host, pool string
	var spread bool
	var disks, wire []string
	var keepWiring bool
	cmd := &cobra.Command{
		Use:   "move COPY…",
		Short: "Take machines to another host, or to another pool",
		Long: `Take machines to another host, of the same family or another, or to another pool of their host.

A machine stays the copy that it is, with its ids and MACs. One that runs goes on while its disks are
copied, where its host can freeze them; then it is stopped, what it has written meanwhile follows, and
it is started at its new place. What was written is read back; then the machine is taken off the list
of the host that it leaves, and only then listed at the new one, so that at no moment both could be
started. Its old files go to the trash of their pool (unvora trash). If anything fails, it is where it
was, and runs if it ran.

Of several each moves in a job of its own: what one can't do stops no other. With --all-or-nothing
all are copied first, then one after the other comes to its place; if one fails, all are where they
were. --spread chooses a host for each, by memory, room and what the host can run; with
--where 'host=gannet' that empties a host. Those that are there already stay.

With --copy-ahead what can be copied while machines run is copied now; each cuts over when somebody
says so (unvora jobs cut-over), with --cut-over at a time. What it has written until then follows
before it is stopped, so it is down for seconds. The command returns at once.`,
		Example: "  unvora move tide-gauge --host petrel\n" +
			"  unvora move gannet/tide-gauge --host skua --plan\n" +
			"  unvora move tide-gauge --pool kelp\n" +
			"  unvora move --where 'host=gannet name~training-*' --spread --plan\n" +
			"  unvora move archive-db --host petrel --cut-over 22:00-23:30",
		Args: cobra.ArbitraryArgs, ValidArgsFunction: a.completeCopies("registered"),
	}
	f := cmd.Flags()
	f.StringVar(&host, "host", "", "host to take them to; their own unless said")
	f.BoolVar(&spread, "spread", false, "choose a host for each: the one that can take it and has the most memory left")
	f.StringVar(&pool, "pool", "", "pool for its folder; as the rules of landing say unless said")
	f.StringArrayVar(&disks, "disk", nil, "DISK=POOL, DISK=:FORMAT or DISK=POOL:FORMAT: the pool that one disk lands "+
		"in, the format that it is written in")
	f.StringArrayVar(&wire, "wire", nil, "NIC=SWITCH")
	f.BoolVar(&keepWiring, "keep-wiring", false, "make rules of the switches that are chosen by an answer")
	cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	ahead, cutOver := false, ""
	f.BoolVar(&ahead, "copy-ahead", false, "copy now, and cut over when somebody says so: unvora jobs cut-over ID")
	f.StringVar(&cutOver, "cut-over", "", "copy now, and cut over at 22:00, or 2026-12-01 22:00; 22:00-23:30 holds "+
		"what has not begun to by then")
	s.transfers(cmd)
	m.flags(a, cmd, "host=gannet")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if err := m.check(args); err != nil {
			return err
		}
		req := &openapi.MoveRequest{Operation: openapi.MoveRequestOperationMove, Copies: &args, Host: optional(host),
			Where: optional(m.where), AllOrNothing: &m.allOrNothing, Pool: optional(pool)}
		if ahead || cutOver != "" {
			req.CopyAhead, s.detach = &ahead, true
			var err error
			if req.CutOverAt, req.CutOverUntil, err = window(cutOver, time.Now()); err != nil {
				return err
			}
		}
		if spread {
			req.Spread = &spread
		}
		if keepWiring {
			req.KeepWiring = &keepWiring
		}
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
