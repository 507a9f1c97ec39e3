package foreign

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"maps"
	"net/http"
	"slices"
	"strings"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/cimi"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
)

// steps is how each kind of step is carried out and taken back at a foreign manager. Where there is no undo, nothing of
// ours is left there.
var steps = map[string]struct {
	do   func(f *step, ctx context.Context) (time.Duration, error)
	undo func(f *step, ctx context.Context, entry *cimi.EntryPoint) error
}{
	plan.KindStop:        {(*step).stop, (*step).startAgain},
	plan.KindStart:       {(*step).start, nil},
	plan.KindTakeImages:  {(*step).takeImages, (*step).dropTaken},
	plan.KindDropImages:  {(*step).dropImages, nil},
	plan.KindMakeRoom:    {(*step).makeRoom, (*step).dropRoom},
	plan.KindMakeThere:   {(*step).makeThere, (*step).dropThere},
	plan.KindRemoveThere: {(*step).removeThere, nil},
}

// step is a step at a foreign manager.
type step struct {
	p      *place
	client *cimi.Client
	j      *inventory.Job
	s      *inventory.Step
	again  bool // it was begun before
}

func (p *place) Do(ctx context.Context, s *away.Step) (time.Duration, error) {
	row, ok := steps[s.Step.Kind]
	if !ok {
		return 0, fmt.Errorf("nothing of the kind %s can be asked of a manager", s.Step.Kind)
	}
	client, err := p.client(p.m)
	if err != nil {
		return 0, err
	}
	pause, err := row.do(&step{p, client, s.Job, s.Step, s.Again}, ctx)
	var refused *cimi.Refused
	if errors.As(err, &refused) {
		return 0, &away.Failure{Code: "manager.rights", Message: fmt.Sprintf("%s refuses: %v", p.m.Name, refused)}
	}
	return pause, err
}

func (p *place) Undo(ctx context.Context, s *away.Step) error {
	row := steps[s.Step.Kind]
	if row.undo == nil {
		return nil
	}
	client, err := p.client(p.m)
	if err != nil {
		return err
	}
	entry, _, err := client.EntryPoint(ctx)
	if err != nil {
		return err
	}
	err = row.undo(&step{p, client, s.Job, s.Step, true}, ctx, entry)
	var refused *cimi.Refused
	if errors.As(err, &refused) { // it can't be helped from here
		p.log.Warn("take back at a manager", "job", s.Job.ID, "manager", p.m.Name, "step", s.Step.What, "error", err)
		return nil
	}
	return err
}

func (f *step) stop(ctx context.Context) (time.Duration, error) {
	return f.power(ctx, cimi.Stopped, cimi.RelStop)
}

func (f *step) start(ctx context.Context) (time.Duration, error) {
	return f.power(ctx, cimi.Started, cimi.RelStart)
}

func (f *step) startAgain(ctx context.Context, _ *cimi.EntryPoint) error {
	_, err := f.start(ctx)
	return err
}

// made is the result of a step MakeThere.
type made struct {
	Volumes map[string]string `json:"volumes"` // disk → volume
	Machine string            `json:"machine"`
}

// removed is the result of a step RemoveThere: what is to go along with the machine.
type removed struct {
	Volumes []string `json:"volumes"`
}

// propFor marks what was made at a manager for a step, so that a second try finds
// what the first one made and could not note any more.
const propFor = "unvora-for"

// addOnce asks for a resource of a step; which tells it from the step's others.
// common is that of what is asked, once it is marked.
func addOnce[T cimi.Member](ctx context.Context, f *step, collection *cimi.Ref, common *cimi.Common, which string,
	what func() any) (*T, error) {
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
func dropMade[T cimi.Member](ctx context.Context, f *step, collection *cimi.Ref, which ...string) error {
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
func (f *step) note(ctx context.Context, result any) error {
	raw, err := json.Marshal(result)
	if err != nil {
		return err
	}
	f.s.Result = raw
	return f.p.inv.UpdateStep(ctx, f.j.Epoch, f.s)
}

// power has the machine started or stopped.
func (f *step) power(ctx context.Context, state, action string) (time.Duration, error) {
	do, err := inventory.DoOf[plan.Power](f.s)
	if err != nil {
		return 0, err
	}
	m, err := cimi.Get[cimi.Machine](ctx, f.client, do.Folder)
	if err != nil || m.State == state {
		return 0, err
	}
	if at := m.Can(action); at != "" {
		return f.p.AskAgain, f.client.Act(ctx, at, action)
	}
	if strings.HasSuffix(m.State, "ING") { // on its way
		return f.p.AskAgain, nil
	}
	return 0, &away.Failure{Code: "manager.rights", Message: fmt.Sprintf("%s is %s at %s, and the account may not "+
		"change that", m.Name, strings.ToLower(m.State), f.p.m.Name)}
}

// takeImages asks for an image of each volume and waits until all are there. An
// image that tells the difference is asked for where one was fetched before, and
// a whole one where the manager can't tell it any more.
func (f *step) takeImages(ctx context.Context) (time.Duration, error) {
	do, err := inventory.DoOf[plan.TakeImages](f.s)
	if err != nil {
		return 0, err
	}
	entry, _, err := f.client.EntryPoint(ctx)
	if err != nil {
		return 0, err
	}
	if entry.VolumeImages == nil {
		return 0, &away.Failure{Code: "manager.rights", Message: f.p.m.Name + " has no images of volumes"}
	}
	t := plan.Taken{Images: map[string]string{}, Whole: map[string]bool{}}
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
		image, err := addOnce[cimi.VolumeImage](ctx, f, entry.VolumeImages, &want.Common, disk,
			func() any { return want })
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
			return f.p.AskAgain, nil
		case image.State != cimi.Available:
			return 0, &away.Failure{Code: "", Message: fmt.Sprintf("%s could not make an image of %s: it is %s",
				f.p.m.Name, disk, strings.ToLower(image.State))}
		}
	}
	return 0, nil
}

