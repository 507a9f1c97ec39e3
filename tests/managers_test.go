package tests

import (
	"crypto/x509"
	"encoding/json"
	"fmt"
	"math/rand/v2"
	"os"
	"path/filepath"
	"slices"
	"strings"
	"syscall"
	"testing"

	"github.com/jackc/pgx/v5"
	"github.com/stretchr/testify/require"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/core/keyring"
	"unvora.example/unvora/internal/cimi/standin"
	"unvora.example/unvora/internal/hostlink"
	"unvora.example/unvora/internal/wait"
)

// mainland is the directory of the estate's foreign manager.
func (e *estate) mainland() string { return filepath.Join(e.dir, "managers", "mainland") }

// volume is the checksum of a volume at the manager, by the judge.
func (e *estate) volume(t *testing.T, id string) string {
	t.Helper()
	return judge(t, "raw", standin.VolumePath(e.mainland(), id)).sum(t)
}

func (e *estate) diskOf(t *testing.T, format, ref string, n int) string {
	t.Helper()
	c := get[openapi.Copy](t, e, "copies", ref)
	return judge(t, format, filepath.Join(c.Path, (*c.Machine.Disks)[n].File)).sum(t)
}

// images lists what the manager keeps of images.
func (e *estate) images(t *testing.T) []os.DirEntry {
	t.Helper()
	list, err := os.ReadDir(filepath.Join(e.mainland(), "images"))
	require.NoError(t, err)
	return list
}

// told is how a call fails, with its status.
func (e *estate) told(t *testing.T, status int, args ...string) string {
	t.Helper()
	r := e.run(t, args...)
	require.Equalf(t, status, r.status, "unvora %s\n%s%s", strings.Join(args, " "), r.out, r.err)
	return r.err
}

