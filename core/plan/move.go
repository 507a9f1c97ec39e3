package plan

import (
	"cmp"
	"fmt"
	"path"
	"slices"
	"strings"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/machine"
)

// MoveFacts is what MoveMachine is worked out from.
type MoveFacts struct {
	RegisterFacts        // of the machine at its new place: the folder is the one that it leaves
	Pool          string // name of the pool that it lies in, where that is one of the new host's too; "" for none
}

// MoveMachine plans to take a registered copy to another host, or to another pool of its host. It stays the copy that
// it is. Before it is listed there it is taken off the list here: at no moment could both be started. What it leaves
// goes to the trash of its pool.
func MoveMachine(facts MoveFacts, req BringRequest) (*Plan, error) {
	from := facts.Host
	if facts.From != nil {
		from = *facts.From
	} else if facts.Elsewhere != nil {
		return moveInPlace(facts, req)
	} else if to, there := facts.Host.PoolMeant(req.Pool); req.Pool == "" || there && to.Name == facts.Pool {
		return nil, fmt.Errorf("%s is at %s already: name another host (--host), or another pool of this one (--pool)",
			facts.Where, facts.Host.Name)
	}
	ran, folder := facts.Folder.State.Active(), facts.Folder.Path
	req.Files, req.Identity = Move, identity.Keep
	facts.Moves = true
	facts.Folder.Registered = false // for what is asked of folders: that it is, is why it can be moved
	p, err := Register(facts.RegisterFacts, req)
	if err != nil {
		return nil, err
	}
	p.Operation = "move"
	at := slices.IndexFunc(p.Steps, func(s Step) bool { return s.Kind == KindPlace })
	rec := recordOf(p)
	if at < 0 || rec == nil { // it is blocked
		return p, nil
	}
	fence := []Step{{Host: from.Name, What: fmt.Sprintf("Take %s off the list of %s: nothing starts it there from "+
		"now on", facts.Where, from.Name), Do: &Unlist{Folder: folder}}}
	if facts.Folder.State == machine.Suspended { // as late as can be: this alone does not come back
		fence = slices.Insert(fence, 0, Step{Host: from.Name, What: "Drop the suspended state of " + facts.Where,
			Do: &Stop{Power: Power{Copy: rec.Copy, Folder: folder}, Manner: machine.Off}})
	}
	p.Steps = slices.Insert(p.Steps, at, fence...)
	for i, s := range p.Steps {
		if s.Do == Params(rec) {
			p.Steps[i].What = "Note its new place in the inventory"
		}
	}
	if ran {
		p.Steps = append(p.Steps, onStep(facts.Host.Name, rec))
	}
	p.Back = backFromMove(facts, rec.Name)
	awaited(p, req.CutOver)
	p.number()
	return p, nil
}

// onStep starts a machine at its new place, unless it was shut down before it was to be stopped.
func onStep(host string, rec *Record) Step {
	return Step{Host: host, What: "Start " + host + "/" + rec.Name,
		Do: &Start{Power: Power{Copy: rec.Copy, Folder: rec.Path}, Again: true}}
}

// leaves decides how a machine that runs leaves its place: stopped while its disks are copied, or followed, with the
// layers that it writes to meanwhile.
func (b *builder) leaves(facts RegisterFacts, req BringRequest) (stop bool, layers []FrozenDisk) {
	says, instead := facts.Where+" runs, and its disks change while they are read.", ""
	if layers = followable(facts, req); layers != nil {
		says = facts.Where + " runs. Its disks can be copied while it goes on. It is down only for what it has " +
			"written meanwhile."
		instead = followed
	}
	how := b.running(facts.Folder.Machine.Name, says, instead)
	if how != followed {
		layers = nil
	}
	return how == stopped || how == followed, layers
}

// followable are the layers that a machine can write to while its disks are copied to its new place; nil where that is
// not possible: where its hypervisor can't freeze disks, a disk has to be put right first, or is to be of a format that
// can't be written into there.
func followable(facts RegisterFacts, req BringRequest) []FrozenDisk {
	from := facts.Host
	if facts.From != nil {
		from = *facts.From
	}
	if !facts.Moves || !from.Does(fit.Freezes) || !commitable(facts.Folder.Disks) {
		return nil
	}
	for _, d := range facts.Folder.Disks {
		_, written, _ := strings.Cut(req.Disks[d.ID], ":")
		if written == "" && facts.Host.Family.Runs(d.Format) {
			written = d.Format
		}
		if !slices.Contains(committed, cmp.Or(written, facts.Host.Family.Formats[0])) || d.Missing ||
			d.Problem != "" || d.Encrypted || len(d.Faults) > 0 {
			return nil
		}
	}
	layers, err := frozen(from, facts.Folder.Machine, facts.Folder.Disks, facts.Folder.Files)
	if err != nil || len(layers) == 0 {
		return nil
	}
	return layers
}

