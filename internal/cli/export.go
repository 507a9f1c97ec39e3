package cli

import (
	"context"
	"crypto/sha256"
	"encoding/hex"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"
	"os/signal"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"time"

	"github.com/cenkalti/backoff/v5"
	"github.com/spf13/cobra"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/ovf"
)

func init() {
	register(groupSend, (*app).exportCmd)
}

func (a *app) exportCmd() *cobra.Command {
	s := &settling{}
	snapshot := ""
	cmd := &cobra.Command{
		Use:   "export COPY DEST",
		Short: "Write a package (OVA) from a copy",
		Long: `Write a package from a registered copy: an OVA with the OVF descriptor, a manifest
with SHA-256 digests, and the disks as stream-optimized VMDK.

DEST is a file on this computer (./tide-gauge.ova), "-" for standard output, or a
shelf (loft, loft/tide-gauge.ova). Nothing is ever written over, and Ctrl-C leaves
nothing half-done.`,
		Example: "  unvora export tide-gauge ./tide-gauge.ova\n" +
			"  unvora export gannet/tide-gauge loft --detach",
		Args:              cobra.ExactArgs(2),
		ValidArgsFunction: a.completeCopies("registered"),
	}
	s.flags(cmd)
	cmd.Flags().StringVar(&snapshot, "snapshot", "", "write the machine as it was at this snapshot")
	cmd.RunE = func(cmd *cobra.Command, args []string) error {
		ctx := cmd.Context()
		c, err := a.client()
		if err != nil {
			return err
		}
		dest, file, err := a.destination(ctx, c, args[0], args[1])
		if err != nil {
			return err
		}
		req := openapi.ExportRequest{Operation: openapi.ExportRequestOperationExport, Copies: args[:1],
			Destination: *dest, Snapshot: optional(snapshot)}
		p, err := a.settle(ctx, c, req, s)
		if p == nil || err != nil {
			return err
		}
		if file != "" && s.detach {
			return usage("--detach goes with a shelf: a file on this computer is written by this command")
		}
		j, err := a.start(ctx, c, p.body)
		if err != nil {
			return err
		}
		if s.detach {
			return a.print(j, func() { fmt.Fprintf(a.out, "The job %s is at work: unvora jobs %s\n", j.Id, j.Id) })
		}
		var transfer func(context.Context) error
		written := false
		switch file {
		case "":
		case "-":
			transfer = func(ctx context.Context) error { return a.pipePackage(ctx, c, j.Id) }
		default:
			transfer = func(ctx context.Context) error { return a.takePackage(ctx, c, j.Id, file, &written) }
		}
		done, err := a.follow(ctx, c, j, transfer)
		if err != nil {
			if written { // complete, but the job was undone before it was told so
				_ = os.Remove(file)
			}
			return err
		}
		if file == "-" {
			return nil
		}
		return a.print(done, func() { a.say(a.out, "%s is written.", *dest.Place) })
	}
	return cmd
}

// destination tells a shelf from a file on this computer; file is "" for a shelf.
func (a *app) destination(ctx context.Context, c *caller, name, dest string) (*openapi.Destination, string, error) {
	if dest == "-" {
		return &openapi.Destination{File: ptr(lastPart(name) + ".ova"), Place: ptr("a pipe"), Piped: ptr(true)}, "-",
			nil
	}
	if !strings.HasPrefix(dest, ".") && !filepath.IsAbs(dest) {
		res, err := c.ListShelves(ctx)
		shelves, err := call[[]openapi.Shelf](c, res, err)
		if err != nil {
			return nil, "", err
		}
		shelf, file, _ := strings.Cut(dest, "/")
		for _, s := range shelves {
			if strings.EqualFold(s.Name, shelf) {
				place := s.Name + "/" + firstOf(file, lastPart(name)+".ova")
				return &openapi.Destination{Shelf: &s.Name, File: optional(file), Place: &place}, "", nil
			}
		}
		if !strings.ContainsAny(dest, "./") {
			return nil, "", usage("there is no shelf %q; for a file on this computer write ./%s.ova", dest, dest)
		}
	}
	file, err := filepath.Abs(dest)
	if err != nil {
		return nil, "", err
	}
	if st, err := os.Stat(file); err == nil && st.IsDir() {
		file = filepath.Join(file, lastPart(name)+".ova")
	}
	if _, err := os.Lstat(file); err == nil {
		return nil, "", &exit{statusBlocked, fmt.Errorf("%s exists already; nothing is written over. Choose another "+
			"name, "+
			"or remove it", dest)}
	}
	if st, err := os.Stat(filepath.Dir(file)); err != nil || !st.IsDir() {
		return nil, "", &exit{statusFailed, fmt.Errorf("the directory %s is not there; make it first: mkdir -p %s",
			filepath.Dir(dest), filepath.Dir(dest))}
	}
	host, err := os.Hostname()
	if err != nil {
		host = "this computer"
	}
	return &openapi.Destination{File: ptr(filepath.Base(file)), Place: ptr(host + ":" + file)}, file, nil
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
// written is set once the file bears its own name.
func (a *app) takePackage(ctx context.Context, c *caller, job, file string, written *bool) (err error) {
	part := filepath.Join(filepath.Dir(file), "."+filepath.Base(file)+".part")
	f, err := os.OpenFile(part, os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o640)
	if err != nil {
		return fmt.Errorf("%w: is there a right to write there?", err)
	}
	defer func() {
		f.Close()
		if err != nil || ctx.Err() != nil {
			_ = os.Remove(part)
		}
	}()
	var t openapi.Transfer
	if err := a.retry(ctx, func() (err error) { t, err = a.offer(ctx, c, job); return err }); err != nil ||
		t.Give == nil {
		_ = os.Remove(part)
		return err
	}
	w := ovf.NewWriter(f, t.Give.Name, t.Give.Room, time.Now(), nil)
	for _, d := range t.Give.Disks {
		m, err := a.takeDisk(ctx, c, job, d.Id, io.NewOffsetWriter(f, w.Begin()))
		if err != nil {
			return err
		}
		if ctx.Err() != nil {
			return ctx.Err()
		}
		m.Name = d.File
		if err := w.End(m); err != nil {
			return err
		}
	}
	var descriptor []byte
	members := []openapi.Member{}
	for _, m := range w.Members() {
		members = append(members, openapi.Member{Name: m.Name, Size: m.Size, Sha256: m.SHA256})
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
	total, err := w.Finish(descriptor)
	if err == nil {
		err = errors.Join(f.Truncate(total), f.Sync())
	}
	if err != nil {
		return err
	}
	if err := os.Link(part, file); err != nil { // fails where the name was taken meanwhile
		return err
	}
	*written = true
	if err := os.Remove(part); err != nil {
		return err
	}
	return a.retry(ctx, func() error {
		res, err := c.HandedOut(ctx, job, openapi.HandedOutJSONRequestBody{Bytes: total})
		_, err = call[struct{}](c, res, err)
		return err
	})
}

// takeDisk writes one disk and digests it on the way.
func (a *app) takeDisk(ctx context.Context, c *caller, job, disk string, w io.WriterAt) (ovf.Member, error) {
	h := sha256.New()
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
	return ovf.Member{Size: at, SHA256: hex.EncodeToString(h.Sum(nil))}, err
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
