package do

import (
	"context"
	"errors"
	"fmt"
	"net/http"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
)

// atManager reaches a manager whose certificate is given.
// Its own host counts as named; where it redirects to, or says that an image is, is
// held to be anywhere.
func (w *Worker) atManager(web *hostlink.WebDisk) (*http.Client, error) {
	config, err := cimi.TLS(web.Certificate)
	if err != nil {
		return nil, err
	}
	return webClient(append([]string{web.Manager}, w.Config.Web...), &http.Transport{TLSClientConfig: config}), nil
}

// OpenImage opens a manager's image, put onto what was fetched ahead where it
// holds only what has changed since.
func (w *Worker) OpenImage(ctx context.Context, p hostlink.CarryTask) (disk.Image, error) {
	client, err := w.atManager(p.Web)
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
		return nil, ground.Refuse("disk.parent-missing", "the image is a layer on %s, which was not fetched",
			parent.Path)
	case !p.Web.Change:
		return img, nil
	}
	base, err := w.Chain(p.Ahead)
	if err != nil {
		return nil, fmt.Errorf("what was fetched ahead: %w", err)
	}
	if base.Info().VirtualBytes != img.Info().VirtualBytes {
		return nil, errors.Join(ground.Refuse("disk.size-mismatch",
			"the disk has %d bytes now, and had %d when it was fetched ahead: fetch it ahead anew",
			img.Info().VirtualBytes,
			base.Info().VirtualBytes), base.Close())
	}
	return disk.Chain(img, base), nil
}
