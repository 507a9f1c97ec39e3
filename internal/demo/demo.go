// Package demo is the sample estate, and how it starts: PostgreSQL on
// loopback, the service, and the agents of the sample hosts, each a process of
// its own that is started again when it dies.
package demo

import (
	"context"
	"crypto/rand"
	"encoding/hex"
	"encoding/json"
	"errors"
	"fmt"
	"io"
	"io/fs"
	mathrand "math/rand/v2"
	"net"
	"net/http"
	"os"
	"path/filepath"
	"slices"
	"strconv"
	"strings"
	"time"

	"github.com/BurntSushi/toml"
	"github.com/cenkalti/backoff/v5"
	"golang.org/x/sync/errgroup"
	"golang.org/x/sys/unix"

	openapi "unvora.example/unvora/api"
	"unvora.example/unvora/internal/agent"
	"unvora.example/unvora/internal/agent/driver/qemu"
	"unvora.example/unvora/internal/inventory"
	"unvora.example/unvora/internal/work/steer"
)

// Options of a demo.
type Options struct {
	Dir      string
	Port     int
	Services int // on the one database; the first has Port
	Out      io.Writer
	// Profile, if set, is where a second copy of the client's profile is
	// written, for a client that has no other.
	Profile string
	// SignIn makes a client token; WriteProfile writes a profile. They are the client's own.
	SignIn       func(ctx context.Context, server, name, password string) (string, error)
	WriteProfile func(file, server, token string) error
}

// kept is what a demo remembers from one start to the next.
type kept struct {
	AdminPassword    string         `json:"adminPassword"`
	DatabasePassword string         `json:"databasePassword"`
	DatabasePort     int            `json:"databasePort"`
	AgentPorts       map[string]int `json:"agentPorts"`
	Token            string         `json:"token"`
	ManagerPort      int            `json:"managerPort"`
	ManagerPassword  string         `json:"managerPassword"`
	PeerPort         int            `json:"peerPort"`
}

const (
	neededBytes    = 1 << 30
	startPatience  = 60 * time.Second
	adminName      = "admin"
	usualPort      = 7480
	firstAgentPort = 7490

	firstManagerPort = 7485
	firstPeerPort    = 7489
)

// serving is the process of a service.
func serving(name, self, dir string, port int, settings []string) process {
	return process{name: name, path: self, args: []string{"serve", "--log-level", "warn"}, dir: dir,
		env: append([]string{fmt.Sprintf("UNVORA_LISTEN=127.0.0.1:%d", port)}, settings...)}
}

// mostServices bounds how many services a demo has.
const mostServices = 9

// startOthers starts the services behind the first, once that has made the database's tables. It returns where they
// are, for people.
func startOthers(ctx context.Context, s *supervisor, self, dir string, services int, settings []string) (string,
	error) {
	said := ""
	for n := 2; n <= services; n++ {
		port, err := freePort(0)
		if err != nil {
			return "", err
		}
		name, address := fmt.Sprintf("service-%d", n), fmt.Sprintf("http://127.0.0.1:%d", port)
		if err := s.start(serving(name, self, dir, port, settings)); err != nil {
			return "", err
		}
		if err := waitFor(ctx, s, name, func() error { return get(address + "/readyz") }); err != nil {
			return "", err
		}
		said += "\nand at            " + address
	}
	return said, nil
}

