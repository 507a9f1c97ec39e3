package disk

import (
	"errors"
	"fmt"
	"io"
	"time"
)

// Kind says what a range of a layer holds.
type Kind uint8

const (
	// Data has to be read from the layer.
	Data Kind = iota
	// Zero reads as zeros and need not be read.
	Zero
	// Parent is not in this layer: ask the parent, or zeros when there is none.
	Parent
)

func (k Kind) String() string { return [...]string{"data", "zero", "parent"}[k] }

// Range is a run of guest bytes of one kind.
type Range struct {
	Offset int64 // in bytes from the start of the guest disk
	Length int64 // in bytes, over 0
	Kind   Kind
}

// End is the first guest byte after the range.
func (r Range) End() int64 { return r.Offset + r.Length }

// ParentRef is what a layer says of its parent.
type ParentRef struct {
	Path   string // as stated: absolute, or relative to the layer
	Format string // "" when the layer does not say
	ID     string // what the parent's Linkage has to be; "" when the layer does not say
	// Fingerprint of the parent's contents when the layer was made on it, as
	// Fingerprint.String tells it; "" when the layer does not say.
	Fingerprint string
	// ModifiedAt is when the parent was last changed before the layer was made
	// on it, to the second; zero when the layer does not say.
	ModifiedAt time.Time
}

// Snapshot is a state of the disk that the image keeps inside itself.
type Snapshot struct {
	ID           string    `json:"id"`
	Name         string    `json:"name"`
	MadeAt       time.Time `json:"madeAt"`
	VirtualBytes int64     `json:"virtualBytes"`
}

// Info is what an image tells of itself, without its data being read.
type Info struct {
	Format       string // a name of formats.Table
	Variant      string // one of the format's variants there
	VirtualBytes int64  // size that the guest sees
	SectorBytes  int    // of the disk as the guest sees it: 512 or 4096
	ID           string // "" when the format states none
	// Linkage is what layers on this image remember of it: for most formats
	// its id, for VHDX a value that changes whenever the data does.
	Linkage   string
	Parent    *ParentRef
	Encrypted bool
	Clean     bool // closed properly, nothing to replay
	Snapshots []Snapshot
}

// Spec says what a new image is to be. Formats that have no place for a field ignore it.
type Spec struct {
	VirtualBytes int64
	Variant      string // "" means the format's first
	ID           string // a UUID; "" only where the format needs none
	Linkage      string // to be kept where layers hold on to it; "" means a new one
	SectorBytes  int    // 0 means 512
	Parent       *ParentRef
	Name         string    // of the file in the end, for images of several files
	MadeAt       time.Time // that the image states, in whole seconds; zero: none
	// Companion makes the second file of an image of two, beside the first;
	// name is that of a file, without a folder. Nil: images of one file only.
	Companion func(name string) (File, error)
}

// Opener opens another file that an image is made of, by the name it gives it:
// absolute, or relative to the image. A nil Opener refuses.
type Opener func(name string) (Source, error)

// Open calls o, or refuses.
func (o Opener) Open(name string) (Source, error) {
	if o == nil {
		return nil, fmt.Errorf("%w: part of it is in another file, %q", ErrVariant, name)
	}
	return o(name)
}

// Image is one layer, open for reading. ReadAt and Map may be called from
// several goroutines.
type Image interface {
	Info() Info
	// ReadAt reads guest bytes of this layer. What the layer leaves to its
	// parent reads as zeros here; Chain puts layers together.
	io.ReaderAt
	// Map tells what lies at off: a run that starts there, as long as is
	// cheap to tell. off must be below VirtualBytes.
	Map(off int64) (Range, error)
	io.Closer
}

// Target takes the guest bytes of a new image in ascending order.
type Target interface {
	// BlockBytes is the unit in which the target likes its data; every block
	// but the disk's last is a whole number of units at a whole number of units.
	BlockBytes() int
	// Pack prepares a block for Put (compresses it, say). It is called from
	// several goroutines at a time and may return plain itself. buf is scratch
	// of the caller that the result may live in.
	Pack(plain, buf []byte) ([]byte, error)
	// Put stores a packed block, called in ascending order of off by one
	// goroutine. plain is the block's length in guest bytes.
	Put(off int64, packed []byte, plain int) error
	// Sync makes all that was put so far survive a crash and returns what is
	// needed to go on from there (opaque to the caller, small).
	Sync() ([]byte, error)
	// Finish completes the image and syncs it. The file is still the caller's to close.
	Finish() error
}

// Source is a file or a part of one that is only read.
type Source interface {
	io.ReaderAt
	Size() int64
}

// File is what an image is written to. *os.File is made into one by OpenFile.
type File interface {
	Source
	io.WriterAt
	Truncate(size int64) error
	Sync() error
	// Allocate gives the file room for its first size bytes.
	Allocate(size int64) error
}

// Extents is offered by sources that know their own holes.
type Extents interface {
	// NextData returns the first run of data at or after off, or io.EOF when
	// there is none. end is exclusive, in bytes.
	NextData(off int64) (start, end int64, err error)
}

// Errors by which callers tell causes apart. Formats wrap them with what is
// wrong and at which byte offset of the file.
var (
	ErrFormat    = errors.New("not an image of this format")
	ErrDamaged   = errors.New("image is damaged")
	ErrEncrypted = errors.New("image is encrypted")
	ErrVariant   = errors.New("variant of the format is not supported")
	ErrRange     = errors.New("beyond the end of the disk")
	ErrTooLarge  = errors.New("too large for the format")
)

// Damage is an ErrDamaged that says what is wrong and where in the file.
type Damage struct {
	Offset int64 // in bytes of the file
	What   string
}

func (d *Damage) Error() string {
	return fmt.Sprintf("%v: %s (at byte %d)", ErrDamaged, d.What, d.Offset)
}
func (d *Damage) Unwrap() error { return ErrDamaged }

// Damaged makes a Damage.
func Damaged(offset int64, format string, args ...any) error {
	return &Damage{offset, fmt.Sprintf(format, args...)}
}

// DataBytes adds up the data of an image as its map tells it.
func DataBytes(img Image) (int64, error) {
	var sum int64
	size := img.Info().VirtualBytes
	for off := int64(0); off < size; {
		r, err := img.Map(off)
		if err != nil {
			return 0, err
		}
		if r.Kind == Data {
			sum += r.Length
		}
		off = r.End()
	}
	return sum, nil
}
