package inflate_test

import (
	"bytes"
	"compress/flate"
	"compress/zlib"
	"fmt"
	"io"
	"math/rand/v2"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk/inflate"
)

// samples of every kind of block and of matches near and far.
func samples() map[string][]byte {
	rng := rand.New(rand.NewChaCha8([32]byte{3}))
	random := make([]byte, 70_000)
	for i := range random {
		random[i] = byte(rng.Uint32())
	}
	var text []byte
	for len(text) < 65536 {
		text = append(text, fmt.Sprintf("tide level %d at station %d\n", rng.IntN(1e6), rng.IntN(40))...)
	}
	skewed := make([]byte, 65536) // long codes
	for i := range skewed {
		skewed[i] = byte(rng.ExpFloat64() * 9)
	}
	far := append(append([]byte{}, random[:32768]...), random[:32768]...)
	return map[string][]byte{"nothing": {}, "one byte": {7}, "zeros": make([]byte, 65536),
		"two alternating": bytes.Repeat([]byte{1, 2}, 30000),
		"seven repeating": bytes.Repeat([]byte("1234567"), 9000), "random": random, "text": text[:65536],
		"skewed":      skewed,
		"far matches": far}
}

func TestSameAsTheStandardLibrary(t *testing.T) {
	for name, plain := range samples() {
		for level := flate.HuffmanOnly; level <= flate.BestCompression; level++ {
			t.Run(fmt.Sprintf("%s at level %d", name, level), func(t *testing.T) {
				var packed bytes.Buffer
				w, err := zlib.NewWriterLevel(&packed, level)
				require.NoError(t, err)
				_, err = w.Write(plain)
				require.NoError(t, err)
				require.NoError(t, w.Close())
				dst := make([]byte, len(plain))
				n, err := inflate.Zlib(dst, packed.Bytes())
				require.NoError(t, err)
				require.Equal(t, len(plain), n)
				require.True(t, bytes.Equal(plain, dst))
				// With room to spare, and with a byte too little of it.
				n, err = inflate.Zlib(make([]byte, len(plain)+1000), append(packed.Bytes(), make([]byte, 500)...))
				require.NoError(t, err)
				require.Equal(t, len(plain), n)
				if len(plain) > 0 {
					_, err = inflate.Zlib(make([]byte, len(plain)-1), packed.Bytes())
					require.ErrorIs(t, err, inflate.ErrCorrupt)
				}
				_, err = inflate.Zlib(dst, packed.Bytes()[:packed.Len()-5])
				require.ErrorIs(t, err, inflate.ErrCorrupt)
			})
		}
	}
}

// FuzzRaw holds the inflater against the standard library's: what one takes,
// the other takes, with the same result.
func FuzzRaw(f *testing.F) {
	for _, plain := range samples() {
		for _, level := range []int{flate.HuffmanOnly, 0, 1, 9} {
			var packed bytes.Buffer
			w, _ := flate.NewWriter(&packed, level)
			w.Write(plain[:min(len(plain), 3000)])
			w.Close()
			f.Add(packed.Bytes())
		}
	}
	f.Fuzz(func(t *testing.T, packed []byte) {
		const most = 1 << 17
		want, wantErr := io.ReadAll(io.LimitReader(flate.NewReader(bytes.NewReader(packed)), most+1))
		dst := make([]byte, most)
		n, _, err := inflate.Raw(dst, packed)
		if len(want) > most || wantErr != nil {
			if err == nil {
				t.Fatalf("takes %d bytes of what the standard library refuses: %v", n, wantErr)
			}
			return
		}
		if err != nil {
			t.Fatalf("refuses what the standard library takes: %v", err)
		}
		if !bytes.Equal(dst[:n], want) {
			t.Fatalf("unpacks to something else")
		}
	})
}

func BenchmarkTextStandardLibrary(b *testing.B) {
	plain := samples()["text"]
	var packed bytes.Buffer
	w, _ := zlib.NewWriterLevel(&packed, 1)
	w.Write(plain)
	w.Close()
	b.SetBytes(int64(len(plain)))
	dst := make([]byte, len(plain))
	for b.Loop() {
		r, err := zlib.NewReader(bytes.NewReader(packed.Bytes()))
		if err == nil {
			_, err = io.ReadFull(r, dst)
		}
		if err != nil {
			b.Fatal(err)
		}
	}
}

func BenchmarkText(b *testing.B) {
	plain := samples()["text"]
	var packed bytes.Buffer
	w, _ := zlib.NewWriterLevel(&packed, 1)
	w.Write(plain)
	w.Close()
	dst := make([]byte, len(plain))
	b.SetBytes(int64(len(plain)))
	for b.Loop() {
		if _, err := inflate.Zlib(dst, packed.Bytes()); err != nil {
			b.Fatal(err)
		}
	}
}
