package nbd

import (
	"net"
	"time"
)

// Bounds of a conversation: whoever asks for nothing for that long, or does not
// take what was sent, is let go. A client that lasts dials again.
const (
	idleTime  = 10 * time.Minute
	writeTime = time.Minute
)

// bounded ends reads and writes that take too long.
type bounded struct{ net.Conn }

func (b bounded) Read(p []byte) (int, error) {
	if err := b.SetReadDeadline(time.Now().Add(idleTime)); err != nil {
		return 0, err
	}
	return b.Conn.Read(p)
}

func (b bounded) Write(p []byte) (int, error) {
	if err := b.SetWriteDeadline(time.Now().Add(writeTime)); err != nil {
		return 0, err
	}
	return b.Conn.Write(p)
}
