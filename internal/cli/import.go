package cli

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strings"

	"unvora.example/unvora/core/disk/raw"

	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/guest"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
)

func init() {
	register(groupBring, (*app).importCmd)
}

type importFlags struct {
	firstStart                     string
	host, pool, name, identity     string
	memory                         int64
	facets, wire, disks, addresses []string
	properties                     []string
	owner                          string
	cpus                           int
	keepWiring                     bool
}

func (a *app) importCmd() *cobra.Command {
	s, o := &settling{}, &importFlags{}
	from := &fromFlags{}
	files := ""
	cmd := &cobra.Command{
		Use:   "import SOURCE… --host HOST",
		Short: "Make a registered copy from a package, or a machine around bare disks",
		Long: `Make a registered copy from a package: its disks in the host's own format, on
the right switch, with an identity that collides with nobody's.

SOURCE is a package - an OVA, a folder, or a .zip, .tar, .tar.gz or .tar.zst with
either in it - on this computer, in the inventory (loft/tide-gauge.ova), at a path of
a host (reef/downloads/x.ova) or at an http(s) address; or it is one or more bare
disk images, around which a machine is made: where they lie, or copied (--files).
The plan comes first; open choices are asked on a terminal, and end the call with
status 3 elsewhere.`,
		Example: "  unvora import ./tide-gauge.ova --host petrel --plan\n" +
			"  unvora import loft/tide-gauge.ova --host petrel --name tide-gauge-test --yes\n" +
			"  unvora import --from petrel tide-probe --host skua --yes\n" +
			"  unvora import --from mainland --where state=stopped --host gannet --plan",
	}
	o.flags(a, cmd)
	o.firstStartFlag(cmd)
	cmd.Flags().StringArrayVar(&o.properties, "property", nil, "KEY=VALUE of what the package asks for; where it "+
		"wants that, its guest is told on a disc")
	cmd.Flags().StringVar(&files, "files", "", "what becomes of bare disks at the host: stay or copy")
	cmd.Flags().StringVar(&from.place, "from", "", "host or manager that has the machines named, or all of its "+
		"machines")
	cmd.Flags().StringVar(&from.where, "where", "", "only those of its machines that fit, such as 'state=stopped "+
		"name~surge-*'")
	cmd.Flags().StringArrayVar(&from.except, "except", nil, "and not this one")
	cmd.Flags().BoolVar(&from.ahead, "ahead", false, "only fetch the disks of a manager's machines ahead; again, what "+
		"has changed since; then importing them is short")
	cmd.Flags().BoolVar(&from.move, "move", false, "from another Unvora: leave none behind")
	cmd.Flags().StringVar(&from.via, "via", "", "from a foreign manager: host whose agent reads and converts the "+
		"disks "+
		"on the way; --host itself unless said")
	cmd.RegisterFlagCompletionFunc("from", a.completePlaces())
	cmd.RegisterFlagCompletionFunc("via", a.completeHosts())
	s.transfers(cmd)
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		if from.place == "" && len(args) == 0 {
			return usage("import what: a package, bare disks, or --from HOST")
		}
		if from.place == "" && (from.ahead || from.move || from.via != "" || from.where != "" || len(from.except) > 0) {
			return usage("--ahead, --move, --via, --where and --except go with --from")
		}
		if from.place != "" {
			return a.bringFrom(cmd.Context(), from, args, o, s)
		}
		if len(args) > 1 && slices.ContainsFunc(args, isPackage) && !inFolders(args) {
			return a.bringEach(cmd.Context(), args, o, files, s)
		}
		req, err := o.request()
		if err != nil {
			return err
		}
		req.Files = (*openapi.ImportRequestFiles)(optional(files))
		return a.bringIn(cmd.Context(), args, req, s)
	}
	return cmd
}

func (o *importFlags) flags(a *app, cmd *cobra.Command) {
	f := cmd.Flags()
	f.StringVar(&o.host, "host", "", "host to bring it to (needed)")
	f.StringVar(&o.pool, "pool", "", "pool for its folder; as the rules of landing say, or the host's first that is "+
		"ready, unless said")
	f.StringVar(&o.name, "name", "", "name of the copy; as it was unless said")
	f.StringVar(&o.identity, "identity", "", "keep or renew")
	f.StringArrayVar(&o.facets, "facet", nil, "one facet: uuid, firmware-uuid, mac, disk-id, generation-id or "+
		"tpm=keep "+
		"or renew")
	f.StringArrayVar(&o.disks, "disk", nil, "DISK=POOL, DISK=:FORMAT or DISK=POOL:FORMAT: the pool that one disk "+
		"lands "+
		"in, the format that it is written in")
	f.StringArrayVar(&o.addresses, "address", nil, "NIC=give for one that its segment has to give out, or NIC=ADDRESS")
	f.StringVar(&o.owner, "owner", "", "whose the machine is to be")
	f.StringArrayVar(&o.wire, "wire", nil, "NIC=SWITCH")
	f.BoolVar(&o.keepWiring, "keep-wiring", false, "make rules of the switches that are chosen by an answer")
	f.Var(atLeast{&o.cpus, 1}, "cpus", "number of CPUs; as it was unless said")
	f.Var(bytesValue{&o.memory}, "memory", "memory, such as 2GiB; as it was unless said")
	cmd.MarkFlagRequired("host")
	cmd.RegisterFlagCompletionFunc("host", a.completeHosts())
	cmd.RegisterFlagCompletionFunc("pool", a.completePools())
	cmd.RegisterFlagCompletionFunc("identity", cobra.FixedCompletions([]string{"keep", "renew"},
		cobra.ShellCompDirectiveNoFileComp))
}

