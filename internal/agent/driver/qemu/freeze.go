package qemu

import (
	"context"
	"encoding/json"
	"errors"
	"fmt"
	"os"
	"path/filepath"
	"slices"
	"time"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/internal/agent/driver"
)

// Freeze has running machines write to the layers that are named, in one transaction over all disks of each. Several
// stand still meanwhile: no transaction of QEMU's goes over two of them.
func (d *Driver) Freeze(ctx context.Context, machines ...driver.ToFreeze) (err error) {
	var all []*toFreeze
	defer func() {
		for _, f := range all {
			f.a.close()
		}
	}()
	for _, m := range machines {
		f, err := d.toFreeze(ctx, m)
		if err != nil {
			return err
		}
		if all = append(all, f); len(f.actions) == 0 { // it is frozen already
			continue
		}
		defer func() { err = errors.Join(err, f.drop(context.WithoutCancel(ctx))) }()
	}
	if len(machines) > 1 {
		for _, f := range all {
			if err := f.a.standStill(ctx); err != nil {
				return err
			}
			defer func() { err = errors.Join(err, f.a.goOn(context.WithoutCancel(ctx))) }()
		}
	}
	for _, f := range all {
		if err := f.freeze(ctx); err != nil {
			return err
		}
	}
	return nil
}

// toFreeze is a machine whose disks are about to be frozen.
type toFreeze struct {
	a       *adapting
	actions []any
	nodes   []string // of the layers, which nothing writes to yet
	next    map[string]part
}

// toFreeze gives QEMU the layers of a machine.
func (d *Driver) toFreeze(ctx context.Context, of driver.ToFreeze) (*toFreeze, error) {
	a, err := d.adapt(ctx, of.Folder)
	if err != nil {
		return nil, err
	}
	f := &toFreeze{a: a, next: map[string]part{}}
	for _, disk := range of.Machine.Disks {
		had, there := a.has.Disks[disk.ID]
		if !there || had.File == disk.File {
			continue
		}
		node, err := a.addLayer(ctx, filepath.Join(of.Folder, disk.File), disk.Format)
		if err != nil {
			err = errors.Join(fmt.Errorf("disk %s: %w", disk.ID, err), f.drop(ctx))
			a.close()
			return nil, err
		}
		f.nodes = append(f.nodes, node)
		f.actions = append(f.actions, map[string]any{"type": "blockdev-snapshot", "data": map[string]any{
			"node": had.Node, "overlay": node}})
		f.next[disk.ID] = part{Device: had.Device, Node: node, File: disk.File, Port: had.Port,
			Under: append([]frozen{{had.Node, had.File}}, had.Under...)}
	}
	return f, nil
}

// freeze has the machine write to the layers.
func (f *toFreeze) freeze(ctx context.Context) error {
	if len(f.actions) == 0 {
		return nil
	}
	if err := f.a.do(ctx, "transaction", map[string]any{"actions": f.actions}, nil); err != nil {
		return err
	}
	f.nodes = nil
	for id, p := range f.next {
		f.a.has.Disks[id] = p
	}
	return f.a.note()
}

// drop takes layers away that nothing writes to.
func (f *toFreeze) drop(ctx context.Context) (err error) {
	for _, node := range f.nodes {
		err = errors.Join(err, f.a.dropNode(ctx, node))
	}
	f.nodes = nil
	return err
}

// addLayer adds the node of a layer, whose parent is not looked at: QEMU has it already.
func (a *adapting) addLayer(ctx context.Context, path, format string) (string, error) {
	c := a.command()
	defer c.close()
	file, err := c.file(path, os.O_RDWR)
	if err != nil {
		return "", err
	}
	node := c.has.next("disk")
	if err := c.json("-blockdev", map[string]any{"driver": drivers[format].name, "node-name": node, "file": file,
		"backing": nil, "discard": "unmap"}); err != nil {
		return "", err
	}
	return node, a.carryOver(ctx, c)
}

// Commit has QEMU write what layers hold into what m names instead.
func (d *Driver) Commit(ctx context.Context, folder string, m *machine.Machine, settle func() error) (err error) {
	a, err := d.adapt(ctx, folder)
	if err != nil {
		return err
	}
	defer a.close()
	over := map[string]frozen{} // disk → what it goes back to
	for _, disk := range m.Disks {
		had, there := a.has.Disks[disk.ID]
		if !there || had.File == disk.File {
			continue
		}
		at := slices.IndexFunc(had.Under, func(f frozen) bool { return f.File == disk.File })
		if at != 0 {
			return fmt.Errorf("disk %s does not lie right above %s", disk.ID, disk.File)
		}
		over[disk.ID] = had.Under[0]
	}
	if err := a.merge(ctx, over); err != nil {
		return err
	}
	// From here on the guest stands still, until the descriptor names what it writes to.
	if err := a.standStill(ctx); err != nil {
		return err
	}
	defer func() { err = errors.Join(err, a.goOn(context.WithoutCancel(ctx))) }()
	if err := a.pivot(ctx, over); err != nil {
		return err
	}
	if err := settle(); err != nil {
		return err
	}
	var errs []error
	for id, to := range over {
		had := a.has.Disks[id]
		layer := had.Node
		had.Node, had.File, had.Under = to.Node, to.File, had.Under[1:]
		a.has.Disks[id] = had
		errs = append(errs, a.note(), a.dropNode(ctx, layer))
	}
	return errors.Join(errs...)
}

