package do

import (
	"bytes"
	"crypto/sha256"
	"encoding/binary"
	"encoding/hex"
	"encoding/json"
	"fmt"
	"io"
	"os"
	"path/filepath"
	"testing"
	"time"

	"github.com/stretchr/testify/require"

	"unvora.example/unvora/core/disk"
	"unvora.example/unvora/core/disk/disktest"
	"unvora.example/unvora/core/disk/formats"
	"unvora.example/unvora/core/disk/vmdk"
	"unvora.example/unvora/core/machine"
	"unvora.example/unvora/core/ovf"
	"unvora.example/unvora/core/plan"
	"unvora.example/unvora/internal/agent/agenttest"
	"unvora.example/unvora/internal/agent/ground"
	"unvora.example/unvora/internal/agent/task"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

const job = "01a20761-aef5-7543-9815-1ee0d0986761"

func streamOf(t *testing.T, truth []byte) []byte {
	t.Helper()
	var out bytes.Buffer
	target, err := vmdk.CreateStream(&out, disk.Spec{VirtualBytes: int64(len(truth)), ID: "0badcafe"}, nil)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
	return out.Bytes()
}

func sha(p []byte) string {
	s := sha256.Sum256(p)
	return hex.EncodeToString(s[:])
}

func start(t *testing.T, a *hand, step, kind string, epoch int64, params any) *task.Task {
	t.Helper()
	raw, err := json.Marshal(params)
	require.NoError(t, err)
	tk, err := a.tasks.Start(job+"."+step, hostlink.TaskSpec{Job: job, Epoch: epoch, Kind: kind, Params: raw})
	require.NoError(t, err)
	return tk
}

func fetchOf(pool string, raw []byte, truth []byte) hostlink.Fetch {
	return hostlink.Fetch{Source: hostlink.FetchSource{Upload: true}, Disk: "disk1",
		Entry: ovf.Entry{Name: "d.vmdk", Size: int64(len(raw))}, Digest: ovf.Digest{Algorithm: "sha256", Sum: sha(raw)},
		Pool: pool, File: "x-disk1.qcow2", Format: "qcow2", VirtualBytes: int64(len(truth)),
		ID: "70126393-2a98-4856-90ac-efe4bba599b2"}
}

// send feeds a task from wherever it needs bytes on, a piece at a time.
func send(t *testing.T, tk *task.Task, raw []byte, piece int) hostlink.Task {
	t.Helper()
	for {
		s := tk.Wait(t.Context(), wait.Bound)
		if s.Needs == nil {
			return s
		}
		at := int(s.Needs.Offset)
		err := tk.Intake.Send(t.Context(), s.Needs.Offset, bytes.NewReader(raw[at:min(len(raw), at+piece)]))
		if err != nil {
			var fault *hostlink.Fault
			require.ErrorAs(t, err, &fault)
		}
	}
}

// TestFetchEveryFormat writes each format that a host may run, from a stream,
// and keeps the disk's id where the identity is kept.
func TestFetchEveryFormat(t *testing.T) {
	const own = "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"
	truth := disktest.Pattern(5<<20, 8)
	var out bytes.Buffer
	target, err := vmdk.CreateStream(&out, disk.Spec{VirtualBytes: int64(len(truth)), ID: own}, nil)
	require.NoError(t, err)
	require.NoError(t, disk.Pump(t.Context(), target, disk.ImageFeed(disktest.Plain(truth), 0, target.BlockBytes()),
		disk.Options{}))
	require.NoError(t, target.Finish())
	for _, format := range formats.Names() {
		for _, keep := range []bool{true, false} {
			a, pool := newAgent(t, 0)
			f := fetchOf(pool, out.Bytes(), truth)
			f.Format, f.KeepID = format, keep
			s := send(t, start(t, a, "s2", plan.KindFetchDisk, 1, f), out.Bytes(), 500_000)
			require.Equal(t, hostlink.TaskDone, s.State, s.Error)
			img, err := formats.OpenChain(filepath.Join(ground.StagingDir(pool, job), f.File), formats.Options{})
			require.NoError(t, err)
			disktest.Same(t, truth, img)
			switch {
			case format == "raw":
			case keep:
				require.Equal(t, own, img.Info().ID)
			default:
				require.Equal(t, f.ID, img.Info().ID)
			}
			require.NoError(t, img.Close())
		}
	}
}

// TestFetchAndPlace brings a machine in by its tasks alone, in many pieces.
func TestFetchAndPlace(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(9<<20, 3)
	raw := streamOf(t, truth)
	tk := start(t, a, "s2", plan.KindFetchDisk, 1, fetchOf(pool, raw, truth))
	require.Same(t, tk, start(t, a, "s2", plan.KindFetchDisk, 1, nil), "asked twice, started once")
	s := send(t, tk, raw, 333_333)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	var r hostlink.FetchResult
	require.NoError(t, json.Unmarshal(s.Result, &r))
	require.Equal(t, sha(raw), r.SHA256)
	require.Equal(t, int64(len(truth)), r.VirtualBytes)

	m := &machine.Machine{Name: "x", UUID: "70126393-2a98-4856-90ac-efe4bba599b2", CPUs: 1, MemoryBytes: 1 << 30,
		Firmware: "bios",
		Disks: []machine.Disk{{ID: "disk1", File: "x-disk1.qcow2", Format: "qcow2", VirtualBytes: r.VirtualBytes,
			FileBytes: r.FileBytes, Controller: "virtio-scsi"}},
		Passport: &machine.Passport{Copy: "01a20761-aef5-7547-afa2-cc06ead9f2b4",
			Lineage: "01a20761-aded-7063-aff5-a8ed7322c044", MadeBy: "import"}}
	d, err := ovf.New(m)
	require.NoError(t, err)
	text, err := d.Encode(0)
	require.NoError(t, err)
	place := hostlink.PlaceTask{Pool: pool, Name: "x", Descriptor: string(text), Machine: m}
	short := place // of a disk that was not brought here
	short.Machine = m.Clone()
	short.Machine.Disks = append(short.Machine.Disks, machine.Disk{ID: "disk2", File: "x-disk2.qcow2"})
	s = ended(t, start(t, a, "s2b", plan.KindPlace, 1, short))
	require.Equal(t, "disk.missing", s.Code, s.Error)
	require.NoDirExists(t, filepath.Join(pool, "x"))
	require.NoError(t, a.tasks.Undo(job+".s2b", hostlink.TaskSpec{Job: job, Epoch: 1}))
	s = start(t, a, "s3", plan.KindPlace, 1, place).Wait(t.Context(), wait.Bound)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	img, err := formats.OpenChain(filepath.Join(pool, "x", "x-disk1.qcow2"), formats.Options{})
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.NoError(t, img.Close())
	require.Contains(t, a.Records.Register(), filepath.Join(pool, "x"))

	// An owner that was replaced changes nothing; the newest undoes it all.
	_, err = a.tasks.Start(job+".s4", hostlink.TaskSpec{Job: job, Epoch: 5, Kind: plan.KindPlace,
		Params: json.RawMessage(`{}`)})
	require.NoError(t, err)
	var fault *hostlink.Fault
	require.ErrorAs(t, a.tasks.Undo(job+".s3", hostlink.TaskSpec{Job: job, Epoch: 4}), &fault)
	require.Equal(t, hostlink.FaultStale, fault.Code)
	for _, step := range []string{".s4", ".s3", ".s2", ".never-heard-of"} {
		require.NoError(t, a.tasks.Undo(job+step, hostlink.TaskSpec{Job: job, Epoch: 5}))
	}
	require.NoError(t, a.tasks.Forget(job, 5))
	self, err := a.Records.Self()
	require.NoError(t, err)
	left, err := os.ReadDir(pool)
	require.NoError(t, err)
	for _, e := range left { // the mark, and that this host is there
		require.Contains(t, []string{".unvora-pool.json", ".unvora-pool.json.seen-" + self}, e.Name(), "left over")
	}
	require.Empty(t, a.Records.Register())
	require.Empty(t, kept(t, a, "tasks"))
	require.Empty(t, kept(t, a, "journals"))
}

// TestFetchRefuses: what came is compared before it counts.
func TestFetchRefuses(t *testing.T) {
	truth := disktest.Pattern(2<<20, 4)
	good := streamOf(t, truth)
	for name, c := range map[string]struct {
		spoil func(f *hostlink.Fetch, raw []byte) []byte
		code  string
	}{
		"another digest": {func(f *hostlink.Fetch, raw []byte) []byte { f.Digest.Sum = sha(nil); return raw },
			"manifest.mismatch"},
		"a grain is damaged": {func(_ *hostlink.Fetch, raw []byte) []byte { raw[128*512+20] ^= 1; return raw },
			"disk.damaged"},
		"no disk at all": {func(f *hostlink.Fetch, raw []byte) []byte { copy(raw, "KDMVKDMVKDMV"); return raw },
			"disk.format-unknown"},
		"outside the pool": {func(f *hostlink.Fetch, raw []byte) []byte { f.Pool = "/etc"; return raw },
			"disk.outside-pool"},
		"a path for a name": {func(f *hostlink.Fetch, raw []byte) []byte { f.File = "../../x"; return raw },
			"package.path-escape"},
		"a format not written": {func(f *hostlink.Fetch, raw []byte) []byte { f.Format = "tape"; return raw },
			"disk.format-foreign"},
	} {
		t.Run(name, func(t *testing.T) {
			a, pool := newAgent(t, 0)
			f := fetchOf(pool, good, truth)
			raw := c.spoil(&f, append([]byte{}, good...))
			tk := start(t, a, "s1", plan.KindFetchDisk, 1, f)
			s := send(t, tk, raw, len(raw))
			require.Equal(t, hostlink.TaskFailed, s.State)
			require.Equal(t, c.code, s.Code, s.Error)
		})
	}
}

// TestFetchOtherFormats: what can't be read as a stream is put aside first.
func TestFetchOtherFormats(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(3<<20, 5)
	f := fetchOf(pool, truth, truth) // raw, as it is
	tk := start(t, a, "s1", plan.KindFetchDisk, 1, f)
	s := send(t, tk, truth, 1<<20)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	path := filepath.Join(ground.StagingDir(pool, job), "x-disk1.qcow2")
	img, err := formats.OpenChain(path, formats.Options{})
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.NoError(t, img.Close())
	_, err = os.Stat(path + ".package")
	require.ErrorIs(t, err, os.ErrNotExist)
}

// cutOff sends a task the first half of what it reads, and then the rest as long as more holds; then the agent ends,
// and is started again.
func cutOff(t *testing.T, a *hand, tk *task.Task, raw []byte, more func() bool) *task.Task {
	t.Helper()
	require.NotNil(t, tk.Wait(t.Context(), wait.Bound).Needs)
	ended := make(chan error, 1)
	reader, writer := io.Pipe()
	go func() {
		err := tk.Intake.Send(t.Context(), 0, reader)
		reader.CloseWithError(err) // as a server closes the body of a request that is answered
		ended <- err
	}()
	at := len(raw) / 2
	_, err := writer.Write(raw[:at])
	require.NoError(t, err)
	for more() {
		require.Less(t, at, len(raw))
		n, err := writer.Write(raw[at:min(at+128<<10, len(raw))])
		require.NoError(t, err)
		at += n
		time.Sleep(50 * time.Millisecond)
	}
	a.tasks.Close()
	require.Error(t, <-ended)
	require.NoError(t, a.Records.Close())
	tk, err = handOf(t, agenttest.Open(t, a.Config)).tasks.Get(tk.ID())
	require.NoError(t, err)
	return tk
}

// TestFetchRaw: a disk that is stated to be raw is taken as its bytes are, though its guest wrote an image to it; when
// the agent ends in the middle, it goes on from there.
func TestFetchRaw(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := append(streamOf(t, disktest.Pattern(9<<20, 4)), make([]byte, 12<<20)...)
	truth = append(truth, disktest.Pattern((4<<20+511)/512*512-len(truth)%512, 5)...)
	f := fetchOf(pool, truth, truth)
	f.Raw = true
	tk := cutOff(t, a, start(t, a, "s1", plan.KindFetchDisk, 1, f), truth,
		func() bool { return len(kept(t, a, "journals")) == 0 })
	require.NotZero(t, tk.Wait(t.Context(), wait.Bound).Needs.Offset, "it does not begin anew")
	s := send(t, tk, truth, 1<<20)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	img, err := formats.OpenChain(filepath.Join(ground.StagingDir(pool, job), f.File), formats.Options{})
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.NoError(t, img.Close())
}

// TestForgetEnds: what still runs of a job that is over ends before its files are taken away, or it would write them
// again. Until then the host tells that it keeps something of the job.
func TestForgetEnds(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(6<<20, 6)
	raw := streamOf(t, truth)
	for range 20 {
		tk := start(t, a, "s1", plan.KindFetchDisk, 1, fetchOf(pool, raw, truth))
		require.NotNil(t, tk.Wait(t.Context(), wait.Bound).Needs)
		sent := make(chan error, 1)
		go func() { sent <- tk.Intake.Send(t.Context(), 0, bytes.NewReader(raw)) }()
		require.Equal(t, []string{job}, a.Sight.Survey(t.Context(), "", 0).Jobs)
		require.NoError(t, a.tasks.Forget(job, 1))
		<-sent
		require.NoDirExists(t, filepath.Join(pool, ground.WorkDir))
		require.Empty(t, kept(t, a, "tasks"))
		require.Empty(t, kept(t, a, "journals"))
		require.Empty(t, a.Sight.Survey(t.Context(), "", 0).Jobs)
	}
	require.NoError(t, os.MkdirAll(ground.StagingDir(pool, job), 0o755)) // where no note is left
	require.NoError(t, os.MkdirAll(ground.PartDir(pool, job, 2), 0o755)) // of another of its machines
	require.NoError(t, os.MkdirAll(ground.StagingDir(pool, "no job"), 0o755))
	require.Equal(t, []string{job}, a.Sight.Survey(t.Context(), "", 0).Jobs)
	require.NoError(t, a.tasks.Forget(job, 2))
	require.NoDirExists(t, ground.StagingDir(pool, job))
	require.NoDirExists(t, ground.PartDir(pool, job, 2))
	require.DirExists(t, ground.StagingDir(pool, "no job"), "it is nobody's we know")
}

// TestFetchResumes: the agent ends in the middle and is started again.
func TestFetchResumes(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(6<<20, 6)
	raw := streamOf(t, truth)
	tk := cutOff(t, a, start(t, a, "s1", plan.KindFetchDisk, 1, fetchOf(pool, raw, truth)), raw,
		func() bool { return false })
	s := send(t, tk, raw, 1<<20)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)
	img, err := formats.OpenChain(filepath.Join(ground.StagingDir(pool, job), "x-disk1.qcow2"), formats.Options{})
	require.NoError(t, err)
	disktest.Same(t, truth, img)
	require.NoError(t, img.Close())
}