// TestManager adds a foreign manager, sees what it has, imports and fetches ahead
// from it, and puts a machine back.
func TestManager(t *testing.T) {
	e := ownEstate(t)
	t.Run("add and check", func(t *testing.T) {
		m := get[[]openapi.Manager](t, e, "managers")
		require.Len(t, m, 1)
		require.Equal(t, []string{"dunlin@mainland", "knot@mainland"}, m[0].Hosts)
		require.Equal(t, 3, m[0].Copies)
		for _, k := range get[[]openapi.HostCheck](t, e, "manager", "check", "mainland") {
			require.True(t, k.Ok, k.Says)
		}
		var kept struct {
			ManagerPassword, DatabasePassword string
			DatabasePort                      int
		}
		raw, err := os.ReadFile(filepath.Join(e.dir, "demo.json"))
		require.NoError(t, err)
		require.NoError(t, json.Unmarshal(raw, &kept))
		e.env = []string{"UNVORA_MANAGER_SECRET=" + kept.ManagerPassword}
		address := m[0].Address
		require.Contains(t, e.told(t, 4, "manager", "add", "second", address, "--account", "visitor"),
			"is known as mainland already")
		e.ok(t, "manager", "drop", "mainland")
		require.Contains(t, e.told(t, 1, "managers", "mainland"), "no manager")
		require.NotContains(t, e.ok(t, "copies"), "mainland")
		says := e.told(t, 3, "manager", "add", "second", address, "--account", "visitor")
		_, trust, _ := strings.Cut(says, "--trust ")
		trust = strings.TrimSpace(trust)
		require.Contains(t, says, "compare it with what the people there tell you")
		require.Contains(t, e.told(t, 2, "manager", "add", "second", address, "--account", "visitor", "--trust",
			"sha256:00"),
			"not the one that is to be trusted")
		require.Contains(t, e.told(t, 6, "manager", "add", "second", "https://127.0.0.1:1/cimi", "--account",
			"visitor"),
			"nothing listens on port 1")
		require.Contains(t, e.told(t, 6, "manager", "add", "second", "https://nowhere.invalid/cimi", "--account",
			"visitor"),
			"can't be resolved")
		require.Contains(t, e.told(t, 2, "manager", "add", "second", "http://x/cimi", "--account", "visitor"),
			"https URL")
		require.Contains(t, e.told(t, 2, "manager", "add", "a/b", address, "--account", "visitor", "--trust", trust),
			"no name for a manager")
		e.env = []string{"UNVORA_MANAGER_SECRET=high tide"}
		require.Contains(t, e.told(t, 2, "manager", "add", "second", address, "--account", "visitor", "--trust", trust),
			"account or its password is wrong")
		e.env = []string{"UNVORA_MANAGER_SECRET=" + kept.ManagerPassword}

		// An account that may only look sees, and can do nothing else.
		e.ok(t, "manager", "add", "mainland", address, "--account", "visitor", "--trust", trust)
		require.Contains(t, e.told(t, 1, "manager", "check", "mainland"), "can't be used as it should be")
		require.Contains(t, e.run(t, "manager", "check", "mainland").out, "so that nothing can be imported")
		require.Contains(t, e.run(t, "import", "--from", "mainland", "surge-forecast", "--host", "gannet",
			"--plan").out,
			"manager.rights")
		e.ok(t, "manager", "drop", "mainland")
		e.ok(t, "manager", "add", "mainland", address, "--account", "skerrow", "--trust", trust)

		// What it is asked with lies sealed in the database, and is told nobody.
		require.NotContains(t, e.ok(t, "managers", "mainland", "-o", "json"), kept.ManagerPassword)
		db, err := pgx.Connect(t.Context(), fmt.Sprintf("postgres://unvora:%s@127.0.0.1:%d/unvora",
			kept.DatabasePassword, kept.DatabasePort))
		require.NoError(t, err)
		defer db.Close(t.Context())
		var sealed, row string
		require.NoError(t, db.QueryRow(t.Context(),
			`select encode(sealed, 'escape'), managers::text from managers`).Scan(&sealed, &row))
		require.NotEmpty(t, sealed)
		require.NotContains(t, sealed+row, kept.ManagerPassword)
	})

	t.Run("what is there is seen, and left alone", func(t *testing.T) {
		c := get[openapi.Copy](t, e, "copies", "mainland/swell-archive")
		require.Equal(t, "running", string(c.State))
		require.False(t, c.Tracked)
		require.Equal(t, "laboratory", (*c.Machine.Nics)[0].Network)
		for _, args := range [][]string{{"export", "mainland/swell-archive", "loft"},
			{"power", "off", "dunlin@mainland/swell-archive"}, {"delist", "swell-archive"},
			{"change", "swell-archive", "--cpus", "3"}} {
			require.Contains(t, e.told(t, 2, args...), "Import it first")
		}
		require.Contains(t, e.told(t, 2, "register", "kelp/chart-render", "--host", "knot@mainland"), "unvora put-back")
		require.NotContains(t, e.ok(t, "hosts"), "mainland")
		require.Contains(t, e.told(t, 2, "track", "mainland/swell-archive"), "looks after it")
		require.NotContains(t, e.ok(t, "attention"), "mainland")
	})

	t.Run("import", func(t *testing.T) {
		p := get[openapi.Plan](t, e, "import", "--from", "mainland", "--where", "state=stopped", "--host", "skua",
			"--yes", "--plan")
		require.Equal(t, []string{"dunlin@mainland/surge-forecast"}, p.Subjects)
		e.ok(t, "import", "--from", "mainland", "surge-forecast", "--host", "skua", "--name", "surge", "--facet",
			"mac=keep",
			"--answer", "mac.in-use=keep", "--yes")
		for n := range 2 {
			require.Equal(t, e.volume(t, fmt.Sprint("surge-forecast-disk", n+1)), e.diskOf(t, "vmdk", "skua/surge", n))
		}
		c := get[openapi.Copy](t, e, "copies", "skua/surge")
		require.Equal(t, get[openapi.Copy](t, e, "copies", "mainland/surge-forecast").Macs, c.Macs)
		require.Equal(t, "Lab-20", (*c.Machine.Nics)[0].Network)
		require.Empty(t, e.images(t))
		require.Contains(t, e.ok(t, "where", "surge-forecast"), "skua/surge")
		require.Contains(t, e.ok(t, "compare", "skua/surge", "mainland/surge-forecast"), "import it, and compare that")

		// Another host reads and converts on the way.
		require.Contains(t, e.told(t, 2, "import", "--from", "mainland", "surge-forecast", "--host", "fulmar", "--via",
			"knot@mainland"), "--via names a host")
		e.ok(t, "import", "--from", "mainland", "surge-forecast", "--host", "fulmar", "--via", "petrel", "--pool",
			"ledge", "--yes")
		require.Equal(t, e.volume(t, "surge-forecast-disk2"), e.diskOf(t, "vhdx", "fulmar/surge-forecast", 1))
		require.NotEqual(t, c.Macs, get[openapi.Copy](t, e, "copies", "fulmar/surge-forecast").Macs)
		require.Contains(t, e.told(t, 2, "import", "--from", "mainland", "surge-forecast", "--host", "gannet",
			"--move"),
			"stays there")
		require.Contains(t, e.told(t, 1, "import", "--from", "mainland", "--where", "name=none", "--host", "gannet"),
			"no machines that fit")
	})

	t.Run("a running machine is stopped for its image only", func(t *testing.T) {
		p := get[openapi.Plan](t, e, "import", "--from", "mainland", "ferry-notices", "--host", "petrel", "--yes",
			"--plan")
		require.True(t, slices.ContainsFunc(p.Findings,
			func(f openapi.Finding) bool { return f.Code == "manager.stopped-only" }))
		e.ok(t, "import", "--from", "mainland", "ferry-notices", "--host", "petrel", "--yes")
		require.Equal(t, e.volume(t, "ferry-notices-disk1"), e.diskOf(t, "qcow2", "petrel/ferry-notices", 0))
		require.Equal(t, "running", string(get[openapi.Copy](t, e, "copies", "mainland/ferry-notices").State))
	})

	t.Run("fetch ahead, and again", func(t *testing.T) {
		args := []string{"import", "--from", "mainland", "--where", "name~swell-*", "--host",
			"petrel", "--ahead", "--answer", "manager.running=moment"}
		e.ok(t, args...) // to another host first, where nothing is left of it
		args[6] = "gannet"
		e.ok(t, args...)
		require.Empty(t, e.leftovers(t, "petrel"))
		require.Len(t, get[openapi.ManagerDetail](t, e, "managers", "mainland").Ahead, 1)
		require.Len(t, e.images(t), 2, "the image that differences are told from, in both its forms")
		e.ok(t, args...)
		require.Len(t, e.images(t), 2)
		require.Contains(t, e.run(t, append(args, "--plan")...).out, "only what has changed since is moved")
		ahead := get[openapi.ManagerDetail](t, e, "managers", "mainland").Ahead
		require.Len(t, ahead, 1)
		require.Equal(t, e.volume(t, "swell-archive-disk1"), judge(t, "qcow2", ahead[0].Path).sum(t))
		require.Contains(t, e.told(t, 2, "import", "--from", "gannet", "tide-gauge", "--host", "petrel", "--ahead"),
			"only machines of managers")

		e.ok(t, "import", "--from", "mainland", "swell-archive", "--host", "gannet", "--yes")
		require.Equal(t, e.volume(t, "swell-archive-disk1"), e.diskOf(t, "qcow2", "gannet/swell-archive", 0),
			"with what was written when it was stopped")
		require.Empty(t, get[openapi.ManagerDetail](t, e, "managers", "mainland").Ahead)
		require.Empty(t, e.images(t))
		require.Empty(t, e.leftovers(t, "gannet"))
		require.Equal(t, "running", string(get[openapi.Copy](t, e, "copies", "mainland/swell-archive").State))
	})

	t.Run("put back", func(t *testing.T) {
		require.Contains(t, e.told(t, 2, "put-back", "gannet/tide-gauge"), "came from no manager")
		require.Contains(t, e.run(t, "put-back", "skua/surge", "--plan").out, "Put it beside as surge-2")
		e.ok(t, "put-back", "skua/surge", "--yes")
		c := get[openapi.Copy](t, e, "copies", "mainland/surge-2")
		require.Equal(t, "put-back", c.MadeBy)
		require.Equal(t, get[openapi.Copy](t, e, "copies", "skua/surge").Id, *c.Parent)
		require.NotEqual(t, get[openapi.Copy](t, e, "copies", "skua/surge").Macs, c.Macs)
		require.Equal(t, e.diskOf(t, "vmdk", "skua/surge", 0), e.volume(t, lastOf((*c.Machine.Disks)[0].File)))

		// In its place: what ran there is stopped and removed, and nothing is left over.
		require.Contains(t, e.run(t, "put-back", "gannet/swell-archive", "--answer", "manager.still-there=replace",
			"--plan").out, "Until s4 is done, cancelling undoes everything")
		e.ok(t, "put-back", "gannet/swell-archive", "--answer", "manager.still-there=replace", "--yes")
		there := get[openapi.Copy](t, e, "copies", "mainland/swell-archive")
		require.NotEqual(t, "swell-archive-disk1", lastOf((*there.Machine.Disks)[0].File))
		require.Equal(t, e.diskOf(t, "qcow2", "gannet/swell-archive", 0),
			e.volume(t, lastOf((*there.Machine.Disks)[0].File)))
		require.NoFileExists(t, standin.VolumePath(e.mainland(), "swell-archive-disk1"))
		require.Empty(t, e.images(t))
		e.ok(t, "put-back", "gannet/tide-gauge", "--to", "mainland", "--yes")
		require.Contains(t, e.ok(t, "where", "tide-gauge"), "dunlin@mainland/tide-gauge")
	})
}

