package nbd_test

import (
	"bytes"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"io"
	"net"
	"sync"
	"sync/atomic"
	"syscall"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/nbd"
)

// memory is a disk in memory that can be written to.
type memory struct {
	disk.Image
	mu    sync.RWMutex
	p     []byte
	syncs int
}

func (m *memory) ReadAt(p []byte, off int64) (int, error) {
	m.mu.RLock()
	defer m.mu.RUnlock()
	return bytes.NewReader(m.p).ReadAt(p, off)
}

func (m *memory) WriteAt(p []byte, off int64) (int, error) {
	m.mu.Lock()
	defer m.mu.Unlock()
	return copy(m.p[off:], p), nil
}

func (m *memory) Zero(off, length int64, _ bool) error {
	m.mu.Lock()
	defer m.mu.Unlock()
	clear(m.p[off : off+length])
	return nil
}

func (m *memory) Sync() error { m.syncs++; return nil }

// holed maps its runs of 64 KiB of zeros as holes.
type holed struct{ disk.Image }

func (h holed) Map(off int64) (disk.Range, error) {
	size := h.Info().VirtualBytes
	buf := make([]byte, 64<<10)
	zero := func(at int64) bool {
		n, _ := h.ReadAt(buf[:min(64<<10, size-at)], at)
		return disk.IsZero(buf[:n])
	}
	start := off &^ (64<<10 - 1)
	kind := disk.Data
	if zero(start) {
		kind = disk.Zero
	}
	end := start + 64<<10
	for end < size && zero(end) == (kind == disk.Zero) {
		end += 64 << 10
	}
	return disk.Range{Offset: off, Length: min(end, size) - off, Kind: kind}, nil
}

// serve listens on loopback and returns a way to dial.
func serve(t testing.TB, s *nbd.Server) func() net.Conn {
	t.Helper()
	l, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	ctx, cancel := context.WithCancel(context.Background())
	var wg sync.WaitGroup
	wg.Go(func() {
		for {
			conn, err := l.Accept()
			if err != nil {
				return
			}
			wg.Go(func() { s.Serve(ctx, conn) })
		}
	})
	t.Cleanup(func() { cancel(); l.Close(); wg.Wait() })
	return func() net.Conn {
		conn, err := net.Dial("tcp", l.Addr().String())
		require.NoError(t, err)
		return conn
	}
}

func one(e *nbd.Export) func(context.Context, string, net.Conn) (*nbd.Export, error) {
	return func(_ context.Context, name string, _ net.Conn) (*nbd.Export, error) {
		if name != "tide-gauge" {
			return nil, errors.New("there is no such disk")
		}
		return e, nil
	}
}

func certificates(t testing.TB) (server, client *tls.Config) {
	t.Helper()
	certPEM, keyPEM, err := hostlink.NewAuthority()
	require.NoError(t, err)
	a, err := hostlink.LoadAuthority(certPEM, keyPEM)
	require.NoError(t, err)
	server, err = a.ServiceTLS()
	require.NoError(t, err)
	client = server.Clone()
	client.ServerName = hostlink.ServiceName
	return server, client
}

func TestReadMapWrite(t *testing.T) {
	truth := append(disktest.Pattern(5<<20, 3), make([]byte, 3<<20+512)...)
	server, client := certificates(t)
	for name, c := range map[string][2]*tls.Config{"plain": {}, "TLS": {server, client}} {
		t.Run(name, func(t *testing.T) {
			m := &memory{Image: disktest.Plain(truth), p: bytes.Clone(truth)}
			m.Image = holed{disktest.Plain(m.p)}
			dial := serve(t, &nbd.Server{TLS: c[0], Find: one(&nbd.Export{Image: m, Writer: m})})
			d, err := nbd.Open(t.Context(), dial(), nbd.Options{Name: "tide-gauge", TLS: c[1]})
			require.NoError(t, err)
			defer d.Close()
			require.False(t, d.ReadOnly())
			disktest.Same(t, truth, d)
			data, err := disk.DataBytes(d)
			require.NoError(t, err)
			require.Less(t, data, int64(5<<20+64<<10), "holes are told")

			p := disktest.Pattern(100_000, 8)
			_, err = d.WriteAt(p, 12345)
			require.NoError(t, err)
			require.NoError(t, d.Zero(50_000, 20_000, true))
			require.NoError(t, d.Sync())
			clear(p[50_000-12345 : 70_000-12345])
			got := make([]byte, len(p))
			_, err = d.ReadAt(got, 12345)
			require.NoError(t, err)
			require.Equal(t, p, got)
			require.Equal(t, 1, m.syncs)
			_, err = d.WriteAt(p, int64(len(truth))-5)
			require.ErrorIs(t, err, syscall.EINVAL)

			var wg sync.WaitGroup // many requests in flight
			for n := range 64 {
				wg.Go(func() {
					got := make([]byte, 70_000)
					off := int64(n) * 60_000
					if _, err := d.ReadAt(got, off+200_000); err != nil ||
						!bytes.Equal(got, m.p[off+200_000:off+270_000]) {
						t.Errorf("read at %d: %v", off, err)
					}
				})
			}
			wg.Wait()
		})
	}
}

