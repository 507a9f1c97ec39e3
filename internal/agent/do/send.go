package do

import (
	"bytes"
	"context"
	"fmt"
	"io"
	"net/http"

	"github.com/cenkalti/backoff/v5"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
)

const sendBytes = 4 << 20 // at once

// doSend writes a disk, its whole chain applied, into an image at a manager: its data, piece by piece, each with its
// digest, and at last the sum of the whole.
func doSend(ctx context.Context, t *run) (any, error) {
	var p hostlink.SendTask
	if err := t.Params(&p); err != nil {
		return nil, err
	}
	if err := t.Within(p.Source); err != nil {
		return nil, err
	}
	letGo, err := t.KeepStill(ctx, p.Folder, readWhileRunning)
	if err != nil {
		return nil, err
	}
	defer letGo()
	client, err := t.atManager(&p.To)
	if err != nil {
		return nil, err
	}
	c, err := t.Chain(p.Source)
	if err != nil {
		return nil, err
	}
	defer c.Close()
	size := c.Info().VirtualBytes
	sum, sent := cimi.NewWhole(), int64(0)
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
			if err := t.Limit.Wait(ctx, int(n)); err != nil {
				return nil, err
			}
			if err := put(ctx, client, p.To.URL, part, at, size); err != nil {
				return nil, err
			}
			sent += n
			t.Progress(n)
		} else {
			clear(part)
		}
		sum.Write(part)
		at += n
	}
	head := http.Header{"Repr-Digest": {sum.Digest()}}
	if err := insist(ctx, client, http.MethodPost, p.To.URL, nil, head); err != nil {
		return nil, err
	}
	return hostlink.SendResult{Bytes: sent}, nil
}

func put(ctx context.Context, client *http.Client, url string, part []byte, at, size int64) error {
	return insist(ctx, client, http.MethodPut, url, part, http.Header{
		"Content-Digest": {cimi.ContentDigest(part)},
		"Content-Range":  {fmt.Sprintf("bytes %d-%d/%d", at, at+int64(len(part))-1, size)},
	})
}

// insist asks again after a cut; a refusal is an error at once.
func insist(ctx context.Context, client *http.Client, method, url string, body []byte, head http.Header) error {
	_, err := backoff.Retry(ctx, func() (struct{}, error) {
		req, err := http.NewRequestWithContext(ctx, method, url, bytes.NewReader(body))
		if err != nil {
			return struct{}{}, backoff.Permanent(err)
		}
		for k, v := range head {
			req.Header[k] = v
		}
		res, err := client.Do(req)
		if err != nil {
			return struct{}{}, err
		}
		said, _ := io.ReadAll(io.LimitReader(res.Body, 4<<10))
		res.Body.Close()
		switch {
		case res.StatusCode < 300:
			return struct{}{}, nil
		case res.StatusCode < 500:
			refused := ground.Refuse("manager.rights", "the manager refuses what is sent: %s %s", res.Status,
				bytes.TrimSpace(said))
			return struct{}{}, backoff.Permanent(refused)
		}
		return struct{}{}, fmt.Errorf("the manager answers %s", res.Status)
	}, webPatience()...)
	return err
}