func TestUnknownTask(t *testing.T) {
	a, _ := newAgent(t, 0)
	_, err := a.tasks.Start(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1, Kind: "paint"})
	require.ErrorContains(t, err, "update it")
	_, err = a.tasks.Start("other.s1", hostlink.TaskSpec{Job: job, Epoch: 1, Kind: plan.KindPlace})
	require.Error(t, err)
	_, err = a.tasks.Get("none")
	require.Error(t, err)
}

// TestUnknownParameters: what an agent is asked beyond what it knows keeps it from all of it, so that a part never
// passes for the whole. To be undone that needs nothing.
func TestUnknownParameters(t *testing.T) {
	a, pool := newAgent(t, 0)
	tk := start(t, a, "s1", plan.KindDelist, 1, map[string]any{"folder": filepath.Join(pool, "x"),
		"others": []string{"y"}})
	state := func(tk *task.Task) hostlink.Task {
		var now hostlink.Task
		wait.Until(t, func() bool {
			now, _ = tk.Snapshot()
			return now.State != hostlink.TaskRunning
		})
		return now
	}
	now := state(tk)
	require.Equal(t, hostlink.TaskFailed, now.State)
	require.Contains(t, now.Error, `unknown field "others"`)
	require.Contains(t, now.Error, "older than the service")
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1, Kind: plan.KindDelist,
		Params: json.RawMessage(`{"folder": "x", "others": []}`)}))
}

