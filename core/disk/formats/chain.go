package formats

import (
	"errors"
	"fmt"
	"io/fs"
	"os"
	"path/filepath"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/qcow2"
)

// Fault is something that keeps a chain from being whole.
type Fault struct {
	Code      string // of the catalogue of findings: disk.parent-missing, …
	Subject   string // path of the layer it is about
	Message   string
	Candidate string // a file that may be the parent; never taken unasked
}

func (f *Fault) Error() string { return f.Message }

// Codes of faults.
const (
	ParentMissing = "disk.parent-missing"
	ParentChanged = "disk.parent-changed"
	ChainLoop     = "disk.chain-loop"
	ChainDeep     = "disk.chain-deep"
	InUse         = "disk.in-use"
)

// Options of Look and OpenChain. The zero value works, for programs that may
// reach every file.
type Options struct {
	// Files is how files are reached; nil means disk.OS.
	Files disk.Files
	// Format of the first layer; "" means that its content tells. That is for what
	// nobody knows yet: a guest that writes to a raw disk can make it look like
	// an image of any format, which names other files.
	Format string
	// Snapshot is one that the first layer keeps inside itself; "" means its present state.
	Snapshot string
	// MadeAt is the time stamp of an image that is made; zero: none.
	MadeAt time.Time
	// Wary refuses a parent of which nothing states the format, if it looks like an
	// image that names further files.
	Wary bool
	// Tell is told of every further file that an image names, before it is opened,
	// and may refuse it; nil allows all.
	Tell func(path string) error
	// Loose makes a layer that does not remember how its parent is: the parent is written to while the layer is made,
	// or the layer will be committed into it.
	Loose bool
	// alone: a missing parent is not looked for. Set while one is looked for.
	alone bool
}

func (o Options) files() disk.Files {
	if o.Files == nil {
		return disk.OS
	}
	return o.Files
}

func (o Options) tell(path string) error {
	if o.Tell == nil {
		return nil
	}
	return o.Tell(path)
}

// MostLayers is deeper than any host allows, and shallow enough to stop at.
const MostLayers = 256

// Link is one layer of a chain.
type Link struct {
	Path   string
	Files  []string // that it is made of, Path first
	Format *Format
	Image  disk.Image
	inUse  bool
}

// Chain is an image with its parents, base last.
type Chain struct {
	disk.Image // all layers as one; without what is missing when there are faults
	Links      []Link
	Faults     []Fault
}

// Paths of the layers, base last.
func (c *Chain) Paths() []string {
	paths := make([]string, len(c.Links))
	for n, l := range c.Links {
		paths[n] = l.Path
	}
	return paths
}

// OpenChain opens the image at path with all its parents; a fault is an error.
func OpenChain(path string, o Options) (*Chain, error) {
	c, err := Look(path, o)
	if err != nil {
		return nil, err
	}
	if len(c.Faults) > 0 {
		c.Close()
		return nil, &c.Faults[0]
	}
	return c, nil
}

