package cli

import (
	"context"
	"fmt"
	"math"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/firststart"
)

func init() {
	register(groupLook, (*app).whereCmd, (*app).copiesCmd, (*app).lineagesCmd, (*app).hostsCmd, (*app).poolsCmd,
		(*app).switchesCmd, (*app).packagesCmd, (*app).surveyCmd, (*app).historyCmd, (*app).findCmd)
}

// pageOf is what all pages of lists have in common.
type pageOf[T any] struct {
	Items []T    `json:"items"`
	Next  string `json:"next"`
	Count int    `json:"count"`
}

const (
	pageItems  = 500
	tableItems = 1000 // more than that nobody reads
)

// list reads pages until the end, or until a table is long enough.
func list[T any](a *app, c *caller, get func(limit int, after *string) (*http.Response, error)) (all []T, rest int,
	err error) {
	all = []T{}
	var after *string
	for {
		res, err := get(pageItems, after)
		p, err := call[pageOf[T]](c, res, err)
		if err != nil {
			return nil, 0, err
		}
		all = append(all, p.Items...)
		if p.Next == "" {
			return all, 0, nil
		}
		if a.output == "table" && len(all) >= tableItems {
			return all, p.Count - len(all), nil
		}
		after = &p.Next
	}
}

// plain reads pages of a list that comes as such, until there are as many as were asked for, and tells whether there
// are more.
func plain[T any](c *caller, most int, get func(limit int, after *string) (*http.Response, error)) (all []T, more bool,
	err error) {
	all = []T{}
	var after *string
	for len(all) < most {
		res, err := get(min(most-len(all), pageItems), after)
		page, err := call[[]T](c, res, err)
		if err != nil {
			return nil, false, err
		}
		all = append(all, page...)
		next := res.Header.Get("Unvora-Next")
		if after = &next; next == "" {
			return all, false, nil
		}
	}
	return all, true, nil
}

// newest reads pages until there are as many as were asked for.
func newest[T any](c *caller, most int, get func(limit int, after *string) (*http.Response, error)) (all []T,
	err error) {
	all = []T{}
	var after *string
	for {
		res, err := get(min(most-len(all), pageItems), after)
		p, err := call[pageOf[T]](c, res, err)
		if err != nil {
			return nil, err
		}
		if all = append(all, p.Items...); p.Next == "" || len(all) >= most {
			return all, nil
		}
		after = &p.Next
	}
}

func (a *app) more(rest int) {
	if rest > 0 {
		fmt.Fprintf(a.out, "… and %d more or so: narrow the list with --where, or ask for all with -o json\n", rest)
	}
}

func whereFlag(cmd *cobra.Command, example string) *string {
	return cmd.Flags().String("where", "", "only those that fit, such as '"+example+"'")
}

// optionalList is nil for none.
func optionalList(l []string) *[]string {
	if len(l) == 0 {
		return nil
	}
	return &l
}

func optional(s string) *string {
	if s == "" {
		return nil
	}
	return &s
}

// place tells where a copy is.
func place(c openapi.Copy) string {
	switch {
	case c.Form == openapi.CopyFormPackage && firstOf(c.Shelf, c.Pool) != "":
		within := lastPart(c.Path)
		if c.Rel != nil {
			within = *c.Rel
		}
		return firstOf(c.Shelf, c.Pool) + "/" + within
	case c.Form == openapi.CopyFormPackage:
		return c.Path
	case c.Form == openapi.CopyFormRegistered:
		return c.Host + "/" + c.Name
	}
	return c.Host + ": " + c.Pool + "/" + lastPart(c.Path)
}

func (a *app) copiesCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "copies [NAME]", Short: "List copies; with a name, one in full",
		Example:           "  unvora copies --where 'host=gannet state=running'\n  unvora copies gannet/tide-gauge",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeCopies(),
	}
	where := whereFlag(cmd, "host=gannet form=registered name~training-*")
	cmd.RegisterFlagCompletionFunc("where", a.completeWhere())
	order := cmd.Flags().String("order", "name", "sort by name, made or size; -made begins with the latest")
	cmd.RegisterFlagCompletionFunc("order", cobra.FixedCompletions([]string{"name", "made", "size", "-name", "-made",
		"-size"}, cobra.ShellCompDirectiveNoFileComp))
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		if len(args) == 1 {
			return a.showCopy(cmd.Context(), c, args[0])
		}
		return a.listCopies(cmd.Context(), c, *where, *order)
	}
	return cmd
}

func (a *app) packagesCmd() *cobra.Command {
	return &cobra.Command{Use: "packages",
		Short:   "List packages, and the shelves that keep them",
		Example: "  unvora packages\n  unvora packages -o json",
		Args:    cobra.NoArgs,
		RunE: func(cmd *cobra.Command, _ []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			if a.output == "table" {
				shelves, _, err := plain[openapi.Shelf](c, math.MaxInt, func(limit int, after *string) (*http.Response,
					error) {
					return c.ListShelves(cmd.Context(), &openapi.ListShelvesParams{Limit: &limit, After: after})
				})
				if err != nil {
					return err
				}
				t := a.table("shelf", "at", "free", "path")
				for _, s := range shelves {
					t.AppendRow([]any{s.Name, s.Host, size(s.FreeBytes), s.Path})
				}
				t.Render()
				fmt.Fprintln(a.out)
			}
			return a.listCopies(cmd.Context(), c, "form=package", "name")
		}}
}

