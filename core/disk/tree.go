package disk

import (
	"context"
	"encoding/binary"
	"sync"

	"github.com/zeebo/blake3"
)

// A tree sum is a digest over the digests of blocks, so that what holds nothing costs nothing:
//
//	leaf  BLAKE3(0x00, block)              for each block of 64 KiB, the last as long as it is
//	node  BLAKE3(0x01, up to 256 children) for each run of 256 leaves, then of 256 nodes, up to one
//	sum   BLAKE3(0x02, size in bytes as a big-endian number of 64 bits, top node)
//
// A block of zeros, and a node of such children only, are 32 bytes of zeros. A node has as many children as there are
// blocks for; the top node of a disk of one block is its leaf. BLAKE3 (its 32 bytes of output) is used since it is as
// hard to forge as SHA-256, and several times as quick where a processor has no instructions for that.
const (
	treeFan   = 256
	treeBytes = 32
)

// treeDigest is the digest of a block or node; all zeros where there is nothing but zeros.
type treeDigest = [treeBytes]byte

var hashers = sync.Pool{New: func() any { return blake3.New() }}

// digestOf is the digest of a leaf (0), a node (1) or a whole (2).
func digestOf(kind byte, parts ...[]byte) (d treeDigest) {
	h := hashers.Get().(*blake3.Hasher)
	defer hashers.Put(h)
	h.Reset()
	_, _ = h.Write([]byte{kind}) // it never fails
	for _, p := range parts {
		_, _ = h.Write(p)
	}
	h.Sum(d[:0])
	return d
}

// treeLevel is the node of one height that digests come into.
type treeLevel struct {
	open     bool
	node     int64 // which it is of its height
	children [treeFan]treeDigest
}

// tree takes the digests of blocks that are not zeros, in ascending order.
type tree struct {
	blocks int64
	levels []*treeLevel
	top    treeDigest
}

func newTree(size int64) *tree {
	t := &tree{blocks: (size + digestBlock - 1) / digestBlock}
	for n := t.blocks; n > 1; n = (n + treeFan - 1) / treeFan {
		t.levels = append(t.levels, &treeLevel{})
	}
	return t
}

// put takes the digest of the child of a height with that number.
func (t *tree) put(height int, number int64, d treeDigest) {
	if height == len(t.levels) {
		t.top = d
		return
	}
	l := t.levels[height]
	if l.open && l.node != number/treeFan {
		t.close(height)
	}
	l.open, l.node = true, number/treeFan
	l.children[number%treeFan] = d
}

// close hands the node of a height up.
func (t *tree) close(height int) {
	l := t.levels[height]
	below := t.blocks // how many children there are of that height, of all nodes together
	for range height {
		below = (below + treeFan - 1) / treeFan
	}
	var all []byte
	for _, d := range l.children[:min(treeFan, below-l.node*treeFan)] {
		all = append(all, d[:]...)
	}
	node := l.node
	*l = treeLevel{}
	t.put(height+1, node, digestOf(1, all))
}

// sum ends the tree of a disk of that size.
func (t *tree) sum(size int64) treeDigest {
	for height, l := range t.levels {
		if l.open {
			t.close(height)
		}
	}
	return digestOf(2, binary.BigEndian.AppendUint64(nil, uint64(size)), t.top[:])
}

// treeTarget digests blocks side by side and puts them into a tree.
type treeTarget struct {
	nowhere
	tree     *tree
	progress func(dataBytes int64)
}

func (treeTarget) Pack(plain, buf []byte) ([]byte, error) {
	out := buf[:0]
	for len(plain) > 0 {
		block := plain[:min(len(plain), digestBlock)]
		plain = plain[len(block):]
		var d treeDigest
		if !IsZero(block) {
			d = digestOf(0, block)
		}
		out = append(out, d[:]...)
	}
	return out, nil
}

func (t treeTarget) Put(off int64, packed []byte, plain int) error {
	for n := off / digestBlock; len(packed) > 0; n++ {
		if d := treeDigest(packed[:treeBytes]); d != (treeDigest{}) {
			t.tree.put(0, n, d)
		}
		packed = packed[treeBytes:]
	}
	if t.progress != nil {
		t.progress(int64(plain))
	}
	return nil
}

// TreeSum is the tree sum of what the guest would see: the same for the same bytes, in whatever format and however
// sparsely they are kept. It takes as long as the data take to be read and digested; holes and zeros that the image
// knows of are free.
// progress is told of data only.
func TreeSum(ctx context.Context, img Image, progress func(dataBytes int64)) ([treeBytes]byte, error) {
	size := img.Info().VirtualBytes
	t := newTree(size)
	target := treeTarget{tree: t, progress: progress}
	if err := Pump(ctx, target, ImageFeed(img, 0, digestBlock), Options{}); err != nil {
		return treeDigest{}, err
	}
	return t.sum(size), nil
}
