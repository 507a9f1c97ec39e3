package carry

import (
	"encoding/json"
	"errors"
	"fmt"
	"path/filepath"
	"slices"
	"syscall"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
)

// journal is what a later try needs to go on. It lies beside the part file.
type journal struct {
	Sources  []stamp      `json:"sources"`
	Snapshot string       `json:"snapshot,omitempty"`
	Format   string       `json:"format"`
	Variant  string       `json:"variant"`
	ID       string       `json:"id"` // of the new disk, as the first try chose it
	Verify   bool         `json:"verify"`
	Salvage  bool         `json:"salvage"`
	Compact  bool         `json:"compact,omitempty"` // blanks are left out
	Second   string       `json:"second,omitempty"`  // name of the second file
	Offset   int64        `json:"offset"`            // guest bytes below are safe
	Done     int64        `json:"done"`              // of them, data
	State    []byte       `json:"state,omitempty"`   // of the target
	Digest   *disk.Digest `json:"digest,omitempty"`
	Finished bool         `json:"finished"` // only to be renamed
}

// mostJournal is more than a journal has: a digest's blocks take the most.
const mostJournal = 256 << 20

// stamp tells whether a file is still the same.
type stamp struct {
	Path     string `json:"path"`
	Device   uint64 `json:"device"`
	Inode    uint64 `json:"inode"`
	Bytes    int64  `json:"bytes"`
	Modified int64  `json:"modified"` // in nanoseconds since 1970
}

func stampOf(files disk.Files, path string) (stamp, error) {
	st, err := files.Stat(path)
	if err != nil {
		return stamp{}, err
	}
	s := stamp{Path: path, Bytes: st.Size(), Modified: st.ModTime().UnixNano()}
	if sys, ok := st.Sys().(*syscall.Stat_t); ok {
		s.Device, s.Inode = uint64(sys.Dev), sys.Ino
	}
	return s, nil
}

func (c *copier) stampAll() ([]stamp, error) {
	var stamps []stamp
	for _, l := range c.chain.Links {
		for _, f := range l.Files {
			abs, err := filepath.Abs(f)
			if err != nil {
				return nil, err
			}
			s, err := stampOf(c.files(), abs)
			if err != nil {
				return nil, err
			}
			stamps = append(stamps, s)
		}
	}
	return stamps, nil
}

func (c *copier) unchanged() error {
	for _, s := range c.stamps {
		if now, err := stampOf(c.files(), s.Path); err != nil || now != s {
			return fmt.Errorf("%s: %w", s.Path, ErrChanged)
		}
	}
	return nil
}

// save writes the journal beside itself and renames it.
func (c *copier) save(j *journal) error {
	j.Sources, j.Snapshot, j.Format, j.Variant, j.ID, j.Verify, j.Salvage, j.Second = c.stamps, c.Options.Snapshot,
		c.Format.Name, c.Variant, c.ID, c.Verify, c.Salvage, c.name
	j.Compact = c.Blanks != nil
	if !j.Verify {
		j.Digest = nil
	}
	raw, err := json.Marshal(j)
	if err != nil {
		return err
	}
	next := c.journalPath() + ".next"
	if err := disk.WriteSynced(c.files(), next, raw, 0o600); err != nil {
		return errors.Join(err, disk.RemoveIfThere(c.files(), next))
	}
	return c.files().Rename(next, c.journalPath())
}

func (c *copier) readJournal() (*journal, error) {
	raw, err := disk.ReadFile(c.files(), c.journalPath(), mostJournal)
	if err != nil {
		return nil, err
	}
	var j journal
	return &j, json.Unmarshal(raw, &j)
}

// takeUp ends a copy that an earlier try had all but renamed.
func (c *copier) takeUp() (done bool, err error) {
	_ = c.files().Remove(c.journalPath() + ".next") // of a try that was killed while it saved
	j, err := c.readJournal()
	if err != nil || !j.Finished || j.Format != c.Format.Name || j.Compact != (c.Blanks != nil) ||
		len(j.Sources) == 0 {
		return false, nil
	}
	want, err := filepath.Abs(c.Source)
	if err != nil || j.Sources[0].Path != want {
		return false, nil
	}
	c.name, c.ID, c.Variant = j.Second, j.ID, j.Variant
	if err := c.rename(); err != nil {
		return true, err
	}
	link, err := formats.OpenChain(c.Target, formats.Options{Files: c.Options.Files, Format: j.Format})
	if err != nil {
		return true, err
	}
	defer link.Close()
	st, err := c.files().Stat(c.Target)
	if err != nil {
		return true, err
	}
	data, err := disk.DataBytes(link)
	c.result = Result{Target: c.Target, Format: j.Format, Variant: j.Variant, ID: j.ID,
		VirtualBytes: link.Info().VirtualBytes, DataBytes: data, ResumedBytes: data, FileBytes: disk.Allocated(st),
		Verified: j.Verify}
	return true, err
}

// resume opens what an earlier try of the same copy has left; nil: begin anew.
func (c *copier) resume() (disk.Target, *journal, error) {
	j, err := c.readJournal()
	if err != nil || j.Finished || !slices.Equal(j.Sources, c.stamps) || j.Snapshot != c.Options.Snapshot ||
		j.Format != c.Format.Name || j.Variant != c.Variant ||
		j.Verify != c.Verify || j.Compact != (c.Blanks != nil) || j.Salvage || c.Salvage {
		if err == nil && j.Second != "" { // of another format than this one
			_ = c.files().Remove(hidden(filepath.Join(filepath.Dir(c.Target), filepath.Base(j.Second)), ".part"))
		}
		return nil, nil, nil
	}
	c.ID, c.result.ID, c.spec.ID = j.ID, j.ID, j.ID
	target, err := c.Format.Resume(c.file, c.spec, j.State)
	if err != nil {
		return nil, nil, nil // what is there can't be used
	}
	if j.Digest == nil {
		j.Digest = disk.NewDigest(c.spec.VirtualBytes)
	}
	return target, j, nil
}