func (a *app) listCopies(ctx context.Context, c *caller, where, order string) error {
	copies, rest, err := list[openapi.Copy](a, c, func(limit int, after *string) (*http.Response, error) {
		return c.ListCopies(ctx, &openapi.ListCopiesParams{Limit: &limit, After: after, Filter: optional(where),
			Order: &order})
	})
	if err != nil {
		return err
	}
	return a.print(copies, func() {
		if len(copies) == 0 {
			fmt.Fprintln(a.out, "None. unvora survey looks again at what the hosts hold.")
			return
		}
		t := a.table("copy", "form", "state", "where", "size", "made", "MACs").dropping("MACs", "made", "size", "form")
		for _, k := range copies {
			t.AppendRow([]any{a.paint(bold, k.Name), a.state(string(k.Form)), a.state(k.State), place(k),
				size(k.SizeBytes),
				strings.Replace(k.MadeBy, "survey", "found", 1) + " " + ago(k.MadeAt), dash(strings.Join(k.Macs, " "))})
		}
		t.Render()
		a.more(rest)
	})
}

func (a *app) showCopy(ctx context.Context, c *caller, name string) error {
	res, err := c.GetCopy(ctx, &openapi.GetCopyParams{Name: name})
	k, err := call[openapi.Copy](c, res, err)
	if err != nil {
		return err
	}
	return a.print(k, func() {
		fmt.Fprintf(a.out, "%s  %s, %s, at %s\n", a.paint(bold, k.Name), k.Form, a.state(k.State), place(k))
		if why := k.StateWhy; why != nil && *why != "" {
			fmt.Fprintln(a.out, a.paint(bold, *why))
		}
		fmt.Fprintf(a.out, "id %s, lineage %s\nmachine UUID %s\n%s\nlast seen %s\n", k.Id, k.Lineage, dash(k.Uuid),
			made(k), ago(k.LastSeen))
		m := k.Machine
		if m == nil {
			return
		}
		fmt.Fprintf(a.out, "%s, %s of memory, %s, %s\n", count(m.Cpus, "CPU"), size(m.MemoryBytes), m.Firmware,
			dash(m.Guest))
		if n := m.StartOrder; n != nil && *n > 0 {
			fmt.Fprintf(a.out, "starts with its host, as number %d\n", *n)
		}
		if m.Devices != nil && slices.ContainsFunc(*m.Devices, func(d openapi.Device) bool {
			return d.File != nil && *d.File == firststart.File
		}) {
			fmt.Fprintf(a.out, "first-start data lies in a drive; once its guest has read it: unvora change %s "+
				"--first-start-done\n", place(k))
		}
		fmt.Fprintln(a.out)
		t := a.table("disk", "format", "capacity", "takes", "file")
		if m.Disks != nil {
			for _, d := range *m.Disks {
				t.AppendRow([]any{d.Id, d.Format, size(d.VirtualBytes), size(d.FileBytes), d.File})
			}
		}
		t.Render()
		fmt.Fprintln(a.out)
		a.deviceTable(m.Devices)
		t = a.table("NIC", "model", "MAC", "network")
		if m.Nics != nil {
			for _, n := range *m.Nics {
				t.AppendRow([]any{n.Name, n.Model, dash(n.Mac), dash(n.Network)})
			}
		}
		t.Render()
	})
}

// deviceTable lists what a machine has besides disks and NICs.
func (a *app) deviceTable(devices *[]openapi.Device) {
	if devices == nil || len(*devices) == 0 {
		return
	}
	t := a.table("device", "kind", "medium")
	for _, d := range *devices {
		file := ""
		if d.File != nil {
			file = *d.File
		}
		t.AppendRow([]any{d.Name, d.Kind, dash(file)})
	}
	t.Render()
	fmt.Fprintln(a.out)
}

func (a *app) lineagesCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "lineages",
		Short:   "List lineages with their copies",
		Example: "  unvora lineages\n  unvora lineages --where 'name~tide*'",
		Args:    cobra.NoArgs}
	where := whereFlag(cmd, "host=gannet name~tide*")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		all, rest, err := list[openapi.Lineage](a, c, func(limit int, after *string) (*http.Response, error) {
			return c.ListLineages(cmd.Context(), &openapi.ListLineagesParams{Limit: &limit, After: after,
				Filter: optional(*where)})
		})
		if err != nil {
			return err
		}
		return a.print(all, func() {
			t := a.table("lineage", "copies", "where")
			for _, l := range all {
				var places []string
				for _, k := range l.Copies {
					places = append(places, place(k))
				}
				t.AppendRow([]any{a.paint(bold, l.Name), l.Total, strings.Join(places, ", ")})
			}
			t.Render()
			a.more(rest)
		})
	}
	return cmd
}

