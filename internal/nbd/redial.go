package nbd

import (
	"context"
	"errors"
	"io"
	"net"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"

	"unvora.example/unvora/core/disk"
)

// Lasting is a disk that outlives its connections: a request that a cut leaves
// unanswered is asked again over a new one.
type Lasting struct {
	ctx  context.Context
	dial func(ctx context.Context) (*Client, error)
	size int64

	mu     sync.Mutex
	client *Client
}

// Patience with an other side that does not answer.
const (
	redials     = 60
	redialPause = time.Second
)

// OpenLasting dials for the first time. dial is called again after each cut;
// an error of it that is not one of the network ends the matter.
func OpenLasting(ctx context.Context, dial func(ctx context.Context) (*Client, error)) (*Lasting, error) {
	c, err := dial(ctx)
	if err != nil {
		return nil, err
	}
	return &Lasting{ctx: ctx, dial: dial, size: c.size, client: c}, nil
}

// again replaces a client whose connection was lost.
func (l *Lasting) again(lost *Client) (*Client, error) {
	l.mu.Lock()
	defer l.mu.Unlock()
	if l.client != lost {
		return l.client, nil // somebody was faster
	}
	lost.Close()
	c, err := backoff.Retry(l.ctx, func() (*Client, error) {
		c, err := l.dial(l.ctx)
		if err != nil && !temporary(err) {
			err = backoff.Permanent(err)
		}
		return c, err
	}, backoff.WithBackOff(backoff.NewConstantBackOff(redialPause)), backoff.WithMaxTries(redials))
	if err != nil {
		return nil, err
	}
	if c.size != l.size {
		return nil, errors.Join(errors.New("the disk has another size since the connection was lost"), c.Close())
	}
	l.client = c
	return c, nil
}

// Temporary is implemented by errors of a dial that may pass.
type Temporary interface{ Temporary() bool }

func temporary(err error) bool {
	var t Temporary
	var n net.Error
	switch {
	case errors.As(err, &t) && t.Temporary():
		return true
	case errors.As(err, &n), errors.Is(err, ErrLost), errors.Is(err, io.EOF), errors.Is(err, io.ErrUnexpectedEOF):
		return true
	}
	return false
}

func (l *Lasting) try(f func(c *Client) error) error {
	l.mu.Lock()
	c := l.client
	l.mu.Unlock()
	for {
		err := f(c)
		if !errors.Is(err, ErrLost) || l.ctx.Err() != nil {
			return err
		}
		if c, err = l.again(c); err != nil {
			return err
		}
	}
}

// Info is that of Client.
func (l *Lasting) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: l.size, SectorBytes: 512, Clean: true}
}

// ReadAt reads guest bytes.
func (l *Lasting) ReadAt(p []byte, off int64) (n int, err error) {
	err = l.try(func(c *Client) (err error) {
		n, err = c.ReadAt(p, off)
		return err
	})
	return n, err
}

// Map tells of data and holes.
func (l *Lasting) Map(off int64) (r disk.Range, err error) {
	err = l.try(func(c *Client) (err error) {
		r, err = c.Map(off)
		return err
	})
	return r, err
}

// Close closes the connection there is.
func (l *Lasting) Close() error {
	l.mu.Lock()
	defer l.mu.Unlock()
	return l.client.Close()
}
