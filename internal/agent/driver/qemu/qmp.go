package qemu

import (
	"bufio"
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"net"
	"os"
	"path/filepath"
	"time"

	"golang.org/x/sys/unix"
)

// monitor is one exchange with a running QEMU over its machine protocol (QMP, QEMU's docs/interop/qmp-spec): a
// greeting, then a command and its answer at a time. Events in between are passed over.
type monitor struct {
	conn net.Conn
	in   *json.Decoder
}

// qmpTime is how long an exchange may take when the caller's context says nothing shorter.
const qmpTime = 5 * time.Second

// dialIn connects to a socket in a directory, whose whole path may be longer than a socket's address can be.
func dialIn(ctx context.Context, dir runDir, name string) (net.Conn, error) {
	at, err := dir.open()
	if err != nil {
		return nil, err
	}
	defer at.Close()
	var d net.Dialer
	return d.DialContext(ctx, "unix", filepath.Join("/proc/self/fd", fmt.Sprint(at.Fd()), name))
}

// dialMonitor greets the QEMU whose sockets are in dir, for more than one command.
func dialMonitor(ctx context.Context, dir runDir) (*monitor, error) {
	return greet(ctx, dir, monitorSocket)
}

func greet(ctx context.Context, dir runDir, socket string) (*monitor, error) {
	ctx, stop := context.WithTimeout(ctx, qmpTime)
	defer stop()
	conn, err := dialIn(ctx, dir, socket)
	if err != nil {
		return nil, err
	}
	if until, ok := ctx.Deadline(); ok {
		_ = conn.SetDeadline(until)
	}
	m := &monitor{conn, json.NewDecoder(bufio.NewReader(conn))}
	var greeting struct{ QMP json.RawMessage }
	if err := m.in.Decode(&greeting); err != nil {
		conn.Close()
		return nil, fmt.Errorf("QEMU's greeting: %w", err)
	}
	if err := m.do(ctx, "qmp_capabilities", nil, nil); err != nil {
		conn.Close()
		return nil, err
	}
	return m, nil
}

func (m *monitor) close() { _ = m.conn.Close() }

// refusal is QEMU's answer that it does not do something.
type refusal struct {
	Class string `json:"class"`
	Desc  string `json:"desc"`
}

func (r *refusal) Error() string { return r.Desc }

// do carries out one command; its answer goes into result unless that is nil.
func (m *monitor) do(ctx context.Context, command string, arguments, result any) error {
	if err := m.until(ctx); err != nil {
		return err
	}
	ask := map[string]any{"execute": command}
	if arguments != nil {
		ask["arguments"] = arguments
	}
	if err := json.NewEncoder(m.conn).Encode(ask); err != nil {
		return fmt.Errorf("ask QEMU for %s: %w", command, err)
	}
	return m.answer(command, result)
}

// until bounds the next exchange.
func (m *monitor) until(ctx context.Context) error {
	until := time.Now().Add(qmpTime)
	if d, ok := ctx.Deadline(); ok && d.Before(until) {
		until = d
	}
	return m.conn.SetDeadline(until)
}

// answer reads what QEMU says to a command.
func (m *monitor) answer(command string, result any) error {
	for {
		var answer struct {
			Return json.RawMessage `json:"return"`
			Error  *refusal        `json:"error"`
		}
		if err := m.in.Decode(&answer); err != nil {
			return fmt.Errorf("QEMU's answer to %s: %w", command, err)
		}
		switch {
		case answer.Error != nil:
			return fmt.Errorf("QEMU refuses %s: %w", command, answer.Error)
		case answer.Return != nil && result != nil:
			return json.Unmarshal(answer.Return, result)
		case answer.Return != nil:
			return nil
		}
	}
}

// handOver carries out one command that takes a descriptor along.
func (m *monitor) handOver(ctx context.Context, command string, arguments map[string]any, f *os.File,
	result any) error {
	unixConn, ok := m.conn.(*net.UnixConn)
	if !ok {
		return errors.New("descriptors pass through sockets of this computer only")
	}
	if err := m.until(ctx); err != nil {
		return err
	}
	raw, err := json.Marshal(map[string]any{"execute": command, "arguments": arguments})
	if err != nil {
		return err
	}
	if _, _, err = unixConn.WriteMsgUnix(raw, unix.UnixRights(int(f.Fd())), nil); err != nil {
		return fmt.Errorf("ask QEMU for %s: %w", command, err)
	}
	return m.answer(command, result)
}

// give passes a descriptor to QEMU, under a name.
func (m *monitor) give(ctx context.Context, name string, f *os.File) error {
	return m.handOver(ctx, "getfd", map[string]any{"fdname": name}, f, nil)
}

// ask carries out one command of a running QEMU that is answered at once.
func ask(ctx context.Context, dir runDir, command string, arguments, result any) error {
	m, err := greet(ctx, dir, lookSocket)
	if err != nil {
		return err
	}
	defer m.close()
	return m.do(ctx, command, arguments, result)
}
