package tests

import (
	"bufio"
	"crypto/sha256"
	"encoding/binary"
	"encoding/json"
	"fmt"
	"io"
	"net"
	"os"
	"os/exec"
	"path/filepath"
	"strings"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/internal/wait"
)

// judged is an image that QEMU's storage daemon has opened and serves over NBD:
// an independent reader.
type judged struct {
	conn net.Conn
	size int64
}

// daemon starts QEMU's storage daemon; args name the block devices. It returns
// the path of its NBD socket and a connection for QMP. The command "quit" lets
// it close everything properly and waits for its end.
func daemon(t testing.TB, args ...string) (nbd string, qmp func(command string, arguments map[string]any) error) {
	t.Helper()
	dir, err := os.MkdirTemp("", "judge-")
	require.NoError(t, err)
	t.Cleanup(func() { os.RemoveAll(dir) })
	nbd = filepath.Join(dir, "nbd")
	return nbd, daemonOf(t, append([]string{"--nbd-server", "addr.type=unix,addr.path=" + nbd}, args...)...)
}

// daemonOf is daemon without an NBD server of its own.
func daemonOf(t testing.TB, args ...string) (qmp func(command string, arguments map[string]any) error) {
	t.Helper()
	binary := need(t, "qemu-storage-daemon", "qemu-system-common")
	dir, err := os.MkdirTemp("", "judge-")
	require.NoError(t, err)
	control := filepath.Join(dir, "qmp")
	args = append([]string{"--chardev", "socket,path=" + control + ",server=on,wait=off,id=q", "--monitor",
		"chardev=q"},
		args...)
	cmd := exec.Command(binary, args...)
	var said strings.Builder
	cmd.Stderr = &said
	require.NoError(t, cmd.Start())
	ended := make(chan struct{})
	go func() { cmd.Wait(); close(ended) }()
	t.Cleanup(func() {
		cmd.Process.Kill()
		<-ended
		os.RemoveAll(dir)
	})
	var conn net.Conn
	for began := time.Now(); ; time.Sleep(10 * time.Millisecond) {
		if conn, err = net.Dial("unix", control); err == nil {
			break
		}
		select {
		case <-ended:
			t.Fatalf("QEMU's storage daemon refuses: %s", said.String())
		default:
			require.Less(t, time.Since(began), wait.Bound, "QEMU's storage daemon does not start")
		}
	}
	t.Cleanup(func() { conn.Close() })
	answers := bufio.NewScanner(conn)
	answers.Buffer(nil, 1<<20)
	require.True(t, answers.Scan(), "greeting")
	call := func(command string, arguments map[string]any) error {
		if err := json.NewEncoder(conn).Encode(map[string]any{"execute": command, "arguments": arguments}); err != nil {
			return err
		}
		for answers.Scan() {
			var a struct {
				Return json.RawMessage
				Error  *struct{ Desc string }
			}
			if err := json.Unmarshal(answers.Bytes(), &a); err != nil {
				return err
			}
			if a.Error != nil {
				return fmt.Errorf("%s: %s", command, a.Error.Desc)
			}
			if a.Return != nil {
				if command == "quit" {
					<-ended
				}
				return nil
			}
		}
		return io.ErrUnexpectedEOF
	}
	require.NoError(t, call("qmp_capabilities", map[string]any{}))
	return call
}

// judge opens an image of a format.
func judge(t testing.TB, format, path string) *judged {
	t.Helper()
	nbd, _ := daemon(t, "--blockdev", "driver=file,node-name=file,read-only=on,locking=off,filename="+path,
		"--blockdev", "driver="+format+",node-name=image,file=file,read-only=on", "--export",
		"type=nbd,id=e,node-name=image,name=image")
	return dialNBD(t, nbd, "image")
}