func (f *step) dropImages(ctx context.Context) (time.Duration, error) {
	do, err := inventory.DoOf[plan.DropImages](f.s)
	if err != nil {
		return 0, err
	}
	list := do.Others
	if do.Taken {
		t, err := inventory.ResultOf[plan.Taken](f.j, f.s.Part, plan.KindTakeImages)
		if err != nil {
			return 0, err
		}
		list = append(list, slices.Sorted(maps.Values(t.Images))...)
	}
	for _, id := range list {
		if err := f.client.Delete(ctx, id); err != nil {
			return 0, err
		}
	}
	return 0, nil
}

func (f *step) makeRoom(ctx context.Context) (time.Duration, error) {
	do, err := inventory.DoOf[plan.MakeRoom](f.s)
	if err != nil {
		return 0, err
	}
	entry, _, err := f.client.EntryPoint(ctx)
	if err != nil {
		return 0, err
	}
	t := plan.Taken{Images: map[string]string{}}
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &t); err != nil {
			return 0, err
		}
	}
	for _, disk := range slices.Sorted(maps.Keys(do.Disks)) {
		if t.Images[disk] != "" {
			continue
		}
		want := cimi.VolumeImage{Common: cimi.Common{ResourceURI: cimi.Namespace + "VolumeImage",
			Name:       do.Name + " " + disk,
			Properties: map[string]string{"bytes": fmt.Sprint(do.Disks[disk])}}}
		image, err := addOnce[cimi.VolumeImage](ctx, f, entry.VolumeImages, &want.Common, disk,
			func() any { return want })
		if err != nil {
			return 0, err
		}
		if image.Can(cimi.RelUpload) == "" {
			return 0, errors.Join(&away.Failure{Code: "manager.rights", Message: f.p.m.Name + " takes no images in"},
				f.client.Delete(ctx, image.ID))
		}
		t.Images[disk] = image.ID
		if err := f.note(ctx, t); err != nil {
			return 0, err
		}
	}
	return 0, nil
}

// makeThere has volumes made of the images that were sent, and a machine of them.
func (f *step) makeThere(ctx context.Context) (time.Duration, error) {
	do, err := inventory.DoOf[plan.MakeThere](f.s)
	if err != nil {
		return 0, err
	}
	room, err := inventory.ResultOf[plan.Taken](f.j, f.s.Part, plan.KindMakeRoom)
	if err != nil {
		return 0, err
	}
	m := do.Machine
	if do.Give {
		g, err := inventory.ResultOf[plan.Given](f.j, f.s.Part, plan.KindGiveIDs)
		if err != nil {
			return 0, err
		}
		m = g.Machine
	}
	entry, _, err := f.client.EntryPoint(ctx)
	if err != nil {
		return 0, err
	}
	networks, _, err := cimi.List[cimi.Network](ctx, f.client, entry.Networks, "")
	if err != nil {
		return 0, err
	}
	r := made{Volumes: map[string]string{}}
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &r); err != nil {
			return 0, err
		}
	}
	want := cimi.MachineCreate{Common: cimi.Common{ResourceURI: cimi.Namespace + "MachineCreate", Name: m.Name,
		Properties: f.properties(m, do.Host, do.Give)}}
	t := &want.MachineTemplate
	t.MachineConfig.CPU, t.MachineConfig.Memory = m.CPUs, m.MemoryBytes>>10
	for i, d := range m.Disks {
		if r.Volumes[d.ID] == "" {
			v := cimi.VolumeCreate{Common: cimi.Common{ResourceURI: cimi.Namespace + "VolumeCreate",
				Name:       m.Name + " " + d.ID,
				Properties: map[string]string{"bootable": fmt.Sprint(i == 0)}}}
			v.VolumeTemplate.VolumeConfig.Capacity = (d.VirtualBytes + 999) / 1000
			v.VolumeTemplate.VolumeImage.Href = room.Images[d.ID]
			volume, err := addOnce[cimi.Volume](ctx, f, entry.Volumes, &v.Common, d.ID, func() any { return v })
			if err != nil {
				return 0, err
			}
			r.Volumes[d.ID] = volume.ID
			if err := f.note(ctx, r); err != nil {
				return 0, err
			}
		}
		t.Volumes = append(t.Volumes, cimi.MachineVolume{Volume: cimi.Ref{Href: r.Volumes[d.ID]}})
	}
	for _, n := range m.NICs {
		at := slices.IndexFunc(networks, func(x cimi.Network) bool { return x.Name == n.Network })
		if at < 0 {
			continue // it is unplugged, which the interface has no word for
		}
		t.NetworkInterfaces = append(t.NetworkInterfaces,
			cimi.NetworkInterface{Network: cimi.Ref{Href: networks[at].ID},
				MACAddress: n.MAC})
	}
	if r.Machine == "" {
		there, err := addOnce[cimi.Machine](ctx, f, entry.Machines, &want.Common, "", func() any { return want })
		if err != nil {
			return 0, err
		}
		r.Machine = there.ID
		if err := f.note(ctx, r); err != nil {
			return 0, err
		}
	}
	f.clear(ctx, slices.Collect(maps.Values(room.Images)))
	return 0, nil
}

