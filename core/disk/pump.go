package disk

import (
	"context"
	"errors"
	"fmt"
	"io"
	"runtime"
	"sync"
	"time"

	"golang.org/x/time/rate"
)

// Piece is a run of guest data on its way.
type Piece struct {
	Offset int64
	Length int
	// Load fills dst, of Length bytes. It may run on any goroutine.
	Load func(dst []byte) error
	// Mark is handed to Options.Saved once this piece is safe: what the feed
	// needs to go on after it. It may be nil.
	Mark any
}

// Feed hands out the data of a disk, in ascending order of offset.
type Feed interface {
	// Next returns io.EOF after the last piece.
	Next() (Piece, error)
}

// Options of Pump. The zero value works.
type Options struct {
	// Workers is how many goroutines load and pack; 0 means one a processor.
	Workers int
	// Progress is told of every block put, in guest bytes of data.
	Progress func(dataBytes int64)
	// SaveEvery is how many guest bytes of data may pass between two saves; 0
	// means 1 GiB.
	SaveEvery int64
	// Now is the clock by which there is a save after two seconds in any case.
	// Nil: saves go by SaveEvery alone.
	Now func() time.Time
	// Saved is called after Target.Sync: everything below off is safe. state
	// and mark are what target and feed need to go on. Nil: nothing is saved.
	Saved func(off int64, state []byte, mark any) error
	// Digest, when there is one, is told of everything that was put. The feed's
	// pieces must then be whole blocks of 64 KiB, as those of ImageFeed are.
	Digest *Digest
	// Limit holds the pump to a rate; nil means as fast as it goes.
	Limit *Limit
}

// Limit is a rate, in guest bytes of data per second, that pumps are held to. It may change while they run.
type Limit struct{ bucket *rate.Limiter }

// gulp is how many bytes may pass at once.
const gulp = 1 << 20

// NewLimit makes a limit of a rate; 0 means as fast as it goes.
func NewLimit(bytesPerSecond int64) *Limit {
	l := &Limit{rate.NewLimiter(rate.Inf, gulp)}
	l.Set(bytesPerSecond)
	return l
}

// Set changes the rate; 0 means as fast as it goes.
func (l *Limit) Set(bytesPerSecond int64) {
	if bytesPerSecond <= 0 {
		l.bucket.SetLimit(rate.Inf)
		return
	}
	l.bucket.SetLimit(rate.Limit(bytesPerSecond))
}

// Wait lets bytes pass when it is their turn. It takes them in pieces of a second at most, so that another rate counts
// soon.
func (l *Limit) Wait(ctx context.Context, bytes int) error {
	for bytes > 0 {
		n := min(bytes, gulp)
		if r := l.bucket.Limit(); r < gulp {
			n = min(n, max(1, int(r)))
		}
		if err := l.bucket.WaitN(ctx, n); err != nil {
			return err
		}
		bytes -= n
	}
	return nil
}

const saveAfter = 2 * time.Second

