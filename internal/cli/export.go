package cli

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path"
	"path/filepath"
	"regexp"
	"slices"
	"strconv"
	"strings"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/ovf"
)

func init() {
	register(groupSend, (*app).exportCmd)
}

func (a *app) exportCmd() *cobra.Command {
	s := &settling{}
	var snapshot, shape string
	together := false
	holds := &handing{}
	cmd := &cobra.Command{
		Use:   "export COPY… DEST",
		Short: "Write packages (OVA) from copies",
		Long: `Write a package from a registered copy: an OVA with the OVF descriptor, a manifest
of digests, and the disks as stream-optimized VMDK, or as --disk-format says; or a
folder with the same.

DEST is a file on this computer (./tide-gauge.ova), a folder there (./tide-gauge/),
"-" for standard output, a shelf (loft, loft/tide-gauge.ova), or a pool (harbour/, or
skua:shoal/ where several have that name), where it lies beside the machine folders.
Nothing is ever written over, and Ctrl-C leaves nothing half-done.

Of several machines each gets a package, and a job, of its own: what one can't do
stops no other. DEST is a shelf or a pool then, or a directory on this computer, which
is made if it is not there. Where DEST is a file, or with --together, all of them come
into one package, as they are at one instant if they run at one host. Their turns at
start are kept.

A package is for one of two things. To restore the machine, or to take it elsewhere,
it stays the one that it is. To hand it out, --for hand-out: others get nothing that
is this machine's alone. The options below change single things; the copy itself
stays as it is.`,
		Example: "  unvora export tide-gauge ./tide-gauge.ova\n" +
			"  unvora export tide-gauge ./for-others/ --for hand-out --name tide-gauge-kit\n" +
			"  unvora export tide-gauge ./tide-gauge.ova --sign our.crt --sign-key our.key\n" +
			"  unvora export gannet/tide-gauge loft --detach\n" +
			"  unvora export gannet/tide-gauge harbour/\n" +
			"  unvora export --where 'name~training-*' loft --yes\n" +
			"  unvora export tide-gauge archive-db loft/tides.ova",
		Args:              cobra.MinimumNArgs(1),
		ValidArgsFunction: a.completeCopies("registered"),
	}
	s.transfers(cmd)
	where := ""
	cmd.Flags().StringVar(&where, "where", "", "the registered copies that a filter tells, such as 'name~training-*'")
	cmd.Flags().StringVar(&snapshot, "snapshot", "", "write the machine as it was at this snapshot")
	cmd.Flags().StringVar(&shape, "shape", "", "ova, or folder: a directory with the descriptor, the manifest and the "+
		"disks; as DEST says unless said")
	cmd.Flags().BoolVar(&together, "together", false, "one package of all machines; so it is where DEST is a file")
	holds.flags(cmd)
	var parts int64
	cmd.Flags().Var(bytesValue{&parts}, "parts", "cut files of a folder into parts of this size, such as 4000MiB, for "+
		"drives that take no larger files (the standard's chunks)")
	signing := &signing{}
	cmd.Flags().StringVar(&signing.certificate, "sign", "", "sign the package with this certificate (PEM) and the "+
		"key of --sign-key. It is signed here: the key does not leave this computer")
	cmd.Flags().StringVar(&signing.key, "sign-key", "", "private key of that certificate (PEM, RSA or ECDSA)")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		c, err := a.client()
		if err != nil {
			return err
		}
		copies, place := args[:len(args)-1], args[len(args)-1]
		if len(copies) == 0 && where == "" {
			return usage("which, and where to: unvora export COPY DEST, or --where 'name~training-*' DEST")
		}
		var dest *openapi.Destination
		var to *local
		one := len(copies) == 1 && where == ""
		if !one && strings.EqualFold(filepath.Ext(place), ".ova") {
			together = true
		}
		switch {
		case one:
			dest, to, err = a.destination(ctx, c, firstOf(holds.name, copies[0]), place, shape)
		case together:
			if holds.name == "" && !strings.EqualFold(filepath.Ext(place), ".ova") {
				return usage("a package of several machines needs a name: --name tides")
			}
			dest, to, err = a.destination(ctx, c, holds.name, place, shape)
		default:
			dest, to, err = a.destinations(ctx, c, place, shape)
		}
		if err != nil {
			return err
		}
		req := openapi.ExportRequest{Operation: openapi.ExportRequestOperationExport, Copies: &copies,
			Where: optional(where), Destination: *dest, Snapshot: optional(snapshot)}
		if together {
			req.Together = &together
		}
		if err := holds.into(&req); err != nil {
			return err
		}
		if err := to.cut(dest, parts); err != nil {
			return err
		}
		if err := signing.into(dest, to); err != nil {
			return err
		}
		p, err := a.settle(ctx, c, req, s)
		if p == nil || err != nil {
			return err
		}
		if to != nil && s.leaves() {
			return usage("--detach and --start go with a shelf or a pool: a file on this computer is written by " +
				"this command")
		}
		if to != nil {
			drop, err := to.ready()
			if err != nil {
				return err
			}
			defer drop()
		}
		j, err := a.start(ctx, c, p.body)
		if err != nil {
			return err
		}
		if s.leaves() {
			return a.detached(j)
		}
		var transfer func(context.Context) error
		switch {
		case to == nil:
		case to.several:
			transfer = func(ctx context.Context) error { return a.takePackages(ctx, c, j, to) }
		case to.piped:
			transfer = func(ctx context.Context) error { return a.pipePackage(ctx, c, j.Id) }
		default:
			transfer = func(ctx context.Context) error { return a.takePackage(ctx, c, j.Id, to) }
		}
		done, err := a.follow(ctx, c, j, transfer)
		if err != nil {
			if to != nil && to.whole { // complete, but the job was undone before it was told so
				_ = os.RemoveAll(to.path)
			}
			return err
		}
		if to != nil && to.piped {
			return nil
		}
		return a.print(done, func() { a.writtenTo(ctx, c, done, to, *dest.Place) })
	}
	return cmd
}