// moveInPlace plans to take a machine to another host that sees its pool: its files stay where they are.
func moveInPlace(facts MoveFacts, req BringRequest) (*Plan, error) {
	e := facts.Elsewhere
	req.Files, req.Identity = Stay, identity.Keep
	facts.Moves = true
	p, err := Register(facts.RegisterFacts, req)
	if err != nil {
		return nil, err
	}
	p.Operation = "move"
	if rec := recordOf(p); rec != nil {
		p.Back = backFromMove(facts, rec.Name)
		for i, s := range p.Steps {
			if s.Do == Params(rec) {
				p.Steps[i].What = "Note its new host in the inventory"
			}
		}
		if e.State.Active() {
			p.Steps = append(p.Steps, onStep(facts.Host.Name, rec))
		}
		awaited(p, req.CutOver)
	}
	p.number()
	return p, nil
}

// closed are the disks of a machine that runs as they will be once it is stopped: its hypervisor puts them in order,
// and has them open no more.
func closed(disks []FolderDisk) []FolderDisk {
	disks = slices.Clone(disks)
	for i := range disks {
		disks[i].Unclean = false
		disks[i].Faults = slices.DeleteFunc(slices.Clone(disks[i].Faults),
			func(f DiskFault) bool { return f.Code == "disk.in-use" })
	}
	return disks
}

// cutOver are the steps from when the disks of a machine that runs were carried until they are as it leaves them. What
// it has written to its layers since is sent while it goes on, on layers of their own, as long as its host can put
// another one on. So it is down only for what it writes during that.
func cutOver(carried []Step, facts RegisterFacts, req BringRequest, at HostFacts, power Power,
	layers []FrozenDisk) (list []Step) {
	if req.CutOver != nil {
		list = append(list, awaitStep(req.CutOver, facts.Where+" goes on meanwhile"))
	}
	if second := onLayers(at, facts.Folder, layers); second != nil {
		list = append(list, freezeStep(at.Name, facts.Where, power, second, false))
		list = append(list, followSteps(carried, layers)...)
		layers = second
	}
	list = append(list, stopStep(at.Name, facts.Where, power))
	return append(list, followSteps(carried, layers)...)
}

// onLayers are layers to be put on others, which lie in the machine's folder wherever its disks lie; nil where one
// can't be.
func onLayers(h HostFacts, folder Folder, below []FrozenDisk) []FrozenDisk {
	var list []FrozenDisk
	disks := folder.Disks
	for _, l := range below {
		at := slices.IndexFunc(disks, func(f FolderDisk) bool { return f.ID == l.Disk })
		format := h.Family.LayerOn(l.Format)
		if format == "" || at < 0 || disks[at].Layers+2 > h.Family.MaxLayers {
			return nil
		}
		list = append(list, FrozenDisk{Disk: l.Disk, Path: path.Join(folder.Path, l.File), Below: l.File,
			BelowFormat: l.Format, Format: format,
			File: nextLayer(folder.Machine.Name, l.Disk, format, append(folder.Files, l.File))})
	}
	return list
}

// awaitStep waits for a cut-over; meanwhile is what is until then.
func awaitStep(a *Await, meanwhile string) Step {
	when := "somebody says so (unvora jobs cut-over)"
	if a.At != nil {
		when = a.At.UTC().Format(cutOverTime)
	}
	what := fmt.Sprintf("Wait with the cut-over until %s; %s", when, meanwhile)
	if a.Until != nil {
		what += ". After " + a.Until.UTC().Format(cutOverTime) + " it is held"
	}
	return Step{What: what, Do: &Await{At: a.At, Until: a.Until}}
}

const cutOverTime = "2006-01-02 15:04 UTC"

// awaited has a move wait before anything else, where nothing of it is done ahead.
func awaited(p *Plan, a *Await) {
	if a == nil || len(p.Steps) == 0 ||
		slices.ContainsFunc(p.Steps, func(s Step) bool { return s.Do.Kind() == KindAwait }) {
		return
	}
	p.Steps = slices.Insert(p.Steps, 0, awaitStep(a, "nothing is copied ahead of a machine that can't be followed"))
}

// followSteps send what was written into layers after the disks that steps have carried.
func followSteps(steps []Step, layers []FrozenDisk) (list []Step) {
	for _, s := range steps {
		carried, ok := s.Do.(*Carry)
		if !ok {
			continue
		}
		for _, l := range layers {
			if l.Disk == carried.Disk {
				list = append(list, Step{Host: s.Host, What: "Send what was written meanwhile on disk " + l.Disk,
					Do: &Follow{Disk: l.Disk, Source: path.Join(carried.Folder, l.File), FromHost: carried.FromHost,
						Folder: carried.Folder, Pool: carried.Pool, File: carried.File, Format: carried.Format}})
			}
		}
	}
	return list
}
