package cli

import (
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupSend, (*app).cloneCmd)
}

func (a *app) cloneCmd() *cobra.Command {
	s, o := &settling{}, &importFlags{}
	var kind, snapshot string
	var count = 1
	var on bool
	cmd := &cobra.Command{
		Use:   "clone COPY",
		Short: "Make another copy of a machine, with an identity of its own; or many",
		Long: `Make another copy of a machine, with an identity of its own; with --count, many.

A layered clone takes milliseconds, whatever the disks' size: what the origin's disks
hold now is frozen, and origin and clone each write to a layer of their own above it.
A whole clone stands on its own, at this host or another, of the same family or another.
Layered is the default where it can be.`,
		Example: "  unvora clone tide-gauge --name tide-trial --on\n" +
			"  unvora clone gannet/tide-gauge --host skua --kind whole --plan\n" +
			"  unvora clone training-01 --count 12 --name class-{nn} --first-start class.yaml",
		Args: cobra.ExactArgs(1), ValidArgsFunction: a.completeCopies("registered"),
	}
	o.flags(a, cmd)
	o.firstStartFlag(cmd)
	f := cmd.Flags()
	f.StringVar(&kind, "kind", "", "whole or layered")
	f.StringVar(&snapshot, "snapshot", "", "clone it as it was at this snapshot")
	f.Var(atLeast{&count, 1}, "count", "how many")
	f.BoolVar(&on, "on", false, "start them")
	cmd.Flags().Lookup("host").Usage = "host to make it at; the origin's unless said"
	cmd.Flags().Lookup("name").Usage = "name of the clone; of several a pattern: {name}, {n} or {nn}"
	cmd.Flags().Lookup("pool").Usage = "pool for its folder; the origin's unless said"
	cmd.Flags().Lookup("identity").Hidden = true // it is renewed in any case
	delete(cmd.Flags().Lookup("host").Annotations, cobra.BashCompOneRequiredFlag)
	cmd.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions([]string{"layered", "whole"},
		cobra.ShellCompDirectiveNoFileComp))
	s.transfers(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		switch {
		case kind != "" && kind != "whole" && kind != "layered":
			return usage("--kind %q: whole or layered", kind)
		case count < 1 || count > 200:
			return usage("--count %d: 1 to 200 at once", count)
		case o.identity != "":
			return usage("a clone always has an identity of its own; --facet FACET=keep keeps single facets")
		}
		common, err := o.request()
		if err != nil {
			return err
		}
		req := &openapi.CloneRequest{}
		if err := remake(common, req); err != nil {
			return err
		}
		req.Operation, req.Copies = openapi.CloneRequestOperationClone, args
		req.Kind, req.Count, req.On = (*openapi.CloneRequestKind)(optional(kind)), &count, &on
		req.Snapshot = optional(snapshot)
		return a.perform(cmd.Context(), req, s, "cloned")
	}
	return cmd
}