// kept is what an agent has in a bucket.
func kept(t *testing.T, a *hand, bucket string) map[string]any {
	t.Helper()
	all, err := ground.Each(a.Records, bucket, func(string, error) any { return nil })
	require.NoError(t, err)
	return all
}

// outOfOrder is a stream whose two grains are in the wrong order, of a disk that is
// returned too.
func outOfOrder(t *testing.T) (raw, truth []byte) {
	t.Helper()
	const grain = 64 << 10
	truth = append(bytes.Repeat([]byte("ebb "), grain/4), bytes.Repeat([]byte("flow"), grain/4)...)
	raw = streamOf(t, truth)
	first := int(binary.LittleEndian.Uint64(raw[64:])) * 512 // behind the overhead
	length := (12 + int(binary.LittleEndian.Uint32(raw[first+8:])) + 511) / 512 * 512
	second := first + length
	require.Equal(t, uint64(128), binary.LittleEndian.Uint64(raw[second:]), "the second grain follows")
	a, b := bytes.Clone(raw[first:second]), bytes.Clone(raw[second:second+length])
	copy(raw[first:], b)
	copy(raw[second:], a)
	table := second + length + 512 // behind its marker
	at := binary.LittleEndian.Uint32(raw[table:])
	copy(raw[table:], raw[table+4:table+8])
	binary.LittleEndian.PutUint32(raw[table+4:], at)
	return raw, truth
}

