package work

import (
	"context"
	"crypto/sha256"
	"fmt"
	"io"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/draw"
)

// Wants is what a job waits for from the caller's computer.
type Wants struct {
	State inventory.JobState `json:"state"`          // of the job
	Need  *hostlink.Need     `json:"need,omitempty"` // bytes to send
	Give  *Give              `json:"give,omitempty"` // disks to fetch
	// Package is the SHA-256 of the descriptor of the package that is sent, in hex: who
	// takes a job up again has to bring the same.
	Package string `json:"package,omitempty"`
}

// Give is what a hand-out offers.
type Give struct {
	Disks []plan.PackDisk `json:"disks"`
	Name  string          `json:"name"`  // of the descriptor
	Room  int             `json:"room"`  // bytes that it will take
	Place string          `json:"place"` // HOST:PATH that the package is written to
	// algorithm of the digests of its manifest
	Digest string `json:"digest"`
}

// Wanted returns when the job needs something from the caller, or is over.
func (w *Work) Wanted(ctx context.Context, ref string, most time.Duration) (*Wants, error) {
	for until := time.Now().Add(most); ; {
		j, err := w.inv.Job(ctx, ref)
		if err != nil {
			return nil, err
		}
		if err := w.inv.HeardOfClient(ctx, j.ID); err != nil {
			return nil, err
		}
		wants := &Wants{State: j.State}
		if j.Over() || j.Cancel {
			return wants, nil
		}
		if s, agent, err := w.transferring(ctx, j); err == nil && s != nil {
			t, err := agent.Wait(ctx, s.TaskID(), min(time.Second, time.Until(until)))
			if err == nil && t.State == hostlink.TaskRunning && t.Needs != nil {
				if s.Kind == plan.KindFetchDisk {
					if wants.Package, err = w.expects(ctx, j); err != nil {
						return nil, err
					}
					wants.Need = t.Needs
					return wants, nil
				}
				do, err := inventory.DoOf[plan.Pack](s)
				if err != nil {
					return nil, err
				}
				raw, err := agent.Descriptor(ctx, s.TaskID(), nil)
				if err == nil {
					place, err := w.destination(ctx, j)
					if err != nil {
						return nil, err
					}
					wants.Give = &Give{Disks: do.AllDisks(), Name: do.Stem() + ".ovf", Room: len(raw), Place: place,
						Digest: do.Algorithm()}
					return wants, nil
				}
			}
		}
		if time.Now().After(until) {
			return wants, nil
		}
		select {
		case <-time.After(100 * time.Millisecond):
		case <-ctx.Done():
			return nil, ctx.Err()
		}
	}
}

// expects is the SHA-256 of the descriptor of the package that a job reads from the caller's computer, in hex; "" for
// none.
func (w *Work) expects(ctx context.Context, j *inventory.Job) (string, error) {
	raw, err := w.inv.RequestOf(ctx, j.ID.String())
	if err != nil {
		return "", err
	}
	req, err := draw.Parse(raw)
	if err != nil {
		return "", err
	}
	if r, ok := req.(*draw.Import); ok && r.Source != nil && r.Source.Upload != nil {
		return fmt.Sprintf("%x", sha256.Sum256([]byte(r.Source.Upload.Descriptor))), nil
	}
	return "", nil
}

// destination is where the caller's computer writes the package of a job; "" for none.
func (w *Work) destination(ctx context.Context, j *inventory.Job) (string, error) {
	raw, err := w.inv.RequestOf(ctx, j.ID.String())
	if err != nil {
		return "", err
	}
	req, err := draw.Parse(raw)
	if err != nil {
		return "", err
	}
	if r, ok := req.(*draw.Export); ok && r.Destination != nil {
		return r.Destination.Place, nil
	}
	return "", nil
}