// Pump moves every piece of feed into target: loads and packs in parallel,
// puts in order. It stops at once when ctx ends, and does not call
// Target.Finish, so that the caller may go on later or throw the target away.
// Memory is bounded by Workers and the length of pieces.
func Pump(ctx context.Context, target Target, feed Feed, o Options) error {
	if o.Workers == 0 {
		o.Workers = max(2, runtime.GOMAXPROCS(0))
	}
	if o.SaveEvery == 0 {
		o.SaveEvery = 1 << 30
	}
	outer := ctx
	ctx, cancel := context.WithCancelCause(ctx)
	defer cancel(nil)

	type parcel struct {
		Piece
		plain, buf, packed []byte
		sums               []uint64
		err                error
		ready              chan struct{}
	}
	inFlight := 4 * o.Workers
	work := make(chan *parcel, inFlight)
	order := make(chan *parcel, inFlight)
	pool := sync.Pool{New: func() any { return &parcel{ready: make(chan struct{}, 1)} }}

	var wg sync.WaitGroup
	defer wg.Wait()
	defer cancel(nil) // before Wait: lets the goroutines go

	wg.Go(func() { // feed
		defer close(work)
		defer close(order)
		for {
			piece, err := feed.Next()
			if errors.Is(err, io.EOF) {
				return
			}
			if ended := context.Cause(outer); err != nil && ended != nil {
				err = ended // which is why the feed was cut off
			}
			if err != nil {
				cancel(err)
				return
			}
			if o.Limit != nil {
				if err := o.Limit.Wait(ctx, piece.Length); err != nil {
					cancel(err)
					return
				}
			}
			p := pool.Get().(*parcel)
			p.Piece, p.err, p.packed = piece, nil, nil
			if cap(p.plain) < piece.Length {
				p.plain = make([]byte, piece.Length)
			}
			p.plain = p.plain[:piece.Length]
			select {
			case order <- p:
			case <-ctx.Done():
				return
			}
			work <- p // has room whenever order had
		}
	})
	for range o.Workers {
		wg.Go(func() { // load and pack
			for p := range work {
				if ctx.Err() == nil {
					if p.err = p.Load(p.plain); p.err == nil {
						if p.sums = p.sums[:0]; o.Digest != nil {
							p.sums = blockSums(p.sums, p.Offset, p.plain)
						}
						p.packed, p.err = target.Pack(p.plain, p.buf[:0])
						if p.err == nil && len(p.packed) > 0 && &p.packed[0] != &p.plain[0] {
							p.buf = p.packed[:0]
						}
					}
				}
				p.ready <- struct{}{}
			}
		})
	}

	save := func(off int64, mark any) error {
		if o.Saved == nil {
			return nil
		}
		state, err := target.Sync()
		if err != nil {
			return err
		}
		return o.Saved(off, state, mark)
	}
	var unsaved int64
	now := o.Now
	if now == nil {
		now = func() time.Time { return time.Time{} }
	}
	lastSave := now()
	for {
		var p *parcel
		var open bool
		select {
		case p, open = <-order:
		case <-ctx.Done():
			return context.Cause(ctx)
		}
		if !open {
			return context.Cause(ctx)
		}
		<-p.ready
		if err := context.Cause(ctx); err != nil {
			return err
		}
		if p.err != nil {
			return p.err
		}
		if err := target.Put(p.Offset, p.packed, p.Length); err != nil {
			return err
		}
		if o.Digest != nil {
			o.Digest.add(p.Offset, p.sums)
		}
		if o.Progress != nil {
			o.Progress(int64(p.Length))
		}
		unsaved += int64(p.Length)
		// By the clock, so that a cut costs seconds at most, and syncing little.
		if unsaved >= o.SaveEvery || unsaved > 0 && now().Sub(lastSave) > saveAfter {
			if err := save(p.Offset+int64(p.Length), p.Mark); err != nil {
				return err
			}
			unsaved, lastSave = 0, now()
		}
		pool.Put(p)
	}
}

// ImageFeed feeds the data of img from guest offset from on, in pieces that
// are whole multiples of unit and of 64 KiB at such a multiple, but for the
// disk's last; they have about one MiB. unit is a power of two.
func ImageFeed(img Image, from int64, unit int) Feed {
	unit = max(unit, digestBlock)
	piece := int64(max(unit, 1<<20/unit*unit))
	return &imageFeed{img: img, off: from, size: img.Info().VirtualBytes, unit: int64(unit), piece: piece}
}

type imageFeed struct {
	img               Image
	off, size         int64
	run               Range // what is known to lie at off
	unit, piece, done int64 // done: everything below was handed out
}

func (f *imageFeed) Next() (Piece, error) {
	for f.off < f.size {
		if f.off >= f.run.End() || f.off < f.run.Offset {
			r, err := f.img.Map(f.off)
			if err != nil {
				return Piece{}, err
			}
			f.run = r
		}
		if f.run.Kind != Data {
			f.off = f.run.End()
			continue
		}
		// Whole units only: the target may not take half a grain twice.
		start := max(f.off/f.unit*f.unit, f.done)
		end := min((f.run.End()+f.unit-1)/f.unit*f.unit, start/f.piece*f.piece+f.piece, f.size)
		f.off, f.done = end, end
		if end <= start {
			f.off = f.run.End()
			continue
		}
		return Piece{Offset: start, Length: int(end - start),
			Load: func(dst []byte) error { return ReadFull(f.img, dst, start) }}, nil
	}
	return Piece{}, io.EOF
}

// ReaderFeed feeds a disk's bytes from byte at of size on as they come from r, in pieces of one MiB, zeros too. mark
// makes the Mark of a piece once all up to byte end of the disk was read.
func ReaderFeed(r io.Reader, at, size int64, mark func(end int64) any) Feed {
	return &readerFeed{r, at, size, mark}
}

type readerFeed struct {
	r       io.Reader
	at, end int64
	mark    func(end int64) any
}

func (f *readerFeed) Next() (Piece, error) {
	if f.at >= f.end {
		return Piece{}, io.EOF
	}
	start := f.at
	f.at = min(start/framePiece*framePiece+framePiece, f.end)
	block := make([]byte, f.at-start)
	if _, err := io.ReadFull(f.r, block); err != nil {
		if err == io.EOF {
			err = io.ErrUnexpectedEOF
		}
		return Piece{}, fmt.Errorf("bytes %d to %d of the disk: %w", start, f.at, err)
	}
	return Piece{Offset: start, Length: len(block), Mark: f.mark(f.at), Load: func(dst []byte) error {
		copy(dst, block)
		return nil
	}}, nil
}
