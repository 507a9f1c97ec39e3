package main

import (
	"bytes"
	"io"
	"os"
	"runtime"

	"github.com/klauspost/compress/flate"
	"golang.org/x/sync/errgroup"
)

// packedBlock is how much of a disk is compressed by itself.
const packedBlock = 64 << 10

// packAll compresses the disk's data, in blocks as a stream has them, by all cores.
func packAll(dense string) error {
	return eachBlock(dense, func(w *flate.Writer, p []byte, _ int64) error { return pack(w, io.Discard, p) })
}

func pack(w *flate.Writer, to io.Writer, p []byte) error {
	w.Reset(to)
	if _, err := w.Write(p); err != nil {
		return err
	}
	return w.Close()
}

// eachBlock calls f for every block of a file, by all cores.
func eachBlock(path string, f func(w *flate.Writer, p []byte, off int64) error) error {
	file, err := os.Open(path)
	if err != nil {
		return err
	}
	defer file.Close()
	st, err := file.Stat()
	if err != nil {
		return err
	}
	var all errgroup.Group
	each := int64(runtime.NumCPU())
	for n := range each {
		all.Go(func() error {
			p := make([]byte, packedBlock)
			w, err := flate.NewWriter(nil, flate.BestSpeed)
			if err != nil {
				return err
			}
			for off := n * packedBlock; off < st.Size(); off += each * packedBlock {
				got, err := file.ReadAt(p, off)
				if err != nil && err != io.EOF {
					return err
				}
				if err := f(w, p[:got], off); err != nil {
					return err
				}
			}
			return nil
		})
	}
	return all.Wait()
}

// inflate inflates such blocks by all cores, from memory: a twentieth of them twenty times.
func (b *bench) inflate(dense string) error {
	const part = 20
	if b.packed == nil {
		blocks := make([]bytes.Buffer, runtime.NumCPU()) // of each core, one behind the other
		b.packed = make([][][]byte, len(blocks))
		err := eachBlock(dense, func(w *flate.Writer, p []byte, off int64) error {
			n := off / packedBlock
			core := int(n) % len(blocks)
			if n/int64(len(blocks))%part != 0 {
				return nil
			}
			out := &blocks[core]
			out.Reset()
			if err := pack(w, out, p); err != nil {
				return err
			}
			b.packed[core] = append(b.packed[core], bytes.Clone(out.Bytes()))
			return nil
		})
		if err != nil {
			return err
		}
	}
	var all errgroup.Group
	for _, mine := range b.packed {
		all.Go(func() error {
			r := flate.NewReader(nil)
			for range part {
				for _, p := range mine {
					if err := r.(flate.Resetter).Reset(bytes.NewReader(p), nil); err != nil {
						return err
					}
					if _, err := io.Copy(io.Discard, r); err != nil {
						return err
					}
				}
			}
			return nil
		})
	}
	return all.Wait()
}
