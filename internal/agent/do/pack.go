package do

import (
	"context"
	"crypto/sha256"
	"encoding"
	"encoding/hex"
	"errors"
	"fmt"
	"hash"
	"io"
	"os"
	"path/filepath"
	"slices"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
)

// pack writes a machine folder as a package.
type pack struct {
	hostlink.PackTask
	t    *run
	room int
	base func() (*ovf.Descriptor, error) // reads that of the folder anew

	letGo func() // the machine, which is kept still meanwhile
}

// close lets the machine go.
func (p *pack) close() {
	if p.letGo != nil {
		p.letGo()
	}
}

func newPack(ctx context.Context, t *run) (*pack, error) {
	p := &pack{t: t}
	if err := t.Params(&p.PackTask); err != nil {
		return nil, err
	}
	if ovf.NewHash(p.Algorithm()) == nil {
		return nil, &hostlink.Fault{Code: hostlink.FaultWrong, Message: fmt.Sprintf("there is no digest %q", p.Digest)}
	}
	if p.From != nil {
		raw, err := t.Dialer().Host(p.From.Host, p.From.Address).FolderDescriptor(ctx, p.From.Ticket)
		if err != nil {
			return nil, err
		}
		p.base = func() (*ovf.Descriptor, error) { return ovf.Parse(p.Folder, raw) }
	} else {
		if err := t.Within(p.Folder + "/x"); err != nil {
			return nil, err
		}
		if !p.Frozen {
			var err error
			if p.letGo, err = t.KeepStill(ctx, p.Folder, readWhileRunning); err != nil {
				return nil, err
			}
		}
		p.base = func() (*ovf.Descriptor, error) { return t.Descriptor(p.Folder) }
	}
	raw, err := p.descriptor(nil, 0)
	if err != nil {
		p.close()
		return nil, err
	}
	p.room = (len(raw) + 1024*(1+len(p.Disks)) + 4095) / 4096 * 4096 // sizes are still to come
	return p, nil
}

func (p *pack) descriptorName() string { return p.Name + ".ovf" }

// descriptor is that of the folder, with the package's files and passport.
func (p *pack) descriptor(members []ovf.Member, room int) ([]byte, error) {
	d, err := p.base()
	if err != nil {
		return nil, err
	}
	m := d.Machines[0].Clone()
	m.Passport = p.Passport
	m = p.Handing.Of(m)
	m.Disks = slices.DeleteFunc(m.Disks, func(d machine.Disk) bool { // of a snapshot from before it had them
		return !slices.ContainsFunc(p.Disks, func(pd plan.PackDisk) bool { return pd.ID == d.ID })
	})
	sizes := map[string]int64{}
	for _, f := range members {
		sizes[f.Name] = f.Size
	}
	for _, pd := range p.Disks {
		for i := range m.Disks {
			if m.Disks[i].ID == pd.ID {
				m.Disks[i].File, m.Disks[i].Format, m.Disks[i].FileBytes = pd.File, "vmdk", sizes[pd.File]
			}
		}
	}
	if err := d.SetMachine(0, m); err != nil {
		return nil, err
	}
	if p.Handing.Product != nil {
		if err := d.SetProduct(0, *p.Handing.Product); err != nil {
			return nil, err
		}
	}
	if p.OVF != "" {
		if err := d.SetVersion(p.OVF); err != nil {
			return nil, err
		}
	}
	return d.Encode(room)
}

// open opens a disk with its whole chain.
func (p *pack) open(ctx context.Context, pd plan.PackDisk) (disk.Image, error) {
	if p.From != nil {
		img, err := p.t.Dialer().OpenDisk(ctx, p.From.Host, p.From.Address, p.From.Ticket,
			hostlink.DiskRequest{Path: pd.Source})
		if err != nil {
			return nil, fmt.Errorf("open disk %s at the host that has it: %w", pd.ID, err)
		}
		return img, nil
	}
	img, err := p.t.Chain(pd.Source)
	if err != nil {
		return nil, fmt.Errorf("open disk %s: %w", pd.ID, err)
	}
	return img, nil
}

// spec of the new image. Its content id is decided by the copy and the disk, so
// that a try that goes on writes what the first one began.
func (p *pack) spec(pd plan.PackDisk, img disk.Image) disk.Spec {
	sum := sha256.Sum256([]byte(p.Passport.Copy + "/" + pd.ID))
	info := img.Info()
	id := info.ID
	if p.Handing.DropIdentity {
		id = uuid.NewSHA1(uuid.Nil, sum[:]).String()
	}
	return disk.Spec{VirtualBytes: info.VirtualBytes, ID: id, Linkage: hex.EncodeToString(sum[:4]), Name: pd.File}
}

// packJournal is what a pack needs to go on.
type packJournal struct {
	Members []ovf.Member `json:"members"`
	Guest   int64        `json:"guest"` // of the disk after them
	State   []byte       `json:"state"`
	Hash    []byte       `json:"hash"`
	Done    int64        `json:"done"`
}

func (p *pack) partFile() string {
	return filepath.Join(filepath.Dir(p.File), "."+filepath.Base(p.File)+"."+p.t.Job()+".part")
}

