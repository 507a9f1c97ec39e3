package cli

import (
	"fmt"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupCare, (*app).powerCmd, (*app).hostCmd)
}

func (a *app) powerCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "power",
		Short:   "Start and stop copies",
		Example: "  unvora power on gannet/tide-gauge petrel/tide-gauge\n  unvora power off petrel/tide-gauge"}
	for _, v := range []struct {
		use, short, done string
		ask              func(copies []string) any
	}{
		{"on", "Start copies; one that would collide with another that runs is refused", "running",
			func(copies []string) any {
				return openapi.StartRequest{Operation: openapi.StartRequestOperationStart, Copies: copies}
			}},
		{"off", "Shut copies down cleanly", "stopped", func(copies []string) any {
			return openapi.StopRequest{Operation: openapi.StopRequestOperationStop, Copies: copies}
		}},
	} {
		s := &settling{}
		sub := &cobra.Command{Use: v.use + " COPY…",
			Short:             v.short,
			Args:              cobra.MinimumNArgs(1),
			ValidArgsFunction: a.completeCopies("registered"),
			Example: "  unvora power " + v.use + " gannet/tide-gauge\n  unvora power " + v.use +
				" gannet/tide-gauge petrel/tide-gauge --plan"}
		s.flags(sub)
		sub.RunE = func(cmd *cobra.Command, args []string) error {
			return a.perform(cmd.Context(), v.ask(args), s, v.done)
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