// Run starts the estate and keeps it up until ctx ends.
func Run(ctx context.Context, o Options) error {
	dir, err := filepath.Abs(o.Dir)
	if err != nil {
		return err
	}
	o.Dir = dir
	if o.Services < 1 || o.Services > mostServices {
		return fmt.Errorf("a demo has from 1 to %d services, not %d", mostServices, o.Services)
	}
	unlock, err := occupy(dir)
	if err != nil {
		return err
	}
	defer unlock()
	k, err := load(dir, o.Port == usualPort)
	if err != nil {
		return err
	}
	if err := portFree(o.Port); err != nil {
		return fmt.Errorf("port %d is in use: stop what uses it, or choose another with --port", o.Port)
	}
	pg, err := findPostgres()
	if err != nil {
		return err
	}
	self, err := os.Executable()
	if err != nil {
		return err
	}
	fmt.Fprintln(o.Out, "Preparing the sample estate …")
	if err := hypervisor(); err != nil {
		fmt.Fprintln(o.Out, err)
	}
	var all errgroup.Group
	all.Go(func() error { return makeAll(dir, pg, k, func(sampleMachine) bool { return true }) })
	all.Go(func() error { return sample(buildManager(dir, k.ManagerPort, k.ManagerPassword)) })
	if err := all.Wait(); err != nil {
		return err
	}
	s := newSupervisor(dir)
	defer stopMachines(dir, o.Out) // when the agents have ended
	defer s.stop()
	if err := s.start(pg.process(dir, k.DatabasePort)); err != nil {
		return err
	}
	url, err := pg.ready(ctx, k)
	if err != nil {
		return s.why("postgres", err)
	}
	server := fmt.Sprintf("http://127.0.0.1:%d", o.Port)
	settings := []string{"UNVORA_DATABASE=" + url, "UNVORA_FIRST_USER=" + adminName,
		"UNVORA_FIRST_PASSWORD=" + k.AdminPassword, "UNVORA_KEY_FILE=" + filepath.Join(dir, "unvora.key")}
	if err := s.start(serving("service", self, dir, o.Port, append(slices.Clone(settings),
		fmt.Sprintf("UNVORA_PEERS=127.0.0.1:%d", k.PeerPort)))); err != nil {
		return err
	}
	lowly, err := agentsAccount(dir, self)
	if err != nil {
		return err
	}
	for _, h := range hosts() {
		if err := s.start(process{name: "agent-" + h.name, path: self,
			args: []string{"agent", filepath.Join(dir, "hosts", h.name, "agent.toml"), "--log-level", "warn"}, dir: "/",
			credential: lowly}); err != nil {
			return err
		}
	}
	if err := s.start(process{name: "manager-" + managerName, path: self,
		args: []string{"standin", managerDir(dir), "--log-level", "warn"}}); err != nil {
		return err
	}
	if err := waitFor(ctx, s, "service", func() error { return get(server + "/readyz") }); err != nil {
		return err
	}
	others, err := startOthers(ctx, s, self, dir, o.Services, settings)
	if err != nil {
		return err
	}
	if k.Token == "" {
		if k.Token, err = o.SignIn(ctx, server, adminName, k.AdminPassword); err != nil {
			return err
		}
		if err := k.save(dir); err != nil {
			return err
		}
	}
	profile := filepath.Join(dir, "client.toml")
	if err := o.WriteProfile(profile, server, k.Token); err != nil {
		return err
	}
	if o.Profile != "" {
		if err := o.WriteProfile(o.Profile, server, k.Token); err != nil {
			fmt.Fprintf(o.Out, "The client's profile could not be written (%v); use UNVORA_CONFIG=%s\n", err, profile)
			o.Profile = ""
		}
	}
	if err := addHosts(ctx, s, server, dir, k); err != nil {
		return err
	}
	fmt.Fprintf(o.Out, `
Unvora is at      %s%s
Sign in as        %s
with the password %s

The client is signed in already:  %sbin/unvora hosts
Try:                              %sbin/unvora export tide-gauge ./tide-gauge.ova
%sCtrl-C stops everything; the next start finds it as it was.
`, server, others, adminName, k.AdminPassword, clientPrefix(o, profile), clientPrefix(o, profile), told(lowly))
	<-ctx.Done()
	fmt.Fprintln(o.Out, "\nStopping …")
	return nil
}

// makeAll makes the machines that are to be made now, the packages and the database's cluster, unless they are there.
func makeAll(dir string, pg *postgres, k *kept, now func(sampleMachine) bool) error {
	var all errgroup.Group
	all.Go(func() error { return pg.init(dir, k.DatabasePassword) })
	all.Go(func() error { return sample(build(dir, k.AgentPorts, now)) })
	return all.Wait()
}

