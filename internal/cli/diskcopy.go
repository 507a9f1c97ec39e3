package cli

import (
	"context"
	"fmt"
	"os"
	"path/filepath"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
)

// copyFlags are those that copy and merge have in common.
type copyFlags struct {
	verify bool
	rate   string
}

func (f *copyFlags) bind(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.verify, "verify", false, "read back what was written and compare it")
	cmd.Flags().StringVar(&f.rate, "rate", "", "move no more than this a second, 20MiB say")
}

func (f *copyFlags) apply(o *carry.Order) (err error) {
	o.Verify = f.verify
	if f.rate == "" {
		return nil
	}
	n, err := rateOf(f.rate)
	o.Limit = disk.NewLimit(n)
	return err
}

func rateOf(text string) (int64, error) {
	n, err := fit.ParseSize(text)
	if err != nil || n <= 0 {
		return 0, usage("--rate %q: a size, 20MiB say", text)
	}
	return n, nil
}

func (a *app) diskCopyCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "copy SRC DST", Short: "Copy an image, its whole chain, to a new one of any format that stands alone",
		Long: `Copy an image, its whole chain, to a new one of any format that stands alone. Only
data is moved; holes and zeros cost nothing. DST is written beside its place and
renamed when it is whole and safe on storage; a copy that was killed goes on where
it was when it is asked for again. The new disk gets an id of its own.

With --compact, what its file systems mark as free is left out, and reads as zeros in
DST. That is so for ext2 to ext4, XFS and NTFS that were closed: a machine that runs,
or was switched off, has some that were not, and of these nothing is left out.`,
		Example: `  unvora disk copy tide-gauge.vmdk tide-gauge.qcow2 --format qcow2
  unvora disk copy archive.vhdx archive.vmdk --format vmdk --variant stream --verify
  unvora disk copy tide-gauge.img small.qcow2 --compact
  unvora disk copy damaged.qcow2 saved.img --format raw --salvage`,
		Args: cobra.ExactArgs(2),
	}
	var flags copyFlags
	flags.bind(cmd)
	var follow following
	follow.bind(cmd)
	format := cmd.Flags().String("format", "", "format of DST: "+strings.Join(formats.Names(),
		", ")+"; as the ending of DST says, else that of SRC, unless said")
	variant := cmd.Flags().String("variant", "", "variant of the format: "+variants())
	from := cmd.Flags().String("from-format", "", "read SRC as this format, whatever its content says")
	snapshot := cmd.Flags().String("snapshot", "", "copy this snapshot, which the image keeps inside itself")
	salvage := cmd.Flags().Bool("salvage", false, "copy what can be read of a damaged image, and list what is lost")
	device := cmd.Flags().Bool("onto-device", false, "DST is a block device; what is on it is lost")
	compact := cmd.Flags().Bool("compact", false, "leave out what its file systems mark as free")
	keep := cmd.Flags().Bool("keep-id", false, "keep the disk's id: the copy takes the place of SRC")
	cmd.RegisterFlagCompletionFunc("format", cobra.FixedCompletions(formats.Names(),
		cobra.ShellCompDirectiveNoFileComp))
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		o := carry.Order{Now: time.Now, Source: args[0], Target: args[1], Variant: *variant, Salvage: *salvage,
			Device: *device, ID: uuid.NewString()}
		var err error
		if o.Options, err = a.following(&follow, args[0]); err != nil {
			return failed(err)
		}
		o.Options.Snapshot, o.Options.Format = *snapshot, *from
		if err := flags.apply(&o); err != nil {
			return err
		}
		look, err := formats.Look(o.Source, o.Options)
		if err != nil {
			return failed(err)
		}
		info := look.Links[0].Image.Info()
		o.Format = look.Links[0].Format
		if err := look.Close(); err != nil {
			return failed(err)
		}
		name := firstOf(*format, byEnding(o.Target))
		if name != "" {
			if o.Format, err = formats.ByName(name); err != nil {
				return usage("--format: %v", err)
			}
		}
		if o.Variant, err = o.Format.Variant(o.Variant); err != nil {
			return usage("--variant: %v", err)
		}
		if *keep {
			if _, err := uuid.Parse(info.ID); err != nil {
				return usage("--keep-id: %s states no id that another format could bear", o.Source)
			}
			o.ID = info.ID
		}
		if *compact && *salvage {
			return usage("--compact and --salvage: of a damaged image nobody can tell what is free")
		}
		if *compact {
			o.Blanks = func(img disk.Image) (*disk.Blanks, error) {
				blanks, found, err := guest.Free(cmd.Context(), img, img.Info().VirtualBytes)
				if err == nil && !a.quiet {
					a.tellFree(found)
				}
				return blanks, err
			}
		}
		return a.carry(cmd.Context(), o, "copy "+filepath.Base(o.Source))
	}
	return cmd
}

