package agent

import (
	"bytes"
	"context"
	"crypto/sha256"
	"encoding/base64"
	"errors"
	"fmt"
	"io"
	"net/http"
	"os"
	"path/filepath"
	"strings"
	"sync"
	"time"

	"golang.org/x/sync/singleflight"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
)

// imageSource is an image file at a manager, read in pieces by requests for
// ranges (RFC 9110, section 14). Some pieces are kept, so that tables that are
// read again and again are asked for once. It may be read from several goroutines.
type imageSource struct {
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

// patience with a manager between two tries, and how many there are.
const (
	imagePause = time.Second
	imageTries = 30
)

func imageClient(certificate string) (*http.Client, error) {
	config, err := cimi.TLS(certificate)
	if err != nil {
		return nil, err
	}
	return &http.Client{Transport: &http.Transport{TLSClientConfig: config, Proxy: http.ProxyFromEnvironment, ResponseHeaderTimeout: 30 * time.Second, IdleConnTimeout: time.Minute}}, nil
}

func openImageSource(ctx context.Context, w *hostlink.WebDisk) (*imageSource, error) {
	client, err := imageClient(w.Certificate)
	if err != nil {
		return nil, err
	}
	s := &imageSource{ctx: ctx, http: client, url: w.URL, kept: map[int64][]byte{}}
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, w.URL, nil)
	if err != nil {
		return nil, err
	}
	res, err := client.Do(req)
	if err != nil {
		return nil, err
	}
	res.Body.Close()
	switch {
	case res.StatusCode != http.StatusOK:
		return nil, fmt.Errorf("the manager answers %s", res.Status)
	case res.ContentLength < 0 || res.Header.Get("Accept-Ranges") != "bytes":
		return nil, errors.New("the manager does not hand out parts of an image")
	}
	s.size, s.etag = res.ContentLength, res.Header.Get("ETag")
	return s, nil
}

func (s *imageSource) Size() int64 { return s.size }

