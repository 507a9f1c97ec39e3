package cli

import (
	"context"
	"encoding/json"
	"fmt"
	"math"
	"net/http"
	"net/url"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/lineage"
)

func init() {
	register(groupLook, (*app).attentionCmd, (*app).compareCmd)
	register(groupCare, (*app).recogniseCmd)
	commands = append(commands, command{groupCare, (*app).trackCmds})
}

func (a *app) attentionCmd() *cobra.Command {
	w := waiting{most: usualWaiting}
	cmd := &cobra.Command{Use: "attention", Short: "What waits for a decision, worst first",
		Args: cobra.NoArgs,
		Long: `What waits for a decision: entries whose files are gone, folders that no host lists,
copies that share an identity, layers without a parent, failed jobs and more, worst
first. Each has its evidence and one recommended action, which attention settle plans
and carries out; or it is left as it is, with a reason and for a term.`,
		Example: "  unvora attention\n  unvora attention --cause stray -o json"}
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		if w.all {
			w.most = math.MaxInt
		}
		items, more, err := w.list(cmd.Context(), c)
		if err != nil {
			return err
		}
		return a.print(items, func() { a.showItems(items, more) })
	}
	cmd.Flags().StringVar(&w.cause, "cause", "", "only of this cause")
	cmd.Flags().BoolVar(&w.left, "left", false, "also what was left alone")
	cmd.Flags().BoolVar(&w.all, "all", false, "to the end, however many there are")
	cmd.AddCommand(a.attentionSettleCmd(), a.attentionLeaveCmd())
	return cmd
}

// usualWaiting is how many items are listed unless all are asked for.
const usualWaiting = 500

// waiting is which items of attention are asked for.
type waiting struct {
	cause     string
	left, all bool
	most      int // items
}

// list reads items page by page, and tells whether there are more.
func (w waiting) list(ctx context.Context, c *caller) (items []openapi.AttentionItem, more bool, err error) {
	return plain[openapi.AttentionItem](c, w.most, func(limit int, after *string) (*http.Response, error) {
		return c.ListAttention(ctx, &openapi.ListAttentionParams{Cause: optional(w.cause), Left: &w.left, After: after,
			Limit: &limit})
	})
}

// showItems lists items of attention under their numbers.
func (a *app) showItems(items []openapi.AttentionItem, more bool) {
	if len(items) == 0 {
		fmt.Fprintln(a.out, "Nothing waits for a decision.")
		return
	}
	const indent = "      "
	numbers := a.numbers(items)
	before := ""
	for _, i := range items {
		if i.Cause != before {
			before = i.Cause
			fmt.Fprintln(a.out, a.paint(bold, i.Cause))
		}
		fmt.Fprintf(a.out, "  %-3d %s\n", numbers[i.Id], a.paint(bold, i.Subject))
		a.hung(a.out, indent, i.Evidence)
		if i.Left != nil {
			a.hung(a.out, indent, a.paint(faint, fmt.Sprintf("left alone by %s until %s: %s", i.Left.Who,
				i.Left.Until.Local().Format("2006-01-02"), i.Left.Reason)))
		} else {
			a.hung(a.out, indent, a.paint(green, "→ "+i.Recommended))
		}
	}
	fmt.Fprintln(a.out)
	if more {
		a.hung(a.out, "", fmt.Sprintf("These are the worst %d; there are more. Narrow it by --cause, or see them to "+
			"the end with --all.", len(items)))
	}
	a.hung(a.out, "", "Take what is recommended: unvora attention settle NUMBER… ; leave it: unvora attention leave "+
		"NUMBER… --reason TEXT")
}

// items finds items of attention by id, by the number that they were listed under, by subject, or all of a cause.
func (a *app) items(cmd *cobra.Command, c *caller, refs []string, left bool) ([]openapi.AttentionItem, error) {
	w := waiting{left: left, most: math.MaxInt}
	var err error
	if w.cause, err = causeOf(cmd.Context(), c, refs); err != nil {
		return nil, err
	}
	all, _, err := w.list(cmd.Context(), c)
	if err != nil {
		return nil, err
	}
	numbers := a.numbers(all)
	var picked []openapi.AttentionItem
	for _, ref := range refs {
		before := len(picked)
		for _, i := range all {
			if ref == strconv.Itoa(numbers[i.Id]) || ref == i.Id || ref == i.Cause || ref == i.Subject {
				if !slices.ContainsFunc(picked, func(p openapi.AttentionItem) bool { return p.Id == i.Id }) {
					picked = append(picked, i)
				}
			}
		}
		if len(picked) == before {
			return nil, usage("%q is no item, or waits no more: give its number or subject in unvora attention, its "+
				"id, or a cause", ref)
		}
	}
	return picked, nil
}

