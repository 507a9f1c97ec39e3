package do

import (
	"bufio"
	"context"
	"encoding"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/raw"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// fetchJournal is what a fetch needs to go on.
type fetchJournal struct {
	VirtualBytes int64  `json:"virtualBytes"`
	Grain        int64  `json:"grain"`
	At           int64  `json:"at"`   // bytes of the entry that are safely in the image
	Hash         []byte `json:"hash"` // state after them
	Bytes        int64  `json:"bytes"`
	AnyOrder     bool   `json:"anyOrder"` // it can't be read front to back
}

// fetch writes one disk of a package in the host's own format.
type fetch struct {
	hostlink.Fetch
	t    *run
	path string
	hash hash.Hash
	read int64
}

func doFetch(ctx context.Context, t *run) (any, error) {
	f := &fetch{t: t}
	if err := t.Params(&f.Fetch); err != nil {
		return nil, err
	}
	f.path = filepath.Join(t.Staging(f.Pool), f.File)
	if err := t.Within(f.path); err != nil {
		return nil, err
	}
	if filepath.Base(f.File) != f.File {
		return nil, ground.Refuse("package.path-escape", "%q is no file name", f.File)
	}
	if err := t.Door.MkdirAll(filepath.Dir(f.path), ground.DirMode); err != nil {
		return nil, err
	}
	digest := f.Digest
	if digest.Algorithm == "" {
		digest.Algorithm = ovf.SHA256
	}
	if f.hash = digest.New(); f.hash == nil {
		return nil, fmt.Errorf("digest of the unknown kind %q", digest.Algorithm)
	}
	defer t.Intake.Finish()
	virtual, err := f.run(ctx)
	if err != nil {
		return nil, err
	}
	sum := hex.EncodeToString(f.hash.Sum(nil))
	if f.Digest.Sum != "" && sum != f.Digest.Sum {
		return nil, ground.Refuse("manifest.mismatch", "%s was changed or damaged after it was written: its %s is "+
			"%s, the "+
			"manifest says %s", f.Entry.Name, digest.Algorithm, sum, f.Digest.Sum)
	}
	bytes, err := t.Allocated(f.path)
	return hostlink.FetchResult{FileBytes: bytes, VirtualBytes: virtual, SHA256: sum}, err
}

func undoFetch(ctx context.Context, t *run) error {
	var p hostlink.Fetch
	if err := t.Params(&p); err != nil {
		return err
	}
	return t.Door.RemoveAll(filepath.Join(t.Staging(p.Pool), filepath.Base(p.File)))
}

func (f *fetch) run(ctx context.Context) (int64, error) {
	var j fetchJournal
	resumed, err := f.t.Journal(&j)
	if err != nil {
		return 0, err
	}
	if j.AnyOrder {
		return f.anyOrder(ctx)
	}
	if resumed {
		if target, file, err := f.reopen(j); err == nil {
			defer file.Close()
			r, err := f.open(ctx, j.At)
			if err != nil {
				return 0, err
			}
			defer r.Close()
			f.read = j.At
			f.t.Update(func(s *hostlink.Task) { s.Done = j.At })
			hashed := io.TeeReader(bufio.NewReaderSize(r, 1<<20), f)
			mark := f.mark(j.VirtualBytes, j.Grain)
			var feed disk.Feed
			if f.Raw {
				feed = disk.ReaderFeed(hashed, j.At, f.Entry.Size, mark)
			} else {
				feed = vmdk.ResumeStreamFeed(hashed, j.At, j.VirtualBytes, j.Grain, mark)
			}
			if err := f.pump(ctx, target, feed, hashed); !errors.Is(err, vmdk.ErrOrder) {
				return j.VirtualBytes, err
			}
			return f.anyOrder(ctx)
		}
		// What was written can't be used: begin anew.
		f.hash.Reset()
		if err := f.t.Unnote(); err != nil {
			return 0, err
		}
	}
	virtual, err := f.begin(ctx)
	if errors.Is(err, vmdk.ErrOrder) {
		return f.anyOrder(ctx)
	}
	return virtual, err
}

// anyOrder reads the entry by its own directory of grains: where it lies, if that
// can be sought, else from beside the new image, where it is brought first.
func (f *fetch) anyOrder(ctx context.Context) (int64, error) {
	if err := f.t.Note(fetchJournal{AnyOrder: true}); err != nil {
		return 0, err
	}
	f.t.Update(func(s *hostlink.Task) {
		s.Done, s.Note = 0, "its blocks are not in order: they are read by their directory"
		if f.Source.Upload || f.Source.Remote != nil {
			s.Note = "its blocks are not in order: they are kept aside first"
		}
	})
	if f.Source.Upload || f.Source.Remote != nil {
		f.read = 0
		f.hash.Reset()
		r, err := f.open(ctx, 0)
		if err != nil {
			return 0, err
		}
		defer r.Close()
		return f.spooled(ctx, nil, io.TeeReader(bufio.NewReaderSize(r, 1<<20), f))
	}
	return f.sought(ctx)
}

// sought reads an entry in any order, from where it lies.
func (f *fetch) sought(ctx context.Context) (int64, error) {
	f.read = 0
	f.hash.Reset()
	o, err := f.t.OpenPackage(ctx, f.Source, filepath.Dir(f.path))
	if err != nil {
		return 0, err
	}
	defer o.Close()
	src, err := o.Source(f.Entry)
	if err != nil {
		return 0, err
	}
	virtual, err := f.convert(ctx, src)
	if err != nil {
		return 0, err
	}
	_, err = io.Copy(f, io.NewSectionReader(src, 0, f.Entry.Size)) // for the digest
	return virtual, err
}

func (f *fetch) reopen(j fetchJournal) (disk.Target, *disk.OSFile, error) {
	format, err := formats.ByName(f.Format)
	if err != nil {
		return nil, nil, err
	}
	if err := f.hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(j.Hash); err != nil {
		return nil, nil, err
	}
	file, err := disk.OpenSource(f.t.Door, f.path, os.O_RDWR)
	if err != nil {
		return nil, nil, err
	}
	target, err := format.Resume(file, f.spec(j.VirtualBytes), nil)
	if err != nil {
		return nil, nil, errors.Join(err, file.Close())
	}
	return target, file, nil
}

func (f *fetch) spec(virtualBytes int64) disk.Spec {
	return disk.Spec{VirtualBytes: virtualBytes, ID: f.ID, Name: f.File}
}

// create makes the new image for what source tells of itself.
func (f *fetch) create(source disk.Info) (disk.Target, *disk.OSFile, error) {
	if _, err := uuid.Parse(source.ID); f.KeepID && err == nil {
		f.ID = source.ID
	}
	format, err := formats.ByName(f.Format)
	if err != nil {
		return nil, nil, ground.Refuse("disk.format-foreign", "%s", err.Error())
	}
	made, err := f.t.Door.OpenFile(f.path, os.O_RDWR|os.O_CREATE|os.O_TRUNC, ground.FileMode)
	if err != nil {
		return nil, nil, err
	}
	file, err := disk.OpenFile(made)
	if err != nil {
		return nil, nil, errors.Join(err, made.Close())
	}
	target, err := format.Create(file, f.spec(source.VirtualBytes))
	if err != nil {
		return nil, nil, errors.Join(err, file.Close())
	}
	return target, file, nil
}

// Write takes what passes by on its way from the package.
func (f *fetch) Write(p []byte) (int, error) {
	f.read += int64(len(p))
	f.t.Progress(int64(len(p)))
	return f.hash.Write(p)
}

func (f *fetch) begin(ctx context.Context) (int64, error) {
	r, err := f.open(ctx, 0)
	if err != nil {
		return 0, err
	}
	defer r.Close()
	buffered := bufio.NewReaderSize(r, 1<<20)
	head, err := buffered.Peek(int(min(512, f.Entry.Size)))
	if err != nil {
		return 0, fmt.Errorf("read the first bytes of %s: %w", f.Entry.Name, err)
	}
	hashed := io.TeeReader(buffered, f)
	if f.Raw {
		virtual := max(f.VirtualBytes, f.Entry.Size)
		target, file, err := f.create(disk.Info{Format: raw.Format, VirtualBytes: virtual})
		if err != nil {
			return 0, err
		}
		defer file.Close()
		return virtual, f.pump(ctx, target, disk.ReaderFeed(hashed, 0, f.Entry.Size, f.mark(virtual, 0)), hashed)
	}
	if vmdk.Probe(head) {
		var mark func(int64) any
		feed, err := vmdk.NewStreamFeed(hashed, func(at int64) any { return mark(at) })
		if err == nil {
			virtual := feed.Info().VirtualBytes
			mark = f.mark(virtual, feed.GrainBytes())
			target, file, err := f.create(feed.Info())
			if err != nil {
				return 0, err
			}
			defer file.Close()
			return virtual, f.pump(ctx, target, feed, hashed)
		}
		if !errors.Is(err, vmdk.ErrNotStream) {
			return 0, err
		}
	}
	if !f.Source.Upload && f.Source.Remote == nil {
		return f.sought(ctx)
	}
	// Formats that have to be read in any order lie beside the new image first.
	return f.spooled(ctx, head, hashed)
}

func (f *fetch) spooled(ctx context.Context, head []byte, rest io.Reader) (int64, error) {
	spool, err := f.t.Door.OpenFile(f.path+".package", os.O_RDWR|os.O_CREATE|os.O_TRUNC, 0o600)
	if err != nil {
		return 0, err
	}
	defer func() { _ = f.t.RemoveIfThere(f.path + ".package") }()
	defer spool.Close()
	if f.read > 0 { // the header was taken off already
		if _, err := spool.Write(head[:f.read]); err != nil {
			return 0, err
		}
	}
	if _, err := io.Copy(spool, rest); err != nil {
		return 0, err
	}
	src, err := disk.OpenFile(spool)
	if err != nil {
		return 0, err
	}
	return f.convert(ctx, src)
}

// convert writes the new image from a source that can be read in any order.
func (f *fetch) convert(ctx context.Context, src disk.Source) (int64, error) {
	img, err := formats.Open(struct{ disk.Source }{src}, nil) // which the caller closes
	if err != nil {
		return 0, fmt.Errorf("%s: %w", f.Entry.Name, err)
	}
	if parent := img.Info().Parent; parent != nil {
		return 0, ground.Refuse("disk.parent-missing", "%s is a layer on %s, which is not in the package", f.Entry.Name,
			parent.Path)
	}
	virtual := img.Info().VirtualBytes
	target, file, err := f.create(img.Info())
	if err != nil {
		return 0, err
	}
	defer file.Close()
	if err := disk.Pump(ctx, target, disk.ImageFeed(img, 0, target.BlockBytes()),
		disk.Options{Limit: f.t.Limit}); err != nil {
		return 0, err
	}
	return virtual, target.Finish()
}

type fetchMark struct {
	journal fetchJournal
}

// mark notes where in the entry a piece ends, with the digest up to there.
func (f *fetch) mark(virtualBytes, grain int64) func(at int64) any {
	return func(at int64) any {
		state, err := f.hash.(encoding.BinaryMarshaler).MarshalBinary()
		if err != nil {
			return nil
		}
		return fetchMark{fetchJournal{VirtualBytes: virtualBytes, Grain: grain, At: at, Hash: state}}
	}
}

func (f *fetch) pump(ctx context.Context, target disk.Target, feed disk.Feed, rest io.Reader) error {
	err := disk.Pump(ctx, target, feed, disk.Options{Now: time.Now, Limit: f.t.Limit, Saved: func(_ int64, _ []byte,
		m any) error {
		if m, ok := m.(fetchMark); ok {
			return f.t.Note(m.journal)
		}
		return nil
	}})
	if err != nil {
		return err
	}
	if _, err := io.Copy(io.Discard, rest); err != nil { // bytes after the image's end count for the digest
		return err
	}
	if f.read != f.Entry.Size {
		return ground.Refuse("package.truncated", "%s should have %d bytes and ends after %d", f.Entry.Name,
			f.Entry.Size, f.read)
	}
	return target.Finish()
}