func TestRefused(t *testing.T) {
	server, client := certificates(t)
	dial := serve(t, &nbd.Server{TLS: server, Find: one(&nbd.Export{Image: disktest.Plain(make([]byte, 4096))})})
	_, err := nbd.Open(t.Context(), dial(), nbd.Options{Name: "tide-gauge"})
	require.ErrorIs(t, err, nbd.ErrRefused, "TLS is demanded")
	_, err = nbd.Open(t.Context(), dial(), nbd.Options{Name: "buoy-ingest", TLS: client})
	require.ErrorContains(t, err, "there is no such disk")
	stranger := client.Clone()
	stranger.Certificates = nil
	d, err := nbd.Open(t.Context(), dial(), nbd.Options{Name: "tide-gauge", TLS: stranger})
	if err == nil { // TLS 1.3 tells of a missing certificate with the first answer
		_, err = d.ReadAt(make([]byte, 1), 0)
	}
	require.Error(t, err)
	d, err = nbd.Open(t.Context(), dial(), nbd.Options{Name: "tide-gauge", TLS: client})
	require.NoError(t, err)
	require.True(t, d.ReadOnly())
	_, err = d.WriteAt([]byte{1}, 0)
	require.ErrorIs(t, err, syscall.EPERM)
	require.NoError(t, d.Close())
	_, err = d.ReadAt(make([]byte, 1), 0)
	require.ErrorIs(t, err, nbd.ErrLost)
}

// failing can't be read in its second half.
type failing struct{ disk.Image }

func (f failing) ReadAt(p []byte, off int64) (int, error) {
	if off+int64(len(p)) > 1<<20 {
		return 0, syscall.EIO
	}
	return f.Image.ReadAt(p, off)
}

// threefold is a layer by itself: data, zeros, and what is its parent's.
type threefold struct{ disk.Image }

func (f threefold) Map(off int64) (disk.Range, error) {
	kinds := []disk.Kind{disk.Data, disk.Parent, disk.Zero, disk.Parent}
	n := off >> 20
	return disk.Range{Offset: off, Length: (n+1)<<20 - off, Kind: kinds[n]}, nil
}

// TestLayer: of a layer that is served by itself a client learns what is its parent's; others read it as it is.
func TestLayer(t *testing.T) {
	img := threefold{disktest.Plain(append(disktest.Pattern(1<<20, 3), make([]byte, 3<<20)...))}
	kinds := func(layer, asked bool) (list []disk.Kind) {
		dial := serve(t, &nbd.Server{Find: one(&nbd.Export{Image: img, Layer: layer})})
		d, err := nbd.Open(t.Context(), dial(), nbd.Options{Name: "tide-gauge", Layer: asked})
		require.NoError(t, err)
		defer d.Close()
		for off := int64(0); off < 4<<20; {
			r, err := d.Map(off)
			require.NoError(t, err)
			list, off = append(list, r.Kind), r.End()
		}
		return list
	}
	require.Equal(t, []disk.Kind{disk.Data, disk.Parent, disk.Zero, disk.Parent}, kinds(true, true))
	require.Equal(t, []disk.Kind{disk.Data, disk.Data, disk.Zero, disk.Data}, kinds(true, false))
	require.Equal(t, []disk.Kind{disk.Data, disk.Zero, disk.Zero, disk.Zero}, kinds(false, false))
}

func TestErrorsTravel(t *testing.T) {
	dial := serve(t, &nbd.Server{Find: one(&nbd.Export{Image: failing{disktest.Plain(make([]byte, 2<<20))}})})
	d, err := nbd.Open(t.Context(), dial(), nbd.Options{Name: "tide-gauge"})
	require.NoError(t, err)
	defer d.Close()
	_, err = d.ReadAt(make([]byte, 4096), 1<<20)
	require.ErrorIs(t, err, syscall.EIO)
	_, err = d.ReadAt(make([]byte, 4096), 0)
	require.NoError(t, err, "the connection goes on")
}

