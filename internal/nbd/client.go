package nbd

import (
	"bufio"
	"context"
	"crypto/tls"
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"net"
	"sync"

	"unvora.example/unvora/core/disk"
)

// Options of Open.
type Options struct {
	Name string // of the export
	// TLS, when set, is asked for with STARTTLS. Leave it nil for connections
	// that are encrypted already.
	TLS *tls.Config
	// Layer says that the export is a layer by itself: a hole that does not read as zeros is its parent's.
	Layer bool
}

// Client is a disk at the other end of a connection. It is a disk.Image; its
// methods may be called from several goroutines, and their requests are in
// flight at the same time.
type Client struct {
	conn  net.Conn
	r     *bufio.Reader
	size  int64
	flags uint16

	structured, status bool
	layer              bool

	mu      sync.Mutex
	w       *bufio.Writer
	pending map[uint64]*call
	cookie  uint64
	lost    error

	known struct { // of the last block status reply
		sync.Mutex
		ranges []disk.Range
	}
}

// call is a request that waits for its reply.
type call struct {
	into   []byte // of a read
	offset int64
	status []disk.Range // of a block status
	done   chan error
}

// Open negotiates over conn and opens an export. It closes conn when it fails.
func Open(ctx context.Context, conn net.Conn, o Options) (*Client, error) {
	c := &Client{conn: conn, pending: map[uint64]*call{}}
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	err := c.negotiate(ctx, o)
	stop()
	if err == nil {
		err = ctx.Err()
	}
	if err != nil {
		c.conn.Close()
		return nil, fmt.Errorf("open disk %q over NBD: %w", o.Name, err)
	}
	go c.receive()
	return c, nil
}

func (c *Client) use(conn net.Conn) {
	c.conn = conn
	c.r, c.w = bufio.NewReaderSize(conn, 256<<10), bufio.NewWriterSize(conn, 64<<10)
}

func (c *Client) negotiate(ctx context.Context, o Options) error {
	c.use(c.conn)
	if err := expect(c.r, magicInit, "the greeting"); err != nil {
		return err
	}
	if err := expect(c.r, magicOption, "the greeting's style"); err != nil {
		return err
	}
	var raw [2]byte
	if _, err := io.ReadFull(c.r, raw[:]); err != nil {
		return err
	}
	if binary.BigEndian.Uint16(raw[:])&flagFixed == 0 {
		return fmt.Errorf("%w: it is not of the fixed newstyle", ErrProtocol)
	}
	if _, err := c.conn.Write(binary.BigEndian.AppendUint32(nil, flagFixed|flagNoZeroes)); err != nil {
		return err
	}
	if o.TLS != nil {
		if _, err := c.ask(optStartTLS, nil); err != nil {
			return fmt.Errorf("STARTTLS: %w", err)
		}
		conn := tls.Client(c.conn, o.TLS)
		if err := conn.HandshakeContext(ctx); err != nil {
			return err
		}
		c.use(conn)
	}
	if _, err := c.ask(optStructured, nil); err == nil {
		c.structured = true
	} else if !errors.Is(err, ErrRefused) {
		return err
	}
	if c.structured {
		q := appendText(nil, o.Name)
		q = binary.BigEndian.AppendUint32(q, 1)
		replies, err := c.ask(optSetContexts, appendText(q, allocation))
		if err != nil && !errors.Is(err, ErrRefused) {
			return err
		}
		for _, r := range replies {
			c.status = c.status || r.kind == repContext && len(r.data) > 4 && string(r.data[4:]) == allocation
		}
	}
	replies, err := c.ask(optGo, binary.BigEndian.AppendUint16(appendText(nil, o.Name), 0))
	if err != nil {
		return err
	}
	told := false
	for _, r := range replies {
		if r.kind == repInfo && len(r.data) >= 12 && binary.BigEndian.Uint16(r.data) == infoExport {
			c.size, c.flags, told = int64(binary.BigEndian.Uint64(r.data[2:])), binary.BigEndian.Uint16(r.data[10:]),
				true
		}
	}
	if !told || c.size < 0 {
		return fmt.Errorf("%w: the disk's size was not told", ErrProtocol)
	}
	if c.layer = o.Layer; c.layer && !c.status {
		return fmt.Errorf("%w: what is the layer's own is not told", ErrProtocol)
	}
	return nil
}

