package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/spf13/cobra"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/carry"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
)

func init() {
	register(groupAlone, (*app).diskCmd)
}

func (a *app) diskCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "disk", Short: "Work on disk images where they lie, and on disks of copies",
		Long: `Work on disk images where they lie: raw, QCOW2, VMDK, VHD and VHDX, each with its
chain of parents. The format is told by a file's content. No service is needed but
for attach, detach, adopt and let-go, which work on the inventory.`,
		Example: `  unvora disk show tide-gauge.vmdk
  unvora disk copy tide-gauge.vmdk tide-gauge.qcow2 --format qcow2 --verify`,
	}
	cmd.AddCommand(a.diskCareCmds()...)
	cmd.AddCommand(a.diskShowCmd(), a.diskSumCmd(), a.diskCopyCmd(), a.diskCheckCmd(), a.diskReparentCmd(),
		a.diskMergeCmd(), a.diskLayerCmd())
	return cmd
}

// failed is an error of a command on images, with the code where it has one.
func failed(err error) error {
	var fault *formats.Fault
	var told *exit
	switch {
	case err == nil:
		return nil
	case errors.As(err, &told):
		return told
	case errors.Is(err, context.Canceled):
		return &exit{statusCancelled, errors.New("stopped; nothing was left behind")}
	case errors.As(err, &fault):
		return &exit{statusBlocked, fmt.Errorf("%w (%s)", err, fault.Code)}
	case errors.Is(err, fs.ErrNotExist):
		return &exit{statusFailed, fmt.Errorf("%w: is the path right?", err)}
	}
	return &exit{statusFailed, err}
}

// shown is what disk show prints.
type shown struct {
	Path           string          `json:"path"`
	Format         string          `json:"format"`
	Variant        string          `json:"variant"`
	VirtualBytes   int64           `json:"virtualBytes"`
	SectorBytes    int             `json:"sectorBytes"`
	FileBytes      int64           `json:"fileBytes"`      // length of all files of this layer
	AllocatedBytes int64           `json:"allocatedBytes"` // room that they take
	DataBytes      int64           `json:"dataBytes"`      // guest bytes that this layer holds
	ID             string          `json:"id"`
	Linkage        string          `json:"linkage"` // what layers on it remember
	Encrypted      bool            `json:"encrypted"`
	Clean          bool            `json:"clean"`
	Parent         *shownParent    `json:"parent"`
	Chain          []string        `json:"chain"`
	Files          []string        `json:"files"` // that the whole chain is made of: layers, extents, data files
	Snapshots      []disk.Snapshot `json:"snapshots"`
	Findings       []fit.Finding   `json:"findings"`
}

type shownParent struct {
	Path   string `json:"path"`
	Format string `json:"format"`
	ID     string `json:"id"`
}

func (a *app) diskShowCmd() *cobra.Command {
	return &cobra.Command{
		Use: "show FILE", Short: "What an image is, its chain of parents, and what is wrong with it",
		Args: cobra.ExactArgs(1), Example: "  unvora disk show training-07.qcow2\n  unvora disk show " +
			"training-07.qcow2 -o json",
		RunE: func(cmd *cobra.Command, args []string) error {
			s, err := show(args[0])
			if s == nil {
				return failed(err)
			}
			if printErr := a.print(s, func() { a.showDisk(s) }); printErr != nil {
				return printErr
			}
			return failed(err)
		},
	}
}

