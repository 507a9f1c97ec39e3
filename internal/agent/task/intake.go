package task

import (
	"context"
	"errors"
	"io"
	"sync"

	"unvora.example/unvora/internal/hostlink"
)

// Intake is the reading end of what the caller's computer sends, in one or
// more pieces: each piece begins where the last one ended.
type Intake struct {
	t  *Task
	mu sync.Mutex

	offset int64
	need   *hostlink.Need // nil while nobody reads
	piece  *piece
	came   chan struct{}
	closed chan struct{}
	once   sync.Once
}

type piece struct {
	r    io.Reader
	done chan error
}

var errIntakeClosed = errors.New("the task has ended")

func newIntake(t *Task) *Intake {
	return &Intake{t: t, came: make(chan struct{}, 1), closed: make(chan struct{})}
}

func (in *Intake) close() { in.once.Do(func() { close(in.closed) }) }

// Open returns a reader of the entry from offset on.
func (in *Intake) Open(ctx context.Context, disk, entry string, offset, size int64) io.Reader {
	in.mu.Lock()
	in.offset, in.need = offset, &hostlink.Need{Disk: disk, Entry: entry, Offset: offset}
	in.mu.Unlock()
	return io.LimitReader(readerFunc(func(p []byte) (int, error) { return in.read(ctx, p) }), size-offset)
}

type readerFunc func([]byte) (int, error)

func (f readerFunc) Read(p []byte) (int, error) { return f(p) }

func (in *Intake) read(ctx context.Context, p []byte) (int, error) {
	for {
		in.mu.Lock()
		cur := in.piece
		if cur == nil {
			need := *in.need
			need.Offset = in.offset
			in.mu.Unlock()
			in.t.Update(func(s *hostlink.Task) { s.Needs = &need })
			select {
			case <-in.came:
				in.t.Update(func(s *hostlink.Task) { s.Needs = nil })
				continue
			case <-ctx.Done():
				return 0, ctx.Err()
			case <-in.closed:
				return 0, errIntakeClosed
			}
		}
		in.mu.Unlock()
		n, err := cur.r.Read(p)
		in.mu.Lock()
		in.offset += int64(n)
		if err != nil { // also io.EOF: the piece is at its end, there may be another
			in.piece = nil
			if err == io.EOF {
				err = nil
			}
			cur.done <- err
		}
		in.mu.Unlock()
		if n > 0 {
			return n, nil
		}
	}
}

// Finish lets go of a sender that still holds on.
func (in *Intake) Finish() {
	in.mu.Lock()
	defer in.mu.Unlock()
	if in.piece != nil {
		in.piece.done <- nil
		in.piece = nil
	}
	in.need = nil
}

// Send hands a piece in; it returns when the piece was read.
func (in *Intake) Send(ctx context.Context, offset int64, r io.Reader) error {
	in.mu.Lock()
	if in.need == nil || in.piece != nil || offset != in.offset {
		defer in.mu.Unlock()
		msg := "nothing is needed now"
		if in.need != nil && in.piece == nil {
			msg = "the bytes are needed from another offset on"
		}
		return &hostlink.Fault{Code: hostlink.FaultOffset, Message: msg}
	}
	p := &piece{r: r, done: make(chan error, 1)}
	in.piece = p
	in.mu.Unlock()
	select {
	case in.came <- struct{}{}:
	default:
	}
	select {
	case err := <-p.done:
		return err
	case <-in.closed:
		return errIntakeClosed
	case <-ctx.Done():
		return ctx.Err()
	}
}
