package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"net/url"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"
	"github.com/jackc/pgx/v5"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// Steps on a manager's host are carried out here: nobody of ours is there.

// askAgain is how long it takes until a manager is asked again how far it is.
const askAgain = 500 * time.Millisecond

// taken is the result of a take-images or make-room step.
type taken struct {
	Images map[string]string `json:"images"` // disk → image
	Whole  map[string]bool   `json:"whole"`  // disks of which the manager could not tell the difference
}

// made is the result of a make-there step.
type made struct {
	Volumes map[string]string `json:"volumes"` // disk → volume
	Machine string            `json:"machine"`
}

// removed is the result of a remove-there step: what is to go along with the machine.
type removed struct {
	Volumes []string `json:"volumes"`
}

func (w *Work) managed(ctx context.Context, j *inventory.Job, s *inventory.Step, h *inventory.Host, again bool) (time.Duration, error) {
	m, err := w.inv.Manager(ctx, h.ManagerID.String())
	if err != nil {
		return 0, err
	}
	if m.Kind == inventory.ManagerUnvora {
		return w.atPeer(ctx, j, s, m)
	}
	client, err := w.client(m)
	if err != nil {
		return 0, err
	}
	f := &foreign{w, client, j, s, m, again}
	var pause time.Duration
	switch s.Kind {
	case plan.KindStop:
		pause, err = f.power(ctx, cimi.Stopped, cimi.RelStop)
	case plan.KindStart:
		pause, err = f.power(ctx, cimi.Started, cimi.RelStart)
	case plan.KindTakeImages:
		pause, err = f.takeImages(ctx)
	case plan.KindDropImages:
		err = f.dropImages(ctx)
	case plan.KindMakeRoom:
		err = f.makeRoom(ctx)
	case plan.KindMakeThere:
		err = f.makeThere(ctx)
	case plan.KindRemoveThere:
		err = f.removeThere(ctx)
	default:
		err = fmt.Errorf("nothing of the kind %s can be asked of a manager", s.Kind)
	}
	var refused *cimi.Refused
	if errors.As(err, &refused) {
		return 0, &failure{"manager.rights", fmt.Sprintf("%s refuses: %v", m.Name, refused)}
	}
	if err != nil || pause > 0 {
		return pause, err
	}
	s.State = "done"
	return 0, w.inv.UpdateStep(ctx, j.Epoch, s)
}

// foreign is a step at a foreign manager.
type foreign struct {
	w      *Work
	client *cimi.Client
	j      *inventory.Job
	s      *inventory.Step
	m      *inventory.Manager
	again  bool // it was begun before
}

// propFor marks what was made at a manager for a step, so that a second try finds
// what the first one made and could not note any more.
const propFor = "unvora-for"

// addOnce asks for a resource of a step; which tells it from the step's others.
// common is that of what is asked, once it is marked.
func addOnce[T cimi.Member](ctx context.Context, f *foreign, collection *cimi.Ref, common *cimi.Common, which string, what func() any) (*T, error) {
	mark := f.s.TaskID() + "." + which
	if f.again {
		there, err := cimi.Having[T](ctx, f.client, collection, propFor, mark)
		if err != nil {
			return nil, err
		}
		if len(there) > 0 {
			return &there[0], nil
		}
	}
	if common.Properties == nil {
		common.Properties = map[string]string{}
	}
	common.Properties[propFor] = mark
	return cimi.Add[T](ctx, f.client, collection.Href, what())
}

// dropMade removes what addOnce has made for the step.
func dropMade[T cimi.Member](ctx context.Context, f *foreign, collection *cimi.Ref, which ...string) error {
	var errs []error
	for _, w := range which {
		there, err := cimi.Having[T](ctx, f.client, collection, propFor, f.s.TaskID()+"."+w)
		errs = append(errs, err)
		for _, t := range there {
			errs = append(errs, f.client.Delete(ctx, t.Base().ID))
		}
	}
	return errors.Join(errs...)
}

// note keeps what the step has done so far, so that it is not done twice.
func (f *foreign) note(ctx context.Context, result any) error {
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	f.s.Result = raw
	return f.w.inv.UpdateStep(ctx, f.j.Epoch, f.s)
}

func (f *foreign) power(ctx context.Context, state, action string) (time.Duration, error) {
	do, err := decode[plan.Power](f.s)
	if err != nil {
		return 0, err
	}
	m, err := cimi.Get[cimi.Machine](ctx, f.client, do.Folder)
	if err != nil || m.State == state {
		return 0, err
	}
	if at := m.Can(action); at != "" {
		return f.w.askAgain, f.client.Act(ctx, at, action)
	}
	if strings.HasSuffix(m.State, "ING") { // on its way
		return f.w.askAgain, nil
	}
	return 0, &failure{"manager.rights", fmt.Sprintf("%s is %s at %s, and the account may not change that", m.Name, strings.ToLower(m.State), f.m.Name)}
}