// TestFetchOutOfOrder: a stream whose grains are not in order is sound. It is read
// by its directory where it lies, and kept aside where it is brought.
func TestFetchOutOfOrder(t *testing.T) {
	raw, truth := outOfOrder(t)
	for _, brought := range []bool{true, false} {
		a, pool := newAgent(t, 0)
		f := fetchOf(pool, raw, truth)
		if !brought {
			f.Source = hostlink.FetchSource{Path: filepath.Join(a.Config.Shelves[0].Path, "x")}
			require.NoError(t, os.MkdirAll(f.Source.Path, 0o755))
			require.NoError(t, os.WriteFile(filepath.Join(f.Source.Path, "d.vmdk"), raw, 0o644))
			require.NoError(t, os.WriteFile(filepath.Join(f.Source.Path, "x.ovf"),
				[]byte(`<Envelope xmlns="http://schemas.dmtf.org/ovf/envelope/1"><References><File
				  xmlns:o="http://schemas.dmtf.org/ovf/envelope/1" o:id="f" o:href="d.vmdk"/></References>
				    <VirtualSystem id="x">
				    <Name>x</Name><VirtualHardwareSection><Info/></VirtualHardwareSection></VirtualSystem>
				      </Envelope>`), 0o644))
		}
		s := send(t, start(t, a, "s1", plan.KindFetchDisk, 1, f), raw, 50_000)
		require.Equal(t, hostlink.TaskDone, s.State, s.Error)
		require.Contains(t, s.Note, map[bool]string{true: "kept aside", false: "directory"}[brought])
		c, err := formats.OpenChain(filepath.Join(ground.StagingDir(pool, job), f.File), formats.Options{})
		require.NoError(t, err)
		disktest.Same(t, truth, c)
		require.NoError(t, c.Close())

		f.Digest.Sum = sha([]byte("another"))
		bad := send(t, start(t, a, "s2", plan.KindFetchDisk, 1, f), raw, 50_000)
		require.Equal(t, "manifest.mismatch", bad.Code, bad.Error)
	}
}

