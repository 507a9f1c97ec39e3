package do

import (
	"net"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/core/wiring"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/driver/standin"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

func switchesOf(t *testing.T, a *hand) []wiring.Switch {
	t.Helper()
	list, err := a.Driver.Switches(t.Context())
	require.NoError(t, err)
	return list
}

func names(list []wiring.Switch) (names []string) {
	for _, s := range list {
		names = append(names, s.Name)
	}
	return names
}

// TestSwitches makes, drops and takes back; what was made is there after a restart.
func TestSwitches(t *testing.T) {
	a := wiredAgent(t)
	field := plan.SwitchWork{Switch: wiring.Switch{Name: "field", Segment: "field", VLAN: 30, Uplink: "port2",
		Tagged: true}}
	tk := start(t, a, "s1", plan.KindMakeSwitch, 1, field)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	require.Equal(t, []string{"lab", "field"}, names(switchesOf(t, a)))
	_, err := doMakeSwitch(t.Context(), &run{Worker: a.Worker, Task: tk})
	require.NoError(t, err, "asked for again after a restart")
	require.Equal(t, []string{"lab", "field"}, names(a.Sight.Survey(t.Context(), "", 0).Switches))
	require.Len(t, a.Sight.Survey(t.Context(), "", 0).Ports, 2)

	fresh := standin.New(a.Config.Switches, a.Config.Ports, a.Config.Door())
	a.Driver = fresh
	require.NoError(t, a.switches.restore(t.Context()))
	require.Equal(t, []string{"lab", "field"}, names(switchesOf(t, a)))

	other := field
	other.Switch.VLAN = 31
	tk2 := start(t, a, "s2", plan.KindMakeSwitch, 1, other)
	require.Equal(t, "name.taken", ended(t, tk2).Code)
	require.NoError(t, a.tasks.Undo(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.Equal(t, []string{"lab", "field"}, names(switchesOf(t, a)), "another's switch is not taken away")

	tk3 := start(t, a, "s3", plan.KindDropSwitch, 1, field)
	require.Equal(t, hostlink.TaskDone, ended(t, tk3).State)
	require.Equal(t, []string{"lab"}, names(switchesOf(t, a)))
	require.NoError(t, a.tasks.Undo(job+".s3", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.Equal(t, []string{"lab", "field"}, names(switchesOf(t, a)))
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.Equal(t, []string{"lab"}, names(switchesOf(t, a)))

	folder, m := agenttest.Lying(t, a.Config.Pools[0].Path, "tide-gauge")
	plug := func(network string) {
		m.NICs = []machine.NIC{{Name: "NIC 1", Network: network}}
		raw, err := describe("", "", 0, m)
		require.NoError(t, err)
		require.NoError(t, os.WriteFile(filepath.Join(folder, "tide-gauge.ovf"), raw, 0o644))
	}
	tk4 := start(t, a, "s4", plan.KindMakeSwitch, 1, field)
	require.Equal(t, hostlink.TaskDone, ended(t, tk4).State)
	plug("field")
	require.NoError(t, a.List(folder, ground.Registered{}, ""))
	require.NoError(t, a.tasks.Undo(job+".s4", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.Equal(t, []string{"lab", "field"}, names(switchesOf(t, a)), "another machine has come to need it")
	plug("lab")
	tk5 := start(t, a, "s5", plan.KindDropSwitch, 1, plan.SwitchWork{Switch: wiring.Switch{Name: "lab"}})
	require.Equal(t, "network.switch-in-use", ended(t, tk5).Code)
}

// TestSwitchTakenBack: a change that cuts the host off does so for a second,
// then it can be reached as before.
func TestSwitchTakenBack(t *testing.T) {
	a := wiredAgent(t)
	inner, err := net.Listen("tcp", "127.0.0.1:0")
	require.NoError(t, err)
	defer inner.Close()
	l := a.Driver.(*standin.Driver).Wire(inner)
	go func() {
		for {
			c, err := l.Accept()
			if err != nil {
				return
			}
			c.Write([]byte("here"))
		}
	}()
	reached := func() bool {
		c, err := net.Dial("tcp", inner.Addr().String())
		if err != nil {
			return false
		}
		defer c.Close()
		c.SetReadDeadline(time.Now().Add(time.Second))
		n, _ := c.Read(make([]byte, 4))
		return n == 4
	}
	require.True(t, reached())
	before, err := net.Dial("tcp", inner.Addr().String())
	require.NoError(t, err)
	before.Read(make([]byte, 4))
	change := plan.SwitchWork{Switch: wiring.Switch{Name: "x", Uplink: "port1"}, Return: true}
	tk := start(t, a, "s1", plan.KindMakeSwitch, 1, change)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
	require.False(t, reached(), "the address is gone from the port")
	_, err = before.Read(make([]byte, 1))
	require.Error(t, err, "what was connected is cut")
	wait.Until(t, reached)
	require.Equal(t, []string{"lab"}, names(switchesOf(t, a)))
	keep := start(t, a, "s2", plan.KindKeepSwitch, 1, plan.SwitchWork{})
	require.Equal(t, "network.cuts-admin", ended(t, keep).Code)
	require.NoError(t, a.tasks.Undo(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1}))

	// Undone before the time is over: nothing is taken back later.
	tk = start(t, a, "s5", plan.KindMakeSwitch, 1, change)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
	require.NoError(t, a.tasks.Undo(job+".s5", hostlink.TaskSpec{Job: job, Epoch: 1}))
	tk = start(t, a, "s6", plan.KindMakeSwitch, 1, plan.SwitchWork{Switch: wiring.Switch{Name: "inside"}})
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
	time.Sleep(a.Config.ReturnAfter() + 300*time.Millisecond)
	require.Equal(t, []string{"lab", "inside"}, names(switchesOf(t, a)))
	// An agent that is killed meanwhile takes it back after its start.
	tk = start(t, a, "s7", plan.KindMakeSwitch, 1, change)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
	a.switches.close()
	fresh := standin.New(a.Config.Switches, a.Config.Ports, a.Config.Door())
	a.Driver = fresh
	require.NoError(t, a.switches.restore(t.Context()))
	require.Equal(t, []string{"lab", "inside", "x"}, names(switchesOf(t, a)))
	wait.Until(t, func() bool { return len(switchesOf(t, a)) == 2 })
	keep = start(t, a, "s8", plan.KindKeepSwitch, 1, plan.SwitchWork{})
	require.Equal(t, "network.cuts-admin", ended(t, keep).Code)
	require.NoError(t, a.tasks.Undo(job+".s8", hostlink.TaskSpec{Job: job, Epoch: 1}))

	change.Switch.Uplink = "port2"
	tk = start(t, a, "s3", plan.KindMakeSwitch, 1, change)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
	keep = start(t, a, "s4", plan.KindKeepSwitch, 1, plan.SwitchWork{})
	require.Equal(t, hostlink.TaskDone, ended(t, keep).State, "reached in time: it stays")
	var p pendingSwitch
	there, err := a.Records.Get("switches", switchesPending, &p)
	require.NoError(t, err)
	require.False(t, there)
}

// TestPutBeside places a machine whose disk lies in another pool, and takes both back.
func TestPutBeside(t *testing.T) {
	a, pool := newAgent(t, 0)
	staging := ground.StagingDir(pool, job)
	require.NoError(t, os.MkdirAll(staging, 0o755))
	require.NoError(t, os.WriteFile(filepath.Join(staging, "far.qcow2"), []byte("disk"), 0o644))
	m := &machine.Machine{Name: "tide-gauge", CPUs: 1, MemoryBytes: 1 << 30,
		Passport: &machine.Passport{Copy: "c1", Lineage: "l1"},
		Disks:    []machine.Disk{{ID: "disk1", File: "../tide-gauge-disks/far.qcow2", VirtualBytes: 1 << 20}}}
	p := hostlink.PlaceTask{Pool: pool, Name: "tide-gauge", Machine: m,
		Besides: []plan.Beside{{Pool: pool, Dir: "tide-gauge-disks", File: "far.qcow2"}}}
	tk := start(t, a, "s1", plan.KindPlace, 1, p)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State, ended(t, tk).Error)
	far := filepath.Join(pool, "tide-gauge-disks", "far.qcow2")
	require.FileExists(t, far)
	_, err := doPlace(t.Context(), &run{Worker: a.Worker, Task: tk})
	require.NoError(t, err, "asked for again after a restart")

	away := start(t, a, "s2", plan.KindTakeAway, 1, plan.TakeAway{Folder: filepath.Join(pool, "tide-gauge"),
		Files: []string{far}})
	require.Equal(t, hostlink.TaskDone, ended(t, away).State, ended(t, away).Error)
	require.NoDirExists(t, filepath.Dir(far))
	require.NoError(t, a.tasks.Undo(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.FileExists(t, far)

	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.NoDirExists(t, filepath.Dir(far))
	require.NoDirExists(t, filepath.Join(pool, "tide-gauge"))
}
