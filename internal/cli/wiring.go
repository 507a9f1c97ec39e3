package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupCare, (*app).wiringCmd)
}

func (a *app) wiringCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "wiring", Short: "Rules that lead networks to segments, and segments to switches",
		Example: "  unvora wiring try \"Wet lab\" --host petrel\n  unvora wiring set --network \"Wet*\" --segment lab"}
	cmd.AddCommand(a.wiringListCmd(), a.wiringSetCmd(), a.wiringDropCmd(), a.wiringTryCmd(), a.wiringSegmentCmd())
	return cmd
}

func (a *app) wiringListCmd() *cobra.Command {
	return &cobra.Command{Use: "list",
		Short:   "The rules, in the order in which they are tried, and the segments",
		Args:    cobra.NoArgs,
		Example: "  unvora wiring list\n  unvora wiring list -o json",
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.ListRules(cmd.Context())
			rules, err := call[[]openapi.Rule](c, res, err)
			if err != nil {
				return err
			}
			res, err = c.ListSegments(cmd.Context())
			segments, err := call[[]openapi.Segment](c, res, err)
			if err != nil {
				return err
			}
			return a.print(rules, func() {
				if len(rules) == 0 {
					fmt.Fprintln(a.out, "No rules: networks go by their segment, VLAN and name. Make one: unvora "+
						"wiring set "+
						"--network NAME --segment SEGMENT")
				} else {
					t := a.table("rule", "network", "VLAN", "segment", "host", "switch")
					for _, r := range rules {
						t.AppendRow([]any{r.Id[len(r.Id)-8:], dash(r.Network), orDashNumber(r.Vlan),
							dash(r.Segment), dash(r.Host),
							dash(r.Switch)})
					}
					t.Render()
				}
				fmt.Fprintln(a.out)
				t := a.table("segment", "subnet", "to give out", "given", "hosts")
				for _, s := range segments {
					subnet := ""
					if s.Subnet != nil {
						subnet = *s.Subnet
					}
					addresses := ""
					if s.From != nil && s.To != nil {
						addresses = *s.From + " – " + *s.To
					}
					t.AppendRow([]any{s.Name, dash(subnet), dash(addresses), s.Given, s.Hosts})
				}
				t.Render()
			})
		}}
}

func orDashNumber(n int) string {
	if n == 0 {
		return "–"
	}
	return fmt.Sprint(n)
}

func (a *app) wiringSetCmd() *cobra.Command {
	r := openapi.NewRule{Network: new(string), Vlan: new(int), Segment: new(string), Host: new(string),
		Switch: new(string), First: new(bool)}
	cmd := &cobra.Command{Use: "set", Short: "Add a rule", Args: cobra.NoArgs,
		Long: `Add a rule. With --segment alone it leads networks of that name or VLAN to a
segment; with --switch it leads them, or a segment, to a switch. Rules are tried in
order, and the first that fits wins.`,
		Example: "  unvora wiring set --network \"Wet lab*\" --segment lab\n" +
			"  unvora wiring set --segment visitors --switch quarantine --host gannet"}
	f := cmd.Flags()
	f.StringVar(r.Network, "network", "", "name of the network, * and ? stand for anything")
	f.IntVar(r.Vlan, "vlan", 0, "VLAN of the network")
	f.StringVar(r.Segment, "segment", "", "segment it leads to; with --switch, that it leads from")
	f.StringVar(r.Switch, "switch", "", "switch it leads to")
	f.StringVar(r.Host, "host", "", "only on this host")
	f.BoolVar(r.First, "first", false, "try it before all others, not after them")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.AddRule(cmd.Context(), r)
		rule, err := call[openapi.Rule](c, res, err)
		if err != nil {
			return err
		}
		return a.print(rule, func() {
			fmt.Fprintf(a.out, "The rule %s is in force.\n", rule.Id[len(rule.Id)-8:])
		})
	}
	return cmd
}

func (a *app) wiringDropCmd() *cobra.Command {
	return &cobra.Command{Use: "drop RULE",
		Short:   "Take a rule away",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora wiring drop 4f1c2a90\n  unvora wiring drop 4f1c",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.DropRule(cmd.Context(), args[0])
			if _, err = call[struct{}](c, res, err); err != nil {
				return err
			}
			return a.print(map[string]string{"dropped": args[0]}, func() { fmt.Fprintln(a.out, "The rule is gone.") })
		}}
}

func (a *app) wiringTryCmd() *cobra.Command {
	host, segment, vlan := "", "", 0
	cmd := &cobra.Command{Use: "try NETWORK --host HOST",
		Short:   "Which switch a network would land on, and which rule won",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora wiring try lab --host petrel\n  unvora wiring try \"Backbone 30\" --vlan 30 --host skua"}
	cmd.Flags().StringVar(&host, "host", "", "host (needed)")
	cmd.Flags().StringVar(&segment, "segment", "", "segment of the network at its origin")
	cmd.Flags().IntVar(&vlan, "vlan", 0, "its VLAN")
	cmd.MarkFlagRequired("host")
	cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.TryWiring(cmd.Context(), &openapi.TryWiringParams{Network: &args[0], Segment: &segment,
			Vlan: &vlan,
			Host: host})
		t, err := call[openapi.WiringTry](c, res, err)
		if err != nil {
			return err
		}
		return a.print(t, func() {
			switch {
			case t.Switch != "":
				fmt.Fprintf(a.out, "%s → %s of %s (segment %s), %s\n", args[0], a.paint(bold, t.Switch), host,
					t.Segment, t.Why)
				if len(t.Likely) > 0 {
					fmt.Fprintf(a.out, "also fit: %s\n", strings.Join(t.Likely, ", "))
				}
			case t.Segment != "":
				fmt.Fprintf(a.out, "%s belongs on the segment %s, %s; %s has no switch that reaches it\n", args[0],
					t.Segment, t.Why, host)
			default:
				fmt.Fprintf(a.out, "%s → nothing of %s: %s\n", args[0], host, t.Why)
				if len(t.Likely) > 0 {
					fmt.Fprintf(a.out, "the likeliest: %s\n", strings.Join(t.Likely, ", "))
				}
			}
		})
	}
	return cmd
}

func (a *app) wiringSegmentCmd() *cobra.Command {
	addresses := ""
	cmd := &cobra.Command{Use: "segment NAME SUBNET",
		Short: "Say which subnet a segment has, and which addresses of it are to be given out",
		Args:  cobra.ExactArgs(2),
		Long: `Say which subnet a segment has: fixed addresses are compared with it. With a range,
addresses of it are given out to machines: --address "NIC 1=give".`,
		Example: "  unvora wiring segment lab 192.0.2.0/24 --range 192.0.2.100-192.0.2.199\n" +
			"  unvora wiring segment lab none",
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			subnet := args[1]
			if subnet == "none" {
				subnet = ""
			}
			res, err := c.SetSegment(cmd.Context(), openapi.SetSegmentJSONRequestBody{Name: args[0], Subnet: subnet,
				Range: &addresses})
			if _, err = call[struct{}](c, res, err); err != nil {
				return err
			}
			return a.print(map[string]string{"segment": args[0], "subnet": subnet, "range": addresses},
				func() { fmt.Fprintf(a.out, "%s: %s %s\n", args[0], args[1], addresses) })
		}}
	cmd.Flags().StringVar(&addresses, "range", "", "addresses to give out: FROM-TO")
	return cmd
}