// Prepare makes in a directory what takes longest, and is the same in each demo: one that starts in a copy of the
// directory finds it there.
func Prepare(dir string) error {
	unlock, err := occupy(dir)
	if err != nil {
		return err
	}
	defer unlock()
	pg, err := findPostgres()
	if err != nil {
		return err
	}
	k := &kept{DatabasePassword: random(16)}
	if err := k.save(dir); err != nil {
		return err
	}
	if err := makeAll(dir, pg, k, func(m sampleMachine) bool { // layers name their parents by where they lie
		return !slices.ContainsFunc(m.disks, func(d sampleDisk) bool { return d.parent != "" })
	}); err != nil {
		return err
	}
	ctx, stop := context.WithTimeout(context.Background(), startPatience)
	defer stop()
	return makeTables(ctx, dir, pg, *k)
}

// makeTables makes the database and its tables, which are empty.
func makeTables(ctx context.Context, dir string, pg *postgres, k kept) (err error) {
	if k.DatabasePort, err = freePort(0); err != nil {
		return err
	}
	s := newSupervisor(dir)
	defer s.stop()
	if err := s.start(pg.process(dir, k.DatabasePort)); err != nil {
		return err
	}
	url, err := pg.ready(ctx, &k)
	if err != nil {
		return s.why("postgres", err)
	}
	inv, err := inventory.Open(ctx, url)
	if err != nil {
		return err
	}
	defer inv.Close()
	return steer.Migrate(ctx, inv)
}

// machinesTime is how long the machines that really run have to end with the demo.
const machinesTime = 15 * time.Second

// stopMachines shuts down what runs on tern, which would go on else.
func stopMachines(dir string, out io.Writer) {
	ctx, stop := context.WithTimeout(context.Background(), machinesTime)
	defer stop()
	state := filepath.Join(dir, "hosts", tern().name, "state", agent.MachinesDir)
	if _, err := os.Stat(state); err != nil {
		return
	}
	d, err := qemu.New(qemu.Options{State: state, Patience: machinesTime / 3})
	if err == nil {
		err = d.StopAll(ctx)
	}
	if err != nil {
		fmt.Fprintln(out, "Machines on tern may still run:", err)
	}
}

// sample says of an error that it came up when the sample machines were made.
func sample(err error) error {
	if err == nil {
		return nil
	}
	return fmt.Errorf("make the sample machines: %w", explain(err))
}

func clientPrefix(o Options, profile string) string {
	if o.Profile != "" {
		return ""
	}
	return "UNVORA_CONFIG=" + profile + " "
}

