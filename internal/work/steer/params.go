package steer

import (
	"context"
	"encoding/json"
	"fmt"
	"strconv"
	"time"

	"github.com/google/uuid"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/away"
	"unvora.example/unvora/internal/work/reach"
)

// What agents are asked for some kinds of steps says more than their plan: tickets, ids, what steps before have made.

// packageTime is how long an agent may read a package of another before it is said anew.
const packageTime = time.Hour

// startTask leaves a machine off that somebody shut down before the job's own step was to stop it.
func startTask(_ context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Start](r.s)
	if err != nil || !do.Again {
		return do, err
	}
	do.Again = false // what the agent needs to know is how it stood
	for i := range r.j.Steps {
		s := &r.j.Steps[i]
		if s.Kind != plan.KindStop {
			continue
		}
		stop, err := inventory.DoOf[plan.Stop](s)
		if err != nil {
			return nil, err
		}
		p, err := powered(s)
		if err != nil {
			return nil, err
		}
		if stop.Copy == do.Copy && p.Was != "" {
			do.Off = !p.Was.Active()
		}
	}
	return do, nil
}

// powered is how a machine stood before and after a step that was done to it; empty where its manager does not say.
func powered(s *inventory.Step) (p hostlink.PowerResult, err error) {
	if len(s.Result) > 0 {
		if err = json.Unmarshal(s.Result, &p); err != nil {
			err = fmt.Errorf("result of step %s: %w", s.ID, err)
		}
	}
	return p, err
}

func fetchTask(ctx context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.FetchDisk](r.s)
	if err != nil {
		return nil, err
	}
	keep, err := r.keepsDiskID()
	if err != nil {
		return nil, err
	}
	f := hostlink.Fetch{KeepID: keep, Disk: do.Disk, Entry: do.Entry, Digest: do.Digest, Pool: do.Pool, File: do.File,
		Format:       do.Format,
		VirtualBytes: do.VirtualBytes, Raw: do.Raw, ID: newDiskID(r.s, do.Disk)}
	switch {
	case do.Source.Kind == "upload":
		f.Source.Upload = true
	case do.Source.Kind == "web":
		f.Source.Web = do.Source.Path
	case do.Source.Host == r.host.ID.String():
		f.Source.Path = do.Source.Path
	default:
		f.Source.Remote, err = r.letRead(ctx, do.Source.Host, hostlink.Ticket{Path: do.Source.Path,
			Expires: time.Now().Add(packageTime)})
	}
	return f, err
}

// letRead gives the step's task a ticket for another host.
func (r *run) letRead(ctx context.Context, host string, t hostlink.Ticket) (*hostlink.Remote, error) {
	return r.letReadToo(ctx, host, t, 0)
}

// letReadToo gives the step's task one of several tickets, which are told apart by a number.
func (r *run) letReadToo(ctx context.Context, host string, t hostlink.Ticket, number int) (*hostlink.Remote, error) {
	at, err := r.inv.Host(ctx, host)
	if err != nil {
		return nil, err
	}
	of := r.s.TaskID()
	if number > 0 {
		of += "." + strconv.Itoa(number)
	}
	return r.hosts.LetRead(ctx, of, at, t)
}

// forReader is a ticket for a machine folder, that only the step's host may use.
func (r *run) forReader(folder string) hostlink.Ticket {
	return hostlink.Ticket{Path: folder, For: r.host.ID.String(), Expires: time.Now().Add(reach.TicketLasts)}
}

// packTask lets the host that writes a package read the machines that lie at others.
func packTask(ctx context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Pack](r.s)
	if err != nil {
		return nil, err
	}
	t := hostlink.PackTask{Packing: do.Packing}
	for i, m := range do.Machines() {
		var from *hostlink.Remote
		if m.FromHost != "" {
			if from, err = r.letReadToo(ctx, m.FromHost, r.forReader(m.Folder), i); err != nil {
				return nil, err
			}
		}
		if i == 0 {
			t.From = from
		} else {
			t.FromOthers = append(t.FromOthers, from)
		}
	}
	return t, nil
}

// newDiskID is the id that a disk is given; the same at each try.
func newDiskID(s *inventory.Step, disk string) string {
	return uuid.NewSHA1(s.JobID, []byte("disk "+disk)).String()
}