// causeOf is the cause that something waits for which all refs are of, or name; "" where they are not.
func causeOf(ctx context.Context, c *caller, refs []string) (string, error) {
	first, _, _ := strings.Cut(refs[0], ":")
	for _, ref := range refs {
		if cause, _, _ := strings.Cut(ref, ":"); cause != first {
			return "", nil
		}
	}
	res, err := c.CountAttention(ctx)
	counts, err := call[[]openapi.Waits](c, res, err)
	if slices.ContainsFunc(counts, func(w openapi.Waits) bool { return w.Cause == first }) {
		return first, nil
	}
	return "", err
}

// numbersKept is for how long items keep the numbers that they were listed under.
const numbersKept = 12 * time.Hour

// numbering is what the items of a service were last listed under, by number from 1.
type numbering struct {
	At    time.Time `json:"at"`
	Items []string  `json:"items"`
}

// numbers gives items their numbers. They stay while somebody works through them: what was listed before keeps its
// number, what is new gets the next one. Once nothing is left of what was listed they begin anew.
func (a *app) numbers(items []openapi.AttentionItem) map[string]int {
	file := ""
	p, err := a.profile()
	if dir, dirErr := os.UserCacheDir(); err == nil && dirErr == nil {
		file = filepath.Join(dir, "unvora", "attention "+url.PathEscape(p.Server)+".json")
	}
	kept := numbering{}
	raw, err := os.ReadFile(file)
	if err != nil || json.Unmarshal(raw, &kept) != nil || time.Since(kept.At) > numbersKept ||
		!slices.ContainsFunc(items, func(i openapi.AttentionItem) bool { return slices.Contains(kept.Items, i.Id) }) {
		kept = numbering{}
	}
	before, numbers := map[string]int{}, map[string]int{}
	for n, id := range kept.Items {
		before[id] = n + 1
	}
	for _, i := range items {
		n := before[i.Id]
		if n == 0 {
			kept.Items = append(kept.Items, i.Id)
			n = len(kept.Items)
		}
		numbers[i.Id] = n
	}
	kept.At = time.Now()
	if raw, err := json.Marshal(kept); err == nil && file != "" && os.MkdirAll(filepath.Dir(file), 0o700) == nil {
		_ = os.WriteFile(file, raw, 0o600) // without it items are numbered anew each time
	}
	return numbers
}

// showRest lists what is left when items were settled.
func (a *app) showRest(cmd *cobra.Command, c *caller) error {
	if a.output != "table" || a.quiet {
		return nil
	}
	rest, more, err := waiting{most: usualWaiting}.list(cmd.Context(), c)
	if err != nil {
		return err
	}
	fmt.Fprintln(a.out)
	a.showItems(rest, more)
	return nil
}

