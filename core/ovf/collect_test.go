package ovf_test

import (
	"fmt"
	"math/rand/v2"
	"strings"
	"testing"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/ovf/ovftest"
)

// TestCollect: what becomes a collection keeps the rules of the standard, and each machine in it is what it was,
// whoever wrote its descriptor, in whichever version.
func TestCollect(t *testing.T) {
	r := rand.New(rand.NewPCG(17, 3))
	for round := range 200 {
		var of []ovf.Collected
		var want []machine.Machine
		taken := map[string]bool{}
		for n := range 2 + r.IntN(3) {
			var d *ovf.Descriptor
			var err error
			if r.IntN(4) == 0 && round > 0 {
				d, err = ovf.Parse("kiosk.ovf", []byte(foreign))
			} else {
				m := anyMachine(r)
				m.Boot = []string{"disk1"}
				d, err = ovf.New(m)
			}
			require.NoError(t, err)
			require.NoError(t, d.SetVersion([]string{"1", "2"}[r.IntN(2)]))
			m := d.Machines[0].Clone()
			m.Name = fmt.Sprintf("%s-%d", m.Name, n)
			m.WithoutSnapshots()
			for i := range m.NICs {
				if m.NICs[i].Network == "lab" && m.NICs[i].Segment != "" && n == 1 {
					m.NICs[i].Segment = "another lab"
				}
			}
			require.NoError(t, d.SetMachine(0, m))
			ids := map[string]string{}
			for _, k := range d.Machines[0].Disks {
				id := k.ID
				for i := 1; taken[id]; i++ {
					id = fmt.Sprintf("disk%d", i)
				}
				if taken[id] = true; id != k.ID {
					ids[k.ID] = id
				}
			}
			is := d.Machines[0].Clone()
			for i := range is.Disks {
				if id := ids[is.Disks[i].ID]; id != "" {
					is.Disks[i].ID = id
				}
			}
			for i, id := range is.Boot {
				if ids[id] != "" {
					is.Boot[i] = ids[id]
				}
			}
			want = append(want, *is)
			of = append(of, ovf.Collected{Descriptor: d, Disks: ids, Order: m.StartOrder, Pause: 5})
		}
		d, err := ovf.Collect("tides", of, &machine.Product{Name: "Tides", Licence: "Take care",
			Properties: map[string]string{"site": "Quay"}})
		require.NoError(t, err)
		raw, err := d.Encode(0)
		require.NoError(t, err)
		require.Subset(t, ovftest.Breaches([]byte(foreign)), ovftest.Breaches(raw), "%s", raw)
		again, err := ovf.Parse("tides.ovf", raw)
		require.NoError(t, err)
		require.Len(t, again.Machines, len(want))
		lab := map[string]string{}
		for i, m := range again.Machines {
			for k := range m.NICs {
				name := m.NICs[k].Network
				if seg, there := lab[name]; there {
					require.Equal(t, seg, m.NICs[k].Segment, "one name, one segment")
				}
				lab[name] = m.NICs[k].Segment
				m.NICs[k].Network = strings.TrimRight(name, " 0123456789") // it was told from another one
			}
			require.Equal(t, want[i], m, "machine %d\n%s", i, raw)
		}
		notes := fmt.Sprint(again.Notes)
		require.Contains(t, notes, "Take care")
		for _, c := range of {
			if c.Order > 0 {
				require.Contains(t, string(raw), fmt.Sprintf(`order="%d"`, c.Order))
			}
		}
		// One of them alone is as it was before it was collected.
		require.NoError(t, again.Only(len(want)-1))
		raw, err = again.Encode(0)
		require.NoError(t, err)
		alone, err := ovf.Parse("one.ovf", raw)
		require.NoError(t, err)
		require.Len(t, alone.Machines, 1)
		require.Equal(t, want[len(want)-1].Name, alone.Machines[0].Name)
	}
	_, err := ovf.Collect("nothing", nil, nil)
	require.Error(t, err)
}

// TestCollectParents: a disk that is the parent of another one stays so under its other id.
func TestCollectParents(t *testing.T) {
	var of []ovf.Collected
	for n := range 2 {
		d, err := ovf.New(&machine.Machine{Name: fmt.Sprint("gauge-", n), CPUs: 1, MemoryBytes: 1 << 20,
			Disks: []machine.Disk{{ID: "disk1", VirtualBytes: 1 << 20}, {ID: "disk2", VirtualBytes: 1 << 20}}})
		require.NoError(t, err)
		raw, err := d.Encode(0)
		require.NoError(t, err)
		d, err = ovf.Parse("x.ovf", []byte(strings.Replace(string(raw), `ovf:diskId="disk2"`,
			`ovf:diskId="disk2" ovf:parentRef="disk1"`, 1)))
		require.NoError(t, err)
		of = append(of, ovf.Collected{Descriptor: d})
	}
	of[1].Disks = map[string]string{"disk1": "disk3", "disk2": "disk4"}
	d, err := ovf.Collect("gauges", of, nil)
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	require.Empty(t, ovftest.Breaches(raw))
	require.Contains(t, string(raw), `ovf:diskId="disk4" ovf:parentRef="disk3"`)
}

// TestTooManyMachines: a package may hold only so many, since each becomes a record of its own wherever it is seen.
func TestTooManyMachines(t *testing.T) {
	d, err := ovf.New(&machine.Machine{Name: "x", CPUs: 1, MemoryBytes: 1 << 20})
	require.NoError(t, err)
	raw, err := d.Encode(0)
	require.NoError(t, err)
	text := string(raw)
	at, end := strings.Index(text, "<VirtualSystem "), strings.Index(text, "</VirtualSystem>")+len("</VirtualSystem>")
	for n, fits := range map[int]bool{ovf.MaxMachines: true, ovf.MaxMachines + 1: false} {
		many := text[:at] + `<VirtualSystemCollection ovf:id="many"><Info>x</Info>` +
			strings.Repeat(text[at:end], n) + "</VirtualSystemCollection>" + text[end:]
		d, err := ovf.Parse("many.ovf", []byte(many))
		if fits {
			require.NoError(t, err)
			require.Len(t, d.Machines, n)
			continue
		}
		require.ErrorContains(t, err, "it describes 501 machines; at most 500 are read")
	}
}