// show describes an image. When it is damaged, encrypted or of an unknown
// variant it returns what can be told, and the error.
func show(path string) (*shown, error) {
	s := &shown{Path: path, Chain: []string{path}, Files: []string{path}, Snapshots: []disk.Snapshot{},
		Findings: []fit.Finding{}}
	st, err := os.Stat(path)
	if err != nil {
		return nil, err
	}
	c, err := formats.Look(path, formats.Options{})
	if err != nil {
		f, openErr := os.Open(path)
		if openErr != nil || st.IsDir() {
			return nil, err
		}
		defer f.Close()
		src, openErr := disk.OpenFile(f)
		if openErr != nil {
			return nil, err
		}
		if format, e := formats.Detect(src); e == nil {
			s.Format = format.Name
		}
		s.FileBytes, s.AllocatedBytes = src.Size(), disk.Allocated(st)
		s.Findings = append(s.Findings, fit.Raise(codeOf(err), path, err.Error(), nil))
		return s, err
	}
	defer c.Close()
	top := c.Links[0]
	info := top.Image.Info()
	s.Format, s.Variant, s.VirtualBytes, s.SectorBytes = info.Format, info.Variant, info.VirtualBytes, info.SectorBytes
	s.ID, s.Linkage, s.Encrypted, s.Clean, s.Chain = info.ID, info.Linkage, info.Encrypted, info.Clean, c.Paths()
	s.Snapshots = append(s.Snapshots, info.Snapshots...)
	s.Files = []string{}
	for _, l := range c.Links {
		s.Files = append(s.Files, l.Files...)
	}
	for _, f := range top.Files {
		src, err := os.Open(f)
		if err != nil {
			return nil, err
		}
		size, err := src.Seek(0, 2)
		if st, e := src.Stat(); e == nil {
			s.AllocatedBytes += disk.Allocated(st)
		}
		s.FileBytes += size
		if err = errors.Join(err, src.Close()); err != nil {
			return nil, err
		}
	}
	if p := info.Parent; p != nil {
		s.Parent = &shownParent{p.Path, p.Format, p.ID}
	}
	for _, f := range c.Faults {
		found := fit.Raise(f.Code, f.Subject, f.Message, nil)
		if f.Candidate != "" {
			found.Suggest("found", "Take "+f.Candidate, f.Candidate)
		}
		s.Findings = append(s.Findings, found)
	}
	note := func(code, format string, args ...any) {
		s.Findings = append(s.Findings, fit.Raise(code, path, fmt.Sprintf(format, args...), nil))
	}
	switch {
	case info.Encrypted:
		note("disk.encrypted", "Its contents are encrypted: they can be carried as they are, but not read.")
		return s, nil
	case !info.Clean && info.Format == "vhdx":
		note("disk.unclean", "It was not closed properly: its log is read as if it had been replayed. unvora disk "+
			"check %s "+
			"--repair replays it.", path)
	case !info.Clean:
		note("disk.unclean", "It was not closed properly. unvora disk check %s says whether anything is wrong with it.",
			path)
	}
	if s.DataBytes, err = lookAtData(top.Image); err != nil {
		note("disk.damaged", "%v", err)
		return s, fmt.Errorf("%s: %w", path, err)
	}
	if s.DataBytes == 0 && info.Parent == nil {
		note("disk.empty", "It holds no data.")
	}
	return s, nil
}

// mostEnds is how many runs of data are touched to see whether they are there.
const mostEnds = 64

// lookAtData adds up the data of a layer, and reads the last sector of its last
// runs: those are what a file that was cut short has lost.
func lookAtData(img disk.Image) (bytes int64, err error) {
	var last []disk.Range
	size := img.Info().VirtualBytes
	for off := int64(0); off < size; {
		r, err := img.Map(off)
		if err != nil {
			return bytes, err
		}
		if r.Kind == disk.Data {
			bytes += r.Length
			last = append(last[max(0, len(last)-mostEnds+1):], r)
		}
		off = r.End()
	}
	sector := make([]byte, 512)
	for _, r := range last {
		part := sector[:min(512, r.Length)]
		if n, err := img.ReadAt(part, r.End()-int64(len(part))); n < len(part) {
			return bytes, err
		}
	}
	return bytes, nil
}

// codeOf is the finding that an error of opening an image stands for.
func codeOf(err error) string {
	switch {
	case errors.Is(err, disk.ErrEncrypted):
		return "disk.encrypted"
	case errors.Is(err, disk.ErrVariant), errors.Is(err, disk.ErrFormat):
		return "disk.format-unknown"
	}
	return "disk.damaged"
}

func (a *app) showDisk(s *shown) {
	fmt.Fprintf(a.out, "%s  %s\n", a.paint(bold, s.Path), strings.TrimSpace(s.Format+" "+s.Variant))
	line := func(name, value string) {
		fmt.Fprintf(a.out, "%s  %s\n", a.paint(faint, fmt.Sprintf("%-9s", name)), value)
	}
	if s.VirtualBytes > 0 || s.Variant != "" {
		capacity := fmt.Sprintf("%s (%d bytes)", size(s.VirtualBytes), s.VirtualBytes)
		if s.SectorBytes != 512 {
			capacity += fmt.Sprintf(", in sectors of %d bytes", s.SectorBytes)
		}
		line("capacity", capacity)
		line("data", size(s.DataBytes))
	}
	file := size(s.FileBytes)
	if s.AllocatedBytes < s.FileBytes {
		file += ", of which it takes " + size(s.AllocatedBytes)
	}
	line("file", file)
	if s.ID != "" {
		line("id", s.ID)
	}
	for n, path := range s.Chain[1:] {
		line(fmt.Sprintf("parent %d", n+1), path)
	}
	for _, f := range s.Files {
		if !slices.Contains(s.Chain, f) {
			line("made of", f)
		}
	}
	for _, snap := range s.Snapshots {
		line("snapshot", fmt.Sprintf("%s  %s, %s", firstOf(snap.Name, snap.ID), size(snap.VirtualBytes),
			snap.MadeAt.Local().Format("2006-01-02 15:04")))
	}
	a.showFindings(s.Findings)
}

func (a *app) showFindings(findings []fit.Finding) {
	for _, f := range findings {
		fmt.Fprintf(a.out, "\n%s  %s  %s\n         %s\n", a.state(f.Severity), a.paint(bold, f.Subject),
			a.paint(faint, f.Code), f.Message)
	}
}