// signing is who signs a package, as options.
type signing struct{ certificate, key string }

// How the place of a package tells what else it is to be.
const (
	signed  = ", signed"
	inParts = ", in parts of %d bytes"
)

var partsSaid = regexp.MustCompile(`, in parts of (\d+) bytes$`)

// placed takes apart how the place of a package is told: HOST:PATH, the size of the parts of its files, 0 for none, and
// whether it is to be signed.
func placed(place string) (path string, parts int64, sign bool) {
	path, sign = strings.CutSuffix(place, signed)
	if said := partsSaid.FindStringSubmatch(path); said != nil {
		parts, _ = strconv.ParseInt(said[1], 10, 64)
		path = strings.TrimSuffix(path, said[0])
	}
	return path, parts, sign
}

// leastParts is how small parts of files may be: smaller ones are mistakes.
const leastParts = 1 << 20

// cut has the files of a package come in parts of a size.
func (l *local) cut(dest *openapi.Destination, size int64) error {
	switch {
	case size == 0:
		return nil
	case size < leastParts:
		return usage("--parts: at least %s", fit.Size(leastParts))
	case l == nil || !l.folder:
		return usage("--parts: an OVA is one file, whose parts nobody else could read. Write a folder to this " +
			"computer: --shape folder")
	}
	l.parts = size
	*dest.Place += fmt.Sprintf(inParts, size)
	return nil
}

// mostPEM is how many bytes a certificate, or a key, may have.
const mostPEM = 1 << 20