// clear removes what is not needed any more. What a manager refuses to remove
// does no harm where it is.
func (f *step) clear(ctx context.Context, what []string) {
	for _, id := range what {
		if err := f.client.Delete(ctx, id); err != nil {
			f.p.log.Warn("remove at a manager", "manager", f.p.m.Name, "what", id, "error", err)
		}
	}
}

// removeThere removes the machine in whose place another was made, with its volumes.
func (f *step) removeThere(ctx context.Context) (time.Duration, error) {
	do, err := inventory.DoOf[plan.RemoveThere](f.s)
	if err != nil {
		return 0, err
	}
	var r removed
	if len(f.s.Result) > 0 {
		if err := json.Unmarshal(f.s.Result, &r); err != nil {
			return 0, err
		}
	} else {
		there, err := cimi.Get[cimi.Machine](ctx, f.client, do.Machine)
		var refused *cimi.Refused
		if errors.As(err, &refused) && refused.Status == http.StatusNotFound {
			return 0, nil // somebody else has removed it
		}
		if err != nil {
			return 0, err
		}
		for _, v := range there.Volumes.Members {
			r.Volumes = append(r.Volumes, v.Volume.Href)
		}
		if err := f.note(ctx, r); err != nil { // a machine that is gone tells them no more
			return 0, err
		}
	}
	if err := f.client.Delete(ctx, do.Machine); err != nil {
		return 0, err
	}
	f.clear(ctx, r.Volumes)
	return 0, nil
}

// properties that the new machine is given, with a passport that says what it is.
func (f *step) properties(m *machine.Machine, host string, renewed bool) map[string]string {
	p := map[string]string{propHost: host, propUUID: m.UUID, propFirmware: m.Firmware, propGuest: m.Guest}
	if pp := m.Passport; pp != nil {
		id := uuid.NewSHA1(f.j.ID, []byte("put back")).String()
		raw, err := json.Marshal(machine.Passport{Lineage: pp.Lineage, Copy: id, Parent: pp.Copy, MadeBy: f.j.Operation,
			MadeAt: f.j.CreatedAt, Identity: map[bool]string{false: identity.Keep, true: identity.Renew}[renewed]})
		if err == nil {
			p[propPassport] = string(raw)
		}
	}
	return p
}

func (f *step) dropTaken(ctx context.Context, entry *cimi.EntryPoint) error {
	do, err := inventory.DoOf[plan.TakeImages](f.s)
	if err != nil {
		return err
	}
	return dropMade[cimi.VolumeImage](ctx, f, entry.VolumeImages, slices.Collect(maps.Keys(do.Volumes))...)
}

func (f *step) dropRoom(ctx context.Context, entry *cimi.EntryPoint) error {
	do, err := inventory.DoOf[plan.MakeRoom](f.s)
	if err != nil {
		return err
	}
	return dropMade[cimi.VolumeImage](ctx, f, entry.VolumeImages, slices.Collect(maps.Keys(do.Disks))...)
}

func (f *step) dropThere(ctx context.Context, entry *cimi.EntryPoint) error {
	do, err := inventory.DoOf[plan.MakeThere](f.s)
	if err != nil {
		return err
	}
	if err := dropMade[cimi.Machine](ctx, f, entry.Machines, ""); err != nil {
		return err
	}
	var errs []error
	for _, d := range do.Machine.Disks {
		errs = append(errs, dropMade[cimi.Volume](ctx, f, entry.Volumes, d.ID))
	}
	return errors.Join(errs...)
}