// occupy makes the directory and sees that nobody else runs a demo in it.
func occupy(dir string) (unlock func(), err error) {
	if err := os.MkdirAll(dir, 0o755); err != nil {
		return nil, fmt.Errorf("%w: choose a directory that you may write to, with --dir", err)
	}
	var st unix.Statfs_t
	if err := unix.Statfs(dir, &st); err != nil {
		return nil, err
	}
	if free := int64(st.Bavail) * st.Bsize; free < neededBytes {
		return nil, fmt.Errorf("%s has %d MiB free, the demo needs %d: make room, or choose another directory with "+
			"--dir",
			dir, free>>20, int64(neededBytes)>>20)
	}
	f, err := os.OpenFile(filepath.Join(dir, "lock"), os.O_CREATE|os.O_RDWR, 0o644)
	if err != nil {
		return nil, fmt.Errorf("%w: choose a directory that you may write to, with --dir", err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		f.Close()
		return nil, fmt.Errorf("a demo runs in %s already: stop it, or choose another directory with --dir", dir)
	}
	return func() { f.Close() }, nil
}

// explain adds what to do to errors of a full disk or a missing right.
func explain(err error) error {
	switch {
	case errors.Is(err, unix.ENOSPC):
		return fmt.Errorf("%w: the disk is full; make room, or choose another directory with --dir", err)
	case errors.Is(err, fs.ErrPermission):
		return fmt.Errorf("%w: choose a directory that you may write to, with --dir", err)
	}
	return err
}

// load finds the demo's ports and secrets, or makes them. Only the usual demo has
// the usual ports: several that start at one moment would take them from each other.
func load(dir string, usual bool) (*kept, error) {
	k := &kept{AgentPorts: map[string]int{}}
	free := func(wanted int) (int, error) {
		if !usual {
			wanted = 0
		}
		return freePort(wanted)
	}
	raw, err := os.ReadFile(filepath.Join(dir, "demo.json"))
	if err == nil {
		if err := json.Unmarshal(raw, k); err != nil {
			return nil, fmt.Errorf("%s: %w", filepath.Join(dir, "demo.json"), err)
		}
		if k.AgentPorts == nil {
			k.AgentPorts = map[string]int{}
		}
	} else if !errors.Is(err, fs.ErrNotExist) {
		return nil, err
	}
	if k.AdminPassword == "" {
		k.AdminPassword = random(6)
	}
	if k.DatabasePassword == "" {
		k.DatabasePassword = random(16)
	}
	if k.ManagerPassword == "" {
		k.ManagerPassword = random(8)
	}
	for port, first := range map[*int]int{&k.ManagerPort: firstManagerPort, &k.PeerPort: firstPeerPort} {
		if *port != 0 && portFree(*port) != nil {
			return nil, fmt.Errorf("port %d, which others know, is in use: stop what uses it, or start afresh with "+
				"another "+
				"--dir", *port)
		}
		if *port == 0 {
			if *port, err = free(first); err != nil {
				return nil, err
			}
		}
	}
	if k.DatabasePort == 0 || portFree(k.DatabasePort) != nil {
		if k.DatabasePort, err = freePort(0); err != nil {
			return nil, err
		}
	}
	for i, h := range hosts() {
		if port := k.AgentPorts[h.name]; port != 0 {
			if portFree(port) != nil {
				return nil, fmt.Errorf("port %d, where the agent of %s was added, is in use: stop what uses it, or "+
					"start afresh "+
					"with another --dir", port, h.name)
			}
			continue
		}
		if k.AgentPorts[h.name], err = free(firstAgentPort + i); err != nil {
			return nil, err
		}
	}
	return k, k.save(dir)
}

func (k *kept) save(dir string) error { return writeJSON(filepath.Join(dir, "demo.json"), k, 0o600) }

func writeJSON(file string, value any, mode os.FileMode) error {
	raw, err := json.MarshalIndent(value, "", "  ")
	if err != nil {
		return err
	}
	if err := os.WriteFile(file+".new", append(raw, '\n'), mode); err != nil {
		return err
	}
	return os.Rename(file+".new", file)
}

func random(bytes int) string {
	b := make([]byte, bytes)
	rand.Read(b)
	return hex.EncodeToString(b)
}

func portFree(port int) error {
	l, err := net.Listen("tcp", fmt.Sprintf("127.0.0.1:%d", port))
	if err != nil {
		return err
	}
	return l.Close()
}

// freePort returns the port asked for if it is free, else any below those that
// the system gives to connections, which would take it again before it is used.
func freePort(wanted int) (int, error) {
	const first, last = 15_000, 32_000
	for range 1000 {
		if wanted != 0 && portFree(wanted) == nil && claim(wanted) {
			return wanted, nil
		}
		wanted = first + mathrand.IntN(last-first)
	}
	return 0, fmt.Errorf("no port between %d and %d is free", first, last)
}

// claims are held for as long as the demo runs, and end with it.
var claims []*os.File

// claim keeps a port that nothing listens on yet from other demos that start at this moment, and from being given out
// twice here.
func claim(port int) bool {
	dir := filepath.Join(os.TempDir(), "unvora-ports")
	if err := os.MkdirAll(dir, 0o777); err != nil {
		return true // nobody can claim anything here
	}
	_ = os.Chmod(dir, 0o777|os.ModeSticky) // for demos of other accounts, which can't take each other's away
	f, err := os.OpenFile(filepath.Join(dir, strconv.Itoa(port)), os.O_RDONLY|os.O_CREATE|unix.O_NOFOLLOW, 0o644)
	if err != nil {
		return os.IsPermission(err)
	}
	if err := unix.Flock(int(f.Fd()), unix.LOCK_EX|unix.LOCK_NB); err != nil {
		_ = f.Close()
		return false
	}
	claims = append(claims, f)
	return true
}

func get(url string) error {
	res, err := http.Get(url)
	if err != nil {
		return err
	}
	defer res.Body.Close()
	if res.StatusCode != http.StatusOK {
		return errors.New(res.Status)
	}
	return nil
}

// waitFor tries until it works; what the process has printed explains why not.
func waitFor(ctx context.Context, s *supervisor, name string, try func() error) error {
	_, err := backoff.Retry(ctx, func() (struct{}, error) { return struct{}{}, try() }, patience()...)
	switch {
	case ctx.Err() != nil:
		return errors.New("stopped while starting")
	case err != nil:
		return s.why(name, err)
	}
	return nil
}

// patience is how something that starts is waited for.
func patience() []backoff.RetryOption {
	return []backoff.RetryOption{backoff.WithBackOff(backoff.NewConstantBackOff(100 * time.Millisecond)),
		backoff.WithMaxElapsedTime(startPatience)}
}

// addHosts adds the agents that print a code, that is at the first start.
func addHosts(ctx context.Context, s *supervisor, server, dir string, k *kept) error {
	c, err := openapi.NewClientWithResponses(server+"/api/v1",
		openapi.WithRequestEditorFn(func(_ context.Context, r *http.Request) error {
			r.Header.Set("Authorization", "Bearer "+k.Token)
			return nil
		}))
	if err != nil {
		return err
	}
	first := false
	for _, h := range hosts() {
		err := waitFor(ctx, s, "agent-"+h.name, func() error {
			res, err := c.GetHostWithResponse(ctx, h.name)
			if err != nil {
				return err
			}
			if res.JSON200 != nil {
				return nil // added before
			}
			code, err := os.ReadFile(filepath.Join(dir, "hosts", h.name, "state", "code"))
			if err != nil {
				return fmt.Errorf("the agent has not made its code yet: %w", err)
			}
			added, err := c.AddHostWithResponse(ctx, openapi.AddHost{Address: fmt.Sprintf("127.0.0.1:%d",
				k.AgentPorts[h.name]),
				Code: strings.TrimSpace(string(code))})
			if err == nil && added.JSON201 == nil {
				err = fmt.Errorf("add host %s: %s", h.name, added.Body)
			}
			first = true
			return err
		})
		if err != nil {
			return err
		}
	}
	if _, err = c.SurveyWithResponse(ctx, openapi.SurveyJSONRequestBody{}); err != nil {
		return err
	}
	if err := hollowOut(dir); err != nil {
		return err
	}
	if err := addManager(ctx, s, c, dir, k); err != nil {
		return err
	}
	if first {
		if err := describe(ctx, c); err != nil {
			return err
		}
	}
	_, err = c.SurveyWithResponse(ctx, openapi.SurveyJSONRequestBody{})
	return err
}

// describe tells what people know of the estate: the subnets of its segments, and
// what a licence is bound to.
func describe(ctx context.Context, c *openapi.ClientWithResponses) error {
	for name, prefix := range map[string]string{"lab": "192.0.2.", "field": "198.51.100."} {
		addresses := prefix + "100-" + prefix + "199"
		if res, err := c.SetSegmentWithResponse(ctx, openapi.SetSegmentJSONRequestBody{Name: name,
			Subnet: prefix + "0/24",
			Range:  &addresses}); err != nil || res.StatusCode() >= 400 {
			return fmt.Errorf("describe the segment %s: %w", name, err)
		}
	}
	for _, r := range []openapi.NewLandingRule{{Kind: new(openapi.NewLandingRuleKind("machine")), Label: new("fast"),
		KeepBytes: new(int64(256 << 20))}, {Kind: new(openapi.NewLandingRuleKind("media")), Label: new("archive")}} {
		if res, err := c.AddLandingRuleWithResponse(ctx, r); err != nil || res.StatusCode() >= 400 {
			return fmt.Errorf("add a rule of landing: %w", err)
		}
	}
	res, err := c.SetMarkWithResponse(ctx, openapi.SetMarkJSONRequestBody{Lineage: "licence-desk", Kind: "licence",
		Facet: "mac"})
	if err == nil && res.StatusCode() >= 400 {
		err = errors.New(string(res.Body))
	}
	if err != nil {
		return fmt.Errorf("mark licence-desk: %w", err)
	}
	return nil
}

// writeTOML writes a configuration file.
func writeTOML(file string, value any) error {
	f, err := os.Create(file)
	if err != nil {
		return err
	}
	return errors.Join(toml.NewEncoder(f).Encode(value), f.Close())
}
