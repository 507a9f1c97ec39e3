package cli

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func (a *app) hostsCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use:               "hosts [NAME]",
		Short:             "List hosts; with a name, one in full",
		Example:           "  unvora hosts\n  unvora hosts gannet",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeHosts(),
	}
	where := whereFlag(cmd, "site=Northhead name~g*")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		if len(args) == 1 {
			return a.showHost(cmd.Context(), c, args[0])
		}
		hosts, rest, err := list[openapi.Host](a, c, func(limit int, after *string) (*http.Response, error) {
			return c.ListHosts(cmd.Context(), &openapi.ListHostsParams{Limit: &limit, After: after,
				Filter: optional(*where)})
		})
		if err != nil {
			return err
		}
		return a.print(hosts, func() {
			if len(hosts) == 0 {
				fmt.Fprintln(a.out, "No hosts. Start an agent beside a hypervisor (unvora agent), then: unvora host "+
					"add "+
					"ADDRESS:PORT --code CODE")
				return
			}
			t := a.table("host", "state", "family", "site", "CPUs", "memory", "copies",
				"last seen").dropping("last seen", "CPUs", "family", "site")
			for _, h := range hosts {
				seen := "never"
				if h.LastSeen != nil {
					seen = ago(*h.LastSeen)
				}
				t.AppendRow([]any{a.paint(bold, h.Name), a.state(string(h.State)), h.Family, h.Site, h.Cpus,
					size(h.MemoryBytes),
					h.Copies, seen})
			}
			t.Render()
			a.more(rest)
		})
	}
	return cmd
}

// showAbilities says what a host's hypervisor can, and that it is slow.
func (a *app) showAbilities(abilities *openapi.Abilities) {
	if abilities == nil {
		return
	}
	if abilities.Can != nil && len(*abilities.Can) > 0 {
		words := []string{}
		for _, can := range *abilities.Can {
			words = append(words, string(can))
		}
		fmt.Fprintf(a.out, "Its hypervisor has: %s.\n", strings.Join(words, ", "))
	}
	if why := abilities.NoAcceleration; why != nil && *why != "" {
		fmt.Fprintf(a.out, "Machines run slowly, emulated: %s.\n", *why)
	}
	fmt.Fprintln(a.out)
}

func (a *app) showHost(ctx context.Context, c *caller, name string) error {
	res, err := c.GetHost(ctx, name)
	h, err := call[openapi.HostDetail](c, res, err)
	if err != nil {
		return err
	}
	return a.print(h, func() {
		fmt.Fprintf(a.out, "%s  %s  family %s, driver %s, site %s, %d CPUs, %s, agent at %s\n\n", a.paint(bold, h.Name),
			a.state(string(h.State)), h.Family, h.Driver, h.Site, h.Cpus, size(h.MemoryBytes), h.Address)
		a.showAbilities(h.Abilities)
		t := a.table("pool", "state", "used", "promised", "free", "of", "path").dropping("promised", "of")
		for _, p := range h.Pools {
			promised := int64(0)
			for _, m := range h.Promised {
				if m.Pool == p.Id {
					promised = m.Bytes
				}
			}
			t.AppendRow([]any{p.Name, a.state(p.State), size(p.UsedBytes), size(promised), size(p.FreeBytes),
				size(p.TotalBytes), p.Path})
		}
		t.Render()
		fmt.Fprintln(a.out)
		a.switchTable(h.Switches)
		for _, on := range h.On {
			more := ""
			if n := on.Total - len(on.Machines); n > 0 {
				more = fmt.Sprintf(" and %d more", n)
			}
			a.hung(a.out, "  ", fmt.Sprintf("on %s: %s%s", on.Switch, strings.Join(on.Machines, ", "), more))
		}
		if len(h.Shelves) > 0 {
			fmt.Fprintln(a.out)
			t := a.table("shelf", "free", "path")
			for _, s := range h.Shelves {
				t.AppendRow([]any{s.Name, size(s.FreeBytes), s.Path})
			}
			t.Render()
		}
	})
}

func (a *app) switchTable(list []openapi.Switch) {
	t := a.table("host", "switch", "segment", "VLAN", "leads out by",
		"host's address").dropping("host's address", "VLAN")
	for _, s := range list {
		vlan := "–"
		if s.Vlan != 0 {
			vlan = fmt.Sprint(s.Vlan)
		}
		uplink := dash(s.Uplink)
		if s.Tagged {
			uplink += ", tagged"
		}
		t.AppendRow([]any{s.Host, s.Name, s.Segment, vlan, uplink, dash(s.Address)})
	}
	t.Render()
}

func (a *app) switchesCmd() *cobra.Command {
	return &cobra.Command{Use: "switches [HOST]",
		Short:             "List virtual switches and the segments they reach",
		Example:           "  unvora switches\n  unvora switches petrel",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			host := optional(strings.Join(args, ""))
			all, _, err := plain[openapi.Switch](c, math.MaxInt, func(limit int, after *string) (*http.Response,
				error) {
				return c.ListSwitches(cmd.Context(), &openapi.ListSwitchesParams{Host: host, Limit: &limit,
					After: after})
			})
			if err != nil {
				return err
			}
			return a.print(all, func() { a.switchTable(all) })
		}}
}