// TestCuts: connections that are cut again and again lose nothing.
func TestCuts(t *testing.T) {
	truth := disktest.Pattern(24<<20, 5)
	dial := serve(t, &nbd.Server{Find: one(&nbd.Export{Image: holed{disktest.Plain(truth)}})})
	var cuts atomic.Int64
	l, err := nbd.OpenLasting(t.Context(), func(ctx context.Context) (*nbd.Client, error) {
		return nbd.Open(ctx, &cut{Conn: dial(), left: 5 << 19, cuts: &cuts}, nbd.Options{Name: "tide-gauge"})
	})
	require.NoError(t, err)
	defer l.Close()
	disktest.Same(t, truth, &whole{l})
	require.Greater(t, cuts.Load(), int64(5))

	var only net.Conn
	gone, err := nbd.OpenLasting(t.Context(), func(ctx context.Context) (*nbd.Client, error) {
		if only != nil {
			return nil, errors.New("this name was used already")
		}
		only = dial()
		return nbd.Open(ctx, only, nbd.Options{Name: "tide-gauge"})
	})
	require.NoError(t, err)
	require.NoError(t, only.Close())
	_, err = gone.ReadAt(make([]byte, 1), 0)
	require.ErrorContains(t, err, "used already", "what won't pass is not tried for long")
}

// cut breaks a connection after so many bytes.
type cut struct {
	net.Conn
	left int64
	cuts *atomic.Int64
}

func (c *cut) Read(p []byte) (int, error) {
	n, err := c.Conn.Read(p)
	if c.left -= int64(n); c.left <= 0 {
		c.cuts.Add(1)
		c.Conn.Close()
	}
	return n, err
}

// whole reads a MiB at a time, so that cuts fall between.
type whole struct{ disk.Image }

func (w *whole) ReadAt(p []byte, off int64) (int, error) {
	for done := 0; done < len(p); {
		n, err := w.Image.ReadAt(p[done:min(len(p), done+1<<20)], off+int64(done))
		if done += n; err != nil {
			return done, err
		}
	}
	return len(p), nil
}

// pipe is a connection that a fuzzer speaks into.
func pipe(t *testing.T, script []byte) net.Conn {
	a, b := net.Pipe()
	t.Cleanup(func() { a.Close(); b.Close() })
	go io.Copy(io.Discard, a)
	go func() { a.Write(script); a.Close() }()
	b.SetDeadline(time.Now().Add(5 * time.Second))
	return b
}

func FuzzServer(f *testing.F) {
	be := binary.BigEndian
	script := be.AppendUint32(nil, 3)
	script = append(script, "IHAVEOPT\x00\x00\x00\x08\x00\x00\x00\x00"...)
	script = append(script, "IHAVEOPT\x00\x00\x00\x07\x00\x00\x00\x10\x00\x00\x00\x0atide-gauge\x00\x00"...)
	for kind := range uint16(8) {
		script = be.AppendUint32(script, 0x25609513)
		script = be.AppendUint16(be.AppendUint16(script, 0), (kind+1)%8)
		script = be.AppendUint64(be.AppendUint64(script, 7), 0)
		script = be.AppendUint32(script, 0)
	}
	f.Add(script)
	f.Fuzz(func(t *testing.T, script []byte) {
		m := &memory{Image: disktest.Plain(make([]byte, 65536)), p: make([]byte, 65536)}
		(&nbd.Server{Find: one(&nbd.Export{Image: m, Writer: m})}).Serve(t.Context(), pipe(t, script))
	})
}

func FuzzClient(f *testing.F) {
	be := binary.BigEndian
	reply := func(option, kind uint32, data string) []byte {
		raw := be.AppendUint64(nil, 0x3e889045565a9)
		raw = be.AppendUint32(be.AppendUint32(raw, option), kind)
		return append(be.AppendUint32(raw, uint32(len(data))), data...)
	}
	script := append([]byte("NBDMAGICIHAVEOPT\x00\x03"), reply(8, 1, "")...)
	script = append(script, reply(10, 4, "\x00\x00\x00\x01base:allocation")...)
	script = append(append(script, reply(10, 1, "")...), reply(7, 3,
		"\x00\x00\x00\x00\x00\x00\x00\x01\x00\x00\x00\x01")...)
	script = append(script, reply(7, 1, "")...)
	script = append(script,
		"\x66\x8e\x33\xef\x00\x01\x00\x05\x00\x00\x00\x00\x00\x00\x00\x01"+
			"\x00\x00\x00\x0c\x00\x00\x00\x01\x00\x01\x00\x00\x00\x00\x00\x00"...)
	f.Add(script)
	f.Fuzz(func(t *testing.T, script []byte) {
		d, err := nbd.Open(t.Context(), pipe(t, script), nbd.Options{Name: "tide-gauge"})
		if err != nil {
			return
		}
		d.Map(0)
		d.ReadAt(make([]byte, 512), 0)
		d.Close()
	})
}
