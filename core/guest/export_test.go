package guest

import (
	"bytes"
	"io"

	"unvora.example/unvora/core/fit"
)

// WindowsIn looks for the registry in another directory than Windows has it.
func WindowsIn(volume io.ReaderAt, size int64, dir string) (*fit.Guest, error) {
	g := &fit.Guest{}
	return g, windows(io.NewSectionReader(volume, 0, size), dir, g)
}

// IdleLog tells whether nobody is at work on a log of NTFS.
var IdleLog = idleLog

// Shadows is what the header of shadow copies begins with.
func Shadows() []byte { return bytes.Clone(shadows) }