func appendText(raw []byte, s string) []byte {
	return append(binary.BigEndian.AppendUint32(raw, uint32(len(s))), s...)
}

type optionReply struct {
	kind uint32
	data []byte
}

// ask sends an option and collects the replies up to the acknowledgement.
func (c *Client) ask(option uint32, data []byte) (replies []optionReply, err error) {
	raw := binary.BigEndian.AppendUint64(nil, magicOption)
	raw = binary.BigEndian.AppendUint32(raw, option)
	raw = binary.BigEndian.AppendUint32(raw, uint32(len(data)))
	if _, err := c.conn.Write(append(raw, data...)); err != nil {
		return nil, err
	}
	for range 1000 {
		if err := expect(c.r, magicReply, "the start of a reply"); err != nil {
			return nil, err
		}
		var head [12]byte
		if _, err := io.ReadFull(c.r, head[:]); err != nil {
			return nil, err
		}
		be := binary.BigEndian
		kind, length := be.Uint32(head[4:]), be.Uint32(head[8:])
		if be.Uint32(head[:]) != option || length > maxOption {
			return nil, fmt.Errorf("%w: a reply of %d bytes to option %d", ErrProtocol, length, be.Uint32(head[:]))
		}
		body := make([]byte, length)
		if _, err := io.ReadFull(c.r, body); err != nil {
			return nil, err
		}
		switch {
		case kind == repAck:
			return replies, nil
		case kind&repError != 0:
			return replies, fmt.Errorf("%w: %s (error %d)", ErrRefused, body, kind&^repError)
		}
		replies = append(replies, optionReply{kind, body})
	}
	return nil, fmt.Errorf("%w: no end of replies", ErrProtocol)
}

// Info of the disk: its size, and that it is one image without a parent.
func (c *Client) Info() disk.Info {
	return disk.Info{Format: "raw", VirtualBytes: c.size, SectorBytes: 512, Clean: true}
}

// ReadOnly tells whether the server takes no writes.
func (c *Client) ReadOnly() bool { return c.flags&readOnly != 0 }

// Close says good-bye and closes the connection.
func (c *Client) Close() error {
	c.mu.Lock()
	if c.lost == nil {
		_, _ = c.w.Write(encode(cmdDisconnect, 0, 0, 0, 0))
		_ = c.w.Flush()
	}
	c.mu.Unlock()
	if err := c.conn.Close(); !errors.Is(err, net.ErrClosed) { // the server may have been quicker
		return err
	}
	return nil
}

func encode(kind, flags uint16, cookie uint64, offset int64, length uint32) []byte {
	raw := binary.BigEndian.AppendUint32(make([]byte, 0, 28), magicRequest)
	raw = binary.BigEndian.AppendUint16(raw, flags)
	raw = binary.BigEndian.AppendUint16(raw, kind)
	raw = binary.BigEndian.AppendUint64(raw, cookie)
	raw = binary.BigEndian.AppendUint64(raw, uint64(offset))
	return binary.BigEndian.AppendUint32(raw, length)
}

// do sends a request and waits for its reply.
func (c *Client) do(kind uint16, offset int64, length uint32, data []byte, k *call) error {
	k.offset, k.done = offset, make(chan error, 1)
	c.mu.Lock()
	if c.lost != nil {
		c.mu.Unlock()
		return c.lost
	}
	c.cookie++
	c.pending[c.cookie] = k
	_, err := c.w.Write(encode(kind, 0, c.cookie, offset, length))
	if err == nil && data != nil {
		_, err = c.w.Write(data)
	}
	if err == nil {
		err = c.w.Flush()
	}
	c.mu.Unlock()
	if err != nil {
		c.conn.Close() // receive tells all who wait
	}
	return <-k.done
}