// TestContentIDAlone: a VMDK that states no UUID is converted where the identity is
// kept; the new image has an id of its own where its format needs a UUID.
func TestContentIDAlone(t *testing.T) {
	a, pool := newAgent(t, 0)
	truth := disktest.Pattern(1<<20, 2)
	require.NoError(t, os.WriteFile(filepath.Join(pool, "d.vmdk"), streamOf(t, truth), 0o644))
	for n, format := range []string{"qcow2", "vhdx", "vhd", "raw", "vmdk"} {
		p := hostlink.CarryTask{Carry: plan.Carry{Disk: "disk1", Source: filepath.Join(pool, "d.vmdk"), Pool: pool,
			File: "to." + format, Format: format}, KeepID: true, ID: "0b8e4aef-8a5c-4d6f-b3a1-3f0d1a4d6f77"}
		s := ended(t, start(t, a, fmt.Sprint("s", n), plan.KindCarry, 1, p))
		require.Equal(t, hostlink.TaskDone, s.State, s.Error)
		c, err := formats.OpenChain(filepath.Join(ground.StagingDir(pool, job), p.File),
			formats.Options{Format: format})
		require.NoError(t, err)
		disktest.Same(t, truth, c)
		require.Contains(t, []string{"", "0badcafe", p.ID}, c.Info().ID)
		require.NoError(t, c.Close())
	}
}

