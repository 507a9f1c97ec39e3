package do

import (
	"context"
	"errors"
	"fmt"
	"io"
	"path/filepath"
	"strconv"
	"time"

	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/hostlink"
)

// open reads the entry from offset on, wherever it is.
func (f *fetch) open(ctx context.Context, offset int64) (io.ReadCloser, error) {
	left := f.Entry.Size - offset
	switch src := f.Source; {
	case src.Upload:
		return io.NopCloser(f.t.Intake.Open(ctx, f.Disk, f.Entry.Name, offset, f.Entry.Size)), nil
	case src.Remote != nil:
		return &remoteReader{ctx: ctx, f: f, at: offset}, nil
	}
	o, err := f.t.OpenPackage(ctx, f.Source, filepath.Dir(f.path))
	if err != nil {
		return nil, err
	}
	src, err := o.Source(f.Entry)
	if err != nil {
		return nil, errors.Join(err, o.Close())
	}
	return entryReader{io.NewSectionReader(src, offset, left), o}, nil
}

// entryReader reads a file of a package, which is closed along with it.
type entryReader struct {
	io.Reader
	o *ovf.Opened
}

func (r entryReader) Close() error { return r.o.Close() }

// OpenPackage opens a package at a path of this host, or on the web.
func (w *Worker) OpenPackage(ctx context.Context, src hostlink.FetchSource, temp string) (*ovf.Opened, error) {
	if src.Web != "" {
		return w.openWeb(ctx, src.Web)
	}
	if err := w.Within(src.Path); err != nil {
		return nil, err
	}
	return w.Door.Package(src.Path, temp)
}

// remoteReader reads a file at another agent, asking again after a cut.
type remoteReader struct {
	ctx  context.Context
	f    *fetch
	at   int64 // in the entry
	body io.ReadCloser
	cuts int
}

const mostCuts = 60 // in a row; with the pause between them, about a minute

func (r *remoteReader) Read(p []byte) (int, error) {
	for {
		offset, left := r.f.Entry.At(r.at)
		if left <= 0 {
			return 0, io.EOF
		}
		if r.body == nil {
			src := r.f.Source.Remote
			body, err := r.f.t.Dialer().Host(src.Host, src.Address).File(r.ctx, src.Ticket, offset)
			if err != nil {
				// An agent that was started again has forgotten its tickets; the
				// service makes them anew.
				var fault *hostlink.Fault
				forgotten := errors.As(err, &fault) && fault.Code == hostlink.FaultUnknown
				if r.cuts++; r.cuts > mostCuts || !forgotten && !errors.Is(err, hostlink.ErrUnreachable) {
					return 0, err
				}
				select {
				case <-time.After(time.Second):
					continue
				case <-r.ctx.Done():
					return 0, r.ctx.Err()
				}
			}
			r.body = body
		}
		n, err := r.body.Read(p[:min(int64(len(p)), left)])
		r.at += int64(n)
		if err != nil || int64(n) == left { // a part ends, and the next one begins elsewhere
			r.body.Close()
			r.body = nil
		}
		if n > 0 {
			r.cuts = 0
			return n, nil
		}
		if r.ctx.Err() != nil {
			return 0, r.ctx.Err()
		}
		if r.cuts++; r.cuts > mostCuts {
			return 0, fmt.Errorf("read byte %s of the package: %w", strconv.FormatInt(r.at, 10), err)
		}
		select { // one that breaks at once is no reason to ask at once
		case <-time.After(min(time.Second, 50*time.Millisecond<<min(r.cuts, 10))):
		case <-r.ctx.Done():
			return 0, r.ctx.Err()
		}
	}
}

func (r *remoteReader) Close() error {
	if r.body == nil {
		return nil
	}
	return r.body.Close()
}