// ReadAt reads guest bytes.
func (c *Client) ReadAt(p []byte, off int64) (int, error) {
	if off >= c.size {
		return 0, io.EOF
	}
	n := int(min(int64(len(p)), c.size-off))
	for done := 0; done < n; {
		part := p[done:min(n, done+maxRequest)]
		if err := c.do(cmdRead, off+int64(done), uint32(len(part)), nil, &call{into: part}); err != nil {
			return done, err
		}
		done += len(part)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

// Map tells of data and holes; without block status all is data.
func (c *Client) Map(off int64) (disk.Range, error) {
	if off < 0 || off >= c.size {
		return disk.Range{}, disk.ErrRange
	}
	if !c.status {
		return disk.Range{Offset: off, Length: c.size - off, Kind: disk.Data}, nil
	}
	c.known.Lock()
	defer c.known.Unlock()
	for range 2 {
		for _, r := range c.known.ranges {
			if off >= r.Offset && off < r.End() {
				return disk.Range{Offset: off, Length: r.End() - off, Kind: r.Kind}, nil
			}
		}
		const most = 1<<32 - preferredSize
		k := &call{}
		if err := c.do(cmdBlockStatus, off, uint32(min(most, c.size-off)), nil, k); err != nil {
			return disk.Range{}, err
		}
		c.known.ranges = k.status
	}
	return disk.Range{}, fmt.Errorf("%w: block status says nothing of byte %d", ErrProtocol, off)
}

// WriteAt writes guest bytes.
func (c *Client) WriteAt(p []byte, off int64) (int, error) {
	for done := 0; done < len(p); {
		part := p[done:min(len(p), done+maxRequest)]
		if err := c.do(cmdWrite, off+int64(done), uint32(len(part)), part, &call{}); err != nil {
			return done, err
		}
		done += len(part)
	}
	return len(p), nil
}

// Zero makes a run read as zeros; punch allows to give its room back.
func (c *Client) Zero(off, length int64, punch bool) error {
	kind := uint16(cmdWriteZeroes)
	if punch && c.flags&sendWriteZeroes == 0 {
		kind = cmdTrim
	}
	for length > 0 {
		n := min(length, 1<<31)
		if err := c.do(kind, off, uint32(n), nil, &call{}); err != nil {
			return err
		}
		off, length = off+n, length-n
	}
	return nil
}

// Sync returns when all that was written is safe.
func (c *Client) Sync() error { return c.do(cmdFlush, 0, 0, nil, &call{}) }

// receive hands replies to those who wait, until the connection ends.
func (c *Client) receive() {
	err := c.replies()
	if err == io.EOF || errors.Is(err, net.ErrClosed) {
		err = ErrLost
	} else if !errors.Is(err, ErrProtocol) {
		err = fmt.Errorf("%w: %v", ErrLost, err)
	}
	c.conn.Close()
	c.mu.Lock()
	defer c.mu.Unlock()
	c.lost = err
	for cookie, k := range c.pending {
		k.done <- err
		delete(c.pending, cookie)
	}
}

func (c *Client) waiting(cookie uint64) (*call, error) {
	c.mu.Lock()
	defer c.mu.Unlock()
	k := c.pending[cookie]
	if k == nil {
		return nil, fmt.Errorf("%w: a reply to no request", ErrProtocol)
	}
	return k, nil
}

func (c *Client) finish(cookie uint64, k *call, err error) {
	c.mu.Lock()
	delete(c.pending, cookie)
	c.mu.Unlock()
	k.done <- err
}

func (c *Client) replies() error {
	failed := map[uint64]error{} // of replies whose last chunk is still to come
	for {
		magic, err := readUint32(c.r)
		if err != nil {
			return err
		}
		switch {
		case magic == magicSimple:
			err = c.simpleReply()
		case magic == magicChunk && c.structured:
			err = c.chunk(failed)
		default:
			err = fmt.Errorf("%w: a reply begins with %#x", ErrProtocol, magic)
		}
		if err != nil {
			return err
		}
	}
}

func (c *Client) simpleReply() error {
	number, err := readUint32(c.r)
	if err != nil {
		return err
	}
	cookie, err := readUint64(c.r)
	if err != nil {
		return err
	}
	k, err := c.waiting(cookie)
	if err != nil {
		return err
	}
	var failure error
	if number != 0 {
		failure = &Error{Number: errnoOf(number)}
	} else if len(k.into) > 0 {
		if _, err := io.ReadFull(c.r, k.into); err != nil {
			return err
		}
	}
	c.finish(cookie, k, failure)
	return nil
}

// chunk reads one part of a structured reply.
func (c *Client) chunk(failed map[uint64]error) error {
	var head [16]byte
	if _, err := io.ReadFull(c.r, head[:]); err != nil {
		return err
	}
	be := binary.BigEndian
	flags, kind, cookie, length := be.Uint16(head[:]), be.Uint16(head[2:]), be.Uint64(head[4:]), be.Uint32(head[12:])
	k, err := c.waiting(cookie)
	if err != nil {
		return err
	}
	if length > maxRequest+64 {
		return fmt.Errorf("%w: a chunk of %d bytes", ErrProtocol, length)
	}
	switch {
	case kind == chunkNone:
		_, err = io.CopyN(io.Discard, c.r, int64(length))
	case kind == chunkData && length >= 8:
		err = c.data(k, length-8)
	case kind == chunkHole && length == 12:
		err = c.hole(k)
	case kind == chunkStatus && length >= 12 && length%8 == 4:
		err = c.extents(k, length)
	case kind&(1<<15) != 0 && length >= 6:
		body := make([]byte, length)
		if _, err = io.ReadFull(c.r, body); err == nil {
			n := min(int(be.Uint16(body[4:])), len(body)-6)
			failed[cookie] = &Error{errnoOf(be.Uint32(body)), string(body[6 : 6+n])}
		}
	default:
		err = fmt.Errorf("%w: a chunk of type %d and %d bytes", ErrProtocol, kind, length)
	}
	if err != nil {
		return err
	}
	if flags&flagDone != 0 {
		failure := failed[cookie]
		delete(failed, cookie)
		c.finish(cookie, k, failure)
	}
	return nil
}

// place finds where in a read's buffer n bytes of a chunk go.
func (c *Client) place(k *call, n uint32) ([]byte, error) {
	offset, err := readUint64(c.r)
	if err != nil {
		return nil, err
	}
	from := int64(offset) - k.offset
	if from < 0 || from+int64(n) > int64(len(k.into)) {
		return nil, fmt.Errorf("%w: data for byte %d was not asked for", ErrProtocol, offset)
	}
	return k.into[from : from+int64(n)], nil
}

func (c *Client) data(k *call, n uint32) error {
	p, err := c.place(k, n)
	if err == nil {
		_, err = io.ReadFull(c.r, p)
	}
	return err
}

func (c *Client) hole(k *call) error {
	// Its length follows the offset, so the place is checked afterwards.
	var raw [12]byte
	if _, err := io.ReadFull(c.r, raw[:]); err != nil {
		return err
	}
	from, n := int64(binary.BigEndian.Uint64(raw[:]))-k.offset, int64(binary.BigEndian.Uint32(raw[8:]))
	if from < 0 || from+n > int64(len(k.into)) {
		return fmt.Errorf("%w: a hole at byte %d was not asked for", ErrProtocol, from+k.offset)
	}
	clear(k.into[from : from+n])
	return nil
}

func (c *Client) extents(k *call, length uint32) error {
	body := make([]byte, length)
	if _, err := io.ReadFull(c.r, body); err != nil {
		return err
	}
	off := k.offset
	for at := 4; at < len(body); at += 8 {
		n, flags := int64(binary.BigEndian.Uint32(body[at:])), binary.BigEndian.Uint32(body[at+4:])
		if n == 0 || n > c.size-off {
			return fmt.Errorf("%w: an extent of %d bytes at byte %d", ErrProtocol, n, off)
		}
		kind := disk.Data
		switch {
		case flags&statusZero != 0:
			kind = disk.Zero
		case flags&statusHole != 0 && c.layer:
			kind = disk.Parent
		}
		k.status = append(k.status, disk.Range{Offset: off, Length: n, Kind: kind})
		off += n
	}
	return nil
}