// TestTaskOrder: no task begins behind one of its job that is not done; a kind
// that is not known here is refused before anything is kept of it.
func TestTaskOrder(t *testing.T) {
	a, pool := newAgent(t, 0)
	ask := func(step, kind string, params any) error {
		raw, err := json.Marshal(params)
		require.NoError(t, err)
		_, err = a.tasks.Start(job+"."+step, hostlink.TaskSpec{Job: job, Epoch: 1, Kind: kind, Params: raw})
		return err
	}
	require.ErrorContains(t, ask("s1", "knot", nil), "update it")
	require.Empty(t, kept(t, a, "tasks"))
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1, Kind: "knot"}))

	require.Equal(t, hostlink.TaskFailed, ended(t, start(t, a, "s1", plan.KindCarry, 1,
		hostlink.CarryTask{Carry: plan.Carry{Source: pool + "/none", Pool: pool, File: "x"}})).State)
	place := hostlink.PlaceTask{Pool: pool, Name: "tide-gauge",
		Machine: &machine.Machine{Name: "tide-gauge", Passport: &machine.Passport{Copy: "c"}}}
	require.ErrorContains(t, ask("s2", plan.KindPlace, place), "comes first, and is failed")
	require.NoDirExists(t, filepath.Join(pool, "tide-gauge"))
	require.NoError(t, a.tasks.Undo(job+".s1", hostlink.TaskSpec{Job: job, Epoch: 1}))
	require.NoError(t, ask("s2", plan.KindPlace, place))
}