// settlingFile notes how the guest stood before it was made to stand still, for the next agent if this one is killed.
const settlingFile = "settling"

func (a *adapting) standStill(ctx context.Context) error {
	noted, err := a.dir.has(settlingFile)
	if err != nil {
		return err
	}
	if !noted {
		var now struct{ Status string }
		if err := a.do(ctx, "query-status", nil, &now); err != nil {
			return err
		}
		if err := a.dir.write(settlingFile, []byte(now.Status)); err != nil {
			return err
		}
	}
	return a.do(ctx, "stop", nil, nil)
}

// goOn lets the guest stand as it did before standStill.
func (a *adapting) goOn(ctx context.Context) error {
	before, err := a.dir.read(settlingFile)
	if err == nil && string(before) == "running" {
		err = a.do(ctx, "cont", nil, nil)
	}
	return errors.Join(err, a.dir.remove(settlingFile))
}

// mergeJob is QEMU's job that commits the layer of a disk.
func mergeJob(id string) string { return "commit-" + id }

// blockJob is what QEMU tells of a job.
type blockJob struct {
	Device      string
	Len, Offset int64
	Ready       bool
}

// mergeStall is how long a commit may stand still before it is given up. One that goes on may take as long as it needs.
const mergeStall = 2 * time.Minute

// merge begins the commit of each disk that has not gone back already, and waits until all follow the guest.
func (a *adapting) merge(ctx context.Context, over map[string]frozen) error {
	jobs, err := a.jobs(ctx)
	if err != nil {
		return err
	}
	for id, to := range over {
		back, err := a.wentBack(ctx, id, to)
		if err != nil {
			return err
		}
		if _, begun := jobs[mergeJob(id)]; back || begun {
			continue
		}
		if err := a.do(ctx, "block-commit", map[string]any{"job-id": mergeJob(id), "device": a.has.Disks[id].Node,
			"base-node": to.Node}, nil); err != nil {
			return fmt.Errorf("disk %s: %w", id, err)
		}
	}
	var written int64
	until := time.Now().Add(mergeStall)
	for {
		jobs, err := a.jobs(ctx)
		if err != nil {
			return err
		}
		waiting, sum := false, int64(0)
		for id, to := range over {
			job, there := jobs[mergeJob(id)]
			back, err := a.wentBack(ctx, id, to)
			switch {
			case err != nil:
				return err
			case !there && !back:
				return fmt.Errorf("disk %s: QEMU gave the commit up", id)
			case there && !job.Ready:
				waiting = true
			}
			sum += job.Offset
		}
		if !waiting {
			return nil
		}
		if sum != written {
			written, until = sum, time.Now().Add(mergeStall)
		}
		if time.Now().After(until) {
			return fmt.Errorf("QEMU has written nothing of what the layers hold for %s", mergeStall)
		}
		select {
		case <-time.After(savePoll):
		case <-ctx.Done():
			return ctx.Err()
		}
	}
}

// pivot ends the jobs, while the guest stands still: the disks are what lies below then.
func (a *adapting) pivot(ctx context.Context, over map[string]frozen) error {
	until := time.Now().Add(endTime)
	for id, to := range over {
		asked := false
		for {
			back, err := a.wentBack(ctx, id, to)
			if err != nil {
				return err
			}
			if back {
				break
			}
			jobs, err := a.jobs(ctx)
			if err != nil {
				return err
			}
			job, there := jobs[mergeJob(id)]
			if !there && !asked {
				return fmt.Errorf("disk %s: QEMU gave the commit up", id)
			}
			if !asked && job.Offset == job.Len {
				if err := a.do(ctx, "job-complete", map[string]any{"id": mergeJob(id)}, nil); err != nil {
					return fmt.Errorf("disk %s: %w", id, err)
				}
				asked = true
			}
			if time.Now().After(until) {
				return fmt.Errorf("disk %s: the commit does not end within %s", id, endTime)
			}
			select {
			case <-time.After(savePoll):
			case <-ctx.Done():
				return ctx.Err()
			}
		}
	}
	return nil
}

// jobs of QEMU, by their ids.
func (a *adapting) jobs(ctx context.Context) (map[string]blockJob, error) {
	var list []blockJob
	err := a.do(ctx, "query-block-jobs", nil, &list)
	all := map[string]blockJob{}
	for _, j := range list {
		all[j.Device] = j // QEMU calls a job's id so
	}
	return all, err
}

// wentBack tells whether a disk is what lies below its layer again.
func (a *adapting) wentBack(ctx context.Context, id string, to frozen) (bool, error) {
	var list []struct {
		Qdev     string
		Inserted *struct {
			Node string `json:"node-name"`
		}
	}
	if err := a.do(ctx, "query-block", nil, &list); err != nil {
		return false, err
	}
	for _, b := range list {
		is := a.has.Disks[id].Device
		if (b.Qdev == is || filepath.Base(filepath.Dir(b.Qdev)) == is) && b.Inserted != nil {
			return b.Inserted.Node == to.Node, nil
		}
	}
	raw, _ := json.Marshal(list)
	return false, fmt.Errorf("QEMU has no disk %s: %s", id, raw)
}
