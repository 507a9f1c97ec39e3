// Package landing chooses the pools that a machine's files land in, by rules
// over labels, room and kind of file.
package landing

import (
	"fmt"
	"slices"
	"strings"
)

// Kinds of files.
const (
	Machine = "machine" // a machine folder, with the disks that go along
	Disk    = "disk"    // one disk, which may lie in another pool than its folder
	Media   = "media"   // an ISO image or floppy image
)

// Kinds lists them.
var Kinds = []string{Machine, Disk, Media}

// File is what is to land.
type File struct {
	Kind     string
	Bytes    int64 // that it needs now
	Capacity int64 // that it may need later; what OverBytes of a rule is compared with
}

// Pool is what a choice needs to know of a pool.
type Pool struct {
	Name      string
	Labels    []string
	FreeBytes int64
	Usable    bool // ready, and not to be pulled out
}

// Rule leads files to pools. Rules are tried in order; the first that has a
// pool with room wins.
type Rule struct {
	ID        string `json:"id"`
	Kind      string `json:"kind"`      // "" for any
	OverBytes int64  `json:"overBytes"` // files of at least that capacity; 0 for any
	Host      string `json:"host"`      // "" for every host
	Label     string `json:"label"`     // pools that bear it
	Pool      string `json:"pool"`      // or the pool of that name
	KeepBytes int64  `json:"keepBytes"` // that must stay free there
}

// Check tells why the rule can't be one.
func (r Rule) Check() error {
	switch {
	case r.Kind != "" && !slices.Contains(Kinds, r.Kind):
		return fmt.Errorf("kind %q: there are %s", r.Kind, strings.Join(Kinds, ", "))
	case (r.Label == "") == (r.Pool == ""):
		return fmt.Errorf("a rule leads either to pools with a label, or to one pool")
	case r.OverBytes < 0 || r.KeepBytes < 0:
		return fmt.Errorf("sizes are not negative")
	}
	return nil
}

// Words says the rule, with sizes as size writes them.
func (r Rule) Words(size func(int64) string) string {
	what := "files"
	if r.Kind != "" {
		what = r.Kind
	}
	if r.OverBytes > 0 {
		what += " of " + size(r.OverBytes) + " or more"
	}
	to := "pool " + r.Pool
	if r.Label != "" {
		to = "the roomiest pool labelled " + r.Label
	}
	if r.Host != "" {
		to += " of " + r.Host
	}
	if r.KeepBytes > 0 {
		to += ", as long as " + size(r.KeepBytes) + " stay free"
	}
	return what + " → " + to
}

// Choose returns the rule that wins for a file at a host and the pool that it
// leads to; ok is false where no rule has one.
func Choose(f File, host string, pools []Pool, rules []Rule) (pool string, won Rule, ok bool) {
	for _, r := range rules {
		if r.Kind != "" && r.Kind != f.Kind || f.Capacity < r.OverBytes || r.Host != "" &&
			!strings.EqualFold(r.Host, host) {
			continue
		}
		best := -1
		for i, p := range pools {
			fits := r.Pool != "" && strings.EqualFold(p.Name, r.Pool) || r.Label != "" &&
				slices.Contains(p.Labels, r.Label)
			if fits && p.Usable && p.FreeBytes-f.Bytes >= r.KeepBytes &&
				(best < 0 || p.FreeBytes > pools[best].FreeBytes) {
				best = i
			}
		}
		if best >= 0 {
			return pools[best].Name, r, true
		}
	}
	return "", Rule{}, false
}