// takeImages asks for an image of each volume and waits until all are there. An
// image that tells the difference is asked for where one was fetched before, and
// a whole one where the manager can't tell it any more.
func (f *foreign) takeImages(ctx context.Context) (time.Duration, error) {
	do, err := decode[plan.TakeImages](f.s)
	if err != nil {
		return 0, err
	}
	entry, _, err := f.client.EntryPoint(ctx)
	if err != nil {
		return 0, err
	}
	if entry.VolumeImages == nil {
		return 0, &failure{"manager.rights", f.m.Name + " has no images of volumes"}
	}
	t := taken{Images: map[string]string{}, Whole: map[string]bool{}}
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &t); err != nil {
			return 0, err
		}
	}
	for _, disk := range slices.Sorted(maps.Keys(do.Volumes)) {
		if t.Images[disk] != "" {
			continue
		}
		want := cimi.VolumeImage{ImageLocation: &cimi.Ref{Href: do.Volumes[disk]}}
		want.ResourceURI, want.Name = cimi.Namespace+"VolumeImage", fmt.Sprintf("%s, for %s", disk, f.j.ID)
		if since := do.Since[disk]; since != "" && !t.Whole[disk] {
			want.Kind, want.RelatedImage = cimi.PartialSnapshot, &cimi.Ref{Href: since}
		}
		image, err := addOnce[cimi.VolumeImage](ctx, f, entry.VolumeImages, &want.Common, disk, func() any { return want })
		var refused *cimi.Refused
		if errors.As(err, &refused) && want.RelatedImage != nil {
			t.Whole[disk] = true
			if err := f.note(ctx, t); err != nil {
				return 0, err
			}
			return time.Millisecond, nil
		}
		if err != nil {
			return 0, err
		}
		t.Images[disk] = image.ID
		if err := f.note(ctx, t); err != nil {
			return 0, err
		}
	}
	for disk, id := range t.Images {
		image, err := cimi.Get[cimi.VolumeImage](ctx, f.client, id)
		switch {
		case err != nil:
			return 0, err
		case image.State == cimi.Creating:
			return f.w.askAgain, nil
		case image.State != cimi.Available:
			return 0, &failure{"", fmt.Sprintf("%s could not make an image of %s: it is %s", f.m.Name, disk, strings.ToLower(image.State))}
		}
	}
	return 0, nil
}

func (f *foreign) dropImages(ctx context.Context) error {
	do, err := decode[plan.DropImages](f.s)
	if err != nil {
		return err
	}
	list := do.Others
	if do.Taken {
		t, err := resultOf[taken](f.j, f.s.Part, plan.KindTakeImages)
		if err != nil {
			return err
		}
		list = append(list, slices.Sorted(maps.Values(t.Images))...)
	}
	for _, id := range list {
		if err := f.client.Delete(ctx, id); err != nil {
			return err
		}
	}
	return nil
}

// resultOf is the result of a part's step of a kind.
func resultOf[T any](j *inventory.Job, part int, kind string) (*T, error) {
	for i := range j.Steps {
		if s := &j.Steps[i]; s.Kind == kind && s.Part == part && len(s.Result) > 0 {
			var t T
			return &t, json.Unmarshal(s.Result, &t)
		}
	}
	return nil, fmt.Errorf("the job has no result of the kind %s", kind)
}

func (f *foreign) makeRoom(ctx context.Context) error {
	do, err := decode[plan.MakeRoom](f.s)
	if err != nil {
		return err
	}
	entry, _, err := f.client.EntryPoint(ctx)
	if err != nil {
		return err
	}
	t := taken{Images: map[string]string{}}
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &t); err != nil {
			return err
		}
	}
	for _, disk := range slices.Sorted(maps.Keys(do.Disks)) {
		if t.Images[disk] != "" {
			continue
		}
		want := cimi.VolumeImage{Common: cimi.Common{ResourceURI: cimi.Namespace + "VolumeImage", Name: do.Name + " " + disk, Properties: map[string]string{"bytes": fmt.Sprint(do.Disks[disk])}}}
		image, err := addOnce[cimi.VolumeImage](ctx, f, entry.VolumeImages, &want.Common, disk, func() any { return want })
		if err != nil {
			return err
		}
		if image.Can(cimi.RelUpload) == "" {
			return errors.Join(&failure{"manager.rights", f.m.Name + " takes no images in"}, f.client.Delete(ctx, image.ID))
		}
		t.Images[disk] = image.ID
		if err := f.note(ctx, t); err != nil {
			return err
		}
	}
	return nil
}