// tellFree tells which file systems have room that is left out, beside what is printed.
func (a *app) tellFree(found []fit.FileSystem) {
	if len(found) == 0 {
		fmt.Fprintln(a.errOut, "No ext2 to ext4, XFS or NTFS is seen on it: nothing is left out.")
	}
	for _, v := range found {
		of := fmt.Sprintf("%s of %s, from byte %d on", v.Kind, size(v.Bytes), v.Start)
		if v.Kept != "" {
			fmt.Fprintf(a.errOut, "%s: nothing is left out, since %s.\n", of, v.Kept)
			continue
		}
		fmt.Fprintf(a.errOut, "%s: %s are free.\n", of, size(v.FreeBytes))
	}
}

// byEnding is the format that a file's ending stands for; "" where it stands for none.
func byEnding(file string) string {
	ending := strings.ToLower(filepath.Ext(file))
	for _, f := range formats.Table {
		if ending == f.Extension || ending == "."+f.Name {
			return f.Name
		}
	}
	return ""
}

func variants() string {
	var all []string
	for _, f := range formats.Table {
		all = append(all, f.Name+" "+strings.Join(f.Variants, "|"))
	}
	return strings.Join(all, ", ") + "; the first is the usual one"
}

// carry copies and tells what was done.
func (a *app) carry(ctx context.Context, o carry.Order, what string) error {
	m := a.newMeter(what, 1)
	began := time.Now()
	o.Progress = func(stage string, done, total int64) {
		m.set(map[string]string{carry.Copying: what, carry.Verifying: "read back"}[stage], done, total)
	}
	r, err := carry.Copy(ctx, o)
	m.end()
	if err != nil {
		return failed(err)
	}
	type lost struct {
		Offset int64 `json:"offset"`
		Bytes  int64 `json:"bytes"`
	}
	out := struct {
		*carry.Result
		Seconds float64 `json:"seconds"`
		Lost    []lost  `json:"lost"`
	}{r, time.Since(began).Seconds(), []lost{}}
	for _, l := range r.Lost {
		out.Lost = append(out.Lost, lost{l.Offset, l.Length})
	}
	err = a.print(out, func() {
		fmt.Fprintf(a.out, "%s  %s %s, %s of data in %s", a.paint(bold, r.Target), r.Format, r.Variant,
			size(r.DataBytes),
			size(r.FileBytes))
		switch {
		case r.Shared:
			fmt.Fprint(a.out, ", blocks shared with the source")
		case r.ResumedBytes > 0:
			fmt.Fprintf(a.out, ", %s of it by an earlier try", size(r.ResumedBytes))
		}
		if r.LeftBytes > 0 {
			fmt.Fprintf(a.out, ", %s of free space left out", size(r.LeftBytes))
		}
		if r.Verified {
			fmt.Fprint(a.out, ", read back and right")
		}
		fmt.Fprintf(a.out, ", %.1f s\n", out.Seconds)
		if len(out.Lost) > 0 {
			fmt.Fprintf(a.out, "\n%s\n", a.paint(red, "What could not be read, and is zeros now:"))
			t := a.table("guest byte", "bytes")
			for _, l := range out.Lost {
				t.AppendRow([]any{l.Offset, l.Bytes})
			}
			t.Render()
		}
	})
	if err == nil && len(out.Lost) > 0 {
		return &exit{statusFailed, fmt.Errorf("%s of the disk were lost", countBytes(r.Lost))}
	}
	return err
}

func countBytes(ranges []disk.Range) string {
	var n int64
	for _, r := range ranges {
		n += r.Length
	}
	return size(n)
}

