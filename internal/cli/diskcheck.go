package cli

import (
	"errors"
	"fmt"
	"slices"

	"github.com/spf13/cobra"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
)

// checked is what disk check prints.
type checked struct {
	Path     string         `json:"path"`
	Format   string         `json:"format"`
	Sound    bool           `json:"sound"`
	Problems []disk.Problem `json:"problems"` // that are left
	Repaired []disk.Problem `json:"repaired"`
	Findings []fit.Finding  `json:"findings"` // about the chain
}

func (a *app) diskCheckCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "check FILE", Short: "Look for what is inconsistent in an image, and repair what needs no guessing",
		Long: `Look for what is inconsistent in an image and its chain: tables, reference counts,
copies of headers, logs. With --repair, what can be repaired without guessing is,
after it was told; guest data is never changed. Status 0 means sound.`,
		Example: "  unvora disk check archive.qcow2\n  unvora disk check archive.vhdx --repair",
		Args:    cobra.ExactArgs(1),
	}
	repair := cmd.Flags().Bool("repair", false, "repair what can be repaired without guessing")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		c, err := a.check(args[0], *repair)
		if err != nil {
			return failed(err)
		}
		if err := a.print(c, func() { a.showCheck(c) }); err != nil {
			return err
		}
		switch {
		case len(c.Findings) > 0:
			return &exit{statusFailed, fmt.Errorf("the chain of %s is not whole", c.Path)}
		case !c.Sound && slices.ContainsFunc(c.Problems, func(p disk.Problem) bool { return p.Fix != nil }):
			return &exit{statusFailed, fmt.Errorf("%s is not sound: --repair repairs what it can", c.Path)}
		case !c.Sound:
			return &exit{statusFailed, fmt.Errorf("%s is not sound, and more than that can't be repaired without "+
				"guessing: "+
				"unvora disk copy --salvage gets what can be read", c.Path)}
		}
		return nil
	}
	return cmd
}

func (a *app) check(path string, repair bool) (*checked, error) {
	f, err := formats.Check(path, repair, func(found []disk.Problem) {
		if a.output != "table" {
			return
		}
		fmt.Fprintln(a.errOut, "This will be done:")
		told := map[string]bool{}
		for _, p := range found {
			if p.Fix != nil && !told[p.Repair] {
				told[p.Repair] = true
				fmt.Fprintln(a.errOut, "  "+p.Repair)
			}
		}
	}, formats.Options{})
	if err != nil {
		return nil, err
	}
	c := &checked{Path: path, Format: f.Format.Name, Sound: f.Sound(),
		Problems: append([]disk.Problem{}, f.Problems...),
		Repaired: append([]disk.Problem{}, f.Repaired...), Findings: []fit.Finding{}}
	if f.Format.Check == nil {
		return c, nil
	}
	chain, err := formats.Look(path, formats.Options{})
	if err != nil {
		return nil, err
	}
	for _, fault := range chain.Faults {
		c.Findings = append(c.Findings, fit.Raise(fault.Code, fault.Subject, fault.Message, nil))
	}
	return c, errors.Join(chain.Close())
}

func (a *app) showCheck(c *checked) {
	state := a.paint(green, "sound")
	switch {
	case !c.Sound:
		state = a.paint(red, "not sound")
	case len(c.Problems) > 0:
		state = a.paint(yellow, "sound, but for what costs room only")
	}
	fmt.Fprintf(a.out, "%s  %s, %s\n", a.paint(bold, c.Path), c.Format, state)
	for _, p := range c.Repaired {
		fmt.Fprintf(a.out, "\n%s  byte %d: %s\n          %s\n", a.paint(green, "repaired"), p.Offset, p.What, p.Repair)
	}
	for _, p := range c.Problems {
		kind, way := a.paint(red, "damage  "), "can't be repaired without guessing"
		if p.Harmless {
			kind = a.paint(yellow, "harmless")
		}
		if p.Repair != "" {
			way = "--repair: " + p.Repair
		}
		fmt.Fprintf(a.out, "\n%s  byte %d: %s\n          %s\n", kind, p.Offset, p.What, a.paint(faint, way))
	}
	a.showFindings(c.Findings)
}
