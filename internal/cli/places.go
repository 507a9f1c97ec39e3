package cli

import (
	"errors"
	"fmt"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/landing"
)

func init() {
	register(groupCare, (*app).landingCmd, (*app).switchCmd, (*app).poolCmd)
}

// calling makes a command of one call of the API and what is said of its answer.
func calling[T any](a *app, cmd *cobra.Command, do func(c *caller, cmd *cobra.Command, args []string) (*http.Response,
	error), say func(args []string, answer T)) *cobra.Command {
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := do(c, cmd, args)
		if e := (*exit)(nil); errors.As(err, &e) {
			return err // how it was called was wrong
		}
		answer, err := call[T](c, res, err)
		if err != nil {
			return err
		}
		return a.print(answer, func() { say(args, answer) })
	}
	return cmd
}

// hostCareCmds are rest, wake and drop.
func (a *app) hostCareCmds() []*cobra.Command {
	rest := func(use, short, said string, resting bool) *cobra.Command {
		return calling(a, &cobra.Command{Use: use + " HOST",
			Short:             short,
			Args:              cobra.ExactArgs(1),
			ValidArgsFunction: a.completeHosts(),
			Example:           "  unvora host " + use + " fulmar\n  unvora host " + use + " gannet -o json"},
			func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
				return c.RestHost(cmd.Context(), args[0], openapi.RestHostJSONRequestBody{Resting: resting})
			}, func(_ []string, h openapi.Host) { fmt.Fprintf(a.out, said+"\n", h.Name) })
	}
	drop := calling(a, &cobra.Command{Use: "drop HOST",
		Short:             "Forget a host that holds nothing any more",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeHosts(),
		Example:           "  unvora host drop fulmar\n  unvora host drop fulmar -o json"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.DropHost(cmd.Context(), args[0])
		}, func(args []string, _ struct{}) {
			fmt.Fprintf(a.out, "%s is forgotten. Its agent can be added again once its records are put away.\n",
				args[0])
		})
	s, code, address := &settling{}, "", ""
	rebuild := &cobra.Command{Use: "rebuild HOST --code CODE",
		Short:             "Bring back what a host had before it was wiped",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeHosts(),
		Long: `Bring back what a host had before it was wiped and its agent installed anew: its
switches, and the machines whose files are still there. What can't be brought back is
named first. The rules of wiring and landing never were on the host.`,
		Example: "  unvora host rebuild gannet --code K7QF-29XA-… --plan\n" +
			"  unvora host rebuild gannet --code K7QF-29XA-… --yes"}
	rebuild.Flags().StringVar(&code, "code", "", "the one-time code that the new agent prints; not needed to go on "+
		"with "+
		"a rebuilding")
	rebuild.Flags().StringVar(&address, "address", "", "where the new agent listens; as before unless said")
	s.flags(rebuild)
	rebuild.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		if code != "" {
			res, err := c.ReadmitHost(cmd.Context(), args[0], openapi.ReadmitHostJSONRequestBody{Code: code,
				Address: &address})
			if _, err := call[openapi.Host](c, res, err); err != nil {
				return err
			}
			a.say(a.errOut, "%s is known again.", args[0])
		}
		return a.perform(cmd.Context(), openapi.RebuildRequest{Operation: openapi.RebuildRequestOperationRebuild,
			Host: args[0]}, s, "as it was")
	}
	check := &cobra.Command{Use: "check HOST",
		Short:             "Whether a host can be used: name, port, certificate, agent, clock, pools, each by itself",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeHosts(),
		Example:           "  unvora host check skua\n  unvora host check skua -o json"}
	check.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.CheckHost(cmd.Context(), args[0])
		checks, err := call[[]openapi.HostCheck](c, res, err)
		if err != nil {
			return err
		}
		return a.showChecks(args[0], checks)
	}
	return []*cobra.Command{
		check,
		rebuild,
		rest("rest", "Let a host take nothing new; what it has goes on", "%s takes nothing new.", true),
		rest("wake", "Let a host take new machines again", "%s takes new machines again.", false),
		drop,
	}
}