func (a *app) diskMergeCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "merge FILE [DST]", Short: "Make a layer and its chain of parents one image that stands alone",
		Long: `Make a layer and its chain of parents one image that stands alone. FILE is replaced
when the new image is whole, and keeps its format and id, so that layers on it
stay right; with DST it is left as it is. The parents are not touched.`,
		Example: "  unvora disk merge training-07.qcow2\n  unvora disk merge training-07.qcow2 alone.qcow2",
		Args:    cobra.RangeArgs(1, 2),
	}
	var flags copyFlags
	flags.bind(cmd)
	var follow following
	follow.bind(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		options, err := a.following(&follow, args[0])
		if err != nil {
			return failed(err)
		}
		c, err := formats.OpenChain(args[0], options)
		if err != nil {
			return failed(err)
		}
		top := c.Links[0]
		info := top.Image.Info()
		layers := len(c.Links)
		if err := c.Close(); err != nil {
			return failed(err)
		}
		switch {
		case layers == 1:
			return &exit{statusFailed, fmt.Errorf("%s stands alone already", args[0])}
		case len(info.Snapshots) > 0:
			return &exit{statusFailed, fmt.Errorf("%s keeps %s inside itself, which would be lost: copy each with "+
				"--snapshot "+
				"first, then copy the image", args[0], count(len(info.Snapshots), "snapshot"))}
		}
		o := carry.Order{Now: time.Now, Source: args[0], Target: args[len(args)-1], Replace: len(args) == 1,
			Format: top.Format, ID: uuid.NewString(), Options: options}
		if info.Variant != "" && info.Variant != "flat" {
			o.Variant = info.Variant
		}
		if o.Replace {
			if info.ID != "" {
				o.ID = info.ID
			}
			o.Linkage = info.Linkage
		}
		if err := flags.apply(&o); err != nil {
			return err
		}
		return a.carry(cmd.Context(), o, fmt.Sprintf("merge %s", count(layers, "layer")))
	}
	return cmd
}

func (a *app) diskReparentCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "reparent FILE --parent P", Short: "Tell a layer where its parent is now",
		Long: `Tell a layer where its parent is now. Only the layer's header is written, never
data. A parent that is not the one the layer was made on is refused, by its id, or
by a fingerprint of its contents where the format states no id.`,
		Example: "  unvora disk reparent sonar-lab.vhdx --parent /pools/ledge/base.vhdx\n" +
			"  unvora disk reparent training-07.qcow2 --parent classroom.qcow2", Args: cobra.ExactArgs(1),
	}
	parent := cmd.Flags().String("parent", "", "the parent's image")
	anyway := cmd.Flags().Bool("anyway", false, "even if it is not the one the layer was made on: what the layer "+
		"holds "+
		"may make no sense on it")
	cmd.MarkFlagRequired("parent")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		sure, err := formats.Reparent(args[0], *parent, "", *anyway, formats.Options{})
		if err != nil {
			return failed(err)
		}
		s, err := show(args[0])
		if s == nil {
			return failed(err)
		}
		return a.print(s, func() {
			fmt.Fprintf(a.out, "%s stands on %s now.\n", args[0], *parent)
			if !sure {
				fmt.Fprintln(a.out, a.paint(yellow, "Nothing in the layer tells which parent it was made on, so this "+
					"could not "+
					"be compared."))
			}
		})
	}
	return cmd
}

func (a *app) diskLayerCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "layer NEW --parent P", Short: "Make an empty layer on an image, in milliseconds whatever its size",
		Long: `Make an empty layer on an image, in milliseconds whatever its size. The parent must
not be written to from then on.`,
		Example: "  unvora disk layer training-13.qcow2 --parent classroom.qcow2\n" +
			"  unvora disk layer trial.vhdx --parent licence-desk.vhdx", Args: cobra.ExactArgs(1),
	}
	parent := cmd.Flags().String("parent", "", "the image to stand on")
	format := cmd.Flags().String("format", "", "format of the layer; that of the parent unless said, QCOW2 on a raw "+
		"one")
	cmd.MarkFlagRequired("parent")
	cmd.RunE = func(_ *cobra.Command, args []string) error {
		if *format == "" {
			c, err := formats.OpenChain(*parent, formats.Options{})
			if err != nil {
				return failed(err)
			}
			*format = "qcow2"
			if c.Links[0].Format.Layers {
				*format = c.Links[0].Format.Name
			}
			if err := c.Close(); err != nil {
				return failed(err)
			}
		}
		f, err := formats.ByName(*format)
		if err != nil {
			return usage("--format: %v", err)
		}
		if err := formats.NewLayer(args[0], *parent, f, uuid.NewString(), formats.Options{}); err != nil {
			return failed(err)
		}
		if a.output == "table" {
			fmt.Fprintf(a.out, "%s  a layer of %s on %s\n", a.paint(bold, args[0]), f.Name, *parent)
			return nil
		}
		s, err := show(args[0])
		if s == nil {
			return failed(err)
		}
		return a.print(s, nil)
	}
	return cmd
}

// fromHere is a path as somebody in this directory writes it, where it lies below.
func fromHere(path string) string {
	here, err := os.Getwd()
	if err != nil {
		return path
	}
	if real, err := filepath.EvalSymlinks(here); err == nil {
		here = real
	}
	if rel, err := filepath.Rel(here, path); err == nil && filepath.IsLocal(rel) {
		return rel
	}
	return path
}