// request is an import without its source, and what other operations that make a registered copy have in common with
// it.
func (o *importFlags) request() (*openapi.ImportRequest, error) {
	req := &openapi.ImportRequest{Operation: openapi.ImportRequestOperationImport, Host: o.host, Pool: optional(o.pool),
		Name: optional(o.name),
		Cpus: &o.cpus, KeepWiring: &o.keepWiring, Owner: optional(o.owner),
		Identity: (*openapi.ImportRequestIdentity)(optional(o.identity))}
	if o.identity != "" && o.identity != identity.Keep && o.identity != identity.Renew {
		return nil, usage("--identity %q: keep or renew", o.identity)
	}
	var err error
	if req.FirstStart, err = o.told(); err != nil {
		return nil, err
	}
	if len(o.properties) > 0 {
		if req.Properties, err = pairs("--property", o.properties); err != nil {
			return nil, err
		}
	}
	if req.Facets, err = pairs("--facet", o.facets); err != nil {
		return nil, err
	}
	if req.Wire, err = pairs("--wire", o.wire); err != nil {
		return nil, err
	}
	if req.Addresses, err = pairs("--address", o.addresses); err != nil {
		return nil, err
	}
	if req.Disks, err = pairs("--disk", o.disks); err != nil {
		return nil, err
	}
	if o.memory != 0 {
		req.MemoryBytes = &o.memory
	}
	return req, nil
}

func pairs(flag string, list []string) (*map[string]string, error) {
	m := map[string]string{}
	for _, text := range list {
		k, v, ok := strings.Cut(text, "=")
		if !ok || k == "" || v == "" {
			return nil, usage("%s %q: want NAME=VALUE", flag, text)
		}
		m[k] = v
	}
	return &m, nil
}

// mediaOf reads DRIVE=FILE; DRIVE= for an empty drive.
func mediaOf(list []string) (*map[string]string, error) {
	m := map[string]string{}
	for _, text := range list {
		drive, file, ok := strings.Cut(text, "=")
		if !ok || drive == "" {
			return nil, usage("--medium %q: want DRIVE=FILE, or DRIVE= to take out what is in it", text)
		}
		m[drive] = file
	}
	return &m, nil
}

func (a *app) bringIn(ctx context.Context, sources []string, req *openapi.ImportRequest, s *settling) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	opened, err := a.openSources(ctx, c, sources, req, s)
	if err != nil {
		return err
	}
	if opened != nil {
		defer opened.Close()
	}
	p, err := a.settle(ctx, c, req, s)
	if p == nil || err != nil {
		return err
	}
	if s.leaves() && opened != nil {
		return usage("--detach and --start go with a package of the inventory: a file on this computer is sent by " +
			"this command")
	}
	j, err := a.start(ctx, c, p.body)
	if err != nil {
		return err
	}
	if s.leaves() {
		return a.detached(j)
	}
	var transfer func(context.Context) error
	if opened != nil {
		transfer = func(ctx context.Context) error { return a.givePackage(ctx, c, j.Id, opened) }
	}
	done, err := a.follow(ctx, c, j, transfer)
	if err != nil {
		return err
	}
	if done.NewCopy == nil {
		return a.print(done, func() {})
	}
	return a.registered(ctx, c, done)
}

