// Package nbd carries disks between computers: the network block device
// protocol, client and server, with TLS.
//
// Source: "The NBD protocol" (doc/proto.md of the nbd project): fixed newstyle
// negotiation, STARTTLS, INFO and GO, structured replies, the metadata context
// "base:allocation" for block status, and the commands read, write, flush,
// trim, write zeroes and block status. All numbers are big-endian.
//
// Clients that know only EXPORT_NAME are served too. The oldstyle negotiation
// and extended headers are not there.
package nbd

import (
	"encoding/binary"
	"errors"
	"fmt"
	"io"
	"syscall"
)

const (
	magicInit     = 0x4e42444d41474943 // "NBDMAGIC"
	magicOption   = 0x49484156454f5054 // "IHAVEOPT"
	magicReply    = 0x3e889045565a9
	magicRequest  = 0x25609513
	magicSimple   = 0x67446698
	magicChunk    = 0x668e33ef
	allocation    = "base:allocation"
	allocationID  = 1
	maxName       = 4096
	maxOption     = 64 << 10
	maxRequest    = 32 << 20 // bytes of a read or write
	preferredSize = 64 << 10
	maxExtents    = 8192 // of one block status reply

	flagFixed    = 1 << 0
	flagNoZeroes = 1 << 1

	optExportName   = 1
	optAbort        = 2
	optList         = 3
	optStartTLS     = 5
	optInfo         = 6
	optGo           = 7
	optStructured   = 8
	optListContexts = 9
	optSetContexts  = 10

	repAck       = 1
	repServer    = 2
	repInfo      = 3
	repContext   = 4
	repError     = 1 << 31
	errUnsup     = repError + 1
	errPolicy    = repError + 2
	errInvalid   = repError + 3
	errTLSNeeded = repError + 5
	errUnknown   = repError + 6
	errTooBig    = repError + 9

	infoExport    = 0
	infoBlockSize = 3

	hasFlags        = 1 << 0
	readOnly        = 1 << 1
	sendFlush       = 1 << 2
	sendTrim        = 1 << 5
	sendWriteZeroes = 1 << 6
	canMultiConn    = 1 << 8

	cmdRead        = 0
	cmdWrite       = 1
	cmdDisconnect  = 2
	cmdFlush       = 3
	cmdTrim        = 4
	cmdWriteZeroes = 6
	cmdBlockStatus = 7

	flagReqOne = 1 << 3 // of block status: one extent only
	flagDone   = 1 << 0 // of a chunk: the last of its reply

	chunkNone   = 0
	chunkData   = 1
	chunkHole   = 2
	chunkStatus = 5
	chunkError  = 1<<15 + 1
	chunkErrAt  = 1<<15 + 2

	statusHole = 1 << 0
	statusZero = 1 << 1
)

// Errors by which callers tell causes apart.
var (
	// ErrProtocol is returned when the other side breaks the protocol.
	ErrProtocol = errors.New("the other side breaks the NBD protocol")
	// ErrRefused is returned when the other side refuses an export or an option.
	ErrRefused = errors.New("refused by the other side")
	// ErrLost is returned for requests that a lost connection leaves unanswered.
	ErrLost = errors.New("the connection was lost")
)

// Error is what the server answers to a request that failed.
type Error struct {
	Number  syscall.Errno // of those that the protocol knows
	Message string
}

func (e *Error) Error() string {
	if e.Message == "" {
		return e.Number.Error()
	}
	return e.Message
}

func (e *Error) Unwrap() error { return e.Number }

// numbers are the errors that the protocol knows; all others travel as EIO.
var numbers = map[syscall.Errno]uint32{
	syscall.EPERM: 1, syscall.EIO: 5, syscall.ENOMEM: 12, syscall.EINVAL: 22, syscall.ENOSPC: 28,
	syscall.EOVERFLOW: 75, syscall.ENOTSUP: 95, syscall.ESHUTDOWN: 108,
}

func numberOf(err error) uint32 {
	for errno, n := range numbers {
		if errors.Is(err, errno) {
			return n
		}
	}
	return numbers[syscall.EIO]
}

func errnoOf(n uint32) syscall.Errno {
	for errno, m := range numbers {
		if n == m {
			return errno
		}
	}
	return syscall.EIO
}

func readUint64(r io.Reader) (uint64, error) {
	var raw [8]byte
	_, err := io.ReadFull(r, raw[:])
	return binary.BigEndian.Uint64(raw[:]), err
}

func readUint32(r io.Reader) (uint32, error) {
	var raw [4]byte
	_, err := io.ReadFull(r, raw[:])
	return binary.BigEndian.Uint32(raw[:]), err
}

func expect(r io.Reader, want uint64, what string) error {
	got, err := readUint64(r)
	if err == nil && got != want {
		err = fmt.Errorf("%w: %s is %#x, should be %#x", ErrProtocol, what, got, want)
	}
	return err
}
