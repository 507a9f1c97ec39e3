package cli

import (
	"context"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"github.com/spf13/cobra"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
)

func init() {
	register(groupLook, (*app).inspectCmd)
}

// inspection is what inspect prints.
type inspection struct {
	Kind     string            `json:"kind"` // ova, folder or disk
	Manifest string            `json:"manifest"`
	Machines []machine.Machine `json:"machines"`
	Findings []fit.Finding     `json:"findings"`

	Properties []asked `json:"properties,omitempty"`
}

// asked is a value that a package wants told to the guest of a machine.
type asked struct {
	Machine  string `json:"machine"`
	Name     string `json:"name"`
	Type     string `json:"type"`
	Value    string `json:"value"` // "" for a secret one
	Settable bool   `json:"settable"`
	Says     string `json:"says"`
	Disc     bool   `json:"disc"` // its guest reads them from a disc
}

// propertiesOf are the values that a package wants told.
func propertiesOf(d *ovf.Descriptor) (all []asked, err error) {
	for n, m := range d.Machines {
		env, err := d.Environment(n)
		if err != nil {
			return nil, err
		}
		for _, p := range env.Properties {
			one := asked{m.Name, p.Name, firstOf(p.Type, "string"), p.Value, p.Settable, p.Label, env.Disc}
			if p.Secret {
				one.Value = ""
			}
			all = append(all, one)
		}
	}
	return all, nil
}

// verifyUnasked is how large a package may be to be read whole without being asked for.
const verifyUnasked = 256 << 20

func (a *app) inspectCmd() *cobra.Command {
	cmd := &cobra.Command{
		Use: "inspect FILE…", Short: "Say what is inside a package or a disk image; needs no service",
		Long: `Say what is inside a package (OVA or folder) or a disk image. Nothing is changed
and no service is needed. Packages up to 256 MiB are compared with their manifest;
--verify does so for larger ones. A package whose parts lie in several directories,
such as those of two drives, is named by all of them.`,
		Example: "  unvora inspect ./tide-gauge.ova\n  unvora inspect ./tide-gauge.ova --verify -o json",
		Args:    cobra.MinimumNArgs(1),
	}
	verify := cmd.Flags().Bool("verify", false, "read every byte and compare it with the manifest")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if len(args) > 1 && !inFolders(args) {
			return usage("one package at a time; several directories are one where its descriptor lies in one of them")
		}
		in, err := a.inspect(cmd.Context(), args, *verify)
		if err != nil {
			return err
		}
		if err := a.print(in, func() { a.showInspection(args[0], in) }); err != nil {
			return err
		}
		if slices.ContainsFunc(in.Findings, func(f fit.Finding) bool { return f.Severity == fit.Blocker }) {
			return &exit{statusBlocked, errors.New("")}
		}
		return nil
	}
	return cmd
}

func (a *app) inspect(ctx context.Context, files []string, verify bool) (*inspection, error) {
	file := files[0]
	st, err := os.Stat(file)
	if err != nil {
		return nil, &exit{statusFailed, fmt.Errorf("%w: is the path right?", err)}
	}
	if !st.IsDir() && !strings.EqualFold(filepath.Ext(file), ".ovf") {
		if in, err := inspectDisk(file); in != nil || err != nil {
			return in, err
		}
	}
	o, err := openPackage(files)
	var p *ovf.Problem
	switch {
	case errors.As(err, &p):
		return nil, &exit{statusBlocked, fmt.Errorf("%w (%s)", p, p.Code)}
	case err != nil:
		return nil, &exit{statusFailed, err}
	}
	defer o.Close()
	o.LookAtDisks()
	var bytes int64
	for _, e := range o.Entries {
		bytes += e.Size
	}
	if verify || bytes <= verifyUnasked {
		m, done := a.newMeter("compare with the manifest", 1), int64(0)
		err := o.Verify(ctx, func(n int64) {
			done += n
			m.set("compare with the manifest", done, bytes)
		})
		m.end()
		if err != nil {
			return nil, &exit{statusFailed, err}
		}
	}
	in := &inspection{Kind: o.Kind, Manifest: o.ManifestState(), Machines: o.Envelope.Machines,
		Findings: []fit.Finding{}}
	if in.Properties, err = propertiesOf(o.Envelope); err != nil {
		return nil, &exit{statusFailed, err}
	}
	for _, d := range o.Deviations {
		in.Findings = append(in.Findings, fit.Raise(d.Code, d.Subject, d.Message, nil))
	}
	for i := range in.Machines {
		if in.Machines[i].Disks == nil {
			in.Machines[i].Disks = []machine.Disk{}
		}
		if in.Machines[i].NICs == nil {
			in.Machines[i].NICs = []machine.NIC{}
		}
	}
	return in, nil
}