// openSources puts the sources into the request. What lies on this computer is
// opened, to be sent.
func (a *app) openSources(ctx context.Context, c *caller, sources []string, req *openapi.ImportRequest,
	s *settling) (*ovf.Opened, error) {
	local := isLocal(sources[0])
	for _, source := range sources[1:] {
		if isLocal(source) != local {
			return nil, usage("%s and %s: bare disks of one machine lie all on this computer, or all at the host",
				sources[0], source)
		}
	}
	switch {
	case !local && len(sources) == 1:
		req.Source = openapi.Source{Package: &sources[0]}
		return nil, nil
	case !local:
		req.Source = openapi.Source{Disks: &sources}
		return nil, nil
	}
	var opened *ovf.Opened
	var err error
	if none := noDisk(sources); none == "" {
		opened, err = a.aroundDisks(ctx, c, sources, req.Host)
	} else if len(sources) == 1 || inFolders(sources) {
		opened, err = openPackage(sources)
	} else {
		return nil, usage("several sources are the disks of one machine, and %s is none: a raw image ends in .img or "+
			".raw", none)
	}
	var p *ovf.Problem
	switch {
	case errors.As(err, &p):
		return nil, a.refusePackage(sources[0], req.Host, p, s)
	case err != nil:
		return nil, &exit{statusFailed, err}
	}
	skeleton, err := asSkeleton(&opened.Skeleton)
	if err != nil {
		return nil, err
	}
	req.Source = openapi.Source{Upload: skeleton}
	return opened, nil
}

// noDisk is the first of the paths that is no disk image; "" where all are. A raw one has nothing in it that tells so:
// its ending has to, or it is a device.
func noDisk(paths []string) string {
	for _, path := range paths {
		st, err := os.Stat(path)
		if err != nil || st.IsDir() {
			return path
		}
		in, err := inspectDisk(path)
		if in == nil && err == nil && byEnding(path) != raw.Format && st.Mode()&fs.ModeDevice == 0 {
			return path
		}
	}
	return ""
}

// aroundDisks makes a package of bare disks on this computer: what they hold
// says which machine is made around them.
func (a *app) aroundDisks(ctx context.Context, c *caller, paths []string, host string) (*ovf.Opened, error) {
	res, err := c.GetHost(ctx, host)
	h, err := call[openapi.HostDetail](c, res, err)
	if err != nil {
		return nil, err
	}
	family, err := fit.FamilyByName(h.Family)
	if err != nil {
		return nil, err
	}
	var disks []plan.FolderDisk
	var entries []ovf.Entry
	for _, path := range paths {
		st, err := os.Stat(path)
		if err != nil {
			return nil, err
		}
		chain, err := formats.OpenChain(path, formats.Options{})
		if err != nil {
			return nil, failed(err)
		}
		info := chain.Info()
		layers := len(chain.Links)
		found := guest.Look(chain, info.VirtualBytes)
		chain.Close()
		if layers > 1 {
			return nil, &exit{statusBlocked, fmt.Errorf("%s is a layer: make it stand alone first, with unvora disk "+
				"copy, and "+
				"bring the copy in", path)}
		}
		name := filepath.Base(path)
		disks = append(disks, plan.FolderDisk{ID: machine.CleanName(strings.TrimSuffix(name, filepath.Ext(name))),
			File: name,
			Path: path, Format: info.Format, VirtualBytes: info.VirtualBytes, FileBytes: st.Size(), Guest: found})
		entries = append(entries, ovf.Entry{Name: name, Size: st.Size()})
	}
	d, err := ovf.New(plan.Around(disks[0].ID, disks, plan.HostFacts{Family: family}))
	if err != nil {
		return nil, err
	}
	raw, err := d.Encode(0)
	if err != nil {
		return nil, err
	}
	descriptor := disks[0].ID + ".ovf"
	k := ovf.Skeleton{Name: filepath.Base(paths[0]), Kind: "folder", DescriptorName: descriptor,
		Descriptor: string(raw),
		Entries:    append(entries, ovf.Entry{Name: descriptor, Size: int64(len(raw))})}
	p, err := k.Open()
	if err != nil {
		return nil, err
	}
	var open []*os.File
	return &ovf.Opened{Package: p,
		Source: func(e ovf.Entry) (disk.Source, error) {
			for _, path := range paths {
				if filepath.Base(path) == e.Name {
					f, err := os.Open(path)
					if err != nil {
						return nil, err
					}
					open = append(open, f)
					return disk.OpenFile(f)
				}
			}
			return nil, fs.ErrNotExist
		},
		Shut: func() error {
			for _, f := range open {
				f.Close()
			}
			return nil
		}}, nil
}

// isLocal: a path that is there, or is written like one.
func isLocal(source string) bool {
	if strings.HasPrefix(source, ".") || strings.HasPrefix(source, "/") {
		return true
	}
	_, err := os.Stat(source)
	return err == nil
}

// refusePackage tells of a package that can't be read, as the plan would.
func (a *app) refusePackage(source, host string, problem *ovf.Problem, s *settling) error {
	p, err := plan.Import(plan.ImportFacts{Problem: problem, Where: source,
		Arrival: plan.Arrival{Host: plan.HostFacts{Name: host, State: "up"}}}, plan.BringRequest{})
	if err != nil {
		return err
	}
	var view openapi.Plan
	if err := remake(p, &view); err != nil {
		return err
	}
	if s.planOnly {
		if err := a.print(view, func() { a.showPlan(view) }); err != nil {
			return err
		}
		return &exit{statusBlocked, errors.New("")}
	}
	return &exit{statusBlocked, fmt.Errorf("%v (%s). Nothing was changed; fetch the package again, or choose another",
		problem, problem.Code)}
}

