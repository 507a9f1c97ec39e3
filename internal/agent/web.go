package agent

import (
	"context"
	"fmt"
	"io"
	"net/http"
	"path"
	"strings"
	"time"

	"unvora.example/unvora/core/ovf"
)

// webFile is a file on a web server that answers requests for ranges (RFC 9110,
// section 14).
type webFile struct {
	ctx  context.Context
	url  string
	size int64
	etag string

	body io.ReadCloser // an answer that is being read, at byte at
	at   int64
}

func isWeb(path string) bool {
	return strings.HasPrefix(path, "http://") || strings.HasPrefix(path, "https://")
}

var web = &http.Client{Transport: &http.Transport{Proxy: http.ProxyFromEnvironment, ResponseHeaderTimeout: 30 * time.Second, IdleConnTimeout: time.Minute}}

// openWeb opens a package at an http(s) address. Only what is needed of it is read.
func openWeb(ctx context.Context, url string) (*ovf.Opened, error) {
	problem := func(format string, args ...any) error {
		return &ovf.Problem{Code: "package.unknown", Subject: url, Offset: -1, Message: fmt.Sprintf(format, args...)}
	}
	req, err := http.NewRequestWithContext(ctx, http.MethodHead, url, nil)
	if err != nil {
		return nil, problem("this is no address: %v", err)
	}
	res, err := web.Do(req)
	if err != nil {
		return nil, problem("it can't be fetched from here: %v", err)
	}
	res.Body.Close()
	switch {
	case res.StatusCode != http.StatusOK:
		return nil, problem("the server answers %s", res.Status)
	case res.ContentLength < 0 || res.Header.Get("Accept-Ranges") != "bytes":
		return nil, problem("the server does not hand out parts of a file: fetch it to your computer or a pool first, and bring it from there")
	}
	f := &webFile{ctx: ctx, url: url, size: res.ContentLength, etag: res.Header.Get("ETag")}
	return ovf.OpenSource(f, path.Base(url), f.close)
}

func (f *webFile) Size() int64 { return f.size }

// ReadAt goes on reading an answer that is at the right place, else asks anew.
func (f *webFile) ReadAt(p []byte, off int64) (int, error) {
	if off >= f.size {
		return 0, io.EOF
	}
	want := p[:min(int64(len(p)), f.size-off)]
	for try := 0; ; try++ {
		if f.body == nil || f.at != off {
			if err := f.ask(off); err != nil {
				return 0, err
			}
		}
		n, err := io.ReadFull(f.body, want)
		f.at += int64(n)
		if err == nil {
			if len(want) < len(p) {
				err = io.EOF
			}
			return n, err
		}
		f.close()
		if try == webTries || f.ctx.Err() != nil {
			return n, fmt.Errorf("%s at byte %d: %w", f.url, f.at, err)
		}
		time.Sleep(time.Second)
	}
}

const webTries = 10 // after a cut

func (f *webFile) ask(off int64) error {
	f.close()
	req, err := http.NewRequestWithContext(f.ctx, http.MethodGet, f.url, nil)
	if err != nil {
		return err
	}
	req.Header.Set("Range", fmt.Sprintf("bytes=%d-", off))
	if f.etag != "" {
		req.Header.Set("If-Match", f.etag)
	}
	res, err := web.Do(req)
	if err != nil {
		return err
	}
	if res.StatusCode != http.StatusPartialContent {
		res.Body.Close()
		if res.StatusCode == http.StatusPreconditionFailed {
			return &taskError{"manifest.mismatch", f.url + " has changed since it was looked at"}
		}
		return fmt.Errorf("%s: the server answers %s", f.url, res.Status)
	}
	f.body, f.at = res.Body, off
	return nil
}

func (f *webFile) close() error {
	if f.body == nil {
		return nil
	}
	err := f.body.Close()
	f.body = nil
	return err
}