// inspectDisk looks at a file whose first bytes are those of a disk format;
// nil when they are not.
func inspectDisk(file string) (*inspection, error) {
	f, err := os.Open(file)
	if err != nil {
		return nil, &exit{statusFailed, err}
	}
	defer f.Close()
	src, err := disk.OpenFile(f)
	if err != nil {
		return nil, &exit{statusFailed, err}
	}
	format, err := formats.Detect(src)
	if err != nil || format.Probe == nil {
		return nil, nil
	}
	img, err := format.Open(src, formats.Beside(file, formats.Options{}, nil))
	if err != nil {
		return nil, &exit{statusFailed, fmt.Errorf("%s: %w", file, err)}
	}
	info := img.Info()
	name := filepath.Base(file)
	return &inspection{Kind: "disk", Manifest: "absent", Findings: []fit.Finding{}, Machines: []machine.Machine{{
		Name: name, NICs: []machine.NIC{},
		Disks: []machine.Disk{{ID: firstOf(info.ID, "disk"), File: name, Format: info.Format,
			VirtualBytes: info.VirtualBytes,
			FileBytes:    src.Size()}},
	}}}, nil
}

func (a *app) showInspection(file string, in *inspection) {
	manifest := map[string]string{"ok": a.paint(green, "manifest ok"), "absent": "no manifest",
		"mismatch": a.paint(red, "manifest does not match")}[in.Manifest]
	if in.Kind == "disk" {
		manifest = "a disk image"
	}
	fmt.Fprintf(a.out, "%s  %s, %s\n", a.paint(bold, file), in.Kind, manifest)
	for _, m := range in.Machines {
		if in.Kind != "disk" {
			fmt.Fprintf(a.out, "\n%s  %d CPUs, %s of memory, %s, %s\nmachine UUID %s\n", a.paint(bold, m.Name), m.CPUs,
				size(m.MemoryBytes), m.Firmware, dash(m.Guest), dash(m.UUID))
			if p := m.Passport; p != nil && p.Lineage == "" {
				fmt.Fprintf(a.out, "passport: copy %s, handed out %s\n", p.Copy, ago(p.MadeAt))
			} else if p != nil {
				fmt.Fprintf(a.out, "passport: copy %s of lineage %s, made by %s, %s\n", p.Copy, p.Lineage, p.MadeBy,
					ago(p.MadeAt))
			}
		}
		fmt.Fprintln(a.out)
		t := a.table("disk", "format", "capacity", "in the package", "file")
		for _, d := range m.Disks {
			t.AppendRow([]any{d.ID, d.Format, size(d.VirtualBytes), size(d.FileBytes), dash(d.File)})
		}
		t.Render()
		if len(m.NICs) > 0 {
			fmt.Fprintln(a.out)
			t = a.table("NIC", "model", "MAC", "network")
			for _, n := range m.NICs {
				t.AppendRow([]any{n.Name, n.Model, dash(n.MAC), dash(n.Network)})
			}
			t.Render()
		}
	}
	if len(in.Properties) > 0 {
		fmt.Fprintln(a.out)
		t := a.table("property", "of", "type", "value", "what it is")
		for _, p := range in.Properties {
			value := dash(p.Value)
			if !p.Settable {
				value += ", fixed"
			}
			t.AppendRow([]any{p.Name, p.Machine, p.Type, value, dash(p.Says)})
		}
		t.Render()
	}
	for _, f := range in.Findings {
		fmt.Fprintf(a.out, "\n%s  %s  %s\n         %s\n", a.state(f.Severity), a.paint(bold, f.Subject),
			a.paint(faint, f.Code), f.Message)
	}
}