func asSkeleton(s *ovf.Skeleton) (*openapi.Skeleton, error) {
	out := &openapi.Skeleton{}
	return out, remake(s, out)
}

// givePackage sends what the job needs, from wherever it needs it on, until it
// needs nothing more.
func (a *app) givePackage(ctx context.Context, c *caller, job string, o *ovf.Opened) error {
	for ctx.Err() == nil {
		over := false
		err := a.retry(ctx, func() error {
			res, err := c.GetTransfer(ctx, job, &openapi.GetTransferParams{Wait: ptr(10)})
			t, err := call[openapi.Transfer](c, res, err)
			if err != nil {
				return err
			}
			if t.Need == nil {
				over = t.State == "done" || t.State == "failed" || t.State == "cancelled"
				return nil
			}
			e, ok := o.Entry(strings.TrimPrefix(t.Need.Entry, "./"))
			if !ok {
				return &fs.PathError{Op: "find", Path: t.Need.Entry, Err: fs.ErrNotExist}
			}
			src, err := o.Source(e)
			if err != nil {
				return err
			}
			body := io.NewSectionReader(src, t.Need.Offset, e.Size-t.Need.Offset)
			res, err = c.SendBytesWithBody(ctx, job, &openapi.SendBytesParams{Offset: t.Need.Offset},
				"application/octet-stream",
				body)
			_, err = call[struct{}](c, res, err)
			return err
		})
		if err != nil || over {
			return err
		}
	}
	return nil
}

// fromFlags say which machines of another host or manager are brought.
type fromFlags struct {
	place, where string
	except       []string
	ahead, move  bool
	via          string
}

// completePlaces knows the names of hosts and managers.
func (a *app) completePlaces() cobra.CompletionFunc {
	hosts, managers := a.completeHosts(), a.completeManagers()
	return func(cmd *cobra.Command, args []string, prefix string) ([]string, cobra.ShellCompDirective) {
		all, _ := managers(cmd, args, prefix)
		more, directive := hosts(cmd, args, prefix)
		return append(all, more...), directive
	}
}

// bringFrom brings machines of another host or of a manager: the ones named, or
// all that it lists and that fit.
func (a *app) bringFrom(ctx context.Context, from *fromFlags, names []string, o *importFlags, s *settling) error {
	c, err := a.client()
	if err != nil {
		return err
	}
	common, err := o.request()
	if err != nil {
		return err
	}
	folders := []string{}
	for _, n := range names {
		folders = append(folders, from.place+"/"+strings.TrimPrefix(n, from.place+"/"))
	}
	if len(names) == 0 {
		field := "host"
		res, err := c.ListManagers(ctx)
		managers, err := call[[]openapi.Manager](c, res, err)
		if err != nil {
			return err
		}
		for _, m := range managers {
			if strings.EqualFold(m.Name, from.place) {
				field = "manager"
			}
		}
		all, _, err := list[openapi.Copy](a, c, func(limit int, after *string) (*http.Response, error) {
			return c.ListCopies(ctx, &openapi.ListCopiesParams{Limit: &limit, After: after,
				Filter: ptr(strings.TrimSpace("form=registered " + field + "=" + from.place + " " + from.where))})
		})
		if err != nil {
			return err
		}
		for _, name := range from.except {
			if !slices.ContainsFunc(all, func(k openapi.Copy) bool { return k.Name == name || k.Id == name }) {
				return usage("--except %q: %s lists no such machine that fits", name, from.place)
			}
		}
		for _, k := range all {
			if !slices.Contains(from.except, k.Name) && !slices.Contains(from.except, k.Id) {
				folders = append(folders, k.Host+"/"+k.Name)
			}
		}
		if len(folders) == 0 {
			return &exit{statusFailed, fmt.Errorf("%s lists no machines that fit", from.place)}
		}
	} else if from.where != "" || len(from.except) > 0 {
		return usage("name the machines, or choose them by --where and --except")
	}
	if from.ahead {
		req := openapi.FetchAheadRequest{Operation: openapi.FetchAheadRequestOperationFetchAhead, Folders: folders,
			Host: common.Host, Pool: common.Pool, Disks: common.Disks}
		return a.perform(ctx, req, s, "fetched ahead")
	}
	req, err := registering(common, folders)
	if err != nil {
		return err
	}
	req.Files, req.Via = ptr(openapi.RegisterRequestFilesCopy), optional(from.via)
	if from.move {
		req.Files = ptr(openapi.RegisterRequestFilesMove)
	}
	return a.perform(ctx, req, s, "brought in")
}
