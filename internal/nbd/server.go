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
	"syscall"

	"unvora.example/unvora/core/disk"
)

// Writer is what a disk needs so that clients may write to it.
type Writer interface {
	io.WriterAt
	// Zero makes a run read as zeros; punch allows to give its room back.
	Zero(off, length int64, punch bool) error
	Sync() error
}

// Export is a disk that is served.
type Export struct {
	Image  disk.Image
	Layer  bool   // Image is a layer by itself: what is its parent's is told as a hole that does not read as zeros
	Writer Writer // nil: read-only
	Close  func() // called when the connection has ended; may be nil
}

// Server serves disks, one to a connection.
type Server struct {
	// TLS, when set, is demanded: clients have to send STARTTLS before anything
	// else. Leave it nil for connections that are encrypted already.
	TLS *tls.Config
	// Find opens the export that a client asks for by name; conn is the
	// connection, a *tls.Conn where it is encrypted.
	Find func(ctx context.Context, name string, conn net.Conn) (*Export, error)
	// Names are listed for clients that ask; nil lists nothing.
	Names func() []string
}

// session is one connection.
type session struct {
	*Server
	ctx        context.Context
	raw        net.Conn // as it was opened
	conn       net.Conn
	r          *bufio.Reader
	export     *Export
	size       int64
	structured bool
	status     bool // base:allocation was agreed on
	noZeroes   bool
	encrypted  bool // by STARTTLS

	writing sync.Mutex
	w       *bufio.Writer
}

// requestsAtOnce is how many requests of a connection are worked on at a time.
const requestsAtOnce = 16

// Serve talks to one client until it leaves, ctx ends, or it breaks the
// protocol. It closes conn.
func (s *Server) Serve(ctx context.Context, conn net.Conn) error {
	c := &session{Server: s, ctx: ctx}
	c.use(conn)
	stop := context.AfterFunc(ctx, func() { conn.Close() })
	defer stop()
	defer func() { c.conn.Close() }()
	err := c.negotiate()
	if c.export != nil {
		if c.export.Close != nil {
			defer c.export.Close()
		}
		if err == nil {
			err = c.transmit()
		}
	}
	if errors.Is(err, errLeft) || ctx.Err() != nil {
		return nil
	}
	return err
}

// errLeft says that the client has ended the conversation, as it may.
var errLeft = errors.New("the client has left")

func (c *session) use(conn net.Conn) {
	c.raw, c.conn = conn, bounded{conn}
	c.r, c.w = bufio.NewReaderSize(c.conn, 64<<10), bufio.NewWriterSize(c.conn, 64<<10)
}

func (c *session) negotiate() error {
	hello := binary.BigEndian.AppendUint64(nil, magicInit)
	hello = binary.BigEndian.AppendUint64(hello, magicOption)
	hello = binary.BigEndian.AppendUint16(hello, flagFixed|flagNoZeroes)
	if _, err := c.conn.Write(hello); err != nil {
		return err
	}
	flags, err := readUint32(c.r)
	if err != nil {
		return err
	}
	if flags&^(flagFixed|flagNoZeroes) != 0 || flags&flagFixed == 0 {
		return fmt.Errorf("%w: client flags %#x", ErrProtocol, flags)
	}
	c.noZeroes = flags&flagNoZeroes != 0
	for c.export == nil {
		if err := c.option(); err != nil {
			return err
		}
	}
	return nil
}

func (c *session) reply(option, kind uint32, data []byte) error {
	raw := binary.BigEndian.AppendUint64(nil, magicReply)
	raw = binary.BigEndian.AppendUint32(raw, option)
	raw = binary.BigEndian.AppendUint32(raw, kind)
	raw = binary.BigEndian.AppendUint32(raw, uint32(len(data)))
	_, err := c.conn.Write(append(raw, data...))
	return err
}