// showChecks prints what holds and what does not, and fails when something does not.
func (a *app) showChecks(name string, checks []openapi.HostCheck) error {
	failed := false
	for _, k := range checks {
		failed = failed || !k.Ok
	}
	err := a.print(checks, func() {
		for _, k := range checks {
			sign := a.paint(green, "✓")
			if !k.Ok {
				sign = a.paint(red, "✕")
			}
			fmt.Fprintf(a.out, "%s %-12s %s\n", sign, k.What, k.Says)
		}
	})
	if err == nil && failed {
		err = &exit{statusFailed, fmt.Errorf("%s can't be used as it should be", name)}
	}
	return err
}

func (a *app) poolsCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "pools",
		Short:   "List pools; a share that several hosts see is one",
		Example: "  unvora pools\n  unvora pools --where host=gannet",
		Args:    cobra.NoArgs}
	where := whereFlag(cmd, "host=gannet")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		pools, rest, err := list[openapi.Pool](a, c, func(limit int, after *string) (*http.Response, error) {
			return c.ListPools(cmd.Context(), &openapi.ListPoolsParams{Limit: &limit, After: after,
				Filter: optional(*where)})
		})
		if err != nil {
			return err
		}
		return a.print(pools, func() {
			t := a.table("pool", "hosts", "state", "labels", "free", "of", "written at",
				"path").dropping("written at", "labels", "of")
			for _, p := range pools {
				rate := "–"
				if p.Rate != nil && *p.Rate > 0 {
					rate = size(*p.Rate) + "/s"
				}
				state := a.state(p.State)
				if p.Ownerless != nil && *p.Ownerless {
					state += ", keeps no owners"
				}
				if p.Owner != nil && *p.Owner != "" {
					state = "of the Unvora of " + *p.Owner
				}
				t.AppendRow([]any{p.Name, strings.Join(p.Hosts, ", "), state, dash(strings.Join(p.Labels, ", ")),
					size(p.FreeBytes), size(p.TotalBytes), rate, p.Path})
			}
			t.Render()
			a.more(rest)
		})
	}
	return cmd
}

func (a *app) poolCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "pool",
		Short:   "Set pools to rest, wake them, label them, hand them over",
		Example: "  unvora pool rest kelp\n  unvora pool label petrel/reef fast\n  unvora pool hand-over kelp"}
	set := func(sub *cobra.Command, fill func(args []string) openapi.SetPoolJSONRequestBody, say func(p openapi.Pool)) {
		cmd.AddCommand(calling(a, sub, func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.SetPool(cmd.Context(), &openapi.SetPoolParams{Pool: args[0]}, fill(args))
		}, func(_ []string, p openapi.Pool) { say(p) }))
	}
	set(&cobra.Command{Use: "rest POOL",
		Short: "Let a pool take nothing new; a drive can then be pulled out",
		Args:  cobra.ExactArgs(1),
		Long: "Let a pool take nothing new. Of a removable one nothing may run, and what its file\n" +
			"system still holds in memory is written out, so that the drive can be pulled out.",
		Example: "  unvora pool rest kelp\n  unvora pool rest gannet/reef"},
		func([]string) openapi.SetPoolJSONRequestBody {
			return openapi.SetPoolJSONRequestBody{Resting: ptr(true)}
		},
		func(p openapi.Pool) {
			fmt.Fprintf(a.out, "%s takes nothing new.\n", p.Name)
			if p.Removable {
				fmt.Fprintln(a.out, "Everything is written out: the drive can be pulled out.")
			}
		})
	set(&cobra.Command{Use: "wake POOL",
		Short:   "Let a pool take new files again",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora pool wake kelp\n  unvora pool wake gannet/reef"},
		func([]string) openapi.SetPoolJSONRequestBody {
			return openapi.SetPoolJSONRequestBody{Resting: ptr(false)}
		},
		func(p openapi.Pool) { fmt.Fprintf(a.out, "%s takes new files again.\n", p.Name) })
	set(&cobra.Command{Use: "label POOL [LABEL…]",
		Short:   "Give a pool these labels, and no others; rules of landing go by them",
		Args:    cobra.MinimumNArgs(1),
		Example: "  unvora pool label petrel/reef fast\n  unvora pool label harbour archive shared"},
		func(args []string) openapi.SetPoolJSONRequestBody {
			return openapi.SetPoolJSONRequestBody{Labels: ptr(args[1:])}
		},
		func(p openapi.Pool) {
			fmt.Fprintf(a.out, "%s: %s\n", p.Name, dash(strings.Join(p.Labels, ", ")))
		})
	cmd.AddCommand(a.handOverCmd(), a.takeOverCmd())
	return cmd
}