// following says how far references out of an image are followed.
type following struct{ outside bool }

func (f *following) bind(cmd *cobra.Command) {
	cmd.Flags().BoolVar(&f.outside, "allow-outside", false,
		"follow parents, extents and data files that lie outside of the image's folder")
}

// options tell which further files the image at path makes us read, and refuse
// those outside of its folder unless that is allowed.
func (a *app) following(f *following, path string) (formats.Options, error) {
	dir, err := filepath.Abs(filepath.Dir(path))
	if err == nil {
		dir, err = filepath.EvalSymlinks(dir)
	}
	told := map[string]bool{}
	return formats.Options{Tell: func(name string) error {
		real, err := filepath.Abs(name)
		if err != nil {
			return err
		}
		if to, err := filepath.EvalSymlinks(real); err == nil {
			real = to
		}
		if !f.outside && !strings.HasPrefix(real, strings.TrimSuffix(dir, "/")+"/") {
			return &exit{statusBlocked, fmt.Errorf("%s makes us read %s, which lies outside of its folder "+
				"(file.outside). If "+
				"that is right: --allow-outside", path, real)}
		}
		if !told[real] && !a.quiet && a.output == "table" {
			fmt.Fprintf(a.errOut, "reads %s too\n", fromHere(real))
		}
		told[real] = true
		return nil
	}}, err
}

func (a *app) diskSumCmd() *cobra.Command {
	var f following
	cmd := &cobra.Command{
		Use: "sum FILE…", Short: "SHA-256 of the bytes that the guest would see, whole chain applied",
		Args: cobra.MinimumNArgs(1), Example: "  unvora disk sum tide-gauge.qcow2\n  unvora disk sum " +
			"tide-gauge.qcow2 tide-gauge.vmdk",
		RunE: func(cmd *cobra.Command, args []string) error {
			type sum struct {
				SHA256 string `json:"sha256"`
				Bytes  int64  `json:"bytes"`
				Path   string `json:"path"`
			}
			sums := []sum{}
			for _, path := range args {
				o, err := a.following(&f, path)
				if err != nil {
					return failed(err)
				}
				c, err := formats.OpenChain(path, o)
				if err != nil {
					return failed(err)
				}
				bytes := c.Info().VirtualBytes
				m := a.newMeter("read "+filepath.Base(path), bytes)
				h := sha256.New()
				err = disk.Sum(cmd.Context(), c, h, m.add)
				m.end()
				if err = errors.Join(err, c.Close()); err != nil {
					return failed(fmt.Errorf("%s: %w", path, err))
				}
				sums = append(sums, sum{hex.EncodeToString(h.Sum(nil)), bytes, path})
				if a.output == "table" {
					fmt.Fprintf(a.out, "%s  %d  %s\n", sums[len(sums)-1].SHA256, bytes, path)
				}
			}
			return a.print(sums, func() {})
		},
	}
	f.bind(cmd)
	return cmd
}

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
	if o.Verify = f.verify; f.rate != "" {
		o.BytesPerSecond, err = rateOf(f.rate)
	}
	return err
}

func rateOf(text string) (int64, error) {
	n, err := ParseSize(text)
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
it was when it is asked for again. The new disk gets an id of its own.`,
		Example: `  unvora disk copy tide-gauge.vmdk tide-gauge.qcow2 --format qcow2
  unvora disk copy archive.vhdx archive.vmdk --format vmdk --variant stream --verify
  unvora disk copy damaged.qcow2 saved.img --format raw --salvage`,
		Args: cobra.ExactArgs(2),
	}
	var flags copyFlags
	flags.bind(cmd)
	var follow following
	follow.bind(cmd)
	format := cmd.Flags().String("format", "", "format of DST: "+strings.Join(formats.Names(),
		", ")+"; that of SRC unless said")
	variant := cmd.Flags().String("variant", "", "variant of the format: "+variants())
	from := cmd.Flags().String("from-format", "", "read SRC as this format, whatever its content says")
	snapshot := cmd.Flags().String("snapshot", "", "copy this snapshot, which the image keeps inside itself")
	salvage := cmd.Flags().Bool("salvage", false, "copy what can be read of a damaged image, and list what is lost")
	device := cmd.Flags().Bool("onto-device", false, "DST is a block device; what is on it is lost")
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
		if *format != "" {
			if o.Format, err = formats.ByName(*format); err != nil {
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
		return a.carry(cmd.Context(), o, "copy "+filepath.Base(o.Source))
	}
	return cmd
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
		Example: "  unvora disk reparent sonar-lab.vhdx --parent /pools/ledge/base.vhdx\n  unvora disk reparent " +
			"training-07.qcow2 --parent classroom.qcow2", Args: cobra.ExactArgs(1),
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
		Example: "  unvora disk layer training-13.qcow2 --parent classroom.qcow2\n  unvora disk layer trial.vhdx " +
			"--parent licence-desk.vhdx", Args: cobra.ExactArgs(1),
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
