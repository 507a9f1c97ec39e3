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
	"path/filepath"
	"strings"
	"time"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
)

// atManager reaches a manager whose certificate is given.
// Its own host counts as named; where it redirects to, or says that an image is, is
// held to be anywhere.
func (a *Agent) atManager(web *hostlink.WebDisk) (*http.Client, error) {
	config, err := cimi.TLS(web.Certificate)
	if err != nil {
		return nil, err
	}
	return webClient(append([]string{web.Manager}, a.config.Web...), &http.Transport{TLSClientConfig: config}), nil
}

// openImage opens a manager's image, put onto what was fetched ahead where it
// holds only what has changed since.
func (a *Agent) openImage(ctx context.Context, p hostlink.CarryTask) (disk.Image, error) {
	client, err := a.atManager(p.Web)
	if err != nil {
		return nil, err
	}
	src, err := openWebSource(ctx, client, p.Web.URL)
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
	base, err := a.chain(p.Ahead)
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
	client, err := t.a.atManager(&p.To)
	if err != nil {
		return nil, err
	}
	c, err := t.a.chain(p.Source)
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
		if try == webTries {
			return err
		}
		select {
		case <-time.After(webPause):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// doUseAhead removes files that were fetched ahead, and their folder when it is empty.
func doUseAhead(_ context.Context, t *task) (any, error) {
	var p plan.UseAhead
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
		if err := t.a.removeIfThere(file); err != nil {
			return nil, err
		}
		dir := filepath.Dir(file)
		for range 3 { // the copy's, ahead, and the pool's working directory: those that are empty
			if t.a.door.Remove(dir) != nil {
				break
			}
			dir = filepath.Dir(dir)
		}
	}
	return nil, nil
}