// dialNBD connects to an export (NBD protocol, fixed newstyle negotiation).
func dialNBD(t testing.TB, socket, export string) *judged {
	t.Helper()
	conn, err := net.Dial("unix", socket)
	require.NoError(t, err)
	t.Cleanup(func() { conn.Close() })
	be := binary.BigEndian
	greeting := make([]byte, 18)
	_, err = io.ReadFull(conn, greeting)
	require.NoError(t, err)
	require.Equal(t, "NBDMAGICIHAVEOPT", string(greeting[:16]))
	hello := be.AppendUint32(nil, 3)                                     // fixed newstyle, no zeroes
	hello = append(hello, "IHAVEOPT\x00\x00\x00\x08\x00\x00\x00\x00"...) // structured replies: holes travel as such
	_, err = conn.Write(hello)
	require.NoError(t, err)
	_, err = io.ReadFull(conn, make([]byte, 20)) // the acknowledgement
	require.NoError(t, err)
	hello = []byte("IHAVEOPT")
	hello = be.AppendUint32(hello, 1) // export name
	hello = be.AppendUint32(hello, uint32(len(export)))
	_, err = conn.Write(append(hello, export...))
	require.NoError(t, err)
	answer := make([]byte, 10)
	_, err = io.ReadFull(conn, answer)
	require.NoError(t, err)
	return &judged{conn, int64(be.Uint64(answer))}
}

// command sends a request and reads the chunks of its reply; those with data
// are handed to got.
func (j *judged) command(t testing.TB, kind uint16, off int64, length int, data []byte, got func(off int64, p []byte)) {
	t.Helper()
	be := binary.BigEndian
	req := be.AppendUint32(nil, 0x25609513)
	req = be.AppendUint16(req, 0)
	req = be.AppendUint16(req, kind)
	req = be.AppendUint64(req, 7)
	req = be.AppendUint64(req, uint64(off))
	req = be.AppendUint32(req, uint32(length))
	_, err := j.conn.Write(append(req, data...))
	require.NoError(t, err)
	const simple, last, withData, hole = 0x67446698, 1, 1, 2
	for {
		reply := make([]byte, 16)
		_, err = io.ReadFull(j.conn, reply)
		require.NoError(t, err)
		if be.Uint32(reply) == simple {
			require.Zero(t, be.Uint32(reply[4:]), "error of QEMU at byte %d", off)
			return
		}
		rest := make([]byte, 4)
		_, err = io.ReadFull(j.conn, rest)
		require.NoError(t, err)
		body := make([]byte, be.Uint32(rest))
		_, err = io.ReadFull(j.conn, body)
		require.NoError(t, err)
		switch chunk := be.Uint16(reply[6:]); chunk {
		case withData:
			got(int64(be.Uint64(body)), body[8:])
		case 0, hole:
		default:
			t.Fatalf("error of QEMU at byte %d: chunk %d, %q", off, chunk, body)
		}
		if be.Uint16(reply[4:])&last != 0 {
			return
		}
	}
}

func (j *judged) read(t testing.TB, off int64, length int) []byte {
	t.Helper()
	p := make([]byte, length)
	j.command(t, 0, off, length, nil, func(at int64, data []byte) { copy(p[at-off:], data) })
	return p
}

func (j *judged) write(t testing.TB, off int64, p []byte) {
	t.Helper()
	j.command(t, 1, off, len(p), p, nil)
}

func (j *judged) flush(t testing.TB) {
	t.Helper()
	j.command(t, 3, 0, 0, nil, nil)
}

// sum is a SHA-256 over all blocks that are not zero, with their places.
func (j *judged) sum(t testing.TB) string {
	t.Helper()
	const most, block = 32 << 20, 64 << 10
	h, all := sha256.New(), make([]byte, most)
	for off := int64(0); off < j.size; off += most {
		data, p := false, all[:min(most, j.size-off)]
		j.command(t, 0, off, len(p), nil, func(at int64, d []byte) {
			if !data {
				clear(p)
				data = true
			}
			copy(p[at-off:], d)
		})
		for n := 0; data && n < len(p); n += block {
			if b := p[n:min(n+block, len(p))]; !disk.IsZero(b) {
				fmt.Fprintf(h, "%d:", off+int64(n))
				h.Write(b)
			}
		}
	}
	return fmt.Sprintf("%d bytes, %x", j.size, h.Sum(nil))
}
