package cli

import (
	"context"
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unvora.example/unvora/core/disk"
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
	cmd.AddCommand(a.diskShowCmd(), a.diskSumCmd(), a.diskCompareCmd(), a.diskCopyCmd(), a.diskCheckCmd(),
		a.diskReparentCmd(), a.diskMergeCmd(), a.diskLayerCmd())
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
		Args: cobra.ExactArgs(1), Example: "  unvora disk show training-07.qcow2\n" +
			"  unvora disk show training-07.qcow2 -o json",
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
