package cli

import (
	"fmt"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupCare, (*app).snapshotCmd)
}

func (a *app) snapshotCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "snapshot",
		Short: "Keep a copy's disks as they are at a moment, and go back to that",
		Example: "  unvora snapshot make tide-gauge 'before the update'\n" +
			"  unvora snapshot back tide-gauge 'before the update'"}
	list := &cobra.Command{Use: "list COPY", Short: "A copy's snapshots, as a tree", Args: cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies("registered"),
		Example:           "  unvora snapshot list tide-gauge\n  unvora snapshot list gannet/archive-db -o json"}
	list.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.GetCopy(cmd.Context(), &openapi.GetCopyParams{Name: args[0],
			Form: ptr(openapi.GetCopyParamsForm("registered"))})
		k, err := call[openapi.Copy](c, res, err)
		if err != nil {
			return err
		}
		tree := []openapi.Snapshot{}
		stands := ""
		m := k.Machine
		at, err := c.LookAtFolder(cmd.Context(), &openapi.LookAtFolderParams{Host: k.Host, Folder: k.Path})
		if folder, err := call[openapi.Folder](c, at, err); err == nil && folder.Machine != nil {
			m = folder.Machine // as it is now; else as it was seen last
		}
		if m != nil && m.Tree != nil {
			tree = *m.Tree
			stands = *orEmpty(m.Stands)
		}
		return a.print(tree, func() {
			if len(tree) == 0 {
				fmt.Fprintf(a.out, "%s has no snapshots. unvora snapshot make %s NAME\n", place(k), args[0])
				return
			}
			fmt.Fprintln(a.out, a.paint(bold, place(k)))
			a.snapshots(tree, "", stands, "")
		})
	}
	cmd.AddCommand(list)
	for _, v := range []struct {
		use, short, done, example string
		ask                       func(copies []string, name string, m *several) any
	}{
		{"make COPY… NAME", "Freeze all disks at one instant; one that runs goes on, where its hypervisor can freeze",
			"snapshot made", "  unvora snapshot make tide-gauge monday\n" +
				"  unvora snapshot make gannet/archive-db 'before the update' --note 'schema 14'\n" +
				"  unvora snapshot make --where 'name~training-*' monday --all-or-nothing",
			func(copies []string, name string, m *several) any {
				return openapi.SnapshotRequest{Operation: openapi.SnapshotRequestOperationSnapshot, Copies: &copies,
					Snapshot: name, Where: optional(m.where), AllOrNothing: &m.allOrNothing}
			}},
		{"back COPY… NAME",
			"Stand on a snapshot again; what was written since is kept as one, unless you say otherwise",
			"as it was", "  unvora snapshot back tide-gauge monday\n" +
				"  unvora snapshot back tide-gauge monday --answer snapshot.present=let-go",
			func(copies []string, name string, m *several) any {
				return openapi.GoBackRequest{Operation: openapi.GoBackRequestOperationGoBack, Copies: &copies,
					Snapshot: name, Where: optional(m.where), AllOrNothing: &m.allOrNothing}
			}},
		{"drop COPY… NAME", "Drop a snapshot; what the machine has written since stays, in its disks",
			"snapshot dropped", "  unvora snapshot drop tide-gauge monday\n" +
				"  unvora snapshot drop tide-gauge monday --plan",
			func(copies []string, name string, m *several) any {
				return openapi.DropSnapshotRequest{Operation: openapi.DropSnapshotRequestOperationDropSnapshot,
					Copies: &copies, Snapshot: name, Where: optional(m.where), AllOrNothing: &m.allOrNothing}
			}},
	} {
		m := &several{}
		verb := a.changing(&cobra.Command{Use: v.use, Short: v.short, Args: cobra.MinimumNArgs(1), Example: v.example},
			v.done, func(args []string) (any, error) {
				copies, name := args[:len(args)-1], args[len(args)-1]
				return v.ask(copies, name, m), m.check(copies)
			})
		m.flags(a, verb, "name~training-*")
		cmd.AddCommand(verb)
	}
	return cmd
}

// snapshots prints those that stand on one, and what stands on them.
func (a *app) snapshots(tree []openapi.Snapshot, on, stands, indent string) {
	var here []openapi.Snapshot
	for _, s := range tree {
		if *orEmpty(s.Parent) == on {
			here = append(here, s)
		}
	}
	now := stands == on
	for n, s := range here {
		branch, below := "├─ ", "│  "
		if n == len(here)-1 && !now {
			branch, below = "└─ ", "   "
		}
		line := fmt.Sprintf("%s%s%s  %s", indent, branch, s.Name, ago(s.MadeAt))
		if note := *orEmpty(s.Note); note != "" {
			line += "  " + note
		}
		fmt.Fprintln(a.out, strings.TrimRight(line, " "))
		a.snapshots(tree, s.Name, stands, indent+below)
	}
	if now && on != "" {
		fmt.Fprintf(a.out, "%s└─ what it writes now\n", indent)
	}
}

// orEmpty is a text that may be left out.
func orEmpty(s *string) *string {
	if s == nil {
		return new(string)
	}
	return s
}
