package plan_test

import (
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/fit"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
)

// cloning is tide-gauge, registered on gannet, about to be cloned there.
func cloning(t *testing.T) plan.CloneFacts {
	f, _ := lying(t)
	f.Parent, f.Lineage = "c1", "l1"
	f.Names = []string{"tide-gauge"}
	return plan.CloneFacts{RegisterFacts: f, Origin: sound(t)}
}

// stepsOf are the parameters of a kind of steps.
func stepsOf[T any](p *plan.Plan) (list []*T) {
	for _, s := range p.Steps {
		if do, ok := any(s.Do).(*T); ok {
			list = append(list, do)
		}
	}
	return list
}

// TestClone: a layered clone freezes what is there, once for all; a whole one copies it. Where layers can't be shared,
// that is said, and a whole one is offered.
func TestClone(t *testing.T) {
	const layered = "freeze give-ids layer place record"
	const whole = "give-ids carry place record"
	for name, c := range map[string]struct {
		req   plan.CloneRequest
		spoil func(f *plan.CloneFacts)
		finds string // beside what every clone has
		steps string
	}{
		"layered unless said": {plan.CloneRequest{}, nil, "", layered},
		"whole":               {plan.CloneRequest{Kind: plan.Whole}, nil, "", whole},
		"started":             {plan.CloneRequest{Kind: plan.Whole, On: true}, nil, "", whole + " start"},
		"two":                 {plan.CloneRequest{Count: 2}, nil, "", layered + " give-ids layer place record"},
		"on what is frozen already": {plan.CloneRequest{}, func(f *plan.CloneFacts) {
			d := &f.Folder.Disks[0]
			d.TopEmpty, d.Layers, d.Chain = true, 2, []string{"/reef/tide-gauge/top.qcow2", "/reef/tide-gauge/d.qcow2"}
		}, "", "give-ids layer place record"},
		"one that runs": {plan.CloneRequest{}, func(f *plan.CloneFacts) {
			f.Origin.Copy.State, f.Folder.State = machine.Running, machine.Running
		}, "state.running", "stop freeze start give-ids layer place record"},
		"one that goes on running": {plan.CloneRequest{}, func(f *plan.CloneFacts) {
			f.Origin.Copy.State, f.Folder.State = machine.Running, machine.Running
			f.Host.Can = []fit.Ability{fit.Freezes}
		}, "state.running", layered},
		"whole of one that runs": {plan.CloneRequest{Kind: plan.Whole, Count: 2}, func(f *plan.CloneFacts) {
			f.Origin.Copy.State, f.Folder.State = machine.Running, machine.Running
		}, "state.running", "stop " + whole + " " + whole + " start"},
		"one that is suspended": {plan.CloneRequest{Kind: plan.Whole}, func(f *plan.CloneFacts) {
			f.Origin.Copy.State = machine.Suspended
		}, "state.held", whole},
		"another host": {plan.CloneRequest{}, func(f *plan.CloneFacts) {
			f.From = &plan.HostFacts{ID: "h2", Name: "petrel", State: plan.HostUp}
		}, "", whole},
		"layers at another host": {plan.CloneRequest{Kind: plan.Layered}, func(f *plan.CloneFacts) {
			f.From = &plan.HostFacts{ID: "h2", Name: "petrel", State: plan.HostUp}
		}, "clone.not-layered", whole},
		"a chain that is full": {plan.CloneRequest{Kind: plan.Layered}, func(f *plan.CloneFacts) {
			f.Folder.Disks[0].Layers = f.Host.Family.MaxLayers
		}, "clone.not-layered", whole},
		"its firmware's settings": {plan.CloneRequest{}, func(f *plan.CloneFacts) {
			f.Folder.Machine.Variables = "v.fd"
			f.Folder.Files = append(f.Folder.Files, "v.fd")
		}, "", "freeze give-ids carry layer place record"},
	} {
		facts := cloning(t)
		if c.spoil != nil {
			c.spoil(&facts)
		}
		c.req.TakeRecommended = true
		p, err := plan.Clone(facts, c.req)
		require.NoError(t, err, name)
		keep(t, p)
		want := "network.mapped / " + c.steps
		if c.finds != "" {
			require.NotNil(t, finding(p, c.finds), name)
		} else {
			require.Equal(t, want, outline(p), name)
		}
		require.Contains(t, outline(p)+" ", "/ "+c.steps+" ", name)
	}
}

