package do

import (
	"bytes"
	"encoding/base64"
	"encoding/binary"
	"encoding/pem"
	"fmt"
	"hash/crc32"
	"io"
	"net/http"
	"net/http/httptest"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"sync/atomic"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
)

// imageServer hands out a file in parts, counts what it hands out, and breaks
// off every third answer.
type imageServer struct {
	*httptest.Server
	file   string
	tag    atomic.Value
	served atomic.Int64
	asked  atomic.Int64
	gone   atomic.Bool
}

func serveImage(t *testing.T, file string) (*imageServer, *hostlink.WebDisk) {
	s := &imageServer{file: file}
	s.tag.Store(`"one"`)
	s.Server = httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if s.gone.Load() {
			http.Error(w, "gone", http.StatusNotFound)
			return
		}
		w.Header().Set("ETag", s.tag.Load().(string))
		if r.Method == http.MethodGet && s.asked.Add(1)%3 == 0 {
			panic(http.ErrAbortHandler)
		}
		f, err := os.Open(s.file)
		require.NoError(t, err)
		defer f.Close()
		http.ServeContent(&counted{w, &s.served}, r, "", time.Time{}, f)
	}))
	s.Config.ErrorLog = nil
	t.Cleanup(s.Close)
	cert := pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: s.Certificate().Raw})
	return s, &hostlink.WebDisk{URL: s.URL, Manager: "127.0.0.1", Certificate: string(cert)}
}

type counted struct {
	http.ResponseWriter
	n *atomic.Int64
}

func (c *counted) Write(p []byte) (int, error) {
	c.n.Add(int64(len(p)))
	return c.ResponseWriter.Write(p)
}

// TestImageOfManager reads a whole image over a connection that breaks, then a
// layer of what has changed, of which little is moved.
func TestImageOfManager(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(20<<20, 3)
	dir := t.TempDir()
	whole := filepath.Join(dir, "whole.qcow2")
	agenttest.WriteImage(t, whole, "qcow2", disk.Spec{VirtualBytes: int64(len(truth))},
		disk.ImageFeed(disktest.Plain(truth), 0, 64<<10))
	s, web := serveImage(t, whole)
	carry := func(id string, p hostlink.CarryTask) hostlink.Task {
		s := ended(t, start(t, a, id, plan.KindCarry, 1, p))
		if s.State == hostlink.TaskFailed {
			require.NoError(t, a.tasks.Undo(job+"."+id, hostlink.TaskSpec{Job: job, Epoch: 1}))
		}
		return s
	}
	first := hostlink.CarryTask{Carry: plan.Carry{Disk: "disk1", Pool: pool, Into: plan.AheadDir(pool, "c-1"),
		File: "first.vhdx", Format: "vhdx"}, Web: web, ID: "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"}
	got := carry("s1", first)
	require.Equal(t, hostlink.TaskDone, got.State, got.Error)
	ahead := filepath.Join(plan.AheadDir(pool, "c-1"), "first.vhdx")
	same := func(path string) {
		t.Helper()
		c, err := formats.OpenChain(path, formats.Options{})
		require.NoError(t, err)
		defer c.Close()
		disktest.Same(t, truth, c)
	}
	same(ahead)
	require.Greater(t, s.served.Load(), int64(1<<20))

	changed := bytes.Repeat([]byte("low tide"), 8<<10)
	copy(truth[7<<20:], changed)
	clear(truth[:64<<10]) // and what became zeros
	layer := filepath.Join(dir, "layer.qcow2")
	agenttest.WriteImage(t, layer, "qcow2", disk.Spec{VirtualBytes: int64(len(truth)),
		Parent: &disk.ParentRef{Path: "1.qcow2", Format: "qcow2"}},
		&pieces{list: []disk.Piece{part(truth, 0), part(truth, 7<<20)}})
	l, change := serveImage(t, layer)
	again := first
	again.Web, again.File, again.Ahead = change, "again.vhdx", ahead
	got = carry("s2", again)
	require.Equal(t, hostlink.TaskFailed, got.State)
	require.Equal(t, "disk.parent-missing", got.Code, "a layer for a whole image")
	change.Change = true
	l.served.Store(0)
	got = carry("s3", again)
	require.Equal(t, hostlink.TaskDone, got.State, got.Error)
	same(filepath.Join(plan.AheadDir(pool, "c-1"), "again.vhdx"))
	require.Less(t, l.served.Load(), int64(3<<20), "little has changed, little is moved")

	outside := again
	outside.Ahead = "/etc/passwd"
	require.Equal(t, hostlink.TaskFailed, carry("s4", outside).State)
	wrong := first
	wrong.Web, wrong.File = &hostlink.WebDisk{URL: web.URL, Manager: web.Manager, Certificate: "none"}, "x.vhdx"
	require.Contains(t, carry("s5", wrong).Error, "certificate can't be read")
	s.gone.Store(true)
	wrong.Web = web
	require.Contains(t, carry("s6", wrong).Error, "404")

	use := plan.UseAhead{Files: []string{ahead, filepath.Join(plan.AheadDir(pool, "c-1"), "again.vhdx")}}
	require.Equal(t, hostlink.TaskDone, ended(t, start(t, a, "s7", plan.KindUseAhead, 1, use)).State)
	require.NoDirExists(t, filepath.Join(pool, ground.WorkDir))
	use.Files = []string{filepath.Join(pool, "x")}
	require.Contains(t, ended(t, start(t, a, "s8", plan.KindUseAhead, 1, use)).Error, "not fetched ahead")
}