// into has the package signed by whom was said. Keys don't travel: it has to be written here, as a whole.
func (s *signing) into(dest *openapi.Destination, to *local) error {
	if s.certificate == "" && s.key == "" {
		return nil
	}
	if s.certificate == "" || s.key == "" {
		return usage("--sign CERT and --sign-key KEY go together")
	}
	if to == nil || to.piped {
		return usage("a package is signed where it is written: name a file or folder on this computer")
	}
	certificate, err := readText("--sign", s.certificate, mostPEM)
	if err != nil {
		return err
	}
	key, err := readText("--sign-key", s.key, mostPEM)
	if err != nil {
		return err
	}
	if to.signs, err = ovf.NewSigningKey(rand.Reader, []byte(certificate), []byte(key)); err != nil {
		return usage("--sign %s --sign-key %s: %v", s.certificate, s.key, err)
	}
	*dest.Place += signed
	return nil
}

// local is a package on the client's computer.
type local struct {
	path    string // of several packages, the directory that they come into
	piped   bool   // to standard output
	folder  bool
	several bool            // it is several
	absent  bool            // their directory is not there yet
	whole   bool            // it has its place
	signs   *ovf.SigningKey // nil: nobody does
	parts   int64           // that its files come in, in bytes; 0: each is one
}

// open begins to write the package that is given.
func (l *local) open(give *openapi.Given, algorithm, job string) (written, error) {
	if l.folder {
		return newFolderOut(l, give.Name, algorithm, job)
	}
	return newArchiveOut(l.path, give.Name, give.Room, algorithm, l.signs)
}

// Shapes of packages.
const (
	shapeOVA    = "ova"
	shapeFolder = "folder"
)

// shelf is the shelf or the pool that a destination names; nil where it is a place on this computer.
func (a *app) shelf(ctx context.Context, c *caller, name, dest, shape string) (*openapi.Destination, error) {
	if strings.HasPrefix(dest, ".") || filepath.IsAbs(dest) {
		return nil, nil
	}
	shelf, file, _ := strings.Cut(dest, "/")
	res, err := c.ListShelves(ctx, &openapi.ListShelvesParams{Name: &shelf})
	shelves, err := call[[]openapi.Shelf](c, res, err)
	if err != nil {
		return nil, err
	}
	for _, s := range shelves {
		return keptAs(&openapi.Destination{Shelf: &s.Name}, s.Name, file, name, shape)
	}
	host, pool, placed := strings.Cut(shelf, ":")  // HOST:POOL/
	placed = placed && strings.Contains(dest, "/") // else it is a file whose name has a colon
	filter := "name=" + strconv.Quote(shelf)
	if placed {
		filter = "name=" + strconv.Quote(pool) + " host=" + strconv.Quote(host)
	}
	res, err = c.ListPools(ctx, &openapi.ListPoolsParams{Limit: ptr(1), Filter: &filter})
	pools, err := call[openapi.PoolPage](c, res, err)
	if err != nil {
		return nil, err
	}
	if len(pools.Items) > 0 {
		ref := pools.Items[0].Name
		if placed {
			ref = host + ":" + ref
		}
		return keptAs(&openapi.Destination{Pool: &ref}, pools.Items[0].Name, file, name, shape)
	}
	if placed {
		return nil, usage("%s has no pool %q: unvora pools tells which there are. For a file on this computer write "+
			"./%s", host, pool, dest)
	}
	if !strings.ContainsAny(dest, "./") {
		return nil, usage("there is no shelf and no pool %q; for a file on this computer write ./%s.ova", dest, dest)
	}
	return nil, nil
}

// keptAs is a destination on a shelf or in a pool, by the name of the file that was said, if any, and of the machine.
func keptAs(d *openapi.Destination, at, file, name, shape string) (*openapi.Destination, error) {
	if shape == shapeFolder {
		return nil, usage("shelves and pools take OVAs: write the folder to this computer, ./%s/", lastPart(name))
	}
	dir := ""
	if strings.Contains(file, "/") {
		dir, file, _ = strings.Cut(file, "/")
	}
	place := at + "/" + path.Join(dir, firstOf(file, lastPart(name)+".ova"))
	d.Directory, d.File, d.Place = optional(dir), optional(file), &place
	return d, nil
}