// Look opens the image at path with its parents, each at the place the layer
// above states, and tells what is wrong with the chain. It fails only when a
// layer can't be read.
func Look(path string, o Options) (_ *Chain, err error) {
	c := &Chain{}
	defer func() {
		if err != nil {
			for _, l := range c.Links {
				l.Image.Close()
			}
		}
	}()
	seen := map[string]bool{}
	fault := func(code, candidate, format string, args ...any) {
		c.Faults = append(c.Faults, Fault{code, c.Links[len(c.Links)-1].Path, fmt.Sprintf(format, args...), candidate})
	}
	for next, as := path, o.Format; ; {
		if len(c.Links) > 0 {
			if err := o.tell(next); err != nil {
				return nil, err
			}
		}
		real, err := o.files().Real(next)
		if err != nil {
			if len(c.Links) == 0 || !errors.Is(err, fs.ErrNotExist) {
				return nil, err
			}
			c.missing(next, o)
			break
		}
		if seen[real] {
			fault(ChainLoop, "", "the chain comes back to %s: the layer is its own ancestor", real)
			break
		}
		if seen[real] = true; len(seen) > MostLayers {
			fault(ChainDeep, "", "the chain has more than %d layers", MostLayers)
			break
		}
		guessed := as == "" && len(c.Links) > 0
		link, err := openLink(real, as, o)
		if err != nil {
			if len(c.Links) == 0 {
				return nil, named(next, err)
			}
			return nil, fmt.Errorf("layer %d of %s, %s: %w", len(c.Links)+1, path, next, err)
		}
		if guessed && o.Wary && (link.Image.Info().Parent != nil || len(link.Files) > 1) {
			link.Image.Close()
			return nil, fmt.Errorf("layer %d of %s, %s: %w: the layer on it does not say in which format it is, and "+
				"its first "+
				"bytes, which a guest may have written, name further files. Say that it is right: unvora disk "+
				"reparent %s "+
				"--parent %s",
				len(c.Links)+1, path, next, disk.ErrFormat, c.Links[len(c.Links)-1].Path, next)
		}
		if link.Path = next; len(c.Links) == 0 && o.Snapshot != "" {
			q, ok := link.Image.(*qcow2.Image)
			if !ok {
				link.Image.Close()
				return nil, fmt.Errorf("%w: %s images keep no snapshots inside themselves", disk.ErrVariant,
					link.Format.Name)
			}
			state, err := q.Snapshot(o.Snapshot)
			if err != nil {
				link.Image.Close()
				return nil, err
			}
			link.Image = state
		}
		if c.Links = append(c.Links, *link); link.inUse && !o.Loose {
			fault(InUse, "", "%s is open for writing in another process: a machine runs on it, perhaps", next)
		}
		ref := link.Image.Info().Parent
		if ref == nil {
			break
		}
		if next, as = ref.Path, ref.Format; !filepath.IsAbs(next) {
			next = filepath.Join(filepath.Dir(real), next)
		}
		if _, err := ByName(as); err != nil {
			as = ""
		}
		if link.Format.SameParent {
			as = link.Format.Name
		}
	}
	layers := make([]disk.Image, len(c.Links))
	for n, l := range c.Links {
		layers[n] = l.Image
	}
	c.Image = disk.Chain(layers...)
	for n := range c.Links[1:] {
		if err := c.compare(n, o.files()); err != nil {
			return nil, err
		}
	}
	return c, nil
}

// named puts a file's name before an error that does not tell it.
func named(path string, err error) error {
	var p *fs.PathError
	if errors.As(err, &p) {
		return err
	}
	return fmt.Errorf("%s: %w", path, err)
}

// openLink opens a file as the format named, or as its content tells.
func openLink(path, as string, o Options) (*Link, error) {
	src, err := disk.OpenSource(o.files(), path, os.O_RDONLY)
	if err != nil {
		return nil, err
	}
	format, err := ByName(as)
	if as == "" {
		format, err = Detect(src)
	}
	link := &Link{Path: path, Files: []string{path}, Format: format, inUse: src.Writer()}
	if err == nil {
		link.Image, err = format.Open(src, Beside(path, o, func(name string) { link.Files = append(link.Files, name) }))
	}
	if err != nil {
		src.Close()
		return nil, err
	}
	return link, nil
}

// Beside opens the further files that the image at path is made of; note is told
// of each. nil: nobody wants to know.
func Beside(path string, o Options, note func(name string)) disk.Opener {
	return func(name string) (disk.Source, error) {
		if !filepath.IsAbs(name) {
			name = filepath.Join(filepath.Dir(path), name)
		}
		if note != nil {
			note(name)
		}
		if err := o.tell(name); err != nil {
			return nil, err
		}
		real, err := o.files().Real(name)
		if err != nil {
			return nil, err
		}
		src, err := disk.OpenSource(o.files(), real, os.O_RDONLY)
		if err != nil {
			return nil, err // not a nil pointer in an interface
		}
		return src, nil
	}
}

// missing notes that the last layer's parent is not at the place it states.
func (c *Chain) missing(at string, o Options) {
	layer := c.Links[len(c.Links)-1]
	f := Fault{Code: ParentMissing, Subject: layer.Path, Message: fmt.Sprintf("the parent of %s is not at %s",
		layer.Path, at)}
	if !o.alone {
		f.Candidate = candidate(layer, at, o)
	}
	if f.Candidate != "" {
		f.Message += fmt.Sprintf("; %s may be it: unvora disk reparent %s --parent %s", f.Candidate, layer.Path,
			f.Candidate)
	}
	c.Faults = append(c.Faults, f)
}