// TestImageChanges: an image that is another one suddenly is not gone on with.
func TestImageChanges(t *testing.T) {
	file := filepath.Join(t.TempDir(), "x")
	require.NoError(t, os.WriteFile(file, disktest.Pattern(5<<20, 1), 0o644))
	s, web := serveImage(t, file)
	a, _ := newAgent(t, 0)
	client, err := a.atManager(web)
	require.NoError(t, err)
	src, err := openWebSource(t.Context(), client, web.URL)
	require.NoError(t, err)
	got := make([]byte, 5<<20)
	var wg sync.WaitGroup
	for i := range 5 {
		wg.Go(func() {
			_, err := src.ReadAt(got[i<<20:(i+1)<<20], int64(i)<<20)
			require.NoError(t, err)
		})
	}
	wg.Wait()
	require.Equal(t, disktest.Pattern(5<<20, 1), got)
	_, err = src.ReadAt(make([]byte, 10), 5<<20-3)
	require.ErrorIs(t, err, io.EOF)

	fresh, err := openWebSource(t.Context(), client, web.URL)
	require.NoError(t, err)
	s.tag.Store(`"two"`)
	_, err = fresh.ReadAt(make([]byte, 10), 0)
	require.ErrorContains(t, err, "has changed since it was looked at")
}

// TestSend: the data of a disk arrive at their places, and the digest is right.
func TestSend(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(9<<20, 5)
	clear(truth[2<<20 : 6<<20])
	path := filepath.Join(pool, "x.qcow2")
	agenttest.WriteImage(t, path, "qcow2", disk.Spec{VirtualBytes: int64(len(truth))},
		disk.ImageFeed(disktest.Plain(truth), 0, 64<<10))
	got, digest, tries, refuse := make([]byte, len(truth)), "", 0, false
	server := httptest.NewTLSServer(http.HandlerFunc(func(w http.ResponseWriter, r *http.Request) {
		if tries++; tries == 2 {
			http.Error(w, "busy", http.StatusServiceUnavailable)
			return
		}
		if refuse {
			http.Error(w, "no room", http.StatusInsufficientStorage-100)
			return
		}
		if r.Method == http.MethodPost {
			digest = r.Header.Get("Repr-Digest")
			return
		}
		var from, to, all int
		_, err := fmt.Sscanf(r.Header.Get("Content-Range"), "bytes %d-%d/%d", &from, &to, &all)
		require.NoError(t, err)
		require.Equal(t, len(truth), all)
		_, err = io.ReadFull(r.Body, got[from:to+1])
		require.NoError(t, err)
		require.Equal(t, cimi.ContentDigest(got[from:to+1]), r.Header.Get("Content-Digest"))
	}))
	t.Cleanup(server.Close)
	to := hostlink.WebDisk{URL: server.URL, Manager: "127.0.0.1",
		Certificate: string(pem.EncodeToMemory(&pem.Block{Type: "CERTIFICATE", Bytes: server.Certificate().Raw}))}
	s := ended(t, start(t, a, "s1", plan.KindSend, 1, hostlink.SendTask{Send: plan.Send{Disk: "disk1", Source: path,
		Folder: pool}, To: to}))
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	require.True(t, bytes.Equal(truth, got))
	sum := crc32.Checksum(truth, crc32.MakeTable(crc32.Castagnoli))
	require.Equal(t, "crc32c=:"+base64.StdEncoding.EncodeToString(binary.BigEndian.AppendUint32(nil, sum))+":", digest)
	require.LessOrEqual(t, s.Done, int64(6<<20), "holes are not sent")

	refuse = true
	s = ended(t, start(t, a, "s2", plan.KindSend, 1, hostlink.SendTask{Send: plan.Send{Disk: "disk1", Source: path,
		Folder: pool}, To: to}))
	require.Equal(t, hostlink.TaskFailed, s.State)
	require.True(t, strings.Contains(s.Error, "refuses what is sent"), s.Error)
}

// pieces is a feed of what is listed.
type pieces struct{ list []disk.Piece }

func (p *pieces) Next() (disk.Piece, error) {
	if len(p.list) == 0 {
		return disk.Piece{}, io.EOF
	}
	next := p.list[0]
	p.list = p.list[1:]
	return next, nil
}

func part(truth []byte, at int64) disk.Piece {
	return disk.Piece{Offset: at, Length: 64 << 10, Load: func(dst []byte) error { copy(dst, truth[at:]); return nil }}
}