// TestBadRecord: a stored task that can't be read, or is of a kind from another
// version, fails alone. It can be undone.
func TestBadRecord(t *testing.T) {
	a, pool := newAgent(t, 0)
	other := "01a20761-aef5-7543-9815-1ee0d0986762"
	require.NoError(t, a.Records.Put("tasks", job+".s1", "no task"))
	require.NoError(t, a.Records.Put("tasks", other+".s1", map[string]any{"spec": hostlink.TaskSpec{Job: other,
		Epoch: 1,
		Kind:  "knot"}, "state": hostlink.Task{ID: other + ".s1", State: hostlink.TaskRunning}}))
	raw, err := json.Marshal(hostlink.CarryTask{Carry: plan.Carry{Source: pool + "/.unvora-pool.json", Pool: pool,
		File: "x"}})
	require.NoError(t, err)
	good := "01a20761-aef5-7543-9815-1ee0d0986763"
	require.NoError(t, a.Records.Put("tasks", good+".s1", map[string]any{"spec": hostlink.TaskSpec{Job: good, Epoch: 1,
		Kind: plan.KindCarry, Params: raw}, "state": hostlink.Task{ID: good + ".s1", State: hostlink.TaskRunning}}))
	a.Sight.Pools() // marks the pool
	a.tasks = task.New(a.Ground, a.Kinds())
	require.NoError(t, a.tasks.Resume())
	for _, id := range []string{job, other} {
		tk, err := a.tasks.Get(id + ".s1")
		require.NoError(t, err)
		s, _ := tk.Snapshot()
		require.Equal(t, hostlink.TaskFailed, s.State)
		require.NotEmpty(t, s.Error)
		require.NoError(t, a.tasks.Undo(id+".s1", hostlink.TaskSpec{Job: id, Epoch: 1}))
	}
	tk, err := a.tasks.Get(good + ".s1")
	require.NoError(t, err)
	require.Equal(t, hostlink.TaskDone, ended(t, tk).State)
}

// TestPause: a task that is paused keeps what it has, and goes on when it is
// asked for again; one that failed is tried again only for a new try.
func TestPause(t *testing.T) {
	truth := disktest.Pattern(5<<20, 8)
	raw := streamOf(t, truth)
	a, pool := newAgent(t, 0)
	f := fetchOf(pool, raw, truth)
	tk := start(t, a, "s1", plan.KindFetchDisk, 1, f)
	s := tk.Wait(t.Context(), wait.Bound)
	require.NotNil(t, s.Needs)
	spec := hostlink.TaskSpec{Job: job, Epoch: 1, Kind: plan.KindFetchDisk}
	require.NoError(t, a.tasks.Pause(job+".s1", spec))
	require.NoError(t, a.tasks.Pause(job+".s1", spec), "said before")
	require.NoError(t, a.tasks.Pause(job+".s9", spec), "never heard of")
	again, err := a.tasks.Get(job + ".s1")
	require.NoError(t, err)
	s, _ = again.Snapshot()
	require.Equal(t, hostlink.TaskPaused, s.State)
	s = send(t, start(t, a, "s1", plan.KindFetchDisk, 1, f), raw, 500_000)
	require.Equal(t, hostlink.TaskDone, s.State, s.Error)

	bad := hostlink.CarryTask{Carry: plan.Carry{Source: pool + "/late", Pool: pool, File: "y"}}
	require.Equal(t, hostlink.TaskFailed, ended(t, start(t, a, "s2", plan.KindCarry, 1, bad)).State)
	require.NoError(t, os.WriteFile(pool+"/late", []byte("here"), 0o644))
	require.Equal(t, hostlink.TaskFailed, ended(t, start(t, a, "s2", plan.KindCarry, 1, bad)).State)
	params, err := json.Marshal(bad)
	require.NoError(t, err)
	third, err := a.tasks.Start(job+".s2", hostlink.TaskSpec{Job: job, Epoch: 1, Kind: plan.KindCarry, Params: params,
		Try: 1})
	require.NoError(t, err)
	require.Equal(t, hostlink.TaskDone, ended(t, third).State)
}