// compare tells whether the parent of link n is the one that it was made on.
func (c *Chain) compare(n int, files disk.Files) error {
	layer, parent := c.Links[n], c.Links[n+1]
	ref, info := layer.Image.Info().Parent, parent.Image.Info()
	changed := func(format string, args ...any) {
		c.Faults = append(c.Faults, Fault{Code: ParentChanged, Subject: layer.Path,
			Message: fmt.Sprintf("%s was made on another state of %s: ", layer.Path, parent.Path) +
				fmt.Sprintf(format, args...)})
	}
	if ref.ID != "" && info.Linkage != ref.ID {
		changed("it remembers the id %s, the file bears %s", ref.ID, orNone(info.Linkage))
		return nil
	}
	if !ref.ModifiedAt.IsZero() {
		if st, err := files.Stat(parent.Path); err == nil && st.ModTime().Truncate(time.Second).After(ref.ModifiedAt) {
			changed("that one was last written on %s, the file on %s", ref.ModifiedAt.Local().Format(time.DateTime),
				st.ModTime().Format(time.DateTime))
			return nil
		}
	}
	if ref.Fingerprint != "" && len(c.Faults) == 0 {
		f, err := disk.TakeFingerprint(c.below(n + 1))
		if err != nil {
			return fmt.Errorf("read %s: %w", parent.Path, err)
		}
		if f.String() != ref.Fingerprint {
			changed("its contents have changed since")
		}
	}
	return nil
}

// below is the chain from link n down.
func (c *Chain) below(n int) disk.Image {
	var layers []disk.Image
	for _, l := range c.Links[n:] {
		layers = append(layers, l.Image)
	}
	return disk.Chain(layers...)
}

func orNone(s string) string {
	if s == "" {
		return "none"
	}
	return s
}

const mostNearby = 500

// candidate looks for a layer's parent beside it, by name and then by what it
// remembers of it.
func candidate(layer Link, stated string, o Options) string {
	ref := layer.Image.Info().Parent
	here := filepath.Dir(layer.Path)
	if byName := filepath.Join(here, filepath.Base(stated)); matches(byName, layer, ref, true, o) {
		return byName
	}
	dirs := []string{here, filepath.Dir(here)}
	if siblings, err := o.files().ReadDir(filepath.Dir(here)); err == nil {
		for _, s := range siblings {
			if s.IsDir() {
				dirs = append(dirs, filepath.Join(filepath.Dir(here), s.Name()))
			}
		}
	}
	looked := map[string]bool{}
	for _, dir := range dirs {
		files, err := o.files().ReadDir(dir)
		if err != nil {
			continue
		}
		for _, f := range files {
			path := filepath.Join(dir, f.Name())
			if !f.Type().IsRegular() || looked[path] {
				continue
			}
			if looked[path] = true; len(looked) > mostNearby {
				return ""
			}
			if matches(path, layer, ref, false, o) {
				return path
			}
		}
	}
	return ""
}

// matches tells whether the file may be the parent. Where the layer remembers
// nothing of it, its name has to speak for it.
func matches(path string, layer Link, ref *disk.ParentRef, named bool, o Options) bool {
	if disk.SameFile(o.files(), path, layer.Path) || ref.ID == "" && ref.Fingerprint == "" && !named {
		return false
	}
	c, err := Look(path, Options{Files: o.Files, Wary: o.Wary, Tell: o.Tell, Format: ref.Format, alone: true})
	if err != nil {
		return false
	}
	defer c.Close()
	switch {
	case ref.ID != "": // its own parents may be missing too
		return c.Links[0].Image.Info().Linkage == ref.ID
	case len(c.Faults) > 0:
		return false
	case ref.Fingerprint != "":
		f, err := disk.TakeFingerprint(c)
		return err == nil && f.String() == ref.Fingerprint
	}
	return true
}
