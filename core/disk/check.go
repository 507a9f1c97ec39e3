package disk

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"
)

// Problem is something about an image that is not as its format wants it.
type Problem struct {
	Offset int64  `json:"offset"` // in bytes of the file
	What   string `json:"what"`
	// Harmless problems cost room or a second copy of something, not data.
	Harmless bool `json:"harmless"`
	// Repair says what Fix would do; "" when nothing can be done without guessing.
	// Problems with the same Repair are put right by one Fix.
	Repair string                `json:"repair"`
	Fix    func(file File) error `json:"-"`
}

// mostProblems is how many are told of one image; a thousandth says nothing new.
const mostProblems = 200

// Problems collects what a check finds.
type Problems struct {
	List    []Problem
	dropped int
}

// Add notes a problem; after the first few hundred they are only counted.
func (p *Problems) Add(problem Problem) {
	if len(p.List) < mostProblems {
		p.List = append(p.List, problem)
		return
	}
	p.dropped++
}

// Damaged notes a problem that can't be repaired without guessing.
func (p *Problems) Damaged(offset int64, format string, args ...any) {
	p.Add(Problem{Offset: offset, What: fmt.Sprintf(format, args...)})
}

// All is the list, ending with how many more there are.
func (p *Problems) All() []Problem {
	if p.dropped > 0 {
		return append(p.List, Problem{What: fmt.Sprintf("and %d more like these", p.dropped)})
	}
	return p.List
}

// Place is where a block of an image lies in its file.
type Place struct {
	At, Length int64 // in bytes of the file
	Entry      int   // of the table that names it
}

// Overlaps calls f for each two places that share bytes and are neighbours in
// the file; b begins where a has not ended. It sorts places.
func Overlaps(places []Place, f func(a, b Place)) {
	slices.SortFunc(places, func(a, b Place) int { return cmp.Compare(a.At, b.At) })
	for n := 1; n < len(places); n++ {
		if a, b := places[n-1], places[n]; b.At < a.At+a.Length {
			f(a, b)
		}
	}
}

// NativePath turns a path as other systems write it (backslashes, a drive, a
// file URL's prefix) into one of this system, as far as that can be done.
func NativePath(p string) string {
	p = strings.TrimPrefix(p, "file://")
	if !strings.Contains(p, "/") {
		p = strings.ReplaceAll(p, `\`, "/")
	}
	if len(p) > 2 && p[1] == ':' && p[2] == '/' {
		p = p[2:]
	}
	if p == "" {
		return ""
	}
	return path.Clean(p)
}