func (a *app) handOverCmd() *cobra.Command {
	s := &settling{}
	cmd := &cobra.Command{Use: "hand-over POOL",
		Short: "Make a pool nobody's: other hosts, or another Unvora, can take it over",
		Args:  cobra.ExactArgs(1),
		Long: `Make a pool nobody's: a drive that goes to another site, a share that another Unvora is to
look after. Its machines come off the lists of their hosts and stay as they are, with their
passports; a file in the pool, unvora-contents.json, lists what lies there. Then its mark says
that it is free, and nothing is written to it until somebody takes it over. What its file
system still holds in memory is written out: a drive can be pulled out.`,
		Example: "  unvora pool hand-over kelp --plan\n  unvora pool hand-over kelp --yes"}
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		return a.perform(cmd.Context(), openapi.HandOverRequest{
			Operation: openapi.HandOverRequestOperationHandOver, Pool: args[0]}, s, "handed over")
	}
	return cmd
}

func (a *app) takeOverCmd() *cobra.Command {
	s := &settling{}
	var only []string
	host, none := "", false
	cmd := &cobra.Command{Use: "take-over POOL",
		Short: "Make a pool ours, and register the machines that lie in it",
		Args:  cobra.ExactArgs(1),
		Long: `Make a pool ours that was handed over, and register the machines that lie in it. One that
still belongs to another Unvora is taken only while that is silent, and when you say that
nothing runs from it any more.`,
		Example: "  unvora pool take-over kelp --host gannet\n" +
			"  unvora pool take-over kelp --host gannet --only chart-render --yes"}
	cmd.Flags().StringVar(&host, "host", "", "that registers them; the first that sees the pool unless said")
	cmd.Flags().StringArrayVar(&only, "only", nil, "folder of a machine that is to be registered; all unless said")
	cmd.Flags().BoolVar(&none, "none", false, "register none: the pool alone becomes ours")
	cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if none && len(only) > 0 {
			return usage("either --none or --only")
		}
		req := openapi.TakeOverRequest{Operation: openapi.TakeOverRequestOperationTakeOver, Pool: args[0],
			Host: optional(host)}
		if none || len(only) > 0 {
			req.Machines = ptr(append([]string{}, only...))
		}
		return a.perform(cmd.Context(), req, s, "taken over")
	}
	return cmd
}

