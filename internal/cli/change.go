package cli

import (
	"fmt"
	"net/http"
	"strconv"
	"strings"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
)

func init() {
	register(groupLook, (*app).disksCmd)
	register(groupCare, (*app).changeCmd, (*app).renewCmd, (*app).nicCmd, (*app).delistCmd, (*app).markCmd)
}

// changing makes a command that changes one copy. ask makes the request of its arguments.
func (a *app) changing(cmd *cobra.Command, done string, ask func(args []string) (any, error)) *cobra.Command {
	s := &settling{}
	cmd.ValidArgsFunction = a.completeCopies("registered")
	s.flags(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		req, err := ask(args)
		if err != nil {
			return err
		}
		return a.perform(cmd.Context(), req, s, done)
	}
	return cmd
}

// change is a request to change copies, in which nothing is different yet.
func change(copies ...string) *openapi.ChangeRequest {
	return &openapi.ChangeRequest{Operation: openapi.ChangeRequestOperationChange, Copies: &copies}
}

func (a *app) changeCmd() *cobra.Command {
	var name, guest, withHost string
	var memory int64
	var folder, standAlone, firstStartDone bool
	var cpus int
	var boot, add, drop, addresses, media []string
	m := &several{}
	cmd := a.changing(&cobra.Command{Use: "change COPY…",
		Short: "Change registered copies: name, CPUs, memory, guest type, boot order, devices",
		Args:  cobra.ArbitraryArgs,
		Example: "  unvora change tide-gauge --cpus 4 --memory 4GiB\n" +
			"  unvora change skua/kiosk-visitor --drop \"Sound card 1\" --drop \"Floppy drive 1\" --plan\n" +
			"  unvora change --where 'name~training-*' --memory 2GiB"},
		"changed", func(args []string) (any, error) {
			if name == "" && memory == 0 && guest == "" && withHost == "" && cpus == 0 && !standAlone &&
				!firstStartDone && len(boot)+len(add)+len(drop)+len(addresses)+len(media) == 0 {
				return nil, usage("nothing is to be changed: --name, --cpus, --memory, --guest, --boot, --add, " +
					"--drop, --medium, --with-host, --stand-alone, --first-start-done or --address")
			}
			if folder && name == "" {
				return nil, usage("--folder goes with --name")
			}
			if err := m.check(args); err != nil {
				return nil, err
			}
			req := change(args...)
			req.Where, req.AllOrNothing = optional(m.where), &m.allOrNothing
			if memory != 0 {
				req.MemoryBytes = &memory
			}
			var err error
			if req.Addresses, err = pairs("--address", addresses); err != nil {
				return nil, err
			}
			if req.Media, err = mediaOf(media); err != nil {
				return nil, err
			}
			if standAlone {
				req.StandAlone = &standAlone
			}
			if firstStartDone {
				req.FirstStartDone = &firstStartDone
			}
			if req.StartOrder, req.StartPause, err = turn(withHost); err != nil {
				return nil, err
			}
			req.Name, req.Cpus, req.Folder, req.Guest = optional(name), &cpus, &folder, optional(guest)
			req.Boot, req.Add, req.Drop = optionalList(boot), optionalList(add), optionalList(drop)
			return req, nil
		})
	m.flags(a, cmd, "name~training-*")
	f := cmd.Flags()
	f.StringVar(&name, "name", "", "new name")
	f.BoolVar(&folder, "folder", false, "rename its folder too")
	f.Var(atLeast{&cpus, 1}, "cpus", "number of CPUs")
	f.Var(bytesValue{&memory}, "memory", "memory, such as 4GiB")
	f.StringVar(&guest, "guest", "", "operating system in it")
	f.StringArrayVar(&boot, "boot", nil, "disk, NIC or device to start from; again for the next one")
	f.StringArrayVar(&add, "add", nil, "device to add: KIND or KIND=FILE, such as cd=visitor-guide.iso")
	f.StringArrayVar(&drop, "drop", nil, "name of a device to remove")
	f.BoolVar(&firstStartDone, "first-start-done", false, "its guest has read what it was told at its first start: "+
		"the disc goes into the trash")
	f.BoolVar(&standAlone, "stand-alone", false, "make disks whole that share layers with others")
	f.StringVar(&withHost, "with-host", "", "start with the host, as number N in order: N, or N:SECONDS to wait "+
		"before the next; no to stop that")
	f.StringArrayVar(&media, "medium", nil, "DRIVE=FILE for what is in a drive, DRIVE= to take it out; also while "+
		"the machine runs")
	f.StringArrayVar(&addresses, "address", nil, "NIC=give for one that its segment has to give out, or NIC=ADDRESS")
	return cmd
}

