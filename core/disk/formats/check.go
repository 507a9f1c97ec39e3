package formats

import (
	"fmt"
	"os"
	"slices"

	"unvora.example/unvora/core/disk"
)

// Checked is what Check found.
type Checked struct {
	Format   *Format
	Problems []disk.Problem // that are left
	Repaired []disk.Problem
}

// Sound tells whether nothing but what is harmless is left.
func (c *Checked) Sound() bool {
	return !slices.ContainsFunc(c.Problems, func(p disk.Problem) bool { return !p.Harmless })
}

// Check looks for what is inconsistent in the image at path. With repair, what
// can be put right without guessing is; before is told of it first.
func Check(path string, repair bool, before func([]disk.Problem), o Options) (*Checked, error) {
	flags := os.O_RDONLY
	if repair {
		flags = os.O_RDWR
	}
	file, err := disk.OpenSource(o.files(), path, flags)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	format, err := o.format(file)
	if err != nil {
		return nil, err
	}
	c := &Checked{Format: format}
	if format.Check == nil {
		return c, nil
	}
	beside := Beside(path, o, nil)
	// an image is not closed here, so that the file can be used again
	look := func() (found []disk.Problem, err error) {
		if found, err = format.Check(struct{ disk.Source }{file}, beside); err != nil {
			err = fmt.Errorf("%s: %w", path, err)
		}
		return found, err
	}
	if c.Problems, err = look(); err != nil {
		return nil, err
	}
	if !repair || !slices.ContainsFunc(c.Problems, func(p disk.Problem) bool { return p.Fix != nil }) {
		return c, nil
	}
	if err := Unguarded(path, file); err != nil {
		return nil, err
	}
	before(c.Problems)
	done := map[string]bool{}
	for _, p := range c.Problems {
		if p.Fix == nil {
			continue
		}
		if !done[p.Repair] {
			if err := p.Fix(file); err != nil {
				return nil, fmt.Errorf("%s: %s: %w", path, p.Repair, err)
			}
			done[p.Repair] = true
		}
		c.Repaired = append(c.Repaired, p)
	}
	c.Problems, err = look()
	return c, err
}

// format is the one that is known, or as the content tells.
func (o Options) format(src disk.Source) (*Format, error) {
	if o.Format != "" {
		return ByName(o.Format)
	}
	return Detect(src)
}

// Renew gives the image at path another id, where its format has a place for
// one, and returns the id that it had; "" where there is none.
func Renew(path, id string, o Options) (was string, err error) {
	file, err := disk.OpenSource(o.files(), path, os.O_RDWR)
	if err != nil {
		return "", err
	}
	defer file.Close()
	format, err := o.format(file)
	if err != nil || format.SetID == nil {
		return "", err
	}
	if err := Unguarded(path, file); err != nil {
		return "", err
	}
	img, err := format.Open(struct{ disk.Source }{file}, nil)
	if err != nil {
		return "", err
	}
	was = img.Info().ID
	if err := format.SetID(file, id); err != nil {
		return "", fmt.Errorf("%s: %w", path, err)
	}
	return was, file.Sync()
}