func doPack(ctx context.Context, t *run) (any, error) {
	p, err := newPack(ctx, t)
	if err != nil {
		return nil, err
	}
	defer p.close()
	if err := t.Within(p.File); err != nil {
		return nil, err
	}
	if o, err := t.Door.Package(p.File, ""); err == nil { // renamed before the agent was killed
		defer o.Close()
		if pp := o.Envelope.Machines[0].Passport; pp != nil && pp.Copy == p.Passport.Copy {
			st, err := t.Door.Stat(p.File)
			if err != nil {
				return nil, err
			}
			return hostlink.PackResult{Bytes: st.Size()}, nil
		}
	}
	file, err := t.Door.OpenFile(p.partFile(), os.O_RDWR|os.O_CREATE, ground.FileMode)
	if err != nil {
		return nil, err
	}
	defer file.Close()
	var j packJournal
	if _, err := t.Journal(&j); err != nil {
		return nil, err
	}
	t.Update(func(s *hostlink.Task) { s.Done = j.Done })
	w := ovf.NewWriter(file, p.descriptorName(), p.room, p.Passport.MadeAt, p.Algorithm(), j.Members)
	for _, pd := range p.Disks[len(j.Members):] {
		m, err := p.writeDisk(ctx, file, w.Begin(), pd, &j)
		if err != nil {
			return nil, err
		}
		if err := w.End(m); err != nil {
			return nil, err
		}
		j = packJournal{Members: w.Members(), Done: j.Done}
		if err := file.Sync(); err != nil {
			return nil, err
		}
		if err := t.Note(j); err != nil {
			return nil, err
		}
	}
	raw, err := p.descriptor(w.Members(), p.room)
	if err != nil {
		return nil, err
	}
	total, err := w.Finish(raw)
	if err == nil {
		err = errors.Join(file.Truncate(total), file.Sync())
	}
	if err != nil {
		return nil, err
	}
	if err := t.RenameNew(p.partFile(), p.File); err != nil {
		return nil, err
	}
	return hostlink.PackResult{Bytes: total, Members: w.Members()}, t.SyncDir(filepath.Dir(p.File))
}

func undoPack(ctx context.Context, t *run) error {
	p := &pack{t: t}
	if err := t.Params(&p.PackTask); err != nil {
		return err
	}
	if err := t.RemoveIfThere(p.partFile()); err != nil {
		return err
	}
	o, err := t.Door.Package(p.File, "")
	if err != nil {
		return nil
	}
	defer o.Close()
	if pp := o.Envelope.Machines[0].Passport; pp != nil && pp.Copy == p.Passport.Copy {
		return t.Door.Remove(p.File)
	}
	return nil
}

// hashed counts and digests what is written through it.
type hashed struct {
	w    io.Writer
	hash hash.Hash
}

func (h *hashed) Write(p []byte) (int, error) {
	n, err := h.w.Write(p)
	h.hash.Write(p[:n])
	return n, err
}

// writeDisk writes one disk at byte start of the package and goes on where the
// journal says.
func (p *pack) writeDisk(ctx context.Context, file *os.File, start int64, pd plan.PackDisk, j *packJournal) (ovf.Member,
	error) {
	img, err := p.open(ctx, pd)
	if err != nil {
		return ovf.Member{}, err
	}
	defer img.Close()
	size := img.Info().VirtualBytes
	out := &hashed{hash: ovf.NewHash(p.Algorithm())}
	var target *vmdk.StreamTarget
	if j.State != nil {
		at, err := vmdk.StreamLength(j.State)
		if err == nil {
			err = out.hash.(encoding.BinaryUnmarshaler).UnmarshalBinary(j.Hash)
		}
		if err != nil {
			return ovf.Member{}, err
		}
		out.w = io.NewOffsetWriter(file, start+at)
		target, err = vmdk.ResumeStream(out, size, j.State, file.Sync)
		if err != nil {
			return ovf.Member{}, err
		}
	} else {
		out.w = io.NewOffsetWriter(file, start)
		if target, err = vmdk.CreateStream(out, p.spec(pd, img), file.Sync); err != nil {
			return ovf.Member{}, err
		}
	}
	done := j.Done
	err = disk.Pump(ctx, target, disk.ImageFeed(img, j.Guest, target.BlockBytes()), disk.Options{
		Now:      time.Now,
		Limit:    p.t.Limit,
		Progress: func(n int64) { done += n; p.t.Progress(n) },
		Saved: func(off int64, state []byte, _ any) error {
			h, err := out.hash.(encoding.BinaryMarshaler).MarshalBinary()
			if err != nil {
				return err
			}
			return p.t.Note(packJournal{j.Members, off, state, h, done})
		},
	})
	if err != nil {
		return ovf.Member{}, err
	}
	if err := target.Finish(); err != nil {
		return ovf.Member{}, err
	}
	j.Done = done
	return ovf.Member{Name: pd.File, Size: target.Length(), Sum: hex.EncodeToString(out.hash.Sum(nil))}, nil
}
