package hostlink

import (
	"context"
	"fmt"
	"io"
	"net"
	"net/http"
	"net/url"
	"time"
)

// ProtocolDisplay is what a connection to an agent's port is to speak when a machine's display is reached over it
// (ALPN, RFC 7301): first the name of an offer, then the remote framebuffer protocol (RFC 6143).
const ProtocolDisplay = "unvora-display"

const (
	nameBytes = 26 // of an offer, as rand.Text writes it
	nameTime  = 10 * time.Second
)

// Picture is what the machine in a folder shows, as PNG.
func (h *Host) Picture(ctx context.Context, folder string) ([]byte, error) {
	ctx, stop := context.WithTimeout(ctx, callTime)
	defer stop()
	res, err := h.do(ctx, http.MethodGet, "/v1/picture", url.Values{"folder": {folder}}, nil)
	if err != nil {
		return nil, err
	}
	defer res.Body.Close()
	return io.ReadAll(io.LimitReader(res.Body, 64<<20))
}

// Type types on the serial port of the machine in a folder.
func (h *Host) Type(ctx context.Context, folder string, text []byte) error {
	return h.quick(ctx, callTime, http.MethodPost, "/v1/console", url.Values{"folder": {folder}}, Typed{text}, nil)
}

// OpenDisplay connects to the display of the machine in a folder of host id.
func (d *Dialer) OpenDisplay(ctx context.Context, id, address, folder string) (net.Conn, error) {
	var o Offer
	if err := d.Host(id, address).quick(ctx, callTime, http.MethodPost, "/v1/displays",
		url.Values{"folder": {folder}}, nil, &o); err != nil {
		return nil, err
	}
	conn, err := d.dial(ctx, id, address, ProtocolDisplay)
	if err != nil {
		return nil, fmt.Errorf("%w: %v", ErrUnreachable, err)
	}
	if _, err := io.WriteString(conn, o.Name); err != nil {
		conn.Close()
		return nil, err
	}
	return conn, nil
}

// ReadName reads the name of an offer that a connection begins with.
func ReadName(conn net.Conn) (string, error) {
	name := make([]byte, nameBytes)
	if err := conn.SetReadDeadline(time.Now().Add(nameTime)); err != nil {
		return "", err
	}
	if _, err := io.ReadFull(conn, name); err != nil {
		return "", err
	}
	return string(name), conn.SetReadDeadline(time.Time{})
}

// Join carries bytes between two connections until one ends, or ctx does. Both are closed then.
func Join(ctx context.Context, one, other net.Conn) {
	ctx, stop := context.WithCancel(ctx)
	defer stop()
	for _, way := range [][2]net.Conn{{one, other}, {other, one}} {
		go func() {
			defer stop()
			_, _ = io.Copy(way[0], way[1]) // that one of them goes is how it ends
		}()
	}
	<-ctx.Done()
	one.Close()
	other.Close()
}