// turn reads N, N:SECONDS or no; nil for nothing.
func turn(text string) (order, pause *int, err error) {
	switch text {
	case "":
		return nil, nil, nil
	case "no":
		return ptr(0), ptr(0), nil
	}
	number, seconds, paused := strings.Cut(text, ":")
	n, err := strconv.Atoi(number)
	wait := 0
	if paused && err == nil {
		wait, err = strconv.Atoi(seconds)
	}
	if err != nil || n < 1 || wait < 0 {
		return nil, nil, usage("--with-host %q: want N, its turn from 1, N:SECONDS, or no", text)
	}
	return &n, &wait, nil
}

func (a *app) renewCmd() *cobra.Command {
	var facets []string
	m := &several{}
	cmd := a.changing(&cobra.Command{Use: "renew COPY…",
		Short:   "Give copies new identity facets where they are",
		Args:    cobra.ArbitraryArgs,
		Example: "  unvora renew petrel/tide-probe --facet mac\n  unvora renew training-01 --plan"},
		"renewed", func(args []string) (any, error) {
			for i, f := range facets {
				facets[i] = strings.TrimSuffix(f, "=renew")
			}
			return openapi.RenewRequest{Operation: openapi.RenewRequestOperationRenew, Copies: &args,
				Renew: optionalList(facets), Where: optional(m.where), AllOrNothing: &m.allOrNothing}, m.check(args)
		})
	m.flags(a, cmd, "name~training-*")
	cmd.Flags().StringArrayVar(&facets, "facet", nil, "only this facet: uuid, firmware-uuid, mac, disk-id, "+
		"generation-id or tpm")
	return cmd
}

func (a *app) nicCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "nic",
		Short:   "Add, remove and connect NICs",
		Example: "  unvora nic wire petrel/tide-probe \"NIC 1\" quarantine\n  unvora nic add tide-gauge field"}
	one := func(use, short, example string, args cobra.PositionalArgs,
		fill func(req *openapi.ChangeRequest, args []string)) {
		cmd.AddCommand(a.changing(&cobra.Command{Use: use,
			Short:   short,
			Example: example,
			Args:    args}, "changed", func(args []string) (any, error) {
			req := change(args[0])
			fill(req, args)
			return req, nil
		}))
	}
	one("add COPY [SWITCH]", "Add a NIC, unplugged unless a switch is named",
		"  unvora nic add tide-gauge field\n  unvora nic add tide-gauge", cobra.RangeArgs(1, 2),
		func(req *openapi.ChangeRequest, args []string) {
			req.AddNics = &[]string{append(args, "")[1]}
		})
	one("drop COPY NIC", "Remove a NIC", "  unvora nic drop buoy-ingest \"NIC 2\"\n  unvora nic drop buoy-ingest "+
		"\"NIC "+
		"2\" --plan", cobra.ExactArgs(2), func(req *openapi.ChangeRequest, args []string) {
		req.DropNics = &[]string{args[1]}
	})
	one("wire COPY NIC SWITCH", "Connect a NIC to a switch",
		"  unvora nic wire buoy-ingest \"NIC 2\" quarantine\n  unvora nic wire tide-gauge \"NIC 1\" field --plan",
		cobra.ExactArgs(3), func(req *openapi.ChangeRequest, args []string) {
			req.Wire = &map[string]string{args[1]: args[2]}
		})
	one("unplug COPY NIC", "Disconnect a NIC", "  unvora nic unplug buoy-ingest \"NIC 2\"\n  unvora nic unplug "+
		"tide-gauge \"NIC 1\" --note \"until the test is over\"", cobra.ExactArgs(2),
		func(req *openapi.ChangeRequest, args []string) {
			req.Unplug = &[]string{args[1]}
		})
	return cmd
}

