package do

import (
	"context"
	"errors"
	"fmt"
	"io"
	"net/http"
	"path"
	"strings"
	"sync"
	"time"

	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sync/singleflight"

	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/internal/agent/ground"
)

// IsWeb tells an address on the web from a path.
func IsWeb(path string) bool {
	return strings.HasPrefix(path, "http://") || strings.HasPrefix(path, "https://")
}

// openWeb opens a package at an http(s) address. Only what is needed of it is
// read; once it is closed, nothing is asked for any more.
func (w *Worker) openWeb(ctx context.Context, url string) (*ovf.Opened, error) {
	ctx, stop := context.WithCancel(ctx)
	src, err := openWebSource(ctx, webClient(w.Config.Web, &http.Transport{}), url)
	if err != nil {
		stop()
		var refused *ground.Refusal
		if errors.As(err, &refused) {
			return nil, refused
		}
		if errors.Is(err, errNoParts) {
			err = fmt.Errorf("%w: fetch it to your computer or a pool first, and bring it from there", err)
		}
		return nil, &ovf.Problem{Code: "package.unknown", Subject: url, Offset: -1, Message: err.Error()}
	}
	return ovf.OpenSource(src, path.Base(url), func() error { stop(); return nil })
}

// webSource is a file on a web server, read in pieces by requests for ranges
// (RFC 9110, section 14). Some pieces are kept, so that tables that are
// read again and again are asked for once. It may be read from several goroutines.
type webSource struct {
	ctx  context.Context
	http *http.Client
	url  string
	size int64
	etag string

	once  singleflight.Group
	mu    sync.Mutex
	kept  map[int64][]byte
	order []int64
}

const (
	pieceBytes = 2 << 20
	mostPieces = 24
	readAhead  = 3 // pieces, once two that follow each other were wanted
)

// Patience with a server between two tries, and how many there are.
const (
	webPause = time.Second
	webTries = 30
)

// errNoParts is returned for a server that does not answer requests for ranges.
var errNoParts = errors.New("the server does not hand out parts of a file")

func openWebSource(ctx context.Context, client *http.Client, url string) (*webSource, error) {
	s := &webSource{ctx: ctx, http: client, url: url, kept: map[int64][]byte{}}
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, url, nil)
	if err != nil {
		return nil, fmt.Errorf("this is no address: %w", err)
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, webError(err)
	}
	res.Body.Close()
	switch {
	case res.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("the server answers %s", res.Status)
	case res.ContentLength < 0 || res.Header.Get("Accept-Ranges") != "bytes":
		return nil, errNoParts
	}
	s.size, s.etag = res.ContentLength, res.Header.Get("ETag")
	return s, nil
}

func (s *webSource) Size() int64 { return s.size }

func (s *webSource) ReadAt(p []byte, off int64) (n int, err error) {
	for n < len(p) && off < s.size {
		piece, err := s.piece(off / pieceBytes)
		if err != nil {
			return n, err
		}
		k := copy(p[n:], piece[off%pieceBytes:])
		n, off = n+k, off+int64(k)
	}
	if n < len(p) {
		return n, io.EOF
	}
	return n, nil
}

func (s *webSource) piece(number int64) ([]byte, error) {
	s.mu.Lock()
	piece, follows := s.kept[number], s.kept[number-1] != nil
	for next := number + 1; follows && next <= number+readAhead && next*pieceBytes < s.size; next++ {
		if s.kept[next] == nil {
			go func() { _, _ = s.fetch(next) }() // an error comes up when the piece is wanted
		}
	}
	s.mu.Unlock()
	if piece != nil {
		return piece, nil
	}
	return s.fetch(number)
}

// fetch asks for a piece, once however many want it.
func (s *webSource) fetch(number int64) ([]byte, error) {
	v, err, _ := s.once.Do(fmt.Sprint(number), func() (any, error) {
		piece, err := backoff.Retry(s.ctx, func() ([]byte, error) {
			piece, err := s.ask(number)
			var gone *ground.Refusal
			if errors.As(err, &gone) {
				err = backoff.Permanent(err)
			}
			return piece, err
		}, webPatience()...)
		if err == nil {
			s.keep(number, piece)
		}
		return piece, err
	})
	if err != nil {
		return nil, err
	}
	return v.([]byte), nil
}

// webPatience is how a server is asked again after a cut.
func webPatience() []backoff.RetryOption {
	return []backoff.RetryOption{backoff.WithBackOff(backoff.NewConstantBackOff(webPause)),
		backoff.WithMaxTries(webTries)}
}

func (s *webSource) keep(number int64, piece []byte) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.kept[number] != nil {
		return
	}
	if len(s.order) == mostPieces {
		// The first piece holds the header, and what is read all the time.
		at := 0
		if s.order[0] == 0 {
			at = 1
		}
		delete(s.kept, s.order[at])
		s.order = append(s.order[:at], s.order[at+1:]...)
	}
	s.kept[number] = piece
	s.order = append(s.order, number)
}

func (s *webSource) ask(number int64) ([]byte, error) {
	req, err := http.NewRequestWithContext(s.ctx, http.MethodGet, s.url, nil)
	if err != nil {
		return nil, err
	}
	from := number * pieceBytes
	to := min(from+pieceBytes, s.size)
	req.Header.Set("Range", fmt.Sprintf("bytes=%d-%d", from, to-1))
	if s.etag != "" {
		req.Header.Set("If-Match", s.etag)
	}
	res, err := s.http.Do(req)
	if err != nil {
		return nil, webError(err)
	}
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusPartialContent:
	case http.StatusPreconditionFailed:
		return nil, ground.Refuse("manifest.mismatch", "%s", s.url+" has changed since it was looked at")
	case http.StatusNotFound, http.StatusForbidden, http.StatusGone:
		return nil, ground.Refuse("package.file-missing", "%s", s.url+" is no longer to be had: "+res.Status)
	default:
		return nil, fmt.Errorf("%s: the server answers %s", s.url, res.Status)
	}
	piece := make([]byte, to-from)
	_, err = io.ReadFull(res.Body, piece)
	return piece, err
}
