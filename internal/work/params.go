package work

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"slices"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
)

// taskParams is what the step's task is asked.
func (w *Work) taskParams(ctx context.Context, j *inventory.Job, s *inventory.Step, h *inventory.Host) (any, error) {
	switch s.Kind {
	case plan.KindFetchDisk:
		return w.fetchParams(ctx, j, s, h)
	case plan.KindPlace:
		return w.placeParams(j, s)
	case plan.KindPack:
		return w.packParams(ctx, s, h)
	case plan.KindCarry:
		return w.carryParams(ctx, j, s, h)
	case plan.KindAlter:
		return w.alterParams(j, s)
	case plan.KindSend:
		return w.sendParams(ctx, j, s)
	}
	return s.DoWhat, nil // as the plan says
}

func (w *Work) fetchParams(ctx context.Context, j *inventory.Job, s *inventory.Step, h *inventory.Host) (any, error) {
	do, err := decode[plan.FetchDisk](s)
	if err != nil {
		return nil, err
	}
	rec, err := recordOf(j, s.Part)
	if err != nil {
		return nil, err
	}
	f := hostlink.Fetch{KeepID: chosen(rec.Choice)[identity.DiskID] == identity.Keep, Disk: do.Disk, Entry: do.Entry, Digest: do.Digest, Pool: do.Pool, File: do.File, Format: do.Format, VirtualBytes: do.VirtualBytes,
		ID: newDiskID(s, do.Disk)}
	switch {
	case do.Source.Kind == "upload":
		f.Source.Upload = true
	case do.Source.Kind == "web":
		f.Source.Web = do.Source.Path
	case do.Source.Host == h.ID.String():
		f.Source.Path = do.Source.Path
	default:
		from, err := w.inv.Host(ctx, do.Source.Host)
		if err != nil {
			return nil, err
		}
		ticket, err := w.ticket(s.TaskID())
		if err != nil {
			return nil, err
		}
		if err := w.agent(from).Allow(ctx, ticket, hostlink.Ticket{Path: do.Source.Path, Expires: time.Now().Add(time.Hour)}); err != nil {
			return nil, err
		}
		f.Source.Remote = &hostlink.Remote{Address: from.Address, Host: from.ID.String(), Ticket: ticket}
	}
	return f, nil
}

// ticketLasts is how long an agent may read from another without the service
// having said so again, which it does at each look.
const ticketLasts = 10 * time.Minute

func (w *Work) packParams(ctx context.Context, s *inventory.Step, h *inventory.Host) (any, error) {
	do, err := decode[plan.Pack](s)
	if err != nil || do.FromHost == "" {
		return hostlink.PackTask{Pack: *do}, err
	}
	at, err := w.inv.Host(ctx, do.FromHost)
	if err != nil {
		return nil, err
	}
	from, err := w.letRead(ctx, s, at, do.Folder, h)
	return hostlink.PackTask{Pack: *do, From: from}, err
}

// letRead gives a host a ticket for a machine folder of another one.
func (w *Work) letRead(ctx context.Context, s *inventory.Step, from *inventory.Host, folder string, reader *inventory.Host) (*hostlink.Remote, error) {
	ticket, err := w.ticket(s.TaskID())
	if err != nil {
		return nil, err
	}
	if err := w.agent(from).Allow(ctx, ticket, hostlink.Ticket{Path: folder, For: reader.ID.String(), Expires: time.Now().Add(ticketLasts)}); err != nil {
		return nil, err
	}
	return &hostlink.Remote{Address: from.Address, Host: from.ID.String(), Ticket: ticket}, nil
}

// newDiskID is the id that a disk is given; the same at each try.
func newDiskID(s *inventory.Step, disk string) string {
	return uuid.NewSHA1(s.JobID, []byte("disk "+disk)).String()
}

func (w *Work) carryParams(ctx context.Context, j *inventory.Job, s *inventory.Step, h *inventory.Host) (any, error) {
	do, err := decode[plan.Carry](s)
	if err != nil {
		return nil, err
	}
	c := hostlink.CarryTask{Carry: *do, ID: newDiskID(s, do.Disk)}
	if j.Operation != "fetch-ahead" {
		rec, err := recordOf(j, s.Part)
		if err != nil {
			return nil, err
		}
		c.KeepID = chosen(rec.Choice)[identity.DiskID] == identity.Keep
	}
	if do.FromHost == "" {
		return c, nil
	}
	from, err := w.inv.Host(ctx, do.FromHost)
	if err != nil {
		return nil, err
	}
	if from.ManagerID == nil {
		c.From, err = w.letRead(ctx, s, from, do.Folder, h)
		return c, err
	}
	m, err := w.inv.Manager(ctx, from.ManagerID.String())
	if err != nil {
		return nil, err
	}
	if m.Kind == inventory.ManagerUnvora {
		c.From, err = w.peerRead(ctx, j, s, m)
		return c, err
	}
	web, err := w.webDisk(ctx, j, s, m, do.Disk, plan.KindTakeImages)
	if err != nil || do.Via == "" {
		c.Web = web
		return c, err
	}
	via, err := w.inv.Host(ctx, do.Via)
	if err != nil {
		return nil, err
	}
	ticket, err := w.ticket(s.TaskID())
	if err != nil {
		return nil, err
	}
	c.From = &hostlink.Remote{Address: via.Address, Host: via.ID.String(), Ticket: ticket}
	return c, w.agent(via).Allow(ctx, ticket, hostlink.Ticket{Web: web, For: h.ID.String(), Expires: time.Now().Add(ticketLasts)})
}