// makeThere has volumes made of the images that were sent, and a machine of them.
func (f *foreign) makeThere(ctx context.Context) error {
	do, err := decode[plan.MakeThere](f.s)
	if err != nil {
		return err
	}
	room, err := resultOf[taken](f.j, f.s.Part, plan.KindMakeRoom)
	if err != nil {
		return err
	}
	m := do.Machine
	if do.Give {
		g, err := resultOf[given](f.j, f.s.Part, plan.KindGiveIDs)
		if err != nil {
			return err
		}
		m = g.Machine
	}
	entry, _, err := f.client.EntryPoint(ctx)
	if err != nil {
		return err
	}
	networks, _, err := cimi.List[cimi.Network](ctx, f.client, entry.Networks, "")
	if err != nil {
		return err
	}
	r := made{Volumes: map[string]string{}}
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &r); err != nil {
			return err
		}
	}
	want := cimi.MachineCreate{Common: cimi.Common{ResourceURI: cimi.Namespace + "MachineCreate", Name: m.Name, Properties: f.properties(m, do.Host, do.Give)}}
	t := &want.MachineTemplate
	t.MachineConfig.CPU, t.MachineConfig.Memory = m.CPUs, m.MemoryBytes>>10
	for i, d := range m.Disks {
		if r.Volumes[d.ID] == "" {
			v := cimi.VolumeCreate{Common: cimi.Common{ResourceURI: cimi.Namespace + "VolumeCreate", Name: m.Name + " " + d.ID, Properties: map[string]string{"bootable": fmt.Sprint(i == 0)}}}
			v.VolumeTemplate.VolumeConfig.Capacity = (d.VirtualBytes + 999) / 1000
			v.VolumeTemplate.VolumeImage.Href = room.Images[d.ID]
			volume, err := addOnce[cimi.Volume](ctx, f, entry.Volumes, &v.Common, d.ID, func() any { return v })
			if err != nil {
				return err
			}
			r.Volumes[d.ID] = volume.ID
			if err := f.note(ctx, r); err != nil {
				return err
			}
		}
		t.Volumes = append(t.Volumes, cimi.MachineVolume{Volume: cimi.Ref{Href: r.Volumes[d.ID]}})
	}
	for _, n := range m.NICs {
		at := slices.IndexFunc(networks, func(x cimi.Network) bool { return x.Name == n.Network })
		if at < 0 {
			continue // it is unplugged, which the interface has no word for
		}
		t.NetworkInterfaces = append(t.NetworkInterfaces, cimi.NetworkInterface{Network: cimi.Ref{Href: networks[at].ID}, MACAddress: n.MAC})
	}
	if r.Machine == "" {
		there, err := addOnce[cimi.Machine](ctx, f, entry.Machines, &want.Common, "", func() any { return want })
		if err != nil {
			return err
		}
		r.Machine = there.ID
		if err := f.note(ctx, r); err != nil {
			return err
		}
	}
	f.clear(ctx, slices.Collect(maps.Values(room.Images)))
	return nil
}

// clear removes what is not needed any more. What a manager refuses to remove
// does no harm where it is.
func (f *foreign) clear(ctx context.Context, what []string) {
	for _, id := range what {
		if err := f.client.Delete(ctx, id); err != nil {
			f.w.log.Warn("remove at a manager", "manager", f.m.Name, "what", id, "error", err)
		}
	}
}

// removeThere removes the machine in whose place another was made, with its volumes.
func (f *foreign) removeThere(ctx context.Context) error {
	do, err := decode[plan.RemoveThere](f.s)
	if err != nil {
		return err
	}
	var r removed
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &r); err != nil {
			return err
		}
	} else {
		there, err := cimi.Get[cimi.Machine](ctx, f.client, do.Machine)
		var refused *cimi.Refused
		if errors.As(err, &refused) && refused.Status == http.StatusNotFound {
			return nil // somebody else has removed it
		}
		if err != nil {
			return err
		}
		for _, v := range there.Volumes.Members {
			r.Volumes = append(r.Volumes, v.Volume.Href)
		}
		if err := f.note(ctx, r); err != nil { // a machine that is gone tells them no more
			return err
		}
	}
	if err := f.client.Delete(ctx, do.Machine); err != nil {
		return err
	}
	f.clear(ctx, r.Volumes)
	return nil
}

