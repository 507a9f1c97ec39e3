package vhdx

import (
	"encoding/binary"
	"io"
	"math"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
)

// replayed is a file as it is after its log is applied.
type replayed struct {
	src     disk.Source
	pages   map[int64]page // by byte of the file, a multiple of 4 KiB
	zeros   []zeroed
	size    int64 // that the file has at least after the replay
	entries int
}

// page is a sector of the log that replaces one of the file.
type page struct {
	order    int
	leading  [8]byte
	trailing [4]byte
	at       int64 // of the data sector in the log
}

type zeroed struct {
	order      int
	start, end int64
}

func (r *replayed) Size() int64 { return max(r.size, r.src.Size()) }

func (r *replayed) ReadAt(p []byte, off int64) (int, error) {
	done := 0
	for done < len(p) {
		at := off + int64(done)
		if at >= r.Size() {
			return done, io.EOF
		}
		start := at &^ (logSector - 1)
		part := p[done:min(int64(len(p)), int64(done)+start+logSector-at, int64(done)+r.Size()-at)]
		pg, logged := r.pages[start]
		wiped := false
		for _, z := range r.zeros {
			wiped = wiped || z.start <= start && start < z.end && (!logged || z.order > pg.order)
		}
		switch {
		case wiped:
			clear(part)
		case logged:
			var sector [logSector]byte
			if _, err := r.src.ReadAt(sector[:], pg.at); err != nil {
				return done, err
			}
			copy(sector[:], pg.leading[:])
			copy(sector[logSector-4:], pg.trailing[:])
			copy(part, sector[at-start:])
		default:
			n, err := r.src.ReadAt(part, at)
			if err != nil && err != io.EOF {
				return done, err
			}
			clear(part[n:])
		}
		done += len(part)
	}
	return done, nil
}

// apply writes what the log holds to the file.
func (r *replayed) apply(f disk.File) error {
	buf := make([]byte, logSector)
	put := func(at int64) error {
		if _, err := r.ReadAt(buf, at); err != nil {
			return err
		}
		_, err := f.WriteAt(buf, at)
		return err
	}
	if f.Size() < r.size {
		if err := f.Truncate(r.size); err != nil {
			return err
		}
	}
	for _, z := range r.zeros {
		for at := z.start; at < min(z.end, f.Size()); at += logSector {
			if err := put(at); err != nil {
				return err
			}
		}
	}
	for at := range r.pages {
		if err := put(at); err != nil {
			return err
		}
	}
	return f.Sync()
}

// logEntry is one that is whole and bears the log's id.
type logEntry struct {
	at, length int64 // in the log
	sequence   uint64
	tail       int64
	count      int
	flushed    int64
	last       int64
}

// logReader reads the circular log.
type logReader struct {
	src        disk.Source
	at, length int64
	id         uuid.UUID
}

// read fills p from byte off of the log, wrapping around at its end.
func (l *logReader) read(p []byte, off int64) error {
	for len(p) > 0 {
		off %= l.length
		n := min(int64(len(p)), l.length-off)
		if _, err := l.src.ReadAt(p[:n], l.at+off); err != nil {
			return err
		}
		p, off = p[n:], off+n
	}
	return nil
}

// entry reads the entry at off; false: there is no valid one.
func (l *logReader) entry(off int64) (e logEntry, raw []byte, ok bool) {
	le := binary.LittleEndian
	head := make([]byte, logSector)
	if l.read(head, off) != nil || string(head[:4]) != "loge" || guid(head[32:]) != l.id {
		return e, nil, false
	}
	e = logEntry{at: off, length: int64(le.Uint32(head[8:])), tail: int64(le.Uint32(head[12:])),
		sequence: le.Uint64(head[16:]),
		count:    int(le.Uint32(head[24:])), flushed: int64(le.Uint64(head[48:])), last: int64(le.Uint64(head[56:]))}
	if e.length < logSector || e.length > l.length || e.length%logSector != 0 || e.tail%logSector != 0 ||
		e.tail >= l.length ||
		e.sequence == 0 || int64(e.count) > (e.length-64)/32 {
		return e, nil, false
	}
	raw = make([]byte, e.length)
	if l.read(raw, off) != nil || checksum(raw) != le.Uint32(raw[4:]) {
		return e, nil, false
	}
	return e, raw, true
}

