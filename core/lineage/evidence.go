package lineage

import (
	"fmt"
	"math"
	"slices"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
)

// DiskSigns are what a disk is recognised by.
type DiskSigns struct {
	ImageID string        `json:"imageId"` // of the top layer; "" when the format has none
	Samples []disk.Sample `json:"samples"` // of its contents, see disk.TakeFingerprint
}

// Signs are what a copy without a passport is recognised by. What is not known
// is empty, and says nothing.
type Signs struct {
	Name      string
	UUID      string
	MACs      []string
	Disks     []DiskSigns
	WrittenAt time.Time // last, to one of its disks
}

// Evidence is one thing that speaks for or against a copy being made from another.
type Evidence struct {
	Kind   string `json:"kind"`   // one of Weights
	Weight int    `json:"weight"` // what it adds
	Says   string `json:"says"`
}

// Weight of a kind of evidence.
type Weight struct {
	Kind string
	Most int // what it adds at most; negative when it speaks against
	Says string
}

// Kinds of evidence.
const (
	ByUUID     = "uuid"
	ByImageID  = "image-id"
	ByMAC      = "mac"
	ByContents = "contents"
	ByName     = "name"
	Different  = "different-contents"
	Own        = "own-identity"
)

// Weights is the table of evidence. A passport that names a copy, and the place
// where a known copy lay, decide by themselves and are not weighed.
var Weights = []Weight{
	{ByUUID, 60, "the machine UUID is the same"},
	{ByContents, 55, "sampled blocks of the disks are the same, as many of a hundred as that"},
	{ByImageID, 40, "a disk's top layer bears the same id"},
	{ByMAC, 30, "a MAC is the same"},
	{ByName, 10, "the name is the same, or begins with it"},
	{Different, -40, "hardly any sampled block is the same"},
	{Own, -30, "UUID, MACs and disk ids are all others: a machine with an identity of its own"},
}

// Thresholds of the sum.
const (
	Sure   = 60 // recognised
	Unsure = 30 // said as unsure, and asked
)

const (
	fewSamples = 4    // of which contents are not judged
	unlike     = 0.05 // likeness below which contents speak against
	alikeFrom  = 0.2  // and from which they speak for it
)

func weight(kind string) Weight {
	return Weights[slices.IndexFunc(Weights, func(w Weight) bool { return w.Kind == kind })]
}

// Likeness of two disks, from 0 to 1, by the samples that both have; n is how
// many those are.
func Likeness(a, b []disk.Sample) (like float64, n int) {
	at := make(map[int64]uint64, len(a))
	for _, s := range a {
		at[s.Cell] = s.Hash
	}
	seen, same := map[int64]bool{}, 0
	for _, s := range b {
		h, both := at[s.Cell]
		if !both || seen[s.Cell] {
			continue
		}
		seen[s.Cell] = true
		n++
		if h == s.Hash {
			same++
		}
	}
	// Cells that only one of them holds data in count half: samples are drawn
	// where there is data, and a disk that grew draws others.
	only := max(len(distinct(a)), len(distinct(b))) - n
	if n == 0 {
		return 0, 0
	}
	return float64(same) / (float64(n) + float64(only)/2), n
}

func distinct(list []disk.Sample) map[int64]bool {
	m := map[int64]bool{}
	for _, s := range list {
		m[s.Cell] = true
	}
	return m
}

// contents compares the disks of two copies, each with the one most like it.
func contents(a, b []DiskSigns) (like float64, n int) {
	for _, x := range a {
		best, most := 0.0, 0
		for _, y := range b {
			if l, n := Likeness(x.Samples, y.Samples); n > 0 && (l > best || most == 0) {
				best, most = l, n
			}
		}
		like += best * float64(most)
		n += most
	}
	if n == 0 {
		return 0, 0
	}
	return like / float64(n), n
}

// Weigh adds up what speaks for a copy having been made from another. It is the
// same whichever of the two is asked about.
func Weigh(a, b Signs) (sum int, list []Evidence) {
	add := func(kind string, part float64, format string, args ...any) {
		e := Evidence{kind, int(math.Round(float64(weight(kind).Most) * part)), fmt.Sprintf(format, args...)}
		sum += e.Weight
		list = append(list, e)
	}
	if a.UUID != "" && a.UUID == b.UUID {
		add(ByUUID, 1, "the same machine UUID")
	}
	shared := 0
	for _, m := range a.MACs {
		if slices.Contains(b.MACs, m) {
			shared++
		}
	}
	if shared > 0 {
		add(ByMAC, 1, "%s", macWords(shared, len(a.MACs)))
	}
	id := ""
	for _, x := range a.Disks {
		if x.ImageID != "" && slices.ContainsFunc(b.Disks, func(y DiskSigns) bool { return y.ImageID == x.ImageID }) {
			id = x.ImageID
		}
	}
	if id != "" {
		add(ByImageID, 1, "the same disk id")
	}
	like, n := contents(a.Disks, b.Disks)
	switch {
	case n < fewSamples:
	case like >= alikeFrom:
		add(ByContents, like, "%d %% of its blocks the same (%d sampled)", percent(like), n)
	case like < unlike:
		add(Different, 1, "other contents (%d blocks sampled)", n)
	}
	if x, y := strings.ToLower(a.Name), strings.ToLower(b.Name); x != "" && y != "" &&
		(strings.HasPrefix(x, y) || strings.HasPrefix(y, x)) {
		add(ByName, 1, "the name")
	}
	if a.UUID != "" && b.UUID != "" && a.UUID != b.UUID && shared == 0 && id == "" {
		add(Own, 1, "an identity of its own")
	}
	slices.SortStableFunc(list, func(x, y Evidence) int { return y.Weight - x.Weight })
	return max(sum, 0), list
}

func macWords(shared, all int) string {
	if all == 1 {
		return "the same MAC"
	}
	return fmt.Sprintf("%d of %d MACs", shared, all)
}

// percent never says 100 unless it is.
func percent(like float64) int {
	if like < 1 {
		return min(99, int(math.Round(like*100)))
	}
	return 100
}

// Words says what speaks for it, the weightiest first.
func Words(list []Evidence) string {
	var says []string
	for _, e := range list {
		if e.Weight > 0 {
			says = append(says, e.Says)
		}
	}
	return strings.Join(says, ", ")
}