// properties that the new machine is given, with a passport that says what it is.
func (f *foreign) properties(m *machine.Machine, host string, renewed bool) map[string]string {
	p := map[string]string{propHost: host, propUUID: m.UUID, propFirmware: m.Firmware, propGuest: m.Guest}
	if pp := m.Passport; pp != nil {
		id := uuid.NewSHA1(f.j.ID, []byte("put back")).String()
		raw, err := json.Marshal(machine.Passport{Lineage: pp.Lineage, Copy: id, Parent: pp.Copy, MadeBy: f.j.Operation, MadeAt: f.j.CreatedAt, Identity: map[bool]string{false: identity.Keep, true: identity.Renew}[renewed]})
		if err == nil {
			p[propPassport] = string(raw)
		}
	}
	return p
}

// undoManaged takes back what a step has done at a manager.
func (w *Work) undoManaged(ctx context.Context, j *inventory.Job, s *inventory.Step, h *inventory.Host) error {
	m, err := w.inv.Manager(ctx, h.ManagerID.String())
	if err != nil {
		return err
	}
	if m.Kind == inventory.ManagerUnvora {
		return w.undoAtPeer(ctx, j, s, m)
	}
	client, err := w.client(m)
	if err != nil {
		return err
	}
	f := &foreign{w, client, j, s, m, true}
	entry, _, err := client.EntryPoint(ctx)
	if err != nil {
		return err
	}
	switch s.Kind {
	case plan.KindStop:
		_, err = f.power(ctx, cimi.Started, cimi.RelStart)
	case plan.KindTakeImages:
		var do *plan.TakeImages
		if do, err = decode[plan.TakeImages](s); err == nil {
			err = dropMade[cimi.VolumeImage](ctx, f, entry.VolumeImages, slices.Collect(maps.Keys(do.Volumes))...)
		}
	case plan.KindMakeRoom:
		var do *plan.MakeRoom
		if do, err = decode[plan.MakeRoom](s); err == nil {
			err = dropMade[cimi.VolumeImage](ctx, f, entry.VolumeImages, slices.Collect(maps.Keys(do.Disks))...)
		}
	case plan.KindMakeThere:
		var do *plan.MakeThere
		if do, err = decode[plan.MakeThere](s); err != nil {
			break
		}
		if err = dropMade[cimi.Machine](ctx, f, entry.Machines, ""); err != nil {
			break
		}
		for _, d := range do.Machine.Disks {
			err = errors.Join(err, dropMade[cimi.Volume](ctx, f, entry.Volumes, d.ID))
		}
	}
	var refused *cimi.Refused
	if errors.As(err, &refused) { // it can't be helped from here
		w.log.Warn("take back at a manager", "job", j.ID, "manager", m.Name, "step", s.What, "error", err)
		return nil
	}
	return err
}

// webDisk is where the agent reads, or writes, a disk's image at a foreign manager.
func (w *Work) webDisk(ctx context.Context, j *inventory.Job, s *inventory.Step, m *inventory.Manager, disk, kind string) (*hostlink.WebDisk, error) {
	client, err := w.client(m)
	if err != nil {
		return nil, err
	}
	t, err := resultOf[taken](j, s.Part, kind)
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
			return nil, &failure{"manager.rights", m.Name + " does not hand out the image"}
		}
		at = image.ImageLocation.Href
	}
	address, err := url.Parse(m.Address)
	if err != nil {
		return nil, err
	}
	web := &hostlink.WebDisk{Certificate: m.Certificate, Manager: address.Hostname(), Change: image.RelatedImage != nil}
	web.URL, err = client.Absolute(at)
	return web, err
}

// noteAhead records what was fetched ahead, or that it is of no use any more.
func (w *Work) noteAhead(ctx context.Context, j *inventory.Job, s *inventory.Step) error {
	do, err := decode[plan.NoteAhead](s)
	if err != nil {
		return err
	}
	copyID, err := uuid.Parse(do.Copy)
	if err != nil {
		return err
	}
	return w.inv.InTx(ctx, func(tx pgx.Tx) error {
		if len(do.Paths) == 0 {
			if err := inventory.ForgetAhead(ctx, tx, do.Copy); err != nil {
				return err
			}
		} else {
			t, err := resultOf[taken](j, s.Part, plan.KindTakeImages)
			if err != nil {
				return err
			}
			a := inventory.Ahead{CopyID: copyID, HostID: *optional(do.Host), PoolID: *optional(do.Pool)}
			for disk, path := range do.Paths {
				a.Disk, a.Path, a.Image = disk, path, t.Images[disk]
				if err := inventory.NoteAhead(ctx, tx, a); err != nil {
					return err
				}
			}
		}
		s.State = "done"
		return inventory.PutStep(ctx, tx, j.Epoch, s)
	})
}
