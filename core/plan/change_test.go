package plan_test

import (
	"slices"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/identity"
	"unvora.example/unvora/core/lineage"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
)

// sound is a registered copy with nothing wrong with it, on a host with nothing wrong either.
func sound(t *testing.T) plan.ChangeFacts {
	f, _ := lying(t)
	f.Folder.Registered = true
	facts := plan.ChangeFacts{Copy: lineage.Known{ID: "c1", Name: "tide-gauge", Host: "gannet",
		Path:  "/reef/tide-gauge",
		State: "stopped", Form: lineage.Registered}, Machine: f.Folder.Machine, Folder: f.Folder}
	facts.Host = f.Host
	facts.Host.Switches = append(facts.Host.Switches, wiring.Switch{Name: "field", Segment: "field", VLAN: 30})
	return facts
}

// outline is what a plan finds and does, in codes and kinds.
func outline(p *plan.Plan) string {
	var codes []string
	for _, f := range p.Findings {
		codes = append(codes, f.Code)
	}
	slices.Sort(codes)
	return strings.Join(codes, " ") + " / " + strings.Join(kinds(p), " ")
}

// TestChangeOfSoundCopy: a change finds what belongs to it and nothing more, and takes no step too many.
func TestChangeOfSoundCopy(t *testing.T) {
	for name, c := range map[string]struct {
		req   plan.ChangeRequest
		finds string
		then  func(t *testing.T, m *machine.Machine)
	}{
		"CPUs": {plan.ChangeRequest{CPUs: 4}, "", func(t *testing.T,
			m *machine.Machine) {
			require.Equal(t, 4, m.CPUs)
		}},
		"memory": {plan.ChangeRequest{MemoryBytes: 8 << 30}, "",
			func(t *testing.T, m *machine.Machine) { require.EqualValues(t, 8<<30, m.MemoryBytes) }},
		"name": {plan.ChangeRequest{Name: "tide-probe"}, "",
			func(t *testing.T, m *machine.Machine) { require.Equal(t, "tide-probe", m.Name) }},
		"name and folder": {plan.ChangeRequest{Name: "tide-probe", Folder: true}, "", nil},
		"a NIC more": {plan.ChangeRequest{AddNICs: []string{"field"}}, "", func(t *testing.T, m *machine.Machine) {
			require.Equal(t, "field", m.NICs[len(m.NICs)-1].Network)
		}},
		"a NIC less": {plan.ChangeRequest{DropNICs: []string{"NIC 1"}}, "",
			func(t *testing.T, m *machine.Machine) { require.Empty(t, m.NICs) }},
		"another switch": {plan.ChangeRequest{Wire: map[string]string{"NIC 1": "field"}}, "",
			func(t *testing.T, m *machine.Machine) { require.Equal(t, "field", m.NICs[0].Network) }},
		"unplugged": {plan.ChangeRequest{Unplug: []string{"NIC 1"}}, "",
			func(t *testing.T, m *machine.Machine) { require.Empty(t, m.NICs[0].Network) }},
		"a new MAC":  {plan.ChangeRequest{Operation: "renew", Renew: []identity.Facet{identity.MAC}}, "", nil},
		"a new UUID": {plan.ChangeRequest{Operation: "renew", Renew: []identity.Facet{identity.MachineUUID}}, "", nil},
		"a disk less": {plan.ChangeRequest{Operation: "detach", Detach: "disk1"}, "disk.nothing-bootable",
			func(t *testing.T, m *machine.Machine) { require.Empty(t, m.Disks) }},
		"a serial port": {plan.ChangeRequest{Add: []string{"serial"}}, "", nil},
	} {
		c.req.TakeRecommended = true
		p, err := plan.Change(sound(t), c.req)
		require.NoError(t, err, name)
		keep(t, p)
		require.Equal(t, c.finds+" / give-ids alter record", outline(p), name)
		require.Equal(t, plan.Runnable, p.Verdict, name)
		if c.then != nil {
			c.then(t, do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine)
		}
	}
}

// TestAttachToSoundCopy: a disk is attached as the next one, or in the place of another.
func TestAttachToSoundCopy(t *testing.T) {
	facts := sound(t)
	facts.Attach = &plan.FolderDisk{File: "tides.qcow2", Path: "/harbour/tides.qcow2", Pool: "p2", Format: "qcow2",
		VirtualBytes: 1 << 30, SectorBytes: 512, Layers: 1}
	attach := func(replace string) (*plan.Plan, []machine.Disk) {
		p, err := plan.Change(facts, plan.ChangeRequest{Operation: "attach", Replace: replace, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, plan.Runnable, p.Verdict)
		require.Equal(t, " / give-ids alter record", outline(p))
		return p, do[plan.GiveIDs](t, p, plan.KindGiveIDs).Machine.Disks
	}
	_, disks := attach("")
	require.Len(t, disks, 2)
	require.Equal(t, "disk2", disks[1].ID)
	require.Equal(t, "../../harbour/tides.qcow2", disks[1].File)
	_, disks = attach("disk1")
	require.Len(t, disks, 1)
	require.Equal(t, "disk1", disks[0].ID)
	_, err := plan.Change(facts, plan.ChangeRequest{Operation: "attach", Replace: "disk9", TakeRecommended: true})
	require.ErrorContains(t, err, `no disk "disk9"; it has "disk1"`)
}

// TestChangeInTheWay: what keeps any change from being made is told, and alone.
func TestChangeInTheWay(t *testing.T) {
	for code, spoil := range map[string]func(f *plan.ChangeFacts){
		"pool.away":        func(f *plan.ChangeFacts) { f.Copy.State = "away" },
		"host.unreachable": func(f *plan.ChangeFacts) { f.Host.State = "unreachable" },
		"busy.job":         func(f *plan.ChangeFacts) { f.Busy = "0199" },
		"copy.untracked":   func(f *plan.ChangeFacts) { f.Copy.Untracked = true },
	} {
		facts := sound(t)
		spoil(&facts)
		p, err := plan.Change(facts, plan.ChangeRequest{CPUs: 4, TakeRecommended: true})
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, plan.Blocked, p.Verdict, code)
		require.Equal(t, code, strings.Split(outline(p), " ")[0])
	}
}

// TestDelistSoundCopy: a copy is taken off its list; its files go only when that is asked for, and never the last ones
// without a word.
func TestDelistSoundCopy(t *testing.T) {
	f := sound(t)
	for _, c := range []struct {
		form        lineage.Form
		state       machine.State
		trash, last bool
		want        string
	}{
		{lineage.Registered, "stopped", false, false, " / delist forget"},
		{lineage.Registered, "stopped", true, false, " / delist take-away forget"},
		{lineage.Registered, "stopped", false, true, " / delist forget"},
		{lineage.Registered, "stopped", true, true, "source.last-copy / delist take-away forget"},
		{lineage.Registered, "running", false, false, "state.running / stop delist forget"},
		{lineage.Stray, "unknown", true, false, " / take-away forget"},
		{lineage.Hollow, "unknown", false, true, " / delist forget"},
	} {
		copy := f.Copy
		copy.Form, copy.State = c.form, c.state
		p, err := plan.Delist(plan.DelistFacts{Copy: copy, Machine: f.Machine, Host: f.Host, Last: c.last}, c.trash,
			nil, true)
		require.NoError(t, err)
		keep(t, p)
		require.Equal(t, c.want, outline(p), "%+v", c)
	}
}