// diskCareCmds are the commands on disks of the inventory; they need the service.
func (a *app) diskCareCmds() []*cobra.Command {
	replace := ""
	attach := a.changing(&cobra.Command{Use: "attach COPY FILE",
		Short: "Attach an existing disk to a copy, in addition or in place of another",
		Args:  cobra.ExactArgs(2),
		Example: "  unvora disk attach tide-gauge reef/spare/tides-2025.qcow2\n" +
			"  unvora disk attach tide-gauge reef/spare/repaired.qcow2 --in-place-of disk1 --plan"},
		"attached", func(args []string) (any, error) {
			return openapi.AttachRequest{Operation: openapi.AttachRequestOperationAttach, Copies: args[:1],
				File:      args[1],
				InPlaceOf: optional(replace)}, nil
		})
	attach.Flags().StringVar(&replace, "in-place-of", "", "disk of the copy that it replaces; that one's file stays")
	detach := a.changing(&cobra.Command{Use: "detach COPY DISK",
		Short:   "Detach a disk from a copy; its file stays",
		Args:    cobra.ExactArgs(2),
		Example: "  unvora disk detach archive-db disk3\n  unvora disk detach archive-db disk3 --plan"},
		"detached", func(args []string) (any, error) {
			return openapi.DetachRequest{Operation: openapi.DetachRequestOperationDetach, Copies: args[:1],
				Disk: args[1]}, nil
		})
	host := ""
	adopt := &cobra.Command{Use: "adopt FILE --host HOST",
		Short: "Take a loose disk or an ISO image into the inventory",
		Args:  cobra.ExactArgs(1),
		Example: "  unvora disk adopt reef/training-parent/classroom.qcow2 --host gannet\n" +
			"  unvora disk adopt shoal/kiosk-visitor/visitor-guide.iso --host skua"}
	adopt.Flags().StringVar(&host, "host", "", "host that sees it (needed)")
	adopt.MarkFlagRequired("host")
	adopt.RegisterFlagCompletionFunc("host", a.completeHosts())
	adopt.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.AdoptDisk(cmd.Context(), openapi.AdoptDiskJSONRequestBody{Host: host, File: args[0]})
		d, err := call[openapi.LooseDisk](c, res, err)
		if err != nil {
			return err
		}
		return a.print(d, func() {
			fmt.Fprintf(a.out, "%s (%s, %s) is in the inventory. Attach it: unvora disk attach COPY %s\n", d.Name,
				d.Format, size(d.VirtualBytes), d.Path)
		})
	}
	letGo := &cobra.Command{Use: "let-go FILE",
		Short:   "Take a loose disk out of the inventory; its file stays",
		Args:    cobra.ExactArgs(1),
		Example: "  unvora disk let-go reef/training-parent/classroom.qcow2\n  unvora disk let-go 0199c1a2-…"}
	letGo.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		res, err := c.LetGoDisk(cmd.Context(), &openapi.LetGoDiskParams{File: args[0]})
		if _, err = call[struct{}](c, res, err); err != nil {
			return err
		}
		return a.print(map[string]string{"letGo": args[0]}, func() {
			fmt.Fprintf(a.out,
				"%s is no longer in the inventory; its file is where it was.\n", args[0])
		})
	}
	return []*cobra.Command{attach, detach, adopt, letGo}
}

