package carry

import (
	"context"
	"errors"
	"fmt"
	"io"
	"io/fs"
	"os"

	"golang.org/x/sys/unix"

	"unvora.example/unvora/core/disk"
)

// isDevice refuses targets that are no block device, and formats that can't lie on one.
func (c *copier) isDevice() error {
	st, err := c.files().Stat(c.Target)
	switch {
	case err != nil:
		return err
	case st.Mode()&fs.ModeDevice == 0 || st.Mode()&fs.ModeCharDevice != 0:
		return fmt.Errorf("%s is no block device", c.Target)
	case c.Format.Name != "raw":
		return fmt.Errorf("a device takes the guest's bytes as they are: the format has to be raw, not %s",
			c.Format.Name)
	}
	return nil
}

// device is a block device as a file of a fixed size.
type device struct{ *disk.OSFile }

func (device) Truncate(int64) error { return nil }
func (device) Allocate(int64) error { return nil }

// toDevice writes straight to the device: there is no place beside it, so
// nothing is kept of a copy that fails, and none goes on.
func (c *copier) toDevice(ctx context.Context) (*Result, error) {
	f, err := c.files().OpenFile(c.Target, os.O_RDWR|unix.O_EXCL, 0) // fails while it is mounted or in use
	if errors.Is(err, unix.EBUSY) {
		err = fmt.Errorf("%s is in use: is it mounted?", c.Target)
	}
	if err != nil {
		return nil, err
	}
	defer f.Close()
	size, err := f.Seek(0, io.SeekEnd)
	if err != nil {
		return nil, err
	}
	if size < c.spec.VirtualBytes {
		return nil, fmt.Errorf("%s has %d bytes, the disk needs %d: %w", c.Target, size, c.spec.VirtualBytes,
			unix.ENOSPC)
	}
	if c.file, err = disk.OpenFile(f); err != nil {
		return nil, err
	}
	if err := wipe(ctx, f, c.spec.VirtualBytes); err != nil {
		return nil, err
	}
	target, err := c.Format.Create(device{c.file}, c.spec)
	if err != nil {
		return nil, err
	}
	j := &journal{Digest: disk.NewDigest(c.spec.VirtualBytes)}
	done := int64(0)
	options := disk.Options{Limit: c.Limit, Digest: j.Digest,
		Progress: func(n int64) { done += n; c.progress(Copying, done) }}
	if err := disk.Pump(ctx, target, disk.ImageFeed(c.source, 0, target.BlockBytes()), options); err != nil {
		return nil, explain(err, c.Order)
	}
	if err := target.Finish(); err != nil {
		return nil, err
	}
	if err := c.unchanged(); err != nil {
		return nil, err
	}
	c.result.FileBytes = c.spec.VirtualBytes
	if c.rescue != nil {
		c.result.Lost = c.rescue.ranges()
	}
	if c.Verify {
		return &c.result, c.verify(ctx, j.Digest)
	}
	return &c.result, nil
}

// wipe makes the device read as zeros, so that holes need not be written.
func wipe(ctx context.Context, f *os.File, size int64) error {
	const part = 1 << 30
	zeros := make([]byte, 1<<20)
	for off := int64(0); off < size; off += part {
		if err := ctx.Err(); err != nil {
			return err
		}
		n := min(part, size-off)
		// On a block device the kernel zeroes out the range (blkdev_fallocate).
		if unix.Fallocate(int(f.Fd()), unix.FALLOC_FL_ZERO_RANGE|unix.FALLOC_FL_KEEP_SIZE, off, n) == nil {
			continue
		}
		for at := off; at < off+n; at += int64(len(zeros)) {
			if _, err := f.WriteAt(zeros[:min(int64(len(zeros)), off+n-at)], at); err != nil {
				return err
			}
		}
	}
	return nil
}
