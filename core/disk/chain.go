package disk

import (
	"io"
)

// Chain makes one image of layers, top first, base last. Closing it closes
// them all. A layer that is shorter than the one above it reads as zeros
// beyond its end.
func Chain(layers ...Image) Image {
	if len(layers) == 1 && layers[0].Info().Parent == nil {
		return layers[0]
	}
	return &chain{layers}
}

type chain struct{ layers []Image }

func (c *chain) Info() Info {
	info := c.layers[0].Info()
	info.Parent = nil
	for _, l := range c.layers[1:] {
		i := l.Info()
		info.Clean = info.Clean && i.Clean
		info.Encrypted = info.Encrypted || i.Encrypted
	}
	return info
}

// at finds which layer answers for off, and how far that holds.
func (c *chain) at(off int64) (layer Image, r Range, err error) {
	limit := c.layers[0].Info().VirtualBytes
	for _, l := range c.layers {
		size := l.Info().VirtualBytes
		if off >= size {
			break
		}
		if r, err = l.Map(off); err != nil {
			return nil, Range{}, err
		}
		limit = min(limit, r.End())
		if r.Kind != Parent {
			return l, Range{off, limit - off, r.Kind}, nil
		}
	}
	return nil, Range{off, limit - off, Zero}, nil
}

func (c *chain) Map(off int64) (Range, error) {
	_, r, err := c.at(off)
	return r, err
}

func (c *chain) ReadAt(p []byte, off int64) (int, error) {
	size := c.layers[0].Info().VirtualBytes
	n := 0
	for n < len(p) {
		at := off + int64(n)
		if at >= size {
			return n, io.EOF
		}
		layer, r, err := c.at(at)
		if err != nil {
			return n, err
		}
		part := p[n:min(len(p), n+int(min(r.Length, int64(len(p)))))]
		if r.Kind == Data {
			if _, err := layer.ReadAt(part, at); err != nil && err != io.EOF {
				return n, err
			}
		} else {
			clear(part)
		}
		n += len(part)
	}
	return n, nil
}

func (c *chain) Close() error {
	var first error
	for _, l := range c.layers {
		if err := l.Close(); err != nil && first == nil {
			first = err
		}
	}
	return first
}
