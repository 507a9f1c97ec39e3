package sight

import "sync"

// remembered keeps what was read of a file until the file changes.
type remembered[K comparable, T any] struct {
	look  func(what K) (T, error)
	stamp func(what K) any
	mu    sync.Mutex
	known map[K]recollection[T]
}

// image is a disk's top layer, with the format that a descriptor states; "" where
// none does.
type image struct{ path, stated string }

type recollection[T any] struct {
	stamp any
	value T
}

func (r *remembered[K, T]) read(path K) (T, error) {
	now := r.stamp(path)
	r.mu.Lock()
	old, ok := r.known[path]
	r.mu.Unlock()
	if ok && old.stamp == now {
		return old.value, nil
	}
	v, err := r.look(path)
	if err != nil {
		return v, err
	}
	r.mu.Lock()
	defer r.mu.Unlock()
	if r.known == nil {
		r.known = map[K]recollection[T]{}
	}
	r.known[path] = recollection[T]{now, v}
	return v, nil
}

func (a *Sight) fileStamp(path string) any {
	st, err := a.Door.Stamp(path, true)
	if err != nil {
		return nil
	}
	return st
}

// Layer is one layer of a chain.
type Layer struct{ Path, ID string }

// chainMemory remembers the chains of disks.
type chainMemory struct{ remembered[image, []Layer] }

func (c *chainMemory) read(of image) []Layer {
	layers, err := c.remembered.read(of)
	if err != nil {
		return nil
	}
	return layers
}

func (a *Sight) readChain(of image) ([]Layer, error) {
	as, err := a.FormatOf(of.path, of.stated)
	if err != nil {
		return nil, err
	}
	c, err := a.Door.Look(of.path, as)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	var layers []Layer
	for _, l := range c.Links {
		layers = append(layers, Layer{l.Path, l.Image.Info().ID})
	}
	return layers, nil
}

// Layers of a disk, by the format on record; none where it can't be read.
func (a *Sight) Layers(path string) []Layer {
	as, err := a.Known(path)
	if err != nil {
		return nil
	}
	return a.chains.read(image{path, as.Name()})
}
