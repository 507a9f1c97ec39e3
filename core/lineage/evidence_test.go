package lineage_test

import (
	"bytes"
	"testing"
	"time"

	"github.com/stretchr/testify/require"
	"pgregory.net/rapid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
)

// memory is a disk in memory.
type memory struct{ *bytes.Reader }

func (m memory) Info() disk.Info { return disk.Info{Format: "raw", VirtualBytes: m.Size()} }
func (m memory) Map(off int64) (disk.Range, error) {
	return disk.Range{Offset: off, Length: m.Size() - off, Kind: disk.Data}, nil
}
func (memory) Close() error { return nil }

func print(t *testing.T, data []byte) []disk.Sample {
	t.Helper()
	f, err := disk.TakeFingerprint(memory{bytes.NewReader(data)})
	require.NoError(t, err)
	return f.Samples
}

// full is a disk with something in every block.
func full(mib int, seed byte) []byte {
	b := make([]byte, mib<<20)
	x := uint32(seed) + 1
	for i := range b {
		x = x*1664525 + 1013904223
		b[i] = byte(x>>24) | 1
	}
	return b
}

func TestLikeness(t *testing.T) {
	original := full(64, 1)
	changed := bytes.Clone(original)
	copy(changed[10<<20:13<<20], full(3, 9)) // 3 of 64 cells written since
	like, n := lineage.Likeness(print(t, original), print(t, changed))
	require.Greater(t, n, 30)
	require.InDelta(t, 61.0/64, like, 0.06)
	like, _ = lineage.Likeness(print(t, original), print(t, original))
	require.Equal(t, 1.0, like)
	like, n = lineage.Likeness(print(t, original), print(t, full(64, 2)))
	require.Zero(t, like)
	require.Greater(t, n, 30)
	half := bytes.Clone(original)
	clear(half[32<<20:])
	like, _ = lineage.Likeness(print(t, original), print(t, half))
	require.InDelta(t, 0.66, like, 0.2, "what only one of them holds counts half")
	like, n = lineage.Likeness(print(t, original), nil)
	require.Zero(t, like)
	require.Zero(t, n)
}

// TestEvidence: what a folder without a passport is taken for.
func TestEvidence(t *testing.T) {
	disk1 := []lineage.DiskSigns{{ImageID: "i-1", Samples: print(t, full(64, 1))}}
	after := full(64, 1)
	copy(after[20<<20:], full(1, 5))
	drifted := []lineage.DiskSigns{{ImageID: "i-1", Samples: print(t, after)}}
	renewed := []lineage.DiskSigns{{ImageID: "i-9", Samples: print(t, after)}}
	origin := lineage.Known{ID: "1", Lineage: "l", Name: "chart-render", UUID: "u", MACs: []string{"m"}, Disks: disk1,
		Form: "registered", Present: true, Pool: "p", Path: "a"}
	written := time.Date(2026, 11, 3, 9, 0, 0, 0, time.UTC)
	sighted := func(m machine.Machine, disks []lineage.DiskSigns) lineage.Verdict {
		return lineage.Recognise(lineage.Sighting{Pool: "q", Path: "b", Machine: &m, Disks: disks, WrittenAt: written},
			[]lineage.Known{origin})
	}
	v := sighted(machine.Machine{Name: "chart-render", UUID: "u"}, drifted)
	require.Equal(t, "1", v.Parent)
	require.Contains(t, v.Why, "copy of chart-render, made after 3 November 2026: the same machine UUID, 98 % of its "+
		"blocks the same")
	v = sighted(machine.Machine{Name: "other"}, drifted)
	require.Equal(t, "1", v.Parent, "by a disk's id and contents, whatever it is called")
	v = sighted(machine.Machine{Name: "other"}, renewed)
	require.Equal(t, "1", v.Candidate, "contents alone are not enough: a template has them too")
	require.Empty(t, v.Lineage)
	require.Contains(t, v.Why, "it may be a copy of chart-render")
	v = sighted(machine.Machine{Name: "other", UUID: "v", NICs: []machine.NIC{{MAC: "w"}}}, renewed)
	require.Empty(t, v.Parent+v.Candidate, "a machine of its own from the same template")
	v = sighted(machine.Machine{Name: "chart-render", UUID: "v"}, []lineage.DiskSigns{{Samples: print(t, full(64, 7))}})
	require.Empty(t, v.Parent+v.Candidate, "a name says little")
	v = sighted(machine.Machine{Name: "x", UUID: "u"}, []lineage.DiskSigns{{Samples: print(t, full(64, 7))}})
	require.Empty(t, v.Parent+v.Candidate, "a UUID that was typed into another machine")
	for _, w := range lineage.Weights {
		require.NotEmpty(t, w.Says, w.Kind)
	}
}

// TestWeighIsFair: the sum does not depend on who is asked, and nothing is
// liker than the same.
func TestWeighIsFair(t *testing.T) {
	rapid.Check(t, func(t *rapid.T) {
		pick := rapid.SampledFrom([]string{"", "a", "b", "ab"})
		draw := func(label string) lineage.Signs {
			s := lineage.Signs{Name: pick.Draw(t, label+" name"), UUID: pick.Draw(t, label+" uuid")}
			if m := pick.Draw(t, label+" mac"); m != "" {
				s.MACs = []string{m}
			}
			d := lineage.DiskSigns{ImageID: pick.Draw(t, label+" image")}
			for cell := range rapid.Int64Range(0, 20).Draw(t, label+" cells") {
				d.Samples = append(d.Samples, disk.Sample{Cell: cell,
					Hash: uint64(rapid.IntRange(0, 2).Draw(t, label+" hash"))})
			}
			s.Disks = []lineage.DiskSigns{d}
			return s
		}
		a, b := draw("a"), draw("b")
		ab, list := lineage.Weigh(a, b)
		ba, _ := lineage.Weigh(b, a)
		if ab != ba {
			t.Fatalf("%d one way, %d the other", ab, ba)
		}
		if like, _ := lineage.Likeness(a.Disks[0].Samples, b.Disks[0].Samples); like < 0 || like > 1 {
			t.Fatalf("likeness %v", like)
		}
		for _, e := range list {
			if e.Says == "" {
				t.Fatalf("%+v says nothing", e)
			}
		}
		if self, _ := lineage.Weigh(a, a); self < ab && a.UUID != "" {
			t.Fatalf("%d with itself, %d with another", self, ab)
		}
	})
}
