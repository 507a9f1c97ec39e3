package foreign

import (
	"context"
	"net/url"

	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

// Source is the image that was made of a disk.
func (p *place) Source(ctx context.Context, s *away.Step, disk string) (*away.Source, error) {
	web, err := p.webDisk(ctx, s, disk, plan.KindTakeImages)
	return &away.Source{Web: web}, err
}

// Target is the image that room was made for.
func (p *place) Target(ctx context.Context, s *away.Step, disk string) (*hostlink.WebDisk, error) {
	return p.webDisk(ctx, s, disk, plan.KindMakeRoom)
}

// webDisk is where an agent reads, or writes, the image of a disk. kind is that of the step that had it made.
func (p *place) webDisk(ctx context.Context, s *away.Step, disk, kind string) (*hostlink.WebDisk, error) {
	client, err := p.client(p.m)
	if err != nil {
		return nil, err
	}
	t, err := inventory.ResultOf[plan.Taken](s.Job, s.Step.Part, kind)
	if err != nil {
		return nil, err
	}
	image, err := cimi.Get[cimi.VolumeImage](ctx, client, t.Images[disk])
	if err != nil {
		return nil, err
	}
	at := image.Can(cimi.RelUpload)
	if kind == plan.KindTakeImages {
		if image.ImageLocation == nil {
			return nil, &away.Failure{Code: "manager.rights", Message: p.m.Name + " does not hand out the image"}
		}
		at = image.ImageLocation.Href
	}
	address, err := url.Parse(p.m.Address)
	if err != nil {
		return nil, err
	}
	web := &hostlink.WebDisk{Certificate: p.m.Certificate, Manager: address.Hostname(),
		Change: image.RelatedImage != nil}
	web.URL, err = client.Absolute(at)
	return web, err
}