// transferring finds the step at work that sends or receives; nil: none now.
func (w *Work) transferring(ctx context.Context, j *inventory.Job) (*inventory.Step, *hostlink.Host, error) {
	s := j.Next()
	if s == nil || s.State != inventory.StepWorking || s.Kind != plan.KindFetchDisk && s.Kind != plan.KindHandOut {
		return nil, nil, nil
	}
	h, err := w.inv.Host(ctx, s.HostID.String())
	if err != nil {
		return nil, nil, err
	}
	return s, w.hosts.Agent(h), nil
}

func (w *Work) need(ctx context.Context, ref string) (*inventory.Step, *hostlink.Host, error) {
	j, err := w.inv.Job(ctx, ref)
	if err != nil {
		return nil, nil, err
	}
	s, agent, err := w.transferring(ctx, j)
	if err == nil && s == nil {
		err = inventory.Refuse(inventory.CodeNotNow, "The job %s neither sends nor takes anything "+
			"now: it "+
			"is %s.", j.ID, j.State)
	}
	return s, agent, err
}

// Send passes bytes on to the task that needs them.
func (w *Work) Send(ctx context.Context, job string, offset int64, body io.Reader) error {
	s, agent, err := w.need(ctx, job)
	if err != nil {
		return err
	}
	return agent.Send(ctx, s.TaskID(), offset, &heard{ReadCloser: io.NopCloser(body), w: w, ctx: ctx, job: s.JobID})
}

// heard passes a stream on and notes that the caller's computer is there, as
// long as bytes move.
type heard struct {
	io.ReadCloser
	w    *Work
	ctx  context.Context
	job  uuid.UUID
	last time.Time
}

const hearEvery = 10 * time.Second

func (h *heard) Read(p []byte) (int, error) {
	n, err := h.ReadCloser.Read(p)
	if n > 0 && time.Since(h.last) > hearEvery {
		h.last = time.Now()
		if err := h.w.inv.HeardOfClient(h.ctx, h.job); err != nil && h.ctx.Err() == nil {
			h.w.log.Warn("note that a client is there", "job", h.job, "error", err)
		}
	}
	return n, err
}

// Disk opens a disk that the job hands out, from byte offset of its file on.
func (w *Work) Disk(ctx context.Context, job, disk string, offset int64) (io.ReadCloser, error) {
	s, agent, err := w.need(ctx, job)
	if err != nil {
		return nil, err
	}
	r, err := agent.Disk(ctx, s.TaskID(), disk, offset)
	if err != nil {
		return nil, err
	}
	return &heard{ReadCloser: r, w: w, ctx: ctx, job: s.JobID}, nil
}

// Package opens the whole package that the job hands out.
func (w *Work) Package(ctx context.Context, job string) (io.ReadCloser, string, error) {
	s, agent, err := w.need(ctx, job)
	if err != nil {
		return nil, "", err
	}
	do, err := inventory.DoOf[plan.Pack](s)
	if err != nil {
		return nil, "", err
	}
	r, err := agent.Package(ctx, s.TaskID())
	if err != nil {
		return nil, "", err
	}
	return &heard{ReadCloser: r, w: w, ctx: ctx, job: s.JobID}, do.Stem() + ".ova", nil
}

// Descriptor is that of the package, its disks being as the caller has them.
func (w *Work) Descriptor(ctx context.Context, job string, members []ovf.Member) ([]byte, error) {
	s, agent, err := w.need(ctx, job)
	if err != nil {
		return nil, err
	}
	return agent.Descriptor(ctx, s.TaskID(), members)
}

// HandedOut notes that the caller has the package.
func (w *Work) HandedOut(ctx context.Context, job string, bytes int64) error {
	s, agent, err := w.need(ctx, job)
	if err != nil {
		return err
	}
	if bytes <= 0 {
		return inventory.Wrong("A package has more than %d bytes.", bytes)
	}
	if err := agent.HandedOut(ctx, s.TaskID(), hostlink.PackResult{Bytes: bytes}); err != nil {
		return fmt.Errorf("end of the hand-out: %w", err)
	}
	return nil
}