func (w *Work) sendParams(ctx context.Context, j *inventory.Job, s *inventory.Step) (any, error) {
	do, err := decode[plan.Send](s)
	if err != nil {
		return nil, err
	}
	for i := range j.Steps {
		if room := &j.Steps[i]; room.Kind == plan.KindMakeRoom && room.Part == s.Part {
			there, err := w.inv.Host(ctx, room.HostID.String())
			if err != nil {
				return nil, err
			}
			m, err := w.inv.Manager(ctx, there.ManagerID.String())
			if err != nil {
				return nil, err
			}
			to, err := w.webDisk(ctx, j, s, m, do.Disk, plan.KindMakeRoom)
			if err != nil {
				return nil, err
			}
			return hostlink.SendTask{Send: *do, To: *to}, nil
		}
	}
	return nil, errors.New("the job has no room to send to")
}

func (w *Work) alterParams(j *inventory.Job, s *inventory.Step) (any, error) {
	do, err := decode[plan.Alter](s)
	if err != nil {
		return nil, err
	}
	if do.Machine, err = madeMachine(j, s.Part); err != nil {
		return nil, err
	}
	do.NewIDs = map[string]string{}
	for _, path := range do.RenewIDs {
		do.NewIDs[path] = newDiskID(s, path)
	}
	return do, nil
}

// given is the result of a give-ids step.
type given struct {
	Machine *machine.Machine `json:"machine"`
}

// madeMachine is the machine as its steps so far have made it.
func madeMachine(j *inventory.Job, part int) (*machine.Machine, error) {
	var g given
	sizes := map[string]hostlink.FetchResult{}
	for i := range j.Steps {
		s := &j.Steps[i]
		switch {
		case s.Part != part:
		case s.Kind == plan.KindGiveIDs:
			if err := json.Unmarshal(s.Result, &g); err != nil {
				return nil, fmt.Errorf("result of step %s: %w", s.ID, err)
			}
		case (s.Kind == plan.KindFetchDisk || s.Kind == plan.KindCarry) && s.State == "done":
			do, err := decode[struct{ Disk string }](s)
			if err != nil {
				return nil, err
			}
			var r hostlink.FetchResult
			if err := json.Unmarshal(s.Result, &r); err != nil {
				return nil, fmt.Errorf("result of step %s: %w", s.ID, err)
			}
			sizes[do.Disk] = r
		}
	}
	if g.Machine == nil {
		return nil, errors.New("the machine has no ids yet")
	}
	for i := range g.Machine.Disks {
		d := &g.Machine.Disks[i]
		if r, ok := sizes[d.ID]; ok {
			d.FileBytes = r.FileBytes
			if r.VirtualBytes > 0 {
				d.VirtualBytes = r.VirtualBytes
			}
		}
	}
	rec, err := recordOf(j, part)
	if err != nil {
		return nil, err
	}
	choice := chosen(rec.Choice)
	if rec.Change && g.Machine.Passport != nil { // it stays the copy that it is
		pp := g.Machine.Passport
		for _, f := range choice.Renewed() {
			if pp.Identity = identity.Renew; !slices.Contains(pp.Renewed, f) {
				pp.Renewed = append(pp.Renewed, f)
			}
		}
		return g.Machine, nil
	}
	g.Machine.Passport = &machine.Passport{Lineage: rec.Lineage, Copy: copyOf(rec).String(), Parent: rec.Parent,
		MadeBy: j.Operation, MadeAt: j.CreatedAt, Identity: identityOf(choice), Renewed: choice.Renewed()}
	return g.Machine, nil
}

// copyOf is the copy that is made, or worked on.
func copyOf(rec *plan.Record) uuid.UUID {
	for _, id := range []string{rec.Copy, rec.Made} {
		if id := optional(id); id != nil {
			return *id
		}
	}
	return uuid.Nil
}

func chosen(raw map[string]string) identity.Choice {
	c := identity.Choice{}
	for f, v := range raw {
		c[identity.Facet(f)] = v
	}
	return c
}

func identityOf(c identity.Choice) string {
	if len(c.Renewed()) > 0 {
		return identity.Renew
	}
	return identity.Keep
}

func recordOf(j *inventory.Job, part int) (*plan.Record, error) {
	for i := range j.Steps {
		if j.Steps[i].Kind == plan.KindRecord && j.Steps[i].Part == part {
			return decode[plan.Record](&j.Steps[i])
		}
	}
	return nil, errors.New("the job has no step that records")
}

func (w *Work) placeParams(j *inventory.Job, s *inventory.Step) (any, error) {
	do, err := decode[plan.Place](s)
	if err != nil {
		return nil, err
	}
	m, err := madeMachine(j, s.Part)
	return hostlink.PlaceTask{Pool: do.Pool, Name: do.Name, Descriptor: do.Descriptor, Number: do.Machine, Machine: m, Besides: do.Besides}, err
}