// TestClonesApart: each clone has a name and a place of its own, renews its identity and stands on what was frozen;
// what is in the origin's drives may be in several; it does not start with the host.
func TestClonesApart(t *testing.T) {
	facts := cloning(t)
	m := facts.Folder.Machine
	m.StartOrder, m.Devices = 3, []machine.Device{{Kind: machine.DeviceCD, Name: "cd 1", File: "tides.iso"}}
	facts.Folder.Files = append(facts.Folder.Files, "tides.iso", "tide-gauge-disk1-2.qcow2")
	p, err := plan.Clone(facts, plan.CloneRequest{Count: 3, BringRequest: plan.BringRequest{
		Answers: plan.Answers{"identity.origin-gone": "keep"}}}) // which is not asked
	require.NoError(t, err)
	keep(t, p)
	frozen := stepsOf[plan.Freeze](p)
	require.Len(t, frozen, 1, "once for all")
	require.True(t, frozen[0].ForGood)
	require.Equal(t, []plan.FrozenDisk{{Disk: "disk1", Path: "/reef/tide-gauge/d.qcow2", Below: "d.qcow2",
		BelowFormat: "qcow2", File: "tide-gauge-disk1-3.qcow2", Format: "qcow2"}}, frozen[0].Disks,
		"a name that is free")
	layers, records := stepsOf[plan.NewLayer](p), stepsOf[plan.Record](p)
	require.Len(t, layers, 3)
	require.Len(t, records, 3)
	for n, name := range []string{"tide-gauge-01", "tide-gauge-02", "tide-gauge-03"} {
		l, r := layers[n], records[n]
		require.Equal(t, "/reef/tide-gauge/d.qcow2", l.Parent)
		require.True(t, l.Freeze)
		require.Equal(t, "/reef", l.Pool)
		require.Equal(t, name, r.Name)
		require.Equal(t, "/reef/"+name, r.Path)
		require.Equal(t, "c1", r.Parent)
		require.Equal(t, "renew", r.Choice["uuid"])
		require.Zero(t, r.Machine.StartOrder)
		require.Equal(t, "/reef/tide-gauge/tides.iso", r.Machine.Devices[0].File)
		require.Equal(t, l.File, r.Machine.Disks[0].File)
		require.Zero(t, r.Machine.FileBytes(), "it holds nothing of its own yet")
	}
	p, err = plan.Clone(facts, plan.CloneRequest{})
	require.NoError(t, err)
	keep(t, p)
	require.Equal(t, "tide-gauge-2", stepsOf[plan.Record](p)[0].Name)
}

// TestLayersOn: a layer has a format that the hosts run.
func TestLayersOn(t *testing.T) {
	for _, c := range []struct{ family, below, want string }{
		{"slate", "qcow2", "qcow2"}, {"slate", "raw", "qcow2"}, {"slate", "vhdx", "vhdx"}, {"chalk", "vmdk", "vmdk"},
		{"chalk", "raw", ""}, {"flint", "vhdx", "vhdx"}, {"qemu", "vmdk", "qcow2"}, {"qemu", "raw", "qcow2"},
	} {
		f, err := fit.FamilyByName(c.family)
		require.NoError(t, err)
		require.Equal(t, c.want, f.LayerOn(c.below), "%+v", c)
		facts := cloning(t)
		facts.Host.Family = f
		facts.Folder.Disks[0].Format = c.below
		p, err := plan.Clone(facts, plan.CloneRequest{Kind: plan.Layered})
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, c.want == "", finding(p, "clone.not-layered") != nil, "%+v", c)
	}
}

// TestExportOfARunningMachine: where its disks can be frozen and brought back it goes on; else it is stopped.
func TestExportOfARunningMachine(t *testing.T) {
	facts := sound(t)
	export := func(spoil func(f *plan.ExportFacts), answers plan.Answers) *plan.Plan {
		t.Helper()
		f := plan.ExportFacts{Copy: facts.Copy, PoolState: plan.PoolReady, Machine: facts.Machine, Host: facts.Host,
			Disks: append([]plan.FolderDisk(nil), facts.Folder.Disks...), Files: facts.Folder.Files}
		f.Copy.State, f.Host.Can = machine.Running, []fit.Ability{fit.Freezes}
		spoil(&f)
		p, err := plan.Export(f, plan.ExportRequest{File: "x.ova", Answers: answers, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		return p
	}
	const stopped = "package.holds state.running / stop hand-out start record"
	p := export(func(*plan.ExportFacts) {}, nil)
	require.Equal(t, "package.holds state.running / freeze hand-out record commit", outline(p))
	require.Equal(t, stepsOf[plan.Freeze](p)[0].Disks, stepsOf[plan.Commit](p)[0].Disks)
	require.True(t, stepsOf[plan.HandOut](p)[0].Frozen)
	require.False(t, stepsOf[plan.Freeze](p)[0].ForGood)
	require.Equal(t, stopped, outline(export(func(*plan.ExportFacts) {}, plan.Answers{"state.running": "stop"})))
	require.Equal(t, stopped, outline(export(func(f *plan.ExportFacts) { f.Host.Can = nil }, nil)))
	require.Equal(t, stopped, outline(export(func(f *plan.ExportFacts) { f.Disks[0].Format = "vhdx" }, nil)),
		"nothing can be committed into that")
	require.Equal(t, stopped, outline(export(func(f *plan.ExportFacts) { f.Disks[0].Layers = 40 }, nil)),
		"its chain is full")
	require.Equal(t, "package.holds / hand-out record", outline(export(func(f *plan.ExportFacts) {
		f.Copy.State = "stopped"
	}, nil)))
}
