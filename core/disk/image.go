package disk

import (
	"errors"
	"fmt"
	"io"
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
	Path   string `json:"path"`   // as stated: absolute, or relative to the layer
	Format string `json:"format"` // "" when the layer does not say
	ID     string `json:"id"`     // "" when the layer does not say
}

// Info is what an image tells of itself, without its data being read.
type Info struct {
	Format       string // raw, qcow2, vmdk
	Variant      string // as in the table of the format's package
	VirtualBytes int64  // size that the guest sees
	ID           string // "" when the format states none
	Parent       *ParentRef
	Encrypted    bool
	Clean        bool // closed properly, nothing to replay
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
)

// Damaged is an ErrDamaged that says what is wrong and where in the file.
func Damaged(offset int64, format string, args ...any) error {
	return fmt.Errorf("%w: %s (at byte %d)", ErrDamaged, fmt.Sprintf(format, args...), offset)
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