// option answers one option; after EXPORT_NAME or GO the export is set.
func (c *session) option() error {
	if err := expect(c.r, magicOption, "the start of an option"); err != nil {
		return err
	}
	option, err := readUint32(c.r)
	if err != nil {
		return err
	}
	length, err := readUint32(c.r)
	if err != nil {
		return err
	}
	if length > maxOption {
		return fmt.Errorf("%w: an option of %d bytes", ErrProtocol, length)
	}
	data := make([]byte, length)
	if _, err := io.ReadFull(c.r, data); err != nil {
		return err
	}
	if c.TLS != nil && !c.encrypted && option != optStartTLS && option != optAbort {
		if option == optExportName {
			return fmt.Errorf("%w: TLS is demanded", ErrProtocol) // this option can't be answered with an error
		}
		return c.reply(option, errTLSNeeded, nil)
	}
	switch option {
	case optExportName:
		return c.exportName(string(data))
	case optAbort:
		_ = c.reply(option, repAck, nil)
		return errLeft
	case optList:
		return c.list(data)
	case optStartTLS:
		return c.startTLS(data)
	case optInfo, optGo:
		return c.info(option, data)
	case optStructured:
		if length > 0 {
			return c.reply(option, errInvalid, nil)
		}
		c.structured = true
		return c.reply(option, repAck, nil)
	case optListContexts, optSetContexts:
		return c.contexts(option, data)
	}
	return c.reply(option, errUnsup, nil)
}

func (c *session) startTLS(data []byte) error {
	if c.encrypted || c.TLS == nil {
		return c.reply(optStartTLS, errPolicy, nil)
	}
	if len(data) > 0 {
		return c.reply(optStartTLS, errInvalid, nil)
	}
	if err := c.reply(optStartTLS, repAck, nil); err != nil {
		return err
	}
	if c.r.Buffered() > 0 {
		return fmt.Errorf("%w: bytes before the TLS handshake", ErrProtocol)
	}
	conn := tls.Server(c.raw, c.TLS)
	if err := conn.HandshakeContext(c.ctx); err != nil {
		return err
	}
	c.encrypted = true
	c.structured, c.status = false, false // what was agreed on unencrypted does not count
	c.use(conn)
	return nil
}

func (c *session) list(data []byte) error {
	if len(data) > 0 {
		return c.reply(optList, errInvalid, nil)
	}
	if c.Names == nil {
		return c.reply(optList, errPolicy, nil)
	}
	for _, name := range c.Names() {
		if err := c.reply(optList, repServer, append(binary.BigEndian.AppendUint32(nil, uint32(len(name))),
			name...)); err != nil {
			return err
		}
	}
	return c.reply(optList, repAck, nil)
}

func (c *session) open(name string) (*Export, error) {
	e, err := c.Find(c.ctx, name, c.raw)
	if err == nil && e.Image.Info().VirtualBytes < 0 {
		err = ErrRefused
	}
	return e, err
}

func (c *session) flags(e *Export) uint16 {
	flags := uint16(hasFlags | canMultiConn)
	if e.Writer == nil {
		return flags | readOnly
	}
	return flags | sendFlush | sendTrim | sendWriteZeroes
}

func (c *session) exportName(name string) error {
	e, err := c.open(name)
	if err != nil {
		return fmt.Errorf("export %q: %w", name, err) // the protocol knows no error here
	}
	c.export, c.size = e, e.Image.Info().VirtualBytes
	raw := binary.BigEndian.AppendUint64(nil, uint64(c.size))
	raw = binary.BigEndian.AppendUint16(raw, c.flags(e))
	if !c.noZeroes {
		raw = append(raw, make([]byte, 124)...)
	}
	_, err = c.conn.Write(raw)
	return err
}

func (c *session) info(option uint32, data []byte) error {
	if len(data) < 6 || uint32(len(data)-6) < binary.BigEndian.Uint32(data) {
		return c.reply(option, errInvalid, nil)
	}
	n := binary.BigEndian.Uint32(data)
	if n > maxName {
		return c.reply(option, errTooBig, nil)
	}
	if option == optInfo {
		// What is served works once: a look would use it up.
		return c.reply(option, errPolicy, []byte("names work once; go ahead with GO"))
	}
	e, err := c.open(string(data[4 : 4+n]))
	if err != nil {
		return c.reply(option, errUnknown, []byte(err.Error()))
	}
	size := e.Image.Info().VirtualBytes
	raw := binary.BigEndian.AppendUint16(nil, infoExport)
	raw = binary.BigEndian.AppendUint64(raw, uint64(size))
	raw = binary.BigEndian.AppendUint16(raw, c.flags(e))
	blocks := binary.BigEndian.AppendUint16(nil, infoBlockSize)
	blocks = binary.BigEndian.AppendUint32(blocks, 1)
	blocks = binary.BigEndian.AppendUint32(blocks, preferredSize)
	blocks = binary.BigEndian.AppendUint32(blocks, maxRequest)
	c.export, c.size = e, size // closed by Serve, whatever comes
	for _, part := range [][]byte{raw, blocks} {
		if err := c.reply(option, repInfo, part); err != nil {
			return err
		}
	}
	return c.reply(option, repAck, nil)
}