func (a *app) attentionSettleCmd() *cobra.Command {
	s := &settling{}
	cmd := &cobra.Command{Use: "settle ITEM…", ValidArgsFunction: a.completeItems(),
		Short: "Do what is recommended about items, each with its plan first",
		Args:  cobra.MinimumNArgs(1),
		Long: "Do what is recommended. ITEM is a number or subject of the list, an id, or a cause,\n" +
			"which means all of its items.",
		Example: "  unvora attention settle 1\n  unvora attention settle hollow --yes"}
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		items, err := a.items(cmd, c, args, false)
		if err != nil {
			return err
		}
		for _, i := range items {
			switch {
			case i.Act != nil && i.Act.Do == "recognise":
				if s.planOnly {
					if err := a.print(i, func() {
						fmt.Fprintf(a.out, "%s: %s\n", i.Subject,
							i.Recommended)
					}); err != nil {
						return err
					}
					continue
				}
				res, err := c.Recognise(cmd.Context(), openapi.RecogniseJSONRequestBody{Copy: (*i.Act.Copies)[0],
					Of: i.Act.Candidate, Note: &s.note})
				k, err := call[openapi.Copy](c, res, err)
				if err != nil {
					return err
				}
				if err := a.print(k, func() {
					fmt.Fprintf(a.out, "%s is a copy of that machine: unvora where %s\n", place(k),
						namely(k))
				}); err != nil {
					return err
				}
			case i.Act != nil && i.Act.Do == "resume":
				if s.planOnly {
					if err := a.print(i, func() {
						fmt.Fprintf(a.out, "%s: %s\n", i.Subject,
							i.Recommended)
					}); err != nil {
						return err
					}
					continue
				}
				res, err := c.ResumeJob(cmd.Context(), (*i.Act.Copies)[0], nil)
				j, err := call[openapi.Job](c, res, err)
				if err != nil {
					return err
				}
				if _, err := a.follow(cmd.Context(), c, &j, nil); err != nil {
					return err
				}
			case i.Request == nil:
				return &exit{statusOpen, fmt.Errorf("%s: a person has to do this: %s", i.Subject, i.Recommended)}
			default:
				if err := a.perform(cmd.Context(), i.Request, s, "settled"); err != nil {
					return err
				}
			}
		}
		if s.planOnly || s.leaves() {
			return nil
		}
		return a.showRest(cmd, c)
	}
	return cmd
}

func (a *app) attentionLeaveCmd() *cobra.Command {
	reason, days := "", 30
	cmd := &cobra.Command{Use: "leave ITEM… --reason TEXT", ValidArgsFunction: a.completeItems(),
		Short: "Leave items as they are, for a term",
		Args:  cobra.MinimumNArgs(1),
		Example: "  unvora attention leave 3 --reason \"pulled out on purpose\"\n" +
			"  unvora attention leave twin --reason \"never run together\" --days 365"}
	cmd.Flags().StringVar(&reason, "reason", "", "why; it is kept and shown (needed)")
	cmd.Flags().Var(atLeast{&days, 1}, "days", "after how many days it is shown again")
	cmd.MarkFlagRequired("reason")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		items, err := a.items(cmd, c, args, true)
		if err != nil {
			return err
		}
		ids := []string{}
		for _, i := range items {
			ids = append(ids, i.Id)
		}
		res, err := c.LeaveAlone(cmd.Context(), openapi.LeaveAloneJSONRequestBody{Ids: ids, Reason: reason,
			Days: &days})
		if _, err := call[struct{}](c, res, err); err != nil {
			return err
		}
		return a.print(map[string]any{"left": ids}, func() {
			fmt.Fprintf(a.out, "%s left as it is for %d days.\n", count(len(ids), "item"), days)
		})
	}
	return cmd
}

func (a *app) compareCmd() *cobra.Command {
	exact := false
	cmd := calling(a, &cobra.Command{Use: "compare A B",
		Short:             "How far two copies have grown apart",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeCopies(),
		Long: `How far two copies have grown apart: hardware, wiring, identity and disks. Of disks
that share a layer only what lies above it is read. Where much would have to be read,
their samples are compared instead, which takes no time; --exact reads it all.`,
		Example: "  unvora compare petrel/chart-render gannet/chart-render\n" +
			"  unvora compare training-01 training-02 --exact"},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			return c.Compare(cmd.Context(), &openapi.CompareParams{A: args[0], B: args[1], Exact: &exact})
		}, func(args []string, v openapi.Comparison) {
			kin := "They are of one lineage."
			if !v.SameLineage {
				kin = "They are of different lineages."
			}
			fmt.Fprintf(a.out, "%s and %s. %s\n", a.paint(bold, place(v.A)), a.paint(bold, place(v.B)), kin)
			if len(v.Differences) == 0 {
				fmt.Fprintln(a.out, "Hardware, wiring and identity are the same.")
			} else {
				t := a.table("", "", place(v.A), place(v.B))
				for _, d := range v.Differences {
					t.AppendRow([]any{d.Area, d.What, d.A, d.B})
				}
				t.Render()
			}
			for _, d := range v.Disks {
				fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, d.Disk), diskDistance(d))
			}
		})
	cmd.Flags().BoolVar(&exact, "exact", false, "compare disks block by block, however much has to be read")
	return cmd
}