func (a *app) landingCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "landing",
		Short:   "Rules that lead files to pools, by label, room and kind",
		Example: "  unvora landing set --kind disk --over 100GiB --label archive\n  unvora landing list"}
	cmd.AddCommand(calling(a, &cobra.Command{Use: "list",
		Short:   "The rules, in the order in which they are tried",
		Args:    cobra.NoArgs,
		Example: "  unvora landing list\n  unvora landing list -o json"},
		func(c *caller, cmd *cobra.Command, _ []string) (*http.Response, error) {
			return c.ListLandingRules(cmd.Context())
		},
		func(_ []string, rules []openapi.LandingRule) {
			if len(rules) == 0 {
				fmt.Fprintln(a.out, "No rules: a machine lands in its host's first pool that is ready. Make one: "+
					"unvora landing "+
					"set --label LABEL")
				return
			}
			t := a.table("rule", "what it says")
			for _, r := range rules {
				t.AppendRow([]any{r.Id[len(r.Id)-8:], r.Says})
			}
			t.Render()
		}))
	r := openapi.NewLandingRule{OverBytes: new(int64), Host: new(string), Label: new(string), Pool: new(string),
		KeepBytes: new(int64), First: new(bool)}
	kind := ""
	set := &cobra.Command{Use: "set", Short: "Add a rule", Args: cobra.NoArgs,
		Long: `Add a rule. Rules are tried in order; the first that has a pool with room wins, and
of several pools the roomiest. --pool and --disk overrule them all.`,
		Example: "  unvora landing set --kind machine --label fast --keep 20GiB\n" +
			"  unvora landing set --kind disk --over 100GiB --label archive --host gannet"}
	f := set.Flags()
	f.StringVar(&kind, "kind", "", "which files: machine, disk or media; any unless said")
	f.Var(bytesValue{r.OverBytes}, "over", "only files of that capacity or more, such as 100GiB")
	f.StringVar(r.Host, "host", "", "only on this host")
	f.StringVar(r.Label, "label", "", "lead to pools with this label")
	f.StringVar(r.Pool, "pool", "", "or to the pool of this name")
	f.Var(bytesValue{r.KeepBytes}, "keep", "only as long as so much stays free there")
	f.BoolVar(r.First, "first", false, "try it before all others, not after them")
	set.RegisterFlagCompletionFunc("kind", cobra.FixedCompletions(landing.Kinds, cobra.ShellCompDirectiveNoFileComp))
	set.RegisterFlagCompletionFunc("host", a.completeHosts())
	cmd.AddCommand(calling(a, set, func(c *caller, cmd *cobra.Command, _ []string) (*http.Response, error) {
		r.Kind = ptr(openapi.NewLandingRuleKind(kind))
		return c.AddLandingRule(cmd.Context(), r)
	}, func(_ []string, r openapi.LandingRule) {
		fmt.Fprintf(a.out, "The rule %s is in force.\n", r.Id[len(r.Id)-8:])
	}))
	cmd.AddCommand(calling(a, &cobra.Command{Use: "drop RULE",
		Short:   "Take a rule away",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora landing drop 4f1c2a90\n  unvora landing drop 4f1c"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.DropLandingRule(cmd.Context(), args[0])
		}, func([]string, struct{}) { fmt.Fprintln(a.out, "The rule is gone.") }))
	return cmd
}

func (a *app) switchCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "switch",
		Short: "Make and drop virtual switches of hosts",
		Example: "  unvora switch add gannet visitors --segment visitors --vlan 40 --uplink port3 --tagged\n" +
			"  unvora switch drop gannet visitors"}
	s, sw := &settling{}, openapi.NewSwitch{Segment: new(string), Vlan: new(int), Uplink: new(string),
		Tagged:  new(bool),
		Address: new(string)}
	add := &cobra.Command{Use: "add HOST NAME",
		Short:             "Make a virtual switch, where the host's hypervisor lets others do that",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeHosts(),
		Long: `Make a virtual switch: with a port to lead out or with none, its frames tagged or
not, with an address of the host's own on it or without. Where that would take the
address by which the host is reached, the plan says so; it is then done only for a
minute, and stays if the host is reached again by then.`,
		Example: "  unvora switch add gannet visitors --segment visitors --vlan 40 --uplink port3 --tagged\n" +
			"  unvora switch add petrel trial --segment quarantine --plan"}
	f := add.Flags()
	f.StringVar(sw.Segment, "segment", "", "segment that it reaches")
	f.IntVar(sw.Vlan, "vlan", 0, "VLAN of the segment")
	f.StringVar(sw.Uplink, "uplink", "", "port of the host that leads out; none unless said")
	f.BoolVar(sw.Tagged, "tagged", false, "its frames bear the VLAN's tag on that port")
	f.StringVar(sw.Address, "address", "", "address of the host's own on it, such as 192.0.2.7/24")
	s.flags(add)
	add.RunE = func(cmd *cobra.Command, args []string) error {
		sw.Name = args[1]
		return a.perform(cmd.Context(), openapi.SwitchAddRequest{Operation: openapi.SwitchAddRequestOperationSwitchAdd,
			Host: args[0], Switch: sw}, s, "made")
	}
	d := &settling{}
	drop := &cobra.Command{Use: "drop HOST NAME",
		Short:             "Take a virtual switch away; nothing may be connected to it",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeHosts(),
		Example:           "  unvora switch drop gannet visitors\n  unvora switch drop gannet visitors --plan"}
	d.flags(drop)
	drop.RunE = func(cmd *cobra.Command, args []string) error {
		return a.perform(cmd.Context(),
			openapi.SwitchDropRequest{Operation: openapi.SwitchDropRequestOperationSwitchDrop,
				Host: args[0], Name: args[1]}, d, "taken away")
	}
	cmd.AddCommand(add, drop)
	return cmd
}