// contexts agrees on base:allocation, the only metadata context there is.
func (c *session) contexts(option uint32, data []byte) error {
	if option == optSetContexts && !c.structured {
		return c.reply(option, errInvalid, nil)
	}
	next := func() (string, bool) {
		if len(data) < 4 {
			return "", false
		}
		n := binary.BigEndian.Uint32(data)
		if n > maxName || int(n) > len(data)-4 {
			return "", false
		}
		s := string(data[4 : 4+n])
		data = data[4+n:]
		return s, true
	}
	_, ok := next() // the export's name: all have the same contexts
	if !ok || len(data) < 4 {
		return c.reply(option, errInvalid, nil)
	}
	count := binary.BigEndian.Uint32(data)
	data = data[4:]
	wanted := option == optListContexts && count == 0
	for range count {
		query, ok := next()
		if !ok {
			return c.reply(option, errInvalid, nil)
		}
		wanted = wanted || query == allocation || option == optListContexts && query == "base:"
	}
	if option == optSetContexts {
		c.status = wanted
	}
	if wanted {
		if err := c.reply(option, repContext, append(binary.BigEndian.AppendUint32(nil, allocationID),
			allocation...)); err != nil {
			return err
		}
	}
	return c.reply(option, repAck, nil)
}

// request is one command of a client.
type request struct {
	flags, kind uint16
	cookie      uint64
	offset      int64
	length      uint32
	data        []byte
}

var buffers = sync.Pool{New: func() any { b := make([]byte, 0, 1<<20); return &b }}

func (c *session) transmit() error {
	var wg sync.WaitGroup
	defer wg.Wait()
	slots := make(chan struct{}, requestsAtOnce)
	var head [28]byte
	for {
		if _, err := io.ReadFull(c.r, head[:]); err != nil {
			if err == io.EOF {
				return errLeft
			}
			return err
		}
		be := binary.BigEndian
		if got := be.Uint32(head[:]); got != magicRequest {
			return fmt.Errorf("%w: a request begins with %#x", ErrProtocol, got)
		}
		q := request{be.Uint16(head[4:]), be.Uint16(head[6:]), be.Uint64(head[8:]), int64(be.Uint64(head[16:])),
			be.Uint32(head[24:]), nil}
		if q.kind == cmdDisconnect {
			return errLeft
		}
		if q.kind == cmdWrite {
			if q.length > maxRequest {
				return fmt.Errorf("%w: a write of %d bytes", ErrProtocol, q.length)
			}
			q.data = make([]byte, q.length)
			if _, err := io.ReadFull(c.r, q.data); err != nil {
				return err
			}
		}
		slots <- struct{}{}
		wg.Go(func() {
			defer func() { <-slots }()
			if err := c.work(q); err != nil {
				c.conn.Close() // a reply that can't be sent ends the connection
			}
		})
	}
}

// work does one request and sends its reply.
func (c *session) work(q request) error {
	if q.offset < 0 || q.offset > c.size || int64(q.length) > c.size-q.offset {
		if q.kind != cmdFlush {
			return c.fail(q, &Error{syscall.EINVAL, fmt.Sprintf("bytes from %d on are beyond the end of the disk",
				q.offset)})
		}
	}
	var err error
	switch q.kind {
	case cmdRead:
		return c.read(q)
	case cmdBlockStatus:
		return c.blockStatus(q)
	case cmdFlush, cmdWrite, cmdTrim, cmdWriteZeroes:
		if c.export.Writer == nil {
			if q.kind == cmdFlush {
				return c.done(q)
			}
			return c.fail(q, &Error{syscall.EPERM, "the disk is served to be read only"})
		}
		err = c.write(q)
	default:
		err = &Error{syscall.EINVAL, fmt.Sprintf("unknown command %d", q.kind)}
	}
	if err != nil {
		return c.fail(q, err)
	}
	return c.done(q)
}