// destination tells a shelf from a place on this computer, which is nil for a shelf.
func (a *app) destination(ctx context.Context, c *caller, name, dest, shape string) (*openapi.Destination, *local,
	error) {
	if shape != "" && shape != shapeOVA && shape != shapeFolder {
		return nil, nil, usage("--shape %q: ova or folder", shape)
	}
	if dest == "-" {
		if shape == shapeFolder {
			return nil, nil, usage("standard output takes an OVA: a folder needs a directory, ./%s/", lastPart(name))
		}
		return &openapi.Destination{File: ptr(lastPart(name) + ".ova"), Place: ptr("a pipe"), Piped: ptr(true)},
			&local{piped: true}, nil
	}
	if shelf, err := a.shelf(ctx, c, name, dest, shape); shelf != nil || err != nil {
		return shelf, nil, err
	}
	file, err := filepath.Abs(dest)
	if err != nil {
		return nil, nil, err
	}
	st, err := os.Stat(file)
	there := err == nil && st.IsDir()
	to := &local{folder: shape == shapeFolder || shape == "" && !there && strings.HasSuffix(dest, "/")}
	switch ext := strings.ToLower(filepath.Ext(file)); {
	case there && to.folder:
		file = filepath.Join(file, lastPart(name))
	case there:
		file = filepath.Join(file, lastPart(name)+".ova")
	case to.folder && (ext == ".ova" || ext == ".ovf"), !to.folder && (ext == ".ovf" || ext == ".zip"):
		return nil, nil, usage("%s: a package is a file .ova, or with --shape folder a directory, ./%s/", dest,
			lastPart(name))
	}
	to.path = file
	if _, err := os.Lstat(file); err == nil {
		return nil, nil, &exit{statusBlocked, fmt.Errorf("%s exists already; nothing is written over. Choose another "+
			"name, or remove it", dest)}
	}
	if err := madeFirst(file, dest); err != nil {
		return nil, nil, err
	}
	host, err := os.Hostname()
	if err != nil {
		host = "this computer"
	}
	place := host + ":" + file
	if to.folder {
		place += "/" // also whoever goes on with the job knows it by that
	}
	return &openapi.Destination{File: ptr(filepath.Base(file)), Place: &place}, to, nil
}

// madeFirst is an error where the directory that something is to come into is not there; dest is how it was asked for.
func madeFirst(path, dest string) error {
	if st, err := os.Stat(filepath.Dir(path)); err != nil || !st.IsDir() {
		return &exit{statusFailed, fmt.Errorf("the directory %s is not there; make it first: mkdir -p %s",
			filepath.Dir(dest), filepath.Dir(dest))}
	}
	return nil
}

// errOver ends a transfer whose job has ended by itself.
var errOver = errors.New("the job is over")

// retry calls f until it succeeds, the job is over, or ctx ends. A service
// that went away is waited for.
func (a *app) retry(ctx context.Context, f func() error) error {
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		err := f()
		var u *unreachable
		var local *fs.PathError
		var p *problem
		switch {
		case err == nil, errors.Is(err, errOver), ctx.Err() != nil:
			return struct{}{}, nil
		case !errors.As(err, &local) && (errors.As(err, &u) || errors.Is(err, io.ErrUnexpectedEOF) ||
			errors.As(err, &p) &&
				mayPass(p)):
			return struct{}{}, err
		}
		return struct{}{}, backoff.Permanent(err)
	}, backoff.WithBackOff(backoff.NewConstantBackOff(500*time.Millisecond)), backoff.WithMaxElapsedTime(0))
	if ctx.Err() != nil {
		return nil
	}
	return err
}

// mayPass tells refusals that pass by themselves: a job that is between two steps,
// an agent that was started again, a host that is away for a moment, a service that
// has too much to do. Whatever else
// is refused now is refused the next time too.
func mayPass(p *problem) bool {
	return slices.Contains([]string{"not-now", "unknown", "offset", "host.unreachable", "database.away", "later"},
		p.Code)
}

