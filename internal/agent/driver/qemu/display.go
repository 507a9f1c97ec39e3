package qemu

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net"
	"os"
	"time"

	"golang.org/x/sys/unix"
)

// A machine's display listens nowhere: whoever looks is given one end of a pair of sockets, QEMU the other.

// mostPicture bounds a picture of a display, in bytes.
const mostPicture = 32 << 20

// Display connects to a machine's screen, keyboard and mouse, by the remote framebuffer protocol (RFC 6143).
func (d *Driver) Display(ctx context.Context, folder string) (net.Conn, error) {
	m, err := d.session(ctx, folder)
	if err != nil {
		return nil, err
	}
	defer m.close()
	pair, err := unix.Socketpair(unix.AF_UNIX, unix.SOCK_STREAM|unix.SOCK_CLOEXEC, 0)
	if err != nil {
		return nil, err
	}
	ours, theirs := os.NewFile(uintptr(pair[0]), "display"), os.NewFile(uintptr(pair[1]), "display")
	defer ours.Close()
	defer theirs.Close()
	if err := m.give(ctx, "display", theirs); err != nil {
		return nil, err
	}
	if err := m.do(ctx, "add_client", map[string]any{"protocol": "vnc", "fdname": "display", "skipauth": true},
		nil); err != nil {
		return nil, err
	}
	return net.FileConn(ours)
}

// session is an exchange with the QEMU of a machine that runs.
func (d *Driver) session(ctx context.Context, folder string) (*monitor, error) {
	dir := d.at(folder)
	if !dir.runs() {
		return nil, errors.New("it does not run")
	}
	return dialMonitor(ctx, dir)
}

// Picture of what a machine shows, as PNG.
func (d *Driver) Picture(ctx context.Context, folder string) ([]byte, error) {
	m, err := d.session(ctx, folder)
	if err != nil {
		return nil, err
	}
	defer m.close()
	fd, err := unix.MemfdCreate("picture", unix.MFD_CLOEXEC)
	if err != nil {
		return nil, err
	}
	picture := os.NewFile(uintptr(fd), "picture")
	defer picture.Close()
	// QEMU takes descriptors only for what it opens them for.
	out, err := reopened(picture, os.O_WRONLY)
	if err != nil {
		return nil, err
	}
	defer out.Close()
	var set struct {
		ID int `json:"fdset-id"`
	}
	if err := m.handOver(ctx, "add-fd", map[string]any{}, out, &set); err != nil {
		return nil, err
	}
	if err := m.do(ctx, "screendump", map[string]any{"filename": fmt.Sprintf("/dev/fdset/%d", set.ID),
		"format": "png"}, nil); err != nil {
		return nil, err
	}
	if err := m.do(ctx, "remove-fd", map[string]any{"fdset-id": set.ID}, nil); err != nil {
		return nil, err
	}
	return io.ReadAll(io.NewSectionReader(picture, 0, mostPicture))
}

// Type writes to a machine's serial port, as if it was typed.
func (d *Driver) Type(ctx context.Context, folder string, text []byte) error {
	dir := d.at(folder)
	if !dir.runs() {
		return errors.New("it does not run")
	}
	c, err := dialIn(ctx, dir, consoleSocket)
	if err != nil {
		return errKeeperGone
	}
	defer c.Close()
	return typeInto(c.(*net.UnixConn), text)
}

// typeTime is how long a serial port may take to take what is typed.
const typeTime = 3 * time.Second

// typeInto gives a keeper what is typed, and waits until the serial port has it: what is typed next, on a connection of
// its own, comes behind it.
func typeInto(c *net.UnixConn, text []byte) error {
	_ = c.SetDeadline(time.Now().Add(typeTime))
	_, err := c.Write(text)
	if err == nil {
		err = c.CloseWrite()
	}
	if err == nil {
		_, err = io.Copy(io.Discard, c) // what is said meanwhile, until the keeper has passed all on
	}
	if errors.Is(err, os.ErrDeadlineExceeded) {
		return fmt.Errorf("its serial port has not taken all of that within %s: its guest may not read it", typeTime)
	}
	return err
}

var errKeeperGone = errors.New("its keeper is gone: what it says is not kept until it is started again")