func (c *session) write(q request) error {
	w := c.export.Writer
	switch q.kind {
	case cmdWrite:
		_, err := w.WriteAt(q.data, q.offset)
		return err
	case cmdTrim:
		return w.Zero(q.offset, int64(q.length), true)
	case cmdWriteZeroes:
		const noHole = 1 << 1
		return w.Zero(q.offset, int64(q.length), q.flags&noHole == 0)
	}
	return w.Sync()
}

// send writes the parts of a reply as one.
func (c *session) send(parts ...[]byte) error {
	c.writing.Lock()
	defer c.writing.Unlock()
	for _, p := range parts {
		if _, err := c.w.Write(p); err != nil {
			return err
		}
	}
	return c.w.Flush()
}

func chunk(q request, flags, kind uint16, length int) []byte {
	raw := binary.BigEndian.AppendUint32(make([]byte, 0, 40), magicChunk)
	raw = binary.BigEndian.AppendUint16(raw, flags)
	raw = binary.BigEndian.AppendUint16(raw, kind)
	raw = binary.BigEndian.AppendUint64(raw, q.cookie)
	return binary.BigEndian.AppendUint32(raw, uint32(length))
}

func simple(q request, number uint32) []byte {
	raw := binary.BigEndian.AppendUint32(nil, magicSimple)
	raw = binary.BigEndian.AppendUint32(raw, number)
	return binary.BigEndian.AppendUint64(raw, q.cookie)
}

func (c *session) done(q request) error {
	if c.structured {
		return c.send(chunk(q, flagDone, chunkNone, 0))
	}
	return c.send(simple(q, 0))
}

func (c *session) fail(q request, err error) error {
	if !c.structured {
		return c.send(simple(q, numberOf(err)))
	}
	text := err.Error()
	text = text[:min(len(text), maxName)]
	raw := chunk(q, flagDone, chunkError, 6+len(text))
	raw = binary.BigEndian.AppendUint32(raw, numberOf(err))
	raw = binary.BigEndian.AppendUint16(raw, uint16(len(text)))
	return c.send(append(raw, text...))
}

// read sends data; where structured replies were agreed on, runs of zeros as holes.
func (c *session) read(q request) error {
	if q.length > maxRequest || q.length == 0 {
		return c.fail(q, &Error{syscall.EINVAL, fmt.Sprintf("a read of %d bytes", q.length)})
	}
	b := buffers.Get().(*[]byte)
	defer buffers.Put(b)
	if cap(*b) < int(q.length) {
		*b = make([]byte, q.length)
	}
	p := (*b)[:q.length]
	if n, err := c.export.Image.ReadAt(p, q.offset); n < len(p) {
		return c.fail(q, err)
	}
	be := binary.BigEndian
	switch {
	case !c.structured:
		return c.send(simple(q, 0), p)
	case disk.IsZero(p):
		raw := be.AppendUint64(chunk(q, flagDone, chunkHole, 12), uint64(q.offset))
		return c.send(be.AppendUint32(raw, q.length))
	}
	return c.send(be.AppendUint64(chunk(q, flagDone, chunkData, 8+len(p)), uint64(q.offset)), p)
}

func (c *session) blockStatus(q request) error {
	if !c.status || q.length == 0 {
		return c.fail(q, &Error{syscall.EINVAL, "block status was not agreed on"})
	}
	most := maxExtents
	if q.flags&flagReqOne != 0 {
		most = 1
	}
	raw := binary.BigEndian.AppendUint32(nil, allocationID)
	end := q.offset + int64(q.length)
	for off, n := q.offset, 0; off < end && n < most; n++ {
		r, err := c.export.Image.Map(off)
		if err != nil {
			return c.fail(q, err)
		}
		length := min(r.Length, end-off)
		var flags uint32
		switch {
		case r.Kind == disk.Parent && c.export.Layer:
			flags = statusHole
		case r.Kind != disk.Data:
			flags = statusHole | statusZero
		}
		raw = binary.BigEndian.AppendUint32(raw, uint32(length))
		raw = binary.BigEndian.AppendUint32(raw, flags)
		off += length
	}
	return c.send(chunk(q, flagDone, chunkStatus, len(raw)), raw)
}
