package vmdk_test

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"math/rand/v2"
	"os"
	"path/filepath"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/qcow2"
	"unvora.example/unvora/core/disk/vmdk"
)

var ctx = context.Background()

const benchBytes = 128 << 20

// readings is text that compresses to about a half, as what guests hold.
func readings(n int) []byte {
	rng := rand.New(rand.NewChaCha8([32]byte{1}))
	p := make([]byte, 0, n+64)
	for len(p) < n {
		if rng.IntN(4) == 0 {
			p = append(p, fmt.Sprintf("%c%c%c", rng.IntN(256), rng.IntN(256), rng.IntN(256))...)
		}
		p = append(p, fmt.Sprintf("tide level station %d %d\n", rng.IntN(100000), rng.IntN(100))...)
	}
	return p[:n]
}

func BenchmarkStreamWrite(b *testing.B) {
	src := disktest.Plain(readings(benchBytes))
	b.SetBytes(benchBytes)
	for b.Loop() {
		target, err := vmdk.CreateStream(io.Discard, disk.Spec{VirtualBytes: benchBytes, ID: "0badcafe"}, nil)
		require.NoError(b, err)
		require.NoError(b, disk.Pump(ctx, target, disk.ImageFeed(src, 0, target.BlockBytes()), disk.Options{}))
	}
}

func BenchmarkStreamToQCOW2(b *testing.B) {
	packed := write(b, readings(benchBytes))
	path := filepath.Join(b.TempDir(), "out.qcow2")
	b.SetBytes(benchBytes)
	for b.Loop() {
		f, err := os.Create(path)
		require.NoError(b, err)
		src, err := disk.OpenFile(f)
		require.NoError(b, err)
		target, err := qcow2.Create(src, disk.Spec{VirtualBytes: benchBytes})
		require.NoError(b, err)
		feed, err := vmdk.NewStreamFeed(bytes.NewReader(packed), nil)
		require.NoError(b, err)
		require.NoError(b, disk.Pump(ctx, target, feed, disk.Options{}))
		require.NoError(b, target.Finish())
		f.Close()
	}
}
