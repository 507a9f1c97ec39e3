package demo

import (
	"bytes"
	"errors"
	"fmt"
	"os"
	"os/exec"
	"path/filepath"
	"runtime"
	"strings"
	"sync"
	"syscall"
	"time"
)

// process is one that the demo keeps up.
type process struct {
	name       string
	path       string
	args, env  []string
	dir        string // it is started in; "" is our own
	credential *syscall.Credential
	signal     syscall.Signal // that stops it; 0 means SIGTERM
}

const (
	restartAfter = 2 * time.Second
	stopPatience = 15 * time.Second
)

// supervisor starts processes, starts again those that die, and stops all.
type supervisor struct {
	dir string

	mu       sync.Mutex
	stopping bool
	names    []string // in the order of starting
	running  map[string]*exec.Cmd
	signals  map[string]syscall.Signal
	output   map[string]*tail
	wg       sync.WaitGroup
}

func newSupervisor(dir string) *supervisor {
	return &supervisor{dir: dir, running: map[string]*exec.Cmd{}, signals: map[string]syscall.Signal{},
		output: map[string]*tail{}}
}

// tail keeps the last of what a process has printed, and writes it to a log.
type tail struct {
	mu   sync.Mutex
	buf  bytes.Buffer
	file *os.File
}

func (t *tail) Write(p []byte) (int, error) {
	t.mu.Lock()
	defer t.mu.Unlock()
	if t.buf.Len() > 64<<10 {
		t.buf.Next(32 << 10)
	}
	t.buf.Write(p)
	return t.file.Write(p)
}

func (t *tail) String() string {
	t.mu.Lock()
	defer t.mu.Unlock()
	return t.buf.String()
}

// start starts a process and keeps it up from now on.
func (s *supervisor) start(p process) error {
	logs := filepath.Join(s.dir, "logs")
	if err := os.MkdirAll(logs, 0o700); err != nil {
		return err
	}
	file, err := os.OpenFile(filepath.Join(logs, p.name+".log"), os.O_CREATE|os.O_APPEND|os.O_WRONLY, 0o600)
	if err != nil {
		return err
	}
	out := &tail{file: file}
	if p.signal == 0 {
		p.signal = syscall.SIGTERM
	}
	s.mu.Lock()
	s.names = append(s.names, p.name)
	s.output[p.name], s.signals[p.name] = out, p.signal
	s.mu.Unlock()
	started := make(chan error, 1)
	s.wg.Go(func() {
		// Children are told when their parent dies; the kernel means the thread.
		runtime.LockOSThread()
		defer file.Close()
		for first := true; ; first = false {
			cmd := exec.Command(p.path, p.args...)
			cmd.Dir = p.dir
			cmd.Env = append(os.Environ(), p.env...)
			cmd.Stdout, cmd.Stderr = out, out
			cmd.SysProcAttr = &syscall.SysProcAttr{Setpgid: true, Pdeathsig: p.signal, Credential: p.credential}
			err := s.begin(p.name, cmd)
			if first {
				if started <- err; err != nil {
					return
				}
			}
			if err == nil {
				_ = cmd.Wait()
			}
			if s.ended(p.name) {
				return
			}
			time.Sleep(restartAfter)
		}
	})
	if err := <-started; err != nil {
		return fmt.Errorf("start %s: %w", p.name, err)
	}
	return nil
}

func (s *supervisor) begin(name string, cmd *exec.Cmd) error {
	s.mu.Lock()
	defer s.mu.Unlock()
	if s.stopping {
		return errors.New("the demo is stopping")
	}
	if err := cmd.Start(); err != nil {
		return err
	}
	s.running[name] = cmd
	return s.writePIDs()
}

func (s *supervisor) ended(name string) (stop bool) {
	s.mu.Lock()
	defer s.mu.Unlock()
	delete(s.running, name)
	return s.stopping
}

// writePIDs brings pids.json up to date; the lock is held.
func (s *supervisor) writePIDs() error {
	pids := map[string]int{}
	for n, c := range s.running {
		pids[n] = c.Process.Pid
	}
	return writeJSON(filepath.Join(s.dir, "pids.json"), pids, 0o644)
}

// stop ends all processes, the last started first; PostgreSQL was the first.
func (s *supervisor) stop() {
	s.mu.Lock()
	s.stopping = true
	names := s.names
	s.mu.Unlock()
	// The service and the agents end together, the database after them.
	for i := len(names) - 1; i >= 1; i-- {
		s.send(names[i], s.signals[names[i]])
	}
	for i := len(names) - 1; i >= 1; i-- {
		s.await(names[i])
	}
	if len(names) > 0 {
		s.send(names[0], s.signals[names[0]])
		s.await(names[0])
	}
	s.wg.Wait()
	s.mu.Lock()
	defer s.mu.Unlock()
	_ = os.Remove(filepath.Join(s.dir, "pids.json"))
}

func (s *supervisor) send(name string, sig syscall.Signal) {
	s.mu.Lock()
	defer s.mu.Unlock()
	if c := s.running[name]; c != nil {
		_ = c.Process.Signal(sig)
	}
}

func (s *supervisor) await(name string) {
	for began := time.Now(); ; time.Sleep(20 * time.Millisecond) {
		s.mu.Lock()
		c := s.running[name]
		s.mu.Unlock()
		if c == nil {
			return
		}
		if time.Since(began) > stopPatience {
			_ = c.Process.Kill()
		}
	}
}

// printed is the last of what a process has printed.
func (s *supervisor) printed(name string) string {
	s.mu.Lock()
	out := s.output[name]
	s.mu.Unlock()
	return out.String()
}

// why adds what a process has printed to an error about it.
func (s *supervisor) why(name string, err error) error {
	lines := strings.Split(strings.TrimSpace(s.printed(name)), "\n")
	lines = lines[max(0, len(lines)-8):]
	return fmt.Errorf("%s did not start: %w\n%s\nAll of it is in %s", name, err, strings.Join(lines, "\n"),
		filepath.Join(s.dir, "logs", name+".log"))
}