func (a *app) whereCmd() *cobra.Command {
	all := false
	cmd := &cobra.Command{
		Use: "where NAME", Short: "Draw a lineage: which copy lives where, made from which, running or not",
		Long: "Draw the lineage of a machine as a tree: each copy stands below the one that it\n" +
			"was made from. NAME is that of the lineage or of any of its copies, or an id.\n" +
			"Of many packages of one copy, and of many that are gone, the latest are drawn.",
		Example:           "  unvora where tide-gauge\n  unvora where petrel/chart-render",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			res, err := c.GetLineage(cmd.Context(), &openapi.GetLineageParams{Name: args[0]})
			l, err := call[openapi.Lineage](c, res, err)
			if err != nil {
				return err
			}
			return a.print(l, func() { a.tree(l, all) })
		},
	}
	cmd.Flags().BoolVar(&all, "all", false, "draw each copy, however many there are")
	return cmd
}

func identityWords(c openapi.Copy) string {
	switch c.Identity {
	case "renew":
		if len(c.Renewed) == 0 {
			return "renewed"
		}
		return "renewed (" + strings.Join(c.Renewed, ", ") + ")"
	case "keep":
		return "kept"
	}
	return "its own"
}

func made(c openapi.Copy) string {
	when := c.MadeAt.Local().Format("2006-01-02 15:04")
	switch c.MadeBy {
	case "survey":
		if c.Parent != nil {
			s := "copied by hand, found " + when
			if strings.Contains(c.Host, "@") { // at a manager: how it came there, nobody here knows
				s = "found " + when
			}
			if by := recognised(c); by != "" {
				s += ", recognised by " + by
			}
			if c.SettledBy != nil && *c.SettledBy != "" {
				s += ", confirmed by " + *c.SettledBy
			}
			return s
		}
		return "found " + when
	}
	by := ""
	if c.MadeUser != "" {
		by = " by " + c.MadeUser
	}
	return fmt.Sprintf("%s%s, %s, identity %s", c.MadeBy, by, when, identityWords(c))
}

func (a *app) surveyCmd() *cobra.Command {
	return &cobra.Command{
		Use: "survey [HOST…]", Short: "Ask hosts what they hold, and say what has changed",
		Example:           "  unvora survey\n  unvora survey gannet petrel",
		ValidArgsFunction: a.completeHosts(),
		RunE: func(cmd *cobra.Command, args []string) error {
			c, err := a.client()
			if err != nil {
				return err
			}
			began := time.Now()
			res, err := c.Survey(cmd.Context(), openapi.SurveyJSONRequestBody{Hosts: &args})
			all, err := call[[]openapi.Surveyed](c, res, err)
			if err != nil {
				return err
			}
			failed := 0
			err = a.print(all, func() {
				changes := 0
				for _, s := range all {
					if s.Error != "" {
						failed++
						fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, s.Host), a.paint(red, s.Error))
					}
					for _, ch := range s.Changes {
						changes++
						fmt.Fprintf(a.out, "%s  %s %s: %s\n", a.paint(bold, s.Host), a.state(ch.Form), ch.What, ch.Text)
					}
				}
				if changes == 0 && failed == 0 {
					fmt.Fprintf(a.out, "Nothing has changed (looked in %d ms).\n", time.Since(began).Milliseconds())
				}
			})
			if err == nil && failed > 0 {
				return &exit{statusUnreachable, fmt.Errorf("%s did not answer", count(failed, "host"))}
			}
			return err
		},
	}
}

func (a *app) historyCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "history [NAME]",
		Short: "Show who did what, when and why",
		Example: "  unvora history tide-gauge\n" +
			"  unvora history --where 'who=robin what=move since=2026-03-01'",
		Args:              cobra.MaximumNArgs(1),
		ValidArgsFunction: a.completeCopies()}
	where := whereFlag(cmd, "who=robin what=move since=2026-03-01")
	limit := 50
	cmd.Flags().Var(atLeast{&limit, 1}, "limit", "how many entries")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		entries, err := newest[openapi.HistoryEntry](c, limit, func(limit int, after *string) (*http.Response, error) {
			return c.ListHistory(cmd.Context(), &openapi.ListHistoryParams{Lineage: optional(strings.Join(args, "")),
				Filter: optional(*where), Limit: &limit, After: after})
		})
		if err != nil {
			return err
		}
		return a.print(entries, func() {
			if len(entries) == 0 {
				fmt.Fprintln(a.out, "Nothing.")
				return
			}
			t := a.table("when", "who", "what", "subject", "why", "taken back by").dropping("why")
			for _, e := range entries {
				back := ""
				if e.Back != nil {
					back = *e.Back
				}
				t.AppendRow([]any{e.At.Local().Format("2006-01-02 15:04:05"), e.Who, e.What, e.Subject, dash(e.Why),
					dash(back)})
			}
			t.Render()
		})
	}
	return cmd
}
