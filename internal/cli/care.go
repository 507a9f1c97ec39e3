package cli

import (
	"fmt"

	"github.com/spf13/cobra"
	"github.com/spf13/pflag"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupCare, (*app).powerCmd, (*app).hostCmd)
}

func (a *app) powerCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "power",
		Short:   "Start and stop copies, pause and suspend them",
		Example: "  unvora power on gannet/tide-gauge petrel/tide-gauge\n  unvora power off petrel/tide-gauge"}
	var boot string
	var hard bool
	for _, v := range []struct {
		use, short, done, example string
		ask                       func(copies *[]string, m *several) any
		flags                     func(f *pflag.FlagSet)
	}{
		{use: "on", done: "running", example: "  unvora power on skua/kiosk-visitor --boot cd1",
			short: "Start copies, or let them go on; one that would collide with another that runs is refused",
			ask: func(copies *[]string, m *several) any {
				return openapi.StartRequest{Operation: openapi.StartRequestOperationStart, Copies: copies,
					Where: optional(m.where), AllOrNothing: &m.allOrNothing,
					Boot: optional(boot)}
			},
			flags: func(f *pflag.FlagSet) {
				f.StringVar(&boot, "boot", "", "start from this disk, drive or NIC, once")
			}},
		{use: "off", done: "stopped", example: "  unvora power off gannet/tide-gauge --hard",
			short: "Shut copies down; one whose guest does not hear is turned off after a while",
			ask: func(copies *[]string, m *several) any {
				manner := openapi.StopRequestMannerEmpty
				if hard {
					manner = openapi.StopRequestMannerOff
				}
				return openapi.StopRequest{Operation: openapi.StopRequestOperationStop, Copies: copies,
					Where: optional(m.where), AllOrNothing: &m.allOrNothing, Manner: &manner}
			},
			flags: func(f *pflag.FlagSet) {
				f.BoolVar(&hard, "hard", false, "at once, as by a power cut")
			}},
		{use: "stop", done: "stopped", example: "  unvora power stop gannet/tide-gauge --note 'new disks'",
			short: "Ask the guests of copies to shut down; one that does not goes on",
			ask: func(copies *[]string, m *several) any {
				manner := openapi.StopRequestMannerClean
				return openapi.StopRequest{Operation: openapi.StopRequestOperationStop, Copies: copies,
					Where: optional(m.where), AllOrNothing: &m.allOrNothing, Manner: &manner}
			}},
		{use: "pause", done: "paused", example: "  unvora power pause gannet/tide-gauge --detach",
			short: "Let running copies stand still; power on lets them go on",
			ask: func(copies *[]string, m *several) any {
				return openapi.PauseRequest{Operation: openapi.PauseRequestOperationPause, Copies: copies,
					Where: optional(m.where), AllOrNothing: &m.allOrNothing}
			}},
		{use: "suspend", done: "suspended", example: "  unvora power suspend gannet/tide-gauge --detach",
			short: "End copies with what they have in memory kept in a file; power on lets them go on",
			ask: func(copies *[]string, m *several) any {
				return openapi.SuspendRequest{Operation: openapi.SuspendRequestOperationSuspend, Copies: copies,
					Where: optional(m.where), AllOrNothing: &m.allOrNothing}
			}},
	} {
		s, m := &settling{}, &several{}
		sub := &cobra.Command{Use: v.use + " COPY…",
			Short:             v.short,
			Args:              cobra.ArbitraryArgs,
			ValidArgsFunction: a.completeCopies("registered"),
			Example:           v.example + "\n  unvora power " + v.use + " gannet/tide-gauge petrel/tide-gauge --plan"}
		s.flags(sub)
		m.flags(a, sub, "host=gannet name~training-*")
		if v.flags != nil {
			v.flags(sub.Flags())
		}
		sub.RunE = func(cmd *cobra.Command, args []string) error {
			if err := m.check(args); err != nil {
				return err
			}
			return a.perform(cmd.Context(), v.ask(&args, m), s, v.done)
		}
		cmd.AddCommand(sub)
	}
	return cmd
}

func (a *app) hostCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "host",
		Short:   "Add hosts, set them to rest, drop them",
		Example: "  unvora host add 127.0.0.1:7490 --code ABCD-…\n  unvora host rest fulmar"}
	add := &cobra.Command{
		Use: "add ADDRESS:PORT", Short: "Add a host by the one-time code that its agent prints",
		Example: "  unvora host add 127.0.0.1:7490 --code K7QF-29XA-…\n" +
			"  unvora host add gannet.skerrow.example:7490 --code K7QF-29XA-…", Args: cobra.ExactArgs(1),
	}
	code := add.Flags().String("code", "", "the code that the agent prints when it starts (needed)")
	add.MarkFlagRequired("code")
	add.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.AddHost(cmd.Context(), openapi.AddHost{Address: args[0], Code: *code})
		h, err := call[openapi.Host](c, res, err)
		if err != nil {
			return err
		}
		return a.print(h, func() {
			fmt.Fprintf(a.out, "%s is added. What it holds: unvora copies --where host=%s\n", h.Name, h.Name)
		})
	}
	cmd.AddCommand(add)
	cmd.AddCommand(a.hostCareCmds()...)
	return cmd
}