// diskDistance says how far two disks have grown apart.
func diskDistance(d openapi.DiskComparison) string {
	switch {
	case d.Why != "":
		return "not compared: " + d.Why
	case d.Exact && d.DifferentBytes == 0:
		return fmt.Sprintf("the same, to the byte (%s read of each%s)", size(d.ReadBytes), rests(d))
	case d.Exact:
		return fmt.Sprintf("%s differ, in blocks of 64 KiB (%s read of each%s)", size(d.DifferentBytes),
			size(d.ReadBytes),
			rests(d))
	case d.Samples == 0:
		return "nothing is known of its contents; --exact reads them"
	}
	return fmt.Sprintf("about %.0f %% the same, by %d samples; --exact tells how much differs", 100*d.Likeness,
		d.Samples)
}

func rests(d openapi.DiskComparison) string {
	if d.Shared == "" {
		return ""
	}
	return "; both rest on " + d.Shared
}

func (a *app) trackCmds() []*cobra.Command {
	one := func(use, short, long, said string, tracked bool) *cobra.Command {
		filter, note := "", ""
		cmd := calling(a, &cobra.Command{Use: use + " COPY…",
			Short:             short,
			Long:              long,
			ValidArgsFunction: a.completeCopies("registered"),
			Example: "  unvora " + use + " skua/wave-model\n  unvora " + use +
				" --where 'host=skua name~kiosk-*' --note \"another team's\""},
			func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
				if len(args) == 0 && filter == "" {
					return nil, usage("which copies: names, or --where")
				}
				return c.Track(cmd.Context(), openapi.TrackJSONRequestBody{Copies: append([]string{}, args...),
					Where:   &filter,
					Tracked: tracked, Note: &note})
			}, func(_ []string, v struct{ Copies int }) { fmt.Fprintf(a.out, said+"\n", count(v.Copies, "copy")) })
		cmd.Flags().StringVar(&filter, "where", "", "those that a filter tells, such as 'host=skua name~kiosk-*'")
		cmd.Flags().StringVar(&note, "note", "", "why; goes to history")
		return cmd
	}
	return []*cobra.Command{
		one("track", "Look after registered copies", "Look after registered copies that were left alone.",
			"%s looked after from now on.", true),
		one("untrack", "Leave registered copies alone: seen and compared, never touched",
			"Leave registered copies alone. They stay in the inventory, are surveyed and compared,\nand every "+
				"operation on "+
				"them is refused.", "%s left alone from now on.", false),
	}
}

func (a *app) recogniseCmd() *cobra.Command {
	of, note := "", ""
	cmd := calling(a, &cobra.Command{Use: "recognise COPY --of COPY|LINEAGE|nothing",
		Short:             "Say what a copy that was found is; surveys keep to it",
		Args:              cobra.ExactArgs(1),
		ValidArgsFunction: a.completeCopies(),
		Example: "  unvora recognise gannet/chart-render --of petrel/chart-render\n" +
			"  unvora recognise gannet/chart-render --of nothing --note \"another chart\""},
		func(c *caller, cmd *cobra.Command, args []string) (*http.Response, error) {
			if of == "nothing" {
				of = ""
			}
			return c.Recognise(cmd.Context(), openapi.RecogniseJSONRequestBody{Copy: args[0], Of: &of, Note: &note})
		}, func(args []string, _ openapi.Copy) {
			fmt.Fprintf(a.out, "Noted. See what descends from what: unvora where %s\n", args[0])
		})
	cmd.Flags().StringVar(&of, "of", "", "copy that it was made from, its lineage, or nothing (needed)")
	cmd.Flags().StringVar(&note, "note", "", "why; goes to history")
	cmd.MarkFlagRequired("of")
	return cmd
}

// tellingEvidence is how much of it a line of the tree has room for.
const tellingEvidence = 2

// recognised says by what a copy was recognised, the weightiest first.
func recognised(c openapi.Copy) string {
	if c.Evidence == nil || len(*c.Evidence) == 0 {
		return ""
	}
	var list []lineage.Evidence
	for _, e := range *c.Evidence {
		list = append(list, lineage.Evidence{Kind: e.Kind, Weight: e.Weight, Says: e.Says})
	}
	return lineage.Words(list[:min(len(list), tellingEvidence)])
}