// readLog finds the active sequence, as section 2.3.3 "Log Replay" has it: of
// all runs of entries with sequence numbers one after the other whose last
// entry's tail lies in the run, the one with the highest number.
func readLog(src disk.Source, h *header) (*replayed, error) {
	l := &logReader{src, h.logAt, int64(h.logLength), h.logID}
	if h.logVersion != 0 || l.length == 0 || l.length%mib != 0 || l.at < mib || l.at%mib != 0 ||
		l.at > src.Size()-l.length {
		return nil, disk.Damaged(h.at+68, "the log of %d bytes at byte %d does not lie in the file", h.logLength,
			h.logAt)
	}
	var best []logEntry
	// Entries follow each other, so the search goes on behind what it has seen.
	for start := int64(0); start < l.length; {
		first, _, ok := l.entry(start)
		if !ok {
			start += logSector
			continue
		}
		run := []logEntry{first}
		reached := first.length
		for {
			e, _, ok := l.entry((start + reached) % l.length)
			if !ok || e.sequence != run[len(run)-1].sequence+1 || reached+e.length > l.length {
				break
			}
			run = append(run, e)
			reached += e.length
		}
		head := run[len(run)-1]
		for n := range run {
			if run[n].at == head.tail && (best == nil || head.sequence > best[len(best)-1].sequence) {
				best = run[n:]
			}
		}
		start += reached
	}
	if best == nil {
		return nil, disk.Damaged(h.logAt, "the log has no whole sequence of entries to replay")
	}
	head := best[len(best)-1]
	if src.Size() < head.flushed {
		return nil, disk.Damaged(src.Size(), "the log counts on %d bytes of file: it was cut short", head.flushed)
	}
	r := &replayed{src: src, pages: map[int64]page{}, size: head.last, entries: len(best)}
	if r.size < 0 || r.size > src.Size()+MostBytes {
		return nil, disk.Damaged(h.logAt+head.at+56, "the log wants a file of %d bytes", r.size)
	}
	for _, e := range best {
		_, raw, ok := l.entry(e.at)
		if !ok {
			return nil, disk.Damaged(l.at+e.at, "the log changed while it was read")
		}
		if err := r.add(l, e, raw); err != nil {
			return nil, err
		}
	}
	return r, nil
}

// add notes what one entry wants written.
func (r *replayed) add(l *logReader, e logEntry, raw []byte) error {
	le := binary.LittleEndian
	data := (64 + 32*int64(e.count) + logSector - 1) / logSector * logSector
	order := len(r.pages) + len(r.zeros)
	for k := range e.count {
		d := raw[64+32*k:]
		where := l.at + (e.at+64+32*int64(k))%l.length
		off, sequence := int64(le.Uint64(d[16:])), le.Uint64(d[24:])
		if sequence != e.sequence || off < 0 || off%logSector != 0 {
			return disk.Damaged(where, "descriptor %d of a log entry is not of that entry", k)
		}
		order++
		switch string(d[:4]) {
		case "zero":
			length := int64(le.Uint64(d[8:]))
			if length < 0 || length%logSector != 0 || off > math.MaxInt64-length {
				return disk.Damaged(where, "the log wants %d bytes zeroed", length)
			}
			r.zeros = append(r.zeros, zeroed{order, off, off + length})
		case "desc":
			if data+logSector > e.length {
				return disk.Damaged(where, "the log entry has fewer data sectors than descriptors")
			}
			s := raw[data : data+logSector]
			if string(s[:4]) != "data" || le.Uint32(s[4:]) != uint32(e.sequence>>32) ||
				le.Uint32(s[logSector-4:]) != uint32(e.sequence) {
				return disk.Damaged(where, "data sector of the log is not of its entry")
			}
			p := page{order: order, at: l.at + (e.at+data)%l.length}
			copy(p.leading[:], d[8:16])
			copy(p.trailing[:], d[4:8])
			r.pages[off] = p
			data += logSector
		default:
			return disk.Damaged(where, "unknown descriptor in the log")
		}
	}
	return nil
}