func (a *app) disksCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "disks",
		Short:   "List loose disks and media of the inventory",
		Example: "  unvora disks\n  unvora disks --where 'host=gannet kind=media'",
		Args:    cobra.NoArgs}
	where := whereFlag(cmd, "host=gannet kind=disk")
	cmd.RunE = func(cmd *cobra.Command, _ []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		disks, rest, err := list[openapi.LooseDisk](a, c, func(limit int, after *string) (*http.Response, error) {
			return c.ListDisks(cmd.Context(), &openapi.ListDisksParams{Limit: &limit, After: after,
				Filter: optional(*where)})
		})
		if err != nil {
			return err
		}
		return a.print(disks, func() {
			if len(disks) == 0 {
				fmt.Fprintln(a.out, "No loose disks. Take one in: unvora disk adopt FILE --host HOST")
				return
			}
			t := a.table("disk", "kind", "format", "capacity", "takes", "host", "path",
				"system").dropping("system", "takes", "format", "kind")
			for _, d := range disks {
				t.AppendRow([]any{a.paint(bold, d.Name), d.Kind, d.Format, size(d.VirtualBytes), size(d.FileBytes),
					d.Host, d.Path,
					d.System})
			}
			t.Render()
			a.more(rest)
		})
	}
	return cmd
}

func (a *app) delistCmd() *cobra.Command {
	files := "keep"
	m := &several{}
	cmd := a.changing(&cobra.Command{Use: "delist COPY…",
		Short:   "Take copies off their hosts' lists; their files stay, or go to the trash",
		Args:    cobra.ArbitraryArgs,
		Example: "  unvora delist old-telemetry\n  unvora delist training-12 --files trash"},
		"delisted", func(args []string) (any, error) {
			if files != "keep" && files != "trash" {
				return nil, usage("--files %q: keep or trash", files)
			}
			return openapi.DelistRequest{Operation: openapi.DelistRequestOperationDelist, Copies: &args,
				Where: optional(m.where), AllOrNothing: &m.allOrNothing, Trash: ptr(files == "trash")}, m.check(args)
		})
	m.flags(a, cmd, "name~training-*")
	cmd.Flags().StringVar(&files, "files", "keep", "keep or trash")
	return cmd
}

func (a *app) markCmd() *cobra.Command {
	cmd := &cobra.Command{Use: "mark LINEAGE [licence|reservation|nothing FACET]",
		Short: "Say that a licence or reservation is bound to a facet of a lineage's identity",
		Args:  cobra.RangeArgs(1, 3),
		Example: "  unvora mark licence-desk licence mac\n" +
			"  unvora mark licence-desk nothing mac\n" +
			"  unvora mark licence-desk"}
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		c, err := a.client()
		if err != nil {
			return err
		}
		switch len(args) {
		case 2:
			return usage("which facet: uuid, firmware-uuid, mac, disk-id or tpm")
		case 3:
			kind := args[1]
			if kind == "nothing" {
				kind = ""
			}
			res, err := c.SetMark(cmd.Context(), openapi.SetMarkJSONRequestBody{Lineage: args[0], Kind: kind,
				Facet: args[2]})
			if _, err = call[struct{}](c, res, err); err != nil {
				return err
			}
		}
		res, err := c.ListMarks(cmd.Context(), &openapi.ListMarksParams{Lineage: args[0]})
		marks, err := call[[]openapi.Mark](c, res, err)
		if err != nil {
			return err
		}
		return a.print(marks, func() {
			if len(marks) == 0 {
				fmt.Fprintf(a.out, "Nothing is bound to the identity of %s.\n", args[0])
			}
			for _, m := range marks {
				fmt.Fprintf(a.out, "%s: a %s is bound to its %s, says %s\n", args[0], m.Kind, m.Facet, m.Who)
			}
		})
	}
	return cmd
}