// keepsDiskID tells whether disks of the step's machine keep their ids. A job that records no copy renews them.
func (r *run) keepsDiskID() (bool, error) {
	if r.j.StepOf(r.s.Part, plan.KindRecord) == nil {
		return false, nil
	}
	rec, err := r.j.Recorded(r.s.Part)
	if err != nil {
		return false, err
	}
	return chosen(rec.Choice)[identity.DiskID] == identity.Keep, nil
}

func carryTask(ctx context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Carry](r.s)
	if err != nil {
		return nil, err
	}
	c := hostlink.CarryTask{Carry: *do, ID: newDiskID(r.s, do.Disk)}
	if c.KeepID, err = r.keepsDiskID(); err != nil {
		return nil, err
	}
	if do.FromHost == "" {
		return c, nil
	}
	from, err := r.inv.Host(ctx, do.FromHost)
	if err != nil {
		return nil, err
	}
	if from.ManagerID == nil {
		c.From, err = r.hosts.LetRead(ctx, r.s.TaskID(), from, r.forReader(do.Folder))
		return c, err
	}
	place, err := r.away.OfHost(ctx, from)
	if err != nil {
		return nil, err
	}
	source, err := place.Source(ctx, &away.Step{Job: r.j, Step: r.s}, do.Disk)
	if err != nil {
		return nil, err
	}
	if source.Agent != nil || do.Via == "" {
		c.From, c.Web = source.Agent, source.Web
		return c, nil
	}
	ticket := hostlink.Ticket{Web: source.Web, For: r.host.ID.String(), Expires: time.Now().Add(reach.TicketLasts)}
	c.From, err = r.letRead(ctx, do.Via, ticket)
	return c, err
}

func followTask(ctx context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Follow](r.s)
	if err != nil || do.FromHost == "" {
		return do, err
	}
	from, err := r.letRead(ctx, do.FromHost, r.forReader(do.Folder))
	return hostlink.FollowTask{Follow: *do, From: from}, err
}

func sendTask(ctx context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Send](r.s)
	if err != nil {
		return nil, err
	}
	room := r.j.StepOf(r.s.Part, plan.KindMakeRoom)
	if room == nil {
		return nil, fmt.Errorf("the job has no room to send to")
	}
	there, err := r.inv.Host(ctx, room.HostID.String())
	if err != nil {
		return nil, err
	}
	place, err := r.away.OfHost(ctx, there)
	if err != nil {
		return nil, err
	}
	receiver, ok := place.(away.Receiver)
	if !ok {
		return nil, fmt.Errorf("nothing can be sent to the manager of %s", there.Name)
	}
	to, err := receiver.Target(ctx, &away.Step{Job: r.j, Step: r.s}, do.Disk)
	if err != nil {
		return nil, err
	}
	return hostlink.SendTask{Send: *do, To: *to}, nil
}

func alterTask(_ context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Alter](r.s)
	if err != nil {
		return nil, err
	}
	if do.Machine, err = madeMachine(r.j, r.s.Part); err != nil {
		return nil, err
	}
	do.NewIDs = map[string]string{}
	for _, path := range do.RenewIDs {
		do.NewIDs[path] = newDiskID(r.s, path)
	}
	return do, nil
}

func adaptTask(_ context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Adapt](r.s)
	if err == nil {
		do.Machine, err = madeMachine(r.j, r.s.Part)
	}
	return do, err
}

func placeTask(_ context.Context, r *run) (any, error) {
	do, err := inventory.DoOf[plan.Place](r.s)
	if err != nil {
		return nil, err
	}
	m, err := madeMachine(r.j, r.s.Part)
	if err != nil {
		return nil, err
	}
	p := hostlink.PlaceTask{Pool: do.Pool, Name: do.Name, Descriptor: do.Descriptor, Number: do.Machine, Machine: m,
		Besides: do.Besides}
	if do.FirstStart != nil {
		g, err := inventory.ResultOf[plan.Given](r.j, r.s.Part, plan.KindGiveIDs)
		if err != nil {
			return nil, err
		}
		p.Seed, err = do.FirstStart.Seed(m.Passport.Copy, m, g.Addresses)
		if err != nil {
			return nil, err
		}
	}
	return p, nil
}