// offer waits until the job has disks to give.
func (a *app) offer(ctx context.Context, c *caller, job string) (openapi.Transfer, error) {
	for {
		res, err := c.GetTransfer(ctx, job, &openapi.GetTransferParams{Wait: ptr(10)})
		t, err := call[openapi.Transfer](c, res, err)
		if err != nil {
			return t, err
		}
		if t.Give != nil {
			return t, nil
		}
		if t.State == "done" || t.State == "failed" || t.State == "cancelled" {
			return t, errOver
		}
	}
}

// takePackage fetches the disks of a job one by one and writes the package.
// Sizes are filled in by seeking back; a cut is mended by asking for the rest.
func (a *app) takePackage(ctx context.Context, c *caller, job string, to *local) error {
	var t openapi.Transfer
	if err := a.retry(ctx, func() (err error) { t, err = a.offer(ctx, c, job); return err }); err != nil ||
		t.Give == nil {
		return err
	}
	algorithm := string(t.Give.Digest)
	if ovf.NewHash(algorithm) == nil {
		return fmt.Errorf("the service wants digests by %q, which this client does not know: take the service's client",
			algorithm)
	}
	out, err := to.open(t.Give, algorithm, job)
	if err != nil {
		return err
	}
	defer out.abandon()
	for _, d := range t.Give.Disks {
		w, err := out.begin(d.File)
		if err != nil {
			return err
		}
		m, err := a.takeDisk(ctx, c, job, d.Id, ovf.NewHash(algorithm), w)
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		m.Name = d.File
		if err := out.end(m); err != nil {
			return err
		}
	}
	var descriptor []byte
	members := []openapi.Member{}
	for _, m := range out.members() {
		members = append(members, openapi.Member{Name: m.Name, Size: m.Size, Sum: m.Sum})
	}
	err = a.retry(ctx, func() error {
		res, err := c.MakeDescriptor(ctx, job, members)
		if res, err = c.check(res, err); err != nil {
			return err
		}
		defer res.Body.Close()
		descriptor, err = io.ReadAll(res.Body)
		return err
	})
	if err != nil {
		return err
	}
	total, err := out.finish(descriptor)
	if err != nil {
		return err
	}
	to.whole = true
	return a.retry(ctx, func() error {
		res, err := c.HandedOut(ctx, job, openapi.HandedOutJSONRequestBody{Bytes: total})
		_, err = call[struct{}](c, res, err)
		return err
	})
}

// takeDisk writes one disk and digests it on the way.
func (a *app) takeDisk(ctx context.Context, c *caller, job, disk string, h hash.Hash,
	w io.WriterAt) (ovf.Member, error) {
	var at int64
	err := a.retry(ctx, func() error {
		res, err := c.ReadDisk(ctx, job, disk, &openapi.ReadDiskParams{Offset: &at})
		if res, err = c.check(res, err); err != nil {
			return err
		}
		defer res.Body.Close()
		buf := make([]byte, 1<<20)
		for {
			n, err := res.Body.Read(buf)
			if n > 0 {
				if _, e := w.WriteAt(buf[:n], at); e != nil {
					return &fs.PathError{Op: "write", Path: disk, Err: e}
				}
				h.Write(buf[:n])
				at += int64(n)
			}
			if err == io.EOF {
				return nil
			}
			if err != nil {
				return io.ErrUnexpectedEOF // ask for the rest
			}
		}
	})
	return ovf.Member{Size: at, Sum: hex.EncodeToString(h.Sum(nil))}, err
}

// pipePackage writes the package to standard output. A pipe can't be taken up
// again after a cut.
func (a *app) pipePackage(ctx context.Context, c *caller, job string) error {
	if err := a.retry(ctx, func() error { _, err := a.offer(ctx, c, job); return err }); err != nil {
		return err
	}
	res, err := c.ReadPackage(ctx, job)
	if res, err = c.check(res, err); err != nil {
		return err
	}
	defer res.Body.Close()
	signal.Ignore(syscall.SIGPIPE) // a reader that has gone is an error, which ends the job
	if _, err := io.Copy(os.Stdout, res.Body); err != nil {
		return fmt.Errorf("the package broke off: %w", err)
	}
	return nil
}