func lastOf(href string) string { return href[strings.LastIndex(href, "/")+1:] }

// TestManagerCrash: manager, agent and service are killed in the middle of an
// import; it goes on. One that is cancelled leaves nothing, here or there.
func TestManagerCrash(t *testing.T) {
	e := ownEstate(t)
	f, err := os.OpenFile(standin.VolumePath(e.mainland(), "surge-forecast-disk2"), os.O_RDWR, 0)
	require.NoError(t, err)
	rng := rand.NewChaCha8([32]byte{3})
	block := make([]byte, 1<<20)
	for n := range int64(400) {
		rng.Read(block)
		_, err := f.WriteAt(block, n<<21)
		require.NoError(t, err)
	}
	require.NoError(t, f.Close())
	killDuring(t, e, []string{"manager-mainland", "agent-gannet", "service"}, "import", "--from", "mainland",
		"surge-forecast", "--host", "gannet", "--yes")
	require.Equal(t, e.volume(t, "surge-forecast-disk2"), e.diskOf(t, "qcow2", "gannet/surge-forecast", 1))
	require.Empty(t, e.leftovers(t, "gannet"))
	require.Empty(t, e.images(t))

	e.ok(t, "import", "--from", "mainland", "surge-forecast", "--host", "petrel", "--name", "second", "--yes",
		"--detach")
	job := get[[]openapi.Job](t, e, "jobs")[0].Id
	require.Contains(t, e.told(t, 4, "manager", "drop", "mainland"), "is at work at mainland")
	e.ok(t, "jobs", "cancel", job)
	wait.Until(t, func() bool {
		return get[openapi.Job](t, e, "jobs", job).State == "cancelled" && len(e.images(t)) == 0
	})
	require.Empty(t, e.leftovers(t, "petrel"))
	require.NotContains(t, e.ok(t, "copies"), "petrel/second")

	// A manager that is away is said to be, and its machines keep their last sighting.
	kill(t, e, "manager-mainland")
	r := e.run(t, "survey", "mainland")
	require.Contains(t, r.out+r.err, "does not answer")
	require.Equal(t, "surge-forecast", get[openapi.Copy](t, e, "copies", "mainland/surge-forecast").Name)
	require.Contains(t, e.run(t, "import", "--from", "mainland", "surge-forecast", "--host", "petrel", "--plan").out,
		"host.unreachable")
	wait.Until(t, func() bool {
		e.run(t, "survey", "mainland")
		return get[[]openapi.Manager](t, e, "managers")[0].State == "up"
	})
}