func (s *imageSource) ReadAt(p []byte, off int64) (n int, err error) {
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

func (s *imageSource) piece(number int64) ([]byte, error) {
	s.mu.Lock()
	piece, follows := s.kept[number], s.kept[number-1] != nil
	for next := number + 1; follows && next <= number+readAhead && next*pieceBytes < s.size; next++ {
		if s.kept[next] == nil {
			go s.fetch(next) // an error comes up when the piece is wanted
		}
	}
	s.mu.Unlock()
	if piece != nil {
		return piece, nil
	}
	return s.fetch(number)
}

// fetch asks for a piece, once however many want it.
func (s *imageSource) fetch(number int64) ([]byte, error) {
	v, err, _ := s.once.Do(fmt.Sprint(number), func() (any, error) {
		var err error
		for try := 0; ; try++ {
			var piece []byte
			if piece, err = s.ask(number); err == nil {
				s.keep(number, piece)
				return piece, nil
			}
			var gone *taskError
			if errors.As(err, &gone) || try == imageTries {
				return nil, err
			}
			select {
			case <-time.After(imagePause):
			case <-s.ctx.Done():
				return nil, s.ctx.Err()
			}
		}
	})
	if err != nil {
		return nil, err
	}
	return v.([]byte), nil
}

func (s *imageSource) keep(number int64, piece []byte) {
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

func (s *imageSource) ask(number int64) ([]byte, error) {
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
		return nil, err
	}
	defer res.Body.Close()
	switch res.StatusCode {
	case http.StatusPartialContent:
	case http.StatusPreconditionFailed:
		return nil, &taskError{"disk.damaged", "the image at the manager has changed while it was read"}
	case http.StatusNotFound, http.StatusForbidden, http.StatusGone:
		return nil, &taskError{"disk.missing", "the image is no longer to be had from the manager: " + res.Status}
	default:
		return nil, fmt.Errorf("the manager answers %s", res.Status)
	}
	piece := make([]byte, to-from)
	_, err = io.ReadFull(res.Body, piece)
	return piece, err
}

// openImage opens a manager's image, put onto what was fetched ahead where it
// holds only what has changed since.
func (a *Agent) openImage(ctx context.Context, p hostlink.CarryTask) (disk.Image, error) {
	src, err := openImageSource(ctx, p.Web)
	if err != nil {
		return nil, err
	}
	img, err := formats.Open(src, nil)
	if err != nil {
		return nil, err
	}
	switch parent := img.Info().Parent; {
	case !p.Web.Change && parent != nil:
		return nil, &taskError{"disk.parent-missing", fmt.Sprintf("the image is a layer on %s, which was not fetched", parent.Path)}
	case !p.Web.Change:
		return img, nil
	}
	base, err := formats.OpenChain(p.Ahead, formats.Options{Allow: a.within})
	if err != nil {
		return nil, fmt.Errorf("what was fetched ahead: %w", err)
	}
	if base.Info().VirtualBytes != img.Info().VirtualBytes {
		return nil, errors.Join(&taskError{"disk.size-mismatch", fmt.Sprintf("the disk has %d bytes now, and had %d when it was fetched ahead: fetch it ahead anew", img.Info().VirtualBytes, base.Info().VirtualBytes)}, base.Close())
	}
	return disk.Chain(img, base), nil
}

const sendBytes = 4 << 20 // at once

// doSend writes a disk, its whole chain applied, into an image at a manager: its
// data, piece by piece, and at last the digest of the whole.
func doSend(ctx context.Context, t *task) (any, error) {
	var p hostlink.SendTask
	if err := t.params(&p); err != nil {
		return nil, err
	}
	if err := t.a.within(p.Source); err != nil {
		return nil, err
	}
	if t.a.driver.State(p.Folder) == "running" {
		return nil, &taskError{"state.running", "the machine runs; its disks change while they are read"}
	}
	client, err := imageClient(p.To.Certificate)
	if err != nil {
		return nil, err
	}
	c, err := formats.OpenChain(p.Source, formats.Options{Allow: t.a.within})
	if err != nil {
		return nil, err
	}
	defer c.Close()
	size := c.Info().VirtualBytes
	sum, sent := sha256.New(), int64(0)
	buf := make([]byte, sendBytes)
	for at := int64(0); at < size; {
		r, err := c.Map(at)
		if err != nil {
			return nil, err
		}
		n := min(r.Length, sendBytes, size-at)
		part := buf[:n]
		if r.Kind == disk.Data {
			if _, err := c.ReadAt(part, at); err != nil && err != io.EOF {
				return nil, err
			}
			if err := put(ctx, client, p.To.URL, part, at, size); err != nil {
				return nil, err
			}
			sent += n
			t.progress(n)
		} else {
			clear(part)
		}
		sum.Write(part)
		at += n
	}
	head := http.Header{"Repr-Digest": {"sha-256=:" + base64.StdEncoding.EncodeToString(sum.Sum(nil)) + ":"}}
	if err := insist(ctx, client, http.MethodPost, p.To.URL, nil, head); err != nil {
		return nil, err
	}
	return hostlink.SendResult{Bytes: sent}, nil
}

func put(ctx context.Context, client *http.Client, url string, part []byte, at, size int64) error {
	return insist(ctx, client, http.MethodPut, url, part, http.Header{"Content-Range": {fmt.Sprintf("bytes %d-%d/%d", at, at+int64(len(part))-1, size)}})
}

// insist asks again after a cut; a refusal is an error at once.
func insist(ctx context.Context, client *http.Client, method, url string, body []byte, head http.Header) error {
	for try := 0; ; try++ {
		req, err := http.NewRequestWithContext(ctx, method, url, bytes.NewReader(body))
		if err != nil {
			return err
		}
		for k, v := range head {
			req.Header[k] = v
		}
		res, err := client.Do(req)
		if err == nil {
			said, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
			res.Body.Close()
			switch {
			case res.StatusCode < 300:
				return nil
			case res.StatusCode < 500:
				return &taskError{"manager.rights", fmt.Sprintf("the manager refuses what is sent: %s %s", res.Status, bytes.TrimSpace(said))}
			}
			err = fmt.Errorf("the manager answers %s", res.Status)
		}
		if try == imageTries {
			return err
		}
		select {
		case <-time.After(imagePause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// doUseAhead removes files that were fetched ahead, and their folder when it is empty.
func doUseAhead(_ context.Context, t *task) (any, error) {
	var p plan.NoteAhead
	if err := t.params(&p); err != nil {
		return nil, err
	}
	for _, file := range p.Files {
		if err := t.a.within(file); err != nil {
			return nil, err
		}
		if !strings.Contains(file, "/"+workDir+"/ahead/") {
			return nil, fmt.Errorf("%s was not fetched ahead", file)
		}
		if err := removeIfThere(file); err != nil {
			return nil, err
		}
		dir := filepath.Dir(file)
		for range 3 { // the copy's, ahead, and the pool's working directory: those that are empty
			if os.Remove(dir) != nil {
				break
			}
			dir = filepath.Dir(dir)
		}
	}
	return nil, nil
}