// TestPeers: two Unvoras that were paired by codes from both sides see of each
// other what was granted, and copies go from one to the other.
func TestPeers(t *testing.T) {
	a := ownEstate(t)
	b, err := startEstate(a.dir+"-island", built(t))
	require.NoError(t, err)
	t.Cleanup(b.stop)
	codeA, codeB := get[openapi.Pairing](t, a, "manager", "code"), get[openapi.Pairing](t, b, "manager", "code")

	require.Contains(t, a.told(t, 2, "manager", "pair", "island", codeB.Address, "--code", "K7QF"), "8 groups")
	require.Contains(t, a.told(t, 2, "manager", "pair", "island", "somewhere", "--code", codeB.Code), "HOST:PORT")
	require.Contains(t, a.told(t, 6, "manager", "pair", "island", codeB.Address, "--code", codeA.Code),
		"not the Unvora that the code is of")
	require.Contains(t, a.told(t, 6, "manager", "pair", "island", codeA.Address, "--code", codeA.Code),
		"of this very Unvora")
	require.Contains(t, a.told(t, 2, "manager", "pair", "island", codeB.Address, "--code", codeB.Code, "--see",
		"colour=red"), "colour")
	require.Contains(t, a.ok(t, "manager", "pair", "island", codeB.Address, "--code", codeB.Code, "--see", "all"),
		"nobody has paired with us yet")
	require.Contains(t, a.run(t, "manager", "check", "island").out, "✕ paired")
	require.Contains(t, a.told(t, 2, "manager", "pair", "island2", codeB.Address, "--code", codeB.Code), "used before")
	b.ok(t, "manager", "pair", "skerrow", codeA.Address, "--code", codeA.Code, "--see", "name~tide-*")
	for _, k := range get[[]openapi.HostCheck](t, a, "manager", "check", "island") {
		require.True(t, k.Ok, k.Says)
	}
	a.ok(t, "survey", "island")
	b.ok(t, "survey", "skerrow")

	t.Run("what is granted is seen, and no more", func(t *testing.T) {
		names := []string{}
		for _, c := range get[[]openapi.Copy](t, a, "copies", "--where", "manager=island") {
			names = append(names, c.Name)
		}
		require.Equal(t, []string{"tide-gauge", "tide-probe"}, names)
		require.Greater(t, len(get[[]openapi.Copy](t, b, "copies", "--where", "manager=skerrow")), 15)
		// Neither has what the other's manager has.
		require.NotContains(t, b.ok(t, "copies", "--where", "manager=skerrow"), "mainland")
		p := b.run(t, "import", "--from", "skerrow", "wave-model", "--host", "skua", "--name", "w", "--yes")
		require.Equal(t, 4, p.status)
		require.Contains(t, p.err, "lets you see it, and not take it")
	})

	t.Run("a copy comes over, with a job on both sides", func(t *testing.T) {
		a.ok(t, "manager", "grant", "island", "--see", "all", "--take")
		b.ok(t, "survey", "skerrow")
		b.ok(t, "import", "--from", "skerrow", "buoy-ingest", "--host", "skua", "--name", "buoy-island", "--yes")
		require.Equal(t, a.diskOf(t, "qcow2", "gannet/buoy-ingest", 0), b.diskOf(t, "vmdk", "skua/buoy-island", 0))
		b.ok(t, "import", "--from", "skerrow", "chart-render", "--host", "fulmar", "--name", "chart-island", "--yes")
		require.Contains(t, b.ok(t, "where", "chart-render"), "fulmar/chart-island")
		wait.Until(t, func() bool {
			j := get[[]openapi.Job](t, a, "jobs")[0]
			return j.Operation == "lend" && j.State == "done" && j.User == "admin@island"
		})
		require.Equal(t, "running", string(get[openapi.Copy](t, a, "copies", "petrel/chart-render").State),
			"it was stopped for that long, and runs again")
	})

	t.Run("findings for what the other lacks", func(t *testing.T) {
		out := b.run(t, "import", "--from", "skerrow", "kiosk-visitor", "--host", "petrel", "--name", "kiosk",
			"--plan").out
		require.Contains(t, out, "No switch of petrel reaches the network visitors")
		out = b.run(t, "import", "--from", "skerrow", "wave-model", "--host", "fulmar", "--name", "wave", "--plan").out
		require.Contains(t, out, "cpu.too-many")
		require.Contains(t, out, "memory.too-much")
	})

	t.Run("what is not granted can't be had by asking otherwise", func(t *testing.T) {
		db, err := pgx.Connect(t.Context(), b.database(t))
		require.NoError(t, err)
		defer db.Close(t.Context())
		var cert string
		var sealed []byte
		require.NoError(t, db.QueryRow(t.Context(), `select cert, sealed from authority where key is null`).Scan(&cert,
			&sealed))
		require.NotContains(t, string(sealed), "PRIVATE KEY")
		written, err := os.ReadFile(filepath.Join(b.dir, "unvora.key"))
		require.NoError(t, err)
		sealing, err := keyring.ParseKey(string(written))
		require.NoError(t, err)
		key, err := sealing.Open(sealed, "authority")
		require.NoError(t, err)
		authority, err := hostlink.LoadAuthority([]byte(cert), key)
		require.NoError(t, err)
		config, err := authority.PeerTLS()
		require.NoError(t, err)
		island := hostlink.DialPeer(config, codeA.Address, func(*x509.Certificate) error { return nil })
		ask := func(copy, job string) (*hostlink.PeerTicket, error) {
			return island.Read(t.Context(), hostlink.PeerRead{Copy: get[openapi.Copy](t, a, "copies", copy).Id,
				Job: job,
				Who: "x"})
		}
		wait.Until(t, func() bool {
			ticket, err := ask("petrel/tide-probe", "one")
			return err == nil && ticket.From != nil
		})
		_, err = ask("gannet/buoy-ingest", "one")
		require.ErrorContains(t, err, "of another copy")
		a.ok(t, "manager", "grant", "island", "--see", "name~buoy-*", "--take")
		_, err = ask("petrel/tide-probe", "one")
		require.ErrorContains(t, err, "no such copy that you may see", "it is asked anew each time")
		_, err = ask("gannet/archive-db", "two")
		require.ErrorContains(t, err, "no such copy that you may see")
		require.NoError(t, island.End(t.Context(), "one", hostlink.PeerEnd{Error: "it was only a question"}))
		require.ErrorContains(t, island.End(t.Context(), "three", hostlink.PeerEnd{Done: true}), "nothing is known")
		a.ok(t, "manager", "grant", "island", "--see", "all", "--take")
	})

	t.Run("a copy moves, and keeps its identity", func(t *testing.T) {
		c := get[openapi.Copy](t, a, "copies", "gannet/tide-gauge")
		truth := a.diskOf(t, "qcow2", "gannet/tide-gauge", 0)
		b.ok(t, "delist", "gannet/tide-gauge", "--files", "trash", "--answer", "source.last-copy=by-name:tide-gauge",
			"--yes")
		b.ok(t, "import", "--from", "skerrow", "tide-gauge", "--host", "petrel", "--move", "--yes", "--answer",
			"mac.in-use=keep")
		moved := get[openapi.Copy](t, b, "copies", "petrel/tide-gauge")
		require.Equal(t, truth, b.diskOf(t, "qcow2", "petrel/tide-gauge", 0))
		require.Equal(t, c.Uuid, moved.Uuid)
		wait.Until(t, func() bool { return a.run(t, "copies", "gannet/tide-gauge").status != 0 })
		require.NoDirExists(t, c.Path)
	})

	t.Run("cancelled there, it ends here too", func(t *testing.T) {
		agent := b.pids(t)["agent-gannet"]
		require.NoError(t, syscall.Kill(agent, syscall.SIGSTOP))
		t.Cleanup(func() { syscall.Kill(agent, syscall.SIGCONT) })
		b.ok(t, "import", "--from", "skerrow", "tide-probe", "--host", "gannet", "--name", "probe-two", "--yes",
			"--detach")
		var lent openapi.Job
		wait.Until(t, func() bool {
			lent = get[[]openapi.Job](t, a, "jobs")[0]
			return lent.Operation == "lend" && lent.Subject == "petrel/tide-probe" && lent.State == "working"
		})
		a.ok(t, "jobs", "cancel", lent.Id)
		require.NoError(t, syscall.Kill(agent, syscall.SIGCONT))
		wait.Until(t, func() bool { return get[[]openapi.Job](t, b, "jobs")[0].State == "failed" })
		require.Regexp(t, "(was|is) cancelled|ticket is not valid", get[[]openapi.Job](t, b, "jobs")[0].Error.Message,
			"whoever was quicker")
		wait.Until(t, func() bool { return get[openapi.Job](t, a, "jobs", lent.Id).State == "cancelled" })
		require.NoDirExists(t, filepath.Join(b.pool("gannet", "reef"), ".unvora",
			get[[]openapi.Job](t, b, "jobs")[0].Id))
	})

	t.Run("an end that is told too late, or not at all", func(t *testing.T) {
		a.ok(t, "manager", "drop", "island")
		require.Contains(t, b.run(t, "manager", "check", "skerrow").out, "✕ paired")
		require.Contains(t, b.run(t, "survey", "skerrow").err+b.run(t, "managers").out, "nobody has paired with us")
	})
}
